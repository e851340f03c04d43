package offers

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/board"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/history"
	"uncinate/internal/world/git"
)

// CreateOptions say what is offered.
type CreateOptions struct {
	Which
	Into    string // the branch into which; "" for the host's default one
	Branch  string // the name of the branch that is made, where the commits are on the one into which they are to come
	Title   string
	Text    string
	Removes bool // the branch goes with the acceptance
}

// Creating is a branch that is to be offered.
type Creating struct {
	*desk.Change
	*at
	held   interface{ Release() error }
	o      CreateOptions
	branch string
	target string
	theirs string // the commit of target on the host
	before *desk.Cut
	own    *project.Project // the copy of one's own by which it is offered; nil where it is not needed
	copy   description.Repository
	to     *project.Tie // where the branch is sent
	there  string       // the commit of the branch there, as told before
	offer  *offering.Offer
	half   bool     // a run that was cut off had put the commits on a branch of their own, and not the other one back
	lines  []string // titles of the commits, the oldest first

	Title, Text string
	Made        offering.Offer // what came of it
}

// Release gives it up.
func (c *Creating) Release() error { return c.held.Release() }

// Do carries it out.
func (c *Creating) Do(ctx context.Context) error {
	return errors.Join(c.Change.Do(ctx), c.held.Release())
}

// line is the command that goes on with it.
func (o CreateOptions) words() []string {
	out := []string{"uncinate", "offer", "create"}
	for _, x := range [][2]string{{"into", o.Into}, {"branch", o.Branch}, {"title", o.Title}, {"text", o.Text}, {"account", o.Account}} {
		if x[1] != "" {
			out = append(out, "--"+x[0], x[1])
		}
	}
	if o.Removes {
		out = append(out, "--remove-branch")
	}
	return out
}

const toOffer = "take offers to merge"

// Create plans to offer the branch that is checked out.
func Create(ctx context.Context, d *desk.Desk, o CreateOptions) (*Creating, error) {
	f, held, err := history.Quick(ctx, d, o.Folder)
	if err != nil {
		return nil, err
	}
	f.ReadRemotes(d)
	c := &Creating{at: &at{desk: d}, held: held, o: o}
	if err := c.plan(ctx, f); err != nil {
		return nil, errors.Join(err, held.Release())
	}
	return c, nil
}

func (c *Creating) plan(ctx context.Context, f *project.Folder) error {
	d := c.desk
	if f.Branch == "" {
		return project.OnNoBranch(f.Path)
	}
	if err := c.of(ctx, c.o.Which, f, "offer-make", toOffer); err != nil {
		return err
	}
	for _, action := range []string{"offer-list", "offer-show"} {
		if err := c.may(ctx, action, toOffer+", and check them"); err != nil {
			return err
		}
	}
	c.Change = &desk.Change{Desk: d, Job: "offer-create", Subject: f.Path, Host: c.l.Host.Name, AsWas: "Nothing was offered.", Line: text.Command(c.o.words()...)}
	switch {
	case c.r.Archived:
		return c.archived()
	case c.main.ReceivesOnly:
		return fault.New(fault.Decision, "this copy of the project never sends, and an offer's commits are sent first").
			Try("see what is remembered of it", text.Command("uncinate", "settings", "list", "--folder", f.Path))
	case strings.ContainsAny(c.o.Title, "\r\n"):
		return fault.New(fault.Usage, "a title is one line; the rest goes into --text")
	}
	var err error
	if c.before, err = c.GoesOn(); err != nil {
		return err
	}
	if err := c.ends(ctx); err != nil {
		return err
	}
	c.Change.About, c.Head = c.branch, fmt.Sprintf("To offer %s to %s, for %s:", text.Visible(c.branch), c.r.Path(), text.Visible(c.target))
	c.From = f.Head
	if err := c.route(ctx); err != nil {
		return err
	}
	if err := c.offered(ctx); err != nil {
		return err
	}
	if c.before != nil && c.before.From == f.Head && f.Branch != c.target {
		now, err := f.Repo.Resolve(ctx, "refs/heads/"+c.target)
		c.half = err == nil && now == f.Head
	}
	c.steps()
	return c.notes(ctx)
}

func (a *at) archived() error {
	return fault.New(fault.HostSaidNo, "%s is archived on %s, so nothing is merged there", a.r.Path(), a.l.Host.Name).
		Try("see it", text.Command("uncinate", "repository", "show", a.r.Path(), "--account", a.l.Account.Name))
}

