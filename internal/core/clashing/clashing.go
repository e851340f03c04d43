// Package clashing tells where two sides of a history cannot both be had, and what becomes of a
// decision. Git says which paths clash with one another; here they are put together with what
// was renamed, and with what stands in one another's way, so that each clash can be decided by
// itself: at its paths, the files are then as one side has them. Values in, values out.
package clashing

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/joining"
	"uncinate/internal/core/naming"
)

// Entry is one file of a tree (git-ls-tree documentation).
type Entry = joining.Entry

// The modes of what is not an ordinary file (git's documentation of its index format).
const (
	link      = "120000"
	submodule = "160000"
)

// Tree is the files of a commit, by path.
type Tree map[string]Entry

// Met is what is known of two commits that meet.
type Met struct {
	Base, Mine, Theirs Tree
	Merged             Tree        // git's, with what clashes in some form
	Told               [][]string  // paths that clash with one another, as git tells
	Renames            [][2]string // from and to, of either side
	Folds              bool        // names that differ in case alone cannot be side by side
}

// Kind is what sort of clash it is.
type Kind string

// The kinds.
const (
	Changed       Kind = "both changed"
	Added         Kind = "both added"
	DeletedHere   Kind = "deleted here"
	DeletedThere  Kind = "deleted there"
	Folder        Kind = "file against folder"
	RenamedTwice  Kind = "renamed twice"
	OneName       Kind = "renamed to one name"
	RenamedHere   Kind = "renamed here"
	RenamedThere  Kind = "renamed there"
	Mode          Kind = "mode"
	Type          Kind = "link or file"
	SubmoduleMove Kind = "submodule"
	Case          Kind = "upper and lower case"
)

// Clash is one clash: paths at which only one side can be had.
type Clash struct {
	Kind   Kind
	At     string   // the path that it is called by
	Paths  []string // all that it is about, sorted
	Base   []Entry  // what each has at them, sorted by path
	Mine   []Entry
	Theirs []Entry
	made   []string // names that git made up for it
}

// group puts paths together that belong to one clash.
type group map[string]string

func (g group) root(p string) string {
	for g[p] != p {
		g[p] = g[g[p]]
		p = g[p]
	}
	return p
}

// join puts two together, and reports whether one was not known before.
func (g group) join(a, b string) (fresh bool) {
	for _, p := range []string{a, b} {
		if _, known := g[p]; !known {
			g[p], fresh = p, true
		}
	}
	g[g.root(a)] = g.root(b)
	return fresh
}

// Find gives the clashes, by the path that each is called by. An error says that git tells of one
// that cannot be understood.
func Find(m Met) ([]Clash, error) {
	g := group{}
	for _, told := range m.Told {
		for _, p := range told {
			g.join(told[0], p)
		}
	}
	if m.Folds {
		m.foldings(g)
	}
	m.widen(g)
	sets := map[string][]string{}
	for _, p := range slices.Sorted(maps.Keys(g)) {
		sets[g.root(p)] = append(sets[g.root(p)], p)
	}
	var out []Clash
	for _, root := range slices.Sorted(maps.Keys(sets)) {
		c := m.clash(sets[root])
		if len(c.Paths) == 0 {
			return nil, fmt.Errorf("git tells of a clash at %q, where neither side has a file", sets[root])
		}
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b Clash) int { return strings.Compare(a.At, b.At) })
	return out, nil
}

// foldings adds names of both sides that a folder cannot keep apart. Two that one side has
// already are its own.
func (m Met) foldings(g group) {
	var paths []string
	for p := range m.Merged {
		if m.has(p) {
			paths = append(paths, p)
		}
	}
	for p, other := range naming.Alike(paths) {
		own := func(t Tree) bool { return t[p].ID != "" && t[other].ID != "" }
		if !own(m.Mine) && !own(m.Theirs) {
			g.join(p, other)
		}
	}
}

// has reports whether a path is a file of one of the two sides.
func (m Met) has(p string) bool { return m.Mine[p].ID != "" || m.Theirs[p].ID != "" }

// widen adds what was renamed from or to a path of a clash, and what is a file on one side where
// the other has a folder, until no more is found.
func (m Met) widen(g group) {
	partners := map[string][]string{}
	for _, r := range m.Renames {
		partners[r[0]], partners[r[1]] = append(partners[r[0]], r[1]), append(partners[r[1]], r[0])
	}
	known := map[string]bool{}
	for _, t := range []Tree{m.Mine, m.Theirs} {
		for p := range t {
			known[p] = true
		}
	}
	sorted := slices.Sorted(maps.Keys(known))
	work := slices.Sorted(maps.Keys(g))
	for len(work) > 0 {
		p := work[0]
		work = work[1:]
		add := func(other string) {
			if g.join(p, other) {
				work = append(work, other)
			}
		}
		for _, other := range partners[p] {
			add(other)
		}
		if !m.has(p) {
			continue
		}
		at, _ := slices.BinarySearch(sorted, p+"/")
		for ; at < len(sorted) && strings.HasPrefix(sorted[at], p+"/"); at++ {
			add(sorted[at])
		}
		for i, c := range p {
			if c == '/' && m.has(p[:i]) {
				add(p[:i])
			}
		}
	}
}

