package repositories

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
)

// GrantPeople plans to let people read, write or see to a repository: those who are among its people at
// once, others by an invitation where the host has such.
func GrantPeople(ctx context.Context, d *desk.Desk, account, what string, who []string, right string) (*desk.Change, error) {
	if !slices.Contains(rights, right) {
		return nil, fault.New(fault.Usage, "a person may read, write or admin, and not %s", text.Quote(right))
	}
	w, err := crewOf(ctx, d, account, what, "people-grant", "give people access")
	if err != nil {
		return nil, err
	}
	l, r := w.l, w.r
	if words := l.Host.Words["right"]; len(words) > 0 {
		if _, sets := words[right]; !sets { // one that the host cannot set is not rounded
			return nil, page(l, r, fault.New(fault.HostSaidNo, "%s knows no right %s", l.Host.Name, right))
		}
	}
	if r.Archived {
		return nil, archived(l, r)
	}
	c := &desk.Change{Desk: d, Job: "people-grant", Subject: l.Host.Name + " " + r.Path(), Host: l.Host.Name, AsWas: "Nothing was granted.", About: r.Path(), Head: "To let people work in " + r.Path() + ":"}
	fresh, asked := 0, 0
	named := map[string]bool{}
	for _, name := range who {
		p, sent := w.of(name)
		if p == nil && sent == nil && !strings.Contains(name, "@") {
			if name, err = w.known(ctx, name); err != nil {
				f := *fault.Of(err)
				return nil, f.Detail("Nothing was granted.")
			}
			p, sent = w.of(name)
		}
		switch {
		case named[strings.ToLower(name)]: // twice
		case strings.EqualFold(name, r.Owner):
			c.Notes = append(c.Notes, text.Visible(name)+" owns it, and may do everything.")
		case p != nil && p.Right == right, sent != nil && sent.Right == right:
			if sent != nil {
				c.Notes = append(c.Notes, text.Visible(name)+" is invited so already, and has not answered.")
			} else if p.Inherited != "" {
				c.Notes = append(c.Notes, text.Visible(name)+" may do so already, by the group "+text.Visible(p.Inherited)+".")
			}
		case p != nil && p.Inherited != "" && slices.Index(rights, p.Right) > slices.Index(rights, right):
			return nil, page(l, r, fault.New(fault.HostSaidNo, "%s has the right %s from the group %s, and less than that can only be said there", text.Visible(name), text.Visible(p.Right), text.Visible(p.Inherited)))
		case p != nil:
			c.Steps = append(c.Steps, w.stepGrant(name, right, p))
		case l.Host.Actions["invitation-send"] != nil:
			if err := l.May("invitation-send", "invite people"); err != nil {
				return nil, err
			}
			c.Steps = append(c.Steps, w.stepInvite(name, right, sent))
			asked++
			fresh += text.Either(sent == nil, 1, 0)
		case strings.Contains(name, "@"):
			return nil, page(l, r, fault.New(fault.HostSaidNo, "%s takes people by their name there, not by an e-mail address: %s", l.Host.Name, text.Quote(name)))
		default:
			c.Steps = append(c.Steps, w.stepGrant(name, right, nil))
			fresh++
		}
		named[strings.ToLower(name)] = true
	}
	if fresh > 0 {
		if says := w.allows(fresh); says != "" {
			c.Notes = append(c.Notes, says)
		}
	}
	if len(c.Steps) > 0 {
		c.Notes = append(c.Notes, w.toBegin(asked > 0))
	}
	return c, nil
}

// toBegin is what people do who were let in; those who were asked accept first.
func (c *crew) toBegin(asked bool) string {
	begin := text.Command("uncinate", "clone", c.r.Path())
	if asked {
		begin = text.Command("uncinate", "invitation", "accept", c.r.Path()) + " && " + begin
	}
	return "To begin, they add their account on " + c.l.Host.Name + ", then: " + begin
}

