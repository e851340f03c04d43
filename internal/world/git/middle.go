package git

import (
	"os"
	"path/filepath"
	"time"
)

// Middle is something that git has begun and not finished, and the words of git that go on with
// it and that give it up.
type Middle struct{ What, GoOn, GiveUp string }

// InMiddle tells what git is in the middle of, by the files in a work tree's own git folder
// (gitrepository-layout's page, and each command's); nil for nothing.
func InMiddle(own string) *Middle {
	for _, x := range []struct {
		file string
		Middle
	}{
		{"MERGE_HEAD", Middle{"a merge", "commit", "merge --abort"}},
		{"rebase-merge", Middle{"a rebase", "rebase --continue", "rebase --abort"}},
		{"rebase-apply", Middle{"a rebase", "rebase --continue", "rebase --abort"}},
		{"CHERRY_PICK_HEAD", Middle{"a cherry-pick", "cherry-pick --continue", "cherry-pick --abort"}},
		{"REVERT_HEAD", Middle{"a revert", "revert --continue", "revert --abort"}},
		{"BISECT_LOG", Middle{"a search by halves", "bisect log", "bisect reset"}},
	} {
		if _, err := os.Lstat(filepath.Join(own, x.file)); err == nil {
			return &x.Middle
		}
	}
	return nil
}

// IsBare reports whether a folder is itself a git folder, without the files of a project
// (gitrepository-layout's page).
func IsBare(folder string) bool {
	for _, name := range []string{"HEAD", "objects", "refs"} {
		if _, err := os.Stat(filepath.Join(folder, name)); err != nil {
			return false
		}
	}
	return true
}

// IndexLock gives git's lock on a work tree's index, and since when it is there; "" for none.
func IndexLock(own string) (path string, since time.Time) {
	path = filepath.Join(own, "index.lock")
	s, err := os.Lstat(path)
	if err != nil {
		return "", time.Time{}
	}
	return path, s.ModTime()
}

// HasHook reports whether a repository has one of the person's own hooks (githooks' page).
func HasHook(common, name string) bool {
	_, err := os.Stat(filepath.Join(common, "hooks", name))
	return err == nil
}
