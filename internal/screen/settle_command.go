package screen

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/board"
	"uncinate/internal/core/clashing"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/settling"
	"uncinate/internal/job/syncing"
	"uncinate/internal/job/undoing"
)

// clashOption is the option by which all clashes are decided at once.
func clashOption(o *flag.FlagSet, to *string) {
	o.StringVar(to, "clash", "", "decide all clashing files by `how`: mine, theirs, or both: theirs, with yours put beside it")
}

func settleCommand() *Command {
	return &Command{Name: "settle", Word: "show",
		Means: map[string]string{"ours": joining.Mine, "yours": joining.Mine, "own": joining.Mine, "their": joining.Theirs, "host": joining.Theirs, "edit": clashing.ByHand, "hand": clashing.ByHand, "abort": "cancel", "list": "show", "status": "show"},
		Short: "decide files that both sides changed: show, mine, theirs, both, by-hand, cancel",
		Long: `When a sync or a join of branches stops because both sides changed the same files, decide
each of them here. Nothing in the folder changes before all are decided; then what stopped goes on
by itself.`,
		Subs: []*Command{
			settleShow(),
			settleWay(joining.Mine, "use your files; theirs stay in the history", []string{"uncinate settle mine notes.txt", "uncinate settle mine"}),
			settleWay(joining.Theirs, "use their files; yours stay in the history", []string{"uncinate settle theirs mooring", "uncinate settle theirs '*.dwg'"}),
			settleWay(joining.Both, "use their files, and put yours beside them, to do your work again", []string{"uncinate settle both mooring/plan.dwg"}),
			settleByHand(),
			settleCancel(),
		}}
}

func settleShow() *Command {
	return &Command{Name: "show", Takes: []string{"path"}, Args: "[PATH...]", Most: -1, Short: "show what clashes, who changed it on each side, and what is decided", Gives: settling.Settling{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				s, err := settling.Show(ctx, d, in.in(), args)
				if err != nil {
					return err
				}
				return e.Give(s, func() { e.settling(s, in.in(), time.Now()) })
			})
		}}
}

// Settled is what the settle commands print as JSON.
type Settled struct {
	settling.Decided
	Synced *syncing.Synced `json:"synced,omitempty" says:"what came of the sync or join, once all was decided"`
	Undone *undoing.Undone `json:"undone,omitempty" says:"what came of the undo, once all was decided"`
}

func settleWay(way, short string, examples []string) *Command {
	return &Command{Name: way, Takes: []string{"path"}, Args: "[PATH...]", Most: -1, Short: short, Examples: examples, Gives: Settled{},
		Long: `PATH is a file, a folder or a pattern, from the project's top; without one, all that is not decided
yet. What was decided can be decided again, until all is.`,
		Options: func(o *flag.FlagSet) Run {
			var f finishing
			f.add(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if err := syncing.CheckBy(f.by); err != nil {
					return err
				}
				r, err := settling.Decide(ctx, d, f.in.in(), way, args, f.preview)
				if err != nil {
					return err
				}
				return e.decided(ctx, d, r, f)
			})
		}}
}

func settleByHand() *Command {
	return &Command{Name: clashing.ByHand, Takes: []string{"path"}, Args: "PATH", Least: 1, Most: 1, Short: "edit a text that holds both sides, or use a file that you made of both", Gives: Settled{},
		Long: `The text opens in your editor, as git knows it (core.editor), with the parts in which both sides
differ marked. Leave of each what is to stay, take the marks out, save and close.`,
		Examples: []string{"uncinate settle by-hand notes.txt", "uncinate settle by-hand mooring/plan.dwg --with plan-of-both.dwg"},
		Options: func(o *flag.FlagSet) Run {
			var f finishing
			f.add(o)
			with := o.String("with", "", "a `file` that you made of both sides, in place of the editor")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if err := syncing.CheckBy(f.by); err != nil {
					return err
				}
				if *with == "" {
					h, err := settling.ByHand(ctx, d, f.in.in(), args[0])
					if err != nil {
						return err
					}
					if f.preview {
						return e.would(ctx, "", here("Open "+text.Visible(h.Path)+" in your editor: "+text.Count(h.Parts, "part")+" of it "+text.Either(h.Parts == 1, "clashes", "clash")))
					}
					if err := e.edit(ctx, d, f.in.in(), h); err != nil {
						return err
					}
				} else if f.preview {
					return e.would(ctx, "", here("Use "+text.Visible(*with)+" as "+text.Visible(args[0])))
				}
				r, err := settling.Take(ctx, d, f.in.in(), args[0], *with)
				if err != nil {
					return err
				}
				return e.decided(ctx, d, r, f)
			})
		}}
}

