package target

import (
	"cmp"
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
	return t.bareMove().Planned(plan.Vault, fmt.Sprintf("Move the token out of the remote's address into the vault, as account %s on %s", t.moveFor.Name, where),
		nil,
		func(ctx context.Context) error {
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
		})
}

// StepInit makes the folder a git repository.
func (t *Target) StepInit() desk.Step {
	dir := filepath.Join(t.Folder.Path, ".git")
	return t.bareInit().Planned(plan.Here, "Make this folder a git repository, on branch "+t.Branch,
		func(ctx context.Context) (bool, error) {
			top, err := t.Folder.Repo.Top(ctx)
			return top == t.Folder.Path, err
		},
		func(ctx context.Context) error {
			if files.Missing(dir) {
				if err := FactMadeGit.Note(t.Run, true); err != nil {
					return err
				}
			}
			return t.Folder.TrustOwn(ctx, t.Desk, func() error {
				_, err := t.Folder.Repo.Run(ctx, git.Cmd{Dir: t.Folder.Repo.Dir, Args: []string{"init", "-q", "--initial-branch=" + t.Branch},
					Env: []string{"GIT_DEFAULT_HASH=" + cmp.Or(t.Format, "sha1")}}) // whatever the person's settings say: as it is there
				return git.Fault(err, "git cannot make a repository in %s", text.Visible(t.Folder.Path))
			})
		})
}

// StepIdentity sets who commits in this repository.
func (t *Target) StepIdentity() desk.Step {
	set := [][2]string{{"user.name", t.Name}, {"user.email", t.Email}}
	return t.bareIdentity().Planned(plan.Here, fmt.Sprintf("Set the name and e-mail for its commits: %s <%s>", text.Visible(t.Name), text.Visible(t.Email)),
		func(ctx context.Context) (bool, error) {
			for _, s := range set {
				if got, _, err := t.Folder.Repo.Own(s[0]); err != nil || got != s[1] {
					return false, err
				}
			}
			return true, nil
		},
		func(ctx context.Context) error {
			for _, s := range set {
				key, want := s[0], s[1]
				got, set, err := t.Folder.Repo.Own(key)
				if err != nil {
					return err
				}
				if set && got == want {
					continue
				}
				var was *string
				if set {
					was = &got
				}
				if err := factSet.About(key).Note(t.Run, was); err != nil {
					return err
				}
				if _, err := t.Folder.Repo.Do(ctx, "config", "--local", key, want); err != nil {
					return git.Fault(err, "git's configuration cannot be written")
				}
			}
			return nil
		})
}
