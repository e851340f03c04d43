package offers

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/history"
	"uncinate/internal/job/repositories"
	"uncinate/internal/world/git"
)

// tryName is what an offered branch of another repository is called here.
func tryName(o offering.Offer) string {
	if !o.Apart() {
		return o.Branch
	}
	return strings.ReplaceAll(o.FromOwner, "/", "-") + "-" + o.Branch
}

// Fetching is an offer whose branch is brought here.
type Fetching struct {
	*desk.Change
	*at
	Offer  offering.Offer
	Branch string
}

// Fetch plans to bring the branch of an offer here, and to go to it.
func Fetch(ctx context.Context, d *desk.Desk, w Which, given string) (*Fetching, error) {
	a, err := find(ctx, d, w, "offer-show", "show offers to merge")
	if err != nil {
		return nil, err
	}
	o, err := a.one(ctx, w, given)
	if err != nil {
		return nil, err
	}
	if o.Head == "" {
		return nil, fault.New(fault.Decision, "the branch %s of offer %s is no longer there", text.Visible(o.Branch), text.Visible(o.Number)).Try("close it", w.Line("close", o.Number))
	}
	c := &Fetching{at: a, Offer: o, Branch: tryName(o)}
	f := a.folder
	if _, err := f.Repo.Do(ctx, "check-ref-format", "--branch", c.Branch); err != nil || strings.HasPrefix(c.Branch, "-") {
		return nil, fault.New(fault.Refused, "the offered branch is called %s, which is no name for a branch here", text.Quote(c.Branch))
	}
	c.Change = &desk.Change{Desk: d, Job: "offer-fetch", Subject: f.Path, AsWas: "Nothing was brought here.", About: text.Visible(c.Branch), Head: fmt.Sprintf("To try offer %s, %s:", text.Visible(o.Number), text.Excerpt(o.Title, 80)), From: o.Head}
	c.Line = Which{Account: w.Account}.Line("fetch", o.Number)
	if _, err := c.GoesOn(); err != nil {
		return nil, err
	}
	own, err := f.Repo.Resolve(ctx, "refs/heads/"+c.Branch)
	if err != nil {
		own = ""
	}
	return c, c.plan(ctx, own)
}

func (c *Fetching) plan(ctx context.Context, own string) error {
	o, f := c.Offer, c.folder
	add := func(id string, place plan.Place, words string, do func(context.Context) error) {
		c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: id, Place: place, Sentence: words}, Do: do})
	}
	if own != o.Head {
		if own != "" {
			if _, err := c.bring(ctx, []offering.Offer{o}); err != nil {
				return err
			}
			if c.contains(ctx, own, o.Head) { // yours has it, and more
				own = o.Head
			} else if !c.contains(ctx, o.Head, own) {
				return fault.New(fault.Decision, "there is a branch %s here that has other commits than offer %s", text.Visible(c.Branch), text.Visible(o.Number)).
					Try("give yours another name", text.Command("uncinate", "branch", "rename", c.Branch, c.Branch+"-mine", "--here", "--folder", f.Path))
			} else if f.Branch == c.Branch {
				f := fault.New(fault.Decision, "offer %s has new commits, and its branch %s is checked out", text.Visible(o.Number), text.Visible(c.Branch))
				if !o.Apart() {
					return f.Try("receive them", text.Command("uncinate", "sync", c.folder.Path))
				}
				return f.Try("go to another branch first", text.Command("uncinate", "branch", "switch", o.Target, "--folder", c.folder.Path))
			}
		}
		if own != o.Head {
			add("receive", plan.Here, fmt.Sprintf("Receive %s as the branch %s", text.Either(o.Apart(), text.Visible(o.Branch)+" of "+text.Visible(o.From()), text.Visible(o.Branch)), text.Visible(c.Branch)), c.receive)
		}
	}
	if f.Branch != c.Branch {
		add("switch", plan.Here, "Switch to "+text.Visible(c.Branch), func(ctx context.Context) error {
			out, err := history.SwitchBranch(ctx, c.desk, f.Path, c.Branch, false)
			if err == nil && out.Rescued > 0 {
				c.desk.Tell.Note("What was in the way is kept as rescue copy %d.", out.Rescued)
			}
			return err
		})
		preview, err := history.SwitchBranch(ctx, c.desk, f.Path, c.Branch, true)
		if err == nil && preview.InWay > 0 {
			c.Notes = append(c.Notes, "A rescue copy of "+text.Count(preview.InWay, "file")+" in the way is kept.")
		}
	}
	return ctx.Err()
}

// receive brings the offered commit here, and makes or moves the branch.
func (c *Fetching) receive(ctx context.Context) error {
	o, f := c.Offer, c.folder
	held, err := c.desk.Alone(ctx, f.Path)
	if err != nil {
		return err
	}
	err = c.received(ctx)
	if err == nil {
		_, err = f.Repo.Do(ctx, "branch", "-q", "--force", "--no-track", "--", c.Branch, o.Head) // not one that is checked out anywhere
		err = git.Fault(err, "git cannot make the branch %s", text.Visible(c.Branch))
	}
	for key, value := range map[string]string{"remote": c.main.Remote, "merge": "refs/heads/" + o.Branch} {
		if err == nil && !o.Apart() && o.Open() { // it goes where it came from
			_, err = f.Repo.Do(ctx, "config", "--local", "branch."+c.Branch+"."+key, value)
			err = git.Fault(err, "git cannot note the branch's counterpart")
		}
	}
	if err == nil && o.Apart() {
		err = offering.NoteTried(ctx, c.desk, f.Path, c.Branch, o.Number)
	}
	return errors.Join(err, held.Release())
}

