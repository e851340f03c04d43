package secrets

import "bytes"

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
		at := blanks(data, i+1, 8)
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
	line := data[i:min(len(data), i+60)]
	if n := bytes.IndexAny(line, "\n;#"); n >= 0 {
		line = line[:n]
	}
	n := bytes.IndexAny(line, "\"'`")
	if n < 0 {
		return 0
	}
	before := bytes.TrimRight(line[:n], " ")
	if s := string(before); s == "eq" || s == "ne" || s == "is" || s == "or" {
		return i + n
	}
	for _, sign := range []string{"||", "??", "||=", "??=", "//=", " or", "!=", "!==", "==="} {
		if bytes.HasSuffix(before, []byte(sign)) && (len(before) <= 3 || before[0] == '=' || before[0] == ':' && before[1] == '=') {
			return i + n
		}
	}
	return 0
}
