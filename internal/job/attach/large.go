package attach

import (
	"context"
	"path/filepath"
	"strings"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/attach/contents"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// notePointers tells when a copy's large files are only pointers.
func notePointers(ctx context.Context, d *desk.Desk, repo *git.Repo) (bool, error) {
	data, err := files.Read(filepath.Join(repo.Dir, contents.Attributes), 1<<20)
	if err != nil || !strings.Contains(string(data), "filter=lfs") {
		return false, nil // most have none
	}
	if _, err := repo.Git.In(repo.Dir).Do(ctx, "config", "--get", "filter.lfs.smudge"); err == nil {
		return false, nil
	}
	d.Tell.Note("Note: the large files of this project are still only pointers. To get them: %s && %s", text.Command("git", "-C", repo.Dir, "lfs", "install", "--local"), text.Command("git", "-C", repo.Dir, "lfs", "pull"))
	return true, ctx.Err()
}
