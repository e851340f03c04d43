package job

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/text"
	"uncinate/internal/world/git"
)

// A folder that takes capital and small letters for the same holds only one of two files
// whose names differ in nothing else: what was laid out last is there under both names, and
// git takes it for a change of the other (git-config documentation, core.ignoreCase).

// foldsCase reports whether the folder takes capital and small letters for the same.
func (f *folder) foldsCase(ctx context.Context) (folds bool, err error) {
	if f.settings == nil {
		if f.settings, err = f.repo.Settings(ctx); err != nil {
			return false, gitFault(err, "git's configuration cannot be read")
		}
	}
	for _, s := range f.settings {
		if strings.EqualFold(s.Key, "core.ignorecase") {
			folds = s.True()
		}
	}
	return folds, nil
}

// alike gives the paths of a tree that cannot both lie in this folder, each with one that it
// meets; none where the folder keeps them apart.
func (f *folder) alike(ctx context.Context, w *weaver, tree string) (map[string]string, error) {
	if folds, err := f.foldsCase(ctx); err != nil || !folds {
		return nil, err
	}
	out, err := w.do(ctx, "", nil, "ls-tree", "-r", "-z", "--name-only", "--full-tree", tree)
	if err != nil {
		return nil, gitFault(err, "git cannot list the files of %s", text.Visible(tree))
	}
	return naming.Alike(git.SplitNUL([]byte(out))), nil
}

// pairs lists those of some paths that meet others, once for each two.
func pairs(paths []string, meets map[string]string) []string {
	var out []string
	told := map[string]bool{}
	for _, p := range paths {
		other, meet := meets[p]
		if !meet || told[p] {
			continue
		}
		told[p], told[other] = true, true
		out = append(out, text.Visible(min(p, other))+" and "+text.Visible(max(p, other)))
	}
	return out
}

// keepsApart stops before files come in that this folder cannot hold side by side.
func (s *Sync) keepsApart(ctx context.Context) error {
	meets, err := s.folder.alike(ctx, s.trial, s.tree)
	if err != nil {
		return err
	}
	lines := pairs(s.coming, meets)
	if len(lines) == 0 {
		return nil
	}
	first := s.coming[slices.IndexFunc(s.coming, func(p string) bool { return meets[p] != "" })]
	f := fault.New(fault.Decision, "what comes in has names that differ in capital and small letters alone, and this folder cannot keep them apart")
	firstOf(f, lines)
	f.Detail("Everything is as it was, here and there.")
	return f.Try("on a machine that keeps them apart, give one another name and send that", text.Command("git", "mv", "--", first, first+"-2"))
}

// noteAlike tells, of a folder just laid out, which files cannot both lie in it.
func (d *Desk) noteAlike(ctx context.Context, f *folder) (map[string]string, error) {
	meets, err := f.alike(ctx, &weaver{repo: f.repo}, "HEAD")
	if err != nil || len(meets) == 0 {
		return nil, err
	}
	lines := pairs(slices.Sorted(maps.Keys(meets)), meets)
	more := ""
	if len(lines) > mostShown {
		more = fmt.Sprintf(", and %d more", len(lines)-mostShown)
	}
	d.Tell.Note("Note: this folder takes capital and small letters for the same, so that only one of each two can lie in it: %s%s. git shows them as changed; uncinate does not save them.",
		strings.Join(lines[:min(len(lines), mostShown)], ", "), more)
	return meets, nil
}
