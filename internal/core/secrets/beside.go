package secrets

import (
	"bytes"
	"strings"
)

// beside is a value that stands beside a telling name.
type beside struct {
	name, between, v []byte
	till             int
	quoted           bool
	called           bool // an argument of a call
	joined           bool // one of several pairs in one string, such as a connection's
	pair             bool // it is the whole of a line, with its name
	named            bool // the user's name is before it
	by               bool // a word such as "by" is between
	wide             bool // only blanks are between, or words
}

// nameAround gives a name's bounds about the word in it that was found.
func nameAround(data []byte, at, end int, form form) (from, to int) {
	from = at
	for from > 0 && at-from < 60 && (nameByte[data[from-1]] || data[from-1] == '.') {
		from--
	}
	if from > 0 && from < at && data[from-1] == '\\' && (data[from] == 'n' || data[from] == 't' || data[from] == 'r') {
		from++ // a written line end
	}
	if from > 0 && from+1 < at && font(data, from-1) == 3 {
		from += 2
	}
	// A literal may itself end in the sign that follows the name.
	for end > at && !nameByte[data[end-1]] {
		end--
	}
	for end < len(data) && end-from < longestName && (nameByte[data[end]] || form == rows && data[end] == '.' && end+1 < len(data) && nameByte[data[end+1]]) {
		end++
	}
	if form == letter && end < len(data) && data[end] == '.' { // settings within a text: token.get = …
		n := end + run(data, end, func(c byte) bool { return nameByte[c] || c == '.' })
		if i := blanks(data, n, 8); nameByte[data[n-1]] && i < len(data) && data[i] == '=' {
			end = n
		}
	}
	return from, end
}

// find gives the value beside the name from and to.
func find(data []byte, is what, from, to int, form form) (b beside, ok bool) {
	b.name = data[from:to]
	i := to
	if i < len(data) && isQuote(data[i]) {
		i++
		if i < len(data) && (data[i] == ']' || data[i] == ')' && bytes.IndexAny(bytes.TrimLeft(data[i+1:min(len(data), i+4)], " "), "=,") == 0) {
			i++ // settings["password"] = "…", get("password") == "…", equal(get("password"), "…")
		}
		if n := valueOf(data, i); n > 0 {
			return b.read(data, to, n, form, false)
		}
	} else if form == rows {
		if n := valueOf(data, i); n > 0 && i < len(data) && (data[i] == '\n' || data[i] == '\r') {
			return b.read(data, to, n, form, false)
		}
	}
	if i < len(data) && data[i] == ')' && from > 0 && data[from-1] == '(' {
		i++
	}
	i = blanks(data, i, 40)
	if i >= len(data) {
		return b, false
	}
	next := func(n int) byte { return byteAt(data, i+n) }
	if n := font(data, i); n > 0 && i > to && is == password {
		return b.apart(data, to, i+n)
	}
	if n, called := inProgram(data, to, i, form); n > 0 {
		b.called = called
		return b.read(data, to, n, form, true)
	}
	switch c := data[i]; {
	case c == ':' && next(1) == ':':
		return b, false // a name goes on
	case c == ':' && next(1) == '=', c == '=' && (next(1) == '>' || next(1) == '='):
		b.pair = form == letter && next(1) == '='
		i += 2
	case c == '=' || c == ':':
		i++
	case c == '(' && form != code && form != markup && isQuote(next(1)): // the passphrase ("…")
		i++
	case c == '>' && form == letter && next(1) == ' ' && len(bytes.TrimSpace(lineBefore(data, from))) == 0: // what was asked for, and what was typed
		i++
	case c == '>' && (from > 0 && data[from-1] == '<' || i > to && isQuote(data[i-1])):
		i++
	case c == '<' && bytes.HasPrefix(data[i:], []byte("</key>")):
		n := blanks(data, skipLines(data, i+6), 40)
		if !bytes.HasPrefix(data[n:], []byte("<string>")) {
			return b, false
		}
		i = n + 8
	case c == ',' && ((form == code || isQuote(data[to]) && (next(1) == data[to] || next(1) == ' ' && next(2) == data[to]) && bytes.IndexByte(lineBefore(data, from), '(') >= 0) && (data[to] != ',' || isUpper(b.name)) || from > 0 && data[from-1] == '{'):
		b.called = true // a call's next argument: set("password", "…")
		i++
	case bytes.HasPrefix(b.name, []byte("-")) && i > to && (isQuote(c) || len(b.name) > 2 && (b.name[1] == '-' || from > 0 && data[from-1] == '\\') && (form == rows || form == letter)):
		// an option and its value
	case i > to && (isQuote(c) || (form != code && form != markup || inComment(data, from)) && (is == password || is == weak && nameByte[c] || is == token && (drawnAt(data, i) || namesSecret(b.name)))):
		b.wide = true
		if n := afterWords(data, i, is == password && !isQuote(data[to])); n > 0 {
			i = n
		} else if n := afterBy(data, i, equalFold(b.name, "identified")); n > 0 {
			i, b.by = n, true
		}
	default:
		return b, false
	}
	return b.read(data, to, i, form, true)
}

