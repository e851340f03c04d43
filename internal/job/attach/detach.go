package attach

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/attach/contents"
	"uncinate/internal/job/attach/join"
	"uncinate/internal/job/attach/move"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/world/files"
)

// DetachOptions are a person's wishes.
type DetachOptions struct {
	Folder         string
	Remote         string
	RemoteOnly     bool // take only the tie off, also after an unfinished attach
	KeepRepository bool // leave the hosted repository that the unfinished attach made
	Preview        bool
}

// Detach takes the tie off a project or, after an attach that was cut off, puts
// everything back.
type Detach struct {
	*target.Target
	held  *files.Held // the folder's lock
	joins *join.Join
	moves *move.Move
	own   *contents.Contents
	steps []desk.Step

	Unfinished bool
}

// PlanDetach looks at the folder, the journal and the host, and makes the plan.
func PlanDetach(ctx context.Context, d *desk.Desk, o DetachOptions) (*Detach, error) {
	where, err := project.FindFolder(d, o.Folder)
	if err != nil {
		return nil, err
	}
	to := &target.Target{Work: target.Work{Desk: d}}
	t := &Detach{Target: to, joins: &join.Join{Target: to}, moves: &move.Move{Target: to}, own: &contents.Contents{Target: to}}
	if !o.Preview {
		if t.held, err = d.Alone(ctx, where); err != nil {
			return nil, err
		}
	}
	if err := t.prepare(ctx, where, o); err != nil {
		return nil, errors.Join(err, t.held.Release())
	}
	return t, nil
}

func (t *Detach) prepare(ctx context.Context, where string, o DetachOptions) error {
	d := t.Desk
	var err error
	if t.Folder, err = project.Look(ctx, d, where); err != nil {
		return err
	}
	if t.held != nil {
		if _, err := worktree.Heal(ctx, d, t.Folder); err != nil {
			return err
		}
	}
	if t.Run, t.Unfinished, err = d.Begin("attach", where); err != nil {
		return err
	}
	if t.Checked() {
		t.Unfinished = false // only the journal's removal was cut off
	}
	t.Options.Remote, t.Keep = o.Remote, o.KeepRepository
	if t.Resumed = t.Unfinished; t.Unfinished {
		if t.Options, err = t.Recall(t.Options); err != nil {
			return err
		}
	}
	if t.Project, _, err = project.ProjectAt(d, where); err != nil {
		return err
	}
	if t.Options.Remote == "" {
		t.Options.Remote = t.Project.Remote
	}
	if t.Unfinished && !o.RemoteOnly {
		return t.planPutBack(ctx)
	}
	if t.Project.Folder == "" && target.FactAddress.Of(t.Run) == "" {
		return fault.New(fault.Decision, "%s is not attached to anything by this program", text.Visible(where)).
			Try("see how far it is", text.Command("uncinate", "status", where))
	}
	t.steps = []desk.Step{{Item: plan.Item{ID: "untie", Place: plan.Here, Sentence: fmt.Sprintf("Remove the remote %s and its sign-in from git's configuration here", text.Visible(t.Options.Remote))},
		Do: func(ctx context.Context) error {
			n, err := worktree.KeepTracked(ctx, d, t.Folder, t.Options.Remote, "detach")
			if err != nil {
				return err
			}
			if n > 0 {
				d.Tell.Note("What git knew of the host's branches, and no branch here holds, is kept as rescue copy %d.", n)
			}
			if err := target.Untie(ctx, d, t.Folder, t.Options.Remote); err != nil {
				return err
			}
			if err := t.Folder.BringBack(ctx, d); err != nil {
				return err
			}
			return project.Strike(ctx, d, t.Folder.Path, t.Options.Remote)
		}}}
	if project.HasAside(d, t.Folder.Path) {
		t.Notes = append(t.Notes, "What the attach put aside of git's configuration comes back.")
	}
	t.Notes = append(t.Notes, "Files, commits and the hosted repository stay as they are.")
	return nil
}

// planPutBack plans to undo what the journal says was begun, newest first.
func (t *Detach) planPutBack(ctx context.Context) (err error) {
	if join.FactWay.Known(t.Run) {
		t.joins.Way = join.FactWay.Of(t.Run)
	}
	if err := t.joins.UntouchedSince(ctx); err != nil {
		return err
	}
	t.steps, err = t.Run.ToPutBack(ctx, slices.Concat(t.BareSteps(), t.joins.BareSteps(), t.moves.BareSteps(), t.own.BareSteps()))
	return err
}

// Items is the plan as it is shown.
func (t *Detach) Items() []plan.Item { return desk.Items(t.steps) }

// Release gives the plan up.
func (t *Detach) Release() error { return t.held.Release() }

// Do carries the plan out. Each step is marked as put back, so that a detach that is
// cut off goes on too.
func (t *Detach) Do(ctx context.Context) (err error) {
	defer fault.Also(&err, t.held.Release)
	if t.Unfinished {
		return t.Run.PutBack(ctx, t.steps)
	}
	for _, s := range t.steps {
		if err := s.Do(ctx); err != nil {
			return err
		}
		t.Desk.Tell.Step(s.Item, false)
	}
	if !t.Project.Second { // nothing goes on from a sync that was cut off
		if err := t.Desk.Home.JournalAt("sync", t.Folder.Path).Close(); err != nil {
			return err
		}
	}
	return t.Run.Journal.Close()
}
