package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSaveTakesOutOnPurpose takes a file with a secret out of git: the next commit must not hold
// what is in the folder, whatever saves it, and the file stays.
func TestSaveTakesOutOnPurpose(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, _, _ := shared(t, h)
	dir := h.gitDir(t, "tern", "saltmarsh", "gauge")
	pier.write("gauge", map[string]string{"conf/one.txt": "one\n", "conf/two.txt": "two\n", "secret.txt": "level = 3\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Conf")
	pier.write("gauge", map[string]string{"conf/one.txt": "one more\n", "secret.txt": "password = \"kelp7Wrack2Bladder9x\"\n"})
	pier.ok("gauge", "", "ignore", "add", "--untrack", "secret.txt", "conf/")
	assert.Contains(t, pier.ok("gauge", "", "save", "--preview"), "3 files out of git and still here")
	out := pier.ok("gauge", "", "sync", "--save", "--message", "Out")
	assert.Equal(t, "", pier.git("gauge", "ls-tree", "-r", "--name-only", "HEAD", "secret.txt", "conf"))
	assert.NotContains(t, pier.git(dir, "log", "-p", "main"), "kelp7", out)
	assert.Empty(t, pier.git("gauge", "status", "--porcelain"))
	for name, s := range map[string]string{"conf/one.txt": "one more\n", "conf/two.txt": "two\n", "secret.txt": "password = \"kelp7Wrack2Bladder9x\"\n"} {
		data, err := os.ReadFile(filepath.Join(pier.home, "gauge", name))
		require.NoError(t, err)
		assert.Equal(t, s, string(data))
	}

	// Taken out without a rule: it stays out, until it is named.
	pier.git("gauge", "rm", "-q", "--cached", "notes.txt")
	pier.write("gauge", map[string]string{"other.txt": "o\n"})
	assert.Contains(t, pier.ok("gauge", "", "save", "Other"), "notes.txt: it was taken out of git here, on purpose")
	assert.Equal(t, "?? notes.txt", pier.git("gauge", "status", "--porcelain"))
	pier.ok("gauge", "", "save", "Notes", "--only", "notes.txt")
	assert.Empty(t, pier.git("gauge", "status", "--porcelain"))
}

// TestSaveKeepsTheIndex saves beside what is staged: nothing that is staged is lost, a commit
// that is refused leaves the index as it was, and what a check of the person's changes is told.
func TestSaveKeepsTheIndex(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, _, _ := shared(t, h)
	gauge := filepath.Join(pier.home, "gauge")
	pier.write("gauge", map[string]string{"d/x": "staged only\n"})
	pier.git("gauge", "add", "d/x")
	require.NoError(t, os.RemoveAll(filepath.Join(gauge, "d")))
	pier.write("gauge", map[string]string{"d": "a file now\n"})
	assert.Contains(t, pier.ok("gauge", "", "save", "A file", "--except", "d/x"), "kept as rescue copy 1")
	assert.Equal(t, "staged only\n", pier.ok("gauge", "", "rescue", "show", "1", "d/x"))
	assert.Empty(t, pier.git("gauge", "status", "--porcelain"))

	hook := filepath.Join(gauge, ".git/hooks/pre-commit")
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\nexit 7\n"), 0o755))
	pier.write("gauge", map[string]string{"notes.txt": "staged\n", "gone.txt": "g\n"})
	pier.git("gauge", "add", "notes.txt", "gone.txt")
	require.NoError(t, os.Remove(filepath.Join(gauge, "gone.txt")))
	pier.write("gauge", map[string]string{"notes.txt": "work\n", "new.txt": "n\n"})
	before, status := pier.git("gauge", "ls-files", "-s"), pier.git("gauge", "status", "--porcelain")
	pier.ok("gauge", "", "project", "trust", "--yes")
	pier.refused(4, []string{"your own check pre-commit stopped it (it ended with 7)"}, "gauge", "", "save", "Refused")
	assert.Equal(t, before, pier.git("gauge", "ls-files", "-s"))
	assert.Equal(t, status, pier.git("gauge", "status", "--porcelain"))

	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho tidy > notes.txt; echo m > more.txt; git add notes.txt more.txt\n"), 0o755))
	pier.refused(3, []string{".git/hooks/pre-commit: a program that git runs as it works"}, "gauge", "", "save", "Tidied", "--only", "notes.txt") // it is another one now
	pier.ok("gauge", "", "project", "trust", "--yes")
	r := pier.run("gauge", "", "save", "Tidied", "--only", "notes.txt")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "a check of your own put more into the commit: more.txt")
	assert.Equal(t, "tidy", pier.git("gauge", "show", "HEAD:notes.txt"))
	assert.NotContains(t, pier.git("gauge", "status", "--porcelain"), "notes.txt")
	require.NoError(t, os.Remove(hook))

	// A file that became a folder in which all is ignored.
	require.NoError(t, os.Remove(filepath.Join(gauge, "notes.txt")))
	pier.write("gauge", map[string]string{"notes.txt/tide.log": "ignored\n"})
	pier.ok("gauge", "", "save", "A folder", "--only", "notes.txt")
	assert.Equal(t, "notes.txt", pier.git("gauge", "show", "--format=", "--name-only"))
}

