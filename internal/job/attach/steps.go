package attach

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/attach/contents"
	"uncinate/internal/job/attach/join"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// plan puts the steps in their order: whatever can fail here comes before anything
// is made on the host, and what is made there is checked at the end.
func (a *Attach) plan() []desk.Step {
	f := a.Folder
	a.Branch = a.branchToSend()
	something := f.Head != "" || len(a.Travel.Up) > 0 || len(a.own.First) > 0 || a.joins.Way != nil
	var steps []desk.Step
	add := func(s desk.Step) { steps = append(steps, s) }
	steps = append(steps, a.StepsOfTrust()...)
	if a.Move != "" {
		add(a.StepMove())
	}
	if !f.IsRepo {
		add(a.StepInit())
	}
	add(a.StepIdentity())
	if a.Former != "" {
		add(a.moves.StepBringAll())
		add(a.moves.StepFormer())
	}
	if j := a.joins.Way; j != nil {
		if f.IsRepo && j.Was != j.Branch {
			add(a.joins.StepBranchName())
		}
		add(a.joins.StepBringIn())
	}
	if f.Head == "" && something {
		if len(a.Travel.Rules) > 0 || a.joins.Way != nil && a.joins.Way.Rules != "" {
			add(a.stepIgnore())
		}
		if len(a.own.First) > 0 {
			add(a.own.StepFirstFiles())
		}
		if a.own.Large != nil {
			add(a.own.StepLarge())
		}
		add(a.stepCommit())
	}
	if j := a.joins.Way; j != nil {
		if j.Mode != join.Onto {
			add(a.joins.StepJoin())
		}
		if j.Lays() {
			add(a.joins.StepLay())
		}
	}
	if a.Create && !a.ByPush() {
		add(a.StepCreate())
	}
	add(a.StepTie())
	if a.Former != "" {
		add(a.moves.StepSendAll())
	} else if something {
		add(a.stepSend())
	}
	if something {
		if a.ByPush() {
			add(a.StepComplete())
		}
		empty := a.Repository.Empty != nil && *a.Repository.Empty || target.FactVacant.Of(a.Run)
		if !a.Create && a.Login != nil && empty && a.Repository.DefaultBranch != a.Branch && a.Login.May("repository-change", "") == nil {
			add(a.StepDefault())
		}
	}
	add(a.stepVerify(something))
	return steps
}

// branchToSend is what the branch is called: as it is here, as the join says, or, in a folder
// without repository, as the person or the host wants it.
func (a *Attach) branchToSend() string {
	switch {
	case a.joins.Way != nil:
		return a.joins.Way.Branch
	case a.Folder.IsRepo:
		return a.Folder.Branch
	case a.Options.Branch != "":
		return a.Options.Branch
	case a.Create:
		return a.usual
	}
	return cmp.Or(a.Unborn, a.Repository.DefaultBranch, a.usual)
}

// usualBranch is what the person's git calls a first branch (git-config documentation, init.defaultBranch), or main.
func (a *Attach) usualBranch(ctx context.Context) string {
	set, err := a.Desk.PersonsGit(ctx)
	if err != nil {
		return "main" // git itself says why, where it is needed
	}
	branch := "main"
	for _, s := range set {
		if strings.EqualFold(s.Key, "init.defaultBranch") && s.Value != "" && !strings.HasPrefix(s.Value, "-") {
			branch = s.Value
		}
	}
	return branch
}

func (a *Attach) stepIgnore() desk.Step {
	path := filepath.Join(a.Folder.Path, ".gitignore")
	var shown []string
	for _, r := range a.Travel.Rules {
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
		if j := a.joins.Way; j != nil && j.Rules != "" {
			new = joining.Rules(new, j.Rules, a.Whose())
		}
		return string(data), kinds.Merge(new, a.Travel.Rules), nil
	}
	sentence := fmt.Sprintf("Write %s into .gitignore: %s", text.Count(len(a.Travel.Rules), "ignore rule"), strings.Join(shown, " "))
	if j := a.joins.Way; j != nil && j.Rules != "" {
		sentence = "Put the ignore rules of both sides together in .gitignore"
	}
	return a.BareIgnore().Planned(plan.Here, sentence,
		func(context.Context) (bool, error) {
			old, new, err := merged()
			return old == new, err
		},
		func(context.Context) error {
			if err := a.SetAside(path, "gitignore"); err != nil {
				return err
			}
			_, new, err := merged()
			if err != nil {
				return err
			}
			if err := a.WillWrite("gitignore", new); err != nil {
				return err
			}
			return files.WriteBy(path, a.BesideGit("gitignore.new"), []byte(new), 0o644)
		})
}

