// Package difference reads differences in the unified form (git-diff documentation,
// "Generating patch text with -p"; POSIX diff, "Diff -u Output Format") and finds the
// words that differ within lines.
package difference

import (
	"strconv"
	"strings"
	"unicode"
)

// File is what differs in one file.
type File struct {
	Path    string `json:"path"`
	From    string `json:"from,omitempty" says:"the path it had before"`
	Kind    string `json:"kind" says:"new, changed, deleted or renamed"`
	Binary  bool   `json:"binary,omitempty"`
	Mode    string `json:"mode,omitempty" says:"what became of its mode, such as 100644 to 100755"`
	Added   int    `json:"added" says:"lines"`
	Removed int    `json:"removed" says:"lines"`
	Hunks   []Hunk `json:"hunks,omitempty"`
}

// Hunk is one place where a file differs.
type Hunk struct {
	Head  string `json:"head" says:"where it is: @@ -line,lines +line,lines @@ and what it is in"`
	Lines []Line `json:"lines"`
}

// Line is one line of a hunk.
type Line struct {
	Kind string `json:"kind" says:"same, added, removed or note"`
	Text string `json:"text"`
	Mark []Span `json:"mark,omitempty" says:"the bytes of it that differ from its counterpart"`
}

// Span is a part of a line, in bytes.
type Span struct {
	From int `json:"from"`
	To   int `json:"to"`
}

