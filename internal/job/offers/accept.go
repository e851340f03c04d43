package offers

import (
	"cmp"
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
	"uncinate/internal/desk/offering"
	"uncinate/internal/job/history"
	"uncinate/internal/job/syncing"
)

// AcceptOptions say how an offer is taken.
type AcceptOptions struct {
	Which
	Number  string
	Way     string // of description.Ways; "" for a merge, or what the host does
	Commit  string // the commit that was looked at; "" for the one that was shown last, or is there now
	Text    string // of the commit, where it becomes one
	Removes bool   // the branch goes, on the host and here
	Keeps   bool   // it stays, whatever the offer says
}

// Accepting is an offer that is to be taken.
type Accepting struct {
	*desk.Change
	*at
	o     AcceptOptions
	offer offering.Offer
	way   string
	here  string // the offered branch here; "" for none
	went  bool   // a run that was cut off had it accepted

	Came offering.Offer // as the host told of it afterwards
	Said []string       // what is worth knowing of the end
}

// Accept plans to accept an offer: what was looked at, and nothing else.
func Accept(ctx context.Context, d *desk.Desk, o AcceptOptions) (*Accepting, error) {
	if o.Way != "" && !slices.Contains(description.Ways, o.Way) {
		f := fault.New(fault.Usage, "an offer is taken by merge, replay or one, and not by %s", text.Quote(o.Way))
		if near := text.Nearest(o.Way, description.Ways); near != "" {
			f.Detail("Did you mean %s?", near)
		}
		return nil, f
	}
	a, err := find(ctx, d, o.Which, "offer-accept", "accept offers to merge")
	if err != nil {
		return nil, err
	}
	if err := a.may(ctx, "offer-show", "show offers to merge, so none is accepted unseen"); err != nil {
		return nil, err
	}
	c := &Accepting{at: a, o: o}
	if c.offer, err = a.one(ctx, o.Which, o.Number); err != nil {
		return nil, err
	}
	x := c.offer
	c.Change = &desk.Change{Desk: d, Job: "offer-accept", Subject: a.l.Host.Name + " " + a.r.Path() + " " + x.Number, Host: a.l.Host.Name, AsWas: "Nothing was accepted.", About: "offer " + text.Visible(x.Number),
		Head: fmt.Sprintf("To accept offer %s to %s:", text.Visible(x.Number), a.r.Path()), From: x.Head}
	c.Line = o.Line("accept", x.Number)
	before, err := c.GoesOn()
	if err != nil {
		return nil, err
	}
	c.went = before != nil && x.State == "accepted" && (before.From == x.Head || x.Head == "")
	if !c.went {
		if err := c.ready(ctx); err != nil {
			return nil, err
		}
	}
	return c, c.plan(ctx)
}

// over says that an offer waits no longer.
func (a *at) over(o offering.Offer, w Which) error {
	f := fault.New(fault.Decision, "%s already", settled(o))
	if o.State == "accepted" && a.folder != nil {
		f.Try("receive what came of it", text.Command("uncinate", "sync", a.folder.Path))
	}
	return f.Try("see those that wait", w.Line("list"))
}

// ready stops at whatever keeps the offer from being accepted as it was looked at.
func (c *Accepting) ready(ctx context.Context) error {
	o, w := c.offer, c.o.Which
	show := w.Line("show", o.Number)
	switch {
	case c.r.Archived:
		return c.archived()
	case !o.Open():
		return c.over(o, w)
	case o.Head == "":
		return c.gone()
	case c.r.Right == "read":
		f := fault.New(fault.HostSaidNo, "account %s may only read %s, so it accepts nothing there", c.l.Account.Name, c.r.Path())
		return login.Others(f, login.WhoSees(ctx, c.desk, c.l.Host.Name, c.l.Account, c.r.Owner, c.r.Name, true), "accept it", func(account string) string {
			return Which{Repository: c.r.Path(), Account: account}.Line("accept", o.Number)
		})
	}
	if want := c.o.Commit; want != "" && (len(want) < 7 || !strings.HasPrefix(o.Head, strings.ToLower(want))) {
		return fault.New(fault.Decision, "offer %s is at commit %.10s now, and not at %s", text.Visible(o.Number), o.Head, text.Visible(want)).Try("look at it as it is now", show)
	}
	if c.folder != nil && c.o.Commit == "" {
		if was := offering.Seen(c.desk, c.folder.Path, c.l.Host.Name, o); was != "" && was != o.Head {
			return fault.New(fault.Decision, "offer %s has other commits than when you looked at it: it was at %.10s, and is at %.10s now", text.Visible(o.Number), was, o.Head).
				Detail("Nothing was accepted.").Try("look at it as it is now", show)
		}
	}
	if err := c.guards(ctx); err != nil {
		return err
	}
	if err := c.chooses(); err != nil {
		return err
	}
	return c.merges(ctx)
}

func (c *Accepting) gone() error {
	f := fault.New(fault.Decision, "the branch %s of offer %s is no longer there, so there is nothing to accept", text.Visible(c.offer.Branch), text.Visible(c.offer.Number))
	return f.Try("close it", c.o.Line("close", c.offer.Number))
}

