package secrets

import (
	"bytes"
	"math"
	"slices"
	"strings"
)

// entropy is Shannon's, in bits per character, of the characters of s.
func entropy(s []byte) float64 {
	var n [256]int
	for _, c := range s {
		n[c]++
	}
	bits := 0.0
	for _, k := range n {
		if k > 0 {
			p := float64(k) / float64(len(s))
			bits -= p * math.Log2(p)
		}
	}
	return bits
}

type makeup struct{ lower, upper, digit, sign, space, other int }

func madeOf(v []byte) (m makeup) {
	for _, c := range v {
		switch {
		case 'a' <= c && c <= 'z':
			m.lower++
		case 'A' <= c && c <= 'Z':
			m.upper++
		case '0' <= c && c <= '9':
			m.digit++
		case c == ' ' || c == '\t':
			m.space++
		case c > ' ' && c < 0x7f:
			m.sign++
		default:
			m.other++
		}
	}
	return m
}

func (m makeup) letters() int { return m.lower + m.upper }

// stands are words that are in a value's place without being one.
var stands = []string{"example", "placeholder", "changeme", "change-me", "change_me", "change_it", "replace", "your", "dummy", "sample", "redacted", "hidden",
	"insert", "todo", "fixme", "xxxx", "undefined", "none", "null", "nil", "true", "false", "empty", "default", "secret-here", "here-goes", "not-a-secret",
	"notasecret", "foobar", "foo-bar", "asdf", "lorem", "fake", "invalid", "abcdef", "123456789"}

// plainWords are values that are only the name of the thing again.
var plainWords = []string{"password", "passwd", "pass", "pwd", "secret", "token", "string", "text", "optional", "required", "key", "apikey", "api_key", "user", "admin", "test",
	"passphrase", "hunter2", "value", "yes", "no", "on", "off", "auto", "prompt", "ask", "file", "env", "vault", "keyring", "basic", "bearer", "number", "bool", "boolean", "int"}

// placeholder reports whether a value stands for one that is put in later, or is a
// piece of a program or a template.
func placeholder(v []byte) bool {
	if len(v) == 0 {
		return true
	}
	s := strings.ToLower(string(v))
	if slices.Contains(plainWords, s) {
		return true
	}
	for _, w := range stands {
		if strings.Contains(s, w) {
			return true
		}
	}
	if strings.IndexByte("<{[|>(", v[0]) >= 0 || strings.IndexByte("$%@&*!#", v[0]) >= 0 && (len(v) < 8 || looksCalled(v)) {
		return true
	}
	if bytes.Contains(v, []byte("${")) || bytes.Contains(v, []byte("{{")) || bytes.Contains(v, []byte("%s")) && (len(v) < 12 || madeOf(v).digit == 0 || wordy(v) || v[0] == '%') || bytes.Contains(v, []byte("%(")) || bytes.Contains(v, []byte(`\f`)) || bytes.Contains(v, []byte("$(")) || bytes.Contains(v, []byte("...")) || bytes.Contains(v, []byte("\u2026")) {
		return true
	}
	m := madeOf(v)
	switch {
	case m.lower == 0 && m.upper > 3 && m.digit < 2 && bytes.IndexByte(v, '_') >= 0 && onlyNames(v): // A_NAME
		return true
	case m.digit == 0 && (strings.Contains(s, "pass") || strings.Contains(s, "secret") || strings.Contains(s, "token")): // some_password
		return true
	case strings.Contains(s, "***"), strings.Count(s, "%") >= 2 && m.digit == 0, v[len(v)-1] == '=' && m.digit == 0 && onlyNames(v[:len(v)-1]) && wordy(v), isIndexed(v), bytes.Contains(v, []byte("})")):
		return true
	case bytes.HasPrefix(v, []byte("#!/")), v[len(v)-1] == '[', isEscaped(v): // a program's first line, a piece of one, letters beyond ASCII
		return true
	case strings.IndexByte("\"'`\\", v[0]) >= 0, bytes.Contains(v, []byte("&lt;")), bytes.Contains(v, []byte("&#")), bytes.Contains(v, []byte("%{")), bytes.Contains(v, []byte("/%")):
		return true
	case v[0] == '$' && len(v) > 1 && (nameByte[v[1]] && v[1] > '9') && bytes.ContainsAny(v, "{[(>"): // the use of a variable in some language
		return true
	}
	return few(v) || isMethod(v)
}