// Parse reads a whole text of differences, as git diff writes it with its usual prefixes.
func Parse(s string) []File {
	var out []File
	var f *File
	var h *Hunk
	old, fresh := 0, 0 // lines that the hunk still has on each side
	for line := range strings.Lines(s) {
		line = strings.TrimSuffix(line, "\n")
		if h != nil && (old > 0 || fresh > 0 || strings.HasPrefix(line, `\`)) {
			if line == "" {
				line = " "
			}
			l := Line{Kind: "same", Text: line[1:]}
			switch line[0] {
			case '+':
				l.Kind, fresh = "added", fresh-1
				f.Added++
			case '-':
				l.Kind, old = "removed", old-1
				f.Removed++
			case '\\':
				l.Kind = "note"
			default:
				old, fresh = old-1, fresh-1
			}
			h.Lines = append(h.Lines, l)
			continue
		}
		switch {
		case strings.HasPrefix(line, "diff --git "):
			out = append(out, File{Kind: "changed", Path: samePath(line[len("diff --git "):])})
			f, h = &out[len(out)-1], nil
		case f == nil:
		case strings.HasPrefix(line, "@@ "):
			old, fresh = counts(line)
			f.Hunks = append(f.Hunks, Hunk{Head: line})
			h = &f.Hunks[len(f.Hunks)-1]
		default:
			f.head(line)
		}
	}
	for i := range out {
		for k := range out[i].Hunks {
			out[i].Hunks[k].mark()
		}
	}
	return out
}

// head reads one of the lines between a file's first and its hunks.
func (f *File) head(line string) {
	word := func(prefix string) (string, bool) { return strings.CutPrefix(line, prefix) }
	if _, ok := word("new file mode "); ok {
		f.Kind = "new"
	} else if _, ok := word("deleted file mode "); ok {
		f.Kind = "deleted"
	} else if mode, ok := word("old mode "); ok {
		f.Mode = mode
	} else if mode, ok := word("new mode "); ok {
		f.Mode += " to " + mode
	} else if from, ok := word("rename from "); ok {
		f.Kind, f.From = "renamed", unquoted(from)
	} else if to, ok := word("rename to "); ok {
		f.Path = unquoted(to)
	} else if path, ok := word("+++ "); ok && path != "/dev/null" {
		f.Path = strings.TrimPrefix(unquoted(strings.TrimSuffix(path, "\t")), "b/")
	} else if path, ok := word("--- "); ok && path != "/dev/null" && f.Path == "" {
		f.Path = strings.TrimPrefix(unquoted(strings.TrimSuffix(path, "\t")), "a/")
	} else if strings.HasPrefix(line, "Binary files ") || line == "GIT binary patch" {
		f.Binary = true
	}
}

// samePath finds the path in a file's first line, where both sides have the same.
func samePath(s string) string {
	if strings.HasPrefix(s, `"`) {
		if i := strings.Index(s, `" "`); i > 0 {
			return strings.TrimPrefix(unquoted(s[:i+1]), "a/")
		}
		return ""
	}
	half := len(s) / 2
	if len(s)%2 == 1 && len(s) > 5 && s[half] == ' ' && s[2:half] == s[half+3:] {
		return s[2:half]
	}
	return ""
}

// unquoted reads a path that git wrote in quotes (git-config documentation, core.quotePath).
func unquoted(s string) string {
	if !strings.HasPrefix(s, `"`) {
		return s
	}
	if u, err := strconv.Unquote(s); err == nil {
		return u
	}
	return strings.Trim(s, `"`)
}

// counts reads how many lines a hunk has on each side.
func counts(head string) (old, fresh int) {
	fields := strings.Fields(head)
	if len(fields) < 3 {
		return 0, 0
	}
	one := func(s string) int {
		_, n, has := strings.Cut(s, ",")
		if !has {
			return 1
		}
		k, _ := strconv.Atoi(n)
		return max(k, 0)
	}
	return one(fields[1]), one(fields[2])
}

// mark finds, for lines that were replaced by as many, the words that differ.
func (h *Hunk) mark() {
	for i := 0; i < len(h.Lines); {
		run := func(sort string) (at []int) {
			for ; i < len(h.Lines) && (h.Lines[i].Kind == sort || h.Lines[i].Kind == "note"); i++ {
				if h.Lines[i].Kind == sort {
					at = append(at, i)
				}
			}
			return at
		}
		begin := i
		removed := run("removed")
		added := run("added")
		if len(removed) == len(added) {
			for k, r := range removed {
				x, y := &h.Lines[r], &h.Lines[added[k]]
				x.Mark, y.Mark = Words(x.Text, y.Text)
			}
		}
		if i == begin {
			i++
		}
	}
}

// mostWords is how many words of a line are compared.
const mostWords = 400

// Words finds what differs between two lines, by words; nothing where little is the same.
func Words(a, b string) (inA, inB []Span) {
	x, y := words(a), words(b)
	if len(x) > mostWords || len(y) > mostWords {
		return nil, nil
	}
	// length[i][k]: the longest common run of words of x[i:] and y[k:] (in their order)
	length := make([][]int16, len(x)+1)
	for i := range length {
		length[i] = make([]int16, len(y)+1)
	}
	for i := len(x) - 1; i >= 0; i-- {
		for k := len(y) - 1; k >= 0; k-- {
			if a[x[i].From:x[i].To] == b[y[k].From:y[k].To] {
				length[i][k] = length[i+1][k+1] + 1
			} else {
				length[i][k] = max(length[i+1][k], length[i][k+1])
			}
		}
	}
	same := 0
	i, k := 0, 0
	for i < len(x) && k < len(y) {
		switch {
		case a[x[i].From:x[i].To] == b[y[k].From:y[k].To]:
			same += len(strings.TrimSpace(a[x[i].From:x[i].To]))
			i, k = i+1, k+1
		case length[i+1][k] >= length[i][k+1]:
			inA = joined(inA, x[i])
			i++
		default:
			inB = joined(inB, y[k])
			k++
		}
	}
	for ; i < len(x); i++ {
		inA = joined(inA, x[i])
	}
	for ; k < len(y); k++ {
		inB = joined(inB, y[k])
	}
	if same*3 < max(len(strings.TrimSpace(a)), len(strings.TrimSpace(b))) {
		return nil, nil
	}
	return inA, inB
}

func joined(all []Span, s Span) []Span {
	if n := len(all) - 1; n >= 0 && all[n].To == s.From {
		all[n].To = s.To
		return all
	}
	return append(all, s)
}

// words parts a line into words, runs of blanks, and single signs.
func words(s string) []Span {
	var out []Span
	sort := func(r rune) int {
		switch {
		case unicode.IsLetter(r), unicode.IsDigit(r), r == '_':
			return 1
		case unicode.IsSpace(r):
			return 2
		}
		return 0
	}
	last := 0
	for i, r := range s {
		size := len(string(r))
		if r == unicode.ReplacementChar {
			size = 1
		}
		this := sort(r)
		if n := len(out) - 1; n >= 0 && this != 0 && this == last && out[n].To == i {
			out[n].To = i + size
		} else {
			out = append(out, Span{i, i + size})
		}
		last = this
	}
	return out
}