// guards stops where the branch into which is protected from the account, and notes checks that failed.
func (c *Accepting) guards(ctx context.Context) error {
	s := &Shown{Listed: Listed{Offer: c.offer}}
	if err := s.guarded(ctx, c.at); err != nil {
		return err
	}
	if s.Guarded != nil && !s.May {
		return c.guarded(*s.Guarded)
	}
	checks, err := offering.Checks(ctx, c.l, c.offer)
	if err != nil && (ctx.Err() != nil || !fault.Is(err, fault.HostSaidNo)) {
		return err
	}
	for _, x := range checks {
		if says := x.Lacks(); says != "" {
			c.Notes = append(c.Notes, "The check "+says+".")
		}
	}
	return nil
}

func (c *Accepting) guarded(p login.Protection) error {
	f := fault.New(fault.HostSaidNo, "%s is protected on %s, and account %s may not bring anything into it", text.Visible(c.offer.Target), c.l.Host.Name, c.l.Account.Name)
	if says := p.Says(); says != "" {
		f.Detail("Its protection: %s.", says)
	}
	if len(p.Mergers) > 0 {
		f.Detail("%s can accept it.", text.Visible(strings.Join(p.Mergers, ", ")))
	}
	return f.Try("see it", text.Command("uncinate", "repository", "show", c.r.Path(), "--account", c.l.Account.Name))
}

// chooses decides by which way.
func (c *Accepting) chooses() error {
	ways := offering.Ways(c.l)
	switch {
	case c.o.Way != "" && !slices.Contains(ways, c.o.Way):
		f := fault.New(fault.HostSaidNo, "%s does not accept an offer so: %s", c.l.Host.Name, wayWords[c.o.Way])
		if len(ways) == 0 {
			return f.Try("leave the way to the host", c.o.Line("accept", c.offer.Number))
		}
		return f.Try("do it "+wayWords[ways[0]], c.o.Line("accept", c.offer.Number, "--way", ways[0]))
	case c.o.Way != "":
		c.way = c.o.Way
	case slices.Contains(ways, "merge"):
		c.way = "merge"
	case len(ways) > 0:
		c.way = ways[0]
	}
	if c.o.Text != "" && (c.way != "one" || !c.l.Host.Actions["offer-accept"].Takes("text")) {
		return fault.New(fault.Usage, "--text is of the one commit that an offer becomes, and it is accepted %s", wayWords[c.way]).Try("", c.o.Line("accept", c.offer.Number, "--way", "one"))
	}
	return nil
}

// merges stops where the offer does not merge cleanly.
func (c *Accepting) merges(ctx context.Context) error {
	if c.folder == nil {
		c.Notes = append(c.Notes, "Whether it merges cleanly was not tried: its project is not here.")
		return nil
	}
	if _, err := c.bring(ctx, []offering.Offer{c.offer}); err != nil {
		return err
	}
	x := listed(c.l, c.offer)
	if err := c.tryOne(ctx, &x); err != nil {
		return err
	}
	switch x.Merges {
	case "clean":
	case "clashes":
		return c.clashes(x.Clashes)
	case "not tried":
		c.Notes = append(c.Notes, "Whether it merges cleanly could not be tried: its commits are not at hand.")
	case "joined":
		c.Notes = append(c.Notes, text.Visible(x.Target)+" has all of it already.")
	default:
		return fault.New(fault.Decision, "%s no longer has a branch %s", c.r.Path(), text.Visible(x.Target)).Try("close the offer", c.o.Line("close", c.offer.Number))
	}
	if c.way != "replay" || x.Merges == "not tried" {
		return nil
	}
	told, err := c.refs(ctx)
	if err != nil {
		return err
	}
	merges, err := c.place.Do(ctx, "rev-list", "--min-parents=2", "-1", c.offer.Head, "--not", told.Branch(c.offer.Target))
	if err == nil && strings.TrimSpace(strings.Join(merges, "")) != "" {
		return fault.New(fault.Decision, "offer %s holds merges, which cannot be replayed", text.Visible(c.offer.Number)).Try("merge it", c.o.Line("accept", c.offer.Number, "--way", "merge"))
	}
	return ctx.Err()
}

// clashes says that an offer clashes, and who brings it up to date.
func (c *Accepting) clashes(files []string) error {
	o := c.offer
	f := fault.New(fault.Decision, "offer %s clashes with %s", text.Visible(o.Number), text.Visible(o.Target))
	desk.FirstOf(f, files)
	f.Detail("Nothing was accepted.")
	if listed(c.l, o).Mine {
		for _, line := range upToDate(o, c.folder.Branch, c.folder.Path) {
			f.Try("", line)
		}
		return f
	}
	return f.Try(fmt.Sprintf("its author, %s, brings it up to date", text.Visible(cmp.Or(o.Creator, "whoever made it"))), strings.Join(upToDate(o, o.Branch, ""), " && ")).
		Try("or do it yourself: bring it here first", c.o.Line("fetch", o.Number))
}

