package kinds

import (
	"maps"
	"path"
	"slices"
	"strings"
)

// Found is a kind that a project is made of, and the folders at which it begins.
type Found struct {
	Kind  *Kind
	Roots []string // from the project's top; "" for the top itself
}

// Suggestion is what the kinds say about a list of files.
type Suggestion struct {
	Kinds []Found
	Rules []Rule
	Taken []int  // for each file the rule that takes it, by its place in Rules; -1 for none
	Ahead []Rule // for what is not there yet, and the next build makes
}

// suggester looks at one list of files.
type suggester struct {
	files   []string
	folders map[string]*folder
	byName  map[string][]*folder // by a folder's own name
	bases   map[string][]int     // by a file's name
	endings map[string][]int     // by a file's ending
	names   []string             // every file's name, by its place
	every   []int                // every place
	look    Look
	out     Suggestion

	everyName map[string][]int // every file's places by its name; made when it is asked for
}

type folder struct {
	path  string
	files []int // all below, in order
	taken bool
}

// Suggest says what the files are, of which the paths are from the project's top, with
// slashes, and sorted. caches are folders that say of themselves that they are caches.
//
// A kind begins at each folder that holds one of its markers. Its rules for folders
// take those of their name at or below that folder which pass their guard; rules with a
// slash inside count from that very folder; rules for files take those that no folder
// rule took. What comes out hits exactly these files, as git reads the rules.
func Suggest(kinds []Kind, files, caches []string, look Look) Suggestion {
	s := &suggester{look: look, files: files, folders: map[string]*folder{}, byName: map[string][]*folder{}, bases: map[string][]int{}, endings: map[string][]int{}, names: make([]string, len(files))}
	s.out.Taken = make([]int, len(files))
	wanted, wantedEndings := wants(kinds)
	last, above := "", []*folder(nil) // the folders of the file before
	for i, f := range files {
		s.out.Taken[i] = -1
		base := f[strings.LastIndexByte(f, '/')+1:]
		s.names[i] = base
		if wanted[base] {
			s.bases[base] = append(s.bases[base], i)
		}
		if e := path.Ext(base); e != "" && wantedEndings[e] {
			s.endings[e] = append(s.endings[e], i)
		}
		if dir := f[:len(f)-len(base)]; dir != last {
			last, above = dir, above[:0]
			for j := range len(dir) {
				if dir[j] == '/' {
					above = append(above, s.folder(dir[:j]))
				}
			}
		}
		for _, at := range above {
			at.files = append(at.files, i)
		}
	}
	for _, c := range caches {
		if f := s.folders[c]; f != nil && !f.taken {
			s.take(f, Rule{Pattern: "/" + Escape(c) + "/", Why: "a cache, as it says itself"})
		}
	}
	for i := range kinds {
		if roots := s.roots(&kinds[i]); len(roots) > 0 {
			s.out.Kinds = append(s.out.Kinds, Found{&kinds[i], roots})
		}
	}
	s.takeFolders()
	for _, k := range s.out.Kinds {
		for _, r := range k.Kind.Rules {
			if !strings.HasSuffix(r.Pattern, "/") {
				s.takeFiles(r, k.Roots, k.Kind.anywhere())
			}
		}
	}
	s.takeDeclared()
	s.takePrograms()
	s.dropEmpty()
	s.out.Ahead = s.ahead()
	return s.out
}

// wants collects the names and endings that any kind asks for, so that only those
// are kept.
func wants(kinds []Kind) (names, endings map[string]bool) {
	names, endings = map[string]bool{}, map[string]bool{}
	for _, n := range descriptions {
		names[n] = true
	}
	for _, k := range kinds {
		all := slices.Clone(k.Markers)
		for _, r := range k.Rules {
			all = append(all, r.Pattern, r.Holding)
		}
		for _, p := range all {
			names[path.Base(p)] = true
			endings[path.Ext(p)] = true
		}
	}
	return names, endings
}

func (s *suggester) folder(p string) *folder {
	f := s.folders[p]
	if f == nil {
		f = &folder{path: p}
		s.folders[p] = f
		name := path.Base(p)
		s.byName[name] = append(s.byName[name], f)
	}
	return f
}

