// Package secrets finds what must not go up in the contents of files: private keys,
// passwords and tokens beside telling names, addresses that hold a password, and the
// paths of the very machine. It reads a stream once, in bounded memory, and never
// gives a secret out: an excerpt says where it is and how long it is.
package secrets

import (
	"bytes"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"uncinate/internal/core/made"
	"uncinate/internal/core/text"
)

// Finding is one place in a file.
type Finding struct {
	Kind    string `json:"kind"` // one of the kinds below
	Line    int    `json:"line"` // from 1
	Excerpt string `json:"excerpt"`
}

// The kinds of findings.
const (
	PrivateKey = "private key"
	Password   = "password"
	Token      = "token"
	Address    = "password in an address"
	Hash       = "password hash"
	HerePath   = "path of this machine"
)

// Content is what reading a file told.
type Content struct {
	Findings  []Finding
	More      int    // findings beyond MostFindings
	Binary    bool   // it holds a NUL near its start
	Object    string // what kind of made code it begins as; "" for none
	Generated bool   // its head says that a program wrote it
	Bytes     int64
	Next      int // lines read, and one
}

// Version is of what is looked for: what was remembered under another is looked for again.
const Version = 6

// MostFindings is how many findings of one file are kept.
const MostFindings = 20

// chunk is how much is looked at together; overlap is how much of it is looked at
// again with what follows, so that nothing hides on a border.
const (
	chunk   = 256 << 10
	overlap = 8 << 10
)

// what a literal announces.
type what uint8

const (
	begin   what = iota // of a PEM block
	ageKey              // an age identity
	webJSON             // the middle of a JSON Web Token
	password
	token
	scheme   // of an Authorization header
	here     // a path of this machine
	prefix   // of a known token
	weak     // a password, where the word alone says little
	pin      // a number that opens something
	weakKey  // some key
	pair     // USER:PASSWORD in base64
	wrapped  // a PEM block in base64
	webKey   // a JSON Web Key
	userPass // an option that takes USER:PASSWORD
	option   // an option that takes a password
	both     // a name beside which USER:PASSWORD stands
	signs    // a call that takes a user and a password
	userThen // a user's name or a key's file in quotes, as an argument or one of a list
	spoken   // a word that says that the line is about signing in, or signing
	bind     // an option that takes a password where another one names a user
	alone    // what needs no value beside it
	origin   // what comes before the host of an address
	saying   // what a program says of what it wrote
)

// announcing are the literals that announce something, in lower case, with a bar between them.
var announcing = []struct {
	is    what
	words string
}{
	{begin, "-----begin "}, {ageKey, "age-secret-key-1"}, {webJSON, ".eyj"}, {scheme, "bearer |basic "}, {wrapped, "ls0tls1crudjti"}, {webKey, "\"kty\""}, {userPass, " -u |--user | auth "}, {option, "pass -p "},
	{both, "auth_basic|basic_auth|basicauth|userpwd"}, {userThen, `username", |username', |login", |login', |client_id", |client_id', |user", |user', |admin", |admin', |root", |root', |.asc", |.pem", |.key", |.p12", |.pfx", |.jks", |.asc', |.pem', |.key', |.p12', |.pfx', |.jks', |.auth(`}, {bind, " -w "}, {spoken, "jwt|login|sign-in|signin|logon|pwd("},
	{signs, "basicauth(|basic_auth(|userpassword(|auth=(|login(|add_user(|adduser(|authen(|authenticate(|auth(|oauth2(|pwd("},
	{alone, "private-lines: |begin ssh2 encrypted private key"},
	{password, "passw|passphrase|passcode|pwd=|pwd:|pwd\"|pwd'|pwd |pwd,|rootpw|bindpw|identified |mnemonic|seed phrase|pass phrase|kennwort|securestring |xauth \"|eap \"|authcode|auth_code|auth-code|bindauth|psk=|psk:|psk\"|psk'|psk |hexphrase"},
	{weak, "pass=|pass:|pass\"|pass'|pass |pass)|pass(|community|pw\"|pw'|pw=|pw:|pw ="}, {pin, "pin=|pin:|pin\"|pin =|wep_key|wep-key"},
	{token, "token|secret|apikey|api_key|api-key|api.key|api key|accesskey|access_key|access-key|authkey|auth_key|auth-key|privatekey|private_key|private-key|credential|" +
		"signingkey|signing_key|signing-key|encryptionkey|encryption_key|encryption-key|masterkey|master_key|master-key"},
	{origin, "://"}, {saying, strings.Join(made.Sayings, "|")},
	{weakKey, "key=|key:|key\"|key'|key ="}, {pair, "auth\"|auth'|auth=|auth:|auth ="},
}

// Finder looks for secrets. One may be used by many at a time.
type Finder struct {
	find *literals
}

