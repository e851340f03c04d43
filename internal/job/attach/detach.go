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
	"uncinate/internal/job/attach/contents"
	"uncinate/internal/job/attach/join"
	"uncinate/internal/job/attach/move"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/world/files"
)

// DetachOptions are a person's wishes.
type DetachOptions struct {
	Folder     string
	Remote     string
	HookOnly   bool // take only the hook off, also after an unfinished attach
	KeepHosted bool // leave the hosted repository that the unfinished attach made
	Preview    bool
}

// Detach takes the hook off a project or, after an attach that was cut off, puts
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
	t.Folder.Repo.Safe = nil // the person hooked it: its configuration is their own
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
	if t.Unfinished && !o.HookOnly {
		return t.planPutBack(ctx, o)
	}
	if t.Project.Folder == "" && t.Run.Fact("address") == "" {
		return fault.New(fault.Decision, "%s is not hooked to anything by this program", text.Visible(where)).
			Try("see where it stands", text.Command("uncinate", "status", where))
	}
	t.steps = []desk.Step{{Item: plan.Item{ID: "unhook", Place: plan.Here, Sentence: fmt.Sprintf("Take the remote %s and its sign-in out of git's configuration here", text.Visible(t.Options.Remote))},
		Do: func(ctx context.Context) error {
			if err := target.Unhook(ctx, d, t.Folder, t.Options.Remote); err != nil {
				return err
			}
			return project.Strike(d, t.Folder.Path, t.Options.Remote)
		}}}
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
	for _, id := range t.Run.State.ToPutBack() {
		say, place := "", plan.Here
		var undo func(context.Context) error
		switch id {
		case "init":
			say, undo = "Make this folder an ordinary one again: remove .git", t.UndoInit
			if t.Run.Fact("made-git") != "yes" {
				continue
			}
		case "identity":
			say, undo = "Take the name and e-mail for commits out again", t.UndoIdentity
		case "ignore":
			say, undo = "Put .gitignore back as it was", t.UndoIgnore
		case "large":
			say, undo = "Take large-file storage out again", t.own.UndoLarge
		case "first-files":
			say, undo = "Remove the first files that were written", t.own.UndoFirstFiles
		case "bring-all":
			if t.Run.Fact("brought") == "" {
				continue
			}
			say, undo = "Forget the tags that were brought in", t.moves.UndoBringAll
		case "former":
			say, undo = "Give the old remote its name again", t.moves.UndoFormer
		case "branch-name":
			say, undo = "Give the branch its former name again", t.joins.UndoBranchName
		case "bring-in":
			say, undo = "Forget the commits that were brought in", t.joins.UndoBringIn
		case "join":
			say, undo = "Bring the folder back to your own last commit", t.joins.UndoJoin
		case "lay":
			say, undo = "Take out again what was laid out, and bring back what made way for it", t.joins.UndoLay
		case "first-commit":
			say, undo = "Take the first commit back; every file stays", t.UndoCommit
		case "hook":
			say, undo = fmt.Sprintf("Take the remote %s and its sign-in out of git's configuration here", text.Visible(t.Options.Remote)), t.UndoHook
		case "create", "send":
			if id == "send" && t.Run.State.Marks["create"] != "" {
				continue // it goes with the whole repository
			}
			if id == "send" && t.Run.Fact("by push") == "" {
				if there := t.ThereBefore(); there != "" {
					say, undo, place = "Bring the branch "+text.Visible(there)+" of the hosted repository back to what it was before", t.UndoSend, plan.Host
					break
				}
				if t.Run.Fact("vacant") != "yes" {
					t.Notes = append(t.Notes, "What was sent to the hosted repository stays there: it held work before.")
					continue
				}
				say, undo, place = "Take back what was sent to the hosted repository, which was empty before", t.UndoSend, plan.Host
				break
			}
			keep, err := t.planDelete(ctx, o)
			if err != nil {
				return err
			}
			if keep {
				continue
			}
			say, undo, place = fmt.Sprintf("Delete the repository %s/%s, which the attach made there; a deletion cannot be taken back", t.Options.Owner, t.Options.Name), t.UndoCreate, plan.Host
		case "move-secret":
			t.Notes = append(t.Notes, "The token that was moved into the vault stays there.")
			continue
		case "default-branch":
			say, undo, place = "Make "+text.Visible(t.Run.Fact("default was"))+" the default branch there again", t.UndoDefault, plan.Host
			if t.Run.Fact("default was") == "" {
				continue
			}
		default:
			continue
		}
		t.steps = append(t.steps, desk.Step{Item: plan.Item{ID: id, Place: place, Sentence: say}, Do: undo})
	}
	return nil
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
	if o.KeepHosted {
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
		here, err := t.Folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", name)
		if name != "HEAD" && (err != nil || here != id) {
			return false, fault.New(fault.Refused, "%s holds %s now, which this attach did not send, so it is not deleted", there.Path(), text.Visible(strings.TrimPrefix(name, "refs/heads/"))).
				Try("finish the attach instead", text.Command("uncinate", "attach", t.Folder.Path)).
				Try("or put back only what is here", text.Command("uncinate", "detach", "--keep-hosted", t.Folder.Path))
		}
	}
	return false, nil
}

// Items is the plan as it is shown.
func (t *Detach) Items() []plan.Item { return desk.Items(t.steps) }

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
