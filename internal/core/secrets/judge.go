package secrets

import (
	"bytes"
	"encoding/base64"
	"slices"
	"strings"
	"sync"

	"uncinate/internal/core/text"
)

// judge looks at what stands round a literal: the kind of the finding, "" for none, and
// where it ends.
func judge(data []byte, is what, at, end int, form form) (kind, excerpt string, till int) {
	switch is {
	case begin:
		if n := pem(data, end); n > 0 {
			line := data[at:min(len(data), end+40)]
			if i := bytes.IndexAny(line, "\r\n\\\"'"); i > 0 {
				line = line[:i]
			}
			return PrivateKey, text.Excerpt(string(line), 60), end + n
		}
	case ageKey:
		n := run(data, end, func(c byte) bool { return nameByte[c] })
		if n == 58 {
			return PrivateKey, "AGE-SECRET-KEY-1[58 characters]", end + n
		}
	case webJSON:
		return webToken(data, at)
	case prefix:
		n := run(data, end, func(c byte) bool { return nameByte[c] })
		if n >= 16 && (at == 0 || !nameByte[data[at-1]]) && looksRandom(data[end:end+n], 16) {
			return Token, describe(data[at:end], nil, n), end + n
		}
	case scheme:
		n := run(data, end, func(c byte) bool {
			return c > ' ' && c < 0x7f && c != '"' && c != '\'' && c != '`' && c != '<' && c != ',' && c != '\\' && c != ')'
		})
		v := data[end : end+n]
		if at > 0 && nameByte[data[at-1]] || placeholder(v) {
			return "", "", 0
		}
		if lower(data[at]) == 'b' && lower(data[at+1]) == 'a' {
			pair, err := base64.StdEncoding.DecodeString(string(v))
			if _, pass, ok := bytes.Cut(pair, []byte(":")); err == nil && ok && len(v) >= 12 && printable(pair) && !placeholder(pass) {
				return Password, describe([]byte("Basic "), nil, n), end + n
			}
			return "", "", 0
		}
		if looksRandom(v, 20) {
			return Token, describe([]byte("Bearer "), nil, n), end + n
		}
	case here:
		if at > 0 && (nameByte[data[at-1]] || data[at-1] == '.') || end < len(data) && nameByte[data[end]] {
			return "", "", 0
		}
		n := run(data, end, func(c byte) bool {
			return c > ' ' && c != '"' && c != '\'' && c != '<' && c != '>' && c != '`' && c != ')' && c != ':'
		})
		return HerePath, text.Excerpt(string(data[at:end+n]), 80), end + n
	case password, token:
		return named(data, is, at, end, form)
	}
	return "", "", 0
}

func run(data []byte, from int, ok func(byte) bool) int {
	n := 0
	for from+n < len(data) && n < 4096 && ok(data[from+n]) {
		n++
	}
	return n
}

func printable(b []byte) bool {
	m := madeOf(b)
	return m.other == 0 && len(b) > 2
}

// pem reports how long the private key is whose first line goes on at i: its label
// says so (RFC 7468, sections 10 and 11; OpenSSH's PROTOCOL.key), and enough of its
// base64 follows, with real or written line ends.
func pem(data []byte, i int) int {
	rest := data[i:min(len(data), i+4096)]
	dash := bytes.Index(rest, []byte("-----"))
	if dash < 0 || dash > 40 || !bytes.HasSuffix(bytes.ToUpper(rest[:dash]), []byte("PRIVATE KEY")) && !bytes.HasSuffix(bytes.ToUpper(rest[:dash]), []byte("PRIVATE KEY BLOCK")) {
		return 0
	}
	n, bits := dash+5, 0
	for n < len(rest) && bits < 64 {
		c := rest[n]
		switch {
		case 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '+' || c == '/' || c == '=':
			bits++
		case c == '\\' && n+1 < len(rest) && (rest[n+1] == 'n' || rest[n+1] == 'r'):
			n++
		case c == '\n' || c == '\r' || c == ' ' || c == '\t' || c == '"' || c == '\'' || c == ',' || c == '+' || c == '#' || c == '/' || c == '*' || c == ':' || c == '-':
			if c == '-' && bits > 0 {
				return 0 // it ends too soon
			}
		case c == '.' || c == '<' || c == '{' || c == '%' || c == '$':
			return 0 // left out, or put in later
		default:
			bits = 0
		}
		n++
	}
	if bits < 64 {
		return 0
	}
	if end := bytes.Index(data[i:min(len(data), i+16<<10)], []byte("-----END")); end > 0 {
		n = max(n, end)
	}
	return n
}

