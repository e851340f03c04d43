package screen

import (
	"context"
	"flag"
	"fmt"
	"strconv"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/undoing"
)

func undoCommand() *Command {
	return &Command{Name: "undo", Word: "changes", Short: "take back: changes that are not saved, a commit, or a file as it was once",
		Long: `Each shows first what goes, keeps a rescue copy of it, and asks. "uncinate rescue bring" brings it
back.`,
		Means: map[string]string{"change": "changes", "save": "commit", "sync": "commit", "commits": "commit", "last": "commit", "merge": "commit", "join": "commit", "files": "file", "folder": "file", "all": "changes"},
		Subs: []*Command{
			undoChanges(),
			undoCommit(),
			undoFile(),
		}}
}

func undoChanges() *Command {
	return &Command{Name: "changes", Args: "[PATH...]", Most: -1, Short: "take back what is not saved: changed, new, deleted and renamed files", Takes: []string{"path"}, Gives: undoing.Undone{},
		Long: `All files are then as in the last commit. With a PATH, a file, a folder or a pattern from the
project's top, only those. Ignored files stay, and so do repositories of their own.`,
		Examples: []string{"uncinate undo changes --preview", "uncinate undo changes src/level.c", "uncinate undo changes 'mooring/*.dwg'"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				u, err := undoing.PlanChanges(ctx, d, in.in(), args)
				if err != nil {
					return err
				}
				return e.undo(ctx, p, u, fmt.Sprintf("To go back to the last commit, %.10s (%s):", u.Out.As, text.Excerpt(u.Title(), 60)))
			})
		}}
}

func undoFile() *Command {
	return &Command{Name: "file", Args: "PATH", Least: 1, Most: 1, Short: "bring a file or a folder back as it was in a commit, as a change that is not saved", Takes: []string{"path"}, Gives: undoing.Undone{},
		Long: `As it was in the last commit, or with --to in another one; "uncinate history PATH" names them. Of a
folder, files that are not in that commit go, and files that git does not know stay.`,
		Examples: []string{"uncinate undo file src/level.c", "uncinate undo file mooring --to 4f2a1b3c4d"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			to := o.String("to", "", "the `commit`, branch or tag as of which it is wanted (default: the last commit)")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				u, err := undoing.PlanFile(ctx, d, in.in(), args[0], *to)
				if err != nil {
					return err
				}
				return e.undo(ctx, p, u, fmt.Sprintf("To have %s as in commit %.10s (%s):", text.Visible(args[0]), u.Out.As, text.Excerpt(u.Title(), 60)))
			})
		}}
}

func undoCommit() *Command {
	return &Command{Name: "commit", First: []string{"drop", "message", "clash", "parent"}, Args: "[COMMIT...]", Most: -1, Short: "take back the last commit, or those that are named", Takes: []string{"branch"}, Gives: undoing.Undone{},
		Long: `The last one, as long as nobody else has it, is taken off the branch, and what it changed stays as
changes that are not saved. One that was sent, or that is named, stays, and a new commit takes it
back. FROM..TO names the commits after one up to another. Where later commits changed the same,
settle decides.`,
		Examples: []string{"uncinate undo commit", "uncinate undo commit 4f2a1b3c4d", "uncinate undo commit v1.2..v1.3 --message 'Back to 1.2'"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			var c undoing.CommitOptions
			o.BoolVar(&c.Drop, "drop", false, "of the last one: drop its changes too")
			o.IntVar(&c.Parent, "parent", 0, "of a merge: the `number` of the parent whose side stays (default: 1, the branch it was made on)")
			o.StringVar(&c.Message, "message", "", "the `text` of the new commit (default: it names what is taken back)")
			o.StringVar(&c.Clash, "clash", "", "decide all clashing files by `how`: mine (as now), theirs (as before), or both: as before, with what is there now beside it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				c.Folder, c.Commits, c.Preview = in.in(), args, p.preview
				u, err := undoing.PlanCommit(ctx, d, c)
				if err != nil {
					return err
				}
				return e.undo(ctx, p, u, text.Either(len(u.Out.Taken) > 1, "To take these commits back:", "To take the commit back:"))
			})
		}}
}

