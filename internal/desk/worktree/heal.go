package worktree

import (
	"context"
	"path/filepath"

	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/openfiles"
)

// Differs reports whether a file stands that is neither of two contents.
func Differs(ctx context.Context, f *project.Folder, p, old, fresh string) bool {
	if k := files.KindOf(filepath.Join(f.Path, filepath.FromSlash(p))); k == files.None || k == files.Folder {
		return false
	}
	id, err := f.Repo.HashFile(ctx, p)
	return err != nil || id != old && id != fresh
}

// TakeLock takes away the lock that a run of git of ours left when it was killed: ours
// have all ended, since we hold what they keep, and no other program has it open.
func TakeLock(f *project.Folder) error {
	own, _, err := git.Folders(f.Path)
	if err != nil {
		return err
	}
	path, _ := git.IndexLock(own)
	if path == "" {
		return nil
	}
	open, known := openfiles.Below(own)
	if _, held := open[path]; held || !known {
		return f.Unlocked()
	}
	return files.Remove(path)
}
