package worktree

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// A file of the person's that gave its name to the other side's is put beside it, for the work to
// be done again by hand. Git does not track it; a list in git's own folder of the work tree tells
// of it, until it is gone.

// mostExclude is how much of a repository's own ignore rules is read, in bytes.
const mostExclude = 4 << 20

func besidesAt(f *project.Folder) (string, error) {
	own, _, err := git.Folders(f.Path)
	if err != nil {
		return "", err
	}
	return filepath.Join(own, "uncinate", "beside.json"), project.OwnPlace(own)
}

// Besides lists what was put beside and is noted, whether it is still there or not.
func Besides(f *project.Folder) ([]Beside, error) {
	path, err := besidesAt(f)
	if err != nil {
		return nil, err
	}
	var all []Beside
	_, err = files.ReadJSON(path, &all)
	return all, err
}

// ToRedo lists what was put beside and is still there.
func ToRedo(f *project.Folder) []Beside {
	all, err := Besides(f)
	if err != nil {
		return nil // it is a reminder only
	}
	return slices.DeleteFunc(all, func(b Beside) bool {
		return !filepath.IsLocal(filepath.FromSlash(b.At)) || files.Missing(at(f, b.At))
	})
}

func at(f *project.Folder, p string) string { return filepath.Join(f.Path, filepath.FromSlash(p)) }

// Remind adds to the list, and drops what is no longer there.
func Remind(f *project.Folder, fresh []Beside) error {
	path, err := besidesAt(f)
	if err != nil {
		return err
	}
	all, listed := ToRedo(f), map[Beside]bool{}
	for _, b := range all {
		listed[b] = true
	}
	for _, b := range fresh {
		if !listed[b] {
			all = append(all, b)
		}
	}
	return files.WriteJSON(path, all)
}

// note adds to the list, and keeps git from tracking what is on it (gitignore documentation,
// $GIT_DIR/info/exclude).
func (g *gate) note(fresh []Beside) error {
	f := g.folder
	if err := Remind(f, fresh); err != nil {
		return err
	}
	var rules []kinds.Rule
	for _, b := range fresh {
		rules = append(rules, kinds.Rule{Pattern: "/" + kinds.Escape(b.At), Why: "yours, put beside the other side's file"})
	}
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return err
	}
	exclude := filepath.Join(common, "info", "exclude")
	old, err := files.Read(exclude, mostExclude)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	now := kinds.Merge(string(old), rules)
	if now == string(old) {
		return nil
	}
	if err := files.MakeFolder(filepath.Dir(exclude), 0o755); err != nil {
		return err
	}
	return files.WriteBy(exclude, filepath.Join(g.own, "uncinate", "exclude.new"), []byte(now), 0o644)
}

// PutBeside writes files of the person's beside those that take their names. Nothing is
// overwritten: one that is there already stays.
func PutBeside(ctx context.Context, d *desk.Desk, f *project.Folder, all []Beside) error {
	g, err := gateOf(d, f)
	if err != nil {
		return err
	}
	if err := g.note(all); err != nil {
		return err
	}
	top := filepath.Dir(g.at)
	if err := files.MakeFolder(top, 0o700); err != nil {
		return err
	}
	for _, b := range all {
		if !filepath.IsLocal(filepath.FromSlash(b.At)) {
			return fault.New(fault.Refused, "a file would be put outside of the folder: %s", text.Visible(b.At))
		}
		if !files.Missing(at(f, b.At)) {
			continue
		}
		fresh := filepath.Join(top, "beside.new")
		if err := files.Remove(fresh); err != nil {
			return err
		}
		if err := g.copyBeside(ctx, b, fresh); err != nil {
			return err
		}
		if _, err := g.parents(b.At, true); err != nil {
			return err
		}
		if err := files.MoveNew(fresh, at(f, b.At)); err != nil && !errors.Is(err, fs.ErrExist) {
			return fault.New(fault.Failed, "%s cannot be put beside: %s", text.Visible(b.At), files.Plain(err)).Because(err)
		}
	}
	return nil
}

// copyBeside makes a copy of what stands in the folder, or, where it does not, of what git has.
func (g *gate) copyBeside(ctx context.Context, b Beside, fresh string) error {
	stands := g.work(b.Path)
	if b.Mode == "120000" {
		target, err := g.folder.Repo.Run(ctx, git.Cmd{Args: []string{"cat-file", "blob", b.ID}})
		if err == nil {
			err = os.Symlink(string(target), fresh)
		}
		return git.Fault(err, "your %s cannot be read", text.Visible(b.Path))
	}
	if s, err := os.Lstat(stands); err == nil && s.Mode().IsRegular() { // it was saved, or this was stopped
		if err = files.CopyFile(stands, fresh); err == nil {
			err = os.Chmod(fresh, s.Mode().Perm())
		}
		return err
	}
	work, err := g.folder.Work() // the person's own filters run, as with plain git
	if err != nil {
		return err
	}
	data, err := work.Run(ctx, git.Cmd{Args: []string{"cat-file", "--filters", "--path=" + b.Path, b.ID}})
	if err != nil {
		return git.Fault(err, "your %s cannot be read", text.Visible(b.Path))
	}
	mode := fs.FileMode(0o644)
	if strings.HasSuffix(b.Mode, "755") {
		mode = 0o755
	}
	return os.WriteFile(fresh, data, mode)
}