// TestNothingGoesInUnasked fills a fresh copy with what a program made, and leaves files out at an
// attach: none of them goes with a later save unless it is named, or all are.
func TestNothingGoesInUnasked(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	dir := h.gitDir(t, "tern", "saltmarsh", "gauge")
	made := map[string]string{"plan.txt": "mine\n"}
	for i := range 1500 {
		made[fmt.Sprintf("gen/%04d.dat", i)] = fmt.Sprintln("reading", i)
	}
	launch.write("gauge", made)
	for _, words := range [][]string{{"save", "All"}, {"sync", "--save", "--message", "All"}} {
		launch.refused(3, []string{"1,501 new files", "gen: 1,500 files", "uncinate ignore add gen/", "--many"}, "gauge", "", words...)
	}
	assert.Contains(t, launch.ok("gauge", "", "save", "--preview"), "gen/: 1,500 files")
	launch.ok("gauge", "", "ignore", "add", "gen/")
	launch.ok("gauge", "", "sync", "--save", "--message", "Plan")
	assert.NotContains(t, launch.git(dir, "ls-tree", "-r", "--name-only", "main"), "gen/")
	assert.Contains(t, launch.git(dir, "ls-tree", "-r", "--name-only", "main"), "plan.txt")

	pier.write("buoys", map[string]string{"README.md": "# buoys\n", "notes/own.txt": "own\n", "m.py": "x = 1\n"})
	pier.ok("buoys", "", "attach", "--yes", "--name", "saltmarsh/buoys", "--except", "notes/")
	pier.write("buoys", map[string]string{"new.txt": "n\n", "__pycache__/m.pyc": "c\n"})
	out := pier.ok("buoys", "", "sync", "--save", "--message", "New")
	assert.Contains(t, out, "notes/own.txt: it was not chosen when the project was attached")
	assert.Contains(t, pier.ok("buoys", "", "save", "--preview", "--only", "notes/"), "1 new file")
	buoys := h.gitDir(t, "tern", "saltmarsh", "buoys")
	assert.Equal(t, "README.md\nm.py\nnew.txt", strings.Replace(pier.git(buoys, "ls-tree", "-r", "--name-only", "main"), ".gitignore\n", "", 1))
	pier.ok("buoys", "", "save", "Notes", "--only", "notes/")
	assert.Contains(t, pier.git("buoys", "ls-tree", "-r", "--name-only", "HEAD"), "notes/own.txt")
}

// TestUntrackKeepsWhatWasStaged takes a file out of git of which something was only staged, and
// looks at the changes of a part that is checked out alone.
func TestUntrackKeepsWhatWasStaged(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, _, _ := shared(t, h)
	pier.write("gauge", map[string]string{"plan.txt": "staged\n"})
	pier.git("gauge", "add", "plan.txt")
	pier.write("gauge", map[string]string{"plan.txt": "later\n"})
	pier.ok("gauge", "", "ignore", "add", "--untrack", "/plan.txt")
	assert.Equal(t, "staged\n", pier.ok("gauge", "", "rescue", "show", "1", "plan.txt"))
	pier.git("gauge", "sparse-checkout", "set", "src")
	pier.write("gauge", map[string]string{"deep/new.txt": "n\n"})
	assert.Contains(t, pier.ok("gauge", "", "changes"), "deep/new.txt")
}

// TestSaveOutsideOfASparseCheckout saves what is staged and, being outside of a sparse checkout, not in
// the folder.
func TestSaveOutsideOfASparseCheckout(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	m.write("gauge", map[string]string{"hollow/.gitkeep": "", "src/level.c": "int level = 2;\n"})
	m.git("gauge", "add", "hollow")
	m.git("gauge", "sparse-checkout", "set", "--no-cone", "/src/")
	require.NoDirExists(t, filepath.Join(m.home, "gauge/hollow"))
	m.ok("gauge", "", "save", "-m", "Level")
	assert.Equal(t, ".gitignore\nREADME.md\nhollow/.gitkeep\nsrc/level.c", m.git("gauge", "ls-tree", "-r", "--name-only", "HEAD"))
	assert.Empty(t, m.git("gauge", "status", "--porcelain"))
	assert.NoDirExists(t, filepath.Join(m.home, "gauge/hollow"))

	// A file is now where its folder was: it takes its place, and what was staged is kept.
	m.write("gauge", map[string]string{"hollow": "a file now\n"})
	m.ok("gauge", "", "save", "-m", "A file")
	assert.Equal(t, ".gitignore\nREADME.md\nhollow\nsrc/level.c", m.git("gauge", "ls-tree", "-r", "--name-only", "HEAD"))
	m.git("gauge", "sparse-checkout", "disable")
	m.write("gauge", map[string]string{"place/staged.txt": "staged\n"})
	m.git("gauge", "add", "place")
	m.git("gauge", "sparse-checkout", "set", "--no-cone", "/src/")
	m.write("gauge", map[string]string{"place": "a file\n"})
	m.ok("gauge", "", "save", "-m", "A file in its place")
	assert.Equal(t, "a file", m.git("gauge", "show", "HEAD:place"))
	assert.Equal(t, "staged\n", m.ok("gauge", "", "rescue", "show", "1", "place/staged.txt"))
}

// TestSaveOfWhatWasAddedAndIsGone is about a file that was added to git and then removed: of it alone there is nothing to save.
func TestSaveOfWhatWasAddedAndIsGone(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.project("gauge")
	m.git("gauge", "init", "-q", "-b", "main")
	m.git("gauge", "add", "-A")
	m.git("gauge", "-c", "user.name=Tern", "-c", "user.email=tern@gannet.example", "commit", "-q", "-m", "First")
	m.write("gauge", map[string]string{"place.txt": "pier\n"})
	m.git("gauge", "add", "place.txt")
	require.NoError(t, os.Remove(filepath.Join(m.home, "gauge", "place.txt")))
	m.refused(3, []string{"nothing was saved", "place.txt: it was added to git, and is no longer in the folder", "checkout -- place.txt"}, "gauge", "", "save", "--message", "Place")
	m.git("gauge", "checkout", "--", "place.txt")
	require.Equal(t, "pier\n", m.read("gauge", "place.txt"))
}
