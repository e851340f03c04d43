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
	case pair:
		return signIn(data, at, end, form)
	case wrapped:
		return wrappedKey(data, at)
	case webKey:
		return privateWebKey(data, at)
	case both, signs, userPass, option, userThen, bind:
		return userBeside(data, is, at, end, form)
	case alone:
		if data[end-1] == ' ' && run(data, end, func(c byte) bool { return '0' <= c && c <= '9' }) == 0 {
			return "", "", 0 // a program that writes such
		}
		return PrivateKey, text.Excerpt(string(data[at:end]), 60), end
	case password, token, weak, pin, weakKey:
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
		case c == ';' && colon > 0 && i+n+6 < len(data) && equalFold(data[i+n:i+n+6], ";auth="): // RFC 5092, section 3
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

// unlike are parts of names that say that the value is something else; after what is to be said where the word for a secret comes
// before them.
var unlike, unlikeAfter = sync.OnceValue(func() map[string]bool {
	return setOf(`public hash sha sha1 sha256 sha512 md5 digest checksum count len length expires expiry expire ttl field regex pattern tokenizer tokenize label prompt title hint
		message msg error err policy min max fingerprint visible placeholder column param params scope scopes help desc description symbol example tokens secrets passwords hashed
		encrypted crypted verifier verify salt reset next page continuation`)
}), sync.OnceValue(func() map[string]bool {
	return setOf(`id url uri name type file path size header endpoint version format algo algorithm method index position prefix suffix kind class vector arn at env ref dir
		provider mode required enabled disabled verification input encryption scheme backend encoding strength`)
})

func setOf(words string) map[string]bool {
	all := map[string]bool{}
	for _, w := range strings.Fields(words) {
		all[w] = true
	}
	return all
}

// saysOther reports whether a name's words say that its value is no secret.
func saysOther(parts []string) bool {
	last := parts[len(parts)-1]
	for _, w := range []string{"password", "passwd", "pwd", "passphrase", "secret", "token", "psk", "pass", "passcode"} {
		if strings.HasSuffix(last, w) {
			return slices.ContainsFunc(parts, func(p string) bool { return unlike()[p] })
		}
	}
	return slices.ContainsFunc(parts, func(p string) bool { return unlike()[p] || unlikeAfter()[p] || strings.HasSuffix(p, "verifier") })
}

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

func isPassword(v []byte, quoted bool, form form, called bool) bool {
	m := madeOf(v)
	if m.letters() == 0 && bytes.IndexByte(v, '.') >= 0 || m.space > 1 || m.space == 1 && form == letter || m.other > 0 || uuid(v) {
		return false
	}
	if bytes.Contains(v, []byte("://")) || bytes.HasPrefix(v, []byte("/")) && bytes.Count(v, []byte("/")) > 1 || bytes.HasPrefix(v, []byte("./")) || bytes.Contains(v, []byte(":/")) || bytes.Contains(v, []byte("::")) || bytes.Count(v, []byte(":")) > 2 || bytes.IndexByte(v, ':') > 0 && bytes.IndexByte(v, '.') > 0 && wordy(v) && onlyNames(bytes.ReplaceAll(v, []byte(":"), nil)) || m.digit == 0 && bytes.ContainsAny(v, `/\`) && onlyNames(bytes.ReplaceAll(bytes.ReplaceAll(v, []byte("/"), nil), []byte(`\`), nil)) || bytes.HasSuffix(v, []byte("()")) {
		return false
	}
	if len(v) >= 10 && m.upper > 2 && m.lower > 2 && onlyNames(v) && !wordy(v) && !called && bytes.IndexByte(v, '.') < 0 {
		return true // drawn
	}
	if m.digit == 0 && m.sign == 0 { // letters alone
		return form == rows && !quoted && len(v) >= 8 && is1Case(m)
	}
	switch form {
	case code, markup:
		// Names of things in programs: some-field, some.field, some_field2, ERR_5.
		if called && (m.digit == 0 || len(v) < 8 || onlyNames(v) && (bytes.IndexByte(v, '.') >= 0 || m.upper == 0 && bytes.IndexByte(v, '_') >= 0)) {
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
