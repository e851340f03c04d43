package job

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// plan puts the steps in their order: whatever can fail here comes before anything
// is made on the host, and what is made there is checked at the end.
func (a *Attach) plan() []Step {
	f := a.folder
	a.branch = f.branch
	if !f.isRepo {
		a.branch = "main"
		if !a.create && a.target.DefaultBranch != "" {
			a.branch = a.target.DefaultBranch
		}
	}
	something := f.head != "" || len(a.travel.up) > 0
	var steps []Step
	add := func(s Step) { steps = append(steps, s) }
	if a.move != "" {
		add(a.stepMove())
	}
	if !f.isRepo {
		add(a.stepInit())
	}
	add(a.stepIdentity())
	if f.head == "" && something {
		if len(a.travel.rules) > 0 {
			add(a.stepIgnore())
		}
		add(a.stepCommit())
	}
	if a.create {
		add(a.stepCreate())
	}
	add(a.stepHook())
	if something {
		add(a.stepSend())
		if !a.create && a.login != nil && a.target.Empty != nil && *a.target.Empty && a.target.DefaultBranch != a.branch && a.login.may("repository-change", "") == nil {
			add(a.stepDefault())
		}
	}
	add(a.stepVerify(something))
	return steps
}

func (a *Attach) stepMove() Step {
	where := a.moveFor.Where()
	return Step{Item: plan.Item{ID: "move-secret", Place: plan.Vault, Sentence: fmt.Sprintf("Move the token out of the remote's address into the vault, as account %s on %s", a.moveFor.Name, where)},
		Do: func(ctx context.Context) error {
			kept, _, err := a.desk.AddAccount(ctx, a.moveFor, a.move)
			if err != nil {
				return err
			}
			a.moveFor = *kept
			// From here on no child of ours may meet the secret in an address.
			if url, ok := a.folder.remotes[a.options.Remote]; ok && withoutSecret(url) != url {
				_, err = a.folder.repo.Do(ctx, "config", "--local", "remote."+a.options.Remote+".url", a.hook.address.String())
			}
			return err
		}}
}

func (a *Attach) stepInit() Step {
	dir := filepath.Join(a.folder.path, ".git")
	return Step{Item: plan.Item{ID: "init", Place: plan.Here, Sentence: "Make this folder a git repository, on branch " + a.branch},
		Done: func(ctx context.Context) (bool, error) {
			top, err := a.folder.repo.Top(ctx)
			return top == a.folder.path, err
		},
		Do: func(ctx context.Context) error {
			if _, err := os.Lstat(dir); errors.Is(err, fs.ErrNotExist) {
				if err := a.run.note("made-git", "yes"); err != nil {
					return err
				}
			}
			_, err := a.folder.repo.Do(ctx, "init", "-q", "--initial-branch="+a.branch)
			return gitFault(err, "git cannot make a repository in %s", text.Visible(a.folder.path))
		},
		Undo: func(context.Context) error {
			if a.run.fact("made-git") != "yes" {
				return nil
			}
			return os.RemoveAll(dir)
		}}
}

func (a *Attach) stepIdentity() Step {
	set := map[string]string{"user.name": a.name, "user.email": a.email}
	return Step{Item: plan.Item{ID: "identity", Place: plan.Here, Sentence: fmt.Sprintf("Set whose name its commits carry: %s <%s>", text.Visible(a.name), text.Visible(a.email))},
		Done: func(ctx context.Context) (bool, error) {
			for key, want := range set {
				if got, err := a.folder.repo.Do(ctx, "config", "--local", "--get", key); err != nil || got != want {
					return false, nil
				}
			}
			return true, nil
		},
		Do: func(ctx context.Context) error {
			for key, want := range set {
				got, err := a.folder.repo.Do(ctx, "config", "--local", "--get", key)
				if err == nil && got == want {
					continue
				}
				was := "unset"
				if err == nil {
					was = "was " + got
				}
				if err := a.run.note("set "+key, was); err != nil {
					return err
				}
				if _, err := a.folder.repo.Do(ctx, "config", "--local", key, want); err != nil {
					return gitFault(err, "git's configuration cannot be written")
				}
			}
			return nil
		},
		Undo: func(ctx context.Context) error {
			for key := range set {
				was := a.run.fact("set " + key)
				var err error
				if before, ok := strings.CutPrefix(was, "was "); ok {
					_, err = a.folder.repo.Do(ctx, "config", "--local", key, before)
				} else if was == "unset" {
					_, err = a.folder.repo.Do(ctx, "config", "--local", "--unset", key)
				}
				if err != nil && git.Code(err) != 5 { // 5: it is not set
					return err
				}
			}
			return nil
		}}
}