// hits gives the files whose name matches a pattern, in order.
func (s *suggester) hits(pattern string) []int {
	base := path.Base(pattern)
	if !strings.ContainsAny(base, `*?[`) {
		return s.bases[base]
	}
	from := s.endings[path.Ext(base)]
	if strings.ContainsAny(path.Ext(base), `*?[`) || path.Ext(base) == "" || strings.HasSuffix(base, "*") {
		from = s.all()
	}
	head := base[:strings.IndexAny(base, `*?[`)]
	tail := base[strings.LastIndexAny(base, `*?]`)+1:]
	middle := "" // of a pattern with two stars
	if p := strings.Split(base, "*"); len(p) == 3 && !strings.ContainsAny(base, "?[") {
		middle = p[1]
	}
	var out []int
	for _, i := range from {
		n := s.names[i]
		if !strings.HasPrefix(n, head) || !strings.HasSuffix(n, tail) || !strings.Contains(n, middle) {
			continue
		}
		if ok, _ := path.Match(base, n); ok {
			out = append(out, i)
		}
	}
	return out
}

// all gives the places of all files.
func (s *suggester) all() []int {
	if s.every == nil {
		s.every = make([]int, len(s.files))
		for i := range s.every {
			s.every[i] = i
		}
	}
	return s.every
}

// roots gives the folders at which a kind begins, sorted.
func (s *suggester) roots(k *Kind) []string {
	roots := map[string]bool{}
	for _, m := range k.Markers {
		if m == "*" {
			roots[""] = true
			continue
		}
		dir := path.Dir(m)
		hits := s.hits(m)
		if k.Spread && len(hits) > 0 {
			return []string{""}
		}
		for _, i := range hits {
			at := parent(s.files[i])
			if dir != "." {
				if at != dir && !strings.HasSuffix(at, "/"+dir) {
					continue
				}
				at = strings.TrimSuffix(strings.TrimSuffix(at, dir), "/")
			}
			roots[at] = true
		}
	}
	return slices.Sorted(maps.Keys(roots))
}

func parent(p string) string {
	if i := strings.LastIndexByte(p, '/'); i >= 0 {
		return p[:i]
	}
	return ""
}

// below reports whether a path is in one of the folders, at any depth.
func below(p string, roots []string) bool {
	return slices.ContainsFunc(roots, func(r string) bool { return r == "" || strings.HasPrefix(p, r+"/") })
}

// rootOf gives the nearest of the roots that a path is below.
func rootOf(p string, roots []string) string {
	best := ""
	for _, r := range roots {
		if len(r) > len(best) && strings.HasPrefix(p, r+"/") {
			best = r
		}
	}
	return best
}

// candidate is a folder that a rule may take.
type candidate struct {
	*folder
	kind, rule int
}

// takeFolders lets the rules take folders, outer ones first: what is in a folder that
// is left out is left out with it.
func (s *suggester) takeFolders() {
	var all []candidate
	for k, of := range s.out.Kinds {
		for n, r := range of.Kind.Rules {
			if !strings.HasSuffix(r.Pattern, "/") {
				continue
			}
			for _, f := range s.named(r, of.Roots, of.Kind.anywhere()) {
				if below(f.path, of.Roots) && (len(r.Holds) == 0 || s.mostly(f, r.Holds)) && (!r.Sources || s.hasSources(f, rootOf(f.path, of.Roots))) {
					all = append(all, candidate{f, k, n})
				}
			}
		}
	}
	slices.SortStableFunc(all, func(a, b candidate) int { return strings.Compare(a.path, b.path) })
	taken := map[[2]int][]*folder{}
	for _, c := range all {
		if !c.taken && !s.inTaken(c.path) {
			c.taken = true
			taken[[2]int{c.kind, c.rule}] = append(taken[[2]int{c.kind, c.rule}], c.folder)
		}
	}
	for k := range s.out.Kinds {
		of := &s.out.Kinds[k]
		for n, r := range of.Kind.Rules {
			mine := taken[[2]int{k, n}]
			// The rule as it is, if it hits nothing else.
			bare := len(r.Holds) == 0 && r.Holding == "" && !strings.Contains(strings.TrimSuffix(r.Pattern, "/"), "/")
			for _, f := range s.named(r, of.Roots, of.Kind.anywhere()) {
				bare = bare && (s.inTaken(f.path) || slices.Contains(mine, f))
			}
			for _, f := range mine {
				as := r
				if !bare {
					as.Pattern = "/" + Escape(f.path) + "/"
				}
				s.take(f, as)
			}
		}
		of.Roots = slices.DeleteFunc(of.Roots, func(r string) bool { return r != "" && (s.folders[r].taken || s.inTaken(r)) })
	}
	s.out.Kinds = slices.DeleteFunc(s.out.Kinds, func(f Found) bool { return len(f.Roots) == 0 })
}

