package job

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/world/git"
)

// woven is a repository to weave in, and a way to run git in it.
func woven(t *testing.T) (*folder, func(args ...string) string) {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	t.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
	t.Setenv("GIT_CONFIG_NOSYSTEM", "1")
	run := func(args ...string) string {
		t.Helper()
		out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput()
		require.NoError(t, err, "git %v: %s", args, out)
		return strings.TrimSpace(string(out))
	}
	run("init", "-q", "-b", "main")
	run("config", "user.name", "Tern")
	run("config", "user.email", "tern@skerry.example")
	g, err := git.Find(t.Context(), "", nil)
	require.NoError(t, err)
	return &folder{path: dir, repo: g.In(dir), isRepo: true}, run
}

func put(t *testing.T, f *folder, run func(...string) string, text string, contents map[string]string) string {
	t.Helper()
	for name, s := range contents {
		path := filepath.Join(f.path, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		if s == "" {
			require.NoError(t, os.Remove(path))
			continue
		}
		require.NoError(t, os.WriteFile(path, []byte(s), 0o644))
	}
	run("add", "-A")
	run("commit", "-q", "--allow-empty", "-m", text)
	return run("rev-parse", "HEAD")
}

// TestReplayIsAsRebase compares what is woven aside with what git rebase makes of the same.
func TestReplayIsAsRebase(t *testing.T) {
	f, run := woven(t)
	lines := strings.Repeat("line\n", 20)
	base := put(t, f, run, "base", map[string]string{"a.txt": "first\n" + lines + "last\n", "b.txt": "b\n", "gone.txt": "g\n", "dir/x": "x\n"})
	put(t, f, run, "theirs", map[string]string{"a.txt": "FIRST\n" + lines + "last\n", "theirs.txt": "t\n", "dir/x": "", "dir2/x": "x\n"})
	theirs := put(t, f, run, "theirs too", map[string]string{"same.txt": "same\n"})
	run("checkout", "-q", "-b", "own", base)
	put(t, f, run, "Own one\n\nWith a body, and ümlauts.", map[string]string{"a.txt": "first\n" + lines + "LAST\n"})
	put(t, f, run, "There already", map[string]string{"same.txt": "same\n"})
	put(t, f, run, "An empty one", nil)
	own := put(t, f, run, "Own three", map[string]string{"gone.txt": "", "new/deep.txt": "n\n", "b.txt": "b\nb\n"})
	commits := strings.Fields(run("rev-list", "--reverse", theirs+"..own"))
	objects := run("count-objects")

	w, done, err := f.aside(t.Context())
	require.NoError(t, err)
	end, made, err := w.replay(t.Context(), commits, theirs, func(int) {})
	require.NoError(t, err)
	assert.Equal(t, 3, made)
	require.NoError(t, done())
	assert.Equal(t, objects, run("count-objects"), "a trial leaves nothing behind")
	_, err = f.repo.Do(t.Context(), "cat-file", "-e", end)
	assert.Error(t, err)

	if w, err = f.weaver(t.Context()); err != nil {
		t.Fatal(err)
	}
	end, _, err = w.replay(t.Context(), commits, theirs, func(int) {})
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
	root := put(t, f, run, "Root", map[string]string{"root.txt": "r\n"})
	end, made, err = w.replay(t.Context(), []string{root}, theirs, func(int) {})
	require.NoError(t, err)
	assert.Equal(t, 1, made)
	assert.Contains(t, run("ls-tree", "--name-only", end), "root.txt")
	assert.Contains(t, run("ls-tree", "--name-only", end), "theirs.txt")
}

// TestClashes holds that what does not merge is named, file by file.
func TestClashes(t *testing.T) {
	f, run := woven(t)
	base := put(t, f, run, "base", map[string]string{"text.txt": "one\n", "bin": "\x00one", "kept": "k\n", "odd\nname": "o\n"})
	theirs := put(t, f, run, "theirs", map[string]string{"text.txt": "two\n", "bin": "\x00two", "kept": "", "odd\nname": "p\n"})
	run("checkout", "-q", "-b", "own", base)
	own := put(t, f, run, "own", map[string]string{"text.txt": "three\n", "bin": "\x00three", "kept": "changed\n", "odd\nname": "q\n"})
	w, done, err := f.aside(t.Context())
	require.NoError(t, err)
	defer func() { require.NoError(t, done()) }()
	for _, way := range []func() error{
		func() error { _, _, err := w.replay(t.Context(), []string{own}, theirs, func(int) {}); return err },
		func() error { _, err := w.merge(t.Context(), own, theirs); return err },
	} {
		var c *clashes
		require.True(t, errors.As(way(), &c))
		assert.ElementsMatch(t, []string{"text.txt", "bin", "kept", "odd\nname"}, c.paths)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = w.replay(ctx, []string{own}, theirs, func(int) {})
	assert.ErrorIs(t, err, context.Canceled)
}

// TestRescuer keeps refs and files of every sort, and gives them back after git has tidied
// everything away.
func TestRescuer(t *testing.T) {
	f, run := woven(t)
	d, _ := desk(t)
	first := put(t, f, run, "one", map[string]string{"a.txt": "1\n"})
	put(t, f, run, "two", map[string]string{"a.txt": "2\n"})
	lost := put(t, f, run, "three", map[string]string{"a.txt": "3\n"})
	run("reset", "-q", "--hard", first)
	contents := map[string]string{"run.sh": "#!/bin/sh\r\n", "new\nline": "n\n", "deep/er/x": "\x00\xff", "-n": "dash\n"}
	for name, s := range contents {
		path := filepath.Join(f.path, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(s), 0o755))
	}
	require.NoError(t, os.Symlink("deep/er/x", filepath.Join(f.path, "link")))
	r, err := d.rescuer(f)
	require.NoError(t, err)
	n, err := r.keep(t.Context(), "a\ntest", nil, []string{"not there"})
	require.NoError(t, err)
	assert.Zero(t, n, "of nothing no copy is made")
	n, err = r.keep(t.Context(), "a\ntest", []moving{{"refs/heads/gone", lost, first}}, []string{"run.sh", "new\nline", "deep/er/x", "-n", "link", "not there", "deep"})
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	for name := range contents {
		require.NoError(t, os.Remove(filepath.Join(f.path, name)))
	}
	require.NoError(t, os.Remove(filepath.Join(f.path, "link")))
	run("reflog", "expire", "--expire=now", "--all")
	run("gc", "-q", "--prune=now")
	_, err = f.repo.Do(t.Context(), "cat-file", "-e", lost)
	require.Error(t, err, "git has forgotten it")

	out, err := d.BringRescue(t.Context(), BringOptions{Folder: f.path, Number: 1})
	require.NoError(t, err)
	assert.Equal(t, []string{"rescued-1"}, out.Branches)
	assert.Equal(t, lost, run("rev-parse", "rescued-1"))
	assert.Equal(t, "3", run("rev-list", "--count", "rescued-1"))
	for name, s := range contents {
		data, err := os.ReadFile(filepath.Join(f.path, name))
		require.NoError(t, err)
		assert.Equal(t, s, string(data))
	}
	s, err := os.Stat(filepath.Join(f.path, "run.sh"))
	require.NoError(t, err)
	assert.NotZero(t, s.Mode()&0o100)
	target, err := os.Readlink(filepath.Join(f.path, "link"))
	require.NoError(t, err)
	assert.Equal(t, "deep/er/x", target)
	again, err := d.BringRescue(t.Context(), BringOptions{Folder: f.path, Number: 1})
	require.NoError(t, err, "what stands already is no hindrance")
	assert.Empty(t, again.Files)

	// A folder that became a link out of the project is not followed.
	outside := t.TempDir()
	require.NoError(t, os.RemoveAll(filepath.Join(f.path, "deep")))
	require.NoError(t, os.Symlink(outside, filepath.Join(f.path, "deep")))
	_, err = d.BringRescue(t.Context(), BringOptions{Folder: f.path, Number: 1, Paths: []string{"deep/er/x"}})
	assert.Error(t, err)
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, left)

	// Copies go when their time is over, as soon as another one is made.
	require.NoError(t, d.KeepFor(1))
	n, err = r.keep(t.Context(), "short", nil, []string{"run.sh"})
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	later := d.Now().AddDate(0, 0, 2)
	d.Now = func() time.Time { return later }
	n, err = r.keep(t.Context(), "later", nil, []string{"-n"})
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	all, err := d.Rescues(t.Context(), f.path)
	require.NoError(t, err)
	var numbers []int
	for _, c := range all {
		numbers = append(numbers, c.Number)
	}
	assert.Equal(t, []int{3, 1}, numbers)
	assert.Equal(t, `a\ntest`, all[1].Before)
	assert.Error(t, d.KeepFor(0))
}
