package screen

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/history"
	"uncinate/internal/job/syncing"
)

// proposeBranches shows a plan about branches and carries it out.
func (e *Env) proposeBranches(ctx context.Context, b *history.BranchPlan, p plans, done string) error {
	if done, err := e.carryOut(ctx, p, b.Head, b, b.Notes); err != nil || !done {
		return err
	}
	return e.Give(Planned{Plan: b.Items(), Notes: b.Notes}, func() { e.Say("%s", done) })
}

func branchCommand() *Command {
	return &Command{Name: "branch", Short: "list, make, switch, rename, join and remove branches", Subs: []*Command{
		branchList(),
		branchMake(),
		branchSwitch(),
		branchRename(),
		branchJoin(),
		branchRemove(),
	}}
}

func branchList() *Command {
	return &Command{Name: "list", Args: "[FOLDER]", Most: 1, Short: "list the branches, the newest first", Takes: []string{"project"}, Gives: []history.Branch{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			most := mostOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				folder, err := in.of(args...)
				if err != nil {
					return err
				}
				all, err := history.Branches(ctx, d, folder)
				if err != nil {
					return err
				}
				return e.Give(all, func() { e.branches(all, time.Now(), *most) })
			})
		}}
}

func branchMake() *Command {
	return &Command{Name: "make", First: []string{"switch", "publish", "from", "for"}, Args: "NAME...", Least: 1, Most: -1, Short: "make branches, for a task or for several people",
		Examples: []string{"uncinate branch make new-scale --switch", "uncinate branch make survey --for knot --for dunlin --publish"}, Gives: Planned{},
		Options: func(o *flag.FlagSet) Run {
			var m history.MakeOptions
			preview := previewOption(o)
			in := inFolder(o)
			o.StringVar(&m.From, "from", "", "the `commit`, branch or tag where they begin")
			o.BoolVar(&m.Switch, "switch", false, "switch to it")
			o.BoolVar(&m.Publish, "publish", false, "send them to the host")
			o.Var((*list)(&m.For), "for", "one for this `person`, named PERSON/NAME; may be repeated")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				m.Names, m.Folder = args, in.in()
				if m.Switch && len(args)*max(1, len(m.For)) > 1 {
					return fault.New(fault.Usage, "you can switch to one branch only, and more would be made").Try("make them first", "uncinate branch make NAME ...")
				}
				b, err := history.MakeBranches(ctx, d, m)
				if err != nil {
					return err
				}
				done := " sent."
				if slices.ContainsFunc(b.Items(), func(i plan.Item) bool { return strings.HasPrefix(i.ID, "make ") }) {
					done = " made."
				}
				return e.proposeBranches(ctx, b, plans{preview: *preview, yes: true}, text.Count(len(args)*max(1, len(m.For)), "branch")+done)
			})
		}}
}

func branchSwitch() *Command {
	return &Command{Name: "switch", Args: "NAME", Least: 1, Most: 1, Short: "switch to a branch; unsaved changes come along, or stop it", Takes: []string{"branch"}, Gives: history.Switched{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				r, err := history.SwitchBranch(ctx, d, in.in(), args[0], *preview)
				if err != nil {
					return err
				}
				if *preview {
					items := []plan.Item{here("Switch to the branch " + text.Visible(r.Branch))}
					if kept := switchKeeps(r); kept != "" {
						items = append([]plan.Item{here("Keep a rescue copy of " + kept)}, items...)
					}
					return e.would(ctx, "", items...)
				}
				return e.Give(r, func() {
					e.Say("On branch %s, at %.10s.", text.Visible(r.Branch), r.Commit)
					if r.Rescued > 0 {
						e.Say("Kept as rescue copy %d: %s. See it: uncinate rescue show %d", r.Rescued, switchKeeps(r), r.Rescued)
					}
					if r.Behind > 0 {
						e.Say("%s on the host %s not here. To receive %s: uncinate sync", text.Count(r.Behind, "commit"), desk.IsAre(r.Behind), desk.ItThem(r.Behind))
					}
					if len(r.Changed) > 0 {
						e.Say("Came along, not saved yet: %s.", changes(r.Changed))
					}
				})
			})
		}}
}

// switchKeeps names what a switch keeps a rescue copy of.
func switchKeeps(r *history.Switched) string {
	var what []string
	if r.OnNone > 0 {
		what = append(what, text.Count(r.OnNone, "commit")+" on no branch")
	}
	if r.InWay > 0 {
		what = append(what, text.Count(r.InWay, "file")+" in the way")
	}
	return strings.Join(what, ", ")
}

func branchRename() *Command {
	return &Command{Name: "rename", Args: "OLD NEW", Least: 2, Most: 2, Short: "rename a branch, here and on the host", Takes: []string{"branch"}, Gives: Planned{},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			here := o.Bool("here", false, "here only")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				b, err := history.RenameBranch(ctx, d, in.in(), args[0], args[1], *here)
				if err != nil {
					return err
				}
				p.yes = p.yes || len(b.Items()) == 1
				return e.proposeBranches(ctx, b, p, text.Visible(args[0])+" is now called "+text.Visible(args[1])+".")
			})
		}}
}