// received runs git fetch for the offered commit.
func (c *Fetching) received(ctx context.Context) error {
	o, f := c.Offer, c.folder
	h, err := c.tie(ctx)
	if err != nil {
		return err
	}
	ref, from, config := o.Ref(), h.Remote, h.Shared()
	spec := ref
	if ref == "" {
		r, found, err := c.l.Repository(ctx, o.FromOwner, o.FromName)
		if err == nil && !found {
			err = fault.New(fault.HostSaidNo, "%s has no repository %s, or %s may not see it, so its branch cannot be received", c.l.Host.Name, text.Visible(o.From()), c.l.Account.User)
		}
		if err != nil {
			return err
		}
		t, err := repositories.TieTo(c.desk, c.l, r)
		if err != nil {
			return err
		}
		t.Repo = f.Repo
		if err := t.WriteInclude(ctx); err != nil {
			return err
		}
		spec, from, config = "refs/heads/"+o.Branch, t.Address.String(), t.Config()
	}
	work, err := f.Work()
	if err != nil {
		return err
	}
	if err := project.Receive(ctx, c.desk, work, config, "--no-tags", "--no-write-fetch-head", "--", from, spec); err != nil {
		return git.Fault(err, "the branch of offer %s cannot be received", text.Visible(o.Number))
	}
	if _, err := f.Repo.Do(ctx, "cat-file", "-e", o.Head+"^{commit}"); err != nil {
		return fault.New(fault.Decision, "the branch of offer %s has other commits by now", text.Visible(o.Number)).Try("look at it again", Which{Folder: f.Path}.Line("show", o.Number))
	}
	return nil
}

// Closing is an offer that is to be closed without being taken.
type Closing struct {
	*desk.Change
	*at
	offer offering.Offer
}

// Close plans to close an offer without taking it; with removes its branch goes too, on the host and here.
func Close(ctx context.Context, d *desk.Desk, w Which, given string, removes bool) (*Closing, error) {
	a, err := find(ctx, d, w, "offer-close", "close offers to merge")
	if err != nil {
		return nil, err
	}
	if err := a.may(ctx, "offer-show", "show offers to merge"); err != nil {
		return nil, err
	}
	c := &Closing{at: a}
	if c.offer, err = a.one(ctx, w, given); err != nil {
		return nil, err
	}
	o := c.offer
	c.Change = &desk.Change{Desk: d, Job: "offer-close", Subject: a.l.Host.Name + " " + a.r.Path() + " " + o.Number, Host: a.l.Host.Name, AsWas: "Nothing was closed.", About: "offer " + text.Visible(o.Number),
		Head: fmt.Sprintf("To close offer %s to %s, %s, without merging it:", text.Visible(o.Number), a.r.Path(), text.Excerpt(o.Title, 80)), Line: w.Line("close", o.Number)}
	before, err := c.GoesOn()
	if err != nil {
		return nil, err
	}
	switch {
	case o.State == "closed" && before != nil, o.State == "closed" && removes:
	case !o.Open():
		return nil, a.over(o, w)
	case a.r.Archived:
		return nil, a.archived()
	default:
		c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "close", Place: plan.Host, Sentence: "Close the offer of " + text.Visible(o.Branch) + " without merging it"}, Do: c.close})
	}
	if len(c.Steps) > 0 {
		c.Steps[0].Stays = func(done bool) bool { return done }
	}
	if !removes {
		return c, nil
	}
	if a.folder != nil && a.folder.Branch == o.Branch && !o.Apart() {
		return nil, fault.New(fault.Decision, "%s is checked out, and is to be removed with the offer", text.Visible(o.Branch)).
			Detail("Nothing was closed.").Try("switch to another one first", desk.FolderCommand(w.Folder, "branch", "switch", o.Target))
	}
	if a.folder == nil || o.Apart() {
		c.Notes = append(c.Notes, "Its branch stays: it goes where it came from, by branch remove.")
		return c, nil
	}
	c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "remove", Place: plan.Host, Sentence: "Remove the branch " + text.Visible(o.Branch) + ", here too; what is nowhere else is kept as a rescue copy"},
		Do: func(ctx context.Context) error {
			return a.drops(ctx, o.Branch, false)
		}})
	return c, nil
}

func (c *Closing) close(ctx context.Context) error {
	now := c.offer
	look := func() (bool, error) {
		o, found, err := offering.Show(ctx, c.l, c.r, c.offer.Number)
		now = o
		return found && o.State == "closed", err
	}
	_, err := c.l.Do(ctx, "offer-close", "close offer "+c.offer.Number, c.offer.Vars())
	if err := login.Lost(err, look); err != nil {
		if done, e := look(); e == nil && !done && now.State == "accepted" { // somebody was faster
			return c.over(now, Which{Repository: c.r.Path()})
		} else if e == nil && done && !login.Means(err, description.Denied) {
			return nil
		}
		return err
	}
	done, err := look()
	if err == nil && !done {
		err = fault.New(fault.Failed, "%s took the request, and does not show offer %s as closed", c.l.Host.Name, c.offer.Number)
	}
	return err
}
