package screen

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/history"
	"uncinate/internal/job/syncing"
)

// proposeBranches shows a plan about branches and carries it out.
func (e *Env) proposeBranches(ctx context.Context, plan *history.BranchPlan, p plans, done string) error {
	if done, err := e.carryOut(ctx, p, plan.Head, plan, plan.Notes); err != nil || !done {
		return err
	}
	return e.Give(Planned{Plan: plan.Items(), Notes: plan.Notes}, func() { e.Say("%s", done) })
}

func branchCommand() *Command {
	return &Command{Name: "branch", Short: "make, list, switch, rename, join and remove branches", Subs: []*Command{
		branchList(),
		branchMake(),
		branchSwitch(),
		branchRename(),
		branchJoin(),
		branchRemove(),
	}}
}

func branchList() *Command {
	return &Command{Name: "list", Args: "[FOLDER]", Most: 1, Short: "list the branches, the youngest first", Takes: []string{"project"}, Gives: []history.Branch{},
		Options: func(o *flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				all, err := history.Branches(ctx, d, folderOf(args))
				if err != nil {
					return err
				}
				return e.Give(all, func() { e.branches(all, time.Now()) })
			})
		}}
}

func branchMake() *Command {
	return &Command{Name: "make", Args: "NAME...", Least: 1, Most: -1, Short: "make branches, for a task or for several people",
		Examples: []string{"uncinate branch make new-scale --switch", "uncinate branch make survey --for knot --for dunlin --publish"}, Gives: Planned{},
		Options: func(o *flag.FlagSet) Run {
			var m history.MakeOptions
			preview := o.Bool("preview", false, "show the plan and stop")
			o.StringVar(&m.Folder, "folder", ".", "the project's `folder`")
			o.StringVar(&m.From, "from", "", "the `commit`, branch or tag where they begin")
			o.BoolVar(&m.Switch, "switch", false, "go to it")
			o.BoolVar(&m.Publish, "publish", false, "send them to the host")
			o.Var((*list)(&m.For), "for", "one for this `person`, named PERSON/NAME; may be given several times")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				m.Names = args
				if m.Switch && len(args)*max(1, len(m.For)) > 1 {
					return fault.New(fault.Usage, "one can go to one branch only, and more are to be made").Try("make them first", "uncinate branch make NAME ...")
				}
				plan, err := history.MakeBranches(ctx, d, m)
				if err != nil {
					return err
				}
				return e.proposeBranches(ctx, plan, plans{preview: *preview, yes: true}, text.Count(len(args)*max(1, len(m.For)), "branch")+" made.")
			})
		}}
}

func branchSwitch() *Command {
	return &Command{Name: "switch", Args: "NAME", Least: 1, Most: 1, Short: "go to a branch; what is not saved comes along, or stops it", Takes: []string{"branch"}, Gives: history.Switched{},
		Options: func(o *flag.FlagSet) Run {
			folder := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				r, err := history.SwitchBranch(ctx, d, *folder, args[0])
				if err != nil {
					return err
				}
				return e.Give(r, func() {
					e.Say("On %s now, at %.10s.", text.Visible(r.Branch), r.Commit)
					if r.Rescued > 0 {
						var what []string
						if r.OnNone > 0 {
							what = append(what, text.Count(r.OnNone, "commit")+" on no branch")
						}
						if r.InWay > 0 {
							what = append(what, text.Count(r.InWay, "file")+" in the way")
						}
						e.Say("Kept as rescue copy %d: %s. See it: uncinate rescue show %d", r.Rescued, strings.Join(what, ", "), r.Rescued)
					}
					if len(r.Changed) > 0 {
						e.Say("Came along, not saved yet: %s.", changes(r.Changed))
					}
				})
			})
		}}
}

func branchRename() *Command {
	return &Command{Name: "rename", Args: "OLD NEW", Least: 2, Most: 2, Short: "call a branch otherwise, here and on the host", Takes: []string{"branch"}, Gives: Planned{},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			folder := inFolder(o)
			here := o.Bool("here", false, "here only")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				plan, err := history.RenameBranch(ctx, d, *folder, args[0], args[1], *here)
				if err != nil {
					return err
				}
				p.yes = p.yes || len(plan.Items()) == 1
				return e.proposeBranches(ctx, plan, p, text.Visible(args[0])+" is called "+text.Visible(args[1])+" now.")
			})
		}}
}

func branchJoin() *Command {
	return &Command{Name: "join", Args: "NAME", Least: 1, Most: 1, Short: "merge a branch into the one that you are on", Takes: []string{"branch"}, Gives: syncing.Synced{},
		Long: `Tried out aside first: what does not come out clean leaves everything as it was. Nothing is
sent; sync does that.`,
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			folder := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				s, err := syncing.JoinBranch(ctx, d, *folder, args[0])
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
				return e.Give(r, func() {
					if r.BroughtIn == 0 {
						e.Say("%s holds all of it already.", text.Visible(r.Branch))
						return
					}
					e.Say("Joined: %s of %s on %s now, here only. To send it: uncinate sync", text.Count(r.BroughtIn, "commit"), text.Visible(args[0]), text.Visible(r.Branch))
				})
			})
		}}
}

func branchRemove() *Command {
	return &Command{Name: "remove", Args: "NAME", Least: 1, Most: 1, Short: "remove a branch, here and on the host; what would be lost is kept as a rescue copy", Takes: []string{"branch"}, Gives: Planned{},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			folder := inFolder(o)
			here := o.Bool("here", false, "here only")
			there := o.Bool("there", false, "on the host only")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				plan, err := history.RemoveBranch(ctx, d, *folder, args[0], *here, *there)
				if err != nil {
					return err
				}
				return e.proposeBranches(ctx, plan, p, text.Visible(args[0])+" is removed.")
			})
		}}
}

func (e *Env) branches(all []history.Branch, now time.Time) {
	if len(all) == 0 {
		e.Say("There is no branch with a commit so far.")
		return
	}
	cells := [][]string{{"", "branch", "where", "against the default", "last commit"}}
	for _, b := range all {
		mark := ""
		if b.Current {
			mark = "on it"
		}
		where := map[[2]bool]string{{true, true}: "both", {true, false}: "here", {false, true}: "there"}[[2]bool{b.Here, b.There}]
		if b.Unsent > 0 {
			where += fmt.Sprintf(", %d unsent", b.Unsent)
		}
		if b.Missing > 0 {
			where += fmt.Sprintf(", %d to bring in", b.Missing)
		}
		cells = append(cells, []string{mark, b.Name, where, against(b), board.Age(now.Sub(b.When)) + ", " + b.Who})
	}
	e.lines(cells, 4)
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