func (a *Attach) stepCommit() desk.Step {
	t := a.Travel
	count, size := len(t.Up), t.Bytes
	what := fmt.Sprintf("Commit %s, %s", text.Count(count, "file"), text.Size(size))
	if len(t.Rules) > 0 {
		what = fmt.Sprintf("Commit %s and .gitignore, %s", text.Count(count, "file"), text.Size(size))
		if slices.Contains(t.Up, ".gitignore") {
			what = fmt.Sprintf("Commit %s, %s", text.Count(count, "file"), text.Size(size))
		}
	}
	for _, f := range a.own.First {
		what += " and " + f.Name
	}
	if n := t.Staying(); n > 0 {
		what += fmt.Sprintf("; %s %s here", text.Number(n), text.Either(n == 1, "stays", "stay"))
	}
	if j := a.joins.Way; j != nil {
		if what += ", on top of what the host holds" + j.Outcome(); count == 0 {
			what = "Start from the host's branch"
		}
	}
	repo := a.Folder.Repo
	return a.BareCommit().Planned(plan.Here, what,
		func(ctx context.Context) (bool, error) {
			id, err := repo.Resolve(ctx, "HEAD^{commit}")
			if err != nil {
				return false, nil
			}
			a.Folder.Head = id
			return true, nil
		},
		a.firstCommit)
}

// unchanged refuses files that were changed since they were looked at.
func (a *Attach) unchanged() error {
	for _, f := range a.Travel.Files {
		if size, modified, err := files.Stamp(a.At(f.Path)); err != nil || size != f.Size || modified != f.ModTime {
			if f.Path == ".gitignore" || a.own.Large != nil && f.Path == contents.Attributes {
				continue // we wrote it
			}
			return fault.New(fault.Decision, "%s was changed since we looked; a commit now would be of files that are still being written", text.Visible(f.Path)).
				Try("wait until the program that writes is done, then", a.Again(a.ToArgs()...))
		}
	}
	return nil
}

// takeIn lets git take the files in, noise as it is.
func (a *Attach) takeIn(ctx context.Context, work *git.Work, paths []string) error {
	sizes := make(map[string]int64, len(a.Travel.Files))
	for _, f := range a.Travel.Files {
		sizes[f.Path] = f.Size
	}
	take := project.Taking{Desk: a.Desk, Run: work.Run, How: []string{"--add", "--remove"}, Size: func(path string) int64 { return sizes[path] }, All: a.joins.Way == nil}
	return take.Into(ctx, a.Folder, paths)
}

// firstCommit makes the commit by plumbing, so that its id is known and journaled
// before the branch points to it. The person's own hooks are run on purpose.
func (a *Attach) firstCommit(ctx context.Context) (err error) {
	repo := a.Folder.Repo
	work, err := a.Folder.Work() // with the person's own filters and ties
	if err != nil {
		return err
	}
	if err := a.SetAside(filepath.Join(a.Folder.Path, ".git", "index"), "index"); err != nil {
		return err
	}
	if err := a.unchanged(); err != nil {
		return err
	}
	paths := a.committedPaths()
	a.Desk.Tell.Progress("Committing", 0, int64(len(paths)), "")
	defer a.Desk.Tell.Progress("Committing", 0, 0, "")
	if err := target.FactBranch.Note(a.Run, a.Branch); err != nil {
		return err
	}
	if err := a.takeIn(ctx, work, paths); err != nil {
		return git.Fault(err, "git cannot take the files in")
	}
	if a.joins.Way != nil {
		if _, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: []string{"update-index", "--add", "-z", "--index-info"}, In: strings.NewReader(worktree.IndexLines(a.joins.Way.TheirEntries()))}); err != nil {
			return git.Fault(err, "git cannot take their files in")
		}
	}
	message := a.Run.Journal.Aside("message")
	if err := files.WriteBy(message, message+".new", []byte(a.Options.Message+"\n"), 0o600); err != nil {
		return err
	}
	defer fault.Also(&err, func() error { return files.Remove(message) }) // what stays is swept with the journal
	for _, h := range [][]string{{"pre-commit"}, {"commit-msg", "--", message}} {
		if _, err := work.Do(ctx, append([]string{"hook", "run", "--ignore-missing"}, h...)...); err != nil {
			return git.Fault(err, "your own %s check stopped the commit", h[0])
		}
	}
	tree, err := repo.Do(ctx, "write-tree")
	if err != nil {
		return git.Fault(err, "git cannot write the tree")
	}
	var parents []string
	if a.joins.Way != nil {
		parents = []string{a.joins.Way.Tip}
	}
	id := ""
	if len(a.Travel.Up) > 0 || len(a.Travel.Rules) > 0 || a.joins.Way == nil { // of theirs alone there is nothing to commit, also where a cut-off run has it in the index
		if id, err = a.Commit(ctx, tree, message, parents...); err != nil {
			return err
		}
	} else {
		id = a.joins.Way.Tip
	}
	if err := target.FactCommit.Note(a.Run, id); err != nil {
		return err
	}
	if _, err := repo.Do(ctx, "update-ref", "-m", "commit (initial): "+desk.FirstLine(a.Options.Message), "refs/heads/"+a.Branch, id, strings.Repeat("0", len(id))); err != nil {
		return git.Fault(err, "the branch %s cannot be set to the new commit", text.Visible(a.Branch))
	}
	a.Folder.Head = id
	if err := project.KeepUnchosen(a.Desk, a.Folder.Path, a.Travel.Unchosen); err != nil {
		return err
	}
	return a.Wrote(filepath.Join(a.Folder.Path, ".git", "index"), "index")
}

