package worktree

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"uncinate/internal/world/git/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/desk"
	"uncinate/internal/desk/desktest"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// TestRescuer keeps refs and files of every sort, and gives them back after git has tidied
// everything away.
func TestRescuer(t *testing.T) {
	f, run := woven(t)
	d, _ := desktest.New(t)
	first := put(t, f, run, "one", map[string]string{"a.txt": "1\n"})
	put(t, f, run, "two", map[string]string{"a.txt": "2\n"})
	lost := put(t, f, run, "three", map[string]string{"a.txt": "3\n"})
	run("reset", "-q", "--hard", first)
	contents := map[string]string{"run.sh": "#!/bin/sh\r\n", "new\nline": "n\n", "deep/er/x": "\x00\xff", "-n": "dash\n"}
	for name, s := range contents {
		path := filepath.Join(f.Path, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(s), 0o755))
	}
	require.NoError(t, os.Symlink("deep/er/x", filepath.Join(f.Path, "link")))
	r, err := RescuerOf(d, f)
	require.NoError(t, err)
	n, err := r.Keep(t.Context(), "a\ntest", nil, []string{"not there"})
	require.NoError(t, err)
	assert.Zero(t, n, "of nothing no copy is made")
	n, err = r.Keep(t.Context(), "a\ntest", []Moving{{"refs/heads/gone", lost, first}}, []string{"run.sh", "new\nline", "deep/er/x", "-n", "link", "not there", "deep"})
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	for name := range contents {
		require.NoError(t, os.Remove(filepath.Join(f.Path, name)))
	}
	require.NoError(t, os.Remove(filepath.Join(f.Path, "link")))
	run("reflog", "expire", "--expire=now", "--all")
	run("gc", "-q", "--prune=now")
	_, err = f.Repo.Do(t.Context(), "cat-file", "-e", lost)
	require.Error(t, err, "git has forgotten it")

	out, err := BringRescue(t.Context(), d, BringOptions{Folder: f.Path, Number: 1})
	require.NoError(t, err)
	assert.Equal(t, []string{"rescued-1"}, out.Branches)
	assert.Equal(t, lost, run("rev-parse", "rescued-1"))
	assert.Equal(t, "3", run("rev-list", "--count", "rescued-1"))
	for name, s := range contents {
		data, err := os.ReadFile(filepath.Join(f.Path, name))
		require.NoError(t, err)
		assert.Equal(t, s, string(data))
	}
	s, err := os.Stat(filepath.Join(f.Path, "run.sh"))
	require.NoError(t, err)
	assert.NotZero(t, s.Mode()&0o100)
	target, err := os.Readlink(filepath.Join(f.Path, "link"))
	require.NoError(t, err)
	assert.Equal(t, "deep/er/x", target)
	again, err := BringRescue(t.Context(), d, BringOptions{Folder: f.Path, Number: 1})
	require.NoError(t, err, "what is there already is not a hindrance")
	assert.Empty(t, again.Files)

	// A folder that became a link out of the project is not followed.
	outside := t.TempDir()
	require.NoError(t, os.RemoveAll(filepath.Join(f.Path, "deep")))
	require.NoError(t, os.Symlink(outside, filepath.Join(f.Path, "deep")))
	_, err = BringRescue(t.Context(), d, BringOptions{Folder: f.Path, Number: 1, Paths: []string{"deep/er/x"}})
	assert.Error(t, err)
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, left)

	// Copies go when their time is over, as soon as another one is made.
	require.NoError(t, d.Change(t.Context(), func(s *desk.Settings) { s.RescueDays = 1 }))
	n, err = r.Keep(t.Context(), "short", nil, []string{"run.sh"})
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	later := d.Now().AddDate(0, 0, 2)
	d.Now = func() time.Time { return later }
	n, err = r.Keep(t.Context(), "later", nil, []string{"-n"})
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	all, err := Rescues(t.Context(), d, f.Path)
	require.NoError(t, err)
	var numbers []int
	for _, c := range all {
		numbers = append(numbers, c.Number)
	}
	assert.Equal(t, []int{3, 1}, numbers)
	assert.Equal(t, `a\ntest`, all[1].Before)
}

// woven is a project to work on, and a way to run git in it.
func woven(t *testing.T) (*project.Folder, func(args ...string) string) {
	t.Helper()
	dir, run := gittest.New(t)
	g, err := git.Find(t.Context(), "", nil)
	require.NoError(t, err)
	return &project.Folder{Path: dir, Repo: g.In(dir), IsRepo: true}, run
}

func put(t *testing.T, f *project.Folder, run func(...string) string, text string, contents map[string]string) string {
	t.Helper()
	return gittest.Commit(t, f.Path, run, text, contents)
}

