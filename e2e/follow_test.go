package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSyncAsSet holds that tags, pruning, submodules, filters and ties are seen to as git
// is set, and that work of plain git in between is not a hindrance.
func TestSyncAsSet(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)

	// Tags: one that is on the branch comes, a local one of the same name stays.
	pier.git("gauge", "tag", "v1")
	pier.git("gauge", "push", "-q", "origin", "v1")
	launch.git("gauge", "tag", "mine")
	launch.ok("gauge", "", "sync")
	assert.Equal(t, "mine\nv1", launch.git("gauge", "tag"))
	pier.git("gauge", "checkout", "-q", "--detach")
	pier.git("gauge", "commit", "-q", "--allow-empty", "-m", "Aside")
	pier.git("gauge", "tag", "aside")
	pier.git("gauge", "push", "-q", "origin", "aside")
	pier.git("gauge", "checkout", "-q", "main")
	r := launch.run("gauge", "", "sync", "--verbose")
	require.Equal(t, 0, r.code)
	assert.Contains(t, r.err, "command=fetch")
	r = launch.run("gauge", "", "sync", "--verbose")
	assert.NotContains(t, r.err, "command=fetch", "a tag that nothing leads to is not asked for again and again")
	launch.git("gauge", "config", "remote.origin.tagOpt", "--no-tags")
	pier.git("gauge", "tag", "v2")
	pier.git("gauge", "push", "-q", "origin", "v2")
	launch.ok("gauge", "", "sync")
	assert.NotContains(t, launch.git("gauge", "tag"), "v2")

	// Branches that are gone are told of, and pruned only where git is set to, with a copy.
	pier.ok("gauge", "", "branch", "make", "task", "--switch")
	pier.write("gauge", map[string]string{"task.txt": "t\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Task")
	pier.ok("gauge", "", "branch", "switch", "main")
	launch.ok("gauge", "", "sync")
	task := launch.id("gauge", "origin/task")
	pier.ok("gauge", "", "branch", "remove", "task", "--yes")
	assert.Contains(t, launch.ok("gauge", "", "sync"), "No longer on the host: task.")
	assert.Equal(t, task, launch.id("gauge", "origin/task"))
	launch.git("gauge", "config", "fetch.prune", "true")
	assert.Contains(t, launch.ok("gauge", "", "sync"), "rescue copy 1")
	assert.NotEqual(t, 0, launch.command("gauge", "", "git", "rev-parse", "-q", "--verify", "origin/task").code)
	launch.ok("gauge", "", "rescue", "bring", "1", "--as", "task-again")
	assert.Equal(t, task, launch.id("gauge", "task-again"))
	syncKeepsWhatIsSet(t, pier, launch)
}

