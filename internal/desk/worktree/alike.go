package worktree

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/naming"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// Alike gives the paths of a tree that cannot both are in this folder, each with one that it
// meets; none where the folder keeps them apart.
func Alike(ctx context.Context, f *project.Folder, w *git.Weaver, tree string) (map[string]string, error) {
	if folds, err := f.FoldsCase(ctx); err != nil || !folds {
		return nil, err
	}
	out, err := w.Do(ctx, "", nil, "ls-tree", "-r", "-z", "--name-only", "--full-tree", tree)
	if err != nil {
		return nil, git.Fault(err, "git cannot list the files of %s", text.Visible(tree))
	}
	return naming.Alike(git.SplitNUL([]byte(out))), nil
}

// Pairs lists those of some paths that meet others, once for each two.
func Pairs(paths []string, meets map[string]string) []string {
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

// NoteAlike tells, of a folder just written, which files cannot both are in it.
func NoteAlike(ctx context.Context, d *desk.Desk, f *project.Folder) (map[string]string, error) {
	meets, err := Alike(ctx, f, &git.Weaver{Repo: f.Repo}, "HEAD")
	if err != nil || len(meets) == 0 {
		return nil, err
	}
	lines := Pairs(slices.Sorted(maps.Keys(meets)), meets)
	more := ""
	if len(lines) > desk.MostShown {
		more = fmt.Sprintf(", and %d more", len(lines)-desk.MostShown)
	}
	d.Tell.Note("Note: this folder does not tell upper and lower case apart, so that only one of each two can be in it: %s%s. git shows them as changed; uncinate does not save them.",
		strings.Join(lines[:min(len(lines), desk.MostShown)], ", "), more)
	return meets, nil
}
