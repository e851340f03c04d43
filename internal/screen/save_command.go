package screen

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/comparing"
	"uncinate/internal/job/history"
)

func saveCommand() *Command {
	return &Command{Name: "save", First: []string{"message", "only", "except", "pick", "let", "reason"}, Args: "[TEXT]", Most: 1,
		Short: "commit what changed, here only",
		Long: `Commits all that changed, or what is chosen; nothing is sent, so it works without a
network. New files are judged as by attach: secrets stop it, and generated files are left
out. Your own git hooks run; one that stops the commit is named. TEXT is the commit's
message, as with --message.`,
		Examples: []string{`uncinate save "Correct the almanac"`, `uncinate save --message "Only the tables" --only tables`, `uncinate save --reword --message "Correct the almanac for May"`},
		Gives:    history.Saved{}, Needs: map[string][]string{"reason": {"let"}, "let": {"reason"}},
		Apart: [][]string{{"reword", "only"}, {"reword", "except"}, {"reword", "let"}, {"reword", "pick"}, {"preview", "pick"}},
		Options: func(o *flag.FlagSet) Run {
			var s history.SaveOptions
			in := inFolder(o)
			o.StringVar(&s.Text, "message", "", "the commit's message, a `text`")
			o.Var((*list)(&s.Only), "only", "only this file, folder or pattern, a `path`; may be repeated")
			o.Var((*list)(&s.Except), "except", "all but this `path`; may be repeated")
			o.Var((*list)(&s.Let), "let", "save this `path` although it would be stopped (with --reason); may be repeated")
			o.StringVar(&s.Reason, "reason", "", "why it is saved all the same: a `text`, kept with it")
			pick := o.Bool("pick", false, "show what changed, and ask what to save")
			reword := o.Bool("reword", false, "give the last commit this message instead, if it was not sent yet")
			o.BoolVar(&s.Many, "many", false, "save more than 1,000 new files, or 100 MB of them, too")
			o.BoolVar(&s.Preview, "preview", false, "show what would be committed and stop")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) (err error) {
				s.Folder = in.in()
				if len(args) > 0 && s.Text != "" {
					return fault.New(fault.Usage, "the message is given twice: %s and %s", text.Quote(args[0]), text.Quote(s.Text)).Try("", "uncinate help save")
				}
				if len(args) > 0 {
					s.Text = args[0]
				}
				if *reword {
					r, err := history.Reword(ctx, d, s.Folder, s.Text, s.Preview)
					if err != nil {
						return err
					}
					if s.Preview {
						return e.would(ctx, "", here(fmt.Sprintf("Reword the commit %.10s; it is kept as it was as a rescue copy", r.Commit)))
					}
					return e.Give(r, func() {
						e.Say("Reworded as %.10s; the old commit is rescue copy %d.", r.Commit, r.Rescued)
					})
				}
				if *pick {
					if s.Paths, err = e.pickChanges(ctx, d, s); err != nil {
						return err
					}
				}
				return e.save(ctx, d, s)
			})
		}}
}

// save asks for what the commit is to say where nothing is given, commits and tells.
func (e *Env) save(ctx context.Context, d *desk.Desk, s history.SaveOptions) (err error) {
	if s.Text == "" && e.asks && !s.Preview {
		if s.Text, err = e.ask(ctx, "What was done, in one line? "); err != nil {
			return err
		}
	}
	s.Ask = e.asker(ctx)
	r, err := history.Save(ctx, d, s)
	if err != nil {
		return err
	}
	if s.Preview {
		if err := e.would(ctx, "", here(fmt.Sprintf("Commit %s (%s) on the branch %s", changes(r.Files), text.Size(r.Bytes), text.Visible(r.Branch)))); err != nil || e.json {
			return err
		}
		e.goesIn(r)
		e.left(r.Left, r.Rules...)
		return nil
	}
	return e.Give(r, func() {
		e.Say("Saved: %s. Commit %.10s on %s, here only: %s", changes(r.Files), r.Commit, text.Visible(r.Branch), text.Excerpt(r.Title, 80))
		e.left(r.Left, r.Rules...)
		if r.Rescued > 0 {
			e.Say("What was staged and is not in the folder is kept as rescue copy %d: uncinate rescue show %d", r.Rescued, r.Rescued)
		}
		e.alsoThere(r.Meets)
		e.tasksAreWrong(ctx, d, r.Folder)
		e.toSend(d, r.Folder, 1)
	})
}

