// Package ignore reads ignore rules and matches paths against them as git does
// (gitignore documentation, "PATTERN FORMAT"). It works on values alone: the contents
// of ignore files in, the rule that decides out.
package ignore

import (
	"path"
	"strings"
)

// Rule is one line of an ignore file.
type Rule struct {
	Pattern string // the line as it is, without trailing blanks
	Source  string // the file it is in, as the caller names it
	Line    int    // from 1
	Negated bool   // it takes back what an earlier rule leaves out
	Folders bool   // it hits folders only

	match    string // the pattern without "!", a leading and a trailing slash
	plain    int    // how much of match, from its start, holds no wildcard
	byName   bool   // it is matched against the last part of a path alone
	literal  bool   // it holds no wildcard
	endsWith bool   // "*" and then no wildcard
}

// List is the rules of one ignore file. They hold below Base, a path from the top with
// slashes; "" for the top itself.
type List struct {
	Base  string
	Rules []Rule
}

// MostLine is the longest line, in bytes, that is taken for a rule.
const MostLine = 4096

// Parse reads an ignore file's contents.
func Parse(contents, source, base string) *List {
	l := &List{Base: base}
	n := 0
	for line := range strings.SplitSeq(strings.TrimPrefix(contents, "\ufeff"), "\n") {
		n++
		if r, ok := ParseRule(strings.TrimSuffix(line, "\r")); ok {
			r.Source, r.Line = source, n
			l.Rules = append(l.Rules, r)
		}
	}
	return l
}

// ParseRule reads one line; false for an empty one, a comment and one that can match
// nothing.
func ParseRule(line string) (Rule, bool) {
	if line == "" || line[0] == '#' || len(line) > MostLine {
		return Rule{}, false
	}
	line = trimBlanks(line)
	r := Rule{Pattern: line}
	p := line
	if strings.HasPrefix(p, "!") {
		r.Negated, p = true, p[1:]
	}
	if strings.HasSuffix(p, "/") {
		r.Folders, p = true, p[:len(p)-1]
	}
	r.byName = !strings.Contains(p, "/")
	p = strings.TrimPrefix(p, "/")
	if p == "" {
		return Rule{}, false
	}
	r.match = p
	r.plain = strings.IndexAny(p, `*?[\`)
	r.literal = r.plain < 0
	r.endsWith = p[0] == '*' && !strings.ContainsAny(p[1:], `*?[\`) && r.byName
	return r, true
}

// trimBlanks takes trailing blanks away that no backslash keeps.
func trimBlanks(line string) string {
	end := len(line)
	last := -1 // where the trailing blanks begin
	for i := 0; i < end; i++ {
		switch line[i] {
		case ' ':
			if last < 0 {
				last = i
			}
		case '\\':
			i++
			last = -1
			if i >= end {
				return line
			}
		default:
			last = -1
		}
	}
	if last >= 0 {
		return line[:last]
	}
	return line
}

// hits reports whether the rule's pattern matches a path below the list's base.
func (r *Rule) hits(below, name string, isFolder bool) bool {
	if r.Folders && !isFolder {
		return false
	}
	if r.byName {
		switch {
		case r.literal:
			return name == r.match
		case r.endsWith:
			return strings.HasSuffix(name, r.match[1:])
		}
		return Wild(r.match, name)
	}
	if r.literal {
		return below == r.match
	}
	// git compares what is before the first wildcard by itself, and matches the rest
	// as if it was alone: in "a**/b" the stars so are at the start.
	return strings.HasPrefix(below, r.match[:r.plain]) && Wild(r.match[r.plain:], below[r.plain:])
}

// Last gives the last rule of the list that hits a path; nil when none does.
func (l *List) Last(p string, isFolder bool) *Rule {
	below := p
	if l.Base != "" {
		rest, ok := strings.CutPrefix(p, l.Base)
		if !ok || len(rest) < 2 || rest[0] != '/' {
			return nil
		}
		below = rest[1:]
	}
	name := path.Base(p)
	for i := len(l.Rules) - 1; i >= 0; i-- {
		if l.Rules[i].hits(below, name, isFolder) {
			return &l.Rules[i]
		}
	}
	return nil
}

// Decide gives the rule that decides about one path by itself, without the folders
// above it: of the last list that has a rule for it, the last such rule. Lists stand
// with the weightiest last: the person's own file, the repository's private one, then
// the ignore files from the top downwards. Nil when no rule says anything.
func Decide(lists []*List, p string, isFolder bool) *Rule {
	for i := len(lists) - 1; i >= 0; i-- {
		if r := lists[i].Last(p, isFolder); r != nil {
			return r
		}
	}
	return nil
}

// Explain gives the rule that leaves a path out, looking at the folders above it too:
// what is in a folder that is left out is left out with it, whatever a later rule
// says. at is the path that the rule hits. Where nothing leaves it out, a rule that
// takes it back is given, or nil.
func Explain(lists []*List, p string, isFolder bool) (r *Rule, at string) {
	for i := 0; i < len(p); i++ {
		if p[i] != '/' {
			continue
		}
		if r := Decide(lists, p[:i], true); r != nil && !r.Negated {
			return r, p[:i]
		}
	}
	return Decide(lists, p, isFolder), p
}
