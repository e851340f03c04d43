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

// lookedAt has a branch survey on pier and on the host, to which launch sends once more unseen.
func lookedAt(t *testing.T) (h *host, pier, launch *machine, dir, theirs string) {
	h = newHost(t)
	pier, launch, _ = shared(t, h)
	dir = h.gitDir(t, "tern", "saltmarsh", "gauge")
	pier.ok("gauge", "", "branch", "make", "survey", "--publish")
	launch.ok("gauge", "", "sync")
	launch.ok("gauge", "", "branch", "switch", "survey")
	launch.write("gauge", map[string]string{"late.txt": "theirs\n"})
	launch.ok("gauge", "", "sync", "--save", "--message", "Late")
	return h, pier, launch, dir, launch.id("gauge", "HEAD")
}

// TestBranchesThatOthersSentTo renames and removes branches to which others sent unseen, and
// renames onto one of another story: nothing of theirs goes.
func TestBranchesThatOthersSentTo(t *testing.T) {
	t.Parallel()
	_, pier, _, dir, theirs := lookedAt(t)
	said := pier.refused(3, []string{"the branch survey on the host holds commits that yours does not have", "uncinate branch switch survey && uncinate sync"}, "gauge", "", "branch", "rename", "survey", "count", "--yes")
	assert.Contains(t, said, "Nothing changed")
	assert.Equal(t, theirs, pier.git(dir, "rev-parse", "survey"))
	pier.git("gauge", "rev-parse", "--verify", "refs/heads/survey")
	pier.refused(1, []string{"there is no branch nowhere"}, "gauge", "", "branch", "rename", "nowhere", "main", "--yes")
	pier.git("gauge", "branch", "own")
	pier.git("gauge", "branch", "-m", "survey", "aside")
	pier.refused(1, []string{"there is no branch survey"}, "gauge", "", "branch", "rename", "survey", "own", "--yes")
	assert.Equal(t, theirs, pier.git(dir, "rev-parse", "survey"))
	pier.git("gauge", "branch", "-m", "aside", "survey")

	assert.Contains(t, pier.ok("gauge", "", "branch", "remove", "survey", "--preview"), "1 commit of it is in no other branch")
	r := pier.run("gauge", "", "branch", "remove", "survey", "--yes")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "kept as rescue copy 1")
	assert.NotContains(t, pier.git(dir, "for-each-ref", "--format=%(refname:short)"), "survey")
	pier.git("gauge", "reflog", "expire", "--expire=now", "--all")
	pier.git("gauge", "gc", "-q", "--prune=now")
	pier.ok("gauge", "", "rescue", "bring", "1", "--as", "back")
	assert.Contains(t, pier.git("gauge", "rev-list", "--branches", "back"), theirs)
}

// TestMakeBranchLooksWhereItGoes makes a branch elsewhere and switches to it, where ignored files
// and new ones of the person's are in the way.
func TestMakeBranchLooksWhereItGoes(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, _, _ := shared(t, h)
	pier.git("gauge", "switch", "-q", "-c", "logs")
	pier.write("gauge", map[string]string{"tide.log": "theirs\n", "new.txt": "theirs\n"})
	pier.git("gauge", "add", "-f", "-A")
	pier.git("gauge", "commit", "-q", "-m", "Logs")
	pier.git("gauge", "switch", "-q", "main")
	pier.write("gauge", map[string]string{"tide.log": "mine\n", "new.txt": "mine\n"})
	pier.refused(3, []string{"1 file here would be written over", "new.txt"}, "gauge", "", "branch", "make", "count", "--from", "logs", "--switch")
	assert.NotContains(t, pier.git("gauge", "for-each-ref"), "count")
	require.NoError(t, os.Remove(filepath.Join(pier.home, "gauge/new.txt")))
	r := pier.run("gauge", "", "branch", "make", "count", "--from", "logs", "--switch")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "rescue copy 1")
	assert.Equal(t, "mine\n", pier.ok("gauge", "", "rescue", "show", "1", "tide.log"))
	assert.Equal(t, "count", pier.git("gauge", "branch", "--show-current"))
}

// TestBranchWorkGoesOn kills the work on branches at every third run of git, with UNCINATE_SOAK
// at every one, and does it once more.
func TestBranchWorkGoesOn(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, _, _ := shared(t, h)
	dir := h.gitDir(t, "tern", "saltmarsh", "gauge")
	folder := []string{"--folder", filepath.Join(pier.home, "gauge")}
	soak := os.Getenv("UNCINATE_SOAK") != ""
	step := map[bool]int{true: 1, false: 3}[soak]
	for name, line := range map[string][]string{
		"make":   {"branch", "make", "N-new", "--publish", "--switch"},
		"rename": {"branch", "rename", "N-old", "N-new", "--yes"},
		"remove": {"branch", "remove", "N-old", "--yes"},
	} {
		for n := 1; branchWorkGoesOn(t, pier, dir, name, fmt.Sprint(name, n), line, func(words ...string) bool { return pier.killAfter(n, append(words, folder...)...) }); n += step {
		}
		for _, all := range []bool{false, true} { // the same, by the clock
			for n := 1; soak && branchWorkGoesOn(t, pier, dir, name, fmt.Sprintf("%s-%v-%d", name, all, n), line, func(words ...string) bool {
				return pier.killAfterTime("gauge", time.Duration(n)*4*time.Millisecond, all, words...)
			}); n++ {
			}
		}
	}
}

