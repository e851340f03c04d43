package desk

import (
	"os"
	"path/filepath"
	"strings"
	"time"

	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/openfiles"
)

// leftOver is after how long a temporary file of ours is nobody's any more.
const leftOver = time.Hour

// sweepLocks takes away the locks that runs of git left in a repository when a run of ours was
// killed: ours have all ended, since we hold what they keep. While any program works with one of
// them, or a run of git works in the folder, they all stay; so they do where the system does not
// tell.
func sweepLocks(folder string) error {
	own, common, err := git.Folders(folder)
	if err != nil {
		return nil // there is no repository
	}
	locks, err := git.Locks(own, common)
	if err != nil || len(locks) == 0 {
		return err
	}
	for _, top := range []string{folder, own, common} {
		working, known := openfiles.Working(top)
		for _, p := range working {
			if strings.HasPrefix(p.Name, "git") {
				return nil
			}
		}
		if !known {
			return nil
		}
	}
	open, _ := openfiles.All()
	for _, path := range locks {
		if _, held := open[path]; held {
			return nil
		}
	}
	for _, path := range locks {
		if err := files.Remove(path); err != nil {
			return err
		}
	}
	return nil
}

// sweepTemporary removes what runs of ours that were killed left among the system's temporary
// files.
func sweepTemporary(now time.Time) error {
	for _, kind := range []string{"index", "text", "events", "trial"} {
		found, err := filepath.Glob(filepath.Join(os.TempDir(), "uncinate-"+kind+"-*"))
		if err != nil {
			return err
		}
		for _, path := range found {
			if _, changed, err := files.Stamp(path); err == nil && now.Sub(time.Unix(0, changed)) > leftOver && files.Mine(path) {
				if err := files.RemoveAll(path); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