// setAside keeps a file's old form, once, and notes whether there was one.
func (a *Attach) setAside(path, name string) error {
	if a.run.fact("aside "+name) != "" {
		return nil
	}
	old, err := files.Read(path, 512<<20)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return a.run.note("aside "+name, "absent")
	case err != nil:
		return err
	}
	s, err := os.Stat(path)
	if err != nil {
		return err
	}
	if err := files.Write(a.run.journal.Aside(name), old, s.Mode().Perm()); err != nil {
		return err
	}
	return a.run.note("aside "+name, "kept")
}

func (a *Attach) bringBack(path, name string) error {
	switch a.run.fact("aside " + name) {
	case "absent":
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	case "kept":
		old, err := files.Read(a.run.journal.Aside(name), 512<<20)
		if err != nil {
			return err
		}
		return files.Write(path, old, 0o644)
	}
	return nil
}

func (a *Attach) stepIgnore() Step {
	path := filepath.Join(a.folder.path, ".gitignore")
	var shown []string
	for _, r := range a.travel.rules {
		if len(shown) == 4 {
			shown = append(shown, "...")
			break
		}
		shown = append(shown, text.Visible(r.Pattern))
	}
	merged := func() (old, new string, err error) {
		data, err := files.Read(path, 1<<20)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", "", err
		}
		return string(data), kinds.Merge(string(data), a.travel.rules), nil
	}
	return Step{Item: plan.Item{ID: "ignore", Place: plan.Here, Sentence: fmt.Sprintf("Write %s into .gitignore: %s", text.Count(len(a.travel.rules), "ignore rule"), strings.Join(shown, " "))},
		Done: func(context.Context) (bool, error) {
			old, new, err := merged()
			return old == new, err
		},
		Do: func(context.Context) error {
			if err := a.setAside(path, "gitignore"); err != nil {
				return err
			}
			_, new, err := merged()
			if err != nil {
				return err
			}
			return files.Write(path, []byte(new), 0o644)
		},
		Undo: func(context.Context) error { return a.bringBack(path, "gitignore") }}
}

func (a *Attach) stepCommit() Step {
	t := a.travel
	count, size := len(t.up), t.bytes
	what := fmt.Sprintf("Commit %s, %s", text.Count(count, "file"), text.Size(size))
	if len(t.rules) > 0 {
		what = fmt.Sprintf("Commit %s and .gitignore, %s", text.Count(count, "file"), text.Size(size))
		if slices.Contains(t.up, ".gitignore") {
			what = fmt.Sprintf("Commit %s, %s", text.Count(count, "file"), text.Size(size))
		}
	}
	if n := t.staying(); n > 0 {
		what += fmt.Sprintf("; %s stay here", text.Number(n))
	}
	repo := a.folder.repo
	return Step{Item: plan.Item{ID: "first-commit", Place: plan.Here, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			id, err := repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}")
			if err != nil {
				return false, nil
			}
			a.folder.head = id
			return true, nil
		},
		Do: a.firstCommit,
		Undo: func(ctx context.Context) error {
			if a.run.fact("made-git") == "yes" {
				return nil // the whole of .git goes
			}
			if id := a.run.fact("commit"); id != "" {
				if _, err := repo.Do(ctx, "update-ref", "-d", "refs/heads/"+a.branch, id); err != nil {
					return err
				}
			}
			return a.bringBack(filepath.Join(a.folder.path, ".git", "index"), "index")
		}}
}

