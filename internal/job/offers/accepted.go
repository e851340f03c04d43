package offers

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
)

// accept asks the host to take it, and checks that the branch has it.
func (c *Accepting) accept(ctx context.Context) error {
	o := c.offer
	vars := o.Vars()
	vars["way"], vars["text"], vars["removing"] = c.way, c.o.Text, c.removes() && !o.Apart()
	if !c.l.Host.Actions["offer-accept"].Takes("head") && !c.l.Host.Actions["offer-accept"].Takes("version") {
		now, found, err := offering.Show(ctx, c.l, c.r, o.Number) // the host takes no commit along: as near to it as can be
		if err != nil {
			return err
		}
		if !found || !now.Open() || now.Head != o.Head {
			return c.changed(now, found)
		}
	}
	_, err := c.l.Do(ctx, "offer-accept", "accept offer "+o.Number+" to "+c.r.Path(), vars)
	look := func() (bool, error) {
		now, found, err := offering.Show(ctx, c.l, c.r, o.Number)
		c.Came = now
		return found && now.State == "accepted", err
	}
	if err := login.Lost(err, look); err != nil {
		return c.why(ctx, err)
	}
	done, err := look()
	switch {
	case err != nil:
		return err
	case !done:
		return fault.New(fault.Failed, "%s took the request, and does not show offer %s as accepted", c.l.Host.Name, o.Number)
	case c.Came.Head != "" && c.Came.Head != o.Head:
		c.Said = append(c.Said, fmt.Sprintf("%s accepted it at commit %.10s, and not at %.10s that you looked at: look at what came of it.", c.l.Host.Name, c.Came.Head, o.Head))
	}
	return c.checked(ctx)
}

// checked makes sure that the branch on the host has what was offered.
func (c *Accepting) checked(ctx context.Context) error {
	o := c.offer
	if c.folder == nil {
		return nil
	}
	c.told = nil
	into := offering.Offer{Owner: o.Owner, Name: o.Name, FromOwner: o.Owner, FromName: o.Name, Branch: o.Target, Target: o.Target}
	told, err := c.refs(ctx)
	if err != nil {
		return err
	}
	into.Head = told.Branch(o.Target)
	if _, err := c.bring(ctx, []offering.Offer{into}); err != nil {
		return err
	}
	if into.Head == "" || !c.place.Has(ctx, into.Head) || !c.place.Has(ctx, o.Head) {
		c.Said = append(c.Said, "What came of it could not be looked at here.")
		return nil
	}
	held, err := worktree.HoldsAll(ctx, c.folder, into.Head, o.Head, c.place.Objects())
	if err == nil && !held {
		c.Said = append(c.Said, fmt.Sprintf("%s on %s does not hold all of it as far as can be seen here: look at it.", text.Visible(o.Target), c.l.Host.Name))
	}
	return err
}

// changed says that an offer is not as it was looked at.
func (c *Accepting) changed(now offering.Offer, found bool) error {
	switch {
	case !found:
		return fault.New(fault.HostSaidNo, "offer %s is no longer there", text.Visible(c.offer.Number))
	case !now.Open():
		return c.over(now, c.o.Which)
	case now.Head == "":
		return c.gone()
	}
	return fault.New(fault.Decision, "offer %s has other commits by now: it was at %.10s, and is at %.10s", text.Visible(c.offer.Number), c.offer.Head, now.Head).
		Detail("Nothing was accepted.").Try("look at it as it is now", c.o.Line("show", c.offer.Number))
}

// why finds the cause of an acceptance that was refused.
func (c *Accepting) why(ctx context.Context, err error) error {
	if ctx.Err() != nil || !fault.Is(err, fault.HostSaidNo) {
		return err
	}
	said := func(f error) error {
		out := *fault.Of(f)
		out.Cause = err
		for _, line := range fault.Of(err).Details {
			out.Details = append(slices.Clone(out.Details), line)
		}
		return &out
	}
	now, found, look := offering.Show(ctx, c.l, c.r, c.offer.Number)
	if look != nil {
		return err
	}
	if !found || !now.Open() || now.Head != c.offer.Head {
		return c.changed(now, found)
	}
	if r, there, look := c.l.Repository(ctx, c.r.Owner, c.r.Name); look == nil && there && r.Archived {
		return c.archived()
	}
	s := &Shown{Listed: Listed{Offer: now}}
	if look := s.guarded(ctx, c.at); look == nil && s.Guarded != nil && !s.May {
		return said(c.guarded(*s.Guarded))
	}
	if checks, look := offering.Checks(ctx, c.l, now); look == nil {
		for _, x := range checks {
			if says := x.Lacks(); says != "" {
				return said(fault.New(fault.HostSaidNo, "%s did not accept offer %s: the check %s", c.l.Host.Name, text.Visible(now.Number), says).
					Try("see what it says", c.o.Line("show", now.Number)))
			}
		}
	}
	if c.folder != nil {
		c.told = nil
		x := listed(c.l, now)
		if _, look := c.bring(ctx, []offering.Offer{now}); look == nil && c.tryOne(ctx, &x) == nil && x.Merges == "clashes" {
			return said(c.clashes(x.Clashes))
		}
	}
	return err
}

// left says with a fault that the offer was accepted all the same.
func (c *Accepting) left(err error) error {
	if err == nil {
		return nil
	}
	f := *fault.Of(err)
	f.Details = append(slices.Clone(f.Details), fmt.Sprintf("Offer %s was accepted; only the rest is left.", text.Visible(c.offer.Number)))
	return &f
}

// removed reports whether the branch is no longer on the host.
func (c *Accepting) removed(ctx context.Context) (bool, error) {
	c.told = nil
	told, err := c.refs(ctx)
	return err == nil && told.Branch(c.offer.Branch) == "", err
}

// remove takes the branch away on the host, if it is what was accepted.
func (c *Accepting) remove(ctx context.Context) error {
	if gone, err := c.removed(ctx); err != nil || gone {
		return c.left(err) // the host does it by itself
	}
	h, err := c.tie(ctx)
	if err != nil {
		return c.left(err)
	}
	head := cmp.Or(c.Came.Head, c.offer.Head)
	err = project.Push(ctx, c.desk, h, project.Sending{Refs: []project.Sent{{To: "refs/heads/" + c.offer.Branch, Was: head}}})
	if told, look := project.Refs(ctx, c.desk, h, ""); err != nil && look == nil && told.Branch(c.offer.Branch) != head {
		if told.Branch(c.offer.Branch) == "" {
			return nil
		}
		c.Said = append(c.Said, fmt.Sprintf("%s stays on the host: somebody sent to it meanwhile.", text.Visible(c.offer.Branch)))
		return nil
	}
	return c.left(err)
}
