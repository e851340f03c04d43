package kinds

import (
	"slices"
	"strings"
)

// ahead gives the rules of the project's kinds for what their first build will make: those that are marked
// so, where nothing of such a name is there yet that a rule could wrongly take.
func (s *suggester) ahead() []Rule {
	var out []Rule
	for _, k := range s.out.Kinds {
		for _, r := range k.Kind.Rules {
			if !r.Ahead {
				continue
			}
			name := strings.TrimSuffix(r.Pattern, "/")
			switch {
			case strings.Contains(name, "/"):
				for _, root := range k.Roots {
					p := strings.TrimPrefix(root+"/"+strings.TrimPrefix(name, "/"), "/")
					if as := r; s.folders[p] == nil && len(s.places(p)) == 0 {
						as.Pattern = "/" + Escape(p) + strings.TrimPrefix(r.Pattern, name)
						out = append(out, as)
					}
				}
			case strings.HasSuffix(r.Pattern, "/"):
				if !slices.ContainsFunc(s.byName[name], func(f *folder) bool { return !f.taken && !s.inTaken(f.path) }) {
					out = append(out, r)
				}
			case !s.goes(r.Pattern):
				out = append(out, r)
			}
		}
	}
	return slices.DeleteFunc(out, func(r Rule) bool {
		return slices.ContainsFunc(s.out.Rules, func(x Rule) bool { return x.Pattern == r.Pattern })
	})
}

// goes reports whether a file that no rule takes has a name like a pattern.
func (s *suggester) goes(pattern string) bool {
	return slices.ContainsFunc(s.hits(pattern), func(i int) bool { return s.out.Taken[i] < 0 })
}
