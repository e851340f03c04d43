package login

import (
	"context"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/text"
)

// Protection is what a host does not let happen to a branch. What it does not tell is nil or empty.
type Protection struct {
	Branch    string   `json:"branch"`
	Rewriting *bool    `json:"rewriting,omitempty" says:"whether its history may be rewritten"`
	Deleting  *bool    `json:"deleting,omitempty" says:"whether it may be deleted"`
	Right     string   `json:"right,omitempty" says:"the least right that may send to it"`
	Mergers   []string `json:"mergers,omitempty" says:"who alone may send to it"`
}

// Says tells of it in words.
func (p Protection) Says() string {
	var says []string
	for _, x := range []struct {
		may  *bool
		word string
	}{{p.Rewriting, "rewriting"}, {p.Deleting, "deletion"}} {
		if x.may != nil && !*x.may {
			says = append(says, "no "+x.word)
		}
	}
	if p.Right != "" {
		says = append(says, "sending takes the right "+text.Visible(p.Right))
	}
	if len(p.Mergers) > 0 {
		says = append(says, "only "+text.Visible(strings.Join(p.Mergers, ", "))+text.Either(len(p.Mergers) == 1, " sends", " send")+" to it")
	}
	return strings.Join(says, ", ")
}

// Forbids reports whether it forbids somebody to send: who may do so much in the repository ("" for
// what is not told), and rewrites the branch, or deletes it. What it does not tell forbids nothing.
func (p Protection) Forbids(user, right string, rewrites, deletes bool) bool {
	rank := func(r string) int { return slices.Index([]string{"read", "write", "admin"}, r) }
	return rewrites && p.Rewriting != nil && !*p.Rewriting || deletes && p.Deleting != nil && !*p.Deleting ||
		len(p.Mergers) > 0 && !slices.ContainsFunc(p.Mergers, func(m string) bool { return strings.EqualFold(m, user) }) ||
		right != "" && rank(p.Right) > rank(right)
}

// Protections lists the protected branches of a repository.
func (l *Login) Protections(ctx context.Context, r description.Repository) ([]Protection, error) {
	items, err := l.List(ctx, "protection-list", "list the protected branches of "+r.Path(), RepositoryVars(r))
	out := []Protection{}
	for _, i := range items {
		p := Protection{Branch: description.Written(i["branch"]), Right: description.Written(i["right"])}
		if b, is := i["rewriting"].(bool); is {
			p.Rewriting = &b
		}
		if b, is := i["deleting"].(bool); is {
			p.Deleting = &b
		}
		p.Mergers, _ = i["mergers"].([]string)
		if p.Branch != "" {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b Protection) int { return strings.Compare(a.Branch, b.Branch) })
	return out, err
}
