package repositories

import (
	"context"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
)

// Archive plans to make a repository one that may only be read, or with end to end that.
func Archive(ctx context.Context, d *desk.Desk, account, what string, end bool) (*desk.Change, error) {
	l, r, err := Find(ctx, d, account, what)
	if err != nil {
		return nil, err
	}
	action := text.Either(end, "repository-reopen", "repository-archive")
	if err := l.May(action, text.Either(end, "end the archive of a repository", "archive a repository")); err != nil {
		return nil, ByHand(l, r, "settings", "It is done there by hand", err)
	}
	c := &desk.Change{Desk: d, Job: action, Subject: l.Host.Name + " " + r.Path(), Host: l.Host.Name, AsWas: "It is as it was.", About: r.Path(),
		Head: text.Either(end, "To let "+r.Path()+" be changed again:", "To archive "+r.Path()+":")}
	if r.Archived != end {
		return c, c.GiveUp()
	}
	if !end {
		c.Notes = []string{"It may then only be read, by the same people as before; nobody can send to it. To end that: " + text.Command("uncinate", "repository", "archive", r.Path(), "--end")}
	}
	c.Steps = []desk.Step{{Item: plan.Item{ID: "archive", Place: plan.Host, Sentence: text.Either(end, "End the archive of "+r.Path(), "Archive "+r.Path())},
		Do: func(ctx context.Context) error {
			look := func() (bool, error) {
				now, found, err := l.Repository(ctx, r.Owner, r.Name)
				return found && now.Archived != end, err
			}
			_, err := l.Do(ctx, action, text.Either(end, "end the archive of ", "archive ")+r.Path(), login.RepositoryVars(r))
			if login.Means(err, description.Already) || login.Means(err, description.Archived) {
				if done, e := look(); e == nil && done {
					return nil
				}
			}
			if err := login.Lost(err, look); err != nil {
				return (&crew{l: l, r: r}).goneIf(ctx, err)
			}
			done, err := look()
			if err == nil && !done {
				err = fault.New(fault.Failed, "%s took the request, and shows %s as it was", l.Host.Name, r.Path())
			}
			return err
		}}}
	return c, nil
}
