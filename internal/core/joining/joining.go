// Package joining decides what becomes of two sides of a project that meet: the files
// here and the files there. Nothing is ever lost by being absent on one side.
package joining

import (
	"path"
	"slices"
	"strconv"
	"strings"
)

// Entry is one file of a tree (git-ls-tree documentation).
type Entry struct {
	Mode string `json:"mode"`
	ID   string `json:"id"` // of the contents
	Path string `json:"path"`
}

// Clash is a path at which both sides hold something else.
type Clash struct {
	Path   string
	Mine   Entry // an empty ID: it was taken away here
	Theirs Entry // an empty ID: it was taken away there
}

// The ways to decide a clash.
const (
	Mine   = "mine"
	Theirs = "theirs"
	Both   = "both"
)

// Ways are all of them.
var Ways = []string{Mine, Theirs, Both}

// Unioned is the union of two trees without a common history.
type Unioned struct {
	Added   []Entry // only there
	Same    int     // alike on both sides
	Clashes []Clash
	Blocked []string // a file on one side where the other has a folder
}

// Union puts two trees together. Both lists are sorted by path.
func Union(mine, theirs []Entry) Unioned {
	var u Unioned
	here := make(map[string]Entry, len(mine))
	folders := map[string]bool{}
	for _, e := range mine {
		here[e.Path] = e
		for i := range e.Path {
			if e.Path[i] == '/' {
				folders[e.Path[:i]] = true
			}
		}
	}
	for _, t := range theirs {
		m, both := here[t.Path]
		switch {
		case both && m.ID == t.ID && m.Mode == t.Mode:
			u.Same++
		case both:
			u.Clashes = append(u.Clashes, Clash{t.Path, m, t})
		case folders[t.Path] || under(t.Path, here):
			u.Blocked = append(u.Blocked, t.Path)
		default:
			u.Added = append(u.Added, t)
		}
	}
	return u
}

// under reports whether a file is here where a folder of p must be.
func under(p string, here map[string]Entry) bool {
	for i := range p {
		if p[i] == '/' {
			if _, file := here[p[:i]]; file {
				return true
			}
		}
	}
	return false
}

// Rules joins two ignore files: mine as it is, and those rules of theirs that it
// lacks, in their order and with the comments right above them, after a line that says
// whose they are.
func Rules(mine, theirs, whose string) string {
	stands := map[string]bool{}
	for line := range strings.SplitSeq(mine, "\n") {
		stands[strings.TrimRight(line, " \r")] = true
	}
	var add []string
	var comments []string
	for line := range strings.SplitSeq(theirs, "\n") {
		line = strings.TrimSuffix(line, "\r")
		switch {
		case strings.TrimSpace(line) == "":
			comments = nil
		case strings.HasPrefix(line, "#"):
			comments = append(comments, line)
		case !stands[strings.TrimRight(line, " ")]:
			add = append(append(add, comments...), line)
			comments = nil
			stands[strings.TrimRight(line, " ")] = true
		default:
			comments = nil
		}
	}
	if len(add) == 0 {
		return mine
	}
	eol := "\n"
	if strings.Count(mine, "\r\n")*2 > strings.Count(mine, "\n") {
		eol = "\r\n"
	}
	if mine != "" && !strings.HasSuffix(mine, "\n") {
		mine += eol
	}
	if mine != "" {
		mine += eol
	}
	return mine + "# these rules came from " + whose + eol + strings.Join(add, eol) + eol
}

// Beside is the name of what is put beside a file: "plan.from-launch.dwg", by the machine that it
// is from. taken tells names that are in use.
func Beside(p, machine string, taken func(string) bool) string {
	dir, base := path.Split(p)
	ending := path.Ext(base)
	if ending == base {
		ending = "" // a name that only begins with a dot
	}
	stem := strings.TrimSuffix(base, ending)
	machine = strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|. `, r) || r < ' ' {
			return '-'
		}
		return r
	}, machine)
	for n := 1; ; n++ {
		more := ""
		if n > 1 {
			more = "-" + strconv.Itoa(n)
		}
		name := dir + stem + ".from-" + machine + more + ending
		if !taken(name) {
			return name
		}
	}
}

// TakesTheirs reports whether the other side's file keeps the name: where theirs was chosen, and
// where both are kept and they have one.
func TakesTheirs(way string, theirs Entry) bool {
	return way == Theirs || way == Both && theirs.ID != ""
}

// Valid reports whether a word is a way to decide.
func Valid(way string) bool { return slices.Contains(Ways, way) }
