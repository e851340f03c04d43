package attach

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
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

func (a *Attach) stepCreate() desk.Step {
	l := a.Login
	found := func(ctx context.Context) (bool, error) {
		if a.run.Fact("nonce") == "" {
			return false, nil
		}
		there, found, err := l.Repository(ctx, a.Target.Owner, a.Target.Name)
		if err != nil || !found {
			return false, err
		}
		there, err = a.adopt(there)
		if err != nil {
			return false, err
		}
		return true, a.take(there)
	}
	sentence := fmt.Sprintf("Create the %s repository %s on %s", a.Target.Visibility, a.Target.Path(), l.Host.Name)
	if a.Target.Visibility == "members" {
		sentence = fmt.Sprintf("Create the repository %s on %s, visible to members", a.Target.Path(), l.Host.Name)
	}
	return desk.Step{Item: plan.Item{ID: "create", Place: plan.Host, Sentence: sentence},
		Done: func(ctx context.Context) (bool, error) {
			made, err := found(ctx)
			if err != nil || !made {
				return false, err
			}
			return true, a.complete(ctx)
		},
		Do: func(ctx context.Context) error {
			text := a.Options.Description
			nonce := a.run.Fact("nonce")
			if nonce == "" {
				random := make([]byte, 12)
				if _, err := rand.Read(random); err != nil {
					return err
				}
				nonce = hex.EncodeToString(random)
				if err := a.run.Note("nonce", nonce); err != nil {
					return err
				}
			}
			if a.marks() {
				text = strings.TrimSpace(text + " (being made: " + nonce + ")")
			}
			fields, err := l.Do(ctx, "repository-create", "create the repository "+a.Target.Path(), description.Vars{
				"owner": a.Target.Owner, "name": a.Target.Name, "path": a.Target.Path(), "visibility": a.Target.Visibility,
				"description": text, "default_branch": a.branch})
			if err != nil {
				// The answer may be lost though the work was done, now or by a run before
				// this one; or the name went to someone else a moment ago. Looking tells.
				if fault.Is(err, fault.Unreachable) || fault.Is(err, fault.HostSaidNo) {
					if made, look := found(ctx); look == nil && made {
						return a.complete(ctx)
					}
				}
				if login.Means(err, description.Denied) {
					names := login.WhoCreates(ctx, a.Desk, l.Host.Name, l.Account, a.Target.Owner)
					return login.Others(fault.Of(err), names, "make repositories for "+a.Target.Owner, func(account string) string { return a.Again("--account", account, "--name", a.Target.Path()) })
				}
				return err
			}
			if fields["owner"] == nil && fields["name"] == nil { // the answer does not tell what was made
				made, look := found(ctx)
				if look == nil && !made {
					look = fault.New(fault.Failed, "%s says that it made %s, and does not show it", l.Host.Name, a.Target.Path())
				}
				if look != nil {
					return look
				}
				return a.complete(ctx)
			}
			made, err := l.Host.RepositoryFrom(fields)
			if err == nil {
				made, err = l.Host.WithSSH(made)
			}
			if err != nil {
				return err
			}
			if err := a.take(made); err != nil {
				return err
			}
			return a.describe(ctx)
		}}
}

// complete brings a repository that was made, and whose answer was lost, to what was
// asked for: on some hosts its making takes several requests.
func (a *Attach) complete(ctx context.Context) error {
	if there := a.Target; there.DefaultBranch != "" && there.DefaultBranch != a.branch && a.Login.May("repository-change", "") == nil {
		if err := a.setDefault(ctx, there, a.branch); err != nil {
			return err
		}
		a.Target.DefaultBranch, a.Target.Version = a.branch, ""
	}
	return a.describe(ctx)
}

// marks reports whether the new repository may carry our mark in its description
// until it is certain that we made it.
func (a *Attach) marks() bool { return a.Login.May("repository-change", "") == nil }

