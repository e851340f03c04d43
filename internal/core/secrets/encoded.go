package secrets

import (
	"bytes"
	"encoding/base64"
	"strings"
)

// decoded gives what base64 at the beginning of data stands for, at most most characters of it.
func decoded(data []byte, most int) (out []byte, n int) {
	n = run(data, 0, func(c byte) bool { return nameByte[c] || c == '+' || c == '/' || c == '=' })
	n = min(n, most)
	v := bytes.TrimRight(data[:n], "=")
	out, err := base64.RawStdEncoding.DecodeString(string(v[:len(v)/4*4]))
	if err != nil {
		return nil, n
	}
	if more, err := base64.RawStdEncoding.DecodeString(string(v)); err == nil {
		out = more
	}
	return out, n
}

// signIn judges USER:PASSWORD in base64 beside a name, as the settings of clients keep it (RFC 7617, section 2).
func signIn(data []byte, at, end int, form form) (kind, excerpt string, till int) {
	from, to := nameAround(data, at, end, form)
	b, ok := find(data, pair, from, to, form)
	if !ok || len(b.v) < 12 || b.wide || b.called {
		return "", "", 0
	}
	out, n := decoded(b.v, 4096)
	user, pass, ok := bytes.Cut(out, []byte(":"))
	if !ok || n != len(b.v) || len(user) == 0 || len(pass) < 4 || !printable(out) || placeholder(pass) {
		return "", "", 0
	}
	return Password, describe(b.name, b.between, len(b.v)), b.till
}

// wrappedKey judges a PEM block that is wrapped in base64 once more.
func wrappedKey(data []byte, at int) (kind, excerpt string, till int) {
	out, n := decoded(data[at:min(len(data), at+4096)], 4096)
	if i := bytes.Index(out, []byte("PRIVATE KEY-----")); i < 0 || i > 40 || len(out) < 120 {
		return "", "", 0
	}
	return PrivateKey, describe([]byte("in base64 "), nil, n), at + n
}

// privateWebKey judges a JSON Web Key (RFC 7517, section 4): the private parts of it are "d" and, of a key that
// both sides hold, "k" (RFC 7518, sections 6.2.2, 6.3.2 and 6.4).
func privateWebKey(data []byte, at int) (kind, excerpt string, till int) {
	from, to := max(0, at-3000), min(len(data), at+3000)
	if i := bytes.LastIndexByte(data[from:at], '{'); i >= 0 {
		from += i
	}
	if i := bytes.IndexByte(data[at:to], '}'); i >= 0 {
		to = at + i
	}
	for _, part := range []string{`"d"`, `"k"`} {
		i := bytes.Index(data[from:to], []byte(part))
		if i < 0 {
			continue
		}
		b, ok := find(data, webKey, from+i+1, from+i+2, code)
		if ok && b.quoted && len(b.v) >= 40 && looksRandom(b.v, 40) {
			return PrivateKey, describe([]byte("JSON Web Key, "), []byte(part), len(b.v)), max(b.till, at+5)
		}
	}
	return "", "", 0
}

// userBeside judges a password that stands with its user's name.
func userBeside(data []byte, is what, at, end int, form form) (kind, excerpt string, till int) {
	switch is {
	case both:
		return besideName(data, at, end, form)
	case signs:
		return secondOfTwo(data, at, end)
	case userPass:
		return userAndPassword(data, end)
	case userThen:
		return afterUser(data, at, end)
	case bind:
		if before := lineBefore(data, at); !bytes.Contains(before, []byte(" -D ")) && !bytes.Contains(before, []byte(" -U ")) {
			return "", "", 0
		}
	}
	return givenByOption(data, end)
}

// besideName judges USER:PASSWORD in quotes beside a name.
func besideName(data []byte, at, end int, form form) (kind, excerpt string, till int) {
	from, to := nameAround(data, at, end, form)
	b, ok := find(data, both, from, to, form)
	if !ok || !b.quoted || b.wide {
		return "", "", 0
	}
	return userAndPassword(data, b.till-len(b.v))
}

// secondOfTwo judges a call's two arguments, a user's name and a password.
func secondOfTwo(data []byte, at, end int) (kind, excerpt string, till int) {
	user, i := quotedWord(data, blanks(data, end, 8))
	if len(user) == 0 || i >= len(data) || data[i] != ',' {
		return "", "", 0
	}
	pass, till := quotedWord(data, blanks(data, i+1, 8))
	if len(pass) < 6 || till >= len(data) || data[till] != ')' && data[till] != ',' || placeholder(pass) || !strong(pass) || !isPassword(pass, true, code, true) {
		return "", "", 0
	}
	return Password, describe(data[at:end-1], []byte("("), len(pass)), till
}

// afterUser judges what stands in quotes behind a user's name or the file of a key, and ends a call, or is one of a list.
func afterUser(data []byte, at, end int) (kind, excerpt string, till int) {
	v, next := quotedWord(data, end)
	if len(v) < 8 || next >= len(data) || strings.IndexByte("),]};", data[next]) < 0 || placeholder(v) || bytes.IndexByte(v, '.') >= 0 || bytes.IndexByte(v, ' ') >= 0 {
		return "", "", 0
	}
	if m := madeOf(v); !isDrawn(v) && (m.digit < 2 || m.letters() < 3 || !isPassword(v, true, code, true)) {
		return "", "", 0
	}
	return Password, describe(bytes.Trim(data[at:end], "\"', (."), []byte(", "), len(v)), next
}

// quotedWord gives what stands in quotes at i, and where the next sign is.
func quotedWord(data []byte, i int) (v []byte, next int) {
	if i >= len(data) || !isQuote(data[i]) {
		return nil, i
	}
	v, till := word(data, i)
	if till >= len(data) || data[till] != data[i] {
		return nil, i
	}
	return v, blanks(data, till+1, 8)
}

// userAndPassword judges what follows an option for a user: USER:PASSWORD.
func userAndPassword(data []byte, i int) (kind, excerpt string, till int) {
	v, till := word(data, blanks(data, i, 8))
	user, pass, ok := bytes.Cut(v, []byte(":"))
	pass, _, _ = bytes.Cut(pass, []byte(";"))
	if !ok || len(user) == 0 || len(pass) < 6 || !onlyNames(bytes.ReplaceAll(user, []byte("@"), nil)) || placeholder(pass) || bytes.EqualFold(user, pass) || bytes.IndexByte(pass, '/') >= 0 || bytes.IndexByte(pass, '$') == 0 {
		return "", "", 0
	}
	if m := madeOf(pass); m.letters() == 0 || m.digit == 0 && m.sign == 0 {
		return "", "", 0
	}
	return Password, describe([]byte("USER"), []byte(":"), len(pass)), till
}

// givenByOption judges a password that follows an option for one.
func givenByOption(data []byte, i int) (kind, excerpt string, till int) {
	v, till := word(data, i)
	if m := madeOf(v); len(v) < 6 || placeholder(v) || m.digit == 0 && m.sign == 0 || !isPassword(v, true, rows, false) {
		return "", "", 0
	}
	return Password, describe([]byte("-p"), []byte(" "), len(v)), till
}

// word gives the word of a command that begins at i, without its quotes.
func word(data []byte, i int) (v []byte, till int) {
	quote := byte(0)
	if i < len(data) && isQuote(data[i]) {
		quote = data[i]
		i++
	}
	n := run(data, i, func(c byte) bool {
		return c > ' ' && c < 0x7f && c != quote && c != '"' && c != '`' && c != '<' && c != '|'
	})
	return data[i : i+n], i + n
}