func settleCancel() *Command {
	return &Command{Name: "cancel", Short: "drop what was decided; nothing else changes", Gives: settling.Cancelled{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				r, err := settling.Cancel(ctx, d, in.in(), *preview)
				if err != nil {
					return err
				}
				return e.Give(r, func() {
					switch {
					case r.What == "":
						e.Say("Nothing waits to be decided.")
					case *preview:
						e.Say("Would drop %s. Nothing else would change.", text.Count(r.Decided, "decision"))
					default:
						e.Say("Dropped %s; every file is as it was. To decide again: %s", text.Count(r.Decided, "decision"), r.Line)
					}
				})
			})
		}}
}

// finishing are the options of what may be the last decision.
type finishing struct {
	plans
	in *place
	by string
}

func (f *finishing) add(o *flag.FlagSet) {
	f.in = inFolder(o)
	f.plans.add(o)
	o.StringVar(&f.by, "by", "", "once all is decided, `how` both sides' commits are brought together: replay or merge (default: merge)")
}

// decided tells what was decided; once nothing is left, what stopped goes on.
func (e *Env) decided(ctx context.Context, d *desk.Desk, r *settling.Decided, f finishing) error {
	var lines []string
	words := func(way string) string {
		switch {
		case r.What != "undo":
			return syncing.Words(way)
		case way == joining.Mine:
			return "stays as it is now"
		case way == joining.Theirs:
			return "becomes as it was before"
		case way == joining.Both:
			return "becomes as it was before, with what is there now beside it"
		}
		return syncing.Words(way)
	}
	for i, x := range r.Decided {
		if i == mostLines && len(r.Decided) > i+1 {
			lines = append(lines, fmt.Sprintf("%d more %s", len(r.Decided)-i, words(x.Way)))
			break
		}
		lines = append(lines, text.Visible(x.Path)+" "+words(x.Way))
	}
	if f.preview {
		var items []plan.Item
		for _, l := range lines {
			items = append(items, here(l))
		}
		if len(r.Left) == 0 {
			items = append(items, here("Go on with the "+r.What+", since nothing is left to be decided"))
		}
		return e.would(ctx, "", items...)
	}
	if len(r.Left) > 0 {
		return e.Give(Settled{Decided: *r}, func() {
			for _, l := range lines {
				e.Say("%s.", l)
			}
			e.Say("%s left: %s. Next: %s", text.Count(len(r.Left), "file"), e.Out.visible(text.Excerpt(strings.Join(r.Left, ", "), 120)), desk.FolderCommand(f.in.in(), "settle"))
		})
	}
	for _, l := range lines {
		e.Aside("%s.", l)
	}
	if r.What == "undo" {
		return e.resumeUndo(ctx, d, r, f)
	}
	return e.resumeSync(ctx, d, r, f)
}

// resumeSync goes on with a sync, or a join of branches.
func (e *Env) resumeSync(ctx context.Context, d *desk.Desk, r *settling.Decided, f finishing) error {
	s, err := e.resume(ctx, d, r, f)
	if err != nil {
		return err
	}
	e.items, e.planned = s.Items(), true
	if len(s.Asks()) > 0 {
		if goes, err := e.propose(ctx, f.plans, "All is decided. To finish:", s, s.Asks()); err != nil || !goes {
			return err
		}
	} else if !e.quiet && !e.json {
		e.Aside("All is decided. Now:")
		e.Plan(e.Err, s.Items(), "")
	}
	var done *syncing.Synced
	if r.What == "join" {
		done, err = s.Join(ctx)
	} else {
		done, err = s.Do(ctx)
	}
	if err != nil {
		return err
	}
	return e.Give(Settled{Decided: *r, Synced: done}, func() {
		if r.What == "join" {
			e.joined(d, r.Name, done)
		} else {
			e.synced(done)
		}
	})
}

