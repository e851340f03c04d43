package survey

import (
	"cmp"
	"path"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/kinds"
)

// Group is a part of what would go up, to be chosen as a whole: a folder or file at the
// top, or the files of one ending.
type Group struct {
	Name string // as it is shown
	Rule string // what leaves it out: an ignore rule's pattern
	Totals
}

// mostEndings is how many endings are offered.
const mostEndings = 12

// Groups parts what would go up by folder, then by ending, the heaviest first.
func (s *Sorted) Groups() []Group {
	folders, endings := map[string]*Group{}, map[string]*Group{}
	add := func(to map[string]*Group, name, rule string, size int64) {
		if to[name] == nil {
			to[name] = &Group{Name: name, Rule: rule}
		}
		to[name].add(size)
	}
	for i, f := range s.Files {
		if s.Class[i] != Work {
			continue
		}
		first, _, deeper := strings.Cut(f.Path, "/")
		if deeper {
			add(folders, first+"/", "/"+kinds.Escape(first)+"/", f.Size)
		} else {
			add(folders, first, "/"+kinds.Escape(first), f.Size)
		}
		if e := path.Ext(f.Path); e != "" && e != path.Base(f.Path) {
			add(endings, "*"+e, "*"+kinds.Escape(e), f.Size)
		}
	}
	sorted := func(all map[string]*Group) []Group {
		var out []Group
		for _, g := range all {
			out = append(out, *g)
		}
		slices.SortFunc(out, func(a, b Group) int { return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Name, b.Name)) })
		return out
	}
	byEnding := sorted(endings)
	return append(sorted(folders), byEnding[:min(len(byEnding), mostEndings)]...)
}

// Numbers reads a choice of numbers from 1 to most, such as "2 4-6,9"; false where it is
// none.
func Numbers(s string, most int) ([]int, bool) {
	var out []int
	for _, word := range strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == ',' || r == '\t' }) {
		from, to, isRange := strings.Cut(word, "-")
		a, err := strconv.Atoi(from)
		b := a
		if isRange && err == nil {
			b, err = strconv.Atoi(to)
		}
		if err != nil || a < 1 || b < a || b > most {
			return nil, false
		}
		for n := a; n <= b; n++ {
			if !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	return out, true
}