// TestCopiesAreWhole looks at what copies hold by themselves: the whole history of a branch that
// stands elsewhere too, of two that lead to each other, and nothing shortened by a later copy.
func TestCopiesAreWhole(t *testing.T) {
	f, run := woven(t)
	d, _ := desktest.New(t)
	for _, n := range []string{"1", "2", "3", "4"} {
		put(t, f, run, n, map[string]string{"a.txt": n})
	}
	tip := run("rev-parse", "HEAD")
	run("update-ref", "refs/remotes/origin/main", tip)
	run("branch", "twin", tip+"~1")
	r, err := RescuerOf(d, f)
	require.NoError(t, err)
	_, err = r.Keep(t.Context(), "both", []Moving{{Ref: "refs/heads/main", ID: tip}, {Ref: "refs/remotes/origin/main", ID: tip}, {Ref: "refs/heads/twin", ID: run("rev-parse", "twin")}}, nil)
	require.NoError(t, err)
	_, err = r.Keep(t.Context(), "later", []Moving{{Ref: "refs/heads/twin", ID: run("rev-parse", "twin")}}, nil)
	require.NoError(t, err)
	out, err := r.store.Do(t.Context(), "rev-list", "--count", CopyRefs+"1")
	require.NoError(t, err)
	assert.Equal(t, "5", out, "four commits, and the copy")
	_, err = r.store.Do(t.Context(), "rev-list", "--objects", "--quiet", "--all")
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(r.store.Dir, "shallow"))
}

// TestHalfAStore puts halves of a store where copies go: git must never take the project's own
// repository for it, and what is there stays.
func TestHalfAStore(t *testing.T) {
	for name, make := range map[string]func(t *testing.T, store string){
		"empty":   func(*testing.T, string) {},
		"no HEAD": func(t *testing.T, store string) { require.NoError(t, os.MkdirAll(filepath.Join(store, "refs"), 0o700)) },
		"no config": func(t *testing.T, store string) {
			require.NoError(t, os.WriteFile(filepath.Join(store, "HEAD"), []byte("ref: refs/heads/main\n"), 0o600))
		},
	} {
		t.Run(name, func(t *testing.T) {
			f, run := woven(t)
			d, _ := desktest.New(t)
			put(t, f, run, "one", map[string]string{"a.txt": "1\n"})
			put(t, f, run, "two", map[string]string{"a.txt": "2\n"})
			before := run("for-each-ref")
			store := filepath.Join(f.Path, ".git", "uncinate", "rescue.git")
			require.NoError(t, os.MkdirAll(store, 0o700))
			make(t, store)
			require.NoError(t, os.Mkdir(filepath.Join(filepath.Dir(store), "rescue-new-4000000"), 0o700)) // no process has such a number
			r, err := RescuerOf(d, f)
			require.NoError(t, err)
			all, err := Rescues(t.Context(), d, f.Path)
			require.NoError(t, err)
			assert.Empty(t, all)
			n, err := r.Keep(t.Context(), "a test", []Moving{{Ref: "refs/heads/main", ID: run("rev-parse", "HEAD")}}, []string{"a.txt"})
			require.NoError(t, err)
			assert.Equal(t, 1, n)
			assert.Equal(t, before, run("for-each-ref"), "nothing of ours is in the project")
			assert.NoFileExists(t, filepath.Join(f.Path, ".git", "shallow"))
			names, err := os.ReadDir(filepath.Dir(store))
			require.NoError(t, err)
			names = slices.DeleteFunc(names, func(e os.DirEntry) bool { return strings.HasSuffix(e.Name(), ".held.who") }) // of systems where a lock cannot be read
			require.Len(t, names, 3, "the half is kept, and what a killed run left is gone")
			assert.Contains(t, names[1].Name(), "rescue.git.half-")
		})
	}
}

// TestCopiesKeepModes brings a private file back as private, with its time.
func TestCopiesKeepModes(t *testing.T) {
	f, run := woven(t)
	d, _ := desktest.New(t)
	put(t, f, run, "one", map[string]string{"a.txt": "1\n", "b.txt": "staged\n"})
	full := filepath.Join(f.Path, "key \"1\".txt")
	require.NoError(t, os.WriteFile(full, []byte("secret"), 0o400))
	when := time.Date(2026, 3, 4, 5, 6, 7, 89, time.UTC)
	require.NoError(t, os.Chtimes(full, when, when))
	r, err := RescuerOf(d, f)
	require.NoError(t, err)
	id := run("rev-parse", "HEAD:b.txt")
	n, err := r.KeepAll(t.Context(), Kept{Before: "a test", Paths: []string{"key \"1\".txt"}, Staged: []Staged{{"deep/b.txt", "100644", id}}})
	require.NoError(t, err)
	require.NoError(t, os.Remove(full))
	out, err := BringRescue(t.Context(), d, BringOptions{Folder: f.Path, Number: n})
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"key \"1\".txt", "deep/b.txt"}, out.Files)
	s, err := os.Stat(full)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o400), s.Mode().Perm())
	assert.True(t, when.Equal(s.ModTime()), "%s", s.ModTime())
}