// resumeUndo goes on with an undo of commits.
func (e *Env) resumeUndo(ctx context.Context, d *desk.Desk, r *settling.Decided, f finishing) error {
	if f.by != "" {
		return fault.New(fault.Usage, "--by is about both sides of a sync, and an undo stopped here").TryWithout("go on with the undo", r.Stopped.Line(f.in.in()), "by")
	}
	s := r.Stopped
	u, err := undoing.PlanCommit(ctx, d, undoing.CommitOptions{Folder: f.in.in(), Commits: s.Commits, Parent: s.Parent, Message: s.Text})
	if err != nil {
		return err
	}
	e.items, e.planned = u.Items(), true
	if len(u.Open) > 0 {
		if goes, err := e.propose(ctx, f.plans, "All is decided. To finish:", u, opens(u)); err != nil || !goes {
			return err
		}
	} else if !e.quiet && !e.json {
		e.Aside("All is decided. Now:")
		e.Plan(e.Err, u.Items(), "")
	}
	done, err := u.Do(ctx)
	if err != nil {
		return err
	}
	return e.Give(Settled{Decided: *r, Undone: done}, func() { e.undone(done) })
}

// resume plans what stopped again.
func (e *Env) resume(ctx context.Context, d *desk.Desk, r *settling.Decided, f finishing) (*syncing.Sync, error) {
	if r.What == "join" {
		return syncing.JoinBranch(ctx, d, syncing.JoinOptions{Folder: f.in.in(), Name: r.Name})
	}
	return syncing.Plan(ctx, d, syncing.Options{Folder: f.in.in(), By: f.by})
}

// edit runs the person's editor on a text.
func (e *Env) edit(ctx context.Context, d *desk.Desk, folder string, h *settling.Hand) error {
	words, err := settling.Edits(ctx, d, folder)
	if err != nil {
		return err
	}
	path, err := exec.LookPath(words[0])
	if err != nil {
		return fault.New(fault.Failed, "the editor %s is not on this machine", text.Visible(words[0])).Because(err).
			Try("name another one", "git config --global core.editor nano")
	}
	e.Aside("Opening %s in %s: %s of it %s.", text.Visible(h.Path), text.Visible(filepath.Base(words[0])), text.Count(h.Parts, "part"), text.Either(h.Parts == 1, "clashes", "clash"))
	c := exec.CommandContext(ctx, path, append(slices.Clone(words[1:]), h.File)...)
	c.Env = os.Environ()
	c.Stdin, c.Stdout, c.Stderr = os.Stdin, os.Stderr, os.Stderr
	if e.asks {
		c.Stdout = os.Stdout
	}
	if err := c.Run(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fault.New(fault.Decision, "the editor ended with an error, so %s is not decided; what you wrote is kept", text.Visible(h.Path)).Because(err).
			Try("go on with it", worktree.SettleLine(folder, clashing.ByHand, h.Path))
	}
	return nil
}

// mostParts is how many lines of clashing text are shown of one file.
const mostParts = 24

// settling shows what clashes.
func (e *Env) settling(s *settling.Settling, given string, now time.Time) {
	if len(s.Clashes) == 0 {
		e.Say("Nothing clashes, as far as the host is known. To ask it: uncinate sync")
		return
	}
	if s.Undoes != "" {
		e.Say("%s: later commits changed what the undo of %.10s takes back.", e.Out.strong(text.Count(len(s.Clashes), "file")+" "+text.Either(len(s.Clashes) == 1, "clashes", "clash")), s.Undoes)
	} else {
		e.Say("%s on %s: %s only here, %s only %s.", e.Out.strong(text.Count(len(s.Clashes), "file")+" "+text.Either(len(s.Clashes) == 1, "clashes", "clash")),
			text.Visible(s.Branch), text.Count(s.Ahead, "commit"), text.Count(s.Behind, "commit"), s.There)
	}
	for i, c := range s.Clashes {
		if i == desk.MostShown && len(s.Clashes) > i+1 {
			e.Say("")
			e.Say("and %d more: uncinate settle show PATH", len(s.Clashes)-i)
			break
		}
		e.Say("")
		e.Say("%s  %s", e.Out.strong(e.Out.visible(c.Path)), e.Out.visible(c.Says))
		decided := ""
		if c.Decided != "" {
			decided = syncing.Words(c.Decided)
		}
		names := [2]string{"yours", "theirs"}
		if s.Undoes != "" {
			names = [2]string{"now (yours)", "taken back (theirs)"}
		}
		e.Facts([2]string{names[0], e.side(c, c.Mine, now)}, [2]string{names[1], e.side(c, c.Theirs, now)}, [2]string{"decided", decided})
		e.parts(c)
	}
	e.Say("")
	e.nextDecision(s, given)
}