// clash makes one of the paths that belong together.
func (m Met) clash(paths []string) Clash {
	c := Clash{}
	for _, p := range paths {
		if !m.has(p) && m.Base[p].ID == "" {
			c.made = append(c.made, p)
			continue
		}
		c.Paths = append(c.Paths, p)
		for _, side := range []struct {
			from Tree
			to   *[]Entry
		}{{m.Base, &c.Base}, {m.Mine, &c.Mine}, {m.Theirs, &c.Theirs}} {
			if e, has := side.from[p]; has {
				*side.to = append(*side.to, e)
			}
		}
	}
	c.At = c.name(m.Merged)
	c.Kind = c.kind()
	return c
}

// name is the path that both sides have, or that git gave it: theirs before ours.
func (c Clash) name(merged Tree) string {
	var both, kept, own string
	for _, p := range c.Paths {
		mine, theirs := at(c.Mine, p).ID != "", at(c.Theirs, p).ID != ""
		switch {
		case mine && theirs:
			both = cmp.Or(both, p)
		case theirs && merged[p].ID != "":
			kept = cmp.Or(kept, p)
		case mine && merged[p].ID != "":
			own = cmp.Or(own, p)
		}
	}
	name := cmp.Or(both, kept, own)
	for _, side := range [][]Entry{c.Theirs, c.Mine} {
		if len(side) > 0 {
			name = cmp.Or(name, side[0].Path)
		}
	}
	for _, p := range c.Paths { // a file that stands against a folder gives its name
		if strings.HasPrefix(name, p+"/") && (at(c.Mine, p).ID != "" || at(c.Theirs, p).ID != "") {
			return p
		}
	}
	return cmp.Or(name, append(c.Paths, "")[0])
}

// at gives the entry of a path; of one that is not there, an empty one.
func at(all []Entry, p string) Entry {
	i := slices.IndexFunc(all, func(e Entry) bool { return e.Path == p })
	if i < 0 {
		return Entry{}
	}
	return all[i]
}

func (c Clash) kind() Kind {
	for _, e := range slices.Concat(c.Mine, c.Theirs) {
		if e.Mode == submodule {
			return SubmoduleMove
		}
	}
	for _, a := range c.Mine {
		for _, b := range c.Theirs {
			if strings.HasPrefix(a.Path, b.Path+"/") || strings.HasPrefix(b.Path, a.Path+"/") {
				return Folder
			}
		}
	}
	for _, a := range c.Mine {
		for _, b := range c.Theirs {
			if a.Path != b.Path && naming.Fold(a.Path) == naming.Fold(b.Path) && at(c.Base, a.Path).ID == "" && at(c.Base, b.Path).ID == "" {
				return Case
			}
		}
	}
	if len(c.Paths) == 1 {
		return single(at(c.Base, c.At), at(c.Mine, c.At), at(c.Theirs, c.At))
	}
	return c.renamed()
}

// single is the kind of a clash at one path.
func single(base, mine, theirs Entry) Kind {
	switch {
	case mine.ID == "":
		return DeletedHere
	case theirs.ID == "":
		return DeletedThere
	case (mine.Mode == link) != (theirs.Mode == link):
		return Type
	case mine.ID == theirs.ID:
		return Mode
	case base.ID == "":
		return Added
	}
	return Changed
}

// renamed is the kind of a clash in which something was renamed.
func (c Clash) renamed() Kind {
	fresh := func(side []Entry) []Entry {
		return slices.DeleteFunc(slices.Clone(side), func(e Entry) bool { return at(c.Base, e.Path).ID != "" })
	}
	mine, theirs := fresh(c.Mine), fresh(c.Theirs)
	switch {
	case len(mine) > 0 && len(theirs) > 0 && at(theirs, mine[0].Path).ID != "":
		return OneName
	case len(mine) > 0 && len(theirs) > 0:
		return RenamedTwice
	case len(mine) > 0:
		return RenamedHere
	case len(theirs) > 0:
		return RenamedThere
	}
	return Changed
}

// Key knows a clash again: it is the same as long as its kind is, and path, mode and contents of
// each side and of the base.
func (c Clash) Key() string {
	sum := sha256.New()
	write := func(s string) { fmt.Fprintf(sum, "%d:%s", len(s), s) }
	write(string(c.Kind))
	for _, side := range [][]Entry{c.Base, c.Mine, c.Theirs} {
		fmt.Fprintf(sum, "[%d]", len(side))
		for _, e := range side {
			write(e.Mode)
			write(e.ID)
			write(e.Path)
		}
	}
	return hex.EncodeToString(sum.Sum(nil))[:32]
}