func branchJoin() *Command {
	return &Command{Name: "join", Args: "NAME", Least: 1, Most: 1, Short: "merge a branch into the current one", Takes: []string{"branch"}, Gives: syncing.Synced{},
		Long: `It is tried in a scratch copy first. What both sides changed is decided by settle, or all at once
by --clash; until then everything stays as it was. Nothing is sent; sync does that.`,
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			var j syncing.JoinOptions
			clashOption(o, &j.Clash)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				j.Folder, j.Name, j.Preview = in.in(), args[0], p.preview
				s, err := syncing.JoinBranch(ctx, d, j)
				if err != nil {
					return err
				}
				if goes, err := e.proposeSync(ctx, p, "To join "+text.Visible(args[0])+":", s); err != nil || !goes {
					return err
				}
				r, err := s.Join(ctx)
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.joined(d, args[0], r) })
			})
		}}
}

// joined tells what came of a join.
func (e *Env) joined(d *desk.Desk, name string, r *syncing.Synced) {
	if r.Unjoined > 0 {
		defer e.Say("Not joined: %s of %s that %s only on the host. To receive %s: uncinate branch switch %s", text.Count(r.Unjoined, "commit"), text.Visible(name),
			desk.IsAre(r.Unjoined), desk.ItThem(r.Unjoined), text.Quote(name))
	}
	if r.TakenBack != "" {
		defer e.Say("What was joined of %s before was taken back by commit %.10s, and did not come in again. To bring it in: %s", text.Visible(name), r.TakenBack, desk.FolderCommand(".", "undo", "commit", r.TakenBack[:10]))
	}
	if r.Received == 0 {
		e.Say("%s has all of it already.", text.Visible(r.Branch))
		return
	}
	e.Say("Joined: %s of %s %s now on %s, here only.", text.Count(r.Received, "commit"), text.Visible(name), desk.IsAre(r.Received), text.Visible(r.Branch))
	e.ended(r)
	e.toSend(d, r.Folder, r.Received)
}

// ended tells what was put beside where both sides changed the same.
func (e *Env) ended(r *syncing.Synced) {
	told := 0
	for _, x := range r.Decided {
		for _, b := range x.Beside {
			if told++; told > mostMeets {
				continue
			}
			e.Say("Your %s is now %s, beside theirs. Put your work into %s, save, and delete %s.", e.Out.visible(x.Path), e.Out.visible(b), e.Out.visible(x.Path), e.Out.visible(b))
		}
	}
	if told > mostMeets {
		e.Say("And %d more are beside theirs; uncinate status tells of them.", told-mostMeets)
	}
	for _, n := range r.Rescued {
		e.Say("What was here before is kept as rescue copy %d: uncinate rescue show %d", n, n)
	}
}

func branchRemove() *Command {
	return &Command{Name: "remove", Args: "NAME", Least: 1, Most: 1, Short: "remove a branch, here and on the host; what only it holds is kept as a rescue copy", Takes: []string{"branch"}, Gives: Planned{}, Apart: [][]string{{"here", "on-host"}},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			here := o.Bool("here", false, "here only")
			onHost := o.Bool("on-host", false, "on the host only")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				b, err := history.RemoveBranch(ctx, d, in.in(), args[0], *here, *onHost)
				if err != nil {
					return err
				}
				return e.proposeBranches(ctx, b, p, text.Visible(args[0])+" is removed.")
			})
		}}
}

func (e *Env) branches(all []history.Branch, now time.Time, most int) {
	if len(all) == 0 {
		e.Say("There is no branch with a commit yet.")
		return
	}
	cells := [][]string{{"", "branch", "where", "against default", "last commit"}}
	for i, b := range all {
		if i == most {
			break
		}
		mark := ""
		if b.Current {
			mark = "current"
		}
		where := map[[2]bool]string{{true, true}: "here, on host", {true, false}: "here", {false, true}: "on host"}[[2]bool{b.Here, b.OnHost}]
		if b.Gone {
			where += ", no longer on host"
		}
		if b.Unsent > 0 {
			where += fmt.Sprintf(", %d not sent", b.Unsent)
		}
		if b.Missing > 0 {
			where += fmt.Sprintf(", %d to receive", b.Missing)
		}
		cells = append(cells, []string{mark, b.Name, where, against(b), board.Age(now.Sub(b.When)) + ", " + b.Who})
	}
	e.lines(cells, give{4, 8}, give{1, 12}, give{2, 16})
	if len(all) > most && most > 0 {
		e.more(len(all), most)
	}
}

func against(b history.Branch) string {
	var parts []string
	switch {
	case b.Joined && b.Behind == 0:
		return "the same"
	case b.Joined:
		parts = append(parts, "joined")
	}
	if b.Ahead > 0 {
		parts = append(parts, fmt.Sprintf("%d ahead", b.Ahead))
	}
	if b.Behind > 0 {
		parts = append(parts, fmt.Sprintf("%d behind", b.Behind))
	}
	return strings.Join(parts, ", ")
}
