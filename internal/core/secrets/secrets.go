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
const Version = 1

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
	scheme // of an Authorization header
	here   // a path of this machine
	prefix // of a known token
)

// Finder looks for secrets. One may be used by many at a time.
type Finder struct {
	find *literals
}

// New makes a finder. here are paths of this machine that a file should not name, such
// as the home folder; prefixes are the beginnings of known tokens. What is shorter
// than four bytes in either is not looked for.
func New(herePaths, prefixes []string) *Finder {
	all := []literal{{"-----begin ", begin}, {"age-secret-key-1", ageKey}, {".eyj", webJSON}, {"bearer ", scheme}, {"basic ", scheme}}
	for _, w := range []string{"passw", "passphrase", "passcode", "pwd=", "pwd:", "pwd\"", "pwd'", "pwd ", "_pass=", "_pass:", "_pass ", "_pass\"", "_pass'"} {
		all = append(all, literal{w, password})
	}
	for _, w := range []string{"token", "secret", "apikey", "api_key", "api-key", "api.key", "accesskey", "access_key", "access-key", "authkey", "auth_key", "auth-key",
		"privatekey", "private_key", "private-key", "credential", "signingkey", "signing_key", "signing-key", "encryptionkey", "encryption_key", "encryption-key", "masterkey", "master_key", "master-key"} {
		all = append(all, literal{w, token})
	}
	for _, p := range herePaths {
		if len(p) >= 4 {
			all = append(all, literal{strings.ToLower(p), here})
		}
	}
	for _, p := range prefixes {
		if len(p) >= 4 {
			all = append(all, literal{strings.ToLower(p), prefix})
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
	kept := 0 // bytes of the chunk before, at the buffer's start
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
			c.Object = object(data)
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
				f.look(&c, data, len(data), form)
				return c, nil
			}
			c.Generated = generated(data[:min(len(data), 1024)])
			if form == letter && looksRows(data) {
				form = rows
			}
		}
		upTo := len(data)
		if !end {
			upTo -= overlap
		}
		f.look(&c, data, upTo, form)
		if end {
			return c, nil
		}
		c.Next += bytes.Count(data[:upTo], []byte{'\n'})
		kept = copy(buf, data[upTo:])
	}
}

// look finds what begins before upTo.
func (f *Finder) look(c *Content, data []byte, upTo int, form form) {
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
	f.find.scan(data, func(is what, at, end int) bool {
		if at >= upTo {
			return false
		}
		if at < after {
			return true
		}
		if kind, excerpt, till := judge(data, is, at, end, form); kind != "" {
			hits = append(hits, hit{kind, excerpt, at, till})
			after = till
		}
		return true
	})
	for i := 0; ; {
		k := bytes.Index(data[i:], []byte("://"))
		if k < 0 || i+k >= upTo {
			break
		}
		i += k + 3
		if n := userinfo(data, i); n > 0 {
			start := i - 3
			for start > 0 && nameByte[data[start-1]] && i-start < 20 {
				start--
			}
			hits = append(hits, hit{Address, string(data[start:i]) + "USER:[" + text.Count(n, "character") + "]@" + hostAfter(data, i), i, i + n})
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int { return a.at - b.at })
	after = 0
	for _, h := range hits {
		if h.at >= after {
			add(h.kind, h.at, h.till, h.excerpt)
		}
	}
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

const codeEndings = " .c .h .cc .cpp .cxx .hpp .hh .go .py .pyw .js .mjs .cjs .ts .tsx .jsx .java .kt .kts .rs .rb .php .cs .swift .scala .m .mm .pl .pm .lua .r .jl .dart .ex .exs .erl .hs .ml .clj .vue .svelte .sql .zig .nim .groovy .gradle .proto .css .scss .json .ipynb .s .asm .awk .vim .el .y .l .d .pas .f90 .html .htm .tmpl .svg "

func formOf(name string) form {
	base := strings.ToLower(path.Base(name))
	ending := path.Ext(base)
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

// objects are the beginnings of files that a compiler, linker or archiver made.
var objects = []struct{ magic, is string }{
	{"\x7fELF\x01", "ELF"}, {"\x7fELF\x02", "ELF"}, {"\xfe\xed\xfa\xce", "Mach-O"}, {"\xfe\xed\xfa\xcf", "Mach-O"}, {"\xce\xfa\xed\xfe", "Mach-O"}, {"\xcf\xfa\xed\xfe", "Mach-O"},
	{"!<arch>\n", "archive of objects"}, {"!<thin>\n", "archive of objects"}, {"\xca\xfe\xba\xbe\x00\x00\x00", "class file"}, {"\x00asm\x01\x00\x00\x00", "WebAssembly module"},
	{"BC\xc0\xde", "LLVM bitcode"}, {"L\x01", "COFF object"}, {"d\x86", "COFF object"},
}

// object tells by a file's first bytes what made code it is; "" for none. The sources
// are the formats' own specifications. The two bytes of COFF count only with the
// counts that follow them in a real header.
func object(data []byte) string {
	for _, o := range objects {
		if !bytes.HasPrefix(data, []byte(o.magic)) {
			continue
		}
		if o.is == "COFF object" && (len(data) < 20 || data[16] != 0 || data[17] != 0 || data[3] != 0 || data[2] == 0) {
			continue
		}
		return o.is
	}
	if len(data) > 64 && data[0] == 'M' && data[1] == 'Z' {
		if at := int(data[60]) | int(data[61])<<8; at+4 <= len(data) && bytes.Equal(data[at:at+4], []byte("PE\x00\x00")) {
			return "PE"
		}
	}
	if len(data) >= 16 && data[2] == '\r' && data[3] == '\n' && data[1] >= 0x0a && data[1] <= 0x0f && data[5] == 0 && data[6] == 0 && data[7] == 0 {
		return "compiled script"
	}
	return ""
}

// generated reports whether a file's head says that a program wrote it.
func generated(head []byte) bool {
	low := bytes.ToLower(head)
	for _, w := range []string{"do not edit", "@generated", "automatically generated", "auto-generated by", "autogenerated", "this file was generated", "this file is generated"} {
		if bytes.Contains(low, []byte(w)) {
			return true
		}
	}
	return false
}

// describe says a secret's place without the secret.
func describe(name, between []byte, n int) string {
	return text.Excerpt(string(name), 40) + text.Excerpt(string(between), 8) + fmt.Sprintf("[%s]", text.Count(n, "character"))
}

// Patterns gives what is looked for, so that another program can be given as much to do.
func (f *Finder) Patterns() []string {
	out := []string{"://"}
	for _, l := range f.find.all {
		out = append(out, l.text)
	}
	return out
}