// take goes on with a repository that this attach made.
func (a *Attach) take(made description.Repository) error {
	visibility, over := a.Target.Visibility, made.HTTPS
	if a.Hook.Address.Scheme == "ssh" {
		over = made.SSH
	}
	at, err := address.Parse(over)
	if err != nil {
		return fault.New(fault.Unreachable, "%s names a clone address that cannot be used: %s", a.Login.Host.Name, text.Excerpt(over, 80)).Because(err)
	}
	a.Target = made
	a.Target.Visibility = visibility
	a.Hook.Address = at
	if err := a.run.Note("id", made.ID); err != nil {
		return err
	}
	return a.run.Note("address", at.String())
}

// describe takes our mark out of the new repository's description.
func (a *Attach) describe(ctx context.Context) error {
	if !a.marks() || a.Target.Description == a.Options.Description {
		return nil
	}
	var text any = a.Options.Description
	if text == "" {
		text = description.Blank{}
	}
	fields, err := a.Login.Do(ctx, "repository-change", "describe "+a.Target.Path(), description.Vars{
		"owner": a.Target.Owner, "name": a.Target.Name, "path": a.Target.Path(), "id": a.Target.ID, "version": a.Target.Version, "description": text})
	if login.Means(err, description.Changed) {
		there, found, look := a.Login.Repository(ctx, a.Target.Owner, a.Target.Name)
		if look != nil || !found {
			return errors.Join(err, look)
		}
		fields, err = a.Login.Do(ctx, "repository-change", "describe "+a.Target.Path(), description.Vars{
			"owner": a.Target.Owner, "name": a.Target.Name, "path": a.Target.Path(), "id": a.Target.ID, "version": there.Version, "description": text})
	}
	if err != nil {
		return err
	}
	if s, ok := fields["description"].(string); ok {
		a.Target.Description = s
	}
	return nil
}

// entry is what the register says of the project.
func (a *Attach) entry() project.Project {
	p := project.Project{Folder: a.folder.Path, Remote: a.Options.Remote, Address: a.Hook.Address.String(), ID: a.Target.ID, Page: a.Target.Page, Hooked: a.Desk.Now().UTC().Truncate(time.Second)}
	if a.Hook.Account != nil {
		p.Account = a.Hook.Account.Name
	}
	if a.Login != nil {
		p.Host = a.Login.Host.Name
	}
	p.Copy = a.Options.Copy || a.project.Copy
	return p
}

func (a *Attach) stepHook() desk.Step {
	what := fmt.Sprintf("Name it %s here, and let git sign in to it", a.Options.Remote)
	if a.Hook.Route() != nil {
		what += fmt.Sprintf(" over SSH, with the key of account %s and no other", a.Hook.Account.Name)
	} else if a.Login != nil {
		what += fmt.Sprintf(" as %s, from the vault", a.Login.Account.User)
	} else if a.Hook.Account != nil {
		what += fmt.Sprintf(" as %s, from the vault", a.Hook.Account.User)
	} else {
		what = fmt.Sprintf("Name it %s here; git signs in with what it has", a.Options.Remote)
	}
	upstream := func(ctx context.Context) (string, error) {
		out, err := a.folder.Repo.Do(ctx, "config", "--local", "--get", "branch."+a.branch+".remote")
		if git.Code(err) == 1 || git.Code(err) == 128 {
			return "", nil
		}
		return out, err
	}
	return desk.Step{Item: plan.Item{ID: "hook", Place: plan.Here, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			stands, err := a.Hook.Done(ctx)
			if err != nil || !stands {
				return false, err
			}
			if up, err := upstream(ctx); err != nil || up == "" || a.former != "" && up == a.former {
				return false, err
			}
			p, found, err := project.EntryOf(a.Desk, a.folder.Path, a.Options.Remote)
			want := a.entry()
			want.Hooked = p.Hooked
			return found && p == want, err
		},
		Do: func(ctx context.Context) error {
			if err := a.setAside(filepath.Join(a.folder.Path, ".git", "config"), "config"); err != nil {
				return err
			}
			if a.Create && a.byPush() { // the remote that stands from now on is ours
				if err := a.run.Note("address", a.Hook.Address.String()); err != nil {
					return err
				}
			}
			if a.folder.Remotes[a.Options.Remote] == "" {
				if err := a.run.Note("new remote", "yes"); err != nil {
					return err
				}
			}
			if err := a.Hook.Set(ctx); err != nil {
				return desk.GitFault(err, "git's configuration cannot be written")
			}
			if a.former != "" {
				if err := a.follow(ctx); err != nil {
					return err
				}
			}
			up, err := upstream(ctx)
			if err != nil {
				return err
			}
			if up == "" {
				// Plain git push and pull know where to, also before the first commit.
				for _, s := range [][2]string{{"remote", a.Options.Remote}, {"merge", "refs/heads/" + a.branch}} {
					if _, err := a.folder.Repo.Do(ctx, "config", "--local", "branch."+a.branch+"."+s[0], s[1]); err != nil {
						return desk.GitFault(err, "git's configuration cannot be written")
					}
				}
			}
			if err := a.wrote(filepath.Join(a.folder.Path, ".git", "config"), "config"); err != nil {
				return err
			}
			return project.Enter(a.Desk, a.entry())
		},
		Undo: a.undoHook}
}

