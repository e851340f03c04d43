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

func historyCommand() *Command {
	return &Command{Name: "history", Args: "[PATH]", Most: 1,
		Short: "list the commits, each marked by where it is: here, there or both",
		Long: `The newest first, of this branch and of its counterpart on the host as far as it was asked.
With a PATH, only those that touched this file or folder. With --full, the files that each
touched; with --graph, the lines of descent beside
them: "." where one begins below a merge, "'" where it ends, "+" where it meets another.`,
		Examples: []string{"uncinate history", "uncinate history --there", "uncinate history src/level.c", "uncinate history --graph --most 100"}, Gives: history.History{},
		Options: func(o *flag.FlagSet) Run {
			var h history.HistoryOptions
			o.StringVar(&h.Folder, "folder", ".", "the project's `folder`")
			o.StringVar(&h.Branch, "branch", "", "another `branch`, a tag or a commit")
			o.IntVar(&h.Most, "most", 30, "how `many`")
			o.BoolVar(&h.Full, "full", false, "the files that each touched")
			o.BoolVar(&h.Graph, "graph", false, "the lines of descent")
			here := o.Bool("here", false, "only those that are not on the host")
			there := o.Bool("there", false, "only those that were not brought in to this branch")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				switch {
				case *here && *there:
					return fault.New(fault.Usage, "one side at a time: --here or --there").Try("both", "uncinate history")
				case *here:
					h.Side = "here"
				case *there:
					h.Side = "there"
				}
				if len(args) > 0 {
					h.Path = args[0]
				}
				r, err := history.Read(ctx, d, h)
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.history(ctx, r, h) })
			})
		}}
}

func (e *Env) history(ctx context.Context, r *history.History, o history.HistoryOptions) {
	if len(r.Commits) == 0 {
		words := "There is no commit here so far."
		if o.Path != "" {
			words = "No commit touched " + text.Visible(o.Path) + "."
		} else if o.Side != "" {
			words = "No commit is only " + o.Side + "."
		}
		e.Say("%s", words)
		return
	}
	cells := [][]string{{"", "commit", "when", "who", "what"}}
	widest := 0
	for _, c := range r.Commits {
		widest = max(widest, len(c.Lead))
	}
	for _, c := range r.Commits {
		lead := c.Where
		if widest > 0 {
			lead = fmt.Sprintf("%-*s  %s", widest, c.Lead, lead)
		}
		what := c.Title
		var names []string
		for _, n := range c.Names {
			names = append(names, short(n))
		}
		if len(names) > 0 {
			what = "[" + strings.Join(names, ", ") + "] " + what
		}
		cells = append(cells, []string{lead, c.ID[:min(10, len(c.ID))], c.When.Local().Format("2006-01-02 15:04"), c.Who, what})
	}
	if !o.Full {
		e.lines(cells, 4)
	} else {
		for i, c := range r.Commits {
			row := cells[i+1]
			e.Say("%s  %s  %s  %s", e.Out.strong(row[1]), row[2], e.Out.visible(row[3]), row[0])
			e.Say("  %s", e.Out.wrap(e.Out.visible(row[4]), 2))
			for _, f := range c.Files {
				extent := fmt.Sprintf("%d added, %d removed", f.Added, f.Removed)
				if f.Added < 0 {
					extent = "binary"
				}
				e.Say("    %s  %s", e.Out.visible(f.Path), extent)
			}
		}
	}
	e.Say("")
	e.Say("What one changed: uncinate changes --commit COMMIT --full")
	if r.More {
		e.Say("Older ones: uncinate history --most %d", 3*len(r.Commits))
	}
}

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

func tagCommand() *Command {
	return &Command{Name: "tag", Args: "VERSION [COMMIT]", Least: 1, Most: 2,
		Short: "mark a version, and send the mark",
		Long: `VERSION is a version number such as 1.4.0, with or without a v before it (Semantic Versioning
2.0.0), unless --any-name is given. The tag is annotated, and signed if the account signs.
What a tag stands for is never changed.`,
		Examples: []string{"uncinate tag v1.4.0", `uncinate tag 2.0.0-rc.1 --text "First look at the new scale"`}, Gives: Planned{},
		Options: func(o *flag.FlagSet) Run {
			var t history.TagOptions
			var p plans
			p.add(o)
			o.StringVar(&t.Folder, "folder", ".", "the project's `folder`")
			o.StringVar(&t.Text, "text", "", "what the tag says: a `text`; its name unless said")
			o.BoolVar(&t.Any, "any-name", false, "the name need not be a version number")
			o.BoolVar(&t.Here, "here", false, "do not send it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if t.Name = args[0]; len(args) > 1 {
					t.At = args[1]
				}
				plan, err := history.Tag(ctx, d, t)
				if err != nil {
					return err
				}
				p.yes = p.yes || len(plan.Notes) == 0
				return e.proposeBranches(ctx, plan, p, "Marked as "+text.Visible(t.Name)+".")
			})
		}}
}
