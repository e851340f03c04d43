package gitconfig

import "strings"

// Line is one setting of a file, and on which line of it that begins, from 1.
type Line struct {
	Key, Value string
	At         int
}

// Parse reads the text of one file of git's configuration as it is, without what it
// includes (git-config documentation, "Syntax"). A key alone has the value "true".
func Parse(s string) []Line {
	var out []Line
	section, at := "", 0
	lines := strings.Split(strings.ReplaceAll(s, "\r\n", "\n"), "\n")
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		at = i + 1
		for strings.HasSuffix(line, "\\") && i+1 < len(lines) { // it goes on on the next line
			i++
			line = strings.TrimSuffix(line, "\\") + lines[i]
		}
		line = strings.TrimSpace(line)
		if rest, opens := strings.CutPrefix(line, "["); opens {
			head := rest
			if i := headEnd(rest); i >= 0 {
				head, line = rest[:i], strings.TrimSpace(rest[i+1:])
			}
			name, sub, has := strings.Cut(head, " ")
			section = strings.ToLower(strings.TrimSpace(name)) + "."
			if has {
				section += unquoted(strings.TrimSpace(sub)) + "."
			}
		}
		if line == "" || strings.ContainsAny(line[:1], "#;[") {
			continue
		}
		key, value, has := strings.Cut(line, "=")
		if value = unquoted(strings.TrimSpace(value)); !has {
			value = "true"
		}
		out = append(out, Line{section + strings.ToLower(strings.TrimSpace(key)), value, at})
	}
	return out
}

// headEnd finds where a section's head ends: a bracket outside of quotes.
func headEnd(s string) int {
	inside := false
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			inside = !inside
		case ']':
			if !inside {
				return i
			}
		}
	}
	return -1
}

// unquoted takes quotes and escapes off a value, and a comment behind it.
func unquoted(s string) string {
	var b strings.Builder
	inside := false
	end := 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c == '\\' && i+1 < len(s):
			i++
			switch s[i] {
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			default:
				b.WriteByte(s[i])
			}
		case c == '"':
			inside = !inside
		case (c == '#' || c == ';') && !inside:
			return b.String()[:end]
		default:
			b.WriteByte(c)
		}
		if inside || c != ' ' && c != '\t' {
			end = b.Len()
		}
	}
	return b.String()[:end]
}
