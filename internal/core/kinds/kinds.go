// Package kinds knows what projects are made of and which of their files are
// plainly remakeable, and writes the first ignore rules from that.
package kinds

import (
	_ "embed"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

//go:embed kinds.toml
var catalogue []byte

// Kind is one thing a project can be made of.
type Kind struct {
	Name    string   `toml:"name"`
	Markers []string `toml:"markers"`
	Rules   []Rule   `toml:"rule"`
}

// Rule is one ignore rule (gitignore documentation, "PATTERN FORMAT") and its reason.
type Rule struct {
	Pattern string   `toml:"pattern"`
	Why     string   `toml:"why"`
	Holds   []string `toml:"holds"`
	From    []string `toml:"from"`
}

// Catalogue gives the kinds that ship with the program.
func Catalogue() ([]Kind, error) {
	var c struct {
		Kind []Kind `toml:"kind"`
	}
	err := toml.Unmarshal(catalogue, &c)
	return c.Kind, err
}

// The lines between which our ignore rules stand.
const (
	Opening = "# from here: uncinate"
	Closing = "# to here: uncinate"
)

// Suggest picks the rules that hit something among files: paths from the project's
// top, with slashes. A folder rule is picked for each folder of that name that passes
// its guard, as a rule for that very folder; a rule for files only if it hits one that
// no folder rule took.
func Suggest(catalogue []Kind, files []string) []Rule {
	names := map[string]bool{}
	byFolder := map[string][]string{} // folder's path → the files below it
	wanted := map[string]bool{}
	for _, k := range catalogue {
		for _, r := range k.Rules {
			if strings.HasSuffix(r.Pattern, "/") {
				wanted[strings.TrimSuffix(r.Pattern, "/")] = true
			}
		}
	}
	for _, f := range files {
		names[path.Base(f)] = true
		for i, c := range f {
			if c != '/' {
				continue
			}
			if folder := f[:i]; wanted[path.Base(folder)] {
				byFolder[folder] = append(byFolder[folder], f)
				break // what lies in a folder that is left out is left out with it
			}
		}
	}
	var rules []Rule
	taken := map[string]bool{} // files that a folder rule leaves out
	take := func(folder string, r Rule) {
		for _, f := range byFolder[folder] {
			taken[f] = true
		}
		rules = append(rules, r)
	}
	for _, k := range catalogue {
		if !k.applies(names) {
			continue
		}
		for _, r := range k.Rules {
			folder, isFolder := strings.CutSuffix(r.Pattern, "/")
			if !isFolder {
				continue
			}
			for _, found := range slices.Sorted(maps.Keys(byFolder)) {
				if path.Base(found) != folder {
					continue
				}
				if len(r.Holds) == 0 || mostly(byFolder[found], r.Holds) {
					take(found, Rule{Pattern: "/" + escape(found) + "/", Why: r.Why})
				}
			}
		}
	}
	left := map[string]bool{}
	for _, f := range files {
		if !taken[f] {
			left[path.Base(f)] = true
		}
	}
	for _, k := range catalogue {
		for _, r := range k.Rules {
			if k.applies(names) && !strings.HasSuffix(r.Pattern, "/") && anyMatch(r.Pattern, left) && r.allMade(left, names) {
				rules = append(rules, r)
			}
		}
	}
	return rules
}

func (k Kind) applies(names map[string]bool) bool {
	for _, m := range k.Markers {
		if m == "*" || anyMatch(m, names) {
			return true
		}
	}
	return false
}

// allMade reports whether every file that the rule hits has a source it is made from.
// A class inside another has its source under the outer one's name.
func (r Rule) allMade(hit, names map[string]bool) bool {
	if len(r.From) == 0 {
		return true
	}
	for n := range hit {
		if ok, _ := path.Match(r.Pattern, n); !ok {
			continue
		}
		stem, _, _ := strings.Cut(strings.TrimSuffix(n, path.Ext(n)), "$")
		if !slices.ContainsFunc(r.From, func(ending string) bool { return names[stem+ending] }) {
			return false
		}
	}
	return true
}

func anyMatch(pattern string, names map[string]bool) bool {
	if !strings.ContainsAny(pattern, "*?[") {
		return names[pattern]
	}
	for n := range names {
		if ok, _ := path.Match(pattern, n); ok {
			return true
		}
	}
	return false
}

func mostly(files, patterns []string) bool {
	hits := 0
	for _, f := range files {
		for _, p := range patterns {
			if ok, _ := path.Match(p, path.Base(f)); ok {
				hits++
				break
			}
		}
	}
	return hits*2 >= len(files)
}

// escape makes a path stand for itself in an ignore rule.
func escape(p string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(p)
}

// Unescape takes back what makes a path stand for itself in an ignore rule.
func Unescape(pattern string) string {
	var b strings.Builder
	for i := 0; i < len(pattern); i++ {
		if pattern[i] == '\\' && i+1 < len(pattern) {
			i++
		}
		b.WriteByte(pattern[i])
	}
	return b.String()
}

// Merge puts rules into an ignore file's contents: into our marked section, which is
// made at the end where there is none. Rules that stand anywhere are not repeated,
// and nothing that stands is changed. With nothing to add, the contents come back
// as they were.
func Merge(contents string, rules []Rule) string {
	stands := map[string]bool{}
	for line := range strings.SplitSeq(contents, "\n") {
		stands[strings.TrimSuffix(line, "\r")] = true
	}
	var add strings.Builder
	why := ""
	for _, r := range rules {
		if stands[r.Pattern] {
			continue
		}
		stands[r.Pattern] = true
		if r.Why != why {
			why = r.Why
			add.WriteString("# " + why + "\n")
		}
		add.WriteString(r.Pattern + "\n")
	}
	if add.Len() == 0 {
		return contents
	}
	if i := strings.Index(contents, "\n"+Closing); i >= 0 && strings.Contains(contents[:i+1], Opening) {
		return contents[:i+1] + add.String() + contents[i+1:]
	}
	if contents != "" && !strings.HasSuffix(contents, "\n") {
		contents += "\n"
	}
	if contents != "" {
		contents += "\n"
	}
	return contents + Opening + "\n" + add.String() + Closing + "\n"
}
