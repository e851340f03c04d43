package screen

import (
	"context"
	"flag"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/worktree"
)

// inFolder adds the option of every command whose arguments are something else than the
// project's folder.
func inFolder(o *flag.FlagSet) *string {
	return o.String("folder", ".", "the project's `folder`")
}

func rescueCommand() *Command {
	return &Command{Name: "rescue", Short: "bring back what was kept before it was overwritten",
		Long: `Before any command overwrites or drops a branch's commits or a file, it keeps a rescue
copy, in a repository of its own beside git's (.git/uncinate/rescue.git): nothing of it is
ever sent. A copy goes by itself after 90 days, or after the time that drop --after set.`,
		Subs: []*Command{
			rescueList(),
			rescueShow(),
			rescueBring(),
			rescueDrop(),
		}}
}

func rescueList() *Command {
	return &Command{Name: "list", Args: "[FOLDER]", Most: 1, Short: "list the copies, the newest first", Takes: []string{"project"}, Gives: []worktree.RescueCopy{},
		Options: func(o *flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				all, err := worktree.Rescues(ctx, d, folderOf(args))
				if err != nil {
					return err
				}
				return e.Give(append([]worktree.RescueCopy{}, all...), func() { e.rescues(all) })
			})
		}}
}

func rescueShow() *Command {
	return &Command{Name: "show", Args: "NUMBER [PATH]", Least: 1, Most: 2, Short: "tell what a copy holds, or print one file of it", Gives: worktree.RescueCopy{},
		Options: func(o *flag.FlagSet) Run {
			folder := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				n, err := number(args[0])
				if err != nil {
					return err
				}
				if len(args) > 1 {
					return worktree.RescuedFile(ctx, d, *folder, n, args[1], e.raw())
				}
				c, err := worktree.Rescue(ctx, d, *folder, n)
				if err != nil {
					return err
				}
				return e.Give(c, func() { e.rescueCopy(c) })
			})
		}}
}

func rescueBring() *Command {
	return &Command{Name: "bring", Args: "NUMBER [PATH...]", Least: 1, Most: -1, Short: "bring a copy back: its commits as a branch, its files to their places",
		Long: `Nothing that stands is written over: where something does, nothing is done, and
the command that brings the files into another folder is named.`,
		Examples: []string{"uncinate rescue bring 3", "uncinate rescue bring 3 --as before-the-sync", "uncinate rescue bring 4 settings.ini --into /tmp/look"}, Gives: worktree.Brought{},
		Options: func(o *flag.FlagSet) Run {
			b := worktree.BringOptions{}
			folder := inFolder(o)
			o.StringVar(&b.As, "as", "", "the `name` of the branch; rescued-NUMBER unless said")
			o.StringVar(&b.Into, "into", "", "another `folder` for the files")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) (err error) {
				if b.Number, err = number(args[0]); err != nil {
					return err
				}
				b.Folder, b.Paths = *folder, args[1:]
				r, err := worktree.BringRescue(ctx, d, b)
				if err != nil {
					return err
				}
				return e.Give(r, func() {
					for _, name := range r.Branches {
						e.Say("The commits are on the branch %s now. To see them: %s", text.Visible(name), text.Command("uncinate", "history", "--branch", name))
					}
					switch {
					case len(r.Files) > 0:
						e.Say("%s brought back into %s.", text.Count(len(r.Files), "file"), text.Visible(r.Folder))
					case len(r.Branches) == 0:
						e.Say("All of it stands there already.")
					}
				})
			})
		}}
}

