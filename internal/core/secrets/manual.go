package secrets

import "bytes"

// font gives how long the change of font at a place in a manual page is (groff(7), "Escape sequences": \fF, \f(FF, \f[FONT]);
// 0 where there is none.
func font(data []byte, i int) int {
	if i+2 >= len(data) || data[i] != '\\' || data[i+1] != 'f' {
		return 0
	}
	switch data[i+2] {
	case '(':
		return min(5, len(data)-i)
	case '[':
		n := bytes.IndexByte(data[i:min(len(data), i+16)], ']')
		return n + 1
	}
	return 3
}

// apart takes a value that a manual page sets in a font of its own, which begins at i.
func (b beside) apart(data []byte, to, i int) (beside, bool) {
	n := run(data, i, func(c byte) bool { return c > ' ' && c < 0x7f && c != '\\' && !quoteOrEnd[c] })
	b.between, b.v, b.till, b.quoted, b.wide = data[to:min(i, to+6)], data[i:i+n], i+n, true, true
	return b, n > 5 && font(data, i+n) > 0
}

// inManual reports whether a place in a program is in its manual (perlpod, "DESCRIPTION": from a line that begins with = and a
// word, until one that begins with =cut).
func inManual(data []byte, at int) bool {
	before := data[max(0, at-4096):at]
	i := bytes.LastIndex(before, []byte("\n="))
	rest := before[i+1:]
	return i >= 0 && len(rest) > 4 && 'a' <= rest[1] && rest[1] <= 'z' && rest[2] >= 'a' && !bytes.HasPrefix(rest, []byte("=cut"))
}

// formAt tells how values are written at a place in a file. manual is whether parts of a program may be its manual.
func formAt(data []byte, at int, form form, manual bool) form {
	if manual && inManual(data, at) {
		return letter
	}
	return form
}

// commanded reports whether a line up to a name and its value is the beginning of a command that sets something.
func commanded(before []byte) bool {
	words := bytes.Fields(before)
	if len(words) == 0 || len(words) > 5 {
		return false
	}
	switch string(words[len(words)-1]) {
	case "config", "set", "--global", "--local", "--add":
		return len(words) > 1
	}
	return false
}

// drawnAt reports whether at a place a word begins that was drawn by lot, of letters of both cases and digits, behind which only a
// sign that ends a statement stands.
func drawnAt(data []byte, i int) bool {
	n := run(data, i, func(c byte) bool { return c > ' ' && c < 0x7f && c != ';' && !quoteOrEnd[c] })
	if n < 20 {
		return false
	}
	v := data[i : i+n]
	m := madeOf(v)
	return m.digit > 0 && m.upper > 1 && m.lower > 1 && looksRandom(v, 20) && endsHere(data[i+n:])
}

// endsHere reports whether a statement ends: the line does, but for a sign that ends statements and a comment.
func endsHere(rest []byte) bool {
	rest = bytes.TrimLeft(rest[:min(len(rest), 40)], "; \t")
	return lineEnds(rest) || rest[0] == '#' || bytes.HasPrefix(rest, []byte("//"))
}

// wholeString reports whether a string holds only a name at a place, a sign, and a word that begins at i: "password=…".
func wholeString(data []byte, at, i int) bool {
	if at == 0 || !isQuote(data[at-1]) {
		return false
	}
	n := run(data, i, func(c byte) bool { return c > ' ' && c != data[at-1] })
	return i+n < len(data) && data[i+n] == data[at-1]
}