// UpToDate are the commands by which its author brings it up to date.
func (x Listed) UpToDate(folder string) []string {
	return upToDate(x.Offer, text.Either(x.Mean, x.Branch, ""), folder)
}

// upToDate are the commands by which the author of an offer that clashes brings it up to date.
func upToDate(o offering.Offer, current, folder string) []string {
	var out []string
	if current != o.Branch {
		out = append(out, desk.FolderCommand(folder, "branch", "switch", o.Branch))
	}
	return append(out, desk.FolderCommand(folder, "sync"), desk.FolderCommand(folder, "branch", "join", o.Target), desk.FolderCommand(folder, "sync"))
}

// removes reports whether the branch is to go.
func (c *Accepting) removes() bool { return !c.o.Keeps && (c.o.Removes || c.offer.Removes) }

// plan makes the steps.
func (c *Accepting) plan(ctx context.Context) error {
	o := c.offer
	words := fmt.Sprintf("Accept %s at %.10s into %s, %s", text.Visible(o.Branch), o.Head, text.Visible(o.Target), wayWords[c.way])
	if c.went {
		words = fmt.Sprintf("Accept %s into %s", text.Visible(o.Branch), text.Visible(o.Target))
	}
	c.add("accept", plan.Host, words, func(context.Context) (bool, error) {
		if c.went {
			c.Came = o
		}
		return c.went, nil
	}, c.accept)
	c.Steps[0].Stays = func(done bool) bool { return done }
	if c.o.Keeps && o.Removes && !c.l.Host.Actions["offer-accept"].Takes("removing") {
		c.Notes = append(c.Notes, "The offer says that its branch goes; "+c.l.Host.Name+" may remove it.")
	}
	if c.removes() && o.Apart() {
		c.Notes = append(c.Notes, fmt.Sprintf("Its branch is in %s, and goes by whoever sees to that.", text.Visible(o.From())))
	}
	if c.folder == nil {
		if c.removes() && !o.Apart() && !c.l.Host.Actions["offer-accept"].Takes("removing") {
			c.Notes = append(c.Notes, "Its branch stays on the host: it is removed where the project is, by branch remove.")
		}
		return nil
	}
	return c.afterwards(ctx)
}

func (c *Accepting) add(id string, place plan.Place, sentence string, done func(context.Context) (bool, error), do func(context.Context) error) {
	c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: id, Place: place, Sentence: sentence}, Done: done, Do: do})
}

// afterwards adds what is left to do here, and with the branch.
func (c *Accepting) afterwards(ctx context.Context) error {
	o, f := c.offer, c.folder
	if c.place == nil && o.Head != "" { // a run that was cut off had looked
		if _, err := c.bring(ctx, []offering.Offer{o}); err != nil {
			return err
		}
	}
	for _, name := range []string{o.Branch, tryName(o)} {
		if id, err := f.Repo.Resolve(ctx, "refs/heads/"+name); err == nil && name != o.Target && (name != o.Branch || !o.Apart()) {
			if c.at.contains(ctx, o.Head, id) {
				c.here = name
			}
		}
	}
	on := f.Branch
	if c.removes() && c.here != "" && on == c.here {
		c.add("switch", plan.Here, "Switch to "+text.Visible(o.Target), nil, func(ctx context.Context) error {
			sub, err := c.quiet(ctx)
			if err == nil {
				_, err = history.SwitchBranch(ctx, sub, f.Path, o.Target, false)
			}
			return c.left(err)
		})
		on = o.Target
	}
	if on != o.Target {
		c.Said = append(c.Said, fmt.Sprintf("To have it here: %s && %s", desk.FolderCommand(c.o.Folder, "branch", "switch", o.Target), desk.FolderCommand(c.o.Folder, "sync")))
	} else {
		c.add("receive", plan.Here, "Receive "+text.Visible(o.Target), nil, func(ctx context.Context) error {
			sub, err := c.quiet(ctx)
			if err != nil {
				return err
			}
			s, err := syncing.Plan(ctx, sub, syncing.Options{Folder: f.Path, InOnly: true})
			if err == nil {
				_, err = s.Do(ctx)
			}
			return c.left(err)
		})
	}
	if c.removes() && !o.Apart() {
		c.add("remove on host", plan.Host, "Remove "+text.Visible(o.Branch)+" on the host, if nobody sent to it meanwhile", nil, c.remove)
	}
	if c.removes() && c.here != "" {
		c.add("remove", plan.Here, "Remove "+text.Visible(c.here)+" here too; what is nowhere else is kept as a rescue copy", nil, func(ctx context.Context) error {
			if _, err := f.Repo.Resolve(ctx, "refs/heads/"+c.here); err != nil {
				return ctx.Err() // a run that was cut off removed it
			}
			return c.left(c.drops(ctx, c.here, true))
		})
	}
	return nil
}

// contains reports whether one commit is known to have another before it.
func (a *at) contains(ctx context.Context, all, part string) bool {
	if a.place == nil {
		return false
	}
	_, err := a.place.Do(ctx, "merge-base", "--is-ancestor", part, all)
	return err == nil
}