// New makes a finder. here are paths of this machine that a file should not name, such
// as the home folder; prefixes are the beginnings of known tokens. What is shorter
// than four bytes in either is not looked for.
func New(herePaths, prefixes []string) *Finder {
	var all []literal
	for _, l := range announcing {
		for _, w := range strings.Split(l.words, "|") {
			all = append(all, literal{w, l.is})
		}
	}
	for _, p := range herePaths {
		if len(p) >= 4 {
			all = append(all, literal{small(p), here})
		}
	}
	for _, p := range prefixes {
		if len(p) >= 4 {
			all = append(all, literal{small(p), prefix})
		}
	}
	return &Finder{find: newLiterals(all)}
}

// Buffer gives a buffer for Read, to be used again by the same reader of many files.
func Buffer() []byte { return make([]byte, chunk) }

// Read reads a file's contents to their end. name is the file's path, of which the
// ending tells how values are written.
func (f *Finder) Read(name string, r io.Reader, buf []byte) (Content, error) {
	c := Content{Next: 1}
	form := formOf(name)
	manual := form == code && strings.Contains(" .pm .pl .t .cgi ", " "+path.Ext(name)+" ") && path.Ext(name) != "" // perlpod
	kept := 0                                                                                                       // bytes of the chunk before, at the buffer's start
	first := true
	for {
		n, err := io.ReadFull(r, buf[kept:])
		end := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !end {
			return c, err
		}
		c.Bytes += int64(n)
		data := buf[:kept+n]
		if first {
			first = false
			c.Object = made.Code(data)
			c.Binary = bytes.IndexByte(data[:min(len(data), 8000)], 0) >= 0
			if c.Binary && !isWide(data) {
				return c, nil
			}
			if isWide(data) {
				rest, err := io.ReadAll(io.LimitReader(r, 4<<20))
				if err != nil {
					return c, err
				}
				c.Binary, c.Bytes = false, c.Bytes+int64(len(rest))
				data = narrow(slices.Concat(data, rest))
				f.look(&c, data, len(data), form, false)
				return c, nil
			}
			if isScript(data) {
				form = code
			} else if form == letter && looksRows(data) {
				form = rows
			}
		}
		upTo := len(data)
		if !end {
			upTo -= overlap
		}
		f.look(&c, data, upTo, form, manual)
		if end {
			return c, nil
		}
		c.Next += bytes.Count(data[:upTo], []byte{'\n'})
		kept = copy(buf, data[upTo:])
	}
}

// mostDear is how many of what is dear to judge is judged of a chunk. Of names within words of more than longWord bytes those are
// judged that have together at most mostLong bytes of their words behind them: of very many names that are joined to one word, which
// nobody writes, each would be judged with all the others behind it.
const (
	mostDear = 100
	longWord = 256
	mostLong = 1 << 20
)

// look finds what begins before upTo. manual is whether parts of a program may be its manual.
func (f *Finder) look(c *Content, data []byte, upTo int, form form, manual bool) {
	after := 0 // up to here all is told already
	from, line := 0, c.Next
	add := func(kind string, at, end int, excerpt string) {
		line += bytes.Count(data[from:at], []byte{'\n'})
		from = at
		if len(c.Findings) >= MostFindings {
			c.More++
		} else if k := len(c.Findings); k == 0 || c.Findings[k-1].Line != line || c.Findings[k-1].Kind != kind {
			c.Findings = append(c.Findings, Finding{kind, line, excerpt})
		}
		after = max(after, end)
	}
	var hits []hit
	dear, long, wordEnd := 0, 0, 0
	f.find.scan(data, func(is what, at, end int) bool {
		if at >= upTo {
			return false
		}
		switch {
		case is == saying:
			c.Generated = c.Generated || c.Next == 1 && from == 0 && at < 1024
			return true
		case is == origin:
			if n := userinfo(data, end); n > 0 {
				hits = append(hits, hit{Address, addressOf(data, end, n), end, end + n})
			}
			return true
		case at < after:
			return true
		}
		if is == wrapped || is == webKey {
			if dear++; dear > mostDear {
				return true
			}
		}
		if wordEnd <= end {
			wordEnd = end + run(data, end, func(c byte) bool { return c > ' ' })
		}
		if n := min(wordEnd-end, longestValue); n > longWord {
			if long += n; long > mostLong {
				return true
			}
		}
		if kind, excerpt, till := judge(data, is, at, end, formAt(data, at, form, manual)); kind != "" {
			hits = append(hits, hit{kind, excerpt, at, till})
			after = till
		}
		return true
	})
	hits = f.lone(data, upTo, form, manual, hits)
	slices.SortStableFunc(hits, func(a, b hit) int { return a.at - b.at })
	after = 0
	for _, h := range hits {
		if h.at >= after {
			add(h.kind, h.at, h.till, h.excerpt)
		}
	}
}

// addressOf says an address of which the user's part begins at i and has n bytes, without that.
func addressOf(data []byte, i, n int) string {
	start := i - 3
	for start > 0 && nameByte[data[start-1]] && i-start < 20 {
		start--
	}
	return string(data[start:i]) + "USER:[" + text.Count(n, "character") + "]@" + hostAfter(data, i)
}

