package target

import (
	"context"
	"fmt"
	"path/filepath"

	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// StepMove moves a secret out of a remote's address into the vault.
func (t *Target) StepMove() desk.Step {
	where := t.moveFor.Where()
	return desk.Step{Item: plan.Item{ID: "move-secret", Place: plan.Vault, Sentence: fmt.Sprintf("Move the token out of the remote's address into the vault, as account %s on %s", t.moveFor.Name, where)},
		Do: func(ctx context.Context) error {
			kept, _, err := login.AddAccount(ctx, t.Desk, t.moveFor, t.Move)
			if err != nil {
				return err
			}
			t.moveFor = *kept
			// From here on no child of ours may meet the secret in an address.
			if url, ok := t.Folder.Remotes[t.Options.Remote]; ok && project.WithoutSecret(url) != url {
				_, err = t.Folder.Repo.Do(ctx, "config", "--local", "remote."+t.Options.Remote+".url", t.Tie.Address.String())
			}
			return err
		}}
}

// StepInit makes the folder a git repository.
func (t *Target) StepInit() desk.Step {
	dir := filepath.Join(t.Folder.Path, ".git")
	return desk.Step{Item: plan.Item{ID: "init", Place: plan.Here, Sentence: "Make this folder a git repository, on branch " + t.Branch},
		Done: func(ctx context.Context) (bool, error) {
			top, err := t.Folder.Repo.Top(ctx)
			return top == t.Folder.Path, err
		},
		Do: func(ctx context.Context) error {
			if files.Missing(dir) {
				if err := t.Run.Note("made-git", "yes"); err != nil {
					return err
				}
			}
			return t.Folder.TrustOwn(ctx, t.Desk, func() error {
				_, err := t.Folder.Repo.Do(ctx, "init", "-q", "--initial-branch="+t.Branch)
				return git.Fault(err, "git cannot make a repository in %s", text.Visible(t.Folder.Path))
			})
		},
		Undo: t.UndoInit}
}

// StepIdentity sets who commits in this repository.
func (t *Target) StepIdentity() desk.Step {
	set := [][2]string{{"user.name", t.Name}, {"user.email", t.Email}}
	return desk.Step{Item: plan.Item{ID: "identity", Place: plan.Here, Sentence: fmt.Sprintf("Set whose name its commits carry: %s <%s>", text.Visible(t.Name), text.Visible(t.Email))},
		Done: func(ctx context.Context) (bool, error) {
			for _, s := range set {
				if got, err := t.Folder.Repo.Do(ctx, "config", "--local", "--get", s[0]); err != nil || got != s[1] {
					return false, nil
				}
			}
			return true, nil
		},
		Do: func(ctx context.Context) error {
			for _, s := range set {
				key, want := s[0], s[1]
				got, err := t.Folder.Repo.Do(ctx, "config", "--local", "--get", key)
				if err == nil && got == want {
					continue
				}
				was := "unset"
				if err == nil {
					was = "was " + got
				}
				if err := t.Run.Note("set "+key, was); err != nil {
					return err
				}
				if _, err := t.Folder.Repo.Do(ctx, "config", "--local", key, want); err != nil {
					return git.Fault(err, "git's configuration cannot be written")
				}
			}
			return nil
		},
		Undo: t.UndoIdentity}
}
