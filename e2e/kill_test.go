package e2e

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"uncinate/internal/practice"
)

// killWhen runs the program and kills it with SIGKILL, it alone and not the runs of git
// that it started, as soon as when says so; false when it ended before that. when gets
// the journal as it is.
func (m *machine) killWhen(dir string, when func(journal []byte) bool, args ...string) bool {
	m.t.Helper()
	c := exec.Command(program, args...)
	c.Dir, c.Env = filepath.Join(m.home, dir), m.env
	require.NoError(m.t, c.Start())
	ended := make(chan struct{})
	go func() {
		_ = c.Wait() // how it ended is asked of its state
		close(ended)
	}()
	for {
		select {
		case <-ended:
			return false
		default:
		}
		if found, _ := filepath.Glob(filepath.Join(m.home, ".uncinate/state/journal/*.journal")); len(found) == 1 {
			data, err := os.ReadFile(found[0])
			if err == nil && when(data) {
				_ = c.Process.Kill()
				<-ended
				data, err = os.ReadFile(found[0])
				finished := err != nil || bytes.Contains(data, []byte(`"step":"verify","mark":"done"`))
				return c.ProcessState.Sys().(syscall.WaitStatus).Signaled() && !finished
			}
		}
		time.Sleep(100 * time.Microsecond)
	}
}

// killAt kills as soon as the journal holds n lines.
func (m *machine) killAt(dir string, n int, args ...string) bool {
	m.t.Helper()
	return m.killWhen(dir, func(journal []byte) bool { return bytes.Count(journal, []byte("\n")) >= n }, args...)
}

// free waits until the runs of git that a killed program left behind have ended: they
// keep its lock.
func (m *machine) free() {
	m.t.Helper()
	require.Eventually(m.t, func() bool {
		locks, err := filepath.Glob(filepath.Join(m.home, ".uncinate/state/locks/*.lock"))
		require.NoError(m.t, err)
		for _, path := range locks {
			f, err := os.Open(path)
			require.NoError(m.t, err)
			held := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil
			require.NoError(m.t, f.Close())
			if held {
				return false
			}
		}
		return true
	}, 20*time.Second, 5*time.Millisecond)
}

// begin prepares a project in one of the states that a folder can be in.
func (m *machine) begin(name, state string) {
	m.t.Helper()
	if state == "empty" {
		require.NoError(m.t, os.Mkdir(filepath.Join(m.home, name), 0o755))
		return
	}
	m.project(name)
	m.write(name, map[string]string{".gitignore": "# mine\n", "src/level.o": "object", "build/level.o": "object"})
	switch state {
	case "unborn":
		m.git(name, "init", "-q", "-b", "trunk")
		m.git(name, "add", "README.md")
	case "older", "branches":
		m.git(name, "init", "-q", "-b", "main")
		m.git(name, "config", "user.name", "T")
		m.git(name, "config", "user.email", "t@skerry.example")
		m.git(name, "add", "README.md")
		was := m.env
		m.env = append(was[:len(was):len(was)], "GIT_AUTHOR_DATE=2025-03-01T09:00:00Z", "GIT_COMMITTER_DATE=2025-03-01T09:00:00Z")
		m.git(name, "commit", "-q", "-m", "One")
		m.env = was
	}
	if state == "branches" {
		m.git(name, "branch", "side")
		m.git(name, "tag", "v1")
	}
}

// whole is all that "as it was" covers: contents, names, modes, git's configuration,
// index, branches.
func (m *machine) whole(name string) map[string]string {
	m.t.Helper()
	seen := tree(m.t, filepath.Join(m.home, name))
	if _, err := os.Stat(filepath.Join(m.home, name, ".git")); err != nil {
		return seen
	}
	config, err := os.ReadFile(filepath.Join(m.home, name, ".git/config"))
	require.NoError(m.t, err)
	seen["config"] = string(config)
	seen["index"], seen["refs"], seen["head"] = m.gitState(name)
	return seen
}

