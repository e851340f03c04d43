package repositories

import (
	"context"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
)

// Guarding is how a branch is to be protected.
type Guarding struct {
	Rewriting bool     // its history may be rewritten
	Deleting  bool     // it may be deleted
	Right     string   // the least right that may send to it; "" for any that may send
	Mergers   []string // who alone may send to it; nil for any
}

// settable refuses what the host's description has no place for: it is not rounded.
func (o Guarding) settable(l *login.Login, r description.Repository) error {
	act := l.Host.Actions["branch-protect"]
	for _, x := range []struct {
		wanted         bool
		variable, says string
	}{{len(o.Mergers) > 0, "mergers", "some people alone may send to a branch"}, {o.Right != "", "right", "it takes a right to send to a branch"},
		{o.Rewriting, "rewriting", "a protected branch may be rewritten"}, {o.Deleting, "deleting", "a protected branch may be deleted"}} {
		if x.wanted && !act.Takes(x.variable) {
			return ByHand(l, r, "settings", "Its page", fault.New(fault.HostSaidNo, "on %s it cannot be said that %s", l.Host.Name, x.says))
		}
	}
	if words := l.Host.Words["right"]; o.Right != "" && len(words) > 0 && words[o.Right] == nil {
		return fault.New(fault.HostSaidNo, "%s knows no right %s", l.Host.Name, o.Right)
	}
	return nil
}

// wanted is what the host is to tell of the branch then.
func (o Guarding) wanted(l *login.Login, branch string) login.Protection {
	p := login.Protection{Branch: branch, Right: o.Right, Mergers: o.Mergers}
	act := l.Host.Actions["branch-protect"]
	if act.Takes("rewriting") {
		p.Rewriting = &o.Rewriting
	}
	if act.Takes("deleting") {
		p.Deleting = &o.Deleting
	}
	return p
}

// same reports whether a protection is as it is wanted, as far as both tell.
func same(there, want login.Protection) bool {
	agree := func(a, b *bool) bool { return a == nil || b == nil || *a == *b }
	return agree(there.Rewriting, want.Rewriting) && agree(there.Deleting, want.Deleting) && there.Right == want.Right &&
		slices.Equal(slices.Sorted(slices.Values(there.Mergers)), slices.Sorted(slices.Values(want.Mergers)))
}

// guarded finds how a branch of a repository is protected; nil where it is not. all are those that are.
func guarded(ctx context.Context, l *login.Login, r description.Repository, branch string) (there *login.Protection, all []login.Protection, err error) {
	if all, err = l.Protections(ctx, r); err != nil {
		return nil, nil, err
	}
	if i := slices.IndexFunc(all, func(p login.Protection) bool { return p.Branch == branch }); i >= 0 {
		there = &all[i]
	}
	return there, all, nil
}

// protecting looks at a repository whose branches are to be protected.
func protecting(ctx context.Context, d *desk.Desk, account, what, branch, action, to string) (*login.Login, description.Repository, error) {
	l, r, err := Find(ctx, d, account, what)
	if err != nil {
		return nil, r, err
	}
	if branch == "" {
		return nil, r, fault.New(fault.Usage, "name the branch").Try("see them", text.Command("uncinate", "repository", "show", r.Path(), "--account", l.Account.Name))
	}
	for _, a := range []string{action, "protection-list"} {
		if err := l.May(a, to); err != nil {
			return nil, r, ByHand(l, r, "settings", "It is done there by hand", err)
		}
	}
	if r.Archived {
		return nil, r, archived(l, r)
	}
	return l, r, nil
}

