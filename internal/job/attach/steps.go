package attach

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// plan puts the steps in their order: whatever can fail here comes before anything
// is made on the host, and what is made there is checked at the end.
func (a *Attach) plan() []desk.Step {
	f := a.folder
	a.branch = f.Branch
	if !f.IsRepo {
		a.branch = "main"
		if a.Options.Branch != "" {
			a.branch = a.Options.Branch
		} else if !a.Create && a.Repository.DefaultBranch != "" {
			a.branch = a.Repository.DefaultBranch
		}
	}
	if a.joins.way != nil {
		a.branch = a.joins.way.Branch
	}
	something := f.Head != "" || len(a.travel.Up) > 0 || len(a.own.first) > 0 || a.joins.way != nil
	var steps []desk.Step
	add := func(s desk.Step) { steps = append(steps, s) }
	if a.move != "" {
		add(a.stepMove())
	}
	if !f.IsRepo {
		add(a.stepInit())
	}
	add(a.stepIdentity())
	if a.former != "" {
		add(a.moves.stepBringAll())
		add(a.moves.stepFormer())
	}
	if j := a.joins.way; j != nil {
		if f.IsRepo && j.Was != j.Branch {
			add(a.joins.stepBranchName())
		}
		add(a.joins.stepBringIn())
	}
	if f.Head == "" && something {
		if len(a.travel.Rules) > 0 || a.joins.way != nil && a.joins.way.Rules != "" {
			add(a.stepIgnore())
		}
		if len(a.own.first) > 0 {
			add(a.own.stepFirstFiles())
		}
		if a.own.large != nil {
			add(a.own.stepLarge())
		}
		add(a.stepCommit())
	}
	if j := a.joins.way; j != nil {
		if j.Mode != joinOnto {
			add(a.joins.stepJoin())
		}
		if j.lays() {
			add(a.joins.stepLay())
		}
	}
	if a.Create && !a.byPush() {
		add(a.stepCreate())
	}
	add(a.stepHook())
	if a.former != "" {
		add(a.moves.stepSendAll())
	} else if something {
		add(a.stepSend())
	}
	if something {
		if a.byPush() {
			add(a.stepComplete())
		}
		empty := a.Repository.Empty != nil && *a.Repository.Empty || a.run.Fact("vacant") == "yes"
		if !a.Create && a.Login != nil && empty && a.Repository.DefaultBranch != a.branch && a.Login.May("repository-change", "") == nil {
			add(a.stepDefault())
		}
	}
	add(a.stepVerify(something))
	return steps
}

func (t *Target) stepMove() desk.Step {
	where := t.moveFor.Where()
	return desk.Step{Item: plan.Item{ID: "move-secret", Place: plan.Vault, Sentence: fmt.Sprintf("Move the token out of the remote's address into the vault, as account %s on %s", t.moveFor.Name, where)},
		Do: func(ctx context.Context) error {
			kept, _, err := login.AddAccount(ctx, t.Desk, t.moveFor, t.move)
			if err != nil {
				return err
			}
			t.moveFor = *kept
			// From here on no child of ours may meet the secret in an address.
			if url, ok := t.folder.Remotes[t.Options.Remote]; ok && project.WithoutSecret(url) != url {
				_, err = t.folder.Repo.Do(ctx, "config", "--local", "remote."+t.Options.Remote+".url", t.Hook.Address.String())
			}
			return err
		}}
}

func (t *Target) stepInit() desk.Step {
	dir := filepath.Join(t.folder.Path, ".git")
	return desk.Step{Item: plan.Item{ID: "init", Place: plan.Here, Sentence: "Make this folder a git repository, on branch " + t.branch},
		Done: func(ctx context.Context) (bool, error) {
			top, err := t.folder.Repo.Top(ctx)
			return top == t.folder.Path, err
		},
		Do: func(ctx context.Context) error {
			if _, err := os.Lstat(dir); errors.Is(err, fs.ErrNotExist) {
				if err := t.run.Note("made-git", "yes"); err != nil {
					return err
				}
			}
			_, err := t.folder.Repo.Do(ctx, "init", "-q", "--initial-branch="+t.branch)
			return desk.GitFault(err, "git cannot make a repository in %s", text.Visible(t.folder.Path))
		},
		Undo: t.undoInit}
}

