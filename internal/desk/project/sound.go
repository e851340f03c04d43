package project

import (
	"io/fs"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/git"
)

// Sound refuses a repository in whose git folder a link, a pipe or a device is where git, or
// this program, would write or wait: what git notes would go where the link leads. Only hooks may
// be links: they are read. It walks all but the objects.
func (f *Folder) Sound() error {
	own, common, err := git.Folders(f.Path)
	if err != nil {
		return err
	}
	for _, top := range []string{common, own} {
		err := filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
			if err != nil {
				return fault.New(fault.Failed, "git's folder cannot be looked through: %s", text.Visible(path)).Because(err)
			}
			rel, err := filepath.Rel(top, path)
			if err != nil {
				return err
			}
			if inside := filepath.ToSlash(rel); e.IsDir() && (inside == "hooks" || inside == "lfs" || inside == "modules" || inside == "worktrees" || strings.Count(inside, "/") == 1 && strings.HasPrefix(inside, "objects/")) {
				return filepath.SkipDir
			}
			if e.IsDir() || e.Type().IsRegular() || rel == "hooks" {
				return nil
			}
			what := "a pipe or a device"
			if e.Type()&fs.ModeSymlink != 0 {
				what = "a symbolic link"
			}
			return fault.New(fault.Refused, "%s is %s, and git would write where it leads", text.Visible(path), what).
				Try("look where it leads", text.Command("ls", "-l", "--", path)).
				Try("take it away, if nothing needs it", text.Command("rm", "--", path))
		})
		if err != nil {
			return err
		}
		if own == common {
			break
		}
	}
	return nil
}