// byteAt gives the byte at a place, 0 beyond the end.
func byteAt(data []byte, i int) byte {
	if i < len(data) {
		return data[i]
	}
	return 0
}

// read takes the value at i. ofType allows the sign of a string's type before its quote.
func (b beside) read(data []byte, to, i int, form form, ofType bool) (beside, bool) {
	i = blanks(data, i, 40)
	for n := 1; n > 0; i += n { // a manual page shows the value in a font of its own
		n = font(data, i)
	}
	if ofType {
		i = typed(data, i)
	}
	if i >= len(data) {
		return b, false
	}
	if b.between = data[to:min(i, to+6)]; !ofType {
		b.between = []byte(": ")
	}
	from := to - len(b.name)
	joined := inPairs(data, from)
	if q := data[i]; isQuote(q) {
		if joined && data[i-1] == '=' && data[i-2] != ' ' && data[from-1] != ',' || q == '`' && form != code {
			return b, false // the string ends here, or a command follows
		}
		n := run(data, i+1, func(c byte) bool { return c != q && c != '\n' })
		if i+1+n >= len(data) || data[i+1+n] != q {
			return b, false
		}
		b.quoted, b.v, b.till = true, data[i+1:i+1+n], i+1+n
		return b, !b.wide || strings.IndexByte("`", q) < 0
	}
	switch {
	case b.called:
		return b, false
	case data[i-1] == '>' && from > 0 && data[from-1] == '<': // an element
		n := run(data, i, func(c byte) bool { return c > ' ' && c != '<' })
		b.v, b.till, b.joined = data[i:i+n], i+n, true
		return b, bytes.HasPrefix(data[i+n:], []byte("</"))
	case b.wide:
		return b.bare(data, to, i)
	case form == code && inComment(data, from) && wholePair(data, from, i) && madeOf(data[i:i+run(data, i, func(c byte) bool { return c > ' ' })]).digit > 0:
		form, b.pair = rows, true
	case form == code || joined:
		if !joined && !laterPair(data, i) {
			return b, false
		}
		b.joined = true
		n := run(data, i, func(c byte) bool { return c > ' ' && strings.IndexByte("\"'`<>;&\\,)[]{}", c) < 0 })
		b.v, b.till = data[i:i+n], i+n
		return b, n > 0 && i+n < len(data)
	}
	return b.open(data, from, i, form)
}

// longestPhrase is how long a phrase may be, in bytes.
const longestPhrase = 400

