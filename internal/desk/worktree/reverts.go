package worktree

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/text"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// takesBack finds the line by which git's commits say which other one they take back (git-revert
// documentation).
var takesBack = text.Pattern(`(?m)^This reverts commit ([0-9a-f]{40,64})\b`)

// mostReverts is how many commits that take others back are looked at.
const mostReverts = 1000

// Reverts gives the commits of a history that are taken back in it, and by which one: those that were
// brought back since are left out. commits are as git log takes them.
func Reverts(ctx context.Context, repo *git.Repo, commits ...string) (map[string]string, error) {
	args := append([]string{"log", "--no-show-signature", "-n", "1000", "--extended-regexp", "--grep=^This reverts commit [0-9a-f]{40}", "--format=%H%n%B%x00"}, commits...)
	out, err := repo.Do(ctx, append(args, "--")...)
	if err != nil {
		return nil, git.Fault(err, "git cannot tell which commits were taken back")
	}
	taken := map[string]string{}
	all := strings.Split(out, "\x00")
	slices.Reverse(all) // the oldest first
	for _, one := range all[max(0, len(all)-mostReverts-1):] {
		id, says, _ := strings.Cut(strings.TrimSpace(one), "\n")
		for _, m := range takesBack().FindAllStringSubmatch(says, -1) {
			for c, by := range taken {
				if by == m[1] {
					delete(taken, c)
				}
			}
			taken[m[1]] = id
		}
	}
	return taken, nil
}

// TakenBack gives the commit that took back what was joined of a branch before, so that joining it
// brings that no more; "" for none.
func TakenBack(ctx context.Context, f *project.Folder, tip string) (string, error) {
	base, err := f.Repo.Do(ctx, "merge-base", f.Head, tip)
	if git.Code(err) == 1 {
		return "", nil
	}
	if err != nil {
		return "", git.Fault(err, "git cannot compare the branches")
	}
	taken, err := Reverts(ctx, f.Repo, f.Head, "^"+base)
	if err != nil {
		return "", err
	}
	holds := func(whole, part string) (bool, error) {
		_, err := f.Repo.Do(ctx, "merge-base", "--is-ancestor", part, whole)
		if code := git.Code(err); code == 1 || code == 128 { // 128: there is no such commit
			return false, nil
		}
		return err == nil, git.Fault(err, "git cannot compare the branches")
	}
	for _, c := range slices.Sorted(maps.Keys(taken)) {
		by := taken[c]
		in, err := holds(base, c) // one of its own commits
		if err == nil && !in {
			if in, err = holds(c, base); err == nil && in { // the merge that brought them in
				var before bool
				before, err = holds(c+"^1", base)
				in = !before
			}
		}
		if err != nil || in {
			return by, err
		}
	}
	return "", nil
}

// IsCut reports whether a clone holds nothing older than a commit, since it received no more
// (gitrepository-layout documentation, "shallow").
func IsCut(f *project.Folder, commit string) (bool, error) {
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return false, err
	}
	data, err := files.Read(filepath.Join(common, "shallow"), 16<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return slices.Contains(strings.Fields(string(data)), commit), err
}
