package target

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// StepCreate creates the repository on the host, once, also where an answer was lost.
func (t *Target) StepCreate() desk.Step {
	l := t.Login
	sentence := fmt.Sprintf("Create the %s repository %s on %s", t.Repository.Visibility, t.Repository.Path(), l.Host.Name)
	if t.Repository.Visibility == "members" {
		sentence = fmt.Sprintf("Create the repository %s on %s, visible to members", t.Repository.Path(), l.Host.Name)
	}
	return t.bareCreate().Planned(plan.Host, sentence,
		func(ctx context.Context) (bool, error) {
			made, err := t.foundMade(ctx)
			if err != nil || !made {
				return false, err
			}
			return true, t.complete(ctx)
		},
		t.createIt)
}

// foundMade looks whether a run before this one made the repository, and takes it up.
func (t *Target) foundMade(ctx context.Context) (bool, error) {
	if factNonce.Of(t.Run) == "" {
		return false, nil
	}
	there, found, err := t.Login.Repository(ctx, t.Repository.Owner, t.Repository.Name)
	if err != nil || !found {
		return false, err
	}
	there, err = t.adopt(there)
	if err != nil {
		return false, err
	}
	return true, t.take(there)
}

// nonce is a word that nobody else knows, noted before anything is made, by which a repository
// that was made is known again.
func (t *Target) nonce() (string, error) {
	if noted := factNonce.Of(t.Run); noted != "" {
		return noted, nil
	}
	random := make([]byte, 12)
	if _, err := rand.Read(random); err != nil {
		return "", err
	}
	word := hex.EncodeToString(random)
	return word, factNonce.Note(t.Run, word)
}

// createIt makes the repository on the host.
func (t *Target) createIt(ctx context.Context) error {
	l, says := t.Login, t.Options.Description
	word, err := t.nonce()
	if err != nil {
		return err
	}
	if t.marks() {
		says = strings.TrimSpace(says + " (being made: " + word + ")")
	}
	fields, err := l.Do(ctx, "repository-create", "create the repository "+t.Repository.Path(), description.Vars{
		"owner": t.Repository.Owner, "name": t.Repository.Name, "path": t.Repository.Path(), "visibility": t.Repository.Visibility,
		"description": says, "default_branch": t.Branch, "object_format": t.Format})
	if err != nil {
		// The work was done, now or by a run before this one; or the name went to
		// someone else a moment ago.
		err = login.Lost(err, func() (bool, error) { return t.foundMade(ctx) }, fault.HostSaidNo)
		if err == nil {
			return t.complete(ctx)
		}
		if login.Means(err, description.Denied) {
			names := login.WhoCreates(ctx, t.Desk, l.Host.Name, l.Account, t.Repository.Owner)
			return login.Others(fault.Of(err), names, "make repositories for "+t.Repository.Owner, func(account string) string { return t.Again("--account", account, "--name", t.Repository.Path()) })
		}
		return err
	}
	if fields["owner"] == nil && fields["name"] == nil { // the answer does not tell what was made
		made, look := t.foundMade(ctx)
		if look == nil && !made {
			look = fault.New(fault.Failed, "%s says that it made %s, and does not show it", l.Host.Name, t.Repository.Path())
		}
		if look != nil {
			return look
		}
		return t.complete(ctx)
	}
	made, err := l.Host.RepositoryFrom(fields)
	if err == nil {
		made, err = l.Host.WithSSH(made)
	}
	if err != nil {
		return err
	}
	if err := t.take(made); err != nil {
		return err
	}
	return t.describe(ctx)
}

// complete brings a repository that was made, and whose answer was lost, to what was
// asked for: on some hosts its making takes several requests.
func (t *Target) complete(ctx context.Context) error {
	if there := t.Repository; there.DefaultBranch != "" && there.DefaultBranch != t.Branch && t.Login.May("repository-change", "") == nil {
		if err := t.setDefault(ctx, there, t.Branch); err != nil {
			return err
		}
		t.Repository.DefaultBranch, t.Repository.Version = t.Branch, ""
	}
	return t.describe(ctx)
}

// marks reports whether the new repository may carry our mark in its description
// until it is certain that we made it.
func (t *Target) marks() bool { return t.Login.May("repository-change", "") == nil }

// take goes on with a repository that this attach made.
func (t *Target) take(made description.Repository) error {
	visibility, over := t.Repository.Visibility, made.HTTPS
	if t.Tie.Address.Scheme == "ssh" {
		over = made.SSH
	}
	at, err := address.Parse(over)
	if err != nil {
		return fault.New(fault.Unreachable, "%s names a clone address that cannot be used: %s", t.Login.Host.Name, text.Excerpt(over, 80)).Because(err)
	}
	t.Repository = made
	t.Repository.Visibility = visibility
	t.Tie.Address = at
	if err := FactID.Note(t.Run, made.ID); err != nil {
		return err
	}
	return FactAddress.Note(t.Run, at.String())
}