// syncKeepsWhatIsSet runs filters and hooks, and leaves what is staged.
func syncKeepsWhatIsSet(t *testing.T, pier *machine, launch *machine) {
	t.Helper()
	// The person's filters run, and the tie that git runs after a merge.
	launch.git("gauge", "config", "filter.up.smudge", "tr a-z A-Z")
	launch.git("gauge", "config", "filter.up.clean", "tr A-Z a-z")
	hook := filepath.Join(launch.home, "gauge/.git/hooks/post-merge")
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho \"$1\" >> ../merged\n"), 0o755))
	launch.ok("gauge", "", "project", "trust", "--yes")
	pier.write("gauge", map[string]string{".gitattributes": "*.up filter=up\n", "loud.up": "loud\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Loud")
	launch.ok("gauge", "", "sync")
	data, err := os.ReadFile(filepath.Join(launch.home, "gauge/loud.up"))
	require.NoError(t, err)
	assert.Equal(t, "LOUD\n", string(data))
	assert.Empty(t, launch.git("gauge", "status", "--porcelain"))
	assert.FileExists(t, filepath.Join(launch.home, "merged"))

	// What is staged, and not touched by what comes in, stays staged.
	launch.write("gauge", map[string]string{"staged.txt": "s\n", "notes.txt": "unsaved\n"})
	launch.git("gauge", "add", "staged.txt")
	pier.write("gauge", map[string]string{"other.txt": "o\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Other")
	launch.ok("gauge", "", "sync")
	assert.Equal(t, "M notes.txt\nA  staged.txt", strings.TrimSpace(launch.git("gauge", "status", "--porcelain")))
	launch.git("gauge", "reset", "-q", "--hard")

	// A folder becomes a file, and a file a folder.
	pier.git("gauge", "rm", "-rq", "src")
	pier.write("gauge", map[string]string{"src": "a file now\n"})
	require.NoError(t, os.Remove(filepath.Join(pier.home, "gauge/notes.txt")))
	pier.write("gauge", map[string]string{"notes.txt/inside": "a folder now\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Otherwise")
	launch.ok("gauge", "", "sync")
	assert.Equal(t, tree(t, filepath.Join(pier.home, "gauge"))["notes.txt/inside"], tree(t, filepath.Join(launch.home, "gauge"))["notes.txt/inside"])
	assert.Empty(t, launch.git("gauge", "status", "--porcelain"))

	// From a folder inside, and with git's own work in between.
	launch.write("gauge/deep/down", map[string]string{"x": "x\n"})
	launch.ok("gauge/deep/down", "", "save", "From below")
	launch.git("gauge", "fetch", "-q")
	launch.git("gauge", "gc", "-q")
	launch.ok("gauge/deep/down", "", "sync")
	launch.git("gauge", "pull", "-q", "--ff-only")
	launch.git("gauge", "push", "-q")
}

// TestSubmodules holds that a repository inside is never moved where something in it would
// be lost, and that what is to be done is said.
func TestSubmodules(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	pier.project("part")
	pier.ok("part", "", "attach", "--yes")
	part := h.gitDir(t, "tern", "tern", "part")
	pier.git("gauge", "-c", "protocol.file.allow=always", "submodule", "add", "-q", part, "part")
	pier.git("gauge", "commit", "-q", "-m", "A part")
	pier.ok("gauge", "", "sync")
	r := launch.run("gauge", "", "sync")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "the submodule part was not brought here yet")
	assert.Contains(t, r.err, "uncinate sync --submodules")
	launch.git("gauge", "-c", "protocol.file.allow=always", "submodule", "update", "-q", "--init", "--", "part")
	launch.git("gauge", "config", "submodule.recurse", "true")

	// It moves there; here it follows where nothing is lost.
	pier.write("part", map[string]string{"more.txt": "m\n"})
	pier.ok("part", "", "sync", "--save", "--message", "More")
	pier.git("gauge/part", "fetch", "-q")
	pier.git("gauge/part", "checkout", "-q", "origin/main")
	pier.ok("gauge", "", "save", "The newer part")
	pier.ok("gauge", "", "sync")
	launch.git("", "config", "--global", "protocol.file.allow", "always")
	r = launch.run("gauge", "", "sync")
	require.Equal(t, 0, r.code, r.err)
	assert.NotContains(t, r.err, "is at another commit")
	assert.Equal(t, pier.id("gauge/part", "HEAD"), launch.id("gauge/part", "HEAD"))

	// With work in it that is nowhere else, it stays.
	launch.write("gauge/part", map[string]string{"mine.txt": "m\n"})
	pier.git("gauge/part", "checkout", "-q", "HEAD~1")
	pier.ok("gauge", "", "save", "The older part")
	pier.ok("gauge", "", "sync")
	here := launch.id("gauge/part", "HEAD")
	r = launch.run("gauge", "", "sync")
	assert.Contains(t, r.err, "is at another commit")
	assert.Equal(t, here, launch.id("gauge/part", "HEAD"))
	assert.FileExists(t, filepath.Join(launch.home, "gauge/part/mine.txt"))
}

// TestSyncWhileTheHostFails holds that what was saved stays, and is said, whatever the host does.
func TestSyncWhileTheHostFails(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	launch.write("gauge", map[string]string{"mine.txt": "m\n"})
	require.NoError(t, h.Faults.Set([]string{"lose on GET"}))
	r := launch.run("gauge", "", "sync", "--save", "--message", "Mine")
	assert.NotEqual(t, 0, r.code)
	assert.Contains(t, r.err, "Saved before that: commit ")
	assert.Empty(t, launch.git("gauge", "status", "--porcelain"))
	require.NoError(t, h.Faults.Set(nil))
	assert.Contains(t, launch.ok("gauge", "", "sync", "--save", "--message", "Mine"), "Sent 1 commit")

	// Somebody else sends between our look and our sending: told so, and the next one does it.
	pier.ok("gauge", "", "sync")
	hook := filepath.Join(launch.home, "gauge/.git/hooks/pre-push")
	pier.write("gauge", map[string]string{"late.txt": "l\n"})
	pier.git("gauge", "add", "-A")
	pier.git("gauge", "commit", "-q", "-m", "Late")
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\nrm \"$0\"\ngit --git-dir="+filepath.Join(pier.home, "gauge/.git")+" push -q "+h.gitDir(t, "tern", "saltmarsh", "gauge")+" main\n"), 0o755))
	launch.write("gauge", map[string]string{"two.txt": "2\n"})
	launch.ok("gauge", "", "project", "trust", "--yes")
	said := launch.refused(3, []string{"was pushed to by someone else meanwhile", "uncinate sync"}, "gauge", "", "sync", "--save", "--message", "Two")
	assert.NotContains(t, said, "Nothing changed, on both sides")
	assert.Contains(t, launch.ok("gauge", "", "sync"), "on top of it")
	assert.Equal(t, "Two\nLate", launch.git("gauge", "log", "-2", "--format=%s"))

	// A tie of the host refuses: what was received stays.
	bare := h.gitDir(t, "tern", "saltmarsh", "gauge")
	require.NoError(t, os.MkdirAll(filepath.Join(bare, "hooks"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(bare, "hooks/pre-receive"), []byte("#!/bin/sh\necho no room >&2\nexit 1\n"), 0o755))
	launch.write("gauge", map[string]string{"three.txt": "3\n"})
	launch.refused(1, []string{"did not take the work", "no room"}, "gauge", "", "sync", "--save", "--message", "Three")
	require.NoError(t, os.Remove(filepath.Join(bare, "hooks/pre-receive")))
	assert.Contains(t, launch.ok("gauge", "", "sync"), "Sent 1 commit")
}