func (t *Target) stepIdentity() desk.Step {
	set := [][2]string{{"user.name", t.name}, {"user.email", t.email}}
	return desk.Step{Item: plan.Item{ID: "identity", Place: plan.Here, Sentence: fmt.Sprintf("Set whose name its commits carry: %s <%s>", text.Visible(t.name), text.Visible(t.email))},
		Done: func(ctx context.Context) (bool, error) {
			for _, s := range set {
				if got, err := t.folder.Repo.Do(ctx, "config", "--local", "--get", s[0]); err != nil || got != s[1] {
					return false, nil
				}
			}
			return true, nil
		},
		Do: func(ctx context.Context) error {
			for _, s := range set {
				key, want := s[0], s[1]
				got, err := t.folder.Repo.Do(ctx, "config", "--local", "--get", key)
				if err == nil && got == want {
					continue
				}
				was := "unset"
				if err == nil {
					was = "was " + got
				}
				if err := t.run.Note("set "+key, was); err != nil {
					return err
				}
				if _, err := t.folder.Repo.Do(ctx, "config", "--local", key, want); err != nil {
					return desk.GitFault(err, "git's configuration cannot be written")
				}
			}
			return nil
		},
		Undo: t.undoIdentity}
}

func (a *Attach) stepIgnore() desk.Step {
	path := filepath.Join(a.folder.Path, ".gitignore")
	var shown []string
	for _, r := range a.travel.Rules {
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
		new = string(data)
		if j := a.joins.way; j != nil && j.Rules != "" {
			new = joining.Rules(new, j.Rules, a.whose())
		}
		return string(data), kinds.Merge(new, a.travel.Rules), nil
	}
	sentence := fmt.Sprintf("Write %s into .gitignore: %s", text.Count(len(a.travel.Rules), "ignore rule"), strings.Join(shown, " "))
	if j := a.joins.way; j != nil && j.Rules != "" {
		sentence = "Put the ignore rules of both sides together in .gitignore"
	}
	return desk.Step{Item: plan.Item{ID: "ignore", Place: plan.Here, Sentence: sentence},
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
			if err := a.run.Note("wrote gitignore", files.Short(new)); err != nil {
				return err
			}
			return files.WriteBy(path, a.besideGit("gitignore.new"), []byte(new), 0o644)
		},
		Undo: a.undoIgnore}
}

func (a *Attach) stepCommit() desk.Step {
	t := a.travel
	count, size := len(t.Up), t.Bytes
	what := fmt.Sprintf("Commit %s, %s", text.Count(count, "file"), text.Size(size))
	if len(t.Rules) > 0 {
		what = fmt.Sprintf("Commit %s and .gitignore, %s", text.Count(count, "file"), text.Size(size))
		if slices.Contains(t.Up, ".gitignore") {
			what = fmt.Sprintf("Commit %s, %s", text.Count(count, "file"), text.Size(size))
		}
	}
	for _, f := range a.own.first {
		what += " and " + f.name
	}
	if n := t.Staying(); n > 0 {
		what += fmt.Sprintf("; %s stay here", text.Number(n))
	}
	if j := a.joins.way; j != nil {
		if what += ", on top of what is there" + j.outcome(); count == 0 {
			what = "Start from what is there"
		}
	}
	repo := a.folder.Repo
	return desk.Step{Item: plan.Item{ID: "first-commit", Place: plan.Here, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			id, err := repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}")
			if err != nil {
				return false, nil
			}
			a.folder.Head = id
			return true, nil
		},
		Do:   a.firstCommit,
		Undo: a.undoCommit}
}