// ends finds the branch, the one into which it is to come, and the commits between.
func (c *Creating) ends(ctx context.Context) error {
	f := c.folder
	told, err := c.refs(ctx)
	if err != nil {
		return err
	}
	c.branch, c.target = f.Branch, cmp.Or(c.o.Into, c.r.DefaultBranch, told.Head)
	if c.theirs = told.Branch(c.target); c.theirs == "" {
		x := fault.New(fault.Decision, "%s has no branch %s", c.r.Path(), text.Visible(c.target))
		if near := text.Nearest(c.target, told.Branches()); near != "" {
			x.Detail("Did you mean %s?", text.Visible(near))
		} else if told.Empty() {
			x.Detail("It is empty: the first branch is sent there, not offered.")
		}
		return x.Try("see its branches", text.Command("uncinate", "branch", "list", f.Path))
	}
	if f.Head == "" {
		return fault.New(fault.Decision, "there is no commit here yet, so there is nothing to offer").Try("save your files first", text.Command("uncinate", "save", "--message", "What was done", "--folder", f.Path))
	}
	if notAll, err := c.bring(ctx, []offering.Offer{{Branch: c.target, Target: c.target, Head: c.theirs}}); err != nil {
		return err
	} else if !c.place.Has(ctx, c.theirs) {
		return fault.New(fault.Decision, "what %s has on %s cannot be compared: it is not here", c.r.Path(), text.Visible(c.target)).Detail("%s", notAll).Try("receive it first", text.Command("uncinate", "sync", f.Path))
	}
	if _, err := c.place.Do(ctx, "merge-base", f.Head, c.theirs); err != nil && git.Code(err) == 1 {
		return fault.New(fault.Decision, "%s here and %s on %s have no commit in common, so it cannot be merged", text.Visible(c.branch), text.Visible(c.target), c.l.Host.Name)
	}
	// What was replayed there is there already (git-rev-list documentation, --cherry-pick).
	out, err := c.place.Do(ctx, "log", "-z", "--no-show-signature", "--reverse", "--topo-order", "--no-merges", "--cherry-pick", "--right-only", "--format=%s%n%b", c.theirs+"..."+f.Head, "--")
	if err != nil {
		return git.Fault(err, "git cannot list the commits")
	}
	if held, err := worktree.HoldsAll(ctx, f, c.theirs, f.Head, c.place.Objects()); err != nil || held {
		return cmp.Or(err, c.nothing(ctx))
	}
	c.proposed(out)
	if c.branch == c.target {
		c.branch = c.fresh(ctx, told)
	} else if c.o.Branch != "" && c.o.Branch != c.branch {
		return fault.New(fault.Usage, "the branch %s is checked out, and is offered as it is; --branch names one that is made where the commits are on %s", text.Visible(c.branch), text.Visible(c.target)).
			TryWithout("offer it", text.Command("uncinate", "offer", "create"), "branch")
	}
	_, err = f.Repo.Do(ctx, "check-ref-format", "--branch", c.branch)
	if err != nil || strings.HasPrefix(c.branch, "-") {
		return fault.New(fault.Usage, "%s is not a name for a branch", text.Quote(c.branch))
	}
	return nil
}

// offered looks whether the branch is offered already.
func (c *Creating) offered(ctx context.Context) error {
	from := c.r.Path()
	if c.own != nil {
		from = c.copy.Path()
	}
	if m, noted := offering.NotesOf(c.desk, c.folder.Path).Made[c.branch]; noted && m.Host == c.l.Host.Name {
		o, found, err := offering.Show(ctx, c.l, c.r, m.Number)
		if err != nil {
			return err
		}
		if found && o.Open() && o.Branch == c.branch && o.Target == c.target && strings.EqualFold(o.From(), from) {
			c.offer = &o
			return nil
		}
	}
	var err error
	c.offer, err = c.find(ctx, from)
	return err
}

// find looks for an open offer of the branch among those that the host lists.
func (c *Creating) find(ctx context.Context, from string) (*offering.Offer, error) {
	all, _, err := offering.List(ctx, c.l, c.r, "open", mostFiltered)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(o offering.Offer) bool {
		return o.Open() && o.Branch == c.branch && o.Target == c.target && strings.EqualFold(o.From(), from)
	})
	if i < 0 {
		return nil, nil
	}
	return &all[i], nil
}

// notes says what is worth knowing before.
func (c *Creating) notes(ctx context.Context) error {
	st, err := c.folder.Repo.Status(ctx, false)
	if err != nil {
		return git.Fault(err, "git cannot tell what changed")
	}
	if changed := st.Counts(); len(changed) > 0 {
		c.Notes = append(c.Notes, "Not saved, so not in it: "+board.Changes(changed)+".")
	}
	clashes, _, err := c.meet(ctx, c.theirs, c.folder.Head)
	if err == nil && len(clashes) > 0 {
		c.Notes = append(c.Notes, fmt.Sprintf("It does not merge cleanly now: %s there too. To bring it up to date, before or after: %s", text.Either(len(clashes) == 1, text.Visible(clashes[0])+" was changed", text.Count(len(clashes), "file")+" were changed"), text.Command("uncinate", "sync")+" && "+text.Command("uncinate", "branch", "join", c.target)))
	}
	if c.o.Removes && !c.l.Host.Actions["offer-make"].Takes("removing") {
		c.Notes = append(c.Notes, c.l.Host.Name+" does not keep that the branch is to go: whoever accepts it says so.")
	}
	return ctx.Err()
}

