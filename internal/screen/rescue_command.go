package screen

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/repositories"
)

func rescueCommand() *Command {
	return &Command{Name: "rescue", Short: "copies kept before anything was overwritten: list, show, bring, drop",
		Long: `Before any command overwrites or drops a branch's commits or a file, it keeps a rescue
copy, in a repository of its own beside git's (.git/uncinate/rescue.git): nothing of it is
ever sent. A copy is deleted after 90 days, or after the days that "settings set rescue.days" gives.`,
		Subs: []*Command{
			rescueList(),
			rescueShow(),
			rescueBring(),
			rescueDrop(),
		}}
}

func rescueList() *Command {
	return &Command{Name: "list", Args: "[FOLDER]", Most: 1, Short: "list the copies, the newest first", Takes: []string{"project"}, Gives: []worktree.RescueCopy{}, Apart: [][]string{{"deleted", "folder"}}, Also: map[string]any{"--deleted": []repositories.Deleted{}},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			most := mostOption(o)
			deleted := o.Bool("deleted", false, "those of repositories that were deleted on their hosts")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *deleted {
					all, err := repositories.AllDeleted(d)
					if err != nil {
						return err
					}
					return e.Give(all, func() { e.deleted(all, *most) })
				}
				folder, err := in.of(args...)
				if err != nil {
					return err
				}
				all, err := worktree.Rescues(ctx, d, folder)
				if err != nil {
					return err
				}
				return e.Give(append([]worktree.RescueCopy{}, all...), func() { e.rescues(all, *most) })
			})
		}}
}

func rescueShow() *Command {
	return &Command{Name: "show", Takes: []string{"rescue", "path"}, Args: "NUMBER [PATH]", Least: 1, Most: 2, Short: "show what a copy holds, or print one file of it", Gives: worktree.RescueCopy{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				n, err := number(args[0])
				if err != nil {
					return err
				}
				if len(args) > 1 && e.json {
					return fault.New(fault.Usage, "a file is printed as it is, not as JSON").Try("", text.Command("uncinate", "rescue", "show", args[0], args[1]))
				}
				if len(args) > 1 {
					return worktree.RescuedFile(ctx, d, in.in(), n, args[1], e.raw())
				}
				c, err := worktree.Rescue(ctx, d, in.in(), n)
				if err != nil {
					return err
				}
				return e.Give(c, func() { e.rescueCopy(c) })
			})
		}}
}

func rescueBring() *Command {
	return &Command{Name: "bring", Takes: []string{"rescue", "path"}, Args: "NUMBER [PATH...]", Apart: [][]string{{"deleted", "as"}, {"deleted", "folder"}, {"deleted", "preview"}}, Also: map[string]any{"--deleted": repositories.Restored{}}, Least: 1, Most: -1, Short: "bring a copy back: its commits as a branch, its files to their places",
		Long: `What an undo put in the place of the files gives way to them. Nothing else is overwritten: if
something is in the way, nothing is done, and the command that brings the files into another folder
is named. With --deleted, a repository that was deleted on its host becomes a folder again, with all its
branches and tags: NUMBER is its name then.`,
		Examples: []string{"uncinate rescue bring 3", "uncinate rescue bring --deleted saltmarsh/inlet-board", "uncinate rescue bring 3 --as before-the-sync", "uncinate rescue bring 4 settings.ini --into /tmp/look"}, Gives: worktree.Brought{},
		Options: func(o *flag.FlagSet) Run {
			b := worktree.BringOptions{}
			in := inFolder(o)
			o.StringVar(&b.As, "as", "", "the `name` of the branch (default: rescued-NUMBER)")
			o.StringVar(&b.Into, "into", "", "another `folder` for the files")
			o.BoolVar(&b.Preview, "preview", false, "show what would be done and stop")
			deleted := o.Bool("deleted", false, "a repository that was deleted on its host")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) (err error) {
				if *deleted {
					return e.bringDeleted(ctx, d, args, b.Into)
				}
				if b.Number, err = number(args[0]); err != nil {
					return err
				}
				b.Folder, b.Paths = in.in(), args[1:]
				if b.As != "" && len(b.Paths) > 0 {
					return fault.New(fault.Usage, "--as names a branch, and files alone make none").Try("bring the whole copy", text.Command("uncinate", "rescue", "bring", args[0], "--as", b.As))
				}
				r, err := worktree.BringRescue(ctx, d, b)
				if err != nil {
					return err
				}
				if b.Preview {
					return e.would(ctx, "", wouldBring(r)...)
				}
				return e.Give(r, func() {
					for _, name := range r.Branches {
						e.Say("The commits are now on the branch %s. To see them:", text.Visible(name))
						e.Say("    %s", text.Command("uncinate", "history", "--branch", name))
					}
					switch {
					case len(r.Files) > 0:
						e.Say("%s brought back into %s.", text.Count(len(r.Files), "file"), text.Visible(r.Folder))
					case len(r.Branches)+len(r.Gone) == 0:
						e.Say("All of it is there already.")
					}
					if len(r.Gone) > 0 {
						e.Say("%s again not there, as when the copy was kept: %s.", text.Either(len(r.Gone) == 1, "1 file is", text.Count(len(r.Gone), "file")+" are"), e.Out.visible(text.Excerpt(strings.Join(r.Gone, ", "), 120)))
					}
				})
			})
		}}
}