// open takes a value without quotes, up to where its word or, of a phrase, its line ends.
func (b beside) open(data []byte, from, i int, form form) (beside, bool) {
	given := data[i-1] == '=' && isUpper(b.name) || bytes.HasPrefix(b.name, []byte("--")) // to a program
	if form == letter && (b.pair || given || wholePair(data, from, i) || wholeString(data, from, i)) {
		form, b.pair = rows, true
	}
	n := run(data, i, func(c byte) bool {
		return c > ' ' && c != '"' && c != '\'' && c != '<' && c != '`' && (form == rows || c != ',' && c != ';' && c != ')')
	})
	if form == rows && isPhrase(b.name) && !given || bytes.EqualFold(b.name, []byte("mnemonic")) { // its words
		n = len(bytes.TrimRight(data[i:i+run(data[:min(len(data), i+longestPhrase)], i, func(c byte) bool { return c != '\n' && c != '\r' })], " \t"))
	}
	if k := bytes.Index(data[i:i+n], []byte(`\f`)); k > 0 && form != code && font(data, i+k) > 0 {
		n = k
	}
	b.v, b.till = bytes.TrimRight(data[i:i+n], `\`), i+n
	if form == letter {
		b.v = bytes.TrimRight(b.v, ".,;:!?&")
		if bytes.IndexByte(b.v, '(') < 0 {
			b.v = bytes.TrimRight(b.v, ")")
		}
	}
	rest := data[i+n:]
	if bytes.HasPrefix(b.name, []byte("-")) && data[i] == '-' {
		return b, false // the next option
	}
	if b.pair {
		b.v = bytes.TrimSuffix(bytes.TrimRight(b.v, ";,&"), []byte(`\r\n`))
	}
	if form == rows && !given && n > 0 && n < 40 && len(rest) > 0 && rest[0] == ' ' && !bytes.HasPrefix(bytes.TrimLeft(rest, " "), []byte("#")) && !lineEnds(rest) && !isPair(rest) && !bytes.HasPrefix(rest, []byte(" -")) && !bytes.HasPrefix(rest, []byte(" \\")) && !isPhrase(b.name) && !bytes.Contains(b.name, []byte("key")) {
		return b, false // a sentence
	}
	return b, true
}

// bare takes a value that only blanks part from its name: the last word of a line that holds nothing else than both, or a
// user's name before.
func (b beside) bare(data []byte, to, i int) (beside, bool) {
	n := 0
	for i+n < len(data) && n < 4096 && data[i+n] > ' ' && data[i+n] < 0x7f && !quoteOrEnd[data[i+n]] {
		n++
	}
	kept := n
	for kept > 0 && endSigns[data[i+kept-1]] {
		kept--
	}
	b.v, b.till = data[i:i+kept], i+n
	if i+3 < len(data) && data[i+2] == ' ' && equalFold(data[i:i+2], "is") { // your password is x
		rest := data[i+3 : min(len(data), i+200)]
		n = run(rest, 0, func(c byte) bool { return c > ' ' && c < 0x7f && !quoteOrEnd[c] })
		b.v, b.till, b.pair = bytes.TrimRight(rest[:n], ".;:!?"), i+3+n, true
		m := madeOf(b.v)
		return b, len(b.v) >= 8 && m.digit > 0 && m.letters() > 0 && (m.upper > 0 && m.lower > 0 || m.sign > 0 && !onlyNames(b.v)) && lineEnds(rest[n:])
	}
	if len(b.v) < 6 || bytes.IndexByte(b.v, ':') >= 0 {
		return b, false
	}
	if m := madeOf(b.v); m.letters() == 0 || m.digit == 0 && (m.upper == 0 || m.lower == 0) && m.sign == 0 || !strong(b.v) {
		return b, false
	}
	before := lineBefore(data, to-len(b.name))
	for _, w := range []string{"user ", "login ", "machine ", "poll "} {
		b.named = b.named || bytes.Contains(before, []byte(w)) || bytes.Contains(before, bytes.ToUpper([]byte(w)))
	}
	comment := bytes.TrimLeft(before, "# \t;")
	first := fewWords(comment) || len(comment) > 4 && (equalFold(comment[:4], "env ") || equalFold(comment[:4], "set ")) || bytes.HasPrefix(comment, []byte("export ")) || commanded(comment)
	b.pair = first && endsHere(data[i+n:])
	return b, b.named || b.pair || first && bytes.HasSuffix(b.name, []byte("community"))
}

// fewWords reports whether a text is at most two words without signs.
func fewWords(s []byte) bool {
	words, in := 0, false
	for _, c := range s {
		switch {
		case c == ' ' || c == '\t':
			in = false
		case c > ' ' && c < 0x7f && !('a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9'):
			return false
		case !in:
			in = true
			words++
		}
	}
	return words < 3
}

// endSigns are signs at the end of a sentence or a part of one.
var endSigns = [256]bool{'.': true, ',': true, ';': true, ':': true, '!': true, '?': true, ')': true}

// quoteOrEnd are signs at which a bare word ends.
var quoteOrEnd = [256]bool{'"': true, '\'': true, '`': true, '<': true, '>': true, ',': true}

func isQuote(c byte) bool { return c == '"' || c == '\'' || c == '`' }

func isUpper(name []byte) bool { return madeOf(name).lower == 0 }

func isPhrase(name []byte) bool {
	low := bytes.ToLower(name)
	return bytes.HasSuffix(low, []byte("phrase")) || bytes.HasSuffix(low, []byte("psk")) || bytes.HasSuffix(low, []byte("mnemonic"))
}

// blanks gives the first place from i on that is no blank, at most that far away.
func blanks(data []byte, i, most int) int {
	for n := 0; i < len(data) && n < most && (data[i] == ' ' || data[i] == '\t'); n++ {
		i++
	}
	return i
}

// skipLines gives the first place from i on that is neither blank nor line end.
func skipLines(data []byte, i int) int {
	for n := 0; i < len(data) && n < 80 && (data[i] == ' ' || data[i] == '\t' || data[i] == '\n' || data[i] == '\r'); n++ {
		i++
	}
	return i
}

// valueOf finds, after a name that is itself a value, where the value begins that goes with it: name="x" value="…",
// {"name": "x", "value": "…"}, and the same in two lines; 0 where nothing of the kind follows.
func valueOf(data []byte, i int) int {
	if i < len(data) && data[i] == ',' {
		i++
	}
	i = skipLines(data, i)
	if i < len(data) && isQuote(data[i]) {
		i++
	}
	if i+6 > len(data) || !equalFold(data[i:i+5], "value") {
		return 0
	}
	i += 5
	if isQuote(data[i]) {
		i++
	}
	i = blanks(data, i, 8)
	if i >= len(data) || data[i] != '=' && data[i] != ':' {
		return 0
	}
	return i + 1
}

// afterWords finds the sign that parts a name of several words from its value, as in "Password of the relay: x"; 0
// where there is none.
func afterWords(data []byte, i int, may bool) int {
	if ahead := data[i:min(len(data), i+48)]; !may || bytes.IndexByte(ahead, ':') < 0 && bytes.IndexByte(ahead, '=') < 0 {
		return 0 // as most often
	}
	words := 0
	for n := 0; i < len(data) && n < 48; n++ {
		switch c := data[i]; {
		case c == '=' || c == ':':
			if words == 0 && n == 0 || c == '=' && data[i-1] != ' ' {
				return 0
			}
			return i + 1
		case c == ' ' || c == '\t':
			words++
		case !nameByte[c] && c != '.' && c != '(' && c != ')' && c != '/' || words > 5:
			return 0
		}
		i++
	}
	return 0
}

// afterBy finds the quote of a value that a word such as "by" parts from its name; 0 where there is none. far allows other
// words before that one, as in SQL's IDENTIFIED WITH … BY '…'.
func afterBy(data []byte, i int, far bool) int {
	for from := i; ; far = true {
		n, most, blank := 0, min(len(data), i+80), 0
		for from+n < most && data[from+n] != '\'' && data[from+n] != '"' && data[from+n] != '\n' {
			if data[from+n] == ' ' && data[from+n-1] != ' ' {
				if blank++; blank > 2 && !far { // more words than may be between, as most often
					return 0
				}
			}
			n++
		}
		if n < 3 || from+n >= most || data[from+n] == '\n' {
			return 0
		}
		words := bytes.Fields(bytes.ToLower(data[from : from+n]))
		if len(words) == 0 || len(words) > 1 && !far && (len(words) > 2 || string(words[0]) != "name" && string(words[0]) != "string") {
			return 0
		}
		switch string(words[len(words)-1]) {
		case "by", "as", "to", "is", "using", "name", "string", "than":
			return from + n
		case "for", "of", "on": // whose it is, or it
			v, next := quotedWord(data, from+n)
			if len(v) > 0 && from == i && bytes.Contains(lineAfter(data, next), []byte(" is ")) {
				from = next
				continue
			}
			if words[len(words)-1][0] == 'o' && len(words) == 1 {
				return from + n
			}
		}
		return 0
	}
}

// inPairs reports whether a name at a place is one of several in one string: after a sign that parts pairs, or after the
// beginning of an address's query.
func inPairs(data []byte, at int) bool {
	if at == 0 {
		return false
	}
	last := at - 1
	for last > 0 && data[last] == ' ' {
		last--
	}
	c := data[last]
	if c != ';' && c != '&' && c != '?' && c != ',' && c != ':' { // as most often
		return false
	}
	before := lineBefore(data, last+1)
	return (c == ';' || c == '&' || c == '?' || (c == ',' || c == ':') && data[at-1] == c) && bytes.IndexByte(before[:len(before)-1], '=') >= 0 || c == '?' && bytes.Contains(before, []byte("//"))
}

// laterPair reports whether after a value that begins at i another pair of the same string follows.
func laterPair(data []byte, i int) bool {
	n := run(data, i, func(c byte) bool { return c > ' ' && strings.IndexByte("\"'`<>;&,()", c) < 0 })
	if n == 0 || i+n >= len(data) || data[i+n] != ';' && data[i+n] != '&' && data[i+n] != ' ' {
		return false
	}
	return isPair(data[i+n+1:])
}

// wholePair reports whether a line holds only a name at a place, a sign, and a word that begins at i, apart from signs of
// a comment.
func wholePair(data []byte, at, i int) bool {
	before := bytes.Trim(lineBefore(data, at), " \t#;*$>%-\"'")
	n := run(data, i, func(c byte) bool { return c > ' ' })
	if m := madeOf(data[i : i+n]); len(before) > 0 && len(bytes.Fields(before)) < 5 && m.digit > 0 && m.letters() > 0 && bytes.IndexByte(before, '=') < 0 && bytes.IndexByte(before, ':') < 0 {
		before = nil
	}
	rest := data[i+n:]
	if after := bytes.TrimLeft(rest, " \t"); bytes.HasPrefix(after, []byte("#")) || bytes.HasPrefix(after, []byte(`\e`)) || bytes.HasPrefix(after, []byte("\\\n")) { // a comment, or the command goes on
		rest = nil
	}
	return len(before) == 0 && n > 0 && (lineEnds(rest) || len(rest) == 0)
}

// isPair reports whether text begins with a name and an equals sign.
func isPair(rest []byte) bool {
	i := blanks(rest, 0, 8)
	n := 0
	for i+n < len(rest) && n < 40 && (nameByte[rest[i+n]] || n > 0 && rest[i+n] == ' ') {
		n++
	}
	return n > 1 && i+n+1 < len(rest) && rest[i+n] == '=' && rest[i+n+1] > ' ' && rest[i+n+1] != '='
}
