package secrets

import (
	"bytes"
	"strings"

	"uncinate/internal/core/text"
)

// inProgram finds the quote of a value that a call or an operator parts from its name, which ends before to: NewToken("…"),
// Token::new("…"), update_password("user", "…"); $password eq "…", password = option || "…".
func inProgram(data []byte, to, i int, form form) (quote int, called bool) {
	if c := data[i]; i == to && (c == '(' || c == '.' || c == ':') && (form == code || form == letter) {
		if n := argument(data, i); n > 0 {
			return n, true
		}
	}
	if form == code {
		return afterOperator(data, i), false
	}
	return 0, false
}

// argument finds, in a call that goes on at i, the quote of the last of its first three arguments that is more than words;
// 0 where there is none. Between the name and the call one more name may stand: Token::new("…"), token.from("…").
func argument(data []byte, i int) int {
	if data[i] != '(' {
		i += run(data, i, func(c byte) bool { return c == ':' || c == '.' })
		n := run(data, i, func(c byte) bool { return nameByte[c] })
		if s := string(data[i : i+n]); s != "new" && s != "from" && s != "of" && s != "equals" {
			return 0
		}
		i += n
	}
	found := 0
	for n := 0; n < 3 && i < len(data) && (n == 0 && data[i] == '(' || n > 0 && data[i] == ','); n++ {
		at := typed(data, blanks(data, i+1, 8))
		v, next := quotedWord(data, at)
		if len(v) == 0 {
			break
		}
		if strong(v) && !placeholder(v) {
			found = at
		}
		i = next
	}
	return found
}

// typed gives the place of a quote behind the sign of a string's type, as in b"…".
func typed(data []byte, i int) int {
	for i+1 < len(data) && strings.IndexByte("brfu", data[i]) >= 0 && (isQuote(data[i+1]) && data[i+1] != '`' || strings.IndexByte("brfu", data[i+1]) >= 0) {
		i++
	}
	return i
}

// wrappedAt gives the quote of a value that a call or another name parts from its own: password: Buffer.from("…"),
// want := c.Token, "…"; 0 where there is none.
func wrappedAt(data []byte, to int) int {
	i := to
	if i < len(data) && data[i] == '.' { // key.Value, "…"
		i += 1 + run(data, i+1, func(c byte) bool { return nameByte[c] })
	}
	i = blanks(data, i, 8)
	n := run(data, i, func(c byte) bool { return c == ':' || c == '=' || c == ',' || c == '>' })
	if n == 0 || n > 2 {
		return 0
	}
	i = blanks(data, i+n, 8)
	called := run(data, i, func(c byte) bool { return nameByte[c] || c == '.' || c == ':' })
	i += called
	if called > 0 {
		if i >= len(data) || data[i] != '(' || turns(data[i-called:i]) {
			return 0
		}
		i++
	}
	if i < len(data) && isQuote(data[i]) && (called > 0 || data[i-n] == ',' || data[to] != ' ' && bytes.IndexByte(data[to:i], ',') >= 0) {
		return i
	}
	return 0
}

// byPlace gives the quote of the value that a statement gives to one of several names, by its place among them, as in
// user, password := "…", "…"; 0 where it is none.
func byPlace(data []byte, from, to int) int {
	after := data[to:min(len(data), to+80)]
	if bytes.IndexByte(after, '=') < 0 { // most often
		return 0
	}
	before, n := lineBefore(data, from), 0
	if bytes.ContainsAny(before, "=(\"'") {
		return 0
	}
	for i := to; i < to+len(after); i++ {
		switch c := data[i]; {
		case c == ',' || c == ' ' || nameByte[c]:
		case c == '=' || c == ':' && i+1 < len(data) && data[i+1] == '=':
			i += text.Either(c == ':', 2, 1)
			for n = bytes.Count(before, []byte(",")); n >= 0; n-- {
				i = blanks(data, i, 8)
				v, next := quotedWord(data, i)
				if n == 0 && len(v) > 0 {
					return i
				}
				if len(v) == 0 || next >= len(data) || data[next] != ',' {
					return 0
				}
				i = next + 1
			}
			return 0
		default:
			return 0
		}
	}
	return 0
}

// turns reports whether a call gives something about a text, and not it.
func turns(name []byte) bool {
	low := bytes.ToLower(name)
	for _, w := range []string{"get", "env", "hash", "sha", "md5", "find", "load", "read", "param", "arg", "test", "key", "type", "name", "field", "file", "path", "regex", "error", "option", "input", "column", "require", "import", "lookup", "config", "algor", "new"} {
		if bytes.Contains(low, []byte(w)) {
			return true
		}
	}
	return false
}

// onLine takes a value at the quote that wrappedAt gave, where it is more than words.
func onLine(data []byte, from, to int) (b beside, ok bool) {
	i := wrappedAt(data, to)
	if i == 0 && (byteAt(data, to) == ',' || from > 1 && data[from-1] == ' ' && data[from-2] == ',') {
		i = byPlace(data, from, to)
	}
	if i == 0 {
		return b, false
	}
	v, next := quotedWord(data, i)
	if m := madeOf(v); len(v) < 8 || m.digit == 0 || m.letters() < 3 || bytes.ContainsAny(v, " ()$/\\:=,") {
		return b, false
	}
	b.name, b.between, b.v, b.till, b.quoted, b.called = data[from:to], data[to:min(i, to+6)], v, next, true, true
	return b, true
}

// afterOperator finds the quote of a value that a comparison, or an expression with what holds where nothing is given, parts
// from its name; 0 where there is none.
func afterOperator(data []byte, i int) int {
	most := min(len(data), i+60)
	switch c := data[i]; {
	case 'a' <= c && c <= 'z': // most often
		if i+3 >= most || data[i+2] > ' ' && !isQuote(data[i+2]) {
			return 0
		}
		if s := string(data[i : i+2]); s != "eq" && s != "ne" && s != "is" && s != "or" {
			return 0
		}
		if n := blanks(data, i+2, 40); n < most && isQuote(data[n]) {
			return n
		}
		return 0
	case strings.IndexByte("|?!/=:", c) < 0:
		return 0
	}
	n := 0
	for i+n < most && !isQuote(data[i+n]) {
		if c := data[i+n]; c == '\n' || c == ';' || c == '#' {
			return 0
		}
		n++
	}
	if i+n >= most {
		return 0
	}
	before := bytes.TrimRight(data[i:i+n], " ")
	for _, sign := range []string{"||", "??", "||=", "??=", "//=", " or", "!=", "!==", "==="} {
		if bytes.HasSuffix(before, []byte(sign)) && (len(before) <= 3 || before[0] == '=' || before[0] == ':' && before[1] == '=') {
			return i + n
		}
	}
	return 0
}