// named gives the folders that a folder rule's name means, whatever they hold.
func (s *suggester) named(r Rule, roots []string, anywhere bool) []*folder {
	var found []*folder
	name := strings.TrimSuffix(r.Pattern, "/")
	switch {
	case r.Holding != "":
		for _, i := range s.hits(r.Holding) {
			if f := s.folders[parent(s.files[i])]; f != nil {
				found = append(found, f)
			}
		}
	case strings.Contains(name, "/") && anywhere:
		for _, f := range s.byName[path.Base(name)] {
			if f.path == name || strings.HasSuffix(f.path, "/"+name) {
				found = append(found, f)
			}
		}
	case strings.Contains(name, "/"):
		for _, root := range roots {
			if f := s.folders[strings.TrimPrefix(root+"/"+strings.TrimPrefix(name, "/"), "/")]; f != nil {
				found = append(found, f)
			}
		}
	case strings.ContainsAny(name, `*?[`):
		for n, all := range s.byName {
			if ok, _ := path.Match(name, n); ok {
				found = append(found, all...)
			}
		}
	default:
		found = s.byName[name]
	}
	return found
}

func (s *suggester) inTaken(p string) bool {
	for at := parent(p); at != ""; at = parent(at) {
		if s.folders[at].taken {
			return true
		}
	}
	return false
}

// take lets a rule take all files of a folder that none has taken yet.
func (s *suggester) take(f *folder, r Rule) {
	f.taken = true
	n := s.rule(r)
	for _, i := range f.files {
		if s.out.Taken[i] < 0 {
			s.out.Taken[i] = n
		}
	}
}

// rule gives a rule's place in the list, where it is put if it is new.
func (s *suggester) rule(r Rule) int {
	if i := slices.IndexFunc(s.out.Rules, func(x Rule) bool { return x.Pattern == r.Pattern }); i >= 0 {
		return i
	}
	s.out.Rules = append(s.out.Rules, r)
	return len(s.out.Rules) - 1
}

// dropEmpty takes rules away that took nothing in the end.
func (s *suggester) dropEmpty() {
	used := make([]bool, len(s.out.Rules))
	for _, n := range s.out.Taken {
		if n >= 0 {
			used[n] = true
		}
	}
	place := make([]int, len(used))
	var kept []Rule
	for n, r := range s.out.Rules {
		place[n] = len(kept)
		if used[n] {
			kept = append(kept, r)
		}
	}
	for i, n := range s.out.Taken {
		if n >= 0 {
			s.out.Taken[i] = place[n]
		}
	}
	s.out.Rules = kept
}

func (s *suggester) takeFiles(r Rule, roots []string, anywhere bool) {
	inPlace := strings.Contains(r.Pattern, "/") // from the kind's folder
	var take []int
	others, lone := false, false // a file of such a name that is not to be taken; one without a source
	for _, i := range s.hits(r.Pattern) {
		p := s.files[i]
		switch {
		case s.out.Taken[i] >= 0:
		case inPlace && anywhere && !strings.HasSuffix("/"+p, "/"+r.Pattern):
		case inPlace && !anywhere && !slices.ContainsFunc(roots, func(root string) bool {
			return p == strings.TrimPrefix(root+"/"+strings.TrimPrefix(r.Pattern, "/"), "/")
		}):
		case inPlace:
			take = append(take, i)
		case !below(p, roots):
			others = true
		case !s.made(r, s.names[i]) || !s.fits(r, i) || r.Beside && len(s.places(strings.TrimSuffix(p, path.Ext(p)))) == 0:
			others, lone = true, true // one that nothing makes may be work
		default:
			take = append(take, i)
		}
	}
	for _, i := range take {
		as := r
		switch {
		case inPlace || lone || r.Beside:
			as.Pattern = "/" + Escape(s.files[i])
		case others:
			for _, root := range roots {
				if root != "" && strings.HasPrefix(s.files[i], root+"/") {
					as.Pattern = "/" + Escape(root) + "/**/" + r.Pattern
					break
				}
			}
		}
		s.out.Taken[i] = s.rule(as)
	}
}

// made reports whether a file that a rule would take has a source it is made from. A
// class inside another has its source under the outer one's name.
func (s *suggester) made(r Rule, name string) bool {
	if len(r.From) == 0 {
		return true
	}
	stem, _, _ := strings.Cut(strings.TrimSuffix(name, path.Ext(name)), "$")
	return slices.ContainsFunc(r.From, func(ending string) bool { return len(s.placesByName()[stem+ending]) > 0 })
}