// toSend says how commits that were made here reach the host, if they ever do.
func (e *Env) toSend(d *desk.Desk, folder string, commits int) {
	it := desk.ItThem(commits)
	switch p, found, err := project.ProjectAt(d, folder); {
	case err != nil: // how it goes on is not known then
	case !found:
		e.Say("To publish the project: uncinate attach")
	case p.ReceivesOnly:
		e.Say("This copy of the project never sends; other copies do not get %s.", it)
	default:
		e.Say("To send %s: uncinate sync", it)
	}
}

// goesIn tells in which folders the files are that would be saved.
func (e *Env) goesIn(r *history.Saved) {
	for i, f := range r.Folders {
		if len(r.Folders) == 1 && f.Files < 2 {
			return
		}
		if i == 12 {
			e.Say("  and %d more folders", len(r.Folders)-i)
			return
		}
		e.Say("  %s: %s, %s", text.Either(f.Folder == ".", "at the top", e.Out.visible(f.Folder)+"/"), text.Count(f.Files, "file"), text.Size(f.Bytes))
	}
}

// left tells what was not saved, and the rules that keep such files out for good.
func (e *Env) left(all []history.LeftOut, rules ...string) {
	if len(all) == 0 {
		return
	}
	e.Say("Left out: %s.", text.Count(len(all), "file"))
	for i, l := range all {
		if i == 8 {
			e.Say("  and %d more", len(all)-i)
			break
		}
		e.Say("  %s: %s", e.Out.visible(l.Path), e.Out.wrap(l.Why, 4))
	}
	if len(rules) > 0 {
		shown := strings.Join(rules[:min(len(rules), 6)], "  ")
		e.Say("Rules that keep out for good what can be made again: %s", e.Out.visible(shown))
		e.Say("To add them: uncinate ignore add --suggested")
	}
}

// asker asks about a path, where somebody can be asked.
func (e *Env) asker(ctx context.Context) func(path string) (bool, error) {
	if !e.asks {
		return nil
	}
	return func(path string) (bool, error) {
		answer, err := e.ask(ctx, fmt.Sprintf("Save %s too? (yes or no) ", text.Visible(path)))
		return strings.HasPrefix(strings.ToLower(answer), "y"), err
	}
}

// pickChanges shows what changed, and asks which of it is to be saved.
func (e *Env) pickChanges(ctx context.Context, d *desk.Desk, s history.SaveOptions) ([]string, error) {
	if !e.asks {
		return nil, fault.New(fault.Decision, "there is no terminal to ask on what to save").
			Try("name it", `uncinate save --message "What was done" --only PATH`).Try("see what there is", "uncinate changes")
	}
	c, err := comparing.Compare(ctx, d, comparing.ChangesOptions{Folder: s.Folder, Paths: s.Only})
	if err != nil {
		return nil, err
	}
	if len(c.Files) == 0 {
		return nil, fault.New(fault.Failed, "there is nothing to save: every file is as in the last commit")
	}
	for i, f := range c.Files {
		e.Aside("%3d  %-9s %s", i+1, f.Kind, text.Visible(f.Path))
	}
	for {
		answer, err := e.ask(ctx, "Which of these are saved? (numbers such as 2 4-6) ")
		if err != nil {
			return nil, err
		}
		if chosen, ok := survey.Numbers(answer, len(c.Files)); ok && len(chosen) > 0 {
			var paths []string
			for _, n := range chosen {
				paths = append(paths, c.Files[n-1].Path)
				if from := c.Files[n-1].From; from != "" {
					paths = append(paths, from)
				}
			}
			return paths, nil
		}
	}
}
