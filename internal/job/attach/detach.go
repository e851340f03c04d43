package attach

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
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
	Notes      []string
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
	if t.Run.State.Marks["verify"] == plan.Done {
		t.Unfinished = false // only the journal's removal was cut off
	}
	t.Options.Remote = o.Remote
	if t.Unfinished {
		w := t.Run.State.Head.Wanted
		t.Options.Account, t.Options.Host, t.Options.Name, t.Options.Owner = w["account"], w["host"], w["name"], w["owner"]
		if t.Options.Remote == "" {
			t.Options.Remote = w["remote"]
		}
	}
	if t.Project, _, err = project.ProjectAt(d, where); err != nil {
		return err
	}
	if t.Options.Remote == "" {
		t.Options.Remote = t.Project.Remote
	}
	if t.Unfinished && !o.RemoteOnly {
		return t.planPutBack(ctx, o)
	}
	if t.Project.Folder == "" && t.Run.Fact("address") == "" {
		return fault.New(fault.Decision, "%s is not attached to anything by this program", text.Visible(where)).
			Try("see where it stands", text.Command("uncinate", "status", where))
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
func (t *Detach) planPutBack(ctx context.Context, o DetachOptions) error {
	if kept := t.Run.Fact("join"); kept != "" {
		t.joins.Way = &join.Way{}
		if err := json.Unmarshal([]byte(kept), t.joins.Way); err != nil {
			return fault.New(fault.Failed, "the journal of the attach is damaged: %s", text.Visible(t.Run.Journal.Path())).Because(err)
		}
	}
	if err := t.joins.UntouchedSince(ctx); err != nil {
		return err
	}
	here := t.undosHere()
	for _, id := range t.Run.State.ToPutBack() {
		if u, is := here[id]; is {
			if u.applies {
				t.steps = append(t.steps, desk.Step{Item: plan.Item{ID: id, Place: plan.Here, Sentence: u.says}, Do: u.undo})
			}
			continue
		}
		u, err := t.undoThere(ctx, id, o)
		if err != nil {
			return err
		}
		if u.applies {
			t.steps = append(t.steps, desk.Step{Item: plan.Item{ID: id, Place: plan.Host, Sentence: u.says}, Do: u.undo})
		}
	}
	return nil
}

// undo is how one step of an attach is put back.
type undo struct {
	says    string
	undo    func(context.Context) error
	applies bool // there is something to put back
}

// undosHere are the steps that are put back on this machine, by their names.
func (t *Detach) undosHere() map[string]undo {
	return map[string]undo{
		"put-aside":    {"Bring back what was put aside of git's configuration", func(ctx context.Context) error { return t.Folder.BringBack(ctx, t.Desk) }, true},
		"init":         {"Make this folder an ordinary one again: remove .git", t.UndoInit, t.Run.Fact("made-git") == "yes"},
		"identity":     {"Take the name and e-mail for commits out again", t.UndoIdentity, true},
		"ignore":       {"Put .gitignore back as it was", t.UndoIgnore, true},
		"large":        {"Take large-file storage out again", t.own.UndoLarge, true},
		"first-files":  {"Remove the first files that were written", t.own.UndoFirstFiles, true},
		"bring-all":    {"Forget the tags that were brought in", t.moves.UndoBringAll, t.Run.Fact("brought") != ""},
		"former":       {"Give the old remote its name again", t.moves.UndoFormer, true},
		"branch-name":  {"Give the branch its former name again", t.joins.UndoBranchName, true},
		"bring-in":     {"Forget the commits that were brought in", t.joins.UndoBringIn, true},
		"join":         {"Bring the folder back to your own last commit", t.joins.UndoJoin, true},
		"lay":          {"Take out again what was laid out, and bring back what made way for it", t.joins.UndoLay, true},
		"first-commit": {"Take the first commit back; every file stays", t.UndoCommit, true},
		"tie":          {fmt.Sprintf("Remove the remote %s and its sign-in from git's configuration here", text.Visible(t.Options.Remote)), t.UndoTie, true},
	}
}

// undoThere says how a step is put back on the host; what stays as it is is told in a note.
func (t *Detach) undoThere(ctx context.Context, id string, o DetachOptions) (undo, error) {
	switch id {
	case "send":
		if t.Run.State.Marks["create"] != "" {
			return undo{}, nil // it goes with the whole repository
		}
		if t.Run.Fact("by push") != "" {
			break
		}
		if there := t.ThereBefore(); there != "" {
			return undo{"Bring the branch " + text.Visible(there) + " of the hosted repository back to what it was before", t.UndoSend, true}, nil
		}
		if t.Run.Fact("vacant") != "yes" {
			t.Notes = append(t.Notes, "What was sent to the hosted repository stays there: it held work before.")
			return undo{}, nil
		}
		return undo{"Take back what was sent to the hosted repository, which was empty before", t.UndoSend, true}, nil
	case "create":
	case "move-secret":
		t.Notes = append(t.Notes, "The token that was moved into the vault stays there.")
		return undo{}, nil
	case "default-branch":
		was := t.Run.Fact("default was")
		return undo{"Make " + text.Visible(was) + " the default branch there again", t.UndoDefault, was != ""}, nil
	default:
		return undo{}, nil
	}
	keep, err := t.planDelete(ctx, o)
	return undo{fmt.Sprintf("Delete the repository %s/%s, which the attach made there; a deletion cannot be taken back", t.Options.Owner, t.Options.Name), t.UndoCreate, !keep}, err
}

// planDelete finds out whether the hosted repository may be deleted: made by this
// attach, and holding nothing but what this attach sent.
func (t *Detach) planDelete(ctx context.Context, o DetachOptions) (keep bool, err error) {
	account, err := accounts.Pick(t.Desk, t.Options.Account, t.Options.Host)
	if err != nil {
		return false, err
	}
	if t.Login, err = login.Open(ctx, t.Desk, account); err != nil {
		return false, err
	}
	there, found, err := t.Made(ctx)
	if err != nil || !found {
		return true, err
	}
	if o.KeepRepository {
		t.Notes = append(t.Notes, "The hosted repository stays: "+there.Page)
		return true, nil
	}
	if err := t.Login.May("repository-delete", "delete a repository"); err != nil {
		t.Notes = append(t.Notes, "The hosted repository stays, since "+fault.Of(err).Says+": "+there.Page)
		return true, nil
	}
	if there.Empty != nil && *there.Empty {
		return false, nil
	}
	refs, err := t.RefsThere(ctx, account, there)
	if err != nil {
		return false, err
	}
	for name, id := range refs.IDs {
		here, err := t.Folder.Repo.Resolve(ctx, name)
		if name != "HEAD" && (err != nil || here != id) {
			return false, fault.New(fault.Refused, "%s holds %s now, which this attach did not send, so it is not deleted", there.Path(), text.Visible(strings.TrimPrefix(name, "refs/heads/"))).
				Try("finish the attach instead", text.Command("uncinate", "attach", t.Folder.Path)).
				Try("or put back only what is here", text.Command("uncinate", "detach", "--keep-repository", t.Folder.Path))
		}
	}
	return false, nil
}

// Items is the plan as it is shown.
func (t *Detach) Items() []plan.Item { return desk.Items(t.steps) }

// Release gives the plan up.
func (t *Detach) Release() error { return t.held.Release() }

// Do carries the plan out. Each step is marked as put back, so that a detach that is
// cut off goes on too.
func (t *Detach) Do(ctx context.Context) error {
	defer t.held.Release()
	for _, s := range t.steps {
		if err := ctx.Err(); err != nil {
			return err
		}
		t.Run.Current = s.ID
		if err := s.Do(ctx); err != nil {
			return err
		}
		if t.Unfinished {
			if err := t.Run.Record(s.ID, plan.Undone, nil); err != nil {
				return err
			}
		}
		t.Desk.Tell.Step(s.Item, false)
	}
	return t.Run.Journal.Close()
}