type hit struct {
	kind, excerpt string
	at, till      int
}

// form is how values are written in a file.
type form uint8

const (
	code   form = iota // a bare word is a variable; values are in quotes
	rows               // NAME=value, NAME: value: a bare word is a value
	letter             // prose
	markup             // values between signs
)

const codeEndings = " .c .h .cc .cpp .cxx .hpp .hh .go .py .pyw .js .mjs .cjs .ts .tsx .jsx .java .kt .kts .rs .rb .php .cs .swift .scala .m .mm .pl .pm .lua .r .jl .dart .ex .exs .erl .hs .ml .clj .vue .svelte .sql .zig .nim .groovy .gradle .proto .css .scss .json .ipynb .s .asm .awk .vim .el .y .l .d .pas .f90 .html .htm .tmpl .svg .inc .phtml .twig .tt2 .jsp .aspx .erb .ejs .cr .elm .fs .vb .cls .tcl .pp .tf .hcl .nix .hrl .coffee .lisp .scm .rkt .cl .json5 .jsonc .adb .ads .bas .ino .robot "

// models are endings of files that are to be copied and filled in.
const models = " example sample template in dist default tmpl tpl orig bak old "

func formOf(name string) form {
	base := strings.ToLower(path.Base(name))
	ending := path.Ext(base)
	for strings.Contains(models, " "+strings.TrimLeft(ending, ".")+" ") && ending != "" && ending != base { // a.conf.example, a.conf-sample
		base = strings.TrimSuffix(base, ending)
		ending = path.Ext(base)
	}
	if stem, _, ok := strings.Cut(ending, "-"); ok {
		ending = stem
	}
	switch ending {
	case ".env", ".ini", ".cfg", ".conf", ".config", ".properties", ".yaml", ".yml", ".toml", ".local", ".secrets", ".credentials", ".sh", ".bash", ".zsh", ".bat", ".cmd", ".ps1", ".tfvars", ".netrc", ".service", ".desktop", ".rc":
		return rows
	case ".xml", ".plist":
		return markup
	case ".md", ".txt", ".rst", ".adoc", ".org", ".log", ".csv", ".tsv", ".tex":
		return letter
	}
	if ending != "" && strings.Contains(codeEndings, " "+ending+" ") {
		return code
	}
	if strings.HasPrefix(base, ".env") || strings.HasSuffix(base, "rc") || strings.HasSuffix(base, "netrc") || strings.Contains(base, "credential") || strings.Contains(base, "config") {
		return rows
	}
	return letter
}

// looksRows reports whether a file without a telling name is settings: most of its
// first lines are NAME=value or NAME: value.
func looksRows(data []byte) bool {
	n, hits := 0, 0
	for line := range bytes.Lines(data[:min(len(data), 2048)]) {
		line = bytes.TrimSpace(line)
		if len(line) == 0 || line[0] == '#' || line[0] == ';' || line[0] == '[' {
			continue
		}
		n++
		i := 0
		for i < len(line) && (nameByte[line[i]] || line[i] == '.') {
			i++
		}
		if i > 0 && i < len(line) && (line[i] == '=' || line[i] == ':') || bytes.HasPrefix(line, []byte("export ")) {
			hits++
		}
	}
	return n > 0 && hits*10 >= n*7
}

// isScript reports whether a file without a telling name is a program in a language in which a bare word is a variable.
func isScript(data []byte) bool {
	line, _, _ := bytes.Cut(data[:min(len(data), 200)], []byte("\n"))
	if !bytes.HasPrefix(line, []byte("#!")) {
		return false
	}
	for _, of := range []string{"perl", "python", "ruby", "node", "lua", "php", "tclsh", "escript"} {
		if bytes.Contains(line, []byte(of)) {
			return true
		}
	}
	return false
}

func isWide(data []byte) bool {
	return len(data) > 2 && (data[0] == 0xff && data[1] == 0xfe || data[0] == 0xfe && data[1] == 0xff)
}

// narrow gives the plain characters of UTF-16 text.
func narrow(data []byte) []byte {
	out := make([]byte, 0, len(data)/2)
	for i := 2; i+1 < len(data); i += 2 {
		lo, hi := data[i], data[i+1]
		if data[0] == 0xfe {
			lo, hi = hi, lo
		}
		if hi != 0 {
			lo = 0xff
		}
		out = append(out, lo)
	}
	return out
}

// describe says a secret's place without the secret.
func describe(name, between []byte, n int) string {
	return text.Excerpt(string(name), 40) + text.Excerpt(string(between), 8) + fmt.Sprintf("[%s]", text.Count(n, "character"))
}

// Patterns gives what is looked for, so that another program can be given as much to do.
func (f *Finder) Patterns() []string {
	var out []string
	for _, l := range f.find.all {
		out = append(out, l.text)
	}
	return out
}
