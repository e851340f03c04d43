package job

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
	"uncinate/internal/world/git"
)

func (a *Attach) stepCreate() Step {
	l := a.login
	found := func(ctx context.Context) (bool, error) {
		if a.run.fact("nonce") == "" {
			return false, nil
		}
		there, found, err := l.repository(ctx, a.target.Owner, a.target.Name)
		if err != nil || !found {
			return false, err
		}
		there, err = a.adopt(there)
		if err != nil {
			return false, err
		}
		return true, a.take(there)
	}
	sentence := fmt.Sprintf("Create the %s repository %s on %s", a.target.Visibility, a.target.Path(), l.Host.Name)
	if a.target.Visibility == "members" {
		sentence = fmt.Sprintf("Create the repository %s on %s, visible to members", a.target.Path(), l.Host.Name)
	}
	return Step{Item: plan.Item{ID: "create", Place: plan.Host, Sentence: sentence},
		Done: func(ctx context.Context) (bool, error) {
			made, err := found(ctx)
			if err != nil || !made {
				return false, err
			}
			return true, a.complete(ctx)
		},
		Do: func(ctx context.Context) error {
			text := a.options.Description
			nonce := a.run.fact("nonce")
			if nonce == "" {
				random := make([]byte, 12)
				if _, err := rand.Read(random); err != nil {
					return err
				}
				nonce = hex.EncodeToString(random)
				if err := a.run.note("nonce", nonce); err != nil {
					return err
				}
			}
			if a.marks() {
				text = strings.TrimSpace(text + " (being made: " + nonce + ")")
			}
			fields, err := l.do(ctx, "repository-create", "create the repository "+a.target.Path(), description.Vars{
				"owner": a.target.Owner, "name": a.target.Name, "path": a.target.Path(), "visibility": a.target.Visibility,
				"description": text, "default_branch": a.branch})
			if err != nil {
				// The answer may be lost though the work was done, now or by a run before
				// this one; or the name went to someone else a moment ago. Looking tells.
				if fault.Is(err, fault.Unreachable) || fault.Is(err, fault.HostSaidNo) {
					if made, look := found(ctx); look == nil && made {
						return a.complete(ctx)
					}
				}
				if means(err, description.Denied) {
					names := a.desk.whoCreates(ctx, l.Host.Name, l.Account, a.target.Owner)
					return others(fault.Of(err), names, "make repositories for "+a.target.Owner, func(account string) string { return a.again("--account", account, "--name", a.target.Path()) })
				}
				return err
			}
			if fields["owner"] == nil && fields["name"] == nil { // the answer does not tell what was made
				made, look := found(ctx)
				if look == nil && !made {
					look = fault.New(fault.Failed, "%s says that it made %s, and does not show it", l.Host.Name, a.target.Path())
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
	if there := a.target; there.DefaultBranch != "" && there.DefaultBranch != a.branch && a.login.may("repository-change", "") == nil {
		if err := a.setDefault(ctx, there, a.branch); err != nil {
			return err
		}
		a.target.DefaultBranch, a.target.Version = a.branch, ""
	}
	return a.describe(ctx)
}

// marks reports whether the new repository may carry our mark in its description
// until it is certain that we made it.
func (a *Attach) marks() bool { return a.login.may("repository-change", "") == nil }

// take goes on with a repository that this attach made.
func (a *Attach) take(made description.Repository) error {
	visibility, over := a.target.Visibility, made.HTTPS
	if a.hook.address.Scheme == "ssh" {
		over = made.SSH
	}
	at, err := address.Parse(over)
	if err != nil {
		return fault.New(fault.Unreachable, "%s names a clone address that cannot be used: %s", a.login.Host.Name, text.Excerpt(over, 80)).Because(err)
	}
	a.target = made
	a.target.Visibility = visibility
	a.hook.address = at
	if err := a.run.note("id", made.ID); err != nil {
		return err
	}
	return a.run.note("address", at.String())
}

// describe takes our mark out of the new repository's description.
func (a *Attach) describe(ctx context.Context) error {
	if !a.marks() || a.target.Description == a.options.Description {
		return nil
	}
	var text any = a.options.Description
	if text == "" {
		text = description.Blank{}
	}
	fields, err := a.login.do(ctx, "repository-change", "describe "+a.target.Path(), description.Vars{
		"owner": a.target.Owner, "name": a.target.Name, "path": a.target.Path(), "id": a.target.ID, "version": a.target.Version, "description": text})
	if means(err, description.Changed) {
		there, found, look := a.login.repository(ctx, a.target.Owner, a.target.Name)
		if look != nil || !found {
			return errors.Join(err, look)
		}
		fields, err = a.login.do(ctx, "repository-change", "describe "+a.target.Path(), description.Vars{
			"owner": a.target.Owner, "name": a.target.Name, "path": a.target.Path(), "id": a.target.ID, "version": there.Version, "description": text})
	}
	if err != nil {
		return err
	}
	if s, ok := fields["description"].(string); ok {
		a.target.Description = s
	}
	return nil
}

// entry is what the register says of the project.
func (a *Attach) entry() Project {
	p := Project{Folder: a.folder.path, Remote: a.options.Remote, Address: a.hook.address.String(), ID: a.target.ID, Page: a.target.Page, Hooked: a.desk.Now().UTC().Truncate(time.Second)}
	if a.hook.account != nil {
		p.Account = a.hook.account.Name
	}
	if a.login != nil {
		p.Host = a.login.Host.Name
	}
	p.Copy = a.options.Copy || a.project.Copy
	return p
}

func (a *Attach) stepHook() Step {
	what := fmt.Sprintf("Name it %s here, and let git sign in to it", a.options.Remote)
	if a.hook.route() != nil {
		what += fmt.Sprintf(" over SSH, with the key of account %s and no other", a.hook.account.Name)
	} else if a.login != nil {
		what += fmt.Sprintf(" as %s, from the vault", a.login.Account.User)
	} else if a.hook.account != nil {
		what += fmt.Sprintf(" as %s, from the vault", a.hook.account.User)
	} else {
		what = fmt.Sprintf("Name it %s here; git signs in with what it has", a.options.Remote)
	}
	upstream := func(ctx context.Context) (string, error) {
		out, err := a.folder.repo.Do(ctx, "config", "--local", "--get", "branch."+a.branch+".remote")
		if git.Code(err) == 1 || git.Code(err) == 128 {
			return "", nil
		}
		return out, err
	}
	return Step{Item: plan.Item{ID: "hook", Place: plan.Here, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			stands, err := a.hook.done(ctx)
			if err != nil || !stands {
				return false, err
			}
			if up, err := upstream(ctx); err != nil || up == "" || a.former != "" && up == a.former {
				return false, err
			}
			p, found, err := a.desk.entryOf(a.folder.path, a.options.Remote)
			want := a.entry()
			want.Hooked = p.Hooked
			return found && p == want, err
		},
		Do: func(ctx context.Context) error {
			if err := a.setAside(filepath.Join(a.folder.path, ".git", "config"), "config"); err != nil {
				return err
			}
			if a.create && a.byPush() { // the remote that stands from now on is ours
				if err := a.run.note("address", a.hook.address.String()); err != nil {
					return err
				}
			}
			if a.folder.remotes[a.options.Remote] == "" {
				if err := a.run.note("new remote", "yes"); err != nil {
					return err
				}
			}
			if err := a.hook.set(ctx); err != nil {
				return gitFault(err, "git's configuration cannot be written")
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
				for _, s := range [][2]string{{"remote", a.options.Remote}, {"merge", "refs/heads/" + a.branch}} {
					if _, err := a.folder.repo.Do(ctx, "config", "--local", "branch."+a.branch+"."+s[0], s[1]); err != nil {
						return gitFault(err, "git's configuration cannot be written")
					}
				}
			}
			if err := a.wrote(filepath.Join(a.folder.path, ".git", "config"), "config"); err != nil {
				return err
			}
			return a.desk.enter(a.entry())
		},
		Undo: a.undoHook}
}

// sent names the branches that go up.
func (a *Attach) sent() []string {
	if a.options.Branches && len(a.folder.branches) > 0 {
		all := slices.Clone(a.folder.branches)
		if j := a.join; j != nil {
			if i := slices.Index(all, j.Was); i >= 0 {
				all[i] = j.Branch // it is called so by then
			}
		}
		return all
	}
	return []string{a.branch}
}

func (a *Attach) stepSend() Step {
	branches := a.sent()
	what := "Send branch " + text.Visible(branches[0])
	if len(branches) > 1 {
		what = fmt.Sprintf("Send %s: %s", text.Count(len(branches), "branch"), text.Excerpt(strings.Join(branches, ", "), 60))
	}
	if a.create && a.byPush() {
		what += "; the first push makes the repository there, " + a.login.Host.Actions["repository-create"].Makes
	}
	return Step{Item: plan.Item{ID: "send", Place: plan.Here, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			if a.create && a.run.fact("id") == "" && !a.byPush() {
				return false, nil
			}
			all, err := a.arrived(ctx)
			if a.byPush() && fault.Is(err, fault.HostSaidNo) {
				return false, nil // the push is what makes it
			}
			if err != nil || !all {
				return false, err
			}
			usual := "+refs/heads/*:refs/remotes/" + a.options.Remote + "/*"
			if fetch, err := a.folder.repo.Do(ctx, "config", "--local", "--get-all", "remote."+a.options.Remote+".fetch"); err != nil || fetch != usual {
				return true, nil
			}
			for _, b := range branches { // git itself must know of it; it does not where the answer was lost
				here, err := a.folder.repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/heads/"+b)
				if err != nil {
					return false, gitFault(err, "the branch %s cannot be read", text.Visible(b))
				}
				if known, err := a.folder.repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/remotes/"+a.options.Remote+"/"+b); err != nil || known != here {
					return false, nil
				}
			}
			return true, nil
		},
		Do: func(ctx context.Context) error {
			args := []string{"push", "--progress", "--porcelain", "--set-upstream", "--", a.options.Remote}
			for _, b := range branches {
				args = append(args, "refs/heads/"+b+":refs/heads/"+b)
				id, err := a.folder.repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/heads/"+b)
				if err != nil {
					return gitFault(err, "the branch %s cannot be read", text.Visible(b))
				}
				if err := a.run.note("sent "+b, id); err != nil {
					return err
				}
			}
			if j := a.join; j != nil {
				if err := a.run.note("there "+j.Branch, j.Tip); err != nil {
					return err
				}
			}
			if a.vacant {
				if err := a.run.note("vacant", "yes"); err != nil {
					return err
				}
			}
			if a.byPush() {
				if err := a.run.note("by push", "begun"); err != nil {
					return err
				}
			}
			err := a.desk.push(ctx, a.hook, args)
			a.went = err == nil
			if err != nil || !a.byPush() {
				return err
			}
			return a.run.note("by push", "done")
		}}
}

// push runs git push with its progress handed on, and finds the cause of a failure.
func (d *Desk) push(ctx context.Context, h *hook, args []string) error {
	plain := h.repo.Git.In(h.repo.Dir) // the person's own hooks run, as with plain git
	out, err := plain.Run(ctx, git.Cmd{Dir: plain.Dir, Args: args, Config: h.shared(), Watch: d.watch("Sending", "Writing objects")})
	d.Tell.Progress("Sending", 0, 0, "")
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	for line := range strings.SplitSeq(string(out), "\n") {
		if flag, rest, ok := strings.Cut(line, "\t"); ok && flag == "!" {
			_, summary, _ := strings.Cut(rest, "\t")
			if strings.Contains(summary, "fetch first") || strings.Contains(summary, "non-fast-forward") {
				return fault.New(fault.Decision, "%s was pushed to by someone else meanwhile", h.address.String()).Because(err).
					Try("bring that in first", "uncinate sync")
			}
			return gitFault(err, "%s did not take the work: %s", h.address.String(), text.Excerpt(summary, 120))
		}
	}
	if _, look := d.refs(ctx, h, ""); look != nil {
		return look
	}
	if why := d.readOnly(ctx, h); why != nil {
		return why
	}
	return gitFault(err, "git could not send the work to %s", h.address.String())
}

// watch turns lines of git's progress about one thing into told progress.
func (d *Desk) watch(label, about string) func(string) {
	return func(line string) {
		if p, ok := git.ParseProgress(line); ok && p.What == about {
			d.Tell.Progress(label, p.Done, p.Total, p.Speed)
		}
	}
}

// arrived compares the branches that were to be sent with what the host holds.
func (a *Attach) arrived(ctx context.Context) (bool, error) {
	refs, err := a.remoteRefs(ctx)
	if err != nil {
		return false, err
	}
	for _, b := range a.sent() {
		id, err := a.folder.repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/heads/"+b)
		if err != nil || refs.Branch(b) != id {
			return false, nil
		}
	}
	return true, nil
}

func (a *Attach) stepDefault() Step {
	return Step{Item: plan.Item{ID: "default-branch", Place: plan.Host, Sentence: "Make " + a.branch + " the default branch there"},
		Do: func(ctx context.Context) error {
			if a.run.fact("default was") == "" {
				if err := a.run.note("default was", a.target.DefaultBranch); err != nil {
					return err
				}
			}
			return a.setDefault(ctx, a.target, a.branch)
		}}
}

// setDefault makes a branch the default one on the host.
func (a *Attach) setDefault(ctx context.Context, there description.Repository, branch string) error {
	set := func() error {
		_, err := a.login.do(ctx, "repository-change", "set the default branch of "+there.Path(), description.Vars{
			"owner": there.Owner, "name": there.Name, "path": there.Path(), "id": there.ID, "version": there.Version, "default_branch": branch})
		return err
	}
	err := set()
	if !means(err, description.Changed) {
		return err
	}
	// A request of a run that was cut off may have come to its end only now.
	again, found, look := a.login.repository(ctx, there.Owner, there.Name)
	if look != nil || !found {
		return errors.Join(err, look)
	}
	there = again
	return set()
}

func (a *Attach) stepVerify(something bool) Step {
	where := "the address itself"
	if a.login != nil {
		where = a.login.Host.Name
	}
	what := "Check with " + where + " that all arrived"
	if !something {
		what = "Check with " + where + " that it is there; there is nothing to send yet"
	}
	return Step{Item: plan.Item{ID: "verify", Place: plan.Host, Sentence: what}, Do: func(ctx context.Context) error { return a.verify(ctx, something) }}
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
			return wrong("%s does not hold the commit that was sent", a.hook.address.String())
		}
	}
	if a.login == nil {
		return nil
	}
	there, found, err := a.login.repository(ctx, a.target.Owner, a.target.Name)
	switch {
	case err != nil:
		return err
	case !found:
		return wrong("%s does not show %s any more", a.login.Host.Name, a.target.Path())
	case a.target.ID != "" && there.ID != a.target.ID:
		return wrong("%s shows another repository under the name %s", a.login.Host.Name, a.target.Path())
	case a.create && there.Visibility != a.target.Visibility:
		return wrong("%s shows %s as %s, and %s was asked for", a.login.Host.Name, a.target.Path(), there.Visibility, a.target.Visibility)
	case something && a.create && there.DefaultBranch != "" && there.DefaultBranch != a.branch:
		return wrong("%s has %s as its default branch, and %s was sent", a.target.Path(), there.DefaultBranch, a.branch)
	}
	a.target = there
	return nil
}