func rescueDrop() *Command {
	return &Command{Name: "drop", Args: "[NUMBER...]", Most: -1, Short: "give up copies, or say how long they are kept", Gives: []worktree.RescueCopy{},
		Options: func(o *flag.FlagSet) Run {
			folder := inFolder(o)
			older := o.Int("older", 0, "all copies that are older than so many `days`")
			after := o.Int("after", 0, "from now on let copies go by themselves after so many `days`")
			yes := o.Bool("yes", false, "go ahead without asking")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *after != 0 {
					if err := worktree.KeepFor(d, *after); err != nil || len(args) == 0 && *older == 0 {
						if err == nil {
							err = e.Give([]worktree.RescueCopy{}, func() { e.Say("Rescue copies are kept for %s from now on.", text.Count(*after, "day")) })
						}
						return err
					}
				}
				if len(args) == 0 && *older <= 0 {
					return fault.New(fault.Usage, "which copies? Name their numbers, or an age").Try("see what there is", "uncinate rescue list").Try("", "uncinate rescue drop --older 30")
				}
				var numbers []int
				for _, a := range args {
					n, err := number(a)
					if err != nil {
						return err
					}
					numbers = append(numbers, n)
				}
				which, drop, err := worktree.DropRescues(ctx, d, *folder, numbers, time.Duration(*older)*24*time.Hour)
				if err != nil {
					return err
				}
				if len(which) > 0 && !*yes {
					e.Aside("%s would be gone for ever: what it holds is nowhere else.", text.Count(len(which), "rescue copy"))
					if err := e.Agree(ctx, false, again(os.Args[1:])); err != nil {
						return err
					}
				}
				if err := drop(); err != nil {
					return err
				}
				return e.Give(append([]worktree.RescueCopy{}, which...), func() { e.Say("%s given up.", text.Count(len(which), "rescue copy")) })
			})
		}}
}

func number(s string) (int, error) {
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 {
		return 0, fault.New(fault.Usage, "%s is no number of a rescue copy", text.Quote(s)).Try("see what there is", "uncinate rescue list")
	}
	return n, nil
}

// raw is standard output as it is: for a file's contents, where they do not go to a terminal.
func (e *Env) raw() io.Writer {
	if e.Out.terminal {
		return visibly{e.Out}
	}
	return e.answers
}

// visibly shows control characters instead of letting a terminal obey them.
type visibly struct{ to *stream }

func (v visibly) Write(p []byte) (int, error) {
	for line := range strings.Lines(string(p)) {
		end := ""
		if strings.HasSuffix(line, "\n") {
			end = "\n"
		}
		if _, err := v.to.Write([]byte(text.Visible(strings.ReplaceAll(strings.TrimSuffix(line, "\n"), "\t", "    ")) + end)); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

func (e *Env) rescues(all []worktree.RescueCopy) {
	if len(all) == 0 {
		e.Say("There are no rescue copies here: nothing was overwritten so far.")
		return
	}
	var rows [][]string
	for _, c := range all {
		rows = append(rows, []string{strconv.Itoa(c.Number), day(c.When), c.Before, holds(c), day(c.Until)})
	}
	e.Table([]string{"", "kept", "before", "holds", "until"}, rows)
	e.Say("")
	e.Say("One of them in full:  uncinate rescue show NUMBER")
	e.Say("To bring it back:     uncinate rescue bring NUMBER")
}

func holds(c worktree.RescueCopy) string {
	var parts []string
	for _, k := range c.Commits {
		parts = append(parts, short(k.Ref)+" at "+k.Commit[:min(10, len(k.Commit))])
	}
	switch len(c.Files) {
	case 0:
	case 1:
		parts = append(parts, c.Files[0])
	default:
		parts = append(parts, text.Count(len(c.Files), "file"))
	}
	return strings.Join(parts, ", ")
}

// short gives a ref's name without what every one of its sort begins with.
func short(ref string) string {
	for _, prefix := range []string{"refs/heads/", "refs/remotes/", "refs/tags/"} {
		if name, ok := strings.CutPrefix(ref, prefix); ok {
			return name
		}
	}
	return ref
}

func day(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func (e *Env) rescueCopy(c worktree.RescueCopy) {
	e.Say("%s, kept %s before: %s", e.Out.strong("Rescue copy "+strconv.Itoa(c.Number)), day(c.When), e.Out.visible(c.Before))
	for _, k := range c.Commits {
		e.Say("  %s at %.10s  %s", e.Out.visible(short(k.Ref)), k.Commit, text.Excerpt(k.Title, 100))
	}
	for _, p := range c.Files {
		e.Say("  %s", e.Out.visible(p))
	}
	e.Say("It goes by itself on %s.", c.Until.Local().Format("2006-01-02"))
}