// TestStatusOfOne tells what is nowhere but here.
func TestStatusOfOne(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	_, launch, _ := shared(t, h)
	launch.git("gauge", "switch", "-q", "-c", "task")
	launch.git("gauge", "commit", "-q", "--allow-empty", "-m", "Task")
	launch.git("gauge", "switch", "-q", "main")
	launch.git("gauge", "branch", "sent-too")
	launch.write("gauge", map[string]string{"notes.txt": "put aside\n"})
	launch.git("gauge", "stash", "-q")
	launch.write("gauge", map[string]string{"fresh.txt": "f\n"})
	out := launch.ok("gauge", "", "status")
	assert.Contains(t, out, "1 new file; not saved yet")
	assert.Contains(t, out, `Next: uncinate save --message "What was done"`)
	assert.Contains(t, out, "branches task; 1 change stashed")
	assert.NotContains(t, out, "sent-too")
	launch.ok("gauge", "", "save", "Fresh")
	launch.ok("gauge", "", "save", "--reword", "Fresher")
	out = launch.ok("gauge", "", "status")
	assert.Contains(t, out, "1 commit not sent")
	assert.Contains(t, out, "1 rescue copy: uncinate rescue list")
	assert.Contains(t, out, "Next: uncinate sync")

	// A clock that is far off changes what ages are said, and nothing else.
	later := time.Now().AddDate(0, 0, -400)
	for _, path := range []string{"gauge/.git/FETCH_HEAD", "gauge/.git/uncinate/asked"} {
		if _, err := os.Stat(filepath.Join(launch.home, path)); err == nil {
			require.NoError(t, os.Chtimes(filepath.Join(launch.home, path), later, later))
		}
	}
	assert.Contains(t, launch.ok("", "", "status", "--all", "--offline"), "400 days")
	future := time.Now().AddDate(5, 0, 0)
	for _, path := range []string{"gauge/.git/uncinate/asked", "gauge/README.md", "gauge/.git/index"} {
		require.NoError(t, os.Chtimes(filepath.Join(launch.home, path), future, future))
	}
	assert.Contains(t, launch.ok("", "", "status", "--all", "--offline"), "just now")
	assert.Contains(t, launch.ok("gauge", "", "sync"), "Sent 1 commit")

	// On an unborn branch, and with no branch.
	launch.git("", "init", "-q", "-b", "main", "fresh")
	launch.refused(3, []string{"is not attached"}, "fresh", "", "sync")
	launch.git("gauge", "checkout", "-q", "--detach")
	launch.refused(3, []string{"no branch is checked out", "uncinate branch make NAME --switch"}, "gauge", "", "sync")
	assert.Contains(t, launch.ok("gauge", "", "changes"), "Nothing differs")
	assert.Contains(t, fmt.Sprint(launch.run("", "", "status", "--all").out), "gauge")
}
