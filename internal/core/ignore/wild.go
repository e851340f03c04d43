package ignore

import "strings"

// Wild matches a path against a pattern: "?" and "*" stand for anything but a slash,
// "[...]" for one of its characters, "**" between slashes for any number of folders,
// and a backslash takes the next character as it is. Its work is bounded by the
// product of both lengths for each folder of the path, whatever the pattern.
func Wild(pattern, p string) bool {
	m := matcher{pattern: pattern, path: p}
	return m.run(0, 0) == hit
}

type matcher struct{ pattern, path string }

// outcome is what came of matching the rest of a pattern.
type outcome int

// Where a star failed, whatever it stood for, an earlier one cannot help: what it would leave to
// the later one, that has tried already. Only stars for whole folders go further than those for a
// part of a name.
const (
	hit outcome = iota
	miss
	starFailed
	foldersFailed
)

func (m *matcher) run(i, j int) outcome {
	for i < len(m.pattern) {
		switch c := m.pattern[i]; c {
		case '*':
			return m.star(i, j)
		case '?':
			if j >= len(m.path) || m.path[j] == '/' {
				return miss
			}
			i, j = i+1, j+1
		case '[':
			if j >= len(m.path) {
				return miss
			}
			ok, next := class(m.pattern[i:], m.path[j])
			if !ok || m.path[j] == '/' {
				return miss
			}
			i, j = i+next, j+1
		case '\\':
			if i++; i >= len(m.pattern) {
				return miss
			}
			c = m.pattern[i]
			fallthrough
		default:
			if j >= len(m.path) || m.path[j] != c {
				return miss
			}
			i, j = i+1, j+1
		}
	}
	if j == len(m.path) {
		return hit
	}
	return miss
}

// star tries what a run of stars may stand for.
func (m *matcher) star(i, j int) outcome {
	end := i
	for end < len(m.pattern) && m.pattern[end] == '*' {
		end++
	}
	// Two stars or more between slashes, or at an end, stand for whole folders; else for
	// a part of one.
	if end-i >= 2 && (i == 0 || m.pattern[i-1] == '/') && (end == len(m.pattern) || m.pattern[end] == '/' || strings.HasPrefix(m.pattern[end:], `\/`)) {
		return m.folders(end, j)
	}
	for k := j; ; k++ {
		if r := m.run(end, k); r != miss {
			return r
		}
		if k >= len(m.path) || m.path[k] == '/' {
			return starFailed
		}
	}
}

// folders tries what stars may stand for that stand for whole folders.
func (m *matcher) folders(end, j int) outcome {
	if end == len(m.pattern) {
		return hit
	}
	after := end + 1
	if m.pattern[end] == '\\' {
		after++
	}
	if r := m.run(after, j); r == hit || r == foldersFailed { // no folder at all
		return r
	}
	for k := j; k < len(m.path); k++ {
		if m.path[k] == '/' {
			if r := m.run(after, k+1); r == hit || r == foldersFailed {
				return r
			}
		}
	}
	return foldersFailed
}

// class matches one character against "[...]" and gives the class's length. A class
// without end matches nothing.
func class(p string, c byte) (ok bool, length int) {
	i := 1
	negated := false
	if i < len(p) && (p[i] == '!' || p[i] == '^') {
		negated = true
		i++
	}
	hit := false
	first := true
	var prev byte // the character before a range's dash; 0 for none
	for {
		if i >= len(p) {
			return false, len(p)
		}
		if p[i] == ']' && !first {
			return hit != negated, i + 1
		}
		first = false
		switch {
		case p[i] == '-' && prev != 0 && i+1 < len(p) && p[i+1] != ']':
			i++
			if p[i] == '\\' {
				if i++; i >= len(p) {
					return false, len(p)
				}
			}
			hit = hit || prev <= c && c <= p[i]
			prev = 0
			i++
		case p[i] == '[' && i+1 < len(p) && p[i+1] == ':':
			end := strings.IndexByte(p[i+2:], ']')
			if end < 0 {
				return false, len(p)
			}
			name := p[i+2 : i+2+end]
			if !strings.HasSuffix(name, ":") || len(name) < 1 {
				// It is not a named class after all, but a bracket.
				hit = hit || c == '['
				prev = '['
				i++
				continue
			}
			of := named(strings.TrimSuffix(name, ":"))
			if of == nil {
				return false, len(p)
			}
			hit = hit || of(c)
			prev = 0
			i += 2 + end + 1
		default:
			if p[i] == '\\' {
				if i++; i >= len(p) {
					return false, len(p)
				}
			}
			prev = p[i]
			hit = hit || c == p[i]
			i++
		}
	}
}

// named gives the test of a POSIX character class (POSIX.1-2017, section 9.3.5).
func named(name string) func(c byte) bool {
	lower := func(c byte) bool { return 'a' <= c && c <= 'z' }
	upper := func(c byte) bool { return 'A' <= c && c <= 'Z' }
	digit := func(c byte) bool { return '0' <= c && c <= '9' }
	graph := func(c byte) bool { return c > ' ' && c < 0x7f }
	alnum := func(c byte) bool { return lower(c) || upper(c) || digit(c) }
	switch name {
	case "alnum":
		return alnum
	case "alpha":
		return func(c byte) bool { return lower(c) || upper(c) }
	case "blank":
		return func(c byte) bool { return c == ' ' || c == '\t' }
	case "cntrl":
		return func(c byte) bool { return c < ' ' || c == 0x7f }
	case "digit":
		return digit
	case "graph":
		return graph
	case "lower":
		return lower
	case "print":
		return func(c byte) bool { return c == ' ' || graph(c) }
	case "punct":
		return func(c byte) bool { return graph(c) && !alnum(c) }
	case "space":
		return func(c byte) bool { return c == ' ' || '\t' <= c && c <= '\r' }
	case "upper":
		return upper
	case "xdigit":
		return func(c byte) bool { return digit(c) || 'a' <= c && c <= 'f' || 'A' <= c && c <= 'F' }
	}
	return nil
}