// branchWorkGoesOn kills a command about branches, which N- in its line is put in front of, and runs it
// again; false where it had ended before.
func branchWorkGoesOn(t *testing.T, pier *machine, dir, name, mark string, line []string, kill func(words ...string) bool) bool {
	t.Helper()
	pier.git("gauge", "switch", "-q", "main")
	pier.git("gauge", "branch", mark+"-old")
	pier.git("gauge", "push", "-q", "-u", "origin", mark+"-old")
	words := strings.Fields(strings.ReplaceAll(strings.Join(line, " "), "N-", mark+"-"))
	killed := kill(words...)
	pier.free()
	if killed {
		left, err := filepath.Glob(filepath.Join(pier.home, ".uncinate/state/journal/*.journal"))
		require.NoError(t, err)
		again := pier.run("gauge", "", append(words, "--folder", filepath.Join(pier.home, "gauge"))...)
		if len(left) > 0 { // otherwise it had not begun, or had come to its end
			require.Equal(t, 0, again.code, "%s, killed, %v left: %s", mark, left, again.err)
		}
	}
	for _, refs := range []string{pier.git("gauge", "for-each-ref", "--format=%(refname)", "refs/heads/"), pier.git(dir, "for-each-ref", "--format=%(refname)", "refs/heads/")} {
		assert.Equal(t, name != "remove", strings.Contains(refs, "refs/heads/"+mark+"-new"), fmt.Sprint(mark, refs))
		assert.Equal(t, name == "make", strings.Contains(refs, "refs/heads/"+mark+"-old"), fmt.Sprint(mark, refs))
	}
	return killed
}

// TestRemovedDefaultBranch removes, on the host, the branch that was its default one when it was
// last looked at.
func TestRemovedDefaultBranch(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	pier.ok("gauge", "", "branch", "make", "deck", "--publish")
	launch.ok("gauge", "", "sync")
	pier.ok("", "", "repository", "change", "saltmarsh/gauge", "--default-branch", "deck", "--yes")
	launch.refused(4, []string{"deck is the default branch on the host"}, "gauge", "", "branch", "remove", "deck", "--yes")
	launch.ok("gauge", "", "branch", "switch", "deck")
	launch.ok("gauge", "", "branch", "remove", "main", "--yes")
	assert.Equal(t, "refs/remotes/origin/deck", launch.git("gauge", "symbolic-ref", "refs/remotes/origin/HEAD"))
	assert.NotContains(t, launch.git("gauge", "fsck"), "invalid")
}

// TestDetachKeepsWhatOnlyGitKnew detaches a copy that knows a branch which the host has no more.
func TestDetachKeepsWhatOnlyGitKnew(t *testing.T) {
	t.Parallel()
	_, pier, launch, _, theirs := lookedAt(t)
	pier.ok("gauge", "", "sync")
	launch.ok("gauge", "", "branch", "switch", "main")
	launch.ok("gauge", "", "branch", "remove", "survey", "--yes")
	r := pier.run("gauge", "", "detach", "--yes")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "kept as rescue copy 1")
	pier.git("gauge", "gc", "-q", "--prune=now")
	assert.Contains(t, pier.ok("gauge", "", "rescue", "show", "1"), theirs[:10])
}

// TestDetachKeepsWhatTheHostHadOnce overwrites another one's commit on the host by plain git: only the log
// of what git knew of the host's branch tells of it then.
func TestDetachKeepsWhatTheHostHadOnce(t *testing.T) {
	t.Parallel()
	_, pier, launch := pair(t)
	pier.saved("main", "datum")
	theirs := pier.id("gauge", "HEAD")
	launch.git("gauge", "fetch", "-q")
	launch.git("gauge", "push", "-q", "--force", "origin", "HEAD")
	launch.ok("gauge", "", "detach", "--yes")
	launch.git("gauge", "reflog", "expire", "--expire=now", "--all")
	launch.git("gauge", "gc", "-q", "--prune=now")
	assert.Contains(t, launch.ok("gauge", "", "rescue", "show", "1"), theirs[:10])
	launch.ok("gauge", "", "rescue", "bring", "1", "--as", "theirs")
	assert.Equal(t, theirs, launch.id("gauge", "theirs"))
}

// TestAnotherChangeIsFinishedFirst kills a rename between its steps; what is tried then names the
// line that finishes it.
func TestAnotherChangeIsFinishedFirst(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, _, _ := shared(t, h)
	pier.ok("gauge", "", "branch", "make", "survey", "--publish")
	pier.ok("gauge", "", "branch", "make", "other")
	require.True(t, pier.killWhen("gauge", func(journal []byte) bool { return strings.Contains(string(journal), `"step":"send","mark":"begun"`) }, "branch", "rename", "survey", "count", "--yes"))
	pier.free()
	said := pier.refused(3, []string{"another change was cut off here"}, "gauge", "", "branch", "remove", "other", "--yes")
	r := pier.pasted("", strings.ReplaceAll(said, "--folder", "--yes --folder"))
	require.Equal(t, 0, r.code, r.out)
	pier.ok("gauge", "", "branch", "remove", "other", "--yes")
	assert.NotContains(t, pier.git("gauge", "for-each-ref"), "survey")
}

// TestBranchesOfOtherWorkTrees holds that a branch which is checked out in another work tree is
// neither removed nor checked out twice, and that where is said.
func TestBranchesOfOtherWorkTrees(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, _, _ := shared(t, h)
	pier.git("gauge", "worktree", "add", "-q", "../gauge-tree", "-b", "task")
	for _, args := range [][]string{{"branch", "remove", "task", "--yes"}, {"branch", "switch", "task"}} {
		pier.refused(3, []string{"task is checked out in another work tree, " + pier.home + "/gauge-tree", "worktree remove -- "}, "gauge", "", args...)
	}
	pier.refused(3, []string{"main is checked out in another work tree, " + pier.home + "/gauge."}, "gauge-tree", "", "branch", "switch", "main")
	pier.git("gauge", "worktree", "remove", "--", pier.home+"/gauge-tree")
	pier.ok("gauge", "", "branch", "switch", "task")
}