// archived is the fault where a repository may only be read.
func archived(l *login.Login, r description.Repository) error {
	return fault.New(fault.HostSaidNo, "%s is archived on %s: it may only be read", r.Path(), l.Host.Name).
		Try("end that first", text.Command("uncinate", "repository", "archive", r.Path(), "--end", "--account", l.Account.Name))
}

// stepGrant gives somebody a right at once; p is what they may do now, or nil.
func (c *crew) stepGrant(who, right string, p *Person) desk.Step {
	words := fmt.Sprintf("Let %s %s %s", text.Visible(who), says(right), c.r.Path())
	if p != nil {
		words += " (until now: " + text.Visible(p.Right) + ")"
	}
	return desk.Step{Item: plan.Item{ID: "grant " + who, Place: plan.Host, Sentence: words},
		Do: func(ctx context.Context) error { return c.setRight(ctx, "people-grant", who, right) },
		Undo: func(ctx context.Context) error {
			if p == nil || p.Inherited != "" { // nothing was given here before
				if c.l.May("people-withdraw", "") != nil {
					return page(c.l, c.r, fault.New(fault.HostSaidNo, "%s has the right now, and %s has no way to take it back", text.Visible(who), c.l.Host.Name))
				}
				return c.setRight(ctx, "people-withdraw", who, "")
			}
			return c.setRight(ctx, "people-grant", who, p.Right)
		}}
}

// stepInvite invites somebody; sent is an invitation that waits already, of another right, or nil.
func (c *crew) stepInvite(who, right string, sent *Sent) desk.Step {
	words := fmt.Sprintf("Invite %s to %s %s", text.Visible(who), says(right), c.r.Path())
	if sent != nil {
		words += " (in place of the invitation to: " + text.Visible(sent.Right) + ")"
	}
	return desk.Step{Item: plan.Item{ID: "invite " + who, Place: plan.Host, Sentence: words},
		Do: func(ctx context.Context) error {
			if sent != nil {
				if err := c.takeBack(ctx, sent.ID); err != nil {
					return err
				}
			}
			return c.invite(ctx, who, right)
		},
		Undo: func(ctx context.Context) error {
			now := crew{l: c.l, r: c.r}
			if err := now.look(ctx); err != nil {
				return err
			}
			if _, s := now.of(who); s != nil && c.l.May("invitation-withdraw", "") == nil {
				return c.takeBack(ctx, s.ID)
			}
			return nil
		}}
}

// invite sends one invitation, and looks whether it is so then. One that was taken at once is as good.
func (c *crew) invite(ctx context.Context, who, right string) error {
	vars := login.RepositoryVars(c.r)
	vars["right"] = right
	vars[text.Either(strings.Contains(who, "@"), "email", "person")] = who
	now := crew{l: c.l, r: c.r}
	look := func() (bool, error) {
		if c.l.Host.Actions["invitation-sent"] == nil {
			return true, nil // nothing tells
		}
		err := now.look(ctx)
		p, s := now.of(who)
		return s != nil && s.Right == right || p != nil && p.Right == right, err
	}
	_, err := c.l.Do(ctx, "invitation-send", "invite "+text.Excerpt(who, 60)+" to "+c.r.Path(), vars)
	switch {
	case login.Means(err, description.NotFound):
		if gone := c.gone(ctx, err); gone != err {
			return gone
		}
		return fault.New(fault.HostSaidNo, "there is nobody named %s on %s", text.Quote(who), c.l.Host.Name).Because(err)
	case login.Means(err, description.Already):
		if done, e := look(); e != nil || !done {
			return err
		}
		return nil
	case err != nil && c.l.Host.Actions["invitation-sent"] == nil:
		return err
	}
	if err := login.Lost(err, look); err != nil {
		return page(c.l, c.r, err)
	}
	done, err := look()
	if err == nil && !done {
		err = page(c.l, c.r, fault.New(fault.Failed, "%s took the invitation, and does not list it", c.l.Host.Name))
	}
	return err
}

