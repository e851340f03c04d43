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
	"uncinate/internal/job/history"
)

func saveCommand() *Command {
	return &Command{Name: "save", Args: "[TEXT]", Most: 1,
		Short: "commit what changed, here only",
		Long: `Commits all that changed, or what is chosen; nothing is sent, so it works without a
network. New files pass the same look as at attach: secrets stop it, and what can be made
again is left out. Your own git hooks run; one that stops the commit is named.`,
		Examples: []string{`uncinate save "Correct the almanac"`, `uncinate save "Only the tables" --only tables`, `uncinate save --reword "Correct the almanac for May"`, "uncinate save --ask-about settings.ini"},
		Gives:    history.Saved{},
		Options: func(o *flag.FlagSet) Run {
			var s history.SaveOptions
			var about, forget list
			o.StringVar(&s.Folder, "folder", ".", "the project's `folder`")
			o.Var((*list)(&s.Only), "only", "only this file, folder or pattern `path`; may be given several times")
			o.Var((*list)(&s.Except), "except", "all but this `path`; may be given several times")
			o.Var((*list)(&s.Let), "let", "save this `path` although it would be stopped; needs --reason")
			o.StringVar(&s.Reason, "reason", "", "why it is let through: a `text`")
			pick := o.Bool("pick", false, "show what changed, and ask what is to be saved")
			reword := o.Bool("reword", false, "give the last commit this text instead, if it was not sent yet")
			o.Var(&about, "ask-about", "from now on, ask about this `path` before it is saved")
			o.Var(&forget, "ask-no-more", "do not ask about this `path` any more")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) (err error) {
				if len(about)+len(forget) > 0 {
					all, err := history.AskAbout(ctx, d, s.Folder, about, forget)
					if err != nil {
						return err
					}
					e.Aside("Asked about before it is saved: %s.", e.Err.visible(strings.Join(append([]string{}, all...), ", ")))
					if len(args) == 0 {
						return nil
					}
				}
				if len(args) > 0 {
					s.Text = args[0]
				}
				if *reword {
					r, err := history.Reword(ctx, d, s.Folder, s.Text)
					if err != nil {
						return err
					}
					return e.Give(r, func() {
						e.Say("The last commit says so now: %.10s. As it was it is rescue copy %d.", r.Commit, r.Rescued)
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
	if s.Text == "" && e.asks {
		if s.Text, err = e.ask(ctx, "What was done, in one line? "); err != nil {
			return err
		}
	}
	s.Ask = e.asker(ctx)
	r, err := history.Save(ctx, d, s)
	if err != nil {
		return err
	}
	return e.Give(r, func() {
		first, _, _ := strings.Cut(strings.TrimSpace(r.Text), "\n")
		e.Say("Saved: %s. Commit %.10s on %s, here only: %s", changes(r.Files), r.Commit, text.Visible(r.Branch), text.Excerpt(first, 80))
		e.left(r.Left)
		e.Say("To send it: uncinate sync")
	})
}

// left tells what was not saved.
func (e *Env) left(all []history.LeftOut) {
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
		return nil, fault.New(fault.Decision, "nobody can be asked here what is to be saved").
			Try("say it", `uncinate save "What was done" --only PATH`).Try("see what there is", "uncinate changes")
	}
	c, err := history.Compare(ctx, d, history.ChangesOptions{Folder: s.Folder, Paths: s.Only})
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
