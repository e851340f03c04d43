package git

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Middle is something that git has begun and not finished, and the words of git that go on with
// it and that give it up.
type Middle struct{ What, GoOn, GiveUp string }

// Search reports whether it is a search among commits, which changes nothing that is sent
// (git-bisect documentation).
func (m Middle) Search() bool { return m.GoOn == "bisect log" }

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
		{"BISECT_LOG", Middle{"a bisect", "bisect log", "bisect reset"}},
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

// Ordinary refuses a folder in which a pipe or a device is where git would read a file as soon
// as it is run there: it would wait, or read without end (gitrepository-layout's page). It looks
// for the repository as git does, from the folder upwards.
func Ordinary(folder string) error {
	dir := holder(folder)
	if dir == "" {
		return nil
	}
	for _, p := range readFirst {
		s, err := os.Stat(filepath.Join(dir, p))
		if err == nil && !s.Mode().IsRegular() && !(s.IsDir() && p == ".git") {
			return fault.New(fault.Refused, "%s is not an ordinary file, and git would wait for it, or read it without end", text.Visible(filepath.Join(dir, p))).
				Try("look what it is", text.Command("ls", "-ld", "--", filepath.Join(dir, p)))
		}
	}
	return nil
}

// readFirst are what git reads as soon as it is run in a folder.
var readFirst = []string{".git", ".gitignore", ".gitattributes", ".gitmodules", ".mailmap", ".git/HEAD", ".git/config", ".git/config.worktree", ".git/index", ".git/packed-refs", ".git/commondir", ".git/gitdir",
	".git/shallow", ".git/description", ".git/info/exclude", ".git/info/attributes", ".git/info/sparse-checkout", ".git/info/grafts", ".git/objects/info/alternates", ".git/objects/info/commit-graph"}

// holder gives the nearest folder, from one upwards, in which there is a .git; "" for none.
func holder(folder string) string {
	for dir := folder; ; dir = filepath.Dir(dir) {
		if _, err := os.Lstat(filepath.Join(dir, ".git")); err == nil {
			return dir
		}
		if filepath.Dir(dir) == dir {
			return ""
		}
	}
}

// holds refuses a repository that takes its files from another folder than the one in which it
// is: what would be looked at, and worked on, is not what was meant (git-config documentation,
// core.worktree).
func holds(folder, top string) error {
	dir := holder(folder)
	if dir == "" {
		return nil
	}
	here, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if there, err := os.Stat(top); err == nil && os.SameFile(here, there) {
		return nil
	}
	return fault.New(fault.Refused, "the repository in %s takes its files from another folder, %s (core.worktree)", text.Visible(dir), text.Visible(top)).
		Try("see what its configuration says", text.Command("git", "-C", dir, "config", "--local", "--list")).
		Try("if that is not meant, take it out", text.Command("git", "-C", dir, "config", "--local", "--unset-all", "core.worktree"))
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

// Locks lists git's locks that are in a repository: on its index, its refs and what else git
// writes by way of a file that ends with .lock or .new (gitrepository-layout's page). own is the work
// tree's git folder, common the one that it shares.
func Locks(own, common string) ([]string, error) {
	var out []string
	seen := map[string]bool{}
	for _, dir := range []string{own, common} {
		for _, pattern := range []string{"*.lock", "next-index-*", "logs/*.lock", "packed-refs.new", "uncinate/rescue.git/index.*", "uncinate/rescue.git/packed-refs.new"} {
			found, err := filepath.Glob(filepath.Join(escaped(dir), pattern))
			if err != nil {
				return nil, err
			}
			for _, path := range found {
				if s, err := os.Lstat(path); err == nil && s.Mode().IsRegular() && !seen[path] {
					seen[path], out = true, append(out, path)
				}
			}
		}
	}
	err := filepath.WalkDir(filepath.Join(common, "refs"), func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() && strings.HasSuffix(path, ".lock") {
			out = append(out, path)
		}
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return out, err
}

// escaped takes a path's characters as they are in a pattern.
func escaped(path string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(path)
}
