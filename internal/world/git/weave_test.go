package git

import (
	"context"
	"errors"
	"strings"
	"testing"

	"uncinate/internal/world/git/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// woven is a repository to weave in, and a way to run git in it.
func woven(t *testing.T) (*Repo, func(args ...string) string) {
	t.Helper()
	dir, run := gittest.New(t)
	g, err := Find(t.Context(), "", nil)
	require.NoError(t, err)
	return g.In(dir), run
}

func put(t *testing.T, r *Repo, run func(...string) string, text string, contents map[string]string) string {
	t.Helper()
	return gittest.Commit(t, r.Dir, run, text, contents)
}

// TestReplayIsAsRebase compares what is woven aside with what git rebase makes of the same.
func TestReplayIsAsRebase(t *testing.T) {
	r, run := woven(t)
	lines := strings.Repeat("line\n", 20)
	base := put(t, r, run, "base", map[string]string{"a.txt": "first\n" + lines + "last\n", "b.txt": "b\n", "gone.txt": "g\n", "dir/x": "x\n"})
	put(t, r, run, "theirs", map[string]string{"a.txt": "FIRST\n" + lines + "last\n", "theirs.txt": "t\n", "dir/x": "", "dir2/x": "x\n"})
	theirs := put(t, r, run, "theirs too", map[string]string{"same.txt": "same\n"})
	run("checkout", "-q", "-b", "own", base)
	put(t, r, run, "Own one\n\nWith a body, and ümlauts.", map[string]string{"a.txt": "first\n" + lines + "LAST\n"})
	put(t, r, run, "There already", map[string]string{"same.txt": "same\n"})
	put(t, r, run, "An empty one", nil)
	own := put(t, r, run, "Own three", map[string]string{"gone.txt": "", "new/deep.txt": "n\n", "b.txt": "b\nb\n"})
	commits := strings.Fields(run("rev-list", "--reverse", theirs+"..own"))
	objects := run("count-objects")

	w, done, err := r.Aside(t.Context())
	require.NoError(t, err)
	end, made, err := w.Replay(t.Context(), commits, theirs, func(int) {})
	require.NoError(t, err)
	assert.Equal(t, 3, made)
	require.NoError(t, done())
	assert.Equal(t, objects, run("count-objects"), "a trial leaves nothing behind")
	_, err = r.Do(t.Context(), "cat-file", "-e", end)
	assert.Error(t, err)

	if w, err = r.Weaver(t.Context()); err != nil {
		t.Fatal(err)
	}
	end, _, err = w.Replay(t.Context(), commits, theirs, func(int) {})
	require.NoError(t, err)
	assert.Equal(t, own, run("rev-parse", "own"), "nothing is moved")
	run("checkout", "-q", "-b", "by-git", "own")
	run("rebase", "-q", "--empty=drop", theirs)
	assert.Equal(t, run("rev-parse", "by-git^{tree}"), run("rev-parse", end+"^{tree}"))
	form := "--format=%an %ae %at %s%n%b"
	assert.Equal(t, run("log", form, theirs+"..by-git"), run("log", form, theirs+".."+end))

	// A commit without a parent, from a history that was begun apart.
	run("checkout", "-q", "--orphan", "apart")
	run("rm", "-rfq", ".")
	root := put(t, r, run, "Root", map[string]string{"root.txt": "r\n"})
	end, made, err = w.Replay(t.Context(), []string{root}, theirs, func(int) {})
	require.NoError(t, err)
	assert.Equal(t, 1, made)
	assert.Contains(t, run("ls-tree", "--name-only", end), "root.txt")
	assert.Contains(t, run("ls-tree", "--name-only", end), "theirs.txt")
}

// TestClashes holds that what does not merge is named, file by file.
func TestClashes(t *testing.T) {
	r, run := woven(t)
	base := put(t, r, run, "base", map[string]string{"text.txt": "one\n", "bin": "\x00one", "kept": "k\n", "odd\nname": "o\n"})
	theirs := put(t, r, run, "theirs", map[string]string{"text.txt": "two\n", "bin": "\x00two", "kept": "", "odd\nname": "p\n"})
	run("checkout", "-q", "-b", "own", base)
	own := put(t, r, run, "own", map[string]string{"text.txt": "three\n", "bin": "\x00three", "kept": "changed\n", "odd\nname": "q\n"})
	w, done, err := r.Aside(t.Context())
	require.NoError(t, err)
	defer func() { require.NoError(t, done()) }()
	for _, way := range []func() error{
		func() error { _, _, err := w.Replay(t.Context(), []string{own}, theirs, func(int) {}); return err },
		func() error { _, err := w.Merge(t.Context(), own, theirs); return err },
	} {
		var c *Clashes
		require.True(t, errors.As(way(), &c))
		assert.ElementsMatch(t, []string{"text.txt", "bin", "kept", "odd\nname"}, c.Paths)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = w.Replay(ctx, []string{own}, theirs, func(int) {})
	assert.ErrorIs(t, err, context.Canceled)
}

// TestMarksThatGitTakesForClean holds that a clash is told of which git tells in words alone, and ends
// with 0: it leaves marks in a file that was renamed here, changed there, and added there too.
func TestMarksThatGitTakesForClean(t *testing.T) {
	r, run := woven(t)
	lines := strings.Repeat("line\n", 9)
	was, next := "f\nline\nchanged\n"+lines+"new 4\n", "f\n"+lines+"line\nline\nline\nnew 1\n"
	base := put(t, r, run, "base", map[string]string{"a": was})
	theirs := put(t, r, run, "theirs", map[string]string{"a": "f\nline\nchanged\nchanged\n" + strings.Repeat("line\n", 7) + "other\nnew 4\n", "A": next, "b": next})
	run("checkout", "-q", "-b", "own", base)
	own := put(t, r, run, "own", map[string]string{"a": "", "A": next})
	w, done, err := r.Aside(t.Context())
	require.NoError(t, err)
	defer func() { require.NoError(t, done()) }()
	met, err := w.Meet(t.Context(), own, theirs)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"A", "a"}}, met.Told)
	_, err = w.Merge(t.Context(), own, theirs)
	var c *Clashes
	assert.ErrorAs(t, err, &c)
}