// firstCommit makes the commit by plumbing, so that its id is known and journaled
// before the branch points to it. The person's own hooks are run on purpose.
func (a *Attach) firstCommit(ctx context.Context) error {
	repo := a.folder.repo.Git.In(a.folder.path) // with the person's own filters and hooks
	if err := a.setAside(filepath.Join(a.folder.path, ".git", "index"), "index"); err != nil {
		return err
	}
	when := a.run.fact("when")
	if when == "" {
		now := a.desk.Now()
		when = strconv.FormatInt(now.Unix(), 10) + " " + now.Format("-0700")
		if err := a.run.note("when", when); err != nil {
			return err
		}
	}
	paths := slices.Concat(a.travel.up, a.travel.gone)
	if len(a.travel.rules) > 0 && !slices.Contains(paths, ".gitignore") {
		paths = append(paths, ".gitignore")
	}
	a.desk.Tell.Progress("Committing", 0, int64(len(paths)), "")
	defer a.desk.Tell.Progress("Committing", 0, 0, "")
	if _, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: []string{"update-index", "--add", "--remove", "-z", "--stdin"}, In: strings.NewReader(strings.Join(paths, "\x00") + "\x00")}); err != nil {
		return gitFault(err, "git cannot take the files in")
	}
	message := a.run.journal.Aside("message")
	if err := files.Write(message, []byte(a.options.Message+"\n"), 0o600); err != nil {
		return err
	}
	defer os.Remove(message)
	for _, h := range [][]string{{"pre-commit"}, {"commit-msg", "--", message}} {
		if _, err := repo.Do(ctx, append([]string{"hook", "run", "--ignore-missing"}, h...)...); err != nil {
			return gitFault(err, "your own %s check stopped the commit", h[0])
		}
	}
	tree, err := repo.Do(ctx, "write-tree")
	if err != nil {
		return gitFault(err, "git cannot write the tree")
	}
	args := []string{"commit-tree", "-F", message}
	if signs, err := repo.Do(ctx, "config", "--type=bool", "--get", "commit.gpgSign"); err == nil && signs == "true" {
		args = append(args, "-S")
	}
	out, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: append(args, tree), Env: []string{"GIT_AUTHOR_DATE=" + when, "GIT_COMMITTER_DATE=" + when}})
	if err != nil {
		return gitFault(err, "git cannot make the commit")
	}
	id := strings.TrimSpace(string(out))
	if err := a.run.note("commit", id); err != nil {
		return err
	}
	if _, err := repo.Do(ctx, "update-ref", "-m", "commit (initial): "+firstLine(a.options.Message), "refs/heads/"+a.branch, id, strings.Repeat("0", len(id))); err != nil {
		return gitFault(err, "the branch %s cannot be set to the new commit", text.Visible(a.branch))
	}
	a.folder.head = id
	return nil
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

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
			return true, a.describe(ctx)
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
				// The answer may be lost though the work was done; or the name went to
				// someone else a moment ago. Looking tells.
				if fault.Is(err, fault.Unreachable) || means(err, description.NameTaken) {
					if made, look := found(ctx); look == nil && made {
						return a.describe(ctx)
					}
				}
				return err
			}
			made, err := l.Host.RepositoryFrom(fields)
			if err != nil {
				return err
			}
			if err := a.take(made); err != nil {
				return err
			}
			return a.describe(ctx)
		}}
}

// marks reports whether the new repository may carry our mark in its description
// until it is certain that we made it.
func (a *Attach) marks() bool { return a.login.may("repository-change", "") == nil }

// take goes on with a repository that this attach made.
func (a *Attach) take(made description.Repository) error {
	at, err := address.Parse(made.HTTPS)
	if err != nil {
		return fault.New(fault.Unreachable, "%s names a clone address that cannot be used: %s", a.login.Host.Name, text.Excerpt(made.HTTPS, 80)).Because(err)
	}
	visibility := a.target.Visibility
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

func (a *Attach) stepHook() Step {
	what := fmt.Sprintf("Name it %s here, and let git sign in to it", a.options.Remote)
	if a.login != nil {
		what += fmt.Sprintf(" as %s, from the vault", a.login.Account.User)
	} else if a.hook.account != nil {
		what += fmt.Sprintf(" as %s, from the vault", a.hook.account.User)
	} else {
		what = fmt.Sprintf("Name it %s here; git signs in with what it has", a.options.Remote)
	}
	entry := func() Project {
		p := Project{Folder: a.folder.path, Remote: a.options.Remote, Address: a.hook.address.String(), ID: a.target.ID, Page: a.target.Page, Hooked: a.desk.Now().UTC().Truncate(time.Second)}
		if a.hook.account != nil {
			p.Account = a.hook.account.Name
		}
		if a.login != nil {
			p.Host = a.login.Host.Name
		}
		return p
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
			if up, err := upstream(ctx); err != nil || up == "" {
				return false, err
			}
			p, found, err := a.desk.ProjectAt(a.folder.path)
			want := entry()
			want.Hooked = p.Hooked
			return found && p == want, err
		},
		Do: func(ctx context.Context) error {
			if err := a.setAside(filepath.Join(a.folder.path, ".git", "config"), "config"); err != nil {
				return err
			}
			if err := a.hook.set(ctx); err != nil {
				return gitFault(err, "git's configuration cannot be written")
			}
			up, err := upstream(ctx)
			if err != nil {
				return err
			}
			if up == "" {
				// Plain git push and pull know where to, also before the first commit.
				for key, value := range map[string]string{"remote": a.options.Remote, "merge": "refs/heads/" + a.branch} {
					if _, err := a.folder.repo.Do(ctx, "config", "--local", "branch."+a.branch+"."+key, value); err != nil {
						return gitFault(err, "git's configuration cannot be written")
					}
				}
			}
			return a.desk.enter(entry())
		},
		Undo: func(ctx context.Context) error {
			if err := a.desk.strike(a.folder.path, a.options.Remote); err != nil {
				return err
			}
			if a.run.fact("made-git") == "yes" {
				return nil
			}
			return a.bringBack(filepath.Join(a.folder.path, ".git", "config"), "config")
		}}
}

