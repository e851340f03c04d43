package repositories

import (
	"context"
	"fmt"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
)

// Transfer plans to hand a repository over to another owner: a person or a group. Projects of this
// machine that are attached to it follow; copies elsewhere do at their next sync.
func Transfer(ctx context.Context, d *desk.Desk, account, what, owner string) (*desk.Change, error) {
	owner = strings.TrimSuffix(owner, "/")
	for part := range strings.SplitSeq(owner, "/") { // groups may be in one another
		if naming.Check(part) != nil {
			return nil, fault.New(fault.Usage, "%s cannot be the name of a person or a group", text.Quote(owner))
		}
	}
	l, r, err := Find(ctx, d, account, what)
	c := &desk.Change{Desk: d, Job: "repository-transfer", AsWas: "It is as it was.", Head: "To hand " + r.Path() + " over to " + owner + ":"}
	if l != nil {
		c.Subject, c.Host, c.Line = l.Host.Name+" "+text.Excerpt(what, 200), l.Host.Name, text.Command("uncinate", "repository", "transfer", what, owner)
	}
	if err != nil && l != nil && fault.Is(err, fault.HostSaidNo) { // it may be there already, since a run before this one was cut off
		if before, look := c.GoesOn(); look == nil && before != nil {
			_, name := naming.Split(what)
			if there, found, look := l.Repository(ctx, owner, name); look == nil && found && there.ID == before.From {
				c.Notes = []string{"It was handed over before this was cut off. Copies of it follow at their next sync."}
				return c, c.GiveUp()
			}
		}
	}
	if err != nil {
		return nil, err
	}
	if err := l.May("repository-transfer", "hand a repository over to another owner"); err != nil {
		return nil, ByHand(l, r, "settings", "It is done there by hand", err)
	}
	if r.Owner == owner {
		return c, c.GiveUp()
	}
	c.From = r.ID
	attached, err := project.AttachedTo(d, r)
	if err != nil {
		return nil, err
	}
	after := r
	c.Notes = []string{"Its address becomes another one. Copies elsewhere follow at their next sync; links to its pages may break."}
	if _, invited := touched(ctx, l, r); len(invited) > 0 {
		c.Notes = append(c.Notes, "Invitations that wait may be lost: "+named(invited)+".")
	}
	if r.Right != "" && owner != l.Account.User {
		c.Notes = append(c.Notes, "What you may do there afterwards is up to "+text.Visible(owner)+".")
	}
	c.Steps = []desk.Step{{Item: plan.Item{ID: "transfer", Place: plan.Host, Sentence: fmt.Sprintf("Hand %s over to %s", r.Path(), text.Visible(owner))},
		Do: func(ctx context.Context) (err error) {
			after, err = handOver(ctx, l, r, owner)
			return err
		}}}
	if len(attached) > 0 {
		c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "follow", Place: plan.Here, Sentence: "Update " + text.Count(len(attached), "project") + " here to the new address"},
			Do: func(ctx context.Context) error {
				if after.Owner == r.Owner { // the first step was done by a run before this one
					there, found, err := l.Repository(ctx, owner, r.Name)
					if err != nil || !found {
						return err
					}
					after = there
				}
				return project.Follow(ctx, d, attached, after)
			}})
	}
	return c, nil
}

// handOver asks the host to do it, and looks until it shows it so: a request whose answer was lost may
// have been done.
func handOver(ctx context.Context, l *login.Login, r description.Repository, owner string) (description.Repository, error) {
	vars := login.RepositoryVars(r)
	vars["new_owner"] = owner
	var there description.Repository
	look := func() (bool, error) {
		now, found, err := l.Repository(ctx, owner, r.Name)
		there = now
		return found && now.ID == r.ID, err
	}
	_, err := l.Do(ctx, "repository-transfer", "hand "+r.Path()+" over to "+text.Excerpt(owner, 60), vars)
	if login.Means(err, description.Denied) {
		names := login.WhoCreates(ctx, l.Desk, l.Host.Name, l.Account, owner)
		return there, login.Others(fault.Of(err), names, "make repositories for "+owner, func(account string) string {
			return text.Command("uncinate", "repository", "transfer", r.Path(), owner, "--account", account)
		})
	}
	// What an earlier run asked for may have been done since, on a host that does it later.
	if err := login.Lost(err, look, fault.HostSaidNo); err != nil {
		return there, err
	}
	done, err := look()
	if err == nil && !done {
		err = fault.New(fault.Failed, "%s took the request, and does not show %s/%s", l.Host.Name, text.Visible(owner), r.Name)
	}
	return there, err
}