// firstCommit makes the commit by plumbing, so that its id is known and journaled
// before the branch points to it. The person's own hooks are run on purpose.
func (a *Attach) firstCommit(ctx context.Context) error {
	repo := a.folder.Repo.Git.In(a.folder.Path) // with the person's own filters and hooks
	if err := a.setAside(filepath.Join(a.folder.Path, ".git", "index"), "index"); err != nil {
		return err
	}
	for _, f := range a.travel.Files {
		if info, err := os.Lstat(a.at(f.Path)); err != nil || info.Size() != f.Size || info.ModTime().UnixNano() != f.ModTime {
			if f.Path == ".gitignore" || a.own.large != nil && f.Path == attributes {
				continue // we wrote it
			}
			return fault.New(fault.Decision, "%s was changed since we looked; a commit now would be of files that are still being written", text.Visible(f.Path)).
				Try("wait until the program that writes is done, then", a.Again(a.toArgs()...))
		}
	}
	paths := slices.Concat(a.travel.Up, a.travel.Gone)
	if (len(a.travel.Rules) > 0 || a.joins.way != nil && a.joins.way.Rules != "") && !slices.Contains(paths, ".gitignore") {
		paths = append(paths, ".gitignore")
	}
	for _, f := range a.own.first {
		paths = append(paths, f.name)
	}
	if a.own.large != nil && !slices.Contains(paths, attributes) {
		paths = append(paths, attributes)
	}
	a.Desk.Tell.Progress("Committing", 0, int64(len(paths)), "")
	defer a.Desk.Tell.Progress("Committing", 0, 0, "")
	if err := a.run.Note("branch", a.branch); err != nil {
		return err
	}
	if _, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: []string{"update-index", "--add", "--remove", "-z", "--stdin"}, In: strings.NewReader(strings.Join(paths, "\x00") + "\x00")}); err != nil {
		return desk.GitFault(err, "git cannot take the files in")
	}
	if a.joins.way != nil {
		if _, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: []string{"update-index", "--add", "-z", "--index-info"}, In: strings.NewReader(worktree.IndexLines(a.joins.way.theirEntries()))}); err != nil {
			return desk.GitFault(err, "git cannot take their files in")
		}
	}
	message := a.run.Journal.Aside("message")
	if err := files.WriteBy(message, message+".new", []byte(a.Options.Message+"\n"), 0o600); err != nil {
		return err
	}
	defer os.Remove(message)
	for _, h := range [][]string{{"pre-commit"}, {"commit-msg", "--", message}} {
		if _, err := repo.Do(ctx, append([]string{"hook", "run", "--ignore-missing"}, h...)...); err != nil {
			return desk.GitFault(err, "your own %s check stopped the commit", h[0])
		}
	}
	tree, err := repo.Do(ctx, "write-tree")
	if err != nil {
		return desk.GitFault(err, "git cannot write the tree")
	}
	var parents []string
	if a.joins.way != nil {
		parents = []string{a.joins.way.Tip}
	}
	id := ""
	if len(a.travel.Up) > 0 || len(a.travel.Rules) > 0 || a.joins.way == nil { // of theirs alone there is nothing to commit, also where a cut-off run has it in the index
		if id, err = a.commit(ctx, tree, message, parents...); err != nil {
			return err
		}
	} else {
		id = a.joins.way.Tip
	}
	for key, value := range map[string]string{"commit": id, "branch": a.branch} {
		if err := a.run.Note(key, value); err != nil {
			return err
		}
	}
	if _, err := repo.Do(ctx, "update-ref", "-m", "commit (initial): "+desk.FirstLine(a.Options.Message), "refs/heads/"+a.branch, id, strings.Repeat("0", len(id))); err != nil {
		return desk.GitFault(err, "the branch %s cannot be set to the new commit", text.Visible(a.branch))
	}
	a.folder.Head = id
	return a.wrote(filepath.Join(a.folder.Path, ".git", "index"), "index")
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
	defer a.held.Release()
	finished, err := a.Finished(ctx)
	if err != nil {
		return nil, err
	}
	if finished {
		err = a.verify(ctx, a.folder.Head != "")
		if err == nil && a.Resumed {
			err = a.run.Journal.Close()
		}
	} else {
		err = a.run.Run(ctx, a.steps)
	}
	if err != nil {
		return nil, err
	}
	return a.summary(ctx, !finished)
}

func (a *Attach) summary(ctx context.Context, changed bool) (*Attached, error) {
	s := &Attached{Folder: a.folder.Path, Page: a.Repository.Page, Address: a.Hook.Address.String(), Account: a.accountName(), Visibility: a.Repository.Visibility,
		Branch: a.branch, Verified: true, Changed: changed, Sent: a.Went}
	if a.travel != nil {
		s.Stays, s.Nested = a.travel.Stays, a.travel.Nested
	}
	s.Joined = a.joins.way.told()
	if a.own.large != nil {
		s.Large = a.own.large.count
	}
	var err error
	if a.travel != nil && a.joins.way == nil {
		s.Commit, s.Files, s.Bytes, err = a.countedByLook(ctx)
	} else {
		s.Commit, s.Files, s.Bytes, err = a.counted(ctx)
	}
	if err != nil || s.Commit == "" {
		return s, err // without a commit there is nothing to count
	}
	for _, b := range a.folder.Branches {
		if !slices.Contains(a.sent(), b) && (a.joins.way == nil || b != a.joins.way.Was) {
			s.OtherBranches = append(s.OtherBranches, b)
		}
	}
	return s, nil
}

// countedByLook counts the first commit's files, with the sizes that they had when the folder
// was looked at; asking git for them opens every object.
func (a *Attach) countedByLook(ctx context.Context) (commit string, count int, bytes int64, err error) {
	if commit, err = a.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}"); err != nil {
		return "", 0, 0, nil // nothing is committed yet
	}
	names, err := a.folder.Repo.Lines(ctx, "ls-tree", "-r", "-z", "--name-only", "HEAD")
	if err != nil {
		return "", 0, 0, desk.GitFault(err, "git cannot list the commit")
	}
	bytes = a.travel.Bytes
	for _, f := range a.own.first {
		bytes += int64(len(f.contents))
	}
	if info, err := os.Lstat(filepath.Join(a.folder.Path, ".gitignore")); err == nil && !slices.Contains(a.travel.Up, ".gitignore") && len(a.travel.Rules) > 0 {
		bytes += info.Size()
	}
	return commit, len(names), bytes, nil
}