// steps are what there is to do.
func (c *Creating) steps() {
	f := c.folder
	if c.branch != f.Branch || c.half {
		c.aside()
	}
	if c.own == nil && c.copy.Name != "" {
		c.copies()
	}
	if c.there != f.Head {
		where := ""
		if c.copy.Name != "" {
			where = " to " + c.copy.Path()
		}
		n := text.Count(max(len(c.lines), 1), "commit")
		c.add("send", plan.Host, fmt.Sprintf("Send %s (%s)%s", text.Visible(c.branch), n, where), c.sent, func(ctx context.Context) error {
			return project.Push(ctx, c.desk, c.to, project.Sending{Refs: []project.Sent{project.SendBranch(c.branch)}, Follows: true})
		})
	}
	if c.offer != nil {
		c.Notes = append(c.Notes, fmt.Sprintf("It is offered already, as number %s.", text.Visible(c.offer.Number)))
		c.Made = *c.offer
		if offering.NotesOf(c.desk, f.Path).Made[c.branch] != c.made(*c.offer) {
			c.add("note", plan.Here, "Note here that it is offer "+text.Visible(c.offer.Number), nil, func(ctx context.Context) error { return c.note(ctx, *c.offer) })
		}
		return
	}
	words := fmt.Sprintf("Offer it to %s for %s, titled %q", c.r.Path(), text.Visible(c.target), text.Excerpt(c.Title, 80))
	if c.o.Removes && c.l.Host.Actions["offer-make"].Takes("removing") {
		words += "; the branch goes with the acceptance"
	}
	c.add("offer", plan.Host, words, nil, c.make)
}

func (c *Creating) add(id string, place plan.Place, sentence string, done func(context.Context) (bool, error), do func(context.Context) error) {
	c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: id, Place: place, Sentence: sentence}, Done: done, Do: do})
}

// sent reports whether the branch is where it is offered from.
func (c *Creating) sent(ctx context.Context) (bool, error) {
	if c.before == nil {
		return false, nil
	}
	told, err := project.Refs(ctx, c.desk, c.to, "")
	return err == nil && told.Branch(c.branch) == c.folder.Head, err
}

func (c *Creating) made(o offering.Offer) offering.Made {
	return offering.Made{Number: o.Number, Host: c.l.Host.Name, Owner: c.r.Owner, Name: c.r.Name, Account: c.l.Account.Name, Target: o.Target, State: "open"}
}

// note notes here which offer it is.
func (c *Creating) note(ctx context.Context, o offering.Offer) error {
	c.Made = o
	return offering.NoteMade(ctx, c.desk, c.folder.Path, c.branch, c.made(o))
}

// make asks the host to take the offer, and checks it. One whose answer was lost may have been made.
func (c *Creating) make(ctx context.Context) error {
	from := c.r
	if c.copy.Name != "" {
		from = c.copy
	}
	vars := login.RepositoryVars(c.r)
	for name, v := range (description.Vars{"branch": c.branch, "target": c.target, "title": c.Title, "text": c.Text, "removing": c.o.Removes, "from_owner": from.Owner, "from_name": from.Name, "head": c.folder.Head}) {
		vars[name] = v
	}
	if c.before != nil { // it may have been made before this was cut off
		if o, err := c.find(ctx, from.Path()); err != nil || o != nil {
			if err != nil {
				return err
			}
			return c.note(ctx, *o)
		}
	}
	f, err := c.l.Do(ctx, "offer-make", "take the offer of "+text.Excerpt(c.branch, 60)+" to "+c.r.Path(), vars)
	var there *offering.Offer
	look := func() (bool, error) {
		var err error
		there, err = c.find(ctx, from.Path())
		return there != nil, err
	}
	if login.Means(err, description.Already) {
		if done, e := look(); e == nil && done {
			err = nil
		}
	}
	if err := login.Lost(err, look); err != nil {
		return c.why(ctx, err)
	}
	if there == nil {
		if n := description.Written(f["number"]); n != "" {
			o, found, err := offering.Show(ctx, c.l, c.r, n)
			if err != nil {
				return err
			}
			if found {
				there = &o
			}
		} else if _, err := look(); err != nil {
			return err
		}
	}
	switch {
	case there == nil:
		return fault.New(fault.Failed, "%s took the offer, and does not show it", c.l.Host.Name)
	case there.Head != "" && there.Head != c.folder.Head:
		c.Notes = append(c.Notes, fmt.Sprintf("The branch has other commits on %s by now: somebody else sent to it.", c.l.Host.Name))
	}
	return c.note(ctx, *there)
}

// why finds the cause of an offer that was refused.
func (c *Creating) why(ctx context.Context, err error) error {
	if ctx.Err() != nil || !fault.Is(err, fault.HostSaidNo) {
		return err
	}
	if now, found, look := c.l.Repository(ctx, c.r.Owner, c.r.Name); look == nil && (!found || now.Archived) {
		if found {
			return c.archived()
		}
		return fault.New(fault.HostSaidNo, "%s is no longer there", c.r.Path()).Because(err)
	}
	return err
}
