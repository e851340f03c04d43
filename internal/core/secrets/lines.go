package secrets

import "bytes"

// lineBefore gives what is before a place on its line, at most 300 bytes.
func lineBefore(data []byte, at int) []byte {
	from := max(0, at-300)
	if i := bytes.LastIndexByte(data[from:at], '\n'); i >= 0 {
		from += i + 1
	}
	return data[from:at]
}

// lineAfter gives what is after a place on its line, at most 60 bytes.
func lineAfter(data []byte, at int) []byte {
	line, _, _ := bytes.Cut(data[at:min(len(data), at+60)], []byte("\n"))
	return line
}

// inComment reports whether the line of a place begins as a comment of a program.
func inComment(data []byte, at int) bool {
	before := lineBefore(data, at)
	before = before[blanks(before, 0, len(before)):]
	if len(before) == 0 {
		return false
	}
	switch before[0] {
	case '#', '*', ';', '%':
		return true
	case '/', '-':
		return len(before) > 1 && before[1] == before[0]
	}
	return false
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
