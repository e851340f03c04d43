package screen

import (
	"context"
	"errors"
	"path/filepath"
	"time"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/many"
)

// longestLook is how long the host is waited for by whoever only wants to know where they stand.
const longestLook = 4 * time.Second

// here says, in at most five lines, where a person stands in this folder, and the one next thing to type. Nothing is asked
// for it: where a passphrase would be, what is known from before is told.
func (e *Env) here(ctx context.Context) error {
	e.asks = false // before the desk is laid out: its vault would ask otherwise
	d, err := e.Desk()
	if err != nil {
		return err
	}
	defer e.Say("All commands:  uncinate help")
	s, err := e.lookHere(ctx, d)
	if err != nil {
		return e.nowhere(ctx, d, fault.Of(err))
	}
	host, next := sides(s)
	word, says := s.State, board.Changes(s.Changed)
	e.Say("%s, %s, attached to %s", e.Out.strong(text.Visible(filepath.Base(s.Folder))), text.Either(s.Branch == "", "on no branch", "branch "+text.Visible(s.Branch)), text.Visible(s.Address))
	if says != "" {
		says += ", not saved; "
	}
	if word == "clash" && clash(s) != "" {
		says = clash(s) + "; " + says
	}
	says += text.Either(s.Unfinished != "", "plain git has begun "+s.Unfinished+" here; ", "") + host
	e.Say("%s", e.Out.wrap(text.Excerpt(says, 150), 0))
	if s.Stopped != nil && len(s.Stopped.Remedies) > 0 {
		e.nextIs(e.completed(s.Stopped.Remedies)[0].Command)
		return nil
	}
	if next = nextOf(s, next); next == "" {
		e.Say("There is nothing to do.")
		return nil
	}
	e.nextIs(next)
	return nil
}

func (e *Env) nextIs(command string) { e.Say("Next:          %s", text.Visible(command)) }

// lookHere looks at the project of this folder; a host that does not answer soon is not waited for.
func (e *Env) lookHere(ctx context.Context, d *desk.Desk) (*project.Standing, error) {
	within, stop := context.WithTimeout(ctx, longestLook)
	defer stop()
	s, err := many.Status(within, d, "", true)
	if ctx.Err() == nil && errors.Is(within.Err(), context.DeadlineExceeded) {
		if s, err = many.Status(ctx, d, "", false); err == nil {
			s.WhyNot, s.Reply = "it took too long", "no answer"
		}
	}
	return s, err
}

// nowhere says where a person stands in a folder that is not attached, or cannot be looked at; why is the fault of that.
func (e *Env) nowhere(ctx context.Context, d *desk.Desk, why *fault.Fault) error {
	where, err := project.FindFolder(d, "")
	if err != nil {
		return err
	}
	all, err := accounts.All(d)
	if err != nil {
		return err
	}
	mains, err := project.Mains(d)
	if err != nil {
		return err
	}
	if fault.Is(why, fault.Decision) && project.NotAProject(d, where) == nil && (project.CutOff(d, where) || len(project.ProjectsIn(where)) < 2) {
		e.Say("%s.", why.Says)
		if len(all) == 0 {
			e.Say("attach asks for your host, your account there, and where secrets are kept.")
			e.Say("To try first:  uncinate tour")
		}
		e.nextIs("uncinate attach")
		return nil
	}
	if !fault.Is(why, fault.Decision) { // a project, and something is the matter with it
		e.Say("%s.", e.Out.wrap(why.Says, 0))
		if r := e.completed(why.Remedies); len(r) > 0 {
			e.nextIs(r[0].Command)
		}
		return nil
	}
	switch {
	case len(mains) > 0:
		e.Say("This folder is not a project. %s attached on this machine.", text.Count(len(mains), "project")+text.Either(len(mains) == 1, " is", " are"))
		e.nextIs("uncinate status --all")
	case len(all) > 0:
		e.Say("No project is attached on this machine yet.")
		e.Say("To bring one:  uncinate repository list, then uncinate clone NAME")
		e.nextIs("cd into a project's folder, then: uncinate attach")
	default:
		e.Say("Nothing is set up on this machine yet: in a project's folder, uncinate attach")
		e.Say("asks for your host, your account there, and where secrets are kept.")
		e.nextIs("uncinate tour, to see it done first with nothing of yours touched")
	}
	return nil
}
