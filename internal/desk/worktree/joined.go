package worktree

import (
	"context"
	"errors"
	"strconv"
	"strings"

	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// mostCompared is of how many commits of a branch it is looked whether one of them is another's by its contents.
const mostCompared = 2000

// HoldsAll reports whether a commit holds all that another one does, be it by commits of other ids: they were
// replayed there, or made one. It is false too where that cannot be told. more is a further folder of objects.
func HoldsAll(ctx context.Context, f *project.Folder, all, part, more string) (_ bool, err error) {
	w, done, err := f.Repo.Aside(ctx, more)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, done()) }()
	if _, err := w.Do(ctx, "", nil, "merge-base", "--is-ancestor", part, all); err == nil {
		return true, nil
	}
	base, err := w.Do(ctx, "", nil, "merge-base", all, part)
	if err != nil {
		return false, ctx.Err() // begun apart, or not all of it is here
	}
	met, err := w.Meet(ctx, all, part)
	if err != nil {
		return false, ctx.Err()
	}
	if len(met.Told) == 0 {
		tree, err := w.Do(ctx, "", nil, "rev-parse", "--verify", "-q", all+"^{tree}")
		if err == nil && tree == met.Tree {
			return true, nil // merging it brings nothing in
		}
	}
	n, err := w.Do(ctx, "", nil, "rev-list", "--count", base+".."+all)
	if many, no := strconv.Atoi(n); err != nil || no != nil || many > mostCompared {
		return false, ctx.Err()
	}
	merges, err := w.Do(ctx, "", nil, "rev-list", "--min-parents=2", "-1", part, "--not", all)
	if err != nil {
		return false, ctx.Err()
	}
	if merges == "" {
		if held, err := cherries(ctx, w, all, part); err != nil || held {
			return held, err
		}
	}
	one, err := w.Do(ctx, "", git.Nobody(), "commit-tree", part+"^{tree}", "-m", "all of it, as one", "-p", base)
	if err != nil {
		return false, ctx.Err()
	}
	return cherries(ctx, w, all, one)
}

// cherries reports whether each commit that only part has is in all by its contents (git-cherry documentation).
func cherries(ctx context.Context, w *git.Weaver, all, part string) (bool, error) {
	out, err := w.Do(ctx, "", nil, "cherry", all, part)
	if err != nil {
		return false, ctx.Err()
	}
	found := false
	for line := range strings.Lines(out) {
		if found = true; !strings.HasPrefix(line, "-") {
			return false, nil
		}
	}
	return found, nil
}