// sent names the branches that go up.
func (a *Attach) sent() []string {
	if a.Options.Branches && len(a.folder.Branches) > 0 {
		all := slices.Clone(a.folder.Branches)
		if j := a.join; j != nil {
			if i := slices.Index(all, j.Was); i >= 0 {
				all[i] = j.Branch // it is called so by then
			}
		}
		return all
	}
	return []string{a.branch}
}

func (a *Attach) stepSend() desk.Step {
	branches := a.sent()
	what := "Send branch " + text.Visible(branches[0])
	if len(branches) > 1 {
		what = fmt.Sprintf("Send %s: %s", text.Count(len(branches), "branch"), text.Excerpt(strings.Join(branches, ", "), 60))
	}
	if a.Create && a.byPush() {
		what += "; the first push makes the repository there, " + a.Login.Host.Actions["repository-create"].Makes
	}
	return desk.Step{Item: plan.Item{ID: "send", Place: plan.Here, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			if a.Create && a.run.Fact("id") == "" && !a.byPush() {
				return false, nil
			}
			all, err := a.arrived(ctx)
			if a.byPush() && fault.Is(err, fault.HostSaidNo) {
				return false, nil // the push is what makes it
			}
			if err != nil || !all {
				return false, err
			}
			usual := "+refs/heads/*:refs/remotes/" + a.Options.Remote + "/*"
			if fetch, err := a.folder.Repo.Do(ctx, "config", "--local", "--get-all", "remote."+a.Options.Remote+".fetch"); err != nil || fetch != usual {
				return true, nil
			}
			for _, b := range branches { // git itself must know of it; it does not where the answer was lost
				here, err := a.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/heads/"+b)
				if err != nil {
					return false, desk.GitFault(err, "the branch %s cannot be read", text.Visible(b))
				}
				if known, err := a.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/remotes/"+a.Options.Remote+"/"+b); err != nil || known != here {
					return false, nil
				}
			}
			return true, nil
		},
		Do: func(ctx context.Context) error {
			args := []string{"push", "--progress", "--porcelain", "--set-upstream", "--", a.Options.Remote}
			for _, b := range branches {
				args = append(args, "refs/heads/"+b+":refs/heads/"+b)
				id, err := a.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/heads/"+b)
				if err != nil {
					return desk.GitFault(err, "the branch %s cannot be read", text.Visible(b))
				}
				if err := a.run.Note("sent "+b, id); err != nil {
					return err
				}
			}
			if j := a.join; j != nil {
				if err := a.run.Note("there "+j.Branch, j.Tip); err != nil {
					return err
				}
			}
			if a.vacant {
				if err := a.run.Note("vacant", "yes"); err != nil {
					return err
				}
			}
			if a.byPush() {
				if err := a.run.Note("by push", "begun"); err != nil {
					return err
				}
			}
			err := project.Push(ctx, a.Desk, a.Hook, args)
			a.went = err == nil
			if err != nil || !a.byPush() {
				return err
			}
			return a.run.Note("by push", "done")
		}}
}

