// Package survey sorts a project's files into what would go up and what stays, and
// judges what should be seen to before anything is published. It is values in, values
// out: the walk and the reading are done elsewhere.
package survey

import (
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/ignore"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/secrets"
)

// Type is what an entry of a folder is.
type Type uint8

// The types of entries.
const (
	Regular Type = iota
	Link
	Special     // a device, socket or pipe: git does not track it
	Nested      // a folder with a repository of its own
	EmptyFolder // without any entry
	Unreadable  // a folder that cannot be listed
)

// File is a file, or a folder of a kind that matters.
type File struct {
	Path    string // from the top, with slashes
	Size    int64  // in bytes
	ModTime int64  // of the contents, in nanoseconds since 1970
	Changed int64  // of anything about it, likewise; 0 where it is not told
	Type    Type
	Exec    bool         // its owner may run it
	Tracked bool         // git has it already
	Target  string       // of a link
	Rule    *ignore.Rule // that leaves it out; nil for none
}

// Class is what becomes of a file.
type Class uint8

// The classes.
const (
	Work       Class = iota // it goes up
	Ignored                 // the person's own ignore rules leave it out
	Remakeable              // it can be made again
	Personal                // it is one person's or one machine's
	Uncarried               // git tracks nothing of the kind
	Unchosen                // the person chose others
)

func (c Class) String() string {
	return [...]string{"work", "ignored", "generated", "personal", "not carried", "not chosen"}[c]
}

// Sorted is a project's files in their classes.
type Sorted struct {
	Files  []File
	Class  []Class
	ByRule []int // for each file that a suggested rule takes, its place in Rules; else -1
	Rules  []kinds.Rule
	Ahead  []kinds.Rule // for what is not there yet, and the next build makes
	Kinds  []kinds.Found
	Sides  []string // files that must travel with another and would stay
}

// Choice is what a person wants of the files that could go up: paths, folders, or
// patterns as in ignore rules. Both empty means all.
type Choice struct{ Only, Except []string }

// Picker gives a test of whether a path is chosen.
func (c Choice) Picker() func(p string) bool {
	if len(c.Only)+len(c.Except) == 0 {
		return func(string) bool { return true }
	}
	only, except := Hits(c.Only), Hits(c.Except)
	return func(p string) bool { return (len(c.Only) == 0 || only(p)) && !except(p) }
}

// Hits gives a test of whether a path is one of some paths, is in one of them, or
// matches one that is a pattern as in ignore rules.
func Hits(rules []string) func(p string) bool {
	var lists [][]*ignore.List
	for _, r := range rules {
		if rule, ok := ignore.ParseRule(strings.TrimPrefix(r, "./")); ok {
			lists = append(lists, []*ignore.List{{Rules: []ignore.Rule{rule}}})
		}
	}
	return func(p string) bool {
		return slices.ContainsFunc(lists, func(l []*ignore.List) bool {
			r, _ := ignore.Explain(l, p, false)
			return r != nil && !r.Negated
		})
	}
}

// Named gives a test of whether a path is one of those that a person named, from the top: Hits, for
// paths that are no patterns only at their place.
func Named(paths []string) func(string) bool {
	rules := make([]string, len(paths))
	for i, p := range paths {
		rules[i] = "/" + strings.TrimPrefix(filepath.ToSlash(filepath.Clean(p)), "/")
		if p == "." {
			rules[i] = "*"
		}
	}
	return Hits(rules)
}

// Sort puts files, sorted by path, into their classes. caches are folders that say of
// themselves that they are caches. beyond tells more of the files, by their places.
func Sort(files []File, catalogue []kinds.Kind, caches []string, choice Choice, beyond kinds.Look) *Sorted {
	s := &Sorted{Files: files, Class: make([]Class, len(files)), ByRule: make([]int, len(files))}
	var paths []string
	var places []int
	picks := choice.Picker()
	for i, f := range files {
		s.ByRule[i] = -1
		switch {
		case f.Type > Link && !f.Tracked:
			s.Class[i] = Uncarried
		case f.Rule != nil && !f.Tracked:
			s.Class[i] = Ignored
		default:
			paths = append(paths, f.Path)
			places = append(places, i)
		}
	}
	found := kinds.Suggest(catalogue, paths, caches, at(beyond, places, files))
	s.Rules, s.Ahead, s.Kinds = found.Rules, found.Ahead, found.Kinds
	for n, r := range found.Taken {
		i := places[n]
		if r >= 0 {
			s.ByRule[i] = r
		}
		switch {
		case r >= 0 && !files[i].Tracked && s.Rules[r].Personal:
			s.Class[i] = Personal
		case r >= 0 && !files[i].Tracked:
			s.Class[i] = Remakeable
		case !files[i].Tracked && !picks(files[i].Path):
			s.Class[i] = Unchosen
		}
	}
	for _, k := range s.Kinds {
		for _, side := range k.Kind.Sides {
			s.sides(side, k.Roots)
		}
	}
	return s
}