func TestDetachAFinishedAttach(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.begin("gauge", "older")
	before := m.whole("gauge")
	m.ok("gauge", "", "attach", "--yes")
	assert.Contains(t, m.ok("gauge", "", "detach", "--preview"), "Files, commits and the hosted repository stay")
	m.refused(3, []string{"there is no terminal to ask on", "uncinate detach --yes"}, "gauge", "", "detach")
	m.ok("gauge", "", "detach", "--yes")
	after := m.whole("gauge")
	for _, key := range []string{"README.md", "index", "head", ".gitignore"} {
		assert.Equal(t, before[key], after[key], key)
	}
	assert.NotContains(t, after["config"], "remote")
	assert.NotContains(t, after["config"], "include")
	assert.Len(t, h.Store.List("tern", ""), 1)
	m.refused(3, []string{"is not attached to anything"}, "gauge", "", "detach", "--yes")
	m.refused(3, []string{"is not attached to a repository yet", "uncinate attach"}, "gauge", "", "sync")
	m.ok("gauge", "", "attach", "--yes", "--to", "gauge")
}

func TestDetachLosesNoWork(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	interrupted := func(name string) {
		m.begin(name, "plain")
		require.True(t, m.killAt(name, 14, "attach", "--yes"), "it was quicker than the test")
		m.free()
	}
	interrupted("worked-on")
	m.refused(3, []string{"an attach of " + filepath.Join(m.home, "worked-on") + " was cut off, and is not finished", "uncinate attach", "uncinate detach"}, "worked-on", "", "sync")
	assert.Contains(t, m.run("worked-on", "", "save", "X", "--preview").err, "Note: an attach of this project was cut off")
	m.write("worked-on", map[string]string{"more": "x"})
	m.git("worked-on", "add", "-A")
	m.git("worked-on", "commit", "-q", "-m", "More")
	m.refused(3, []string{"work went on here", "uncinate attach", "--remote-only"}, "worked-on", "", "detach", "--yes")
	m.ok("worked-on", "", "attach", "--yes")

	interrupted("ignored")
	path := filepath.Join(m.home, "ignored/.gitignore")
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, append(data, "# my own later line\n"...), 0o644))
	m.ok("ignored", "", "detach", "--yes", "--keep-repository")
	data, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(data), "# my own later line")
	assert.NoDirExists(t, filepath.Join(m.home, "ignored/.git"))
}

// TestOrphansKeepTheFolder kills attach while git sends: the run of git that is left
// behind keeps others out until it ends.
func TestOrphansKeepTheFolder(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	require.NoError(t, h.Faults.Set([]string{"delay=3s on git-receive-pack"}))
	first := exec.Command(program, "attach", "--yes")
	first.Dir, first.Env = filepath.Join(m.home, "gauge"), m.env
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool { return len(h.Faults.Log()) > 0 }, 20*time.Second, 5*time.Millisecond)
	who := "another uncinate (process " + strconv.Itoa(first.Process.Pid) + ", or what it started) is working on"
	m.refused(1, []string{who, "uncinate status"}, "gauge", "", "attach", "--yes")
	require.NoError(t, first.Process.Kill())
	_ = first.Wait()
	m.refused(1, []string{who}, "gauge", "", "detach", "--yes")
	require.NoError(t, h.Faults.Set(nil))
	m.free()
	m.ok("gauge", "", "attach", "--yes")
	assert.Len(t, h.Store.List("tern", ""), 1)
}

// TestDetachWhereTheHostKeepsWhatWasSent meets a host that lets no default branch be
// deleted: what is here is put back, and the rest is said.
func TestDetachWhereTheHostKeepsWhatWasSent(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.begin("gauge", "plain")
	before := m.whole("gauge")
	_, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: "gauge", Visibility: "private"})
	require.NoError(t, err)
	dir := h.gitDir(t, "tern", "tern", "gauge")
	m.git(dir, "config", "receive.denyDeleteCurrent", "refuse")
	require.NoError(t, h.Faults.Set([]string{"cut on /deck/hull after 1"}))
	m.refused(6, []string{"the line was cut", "goes on from here"}, "gauge", "", "attach", "--yes", "--to", "gauge")
	require.NoError(t, h.Faults.Set(nil))
	r := m.run("gauge", "", "detach", "--preview")
	assert.Contains(t, r.out, "Take back what was sent to the hosted repository, which was empty before")
	r = m.run("gauge", "", "detach", "--yes")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "keeps the branch main")
	assert.Contains(t, r.err, "deletion of the current branch prohibited")
	assert.Equal(t, before, m.whole("gauge"))
	assert.NotEmpty(t, m.git(dir, "for-each-ref"))
}