// arrived compares the branches that were to be sent with what the host holds.
func (a *Attach) arrived(ctx context.Context) (bool, error) {
	refs, err := a.remoteRefs(ctx)
	if err != nil {
		return false, err
	}
	for _, b := range a.sent() {
		id, err := a.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/heads/"+b)
		if err != nil || refs.Branch(b) != id {
			return false, nil
		}
	}
	return true, nil
}

func (a *Attach) stepDefault() desk.Step {
	return desk.Step{Item: plan.Item{ID: "default-branch", Place: plan.Host, Sentence: "Make " + a.branch + " the default branch there"},
		Do: func(ctx context.Context) error {
			if a.run.Fact("default was") == "" {
				if err := a.run.Note("default was", a.Target.DefaultBranch); err != nil {
					return err
				}
			}
			return a.setDefault(ctx, a.Target, a.branch)
		}}
}

// setDefault makes a branch the default one on the host.
func (a *Attach) setDefault(ctx context.Context, there description.Repository, branch string) error {
	set := func() error {
		_, err := a.Login.Do(ctx, "repository-change", "set the default branch of "+there.Path(), description.Vars{
			"owner": there.Owner, "name": there.Name, "path": there.Path(), "id": there.ID, "version": there.Version, "default_branch": branch})
		return err
	}
	err := set()
	if !login.Means(err, description.Changed) {
		return err
	}
	// A request of a run that was cut off may have come to its end only now.
	again, found, look := a.Login.Repository(ctx, there.Owner, there.Name)
	if look != nil || !found {
		return errors.Join(err, look)
	}
	there = again
	return set()
}

func (a *Attach) stepVerify(something bool) desk.Step {
	where := "the address itself"
	if a.Login != nil {
		where = a.Login.Host.Name
	}
	what := "Check with " + where + " that all arrived"
	if !something {
		what = "Check with " + where + " that it is there; there is nothing to send yet"
	}
	return desk.Step{Item: plan.Item{ID: "verify", Place: plan.Host, Sentence: what}, Do: func(ctx context.Context) error { return a.verify(ctx, something) }}
}

// verify asks the host itself: same commit, same default branch, visibility as asked.
func (a *Attach) verify(ctx context.Context, something bool) error {
	wrong := func(format string, args ...any) error {
		return fault.New(fault.Failed, "the check with the host failed: "+format, args...)
	}
	if something {
		arrived := a.arrived
		if a.former != "" {
			arrived = a.movedAll
		}
		all, err := arrived(ctx)
		if err != nil {
			return err
		}
		if !all {
			return wrong("%s does not hold the commit that was sent", a.Hook.Address.String())
		}
	}
	if a.Login == nil {
		return nil
	}
	there, found, err := a.Login.Repository(ctx, a.Target.Owner, a.Target.Name)
	switch {
	case err != nil:
		return err
	case !found:
		return wrong("%s does not show %s any more", a.Login.Host.Name, a.Target.Path())
	case a.Target.ID != "" && there.ID != a.Target.ID:
		return wrong("%s shows another repository under the name %s", a.Login.Host.Name, a.Target.Path())
	case a.Create && there.Visibility != a.Target.Visibility:
		return wrong("%s shows %s as %s, and %s was asked for", a.Login.Host.Name, a.Target.Path(), there.Visibility, a.Target.Visibility)
	case something && a.Create && there.DefaultBranch != "" && there.DefaultBranch != a.branch:
		return wrong("%s has %s as its default branch, and %s was sent", a.Target.Path(), there.DefaultBranch, a.branch)
	}
	a.Target = there
	return nil
}
