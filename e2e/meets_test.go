package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// TestSyncMeets goes through what a copy may meet on its host.
func TestSyncMeets(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)

	// The history was rewritten there, and nothing of one's own is on top: with a yes.
	first := launch.id("gauge", "HEAD")
	pier.write("gauge", map[string]string{"README.md": "# rewritten\n"})
	pier.git("gauge", "commit", "-q", "-a", "--amend", "-m", "Begin again")
	pier.git("gauge", "push", "-q", "--force")
	launch.write("gauge", map[string]string{"notes.txt": "being written\n"})
	launch.refused(3, []string{"The history of main was rewritten on the host: 1 commit that it held before is no longer in it", "there is no terminal to ask on", "uncinate sync --yes"}, "gauge", "", "sync")
	assert.Equal(t, first, launch.id("gauge", "HEAD"))
	pier.write("gauge", map[string]string{"after.txt": "after\n"}) // the host goes on since: still with a yes
	pier.ok("gauge", "", "sync", "--save", "--message", "Go on")
	launch.refused(3, []string{"The history of main was rewritten on the host: 1 commit that it held before"}, "gauge", "", "sync")
	assert.Equal(t, first, launch.id("gauge", "HEAD"))
	said := launch.ok("gauge", "", "sync", "--yes")
	assert.Contains(t, said, "Took the branch as rewritten on the host")
	assert.Contains(t, said, "Not saved yet: 1 changed file.")
	assert.Equal(t, pier.id("gauge", "HEAD"), launch.id("gauge", "HEAD"))
	said = launch.ok("gauge", "", "rescue", "list")
	assert.Contains(t, said, "sync (the host's old branch)")
	assert.Contains(t, said, "origin/main at "+first[:10])
	launch.git("gauge", "checkout", "-q", "notes.txt")

	// The same, with a commit of one's own on top: only that one is put onto the new history.
	launch.write("gauge", map[string]string{"own.txt": "own\n"})
	launch.ok("gauge", "", "save", "Write own")
	pier.git("gauge", "commit", "-q", "--amend", "-m", "Go on again")
	pier.git("gauge", "push", "-q", "--force")
	launch.ok("gauge", "", "sync", "--yes")
	assert.Equal(t, "Write own\nGo on again\nBegin again", launch.git("gauge", "log", "--format=%s"))
	assert.Equal(t, launch.id("gauge", "HEAD"), launch.id("gauge", "origin/main"))
	pier.ok("gauge", "", "sync")

	// An ignored file in the way is kept as a copy; a folder of such files too.
	pier.write("gauge", map[string]string{"tide.log": "theirs\n", "deep.log/x": "theirs\n", "out/a.txt": "theirs\n"})
	pier.git("gauge", "add", "-f", "tide.log", "deep.log/x", "out")
	pier.git("gauge", "commit", "-q", "-m", "Take the logs in")
	pier.ok("gauge", "", "sync")
	launch.write("gauge", map[string]string{"tide.log": "mine\n", "deep.log": "mine too\n", "out/a.txt": "theirs\n"})
	assert.Contains(t, launch.ok("gauge", "", "sync", "--preview"), "Keep a rescue copy of 3 files in the way")
	said = launch.ok("gauge", "", "sync")
	assert.Empty(t, launch.git("gauge", "status", "--porcelain"))
	assert.Contains(t, said, "rescue copy 5")
	assert.Equal(t, "mine\n", launch.ok("gauge", "", "rescue", "show", "5", "tide.log"))
	launch.refused(3, []string{"2 files of the copy would overwrite", "uncinate rescue bring 5 --into rescued-5"}, "gauge", "", "rescue", "bring", "5")
	launch.ok("gauge", "", "rescue", "bring", "5", "--into", "../back")
	assert.Equal(t, map[string]string{"tide.log": "---------- mine\n", "deep.log": "---------- mine too\n", "out/a.txt": "---------- theirs\n"}, tree(t, filepath.Join(launch.home, "back")))
	syncIsStopped(t, h, pier, launch)
}

