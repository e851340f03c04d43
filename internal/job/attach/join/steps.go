package join

import (
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
	"uncinate/internal/job/attach/target"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// keepJoin writes into the journal what is about to be done, before it is begun.
func (j *Join) keepJoin() error {
	if FactWay.Known(j.Run) {
		return nil
	}
	return FactWay.Note(j.Run, j.Way)
}

// StepBranchName calls the branch here as it is called there.
func (joins *Join) StepBranchName() desk.Step {
	j := joins.Way
	return joins.bareBranchName().Planned(plan.Here, fmt.Sprintf("Rename the branch %s to %s, as on the host", text.Visible(j.Was), text.Visible(j.Branch)),
		func(ctx context.Context) (bool, error) {
			now, err := joins.Folder.Repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD")
			return err == nil && now == j.Branch, nil
		},
		func(ctx context.Context) error {
			if err := joins.keepJoin(); err != nil {
				return err
			}
			return joins.callBranch(ctx, j.Was, j.Branch)
		})
}

// callBranch renames the branch that is checked out, also where it has no commit yet.
func (j *Join) callBranch(ctx context.Context, from, to string) error {
	repo := j.Folder.Repo
	if _, err := repo.Resolve(ctx, "refs/heads/"+from); err != nil {
		_, err := repo.Do(ctx, "symbolic-ref", "HEAD", "refs/heads/"+to)
		return git.Fault(err, "git cannot name the branch")
	}
	_, err := repo.Do(ctx, "branch", "-m", "--", from, to)
	return git.Fault(err, "git cannot rename the branch")
}

// undoBranchName gives the branch its former name again.
func (joins *Join) undoBranchName(ctx context.Context) error {
	j := joins.Way
	if target.FactMadeGit.Of(joins.Run) || j == nil {
		return nil
	}
	now, err := joins.Folder.Repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD")
	if err != nil || now != j.Branch {
		return nil
	}
	return joins.callBranch(ctx, j.Branch, j.Was)
}

// StepBringIn brings the host's commits into the repository here, beside what is there.
func (joins *Join) StepBringIn() desk.Step {
	j := joins.Way
	tracking := "refs/remotes/" + joins.Options.Remote + "/"
	return joins.bareBringIn().Planned(plan.Here, fmt.Sprintf("Receive what the host holds: %s on branch %s", text.Count(j.Commits, "commit"), text.Visible(j.Branch)),
		func(ctx context.Context) (bool, error) {
			if !FactWay.Known(joins.Run) {
				return false, nil
			}
			// Git moves the ref once all is there; a commit alone may have come without its files.
			at, err := joins.Folder.Repo.Resolve(ctx, tracking+j.Branch)
			return err == nil && at == j.Tip, nil
		},
		func(ctx context.Context) error {
			if err := joins.keepJoin(); err != nil {
				return err
			}
			stood, err := joins.Folder.Repo.Do(ctx, "for-each-ref", "--format=%(refname)", tracking)
			if err != nil {
				return git.Fault(err, "git cannot list the remote's branches")
			}
			if stood == "" {
				if err := factTracking.Note(joins.Run, true); err != nil {
					return err
				}
			}
			from, config := joins.asideDir(), []git.Set(nil)
			if files.Reached(from) == files.None { // it was looked at by an earlier run
				from, config = joins.Tie.Address.String(), joins.Tie.Config()
				if err := joins.Tie.WriteInclude(ctx); err != nil {
					return err
				}
			}
			work, err := joins.Folder.Work()
			if err != nil {
				return err
			}
			_, err = work.Run(ctx, git.Cmd{Config: config, Stall: git.Stall, Watch: project.Watch(joins.Desk, "Receiving", "Receiving objects"),
				Args: []string{"fetch", "--progress", "--no-tags", "--no-auto-maintenance", "--no-write-fetch-head", "--", from, "+refs/heads/*:" + tracking + "*"}})
			joins.Desk.Tell.Progress("Receiving", 0, 0, "")
			return git.Fault(err, "git cannot receive what %s holds", joins.Tie.Address.String())
		})
}

// undoBringIn drops the refs that came in.
func (j *Join) undoBringIn(ctx context.Context) error {
	if target.FactMadeGit.Of(j.Run) || !factTracking.Of(j.Run) {
		return nil
	}
	return j.DropTracking(ctx)
}

// StepJoin makes the two histories one, and brings the folder to it.
func (joins *Join) StepJoin() desk.Step {
	j := joins.Way
	sentence := fmt.Sprintf("Join both histories by a merge commit; no commit is rewritten%s", j.Outcome())
	if j.Mode == ahead {
		sentence = "Take over the commits that are only on the host"
	}
	return joins.bareJoin().Planned(plan.Here, sentence,
		func(ctx context.Context) (bool, error) {
			id := factJoined.Of(joins.Run)
			if id == "" {
				return false, nil
			}
			head, err := joins.Folder.Repo.Resolve(ctx, "HEAD^{commit}")
			if err == nil && head == id {
				joins.Folder.Head = id
				return true, nil
			}
			return false, nil
		},
		func(ctx context.Context) error {
			id, err := joins.joinedCommit(ctx)
			if err != nil {
				return err
			}
			if err := factJoined.Note(joins.Run, id); err != nil {
				return err
			}
			// The person's own filters and hooks run, as with plain git.
			return joins.layTo(ctx, joins.Folder.Head, id)
		})
}

// joinedCommit gives the commit in which both histories meet.
func (joins *Join) joinedCommit(ctx context.Context) (_ string, err error) {
	j, repo := joins.Way, joins.Folder.Repo
	if j.Mode == ahead {
		return j.Tip, nil
	}
	tree, clashes, err := worktree.MergeTrees(ctx, repo, j.From, j.Tip)
	if err != nil {
		return "", err
	}
	var over []joining.Entry
	for _, c := range clashes {
		i := slices.IndexFunc(j.Decided, func(d worktree.Decided) bool { return d.Path == c.Path })
		switch {
		case c.Path == ".gitignore" && j.Rules != "":
			mine, err := worktree.RulesOf(ctx, repo, c.Mine.ID)
			if err != nil {
				return "", err
			}
			id, err := joins.Folder.Repo.Hash(ctx, strings.NewReader(joining.Rules(mine, j.Rules, joins.Whose())), true)
			if err != nil {
				return "", err
			}
			over = append(over, joining.Entry{Mode: c.Mine.Mode, ID: id, Path: c.Path})
		case i < 0:
			return "", fault.New(fault.Failed, "%s clashes, and did not when we looked", text.Visible(c.Path))
		default:
			e := c.Mine
			if joining.TakesTheirs(j.Decided[i].Way, c.Theirs) {
				e = c.Theirs
			}
			e.Path = c.Path
			over = append(over, e)
		}
	}
	if len(over) > 0 {
		if tree, err = repo.TreeWith(ctx, joins.BesideGit("join.index"), tree, worktree.IndexLines(over)); err != nil {
			return "", git.Fault(err, "git cannot put the joined tree together")
		}
	}
	message := joins.Run.Journal.Aside("message")
	if err := files.WriteBy(message, message+".new", []byte("Join with what was on "+joins.Whose()+"\n"), 0o600); err != nil {
		return "", err
	}
	defer fault.Also(&err, func() error { return files.Remove(message) }) // what stays is swept with the journal
	return joins.Commit(ctx, tree, message, j.From, j.Tip)
}

// undoJoin brings the branch back to the person's own last commit.
func (joins *Join) undoJoin(ctx context.Context) error {
	j, id := joins.Way, factJoined.Of(joins.Run)
	if j == nil || id == "" {
		return nil
	}
	head, err := joins.Folder.Repo.Resolve(ctx, "HEAD^{commit}")
	if err != nil || head != id {
		return nil // it did not come to it
	}
	return joins.layTo(ctx, id, j.From)
}

// layTo brings the folder and its branch from one commit to another.
func (joins *Join) layTo(ctx context.Context, from, to string) error {
	branch, err := joins.Folder.Repo.Do(ctx, "symbolic-ref", "--short", "HEAD")
	if err != nil {
		return git.Fault(err, "git cannot tell the branch")
	}
	_, err = worktree.Lay(ctx, joins.Desk, joins.Folder, worktree.Laying{Before: "attach", From: from, To: to, Branch: branch, Head: from, Hook: []string{"post-merge", "0"}})
	return err
}

// StepLay writes here what is only there, and the copies that are kept beside.
func (joins *Join) StepLay() desk.Step {
	j := joins.Way
	var names []string
	if j.Mode == Onto {
		for _, e := range j.TheirEntries() {
			names = append(names, text.Visible(e.Path))
		}
	}
	for _, d := range j.Decided {
		if d.Beside != "" {
			names = append(names, text.Visible(d.Beside))
		}
	}
	shown := strings.Join(names[:min(len(names), 4)], ", ")
	if len(names) > 4 {
		shown += ", ..."
	}
	return joins.bareLay().Planned(plan.Here, fmt.Sprintf("Write %s in the folder: %s", text.Count(len(names), "file"), shown),
		func(context.Context) (bool, error) {
			return factLaid.Of(joins.Run), nil
		},
		func(ctx context.Context) error {
			if err := joins.lay(ctx); err != nil {
				return err
			}
			return factLaid.Note(joins.Run, true)
		})
}

func (joins *Join) lay(ctx context.Context) error {
	j := joins.Way
	if err := joins.keepBesides(ctx); err != nil {
		return err
	}
	var out []string
	for _, d := range j.Decided {
		switch {
		case joining.TakesTheirs(d.Way, d.Theirs) && j.Mode == Onto:
			if files.Missing(joins.At(d.Beside)) {
				if err := files.Move(joins.At(d.Path), joins.At(d.Beside)); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
		case d.Beside != "" && files.Missing(joins.At(d.Beside)):
			data, err := joins.Folder.Repo.Run(ctx, git.Cmd{Dir: joins.Folder.Path, Args: []string{"cat-file", "blob", d.Mine.ID}})
			if err != nil {
				return git.Fault(err, "your %s cannot be read", text.Visible(d.Path))
			}
			if err := files.WriteBy(joins.At(d.Beside), joins.BesideGit("beside.new"), data, 0o644); err != nil {
				return err
			}
		}
	}
	if j.Mode == Onto {
		for _, e := range j.TheirEntries() {
			if files.Missing(joins.At(e.Path)) && e.Mode != "160000" {
				out = append(out, e.Path)
			}
		}
	}
	if len(out) > 0 {
		if err := worktree.LayMissing(ctx, joins.Desk, joins.Folder, out); err != nil {
			return err
		}
	}
	return joins.exclude()
}

// keepBesides keeps a rescue copy of what is put beside, and notes it, so that status reminds of it.
func (joins *Join) keepBesides(ctx context.Context) error {
	kept := worktree.Kept{Before: "attach"}
	var all []worktree.Beside
	for _, d := range joins.Way.Decided {
		if d.Beside == "" {
			continue
		}
		all = append(all, worktree.Beside{Path: d.Path, At: d.Beside, ID: d.Mine.ID, Mode: d.Mine.Mode})
		switch {
		case !files.Missing(joins.At(d.Beside)): // by a run that was cut off
		case joins.Way.Mode == Onto:
			kept.Paths = append(kept.Paths, d.Path)
		default:
			kept.Staged = append(kept.Staged, worktree.Staged{Path: d.Path, Mode: d.Mine.Mode, ID: d.Mine.ID})
		}
	}
	if len(all) == 0 {
		return nil
	}
	r, err := worktree.RescuerOf(joins.Desk, joins.Folder)
	if err == nil {
		_, err = r.KeepAll(ctx, kept)
	}
	if err != nil {
		return err
	}
	return worktree.Remind(joins.Folder, all)
}

// exclude keeps git from carrying the copies beside: by the repository's private ignore
// rules (gitignore documentation, $GIT_DIR/info/exclude).
func (j *Join) exclude() error {
	var rules []kinds.Rule
	for _, d := range j.Way.Decided {
		if d.Beside != "" {
			rules = append(rules, kinds.Rule{Pattern: "/" + kinds.Escape(d.Beside), Why: "yours, put beside the host's file"})
		}
	}
	if len(rules) == 0 {
		return nil
	}
	path := filepath.Join(j.Folder.Path, ".git", "info", "exclude")
	if err := j.SetAside(path, "exclude"); err != nil {
		return err
	}
	if err := files.MakeFolder(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	old, err := files.Read(path, 4<<20)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := files.WriteBy(path, j.BesideGit("exclude.new"), []byte(kinds.Merge(string(old), rules)), 0o644); err != nil {
		return err
	}
	return j.Wrote(path, "exclude")
}

// undoLay takes out what was written, where it is still as it was written, and brings
// back what made way.
func (joins *Join) undoLay(ctx context.Context) error {
	j := joins.Way
	if j == nil {
		return nil
	}
	remove := func(p, id string) error {
		if files.Missing(joins.At(p)) {
			return nil
		}
		if now, err := joins.Folder.Repo.HashFile(ctx, p); err != nil || now != id {
			return err // the person has changed it since
		}
		return files.Remove(joins.At(p))
	}
	if j.Mode == Onto {
		for _, e := range j.Added {
			if err := remove(e.Path, e.ID); err != nil {
				return err
			}
		}
	}
	for _, d := range j.Decided {
		switch {
		case d.Beside == "":
		case j.Mode != Onto:
			if err := remove(d.Beside, d.Mine.ID); err != nil {
				return err
			}
		case !files.Missing(joins.At(d.Beside)):
			if err := remove(d.Path, d.Theirs.ID); err != nil {
				return err
			}
			if files.Missing(joins.At(d.Path)) {
				if err := files.Move(joins.At(d.Beside), joins.At(d.Path)); err != nil {
					return err
				}
			}
		}
	}
	for _, f := range slices.Backward(j.Folders) {
		if empty, err := files.IsEmptyFolder(joins.At(f)); err != nil || !empty {
			continue // it went before, or holds something of the person's
		}
		if err := files.Remove(joins.At(f)); err != nil {
			return err
		}
	}
	exclude := filepath.Join(joins.Folder.Path, ".git", "info", "exclude")
	if touched, err := joins.Touched(exclude, "exclude"); err != nil || touched {
		return err // what the person wrote in it since stays
	}
	return joins.BringBack(exclude, "exclude")
}