// sent names the branches that go up.
func (a *Attach) sent() []string {
	if a.options.Branches && len(a.folder.branches) > 0 {
		return a.folder.branches
	}
	return []string{a.branch}
}

func (a *Attach) stepSend() Step {
	branches := a.sent()
	what := "Send branch " + text.Visible(branches[0])
	if len(branches) > 1 {
		what = fmt.Sprintf("Send %s: %s", text.Count(len(branches), "branch"), text.Excerpt(strings.Join(branches, ", "), 60))
	}
	return Step{Item: plan.Item{ID: "send", Place: plan.Here, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			if a.create && a.run.fact("id") == "" {
				return false, nil
			}
			return a.arrived(ctx)
		},
		Do: func(ctx context.Context) error {
			args := []string{"push", "--progress", "--porcelain", "--set-upstream", "--", a.options.Remote}
			for _, b := range branches {
				args = append(args, "refs/heads/"+b+":refs/heads/"+b)
			}
			return a.desk.push(ctx, a.hook, args)
		}}
}

// push runs git push with its progress handed on, and finds the cause of a failure.
func (d *Desk) push(ctx context.Context, h *hook, args []string) error {
	plain := h.repo.Git.In(h.repo.Dir) // the person's own hooks run, as with plain git
	out, err := plain.Run(ctx, git.Cmd{Dir: plain.Dir, Args: args, Watch: d.watch("Sending", "Writing objects")})
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
			_, err := a.login.do(ctx, "repository-change", "set the default branch of "+a.target.Path(), description.Vars{
				"owner": a.target.Owner, "name": a.target.Name, "path": a.target.Path(), "id": a.target.ID, "version": a.target.Version, "default_branch": a.branch})
			a.target.DefaultBranch = a.branch
			return err
		}}
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
		all, err := a.arrived(ctx)
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

// Finished reports whether every step but the check is done already.
func (a *Attach) Finished(ctx context.Context) (bool, error) {
	for _, s := range a.steps {
		if s.ID == "verify" {
			continue
		}
		if s.Done == nil {
			return false, nil
		}
		done, err := s.Done(ctx)
		if err != nil || !done {
			return false, err
		}
	}
	return true, nil
}

// Do carries the plan out and tells what came of it.
func (a *Attach) Do(ctx context.Context) (*Attached, error) {
	release, taken, err := files.Lock(filepath.Join(a.desk.Home.State, "locks", files.Short(a.folder.path)+".lock"))
	if err != nil {
		return nil, err
	}
	if !taken {
		return nil, fault.New(fault.Failed, "another uncinate is working on %s just now", text.Visible(a.folder.path))
	}
	defer release()
	finished, err := a.Finished(ctx)
	if err != nil {
		return nil, err
	}
	if finished {
		err = a.verify(ctx, a.folder.head != "")
		if err == nil && a.Resumed {
			err = a.run.journal.Close()
		}
	} else {
		err = a.run.run(ctx, a.steps)
	}
	if err != nil {
		return nil, err
	}
	return a.summary(ctx, !finished)
}

func (a *Attach) summary(ctx context.Context, changed bool) (*Attached, error) {
	s := &Attached{Folder: a.folder.path, Page: a.target.Page, Address: a.hook.address.String(), Visibility: a.target.Visibility,
		Branch: a.branch, Verified: true, Changed: changed}
	if a.hook.account != nil {
		s.Account = a.hook.account.Name
	}
	if a.travel != nil {
		s.Stays, s.Nested = a.travel.stays, a.travel.nested
	}
	id, err := a.folder.repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}")
	if err != nil {
		return s, nil // nothing is committed yet
	}
	s.Commit = id
	entries, err := a.folder.repo.Lines(ctx, "ls-tree", "-r", "-z", "-l", "HEAD")
	if err != nil {
		return nil, gitFault(err, "git cannot list the commit")
	}
	for _, e := range entries {
		meta, _, _ := strings.Cut(e, "\t")
		if fields := strings.Fields(meta); len(fields) == 4 {
			s.Files++
			if n, err := strconv.ParseInt(fields[3], 10, 64); err == nil {
				s.Bytes += n
			}
		}
	}
	for _, b := range a.folder.branches {
		if !slices.Contains(a.sent(), b) {
			s.OtherBranches = append(s.OtherBranches, b)
		}
	}
	return s, nil
}
