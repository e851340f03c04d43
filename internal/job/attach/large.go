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

// noteEmpty tells of submodules: their folders are empty, and by which line git fills them (git-submodule documentation).
func noteEmpty(ctx context.Context, d *desk.Desk, repo *git.Repo) ([]string, error) {
	if files.KindOf(filepath.Join(repo.Dir, ".gitmodules")) != files.Regular {
		return nil, nil // most have none
	}
	lines, err := repo.Lines(ctx, "ls-files", "-s", "-z")
	if err != nil {
		return nil, git.Fault(err, "git cannot list the files")
	}
	var out []string
	for _, l := range lines {
		if meta, p, _ := strings.Cut(l, "\t"); strings.HasPrefix(meta, "160000 ") {
			out = append(out, p)
		}
	}
	if len(out) > 0 {
		d.Tell.Note("Note: %s of this project %s empty: %s. To see from where they come: %s. To fill them: %s", text.Count(len(out), "submodule"), desk.IsAre(len(out)), text.Excerpt(strings.Join(out, ", "), 200),
			text.Command("cat", "--", filepath.Join(repo.Dir, ".gitmodules")), text.Command("git", "-C", repo.Dir, "submodule", "update", "--init"))
	}
	return out, nil
}