// takeBack takes an invitation back; one that is gone was answered meanwhile, or is taken back.
func (c *crew) takeBack(ctx context.Context, id string) error {
	vars := login.RepositoryVars(c.r)
	vars["id"] = id
	_, err := c.l.Do(ctx, "invitation-withdraw", "take the invitation to "+c.r.Path()+" back", vars)
	if login.Means(err, description.NotFound) {
		if gone := c.gone(ctx, err); gone != err {
			return gone
		}
		return nil
	}
	return login.Lost(err, func() (bool, error) {
		now := crew{l: c.l, r: c.r}
		err := now.look(ctx)
		return !slices.ContainsFunc(now.invited, func(s Sent) bool { return s.ID == id }), err
	})
}

// WithdrawPeople plans to take people's access back, and invitations that wait.
func WithdrawPeople(ctx context.Context, d *desk.Desk, account, what string, who []string) (*desk.Change, error) {
	w, err := crewOf(ctx, d, account, what, "people-withdraw", "take people's access back")
	if err != nil {
		return nil, err
	}
	l, r := w.l, w.r
	c := &desk.Change{Desk: d, Job: "people-withdraw", Subject: l.Host.Name + " " + r.Path(), Host: l.Host.Name, AsWas: "They have access still.", About: r.Path(), Head: "To take access to " + r.Path() + " back:"}
	c.Line = text.Command(append([]string{"uncinate", "access", "withdraw", "--repository", r.Path(), "--"}, who...)...)
	before, look := c.GoesOn()
	cut := look == nil && before != nil
	opened := false
	who = slices.Clone(who)
	slices.Sort(who)
	for _, name := range slices.Compact(who) {
		p, sent := w.of(name)
		switch {
		case p == nil && sent == nil && cut:
			c.Notes = append(c.Notes, text.Visible(name)+" was taken out before this was cut off.")
			continue
		case p == nil && sent == nil:
			return nil, w.nobody(name)
		case p != nil && p.Inherited != "" && sent == nil:
			return nil, page(l, r, fault.New(fault.HostSaidNo, "%s may open %s by the group %s, and that can only be taken away there", text.Visible(p.User), r.Path(), text.Visible(p.Inherited)))
		case sent != nil && (p == nil || p.Inherited != ""):
			if err := l.May("invitation-withdraw", "take invitations back"); err != nil {
				return nil, page(l, r, err)
			}
			c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "invitation " + sent.ID, Place: plan.Host, Sentence: fmt.Sprintf("Take the invitation of %s to %s back", text.Visible(sent.To()), r.Path())},
				Do: func(ctx context.Context) error { return w.takeBack(ctx, sent.ID) }})
			continue
		}
		opened = true
		if strings.EqualFold(name, l.Account.User) {
			c.Notes = append(c.Notes, "That is yourself: afterwards you can no longer open it.")
		}
		c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "withdraw " + name, Place: plan.Host, Sentence: fmt.Sprintf("Take %s out of %s (until now: %s)", text.Visible(p.User), r.Path(), text.Visible(p.Right))},
			Do:   func(ctx context.Context) error { return w.setRight(ctx, "people-withdraw", p.User, "") },
			Undo: func(ctx context.Context) error { return w.setRight(ctx, "people-grant", p.User, p.Right) }})
	}
	if len(c.Steps) == 0 {
		return c, c.GiveUp()
	}
	if opened {
		c.Notes = append(c.Notes, "What they cloned stays with them.")
		if !strings.EqualFold(r.Owner, l.Account.User) {
			c.Notes = append(c.Notes, "Whoever belongs to "+text.Visible(r.Owner)+" may open it by that all the same.")
		}
	}
	return c, nil
}

// nobody is the fault where somebody is neither among the people nor invited.
func (c *crew) nobody(who string) error {
	f := fault.New(fault.Failed, "%s is not among the people of %s", text.Visible(who), c.r.Path())
	var names []string
	for _, x := range c.people {
		names = append(names, x.User)
	}
	for _, x := range c.invited {
		names = append(names, x.To())
	}
	if near := text.Nearest(who, names); near != "" {
		f.Detail("Did you mean %s?", text.Visible(near))
	}
	return f.Try("see who is", text.Command("uncinate", "access", "list", "--repository", c.r.Path(), "--account", c.l.Account.Name))
}