// syncIsStopped meets what is in the way, a repository that moved and a branch that is called otherwise.
func syncIsStopped(t *testing.T, h *host, pier *machine, launch *machine) {
	t.Helper()
	// A new file in the way that is not ignored stops it.
	pier.write("gauge", map[string]string{"fresh.txt": "theirs\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Write fresh")
	launch.write("gauge", map[string]string{"fresh.txt": "mine\n"})
	launch.refused(3, []string{"1 file here would be written over", "fresh.txt", "uncinate sync --save --message 'What was done'"}, "gauge", "", "sync")
	require.NoError(t, os.Remove(filepath.Join(launch.home, "gauge/fresh.txt")))
	launch.ok("gauge", "", "sync")

	// A running program has a file open that is to be replaced.
	pier.write("gauge", map[string]string{"fresh.txt": "again\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Write it again")
	reader, err := os.Open(filepath.Join(launch.home, "gauge/fresh.txt"))
	require.NoError(t, err)
	launch.refused(3, []string{"has files open that would be replaced", "fresh.txt, by " + filepath.Base(os.Args[0]) + " (process "}, "gauge", "", "sync")
	require.NoError(t, reader.Close())
	launch.ok("gauge", "", "sync")

	// Renamed there, and given to another owner: followed with a yes.
	for _, to := range []string{"saltmarsh/tide-gauge", "tern/tide-gauge"} {
		owner, name, _ := strings.Cut(to, "/")
		r := h.repoAt(t, launch.git("gauge", "remote", "get-url", "origin"))
		_, err = h.Store.Change(context.Background(), "tern", r.Owner, r.Name, 0, func(r *practice.Repo) error { r.Owner, r.Name = owner, name; return nil })
		require.NoError(t, err)
		launch.refused(3, []string{"The repository is called " + to + " now.", "uncinate sync --yes"}, "gauge", "", "sync")
		assert.Contains(t, launch.ok("gauge", "", "sync", "--yes"), "In step")
		assert.Equal(t, h.URL+"/"+to+".git", launch.git("gauge", "remote", "get-url", "origin"))
		launch.git("gauge", "fetch", "-q")
	}
	pier.ok("gauge", "", "sync", "--yes")
	syncMeetsOtherBranches(t, h, pier, launch)
}

// syncMeetsOtherBranches meets a default branch that is called otherwise, histories that were begun apart, and a right that was lost.
func syncMeetsOtherBranches(t *testing.T, h *host, pier *machine, launch *machine) {
	t.Helper()
	var err error
	// The default branch is called otherwise there, then the branch is simply gone.
	dir := h.gitDir(t, "tern", "tern", "tide-gauge")
	pier.git(dir, "branch", "-m", "main", "trunk")
	_, err = h.Store.Change(context.Background(), "tern", "tern", "tide-gauge", 0, func(r *practice.Repo) error { r.Default = "trunk"; return nil })
	require.NoError(t, err)
	pier.git(dir, "symbolic-ref", "HEAD", "refs/heads/trunk")
	head := launch.id("gauge", "HEAD")
	launch.refused(3, []string{"where trunk holds what it held", "uncinate branch rename main trunk --here"}, "gauge", "", "sync")
	assert.Equal(t, head, launch.id("gauge", "HEAD"))
	pier.git(dir, "branch", "-m", "trunk", "main")
	pier.git(dir, "symbolic-ref", "HEAD", "refs/heads/main")

	// Begun apart.
	pier.git("gauge", "checkout", "-q", "--orphan", "apart")
	pier.git("gauge", "commit", "-q", "-m", "Apart")
	pier.git("gauge", "branch", "-m", "other")
	pier.git("gauge", "push", "-q", "origin", "other")
	launch.git("gauge", "branch", "-m", "other")
	launch.refused(3, []string{"have no commit in common: they were begun apart", "uncinate attach --to"}, "gauge", "", "sync")
	launch.git("gauge", "branch", "-m", "main")

	// A project that only follows sends nothing.
	launch.write("gauge", map[string]string{"mine.txt": "m\n"})
	launch.ok("gauge", "", "save", "Mine")
	assert.Contains(t, launch.ok("gauge", "", "sync", "--in"), "Nothing new on the host")
	assert.Equal(t, "1\t0", launch.git("gauge", "rev-list", "--count", "--left-right", "HEAD...origin/main"))

	// A right that was lost, and a host that is gone.
	_, err = h.Store.Change(context.Background(), "tern", "tern", "tide-gauge", 0, func(r *practice.Repo) error { r.Owner = "dunlin"; return nil })
	require.NoError(t, err)
	launch.refused(5, []string{"there is no repository at"}, "gauge", "", "sync")
}

// repoAt finds the hosted repository that an address leads to.
func (h *host) repoAt(t *testing.T, address string) *practice.Repo {
	t.Helper()
	path := strings.Split(strings.TrimSuffix(strings.TrimPrefix(address, h.URL+"/"), ".git"), "/")
	r, err := h.Store.Find("tern", path[0], path[1])
	require.NoError(t, err)
	return r
}

// blobs lists every blob that the commits of some refs hold, HEAD's reflog left out.
func (m *machine) blobs(dir string, args ...string) map[string]bool {
	m.t.Helper()
	out := map[string]bool{}
	list := m.command(dir, "", "git", append([]string{"rev-list", "--objects", "--no-object-names"}, args...)...)
	require.Equal(m.t, 0, list.code, list.err)
	check := m.command(dir, list.out, "git", "cat-file", "--batch-check=%(objectname) %(objecttype)")
	for line := range strings.Lines(check.out) {
		if id, sort, _ := strings.Cut(strings.TrimSpace(line), " "); sort == "blob" {
			out[id] = true
		}
	}
	return out
}

// ledger knows every blob that was ever committed, or lay in a folder when a command began.
type ledger map[*machine]map[string]bool

// note adds what stands now; and holds that all from before is reachable still.
func (l ledger) note(t *testing.T, m *machine, after string) {
	t.Helper()
	if l[m] == nil {
		l[m] = map[string]bool{}
	}
	now := m.blobs("gauge", "--all")
	store := filepath.Join(m.home, "gauge/.git/uncinate/rescue.git")
	if _, err := os.Stat(store); err == nil {
		for id := range m.blobs(store, "--all") {
			now[id] = true
		}
		require.Empty(t, m.git(store, "fsck", "--no-progress", "--connectivity-only", "--no-dangling"))
	}
	files := strings.Join(append([]string{}, sortedFiles(t, filepath.Join(m.home, "gauge"))...), "\n")
	lying := strings.Fields(m.command("gauge", files, "git", "hash-object", "--no-filters", "--stdin-paths").out)
	there := map[string]bool{}
	for _, id := range lying {
		there[id] = true
	}
	for id := range l[m] {
		assert.True(t, now[id] || there[id], "after %s a blob is lost: %s", after, id)
	}
	for id := range now {
		l[m][id] = true
	}
	for id := range there {
		l[m][id] = true
	}
}

func sortedFiles(t *testing.T, top string) (out []string) {
	t.Helper()
	for name, text := range tree(t, top) {
		if !strings.HasPrefix(text, "link ") {
			out = append(out, name)
		}
	}
	return out
}

// TestNothingIsLost has three copies of two people work, plain git in between; after every
// command plain git does what its user expects, and no blob is lost.
func TestNothingIsLost(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, hut := shared(t, h)
	all := ledger{}
	everywhere := func(after string) {
		for _, m := range []*machine{pier, launch, hut} {
			all.note(t, m, after)
			require.Equal(t, 0, m.command("gauge", "", "git", "status", "--porcelain").code, after)
			require.Empty(t, m.git("gauge", "fsck", "--no-progress", "--connectivity-only", "--no-dangling"))
		}
	}
	everywhere("the beginning")
	does := func(m *machine, args ...string) {
		t.Helper()
		if args[0] == "git" {
			m.git("gauge", args[1:]...)
		} else {
			m.ok("gauge", "", args...)
		}
		everywhere(strings.Join(args, " "))
	}
	writes := func(m *machine, name, text string) {
		m.write("gauge", map[string]string{name: text})
		everywhere("writing " + name)
	}
	writes(pier, "plan.txt", "first\n")
	does(pier, "sync", "--save", "--message", "Plan")
	writes(hut, "side.txt", "knot's\n")
	does(hut, "sync", "--save", "--message", "Side") // replayed
	does(launch, "git", "pull", "-q")
	writes(launch, "plan.txt", "second\n")
	does(launch, "save", "Second")
	does(launch, "save", "--reword", "The second plan")
	does(launch, "git", "push", "-q")
	does(pier, "git", "pull", "-q", "--rebase")
	does(pier, "git", "commit", "-q", "--allow-empty", "--amend", "-m", "Rewritten")
	does(pier, "git", "push", "-q", "--force")
	writes(hut, "third.txt", "third, by knot\n")
	does(hut, "save", "Third")
	does(hut, "sync", "--yes") // theirs was rewritten, own on top
	writes(launch, "tide.log", "ignored, mine\n")
	does(launch, "sync", "--yes")
	writes(pier, "tide.log", "theirs\n")
	does(pier, "git", "add", "-f", "tide.log")
	does(pier, "git", "commit", "-q", "-m", "The log")
	does(pier, "sync") // replayed over knot's
	does(launch, "sync")
	worksOnAfterMoves(t, h, pier, launch, hut, does, writes)
}

// worksOnAfterMoves goes on while the repository is renamed and given away.
func worksOnAfterMoves(t *testing.T, h *host, pier *machine, launch *machine, hut *machine, does func(m *machine, args ...string), writes func(m *machine, name string, text string)) {
	t.Helper()
	_, err := h.Store.Change(context.Background(), "tern", "saltmarsh", "gauge", 0, func(r *practice.Repo) error { r.Name = "gauges"; return nil })
	require.NoError(t, err)
	for _, m := range []*machine{pier, launch, hut} {
		does(m, "sync", "--yes")
	}
	does(hut, "git", "push", "-q")
	writes(launch, "merged.txt", "m\n")
	does(launch, "save", "To be merged")
	writes(hut, "other.txt", "o\n")
	does(hut, "sync", "--save", "--message", "Other")
	does(launch, "sync", "--by", "merge")
	does(pier, "sync")
	_, err = h.Store.Change(context.Background(), "tern", "saltmarsh", "gauges", 0, func(r *practice.Repo) error {
		r.Owner, r.People = "tern", map[string]int{"knot": 2} // given to tern, and knot may write still
		return nil
	})
	require.NoError(t, err)
	writes(launch, "fourth.txt", "fourth\n")
	does(launch, "git", "mv", "plan.txt", "plans.txt")
	does(launch, "save", "Rename the plan")
	does(hut, "git", "mv", "side.txt", "aside.txt")
	for _, m := range []*machine{launch, hut, pier} {
		assert.Contains(t, m.ok("gauge", "", "status"), "the repository is now called tern/gauges")
		does(m, "sync", "--save", "--message", "Go on", "--yes")
		assert.Equal(t, h.URL+"/tern/gauges.git", m.git("gauge", "remote", "get-url", "origin"))
	}
	does(launch, "sync")
	does(launch, "git", "tag", "1.0.0")
	does(launch, "git", "push", "-q", "origin", "1.0.0")
	does(hut, "sync")
	assert.Equal(t, launch.id("gauge", "1.0.0"), hut.id("gauge", "1.0.0"))
	for _, m := range []*machine{pier, launch, hut} {
		m.ok("gauge", "", "sync")
		assert.Equal(t, launch.id("gauge", "HEAD"), m.id("gauge", "HEAD"))
		assert.Contains(t, m.git("gauge", "status", "-sb"), "## main...origin/main")
		assert.NotContains(t, m.git("gauge", "status", "-sb"), "ahead")
	}
}

// TestSyncKilled kills a sync that saves, replays, writes and sends at every boundary, and
// git within it, and holds that the next one ends where it would have ended.
func TestSyncKilled(t *testing.T) {
	t.Parallel()
	linux(t)
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	kills, rounds := 0, 24
	if os.Getenv("UNCINATE_SOAK") != "" {
		rounds = 80
	}
	for n := range rounds {
		pier.ok("gauge", "", "sync")
		pier.write("gauge", map[string]string{"theirs.txt": fmt.Sprint(n), "deep/" + fmt.Sprint(n): "x\n", "tide.log": fmt.Sprint("theirs ", n)})
		for i := range 30 {
			pier.write("gauge", map[string]string{fmt.Sprintf("many/%d.txt", i): strings.Repeat(fmt.Sprint(n, " "), 500)})
		}
		pier.git("gauge", "add", "-A", "-f")
		pier.git("gauge", "commit", "-q", "-m", fmt.Sprint("Theirs ", n))
		pier.ok("gauge", "", "sync")
		launch.write("gauge", map[string]string{"mine.txt": fmt.Sprint("mine ", n)})
		own := fmt.Sprint("Mine ", n)
		launch.write("gauge", map[string]string{"unsaved.txt": fmt.Sprint("unsaved ", n)})
		all := ledger{}
		all.note(t, launch, "before")
		killed := false
		if n%2 == 0 {
			killed = launch.killWhen("gauge", func(journal []byte) bool { return bytes.Count(journal, []byte("\n")) > n/2 }, "sync", "--save", "--message", own)
		} else {
			killed = launch.killsGit("gauge", n/2, "sync", "--save", "--message", own)
		}
		if killed {
			kills++
		}
		launch.free()
		all.note(t, launch, "being killed")
		said := launch.ok("gauge", "", "sync", "--save", "--message", own)
		all.note(t, launch, "going on")
		assert.Contains(t, said, "In step")
		assert.Empty(t, launch.git("gauge", "status", "--porcelain"), "%d", n)
		assert.Equal(t, fmt.Sprintf("Mine %d\nTheirs %d", n, n), launch.git("gauge", "log", "-2", "--format=%s"))
		assert.Equal(t, launch.id("gauge", "HEAD"), launch.id("gauge", "origin/main"))
		data, err := os.ReadFile(filepath.Join(launch.home, "gauge/unsaved.txt"))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint("unsaved ", n), string(data))
	}
	t.Logf("%d of %d runs were killed before their end", kills, rounds)
	assert.Greater(t, kills, rounds/3)
}

// killsGit runs the program with a git that kills its caller, and itself, after so many runs.
func (m *machine) killsGit(dir string, after int, args ...string) bool {
	m.t.Helper()
	real, err := exec.LookPath("git")
	require.NoError(m.t, err)
	bin := m.t.TempDir()
	count := filepath.Join(bin, "count")
	script := fmt.Sprintf("#!/bin/sh\necho x >> %s\nif [ $(wc -l < %s) -ge %d ]; then case \"$1\" in read-tree|update-ref|commit-tree|commit|add|fetch|push) kill -9 $PPID $$;; esac; fi\nexec %s \"$@\"\n", count, count, 8+after*2, real)
	require.NoError(m.t, os.WriteFile(filepath.Join(bin, "git"), []byte(script), 0o755))
	was := m.env
	m.env = append(was[:len(was):len(was)], "PATH="+bin+":"+os.Getenv("PATH"))
	r := m.run(dir, "", args...)
	m.env = was
	return r.code == -1
}

// TestRescueFromAPartOfTheHistory holds that copies are made, and come back, where only a
// part of the history was received, and in a work tree beside the first.
func TestRescueFromAPartOfTheHistory(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	for i := range 4 {
		pier.write("gauge", map[string]string{"notes.txt": fmt.Sprint("note ", i, "\n")})
		pier.ok("gauge", "", "sync", "--save", "--message", fmt.Sprint("Note ", i))
	}
	launch.ok("", "", "clone", "saltmarsh/gauge", "shallow", "--depth", "2")
	launch.ok("", "", "clone", "saltmarsh/gauge", "partial", "--partial")
	launch.ok("gauge", "", "sync")
	launch.git("gauge", "worktree", "add", "-q", "-b", "side", "../beside")
	launch.git("beside", "push", "-q", "-u", "origin", "side")
	for i, dir := range []string{"shallow", "partial", "gauge"} {
		pier.write("gauge", map[string]string{"other.txt": dir})
		pier.ok("gauge", "", "sync", "--save", "--message", "For "+dir)
		own := fmt.Sprintf("own-%d.txt", i)
		launch.write(dir, map[string]string{own: "o\n"})
		launch.ok(dir, "", "save", "Own")
		was := launch.id(dir, "HEAD")
		assert.Contains(t, launch.ok(dir, "", "sync"), "on top of ")
		launch.git(dir, "reflog", "expire", "--expire=now", "--all")
		launch.ok(dir, "", "rescue", "bring", "1", "--as", "back")
		assert.Equal(t, was, launch.id(dir, "back"), dir)
		assert.Contains(t, launch.git(dir, "ls-tree", "--name-only", "back"), own)
		pier.ok("gauge", "", "sync")
	}
	launch.write("beside", map[string]string{"beside.txt": "b\n"})
	launch.ok("beside", "", "save", "Beside")
	launch.ok("beside", "", "save", "--reword", "Beside it")
	assert.Contains(t, launch.ok("beside", "", "rescue", "list"), "save --reword")
	assert.Contains(t, launch.ok("gauge", "", "rescue", "list"), "save --reword", "both share the repository, and its copies")
}