// parts shows the lines of a text that clash.
func (e *Env) parts(c settling.Clash) {
	if c.Text == "" || c.Decided != "" {
		return
	}
	lines := strings.Split(strings.Trim(c.Text, "\n"), "\n")
	for i, l := range lines {
		if i == mostParts {
			e.Say("    ... %s more", text.Count(len(lines)-i, "line"))
			return
		}
		e.Say("    %s", e.Out.faint(e.Out.visible(strings.ReplaceAll(l, "\t", "    "))))
	}
}

// side says what one side has where it clashes.
func (e *Env) side(c settling.Clash, s settling.Side, now time.Time) string {
	if len(s.Paths) == 0 && s.Commit == "" {
		return "deleted"
	}
	var parts []string
	switch {
	case len(s.Paths) == 0:
		parts = append(parts, "deleted")
	case len(s.Paths) == 1 && s.Paths[0] != c.Path:
		parts = append(parts, "as "+s.Paths[0]+", "+text.Size(s.Bytes))
	case len(s.Paths) > 1:
		parts = append(parts, text.Count(len(s.Paths), "file")+", "+text.Size(s.Bytes))
	case c.Text == "" && s.Bytes > 0:
		parts = append(parts, text.Size(s.Bytes))
	}
	if s.Commit != "" {
		parts = append(parts, s.By+", "+ago(now.Sub(s.When))+": "+s.Title)
	}
	return strings.Join(parts, "; ")
}

// ago says how long ago something was.
func ago(since time.Duration) string {
	if age := board.Age(since); age != "just now" {
		return age + " ago"
	}
	return "just now"
}

// nextDecision names the lines to type.
func (e *Env) nextDecision(s *settling.Settling, given string) {
	i := slices.IndexFunc(s.Clashes, func(c settling.Clash) bool { return c.Decided == "" })
	if i < 0 {
		e.Say("All is decided. To finish: %s", s.Line)
		return
	}
	says := map[string]string{joining.Mine: "use yours", joining.Theirs: "use theirs", joining.Both: "use theirs, and put yours beside it", clashing.ByHand: "edit a text that holds both"}
	if s.Undoes != "" {
		says = map[string]string{joining.Mine: "leave it as it is now", joining.Theirs: "as it was before what is taken back", joining.Both: "as it was before, and what is there now beside it", clashing.ByHand: "edit a text that holds both"}
	}
	e.Say("To decide %s:", e.Out.visible(s.Clashes[i].Path))
	var cells [][]string
	for _, way := range s.Clashes[i].Ways {
		c := s.Clashes[i]
		switch {
		case way == clashing.ByHand && len(c.Mine.Paths)*len(c.Theirs.Paths) == 0: // nothing is to be made of both
			continue
		case way == clashing.ByHand && c.Text == "":
			cells = append(cells, []string{"  " + worktree.SettleLine(given, way, c.Path, "--with", "FILE"), "use a file that you made of both"})
			continue
		}
		cells = append(cells, []string{"  " + worktree.SettleLine(given, way, c.Path), says[way]})
	}
	e.columns(cells)
	if s.Left > 1 {
		e.Say("Without a path, each of them decides all that is left.")
	}
	if s.Left < len(s.Clashes) {
		e.Say("To drop what was decided: uncinate settle cancel")
	}
	if s.Replays {
		e.Say("Both sides are then merged; with --by replay, your commit is put on top of theirs instead.")
	}
}

// columns prints rows of a command and what it does.
func (e *Env) columns(rows [][]string) {
	wide := 0
	for _, r := range rows {
		wide = max(wide, len(r[0]))
	}
	for _, r := range rows {
		e.Say("%s%s  %s", r[0], strings.Repeat(" ", wide-len(r[0])), r[1])
	}
}