// opens warn of files that programs have open.
func opens(u *undoing.Undo) []string {
	if len(u.Open) == 0 {
		return nil
	}
	return append([]string{"A running program has files open that would be replaced under it:"}, u.Open...)
}

// mostUndone is how many commits of an undo are listed.
const mostUndone = 20

// undo shows an undo's plan, and carries it out.
func (e *Env) undo(ctx context.Context, p plans, u *undoing.Undo, head string) error {
	if u.Nothing() {
		done, err := u.Do(ctx)
		if err != nil {
			return err
		}
		return e.Give(done, func() {
			for _, n := range u.Notes {
				e.Say("%s", n)
			}
			if done.Commit == "" {
				e.Say("%s", text.Either(done.What == "file", "It is so already; nothing changed.", "Every file is as in the last commit; nothing changed."))
			}
			e.left(done.Left)
		})
	}
	if len(u.Out.Taken) > 1 && !p.yes {
		for i, t := range u.Out.Taken {
			if i == mostUndone {
				u.Notes = append(u.Notes, fmt.Sprintf("and %d more", len(u.Out.Taken)-i))
				break
			}
			u.Notes = append(u.Notes, fmt.Sprintf("%.10s %s", t.ID, t.Title))
		}
	}
	notes := append(u.Notes, opens(u)...)
	for _, l := range u.Out.Left {
		notes = append(notes, l.Path+" stays: "+l.Why)
	}
	u.Waited = !p.yes
	goes, err := e.propose(ctx, p, head, u, notes)
	if err != nil || !goes {
		return err
	}
	done, err := u.Do(ctx)
	if err != nil {
		return err
	}
	return e.Give(done, func() { e.undone(done) })
}

// undone tells what came of an undo.
func (e *Env) undone(r *undoing.Undone) {
	kept := ""
	if len(r.Rescued) > 0 {
		kept = "uncinate rescue bring " + strconv.Itoa(r.Rescued[0])
	}
	switch {
	case r.What == "changes":
		e.Say("Undone: %s as in the last commit.", text.Either(len(r.Files) == 1, "1 file is", text.Count(len(r.Files), "file")+" are"))
	case r.What == "file":
		e.Say("%s now as in commit %.10s, not saved yet. To save: uncinate save --message %s", text.Either(len(r.Files) == 1, "1 file is", text.Count(len(r.Files), "file")+" are"), r.As, text.Quote("As in "+r.As[:10]))
	case r.Made:
		e.Say("Taken back: %s, by the new commit %.10s on %s, here only. To send it: uncinate sync", text.Count(len(r.Taken), "commit"), r.Commit, text.Visible(r.Branch))
		for _, x := range r.Decided {
			for _, b := range x.Beside {
				e.Say("What was in %s is now in %s.", e.Out.visible(x.Path), e.Out.visible(b))
			}
		}
		e.Say("To bring it in again: uncinate undo commit %.10s", r.Commit)
		return
	case r.Stay:
		e.Say("Taken back: %.10s. What it changed is not saved now; to save it again: uncinate save --message %s", r.Taken[0].ID, text.Quote(r.Taken[0].Title))
		if kept != "" {
			kept += " && uncinate branch join rescued-" + strconv.Itoa(r.Rescued[0])
		}
	case len(r.Taken) > 0:
		e.Say("Taken back: %.10s, with its changes. %s at %.10s.", r.Taken[0].ID, text.Visible(r.Branch), r.Commit)
	}
	if kept != "" {
		e.Say("To have it back: %s", kept)
	}
	if len(r.Rescued) > 1 {
		for _, n := range r.Rescued[1:] {
			e.Say("What was staged, or changed meanwhile, is kept too: uncinate rescue show %d", n)
		}
	}
	e.left(r.Left)
}