// describe takes our mark out of the new repository's description.
func (t *Target) describe(ctx context.Context) error {
	if !t.marks() || t.Repository.Description == t.Options.Description {
		return nil
	}
	var says any = t.Options.Description
	if says == "" {
		says = description.Blank{}
	}
	fields, err := t.Login.ChangeLatest(ctx, "describe", t.Repository, description.Vars{"description": says})
	if err != nil {
		return err
	}
	if s, ok := fields["description"].(string); ok {
		t.Repository.Description = s
	}
	return nil
}

// entry is what the register says of the project.
func (t *Target) entry() project.Project {
	p := project.Project{Folder: t.Folder.Path, Remote: t.Options.Remote, Address: t.Tie.Address.String(), ID: t.Repository.ID, Page: t.Repository.Page, Attached: t.Desk.Now().UTC().Truncate(time.Second)}
	if t.Tie.Account != nil {
		p.Account = t.Tie.Account.Name
	}
	if t.Login != nil {
		p.Host = t.Login.Host.Name
	}
	if t.Tie.Key != nil && t.Tie.Key.Alone {
		p.KeyFile = t.Tie.Key.File
	}
	p.Second = t.Options.Second || t.Project.Second
	return p
}

// StepTie adds the remote and its sign-in to git's configuration here, and to the register.
func (t *Target) StepTie() desk.Step {
	return t.bareTie().Planned(plan.Here, t.tieSentence(),
		func(ctx context.Context) (bool, error) {
			stands, err := t.Tie.Done()
			if err != nil || !stands {
				return false, err
			}
			if up, err := t.upstream(); err != nil || up == "" || t.Former != "" && up == t.Former {
				return false, err
			}
			p, found, err := project.EntryOf(t.Desk, t.Folder.Path, t.Options.Remote)
			want := t.entry()
			want.Attached = p.Attached
			return found && p == want, err
		},
		t.tieIt)
}

// tieSentence says under which name the remote is added, and how git signs in to it.
func (t *Target) tieSentence() string {
	what := fmt.Sprintf("Add it as the remote %s; git signs in", t.Options.Remote)
	switch {
	case t.Tie.Key != nil && t.Tie.Key.Alone:
		return what + " over SSH, with the key " + text.Visible(t.Tie.Key.File) + " and no other"
	case t.Tie.Pinned:
		return what + " over SSH, with your own keys"
	case t.Tie.Route() != nil:
		return what + fmt.Sprintf(" over SSH, with the key of account %s and no other", t.Tie.Account.Name)
	case t.Login != nil:
		return what + fmt.Sprintf(" as %s with the vault's token", t.Login.Account.User)
	case t.Tie.Account != nil:
		return what + fmt.Sprintf(" as %s with the vault's token", t.Tie.Account.User)
	}
	return fmt.Sprintf("Add it as the remote %s; git uses its own sign-in", t.Options.Remote)
}

// upstream is the remote that the branch goes to; "" for none yet.
func (t *Target) upstream() (string, error) {
	out, _, err := t.Folder.Repo.Own("branch." + t.Branch + ".remote")
	return out, err
}

// tieIt writes git's configuration here, and the register.
func (t *Target) tieIt(ctx context.Context) error {
	if err := t.SetAside(filepath.Join(t.Folder.Path, ".git", "config"), "config"); err != nil {
		return err
	}
	if t.Create && t.ByPush() { // the remote that stands from now on is ours
		if err := FactAddress.Note(t.Run, t.Tie.Address.String()); err != nil {
			return err
		}
	}
	if t.Folder.Remotes[t.Options.Remote] == "" {
		if err := FactNewRemote.Note(t.Run, true); err != nil {
			return err
		}
	}
	if err := t.Tie.Set(ctx); err != nil {
		return git.Fault(err, "git's configuration cannot be written")
	}
	if t.Former != "" {
		if err := t.follow(ctx); err != nil {
			return err
		}
	}
	up, err := t.upstream()
	if err != nil {
		return err
	}
	if up == "" {
		// Plain git push and pull know where to, also before the first commit.
		for _, s := range [][2]string{{"remote", t.Options.Remote}, {"merge", "refs/heads/" + t.Branch}} {
			if _, err := t.Folder.Repo.Do(ctx, "config", "--local", "branch."+t.Branch+"."+s[0], s[1]); err != nil {
				return git.Fault(err, "git's configuration cannot be written")
			}
		}
	}
	if err := t.Wrote(filepath.Join(t.Folder.Path, ".git", "config"), "config"); err != nil {
		return err
	}
	return project.Enter(ctx, t.Desk, t.entry())
}

// StepDefault makes the branch the default one on the host.
func (t *Target) StepDefault() desk.Step {
	return t.bareDefault().Planned(plan.Host, "Make "+t.Branch+" the default branch there",
		nil,
		func(ctx context.Context) error {
			if factDefaultWas.Of(t.Run) == "" {
				if err := factDefaultWas.Note(t.Run, t.Repository.DefaultBranch); err != nil {
					return err
				}
			}
			return t.setDefault(ctx, t.Repository, t.Branch)
		})
}

// setDefault makes a branch the default one on the host.
func (t *Target) setDefault(ctx context.Context, there description.Repository, branch string) error {
	_, err := t.Login.ChangeLatest(ctx, "set the default branch of", there, description.Vars{"default_branch": branch})
	return err
}