// committedPaths are the files of the first commit: what travels, and what the attach writes.
func (a *Attach) committedPaths() []string {
	paths := slices.Concat(a.Travel.Up, a.Travel.Gone)
	if (len(a.Travel.Rules) > 0 || a.joins.Way != nil && a.joins.Way.Rules != "") && !slices.Contains(paths, ".gitignore") {
		paths = append(paths, ".gitignore")
	}
	for _, f := range a.own.First {
		paths = append(paths, f.Name)
	}
	if a.own.Large != nil && !slices.Contains(paths, contents.Attributes) {
		paths = append(paths, contents.Attributes)
	}
	return paths
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
func (a *Attach) Do(ctx context.Context) (_ *Attached, err error) {
	defer fault.Also(&err, a.held.Release)
	finished, err := a.Finished(ctx)
	if err != nil {
		return nil, err
	}
	if finished {
		err = a.verify(ctx, a.Folder.Head != "")
		if err == nil && a.Resumed {
			err = a.Run.Journal.Close()
		}
	} else {
		err = a.Run.Run(ctx, a.steps)
	}
	if err != nil {
		return nil, err
	}
	return a.summary(ctx, !finished)
}

func (a *Attach) summary(ctx context.Context, changed bool) (*Attached, error) {
	s := &Attached{Folder: a.Folder.Path, Host: a.HostName(), Owner: a.Repository.Owner, Name: a.Repository.Name, Remote: a.Options.Remote, Transport: a.Tie.Address.Scheme, Page: a.Repository.Page, Address: a.Tie.Address.String(), Account: a.AccountName(), Visibility: a.Repository.Visibility,
		Branch: a.Branch, Verified: true, Changed: changed, Sent: a.Went}
	if a.Folder.Head != "" || a.joins.Way != nil {
		s.Default = a.Repository.DefaultBranch
	}
	if a.Travel != nil {
		s.Stays, s.Nested = a.Travel.Stays, a.Travel.Nested
	}
	s.Joined = a.joins.Way.Told()
	if a.own.Large != nil {
		s.Large = a.own.Large.Count
	}
	var err error
	if a.Travel != nil && a.joins.Way == nil {
		s.Commit, s.Files, s.Bytes, err = a.countedByLook(ctx)
	} else {
		s.Commit, s.Files, s.Bytes, err = a.Counted(ctx)
	}
	if err != nil || s.Commit == "" {
		return s, err // without a commit there is nothing to count
	}
	s.OtherBranches, s.OtherTags, err = a.stayed(ctx)
	return s, err
}

// countedByLook counts the first commit's files, with the sizes that they had when the folder
// was looked at; asking git for them opens every object.
func (a *Attach) countedByLook(ctx context.Context) (commit string, count int, bytes int64, err error) {
	if commit, err = a.Folder.Repo.Resolve(ctx, "HEAD^{commit}"); err != nil {
		return "", 0, 0, nil // nothing is committed yet
	}
	names, err := a.Folder.Repo.Lines(ctx, "ls-tree", "-r", "-z", "--name-only", "HEAD")
	if err != nil {
		return "", 0, 0, git.Fault(err, "git cannot list the commit")
	}
	bytes = a.Travel.Bytes
	for _, f := range a.own.First {
		bytes += int64(len(f.Contents))
	}
	if size, _, err := files.Stamp(filepath.Join(a.Folder.Path, ".gitignore")); err == nil && !slices.Contains(a.Travel.Up, ".gitignore") && len(a.Travel.Rules) > 0 {
		bytes += size
	}
	return commit, len(names), bytes, nil
}