// isMethod reports whether a value is the name of a way to sign in or to sum up, such as CRAM-MD5 or SCRAM-SHA-256 (RFC 4422, section 3.1:
// capitals, digits and dashes).
func isMethod(v []byte) bool {
	m := madeOf(v)
	return m.lower == 0 && m.upper > m.digit && bytes.IndexByte(v, '-') > 0 && (bytes.Contains(v, []byte("MD5")) || bytes.Contains(v, []byte("SHA")))
}

// isEscaped reports whether a value holds a letter that is written by its number: \u00e1.
func isEscaped(v []byte) bool {
	i := bytes.Index(v, []byte(`\u`))
	return i >= 0 && len(v) >= i+6 && hexByte(v[i+2]) && hexByte(v[i+3]) && hexByte(v[i+4]) && hexByte(v[i+5])
}

// isIndexed reports whether a value is the use of a part of a variable: name[2] or name['x'].
func isIndexed(v []byte) bool {
	name, rest, ok := bytes.Cut(bytes.TrimRight(v, ",;)"), []byte("["))
	return ok && len(name) > 0 && onlyNames(name) && bytes.HasSuffix(rest, []byte("]"))
}

// looksCalled reports whether a value is the use of a variable: a sign and a name.
func looksCalled(v []byte) bool {
	rest := bytes.TrimRight(v[1:], "%;,")
	m := madeOf(rest)
	return onlyNames(bytes.ReplaceAll(rest, []byte(":"), nil)) && (m.digit == 0 || m.lower == 0 || wordy(rest))
}

// few reports whether a value is made of a character or two, or counts up.
func few(v []byte) bool {
	var seen [256]bool
	n, rising := 0, 0
	for i, c := range v {
		if !seen[c] {
			seen[c] = true
			n++
		}
		if i > 0 && c == v[i-1]+1 {
			rising++
		}
	}
	return n <= 2 && len(v) > 2 || n <= len(v)/6 || len(v) >= 8 && rising > len(v)*2/3
}

// uuid reports whether v has the form of a UUID (RFC 9562, section 4).
func uuid(v []byte) bool {
	if len(v) != 36 {
		return false
	}
	for i, c := range v {
		if (i == 8 || i == 13 || i == 18 || i == 23) != (c == '-') || c != '-' && !hexByte(c) {
			return false
		}
	}
	return true
}

func hexByte(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c && c <= 'f' || 'A' <= c && c <= 'F'
}

// strong reports whether a value is more than words: it has a digit, or letters of both cases or signs as nobody writes words.
func strong(v []byte) bool {
	m := madeOf(v)
	return m.digit > 0 || (m.upper > 0 && m.lower > 0 || m.sign > 0) && !wordy(v) && m.letters() > 0
}

// looksRandom reports whether a value looks drawn by lot: long, of letters and digits
// mixed, evenly spread, and not made of words.
func looksRandom(v []byte, least int) bool {
	if len(v) < least || len(v) > 4096 {
		return false
	}
	m := madeOf(v)
	if m.space > 0 || m.other > 0 || m.digit == 0 && (m.upper < 3 || m.lower < 3) || m.letters() == 0 {
		return false
	}
	for _, c := range v {
		if !nameByte[c] && c != '+' && c != '/' && c != '=' && c != '.' && c != '~' && c != ':' {
			return false
		}
	}
	if wordy(v) {
		return false
	}
	hex := true
	for _, c := range v {
		hex = hex && hexByte(c)
	}
	want := 3.4
	if hex {
		want = 2.9
	}
	if len(v) < 20 {
		want -= 0.6
	}
	return entropy(v) >= want
}

// wordy reports whether a value is words set together: most of its letters are in
// runs of one case of four or more, with vowels in them.
func wordy(v []byte) bool {
	in := 0
	run, vowels := 0, 0
	end := func() {
		if run >= 4 && vowels > 0 && vowels*4 >= run {
			in += run
		}
		run, vowels = 0, 0
	}
	for i, c := range v {
		letter := 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z'
		up := 'A' <= c && c <= 'Z'
		upBefore := i > 0 && 'A' <= v[i-1] && v[i-1] <= 'Z'
		if !letter || run > 0 && up != upBefore && (up || run > 1) {
			end() // a word has one case, but for its first letter
		}
		if letter {
			run++
			switch lower(c) {
			case 'a', 'e', 'i', 'o', 'u', 'y':
				vowels++
			}
		}
	}
	end()
	return in*2 > len(v)
}

// nameByte holds the characters of names in programs and configuration.
var nameByte = func() (b [256]bool) {
	for c := range 256 {
		b[c] = 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '_' || c == '-'
	}
	return b
}()