// webToken judges a JSON Web Token (RFC 7519; its parts in RFC 7515, section 3.1) by
// the dot before its second part.
func webToken(data []byte, dot int) (kind, excerpt string, till int) {
	start := dot
	for start > 0 && dot-start < 2048 && nameByte[data[start-1]] {
		start--
	}
	head, err := base64.RawURLEncoding.DecodeString(string(data[start:dot]))
	if err != nil || !bytes.Contains(head, []byte(`"alg"`)) {
		return "", "", 0
	}
	n := run(data, dot+1, func(c byte) bool { return nameByte[c] })
	end := dot + 1 + n
	if end >= len(data) || data[end] != '.' {
		return "", "", 0
	}
	sig := run(data, end+1, func(c byte) bool { return nameByte[c] })
	if sig < 20 || few(data[end+1:end+1+sig]) {
		return "", "", 0
	}
	end += 1 + sig
	return Token, describe([]byte("JSON Web Token "), nil, end-start), end
}

// userinfo gives the length of "user:password" at i, 0 where there is none to tell of
// (RFC 3986, section 3.2.1).
func userinfo(data []byte, i int) int {
	colon := -1
	for n := 0; i+n < len(data) && n < 300; n++ {
		switch c := data[i+n]; {
		case c == ':' && colon < 0:
			colon = n
		case c == '@':
			if colon < 0 || n-colon < 5 {
				return 0
			}
			user, pass := data[i:i+colon], data[i+colon+1:i+n]
			if placeholder(pass) || bytes.EqualFold(user, pass) || i+n+1 >= len(data) || !nameByte[data[i+n+1]] && data[i+n+1] != '[' {
				return 0
			}
			return n
		case c <= ' ' || c >= 0x7f || strings.IndexByte(`/"'<>\`+"`(){}[],;", c) >= 0:
			return 0
		}
	}
	return 0
}

func hostAfter(data []byte, i int) string {
	at := bytes.IndexByte(data[i:], '@')
	n := run(data, i+at+1, func(c byte) bool { return nameByte[c] || c == '.' })
	return text.Excerpt(string(data[i+at+1:i+at+1+n]), 60)
}

// unlike are parts of names that say that the value is something else.
var unlike = sync.OnceValue(func() map[string]bool {
	all := map[string]bool{}
	for _, w := range strings.Fields(`public id url uri name type file path hash sha sha1 sha256 sha512 md5 digest checksum count len length size expires expiry expire ttl header
		field regex pattern tokenizer tokenize label prompt title hint message msg error err policy endpoint max min version format algo algorithm method index position prefix
		suffix kind class example vector fingerprint visible placeholder column param params scope scopes input help desc description arn at env ref symbol dir provider
		tokens secrets passwords reset length mode required enabled disabled`) {
		all[w] = true
	}
	return all
})

// partsOf splits a name into its words, in lower case: at signs, and where a capital
// follows a small letter.
func partsOf(name []byte) []string {
	var parts []string
	from := 0
	add := func(to int) {
		if to > from {
			parts = append(parts, strings.ToLower(string(name[from:to])))
		}
	}
	for i, c := range name {
		switch {
		case c == '_' || c == '-' || c == '.':
			add(i)
			from = i + 1
		case i > from && 'A' <= c && c <= 'Z' && 'a' <= name[i-1] && name[i-1] <= 'z':
			add(i)
			from = i
		}
	}
	add(len(name))
	return parts
}

// named judges a value that is beside a telling name.
func named(data []byte, is what, at, end int, form form) (kind, excerpt string, till int) {
	start := at
	for start > 0 && at-start < 60 && (nameByte[data[start-1]] || data[start-1] == '.') {
		start--
	}
	// A literal may itself end in the sign that follows the name.
	for end > at && !nameByte[data[end-1]] {
		end--
	}
	for end < len(data) && end-start < 120 && nameByte[data[end]] {
		end++
	}
	name := data[start:end]
	if string(name) == "PWD" || string(name) == "OLDPWD" { // the folder that a shell is in
		return "", "", 0
	}
	i := end
	skip := func(of string) {
		for i < len(data) && i-end < 40 && strings.IndexByte(of, data[i]) >= 0 {
			i++
		}
	}
	if i < len(data) && (data[i] == '"' || data[i] == '\'' || data[i] == '`') {
		i++
		if i < len(data) && data[i] == ']' {
			i++
		}
	}
	skip(" \t")
	if i >= len(data) {
		return "", "", 0
	}
	called := false
	switch {
	case data[i] == ':' && i+1 < len(data) && data[i+1] == '=':
		i += 2
	case data[i] == '=' && i+1 < len(data) && (data[i+1] == '>' || data[i+1] == '='):
		i += 2
	case data[i] == '=' || data[i] == ':':
		i++
	case data[i] == '(' && form == code:
		called = true
		i++
	case data[i] == '>' && start > 0 && data[start-1] == '<':
		i++
	case data[i] == ',' && form == code && end < len(data) && data[end] != ',':
		called = true // a call's next argument: set("password", "…")
		i++
	case bytes.HasPrefix(name, []byte("--")) && i > end && (form == rows || form == letter):
		// an option and its value
	default:
		return "", "", 0
	}
	skip(" \t")
	for i < len(data) && (data[i] == 'b' || data[i] == 'r' || data[i] == 'f' || data[i] == 'u') && i+1 < len(data) && (data[i+1] == '"' || data[i+1] == '\'') {
		i++ // a string's sign in some languages
	}
	between := data[end:min(i, end+6)]
	if i >= len(data) {
		return "", "", 0
	}
	quoted := false
	var v []byte
	switch q := data[i]; q {
	case '"', '\'', '`':
		quoted = true
		n := run(data, i+1, func(c byte) bool { return c != q && c != '\n' })
		if i+1+n >= len(data) || data[i+1+n] != q {
			return "", "", 0
		}
		v = data[i+1 : i+1+n]
		till = i + 1 + n
	default:
		if form == code || called {
			return "", "", 0
		}
		n := run(data, i, func(c byte) bool {
			return c > ' ' && c != '"' && c != '\'' && c != '<' && c != '`' && (form == rows || c != ',' && c != ';' && c != ')')
		})
		v = data[i : i+n]
		till = i + n
		if form == letter {
			v = bytes.TrimRight(v, ".,;:!?")
		}
		if form == rows && n > 0 && n < 40 && i+n < len(data) && data[i+n] == ' ' && !bytes.HasPrefix(bytes.TrimLeft(data[i+n:], " "), []byte("#")) && !lineEnds(data[i+n:]) && is == password {
			return "", "", 0 // a sentence
		}
	}
	if len(v) < 6 || len(v) > 2048 || placeholder(v) || bytes.EqualFold(v, name) {
		return "", "", 0
	}
	switch {
	case is == password && isPassword(v, quoted, form, called):
		kind = Password
	case is == token && isToken(v, strings.ToLower(string(name))):
		kind = Token
	default:
		return "", "", 0
	}
	if slices.ContainsFunc(partsOf(name), func(w string) bool { return unlike()[w] }) {
		return "", "", 0
	}
	return kind, describe(name, between, len(v)), till
}

// lineEnds reports whether only blanks come before the line's end.
func lineEnds(data []byte) bool {
	for _, c := range data {
		if c == '\n' || c == '\r' {
			return true
		}
		if c != ' ' && c != '\t' {
			return false
		}
	}
	return true
}

func isPassword(v []byte, quoted bool, form form, called bool) bool {
	m := madeOf(v)
	if m.space > 0 && (m.space > 1 || form == letter) || m.other > 0 || uuid(v) {
		return false
	}
	if bytes.Contains(v, []byte("://")) || bytes.HasPrefix(v, []byte("/")) && bytes.Count(v, []byte("/")) > 1 || bytes.HasPrefix(v, []byte("./")) || bytes.HasSuffix(v, []byte("()")) {
		return false
	}
	if m.digit == 0 && m.sign == 0 { // letters alone
		return form == rows && !quoted && len(v) >= 8 && is1Case(m)
	}
	switch form {
	case code, markup:
		// Names of things in programs: some-field, some.field, some_field2, ERR_5.
		if called && (m.digit == 0 || len(v) < 8) {
			return false
		}
		if onlyNames(v) && (m.digit == 0 || wordy(v) && m.upper == 0 && (m.sign > 0 || m.digit < 2)) {
			return false
		}
		return m.letters() > 0 || len(v) >= 8
	case letter:
		return len(v) >= 8 && m.digit > 0 && m.letters() > 0 && (m.sign > 0 || m.upper > 0 && m.lower > 0) && !wordy(v)
	}
	if !quoted && (bytes.IndexByte(v, '(') >= 0 || onlyNames(v) && m.digit == 0 && (bytes.IndexByte(v, '.') > 0)) {
		return false
	}
	return m.letters() > 0 || len(v) >= 8
}

func is1Case(m makeup) bool { return m.upper == 0 || m.lower == 0 }

// onlyNames reports whether a value is made of name characters and dots.
func onlyNames(v []byte) bool {
	for _, c := range v {
		if !nameByte[c] && c != '.' {
			return false
		}
	}
	return true
}

func isToken(v []byte, name string) bool {
	if uuid(v) {
		return strings.Contains(name, "secret") || strings.Contains(name, "apikey") || strings.Contains(name, "api_key") || strings.Contains(name, "api-key")
	}
	least := 16
	if strings.Contains(name, "secret") {
		least = 12
	}
	if bytes.HasPrefix(v, []byte("sha256-")) || bytes.HasPrefix(v, []byte("sha512-")) || bytes.HasPrefix(v, []byte("ssh-")) || bytes.HasPrefix(v, []byte("data:")) || bytes.HasPrefix(v, []byte("/")) {
		return false
	}
	if !looksRandom(v, least) {
		return false
	}
	// A path of names with dots or dashes between, with a number in it.
	parts := bytes.FieldsFunc(v, func(c rune) bool { return c == '.' || c == '-' || c == '_' || c == '/' || c == ':' })
	return !slices.ContainsFunc(parts, wordy) || len(parts) == 1 || longest(parts) >= 16
}

func longest(parts [][]byte) int {
	n := 0
	for _, p := range parts {
		if !wordy(p) {
			n = max(n, len(p))
		}
	}
	return n
}
