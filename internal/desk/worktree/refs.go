package worktree

import (
	"context"

	"uncinate/internal/core/text"
	"uncinate/internal/world/git"
)

// DropRef removes a ref that stands at an object, if it stands there still. Callers kept a copy
// of what only it leads to, or brought it in themselves.
func DropRef(ctx context.Context, repo *git.Repo, ref, id string) error {
	_, err := repo.Do(ctx, "update-ref", "-d", ref, id)
	return git.Fault(err, "git cannot remove %s", text.Visible(ref))
}

// DropBranch removes a branch, and what git is set to about it. Callers kept a copy as of DropRef.
func DropBranch(ctx context.Context, repo *git.Repo, name string) error {
	_, err := repo.Do(ctx, "branch", "-q", "-D", "--", name)
	return git.Fault(err, "git cannot remove the branch %s", text.Visible(name))
}

// First lays the files of a branch of the host out in a folder in which nothing lies yet, and
// checks the branch out.
func First(ctx context.Context, repo *git.Repo, branch, track string) error {
	_, err := repo.Do(ctx, "checkout", "-q", "--no-overwrite-ignore", "-B", branch, "--track", track)
	return git.Fault(err, "git cannot lay out the files of branch %s", text.Visible(branch))
}
