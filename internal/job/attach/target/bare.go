package target

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
)

// Each step of an attach is made of a bare one, which is what can be said of it without a plan: its
// name, where it acts, and how it is put back. An attach adds what it will do.

// BareSteps are those of this room.
func (t *Target) BareSteps() []desk.Step {
	return []desk.Step{t.barePutAside(), t.bareTrust(), t.bareMove(), t.bareInit(), t.bareIdentity(), t.BareIgnore(), t.BareCommit(),
		t.bareCreate(), t.bareTie(), t.BareSend(), t.bareDefault(), t.BareVerify()}
}

func (w *Work) barePutAside() desk.Step {
	return desk.Bare("put-aside", plan.Here, "Bring back what was put aside of git's configuration", func(ctx context.Context) error { return w.Folder.BringBack(ctx, w.Desk) })
}

func (w *Work) bareTrust() desk.Step { return desk.Bare("trust", plan.Here, "", nil) }

func (w *Work) bareMove() desk.Step {
	s := desk.Bare("move-secret", plan.Vault, "", nil)
	s.Back = func(context.Context) (string, error) {
		w.Notes = append(w.Notes, "The token that was moved into the vault stays there.")
		return "", nil
	}
	return s
}

func (t *Target) bareInit() desk.Step {
	return desk.Bare("init", plan.Here, text.Either(FactMadeGit.Of(t.Run), "Make this folder an ordinary one again: remove .git", ""), t.undoInit)
}

func (t *Target) bareIdentity() desk.Step {
	return desk.Bare("identity", plan.Here, "Take the name and e-mail for commits out again", t.undoIdentity)
}

// BareIgnore is the step that writes ignore rules.
func (w *Work) BareIgnore() desk.Step {
	return desk.Bare("ignore", plan.Here, "Put .gitignore back as it was", w.undoIgnore)
}

// BareCommit is the step that makes the first commit.
func (w *Work) BareCommit() desk.Step {
	return desk.Bare("first-commit", plan.Here, "Take the first commit back; every file stays", w.undoCommit)
}

func (t *Target) bareTie() desk.Step {
	return desk.Bare("tie", plan.Here, fmt.Sprintf("Remove the remote %s and its sign-in from git's configuration here", text.Visible(t.Options.Remote)), t.undoTie)
}

// bareCreate is the step by which the repository is made on the host. Once the host said that it is
// made, all stays.
func (t *Target) bareCreate() desk.Step {
	s := desk.Bare("create", plan.Host, "", t.undoCreate)
	s.Stays = func(bool) bool { return FactID.Known(t.Run) }
	s.Back = func(ctx context.Context) (string, error) {
		if FactByPush.Of(t.Run) {
			return "", nil // it goes with what was sent
		}
		return t.deletes(ctx)
	}
	return s
}

// BareSend is the step that sends. Once all is sent, all stays.
func (t *Target) BareSend() desk.Step {
	s := desk.Bare("send", plan.Host, "", func(ctx context.Context) error {
		if FactByPush.Of(t.Run) {
			return t.undoCreate(ctx)
		}
		return t.undoSend(ctx)
	})
	s.Stays = desk.OnceDone
	s.Back = func(ctx context.Context) (string, error) {
		there := t.thereBefore()
		switch {
		case FactByPush.Of(t.Run):
			return t.deletes(ctx)
		case factNonce.Known(t.Run):
			return "", nil // it goes with the whole repository
		case there != "":
			return "Bring the branch " + text.Visible(there) + " of the hosted repository back to what it was before", nil
		case FactVacant.Of(t.Run):
			return "Take back what was sent to the hosted repository, which was empty before", nil
		}
		t.Notes = append(t.Notes, "What was sent to the hosted repository stays there: it held work before.")
		return "", nil
	}
	return s
}

func (t *Target) bareDefault() desk.Step {
	was := factDefaultWas.Of(t.Run)
	return desk.Bare("default-branch", plan.Host, text.Either(was != "", "Make "+text.Visible(was)+" the default branch there again", ""), t.undoDefault)
}

// BareVerify is the last step.
func (t *Target) BareVerify() desk.Step { return desk.Bare("verify", plan.Host, "", nil) }

// Checked reports whether the last step was done: only the journal's removal was cut off then.
func (t *Target) Checked() bool { return t.Run.State.Marks[t.BareVerify().ID] == plan.Done }

// deletes finds out whether the hosted repository may be deleted: made by this
// attach, and holding nothing but what this attach sent.
func (t *Target) deletes(ctx context.Context) (string, error) {
	account, err := accounts.Pick(t.Desk, t.Options.Account, t.Options.Host)
	if err != nil {
		return "", err
	}
	if t.Login, err = login.Open(ctx, t.Desk, account); err != nil {
		return "", err
	}
	there, found, err := t.made(ctx)
	if err != nil || !found {
		return "", err
	}
	if t.Keep {
		t.Notes = append(t.Notes, "The hosted repository stays: "+there.Page)
		return "", nil
	}
	if err := t.Login.May("repository-delete", "delete a repository"); err != nil {
		t.Notes = append(t.Notes, "The hosted repository stays, since "+fault.Of(err).Says+": "+there.Page)
		return "", nil
	}
	says := fmt.Sprintf("Delete the repository %s/%s, which the attach made there; a deletion cannot be taken back", t.Options.Owner, t.Options.Name)
	if there.Empty != nil && *there.Empty {
		return says, nil
	}
	refs, err := t.RefsThere(ctx, account, there)
	if err != nil {
		return "", err
	}
	for _, name := range slices.Sorted(maps.Keys(refs.IDs)) {
		id := refs.IDs[name]
		here, err := t.Folder.Repo.Resolve(ctx, name)
		if name != "HEAD" && (err != nil || here != id) {
			return "", fault.New(fault.Refused, "%s holds %s now, which this attach did not send, so it is not deleted", there.Path(), text.Visible(strings.TrimPrefix(name, "refs/heads/"))).
				Try("finish the attach instead", text.Command("uncinate", "attach", t.Folder.Path)).
				Try("or put back only what is here", text.Command("uncinate", "detach", "--keep-repository", t.Folder.Path))
		}
	}
	return says, nil
}