// Protect plans to protect a branch of a repository.
func Protect(ctx context.Context, d *desk.Desk, account, what, branch string, o Guarding) (*desk.Change, error) {
	if o.Right != "" && !slices.Contains(rights[1:], o.Right) {
		return nil, fault.New(fault.Usage, "the right that it takes is write or admin, and not %s", text.Quote(o.Right))
	}
	l, r, err := protecting(ctx, d, account, what, branch, "branch-protect", "protect branches")
	if err != nil {
		return nil, err
	}
	if err := o.settable(l, r); err != nil {
		return nil, err
	}
	w := crew{l: l, r: r}
	for i, who := range o.Mergers {
		if o.Mergers[i], err = w.known(ctx, who); err != nil {
			return nil, err
		}
	}
	there, _, err := guarded(ctx, l, r, branch)
	if err != nil {
		return nil, err
	}
	want := o.wanted(l, branch)
	c := &desk.Change{Desk: d, Job: "branch-protect", Subject: l.Host.Name + " " + r.Path() + " " + branch, Host: l.Host.Name, AsWas: "It is as it was.", About: text.Visible(branch) + " of " + r.Path(), Head: "To protect " + text.Visible(branch) + " of " + r.Path() + ":"}
	if there != nil && same(*there, want) {
		return c, c.GiveUp()
	}
	words := "Protect " + text.Visible(branch) + ": " + text.Either(want.Says() == "", "as "+l.Host.Name+" does it", want.Says())
	if there != nil && (there.Right != "" && want.Right == "" || len(there.Mergers) > 0 && len(want.Mergers) == 0) {
		words += ", whoever may write sends to it"
	}
	if there != nil && there.Says() != "" {
		words += " (until now: " + there.Says() + ")"
	}
	if len(o.Mergers) > 0 && !slices.ContainsFunc(o.Mergers, func(m string) bool { return strings.EqualFold(m, l.Account.User) }) {
		c.Notes = append(c.Notes, "You can then no longer send to it yourself, until that is changed.")
	}
	if says := w.unknown(ctx, d, branch); says != "" {
		c.Notes = append(c.Notes, says)
	}
	c.Steps = []desk.Step{{Item: plan.Item{ID: "protect", Place: plan.Host, Sentence: words},
		Do: func(ctx context.Context) error {
			vars := login.RepositoryVars(r)
			vars["branch"], vars["rewriting"], vars["deleting"], vars["right"], vars["mergers"] = branch, o.Rewriting, o.Deleting, o.Right, o.Mergers
			look := func() (bool, error) {
				now, _, err := guarded(ctx, l, r, branch)
				return now != nil && same(*now, want), err
			}
			_, err := l.Do(ctx, "branch-protect", "protect "+text.Excerpt(branch, 60)+" of "+r.Path(), vars)
			if err := login.Lost(err, look); err != nil {
				return ByHand(l, r, "settings", "Its page", (&crew{l: l, r: r}).goneIf(ctx, err))
			}
			done, err := look()
			if err == nil && !done {
				err = fault.New(fault.Failed, "%s took the request, and does not show the branch protected so", l.Host.Name)
			}
			return err
		}}}
	return c, nil
}

// unknown says that a repository has no branch of a name; "" where it has, or where that cannot be asked.
func (c *crew) unknown(ctx context.Context, d *desk.Desk, branch string) string {
	h, err := TieTo(d, c.l, c.r)
	if err != nil {
		return ""
	}
	g, err := d.Git(ctx)
	if err != nil {
		return ""
	}
	h.Repo = g.In(d.Home.State)
	told, err := project.Refs(ctx, d, h, "")
	if err != nil || told.Branch(branch) != "" {
		return ""
	}
	says := "There is no branch " + text.Visible(branch) + " on " + c.l.Host.Name + " yet."
	if near := text.Nearest(branch, told.Branches()); near != "" {
		says += " Did you mean " + text.Visible(near) + "?"
	}
	return says
}

// Unprotect plans to protect a branch no longer.
func Unprotect(ctx context.Context, d *desk.Desk, account, what, branch string) (*desk.Change, error) {
	l, r, err := protecting(ctx, d, account, what, branch, "branch-unprotect", "end the protection of branches")
	if err != nil {
		return nil, err
	}
	there, all, err := guarded(ctx, l, r, branch)
	if err != nil {
		return nil, err
	}
	if there == nil {
		var names []string
		for _, p := range all {
			names = append(names, p.Branch)
		}
		if near := text.Nearest(branch, names); near != "" {
			return nil, fault.New(fault.Usage, "%s is not protected", text.Quote(branch)).Detail("Did you mean %s?", text.Visible(near))
		}
	}
	c := &desk.Change{Desk: d, Job: "branch-unprotect", Subject: l.Host.Name + " " + r.Path() + " " + branch, Host: l.Host.Name, AsWas: "It is protected still.", About: text.Visible(branch) + " of " + r.Path(), Head: "To protect " + text.Visible(branch) + " of " + r.Path() + " no longer:"}
	if there == nil {
		return c, c.GiveUp()
	}
	says := there.Says()
	c.Steps = []desk.Step{{Item: plan.Item{ID: "unprotect", Place: plan.Host, Sentence: "End the protection of " + text.Visible(branch) + text.Either(says == "", "", " (until now: "+says+")")},
		Do: func(ctx context.Context) error {
			vars := login.RepositoryVars(r)
			vars["branch"] = branch
			look := func() (bool, error) {
				now, _, err := guarded(ctx, l, r, branch)
				return now == nil, err
			}
			_, err := l.Do(ctx, "branch-unprotect", "end the protection of "+text.Excerpt(branch, 60), vars)
			if login.Means(err, description.NotFound) {
				if gone := (&crew{l: l, r: r}).gone(ctx, err); gone != err {
					return gone
				}
				return nil
			}
			if err := login.Lost(err, look); err != nil {
				return err
			}
			done, err := look()
			if err == nil && !done {
				err = fault.New(fault.Failed, "%s took the request, and shows the branch protected still", l.Host.Name)
			}
			return err
		}}}
	return c, nil
}