// at makes a look at files one at those of some places.
func at(all kinds.Look, places []int, files []File) kinds.Look {
	look := kinds.Look{Name: all.Name, Tracked: func(i int) bool { return files[places[i]].Tracked }}
	if all.Begin != nil {
		look.Begin = func(i int) []byte { return all.Begin(places[i]) }
	}
	if all.Whole != nil {
		look.Whole = func(i int) []byte { return all.Whole(places[i]) }
	}
	return look
}

// sides finds side files that the person's rules leave out while their asset goes up.
func (s *Sorted) sides(side kinds.Side, roots []string) {
	ending, ok := strings.CutPrefix(side.Pattern, "*")
	if !ok {
		return
	}
	goes := map[string]bool{}
	for i, f := range s.Files {
		if s.Class[i] == Work {
			goes[f.Path] = true
		}
	}
	for i, f := range s.Files {
		asset, ok := strings.CutSuffix(f.Path, ending)
		if ok && s.Class[i] == Ignored && goes[asset] && slices.ContainsFunc(roots, func(r string) bool { return r == "" || strings.HasPrefix(f.Path, r+"/") }) {
			s.Sides = append(s.Sides, f.Path)
		}
	}
}

// Totals are numbers of files and bytes.
type Totals struct {
	Files int   `json:"files"`
	Bytes int64 `json:"bytes"`
}

func (t *Totals) add(size int64) { t.Files++; t.Bytes += size }

// Weight is how much of a folder goes up, and how much stays.
type Weight struct {
	Folder string `json:"folder" says:"from the project's top; . for the files at the top itself"`
	Up     Totals `json:"up"`
	Stays  Totals `json:"stays"`
	Why    string `json:"why,omitempty" says:"why most of what stays does"`
}

// Totals gives what goes up and what stays, in all.
func (s *Sorted) Totals() (up, stays Totals) {
	for i, f := range s.Files {
		switch s.Class[i] {
		case Work:
			up.add(f.Size)
		case Uncarried:
		default:
			stays.add(f.Size)
		}
	}
	return up, stays
}

// Why says why a file stays; "" for one that goes up.
func (s *Sorted) Why(i int) string {
	switch s.Class[i] {
	case Ignored:
		return "by your own ignore rules"
	case Remakeable, Personal:
		return s.Rules[s.ByRule[i]].Why
	case Unchosen:
		return "not chosen"
	}
	return ""
}

// Folders gives the project's folders, heaviest first, down to a depth of one or more.
func (s *Sorted) Folders(depth int) []Weight {
	byFolder := map[string]*Weight{}
	reasons := map[string]map[string]int{}
	var order []string
	for i, f := range s.Files {
		if s.Class[i] == Uncarried {
			continue
		}
		name := folderAt(f.Path, depth)
		w := byFolder[name]
		if w == nil {
			w = &Weight{Folder: name}
			byFolder[name] = w
			reasons[name] = map[string]int{}
			order = append(order, name)
		}
		if s.Class[i] == Work {
			w.Up.add(f.Size)
		} else {
			w.Stays.add(f.Size)
			reasons[name][s.Why(i)]++
		}
	}
	out := make([]Weight, len(order))
	for i, name := range order {
		most := 0
		for why, n := range reasons[name] {
			if n > most || n == most && why < byFolder[name].Why {
				most, byFolder[name].Why = n, why
			}
		}
		out[i] = *byFolder[name]
	}
	slices.SortStableFunc(out, func(a, b Weight) int {
		switch x, y := a.Up.Bytes+a.Stays.Bytes, b.Up.Bytes+b.Stays.Bytes; {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return 0
	})
	return out
}

func folderAt(p string, depth int) string {
	end := 0
	for i := 0; i < len(p) && depth > 0; i++ {
		if p[i] == '/' {
			end = i
			depth--
		}
	}
	if end == 0 {
		return "."
	}
	return p[:end]
}

// Read tells which files' contents are to be looked into: the ones that go up.
func (s *Sorted) Read() []int {
	var out []int
	for i, f := range s.Files {
		if s.Class[i] == Work && f.Type == Regular && f.Size > 0 {
			out = append(out, i)
		}
	}
	return out
}

// Looked is what looking into a file told.
type Looked struct {
	secrets.Content
	Failed string // why it could not be read; "" when it could
	Moving bool   // it changed while it was read
}
