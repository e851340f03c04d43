package join

import (
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/joining"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/worktree"
)

// TheirEntries are what the union takes from there: what is only there, and what was
// decided so.
func (j *Way) TheirEntries() []joining.Entry {
	out := slices.Clone(j.Added)
	for _, d := range j.Decided {
		if joining.TakesTheirs(d.Way, d.Theirs) {
			e := d.Theirs
			e.Path = d.Path
			out = append(out, e)
		}
	}
	return out
}

// Holds reports whether the host's side has a file at a path, or the person decided on it.
func (j *Way) Holds(path string) bool {
	return j != nil && (slices.ContainsFunc(j.TheirEntries(), func(e joining.Entry) bool { return e.Path == path }) ||
		slices.ContainsFunc(j.Decided, func(d worktree.Decided) bool { return d.Path == path }))
}

// Outcome says in a few words how the two sides become one.
func (j *Way) Outcome() string {
	var parts []string
	if len(j.Added) > 0 {
		parts = append(parts, fmt.Sprintf("%s only on the host %s added", text.Count(len(j.Added), "file"), text.Either(len(j.Added) == 1, "is", "are")))
	}
	if j.Rules != "" {
		parts = append(parts, "the ignore rules are put together")
	}
	for _, d := range j.Decided {
		switch d.Way {
		case joining.Mine:
			parts = append(parts, text.Visible(d.Path)+" stays yours")
		case joining.Theirs:
			parts = append(parts, text.Visible(d.Path)+" becomes theirs")
		default:
			parts = append(parts, text.Visible(d.Path)+" becomes theirs, with yours beside it")
		}
		if len(parts) > 6 {
			parts = append(parts, "and so on")
			break
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return ": " + strings.Join(parts, ", ")
}

// Lays reports whether files have to be written apart from git's own receiving.
func (j *Way) Lays() bool {
	return j.Mode == Onto && len(j.TheirEntries()) > 0 || slices.ContainsFunc(j.Decided, func(d worktree.Decided) bool { return d.Beside != "" })
}

// Result tells how two sides became one.
type Result struct {
	Commits int           `json:"commits" says:"how many were there"`
	Added   []string      `json:"added" says:"files that were only on the host"`
	Same    int           `json:"same" says:"files that were alike"`
	Rules   bool          `json:"rules" says:"the ignore rules of both sides were put together"`
	Decided []ResultClash `json:"decided"`
}

// ResultClash is a file that both sides held, and what became of it.
type ResultClash struct {
	Path   string `json:"path"`
	Way    string `json:"way" says:"mine, theirs or both"`
	Beside string `json:"beside,omitempty" says:"where yours is put, outside of what git tracks"`
}

// Told is the result as it is shown; nil where nothing is joined.
func (j *Way) Told() *Result {
	if j == nil {
		return nil
	}
	t := &Result{Commits: j.Commits, Added: []string{}, Same: j.Same, Rules: j.Rules != "", Decided: []ResultClash{}}
	for _, e := range j.Added {
		t.Added = append(t.Added, e.Path)
	}
	for _, d := range j.Decided {
		t.Decided = append(t.Decided, ResultClash{d.Path, d.Way, d.Beside})
	}
	return t
}