// bringDeleted makes a folder of a repository that was deleted on its host.
func (e *Env) bringDeleted(ctx context.Context, d *desk.Desk, args []string, into string) error {
	if len(args) > 1 {
		return fault.New(fault.Usage, "a deleted repository is brought back as a whole").Try("", text.Command("uncinate", "rescue", "bring", "--deleted", args[0]))
	}
	r, err := repositories.BringDeleted(ctx, d, args[0], into)
	if err != nil {
		return err
	}
	return e.Give(r, func() {
		line := []string{"uncinate", "attach", r.Folder}
		if r.Branches > 1 {
			line = append(line, "--branches")
		}
		e.Say("%s is in %s again: %s, %s.", text.Visible(r.Path), text.Visible(r.Folder), text.Count(r.Branches, "branch"), text.Count(r.Tags, "tag"))
		e.Say("To publish it: %s", text.Command(line...))
		if r.Tags > 0 {
			e.Say("Then its tags: %s", text.Command("git", "-C", r.Folder, "push", "--tags", "origin"))
		}
	})
}

// deleted lists the copies of repositories that were deleted.
func (e *Env) deleted(all []repositories.Deleted, most int) {
	if len(all) == 0 {
		e.Say("No repository was deleted from here yet, of which a copy is kept.")
		return
	}
	var rows [][]string
	for _, x := range all {
		rows = append(rows, []string{x.Path, x.Host, day(x.When), text.Count(x.Branches, "branch") + ", " + text.Count(x.Tags, "tag"), day(x.Until)})
	}
	e.List([]string{"repository", "host", "kept", "holds", "until"}, rows, most)
	e.Say("")
	e.Say("To bring it back: uncinate rescue bring --deleted REPOSITORY")
}

func rescueDrop() *Command {
	return &Command{Name: "drop", Takes: []string{"rescue"}, Args: "[NUMBER...]", Most: -1, Short: "delete copies, by number or by age", Gives: []worktree.RescueCopy{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			var p plans
			p.add(o)
			older := o.Int("older", 0, "all copies that are older than this many `days`")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if len(args) == 0 && *older <= 0 {
					return fault.New(fault.Usage, "which copies? Name their numbers, or an age").Try("see the copies", "uncinate rescue list").Try("", "uncinate rescue drop --older 30")
				}
				var numbers []int
				for _, a := range args {
					n, err := number(a)
					if err != nil {
						return err
					}
					numbers = append(numbers, n)
				}
				which, drop, err := worktree.DropRescues(ctx, d, in.in(), numbers, time.Duration(*older)*24*time.Hour)
				if err != nil {
					return err
				}
				if len(which) == 0 && p.preview {
					return e.would(ctx, "")
				}
				if len(which) == 0 {
					return e.Give([]worktree.RescueCopy{}, func() { e.Say("No copy is that old; nothing was dropped.") })
				}
				var items []plan.Item
				for _, c := range which {
					items = append(items, here(fmt.Sprintf("Drop rescue copy %d, of %s: %s; this cannot be undone", c.Number, day(c.When), holds(c))))
				}
				if goes, err := e.show(ctx, p, "To drop rescue copies:", items, "", nil); err != nil || !goes {
					return err
				}
				if err := drop(); err != nil {
					return err
				}
				return e.Give(append([]worktree.RescueCopy{}, which...), func() { e.Say("%s dropped.", text.Count(len(which), "rescue copy")) })
			})
		}}
}

// wouldBring says what bringing a copy back does.
func wouldBring(r *worktree.Brought) []plan.Item {
	var items []plan.Item
	for _, name := range r.Branches {
		items = append(items, here("Make the branch "+text.Visible(name)+" of its commits"))
	}
	if len(r.Files) > 0 {
		items = append(items, here("Bring "+text.Count(len(r.Files), "file")+" back into "+text.Visible(r.Folder)))
	}
	if len(r.Gone) > 0 {
		items = append(items, here("Take "+text.Count(len(r.Gone), "file")+" away, not there when the copy was kept"))
	}
	return items
}

func number(s string) (int, error) {
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 {
		return 0, fault.New(fault.Usage, "%s is not the number of a rescue copy", text.Quote(s)).Try("see the copies", "uncinate rescue list")
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

func (e *Env) rescues(all []worktree.RescueCopy, most int) {
	if len(all) == 0 {
		e.Say("There are no rescue copies here: nothing was overwritten yet.")
		return
	}
	var rows [][]string
	for _, c := range all {
		rows = append(rows, []string{strconv.Itoa(c.Number), day(c.When), c.Before, holds(c), day(c.Until)})
	}
	e.List([]string{"number", "kept", "before", "holds", "until"}, rows, most)
	e.Say("")
	e.Say("To see one:        uncinate rescue show NUMBER")
	e.Say("To bring it back:  uncinate rescue bring NUMBER")
}

func holds(c worktree.RescueCopy) string {
	var parts []string
	for _, k := range c.Commits {
		parts = append(parts, short(k.Ref)+" at "+k.Commit[:min(10, len(k.Commit))])
	}
	switch len(c.Files) {
	case 0:
		if len(c.Gone) > 0 {
			parts = append(parts, text.Count(len(c.Gone), "file")+" not there")
		}
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
	for i, p := range c.Files {
		if i == mostLines && len(c.Files) > mostLines+1 {
			e.Say("  and %s more files (--json lists them)", text.Number(len(c.Files)-i))
			break
		}
		e.Say("  %s", e.Out.visible(p))
	}
	if len(c.Gone) > 0 {
		e.Say("  not there then: %s", e.Out.visible(text.Excerpt(strings.Join(c.Gone, ", "), 200)))
	}
	e.Say("It is deleted on %s.", c.Until.Local().Format("2006-01-02"))
}
