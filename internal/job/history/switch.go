package history

import (
	"context"
	"errors"
	"strconv"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
)

// Switched is the branch that is checked out now.
type Switched struct {
	Branch  string         `json:"branch"`
	Commit  string         `json:"commit"`
	Changed map[string]int `json:"changed" says:"what is not saved, and came along"`
	Behind  int            `json:"behind,omitempty" says:"commits of it that are only on the host, as last seen"`
	InWay   int            `json:"in_way,omitempty" says:"files that were in the way, of which a rescue copy is kept"`
	OnNone  int            `json:"on_no_branch,omitempty" says:"commits that were checked out and are on no branch, of which it is kept too"`
	Rescued int            `json:"rescued,omitempty" says:"the copy's number"`
}

// SwitchBranch goes to a branch, or with preview only says what that would keep. Changes that
// are not saved come along, unless they would be written over.
func SwitchBranch(ctx context.Context, d *desk.Desk, given, name string, preview bool) (*Switched, error) {
	f, held, err := Quick(ctx, d, given)
	if err != nil {
		return nil, err
	}
	out, err := switchBranch(ctx, d, f, name, preview)
	return out, errors.Join(err, held.Release())
}

func switchBranch(ctx context.Context, d *desk.Desk, f *project.Folder, name string, preview bool) (*Switched, error) {
	b, err := LookAtBranches(ctx, d, f)
	if err != nil {
		return nil, err
	}
	if err := checkBranch(ctx, f, name); err != nil {
		return nil, err
	}
	target := b.Refs["refs/heads/"+name]
	fresh := target == ""
	if fresh {
		if target = b.Refs["refs/remotes/"+b.Remote+"/"+name]; target == "" || b.Remote == "" {
			return nil, b.NoBranch(name)
		}
	}
	if name != f.Branch {
		if err := free(f, name); err != nil {
			return nil, err
		}
	}
	way, err := carries(ctx, f, target)
	if err != nil {
		return nil, err
	}
	lost, err := onNone(ctx, f)
	if err != nil {
		return nil, err
	}
	if preview {
		return &Switched{Branch: name, Commit: target, Changed: map[string]int{}, InWay: len(way), OnNone: lost}, nil
	}
	kept := 0
	if len(way)+lost > 0 {
		var refs []worktree.Moving
		if lost > 0 {
			refs = []worktree.Moving{{Ref: "HEAD", ID: f.Head, Next: target}}
		}
		r, err := worktree.RescuerOf(d, f)
		if err == nil {
			kept, err = r.Keep(ctx, "branch switch", refs, way)
		}
		if err != nil {
			return nil, err
		}
	}
	if fresh {
		if _, err := f.Repo.Do(ctx, "branch", "-q", "--track", "--", name, b.Remote+"/"+name); err != nil {
			return nil, git.Fault(err, "git cannot make the branch %s", text.Visible(name))
		}
	}
	if err := goTo(ctx, d, f, name, target, way); err != nil {
		if kept > 0 {
			return nil, fault.Of(err).Try("bring back what was in the way", text.Command("uncinate", "rescue", "bring", strconv.Itoa(kept)))
		}
		return nil, err
	}
	st, err := f.Repo.Status(ctx, false)
	if err != nil {
		return nil, git.Fault(err, "git cannot tell what changed")
	}
	out := &Switched{Branch: st.Branch, Commit: st.Commit, Changed: st.Counts(), InWay: len(way), OnNone: lost, Rescued: kept}
	if there := b.Refs["refs/remotes/"+b.Remote+"/"+name]; there != "" && there != target {
		_, out.Behind, err = project.Apart(ctx, f.Repo, target, there)
	}
	return out, err
}

// goTo brings the files of a branch into the folder, and checks it out.
func goTo(ctx context.Context, d *desk.Desk, f *project.Folder, name, target string, way []string) error {
	from := f.Head
	if from == "" {
		var err error
		if from, err = worktree.EmptyTree(ctx, f); err != nil {
			return err
		}
	}
	_, err := worktree.Lay(ctx, d, f, worktree.Laying{Before: "branch switch", From: from, To: target, Head: f.Head, Switch: name, Hook: []string{"post-checkout", from, target, "1"}, Way: way})
	return err
}

// onNone counts the commits that are checked out and that no branch or tag holds.
func onNone(ctx context.Context, f *project.Folder) (int, error) {
	if f.Branch != "" || f.Head == "" {
		return 0, nil
	}
	out, err := f.Repo.Do(ctx, "rev-list", "--count", f.Head, "--not", "--glob=refs/*")
	if err != nil {
		return 0, git.Fault(err, "git cannot tell which commits are on no branch")
	}
	return strconv.Atoi(out)
}

// carries stops where files that are not saved would be written over by going to a commit,
// and gives those in the way of which a rescue copy is to be kept.
func carries(ctx context.Context, f *project.Folder, target string) (way []string, err error) {
	st, err := f.Repo.Status(ctx, true)
	if err != nil {
		return nil, git.Fault(err, "git cannot tell what changed")
	}
	from := f.Head
	if from == "" {
		if from, err = worktree.EmptyTree(ctx, f); err != nil {
			return nil, err
		}
	}
	coming, err := f.Repo.Lines(ctx, "diff-tree", "-r", "-z", "--name-only", "--no-renames", from, target)
	if err != nil {
		return nil, git.Fault(err, "git cannot compare the branches")
	}
	clash, way, err := worktree.InWay(ctx, f, st, coming, &git.Weaver{Repo: f.Repo}, target)
	if err != nil || len(clash) == 0 {
		return way, err
	}
	return nil, worktree.WrittenOver(clash).Try("save them first", `uncinate save --message "What was done"`).Try("or stash them", text.Command("git", "-C", f.Path, "stash", "--include-untracked"))
}
