package e2e

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// cutOff lets an attach of a new project fail while it sends: all before it is done.
func cutOff(t *testing.T, m *machine, h *host, name string) {
	t.Helper()
	m.project(name)
	require.NoError(t, h.Faults.Set([]string{"cut on git-receive-pack"}))
	m.refused(1, []string{"goes on from here"}, name, "", "attach", "--yes", "--description", "Levels")
	require.NoError(t, h.Faults.Set(nil))
}

// cutOffAtCreate loses the answer to the creation and to each look after it.
func cutOffAtCreate(t *testing.T, m *machine, h *host, name string) {
	t.Helper()
	m.project(name)
	require.NoError(t, h.Faults.Set([]string{"cut on PATCH"}))
	m.refused(6, []string{"goes on from here"}, name, "", "attach", "--yes", "--description", "Levels")
	require.NoError(t, h.Faults.Set(nil))
}

func TestWhatHappensMeanwhile(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	change := func(name string, set func(*practice.Repo)) {
		_, err := h.Store.Change(context.Background(), "tern", "tern", name, 0, func(r *practice.Repo) error { set(r); return nil })
		require.NoError(t, err)
	}
	here := func(name, folder string) {
		t.Helper()
		r, err := h.Store.Find("tern", "tern", name)
		require.NoError(t, err)
		assert.Equal(t, m.git(folder, "rev-parse", "HEAD"), m.git(h.Store.GitDir(r.ID), "rev-parse", "main"))
	}

	t.Run("the hosted repository was deleted", func(t *testing.T) {
		m.t = t
		cutOffAtCreate(t, m, h, "deleted")
		require.NoError(t, h.Store.Delete("tern", "tern", "deleted", 0))
		m.ok("deleted", "", "attach", "--yes")
		here("deleted", "deleted")
	})
	t.Run("the hosted repository was renamed", func(t *testing.T) {
		m.t = t
		cutOffAtCreate(t, m, h, "renamed")
		change("renamed", func(r *practice.Repo) { r.Name = "other-name" })
		m.refused(3, []string{"is called tern/other-name now", "uncinate attach --to tern/other-name"}, "renamed", "", "attach", "--yes")
		m.ok("renamed", "", "attach", "--yes", "--to", "tern/other-name")
		here("other-name", "renamed")
		_, err := h.Store.Find("tern", "tern", "renamed")
		assert.Error(t, err, "no second one was made")
	})
	t.Run("somebody pushed to it", func(t *testing.T) {
		m.t = t
		cutOff(t, m, h, "pushed")
		m.ok("", "", "clone", "pushed", "pushed-copy")
		m.write("pushed-copy", map[string]string{"theirs": "x"})
		m.git("pushed-copy", "add", "-A")
		m.git("pushed-copy", "commit", "-q", "-m", "Theirs")
		m.git("pushed-copy", "push", "-q", "origin", "HEAD:main")
		m.refused(3, []string{"was pushed to by someone else meanwhile"}, "pushed", "", "attach", "--yes")
		m.refused(4, []string{"which this attach did not send, so it is not deleted", "--keep-repository"}, "pushed", "", "detach", "--yes")
		m.ok("pushed", "", "detach", "--yes", "--keep-repository")
		assert.NoDirExists(t, filepath.Join(m.home, "pushed/.git"))
		r, err := h.Store.Find("tern", "tern", "pushed")
		require.NoError(t, err)
		assert.Equal(t, "Theirs", m.git(h.Store.GitDir(r.ID), "log", "-1", "--format=%s", "main"))
	})
	meanwhileHere(t, h, m, here)
}

// meanwhileHere changes what is here in between.
func meanwhileHere(t *testing.T, h *host, m *machine, here func(name string, folder string)) {
	t.Helper()
	t.Run("the folder was moved", func(t *testing.T) {
		m.t = t
		for _, cut := range []func(*testing.T, *machine, *host, string){cutOff, cutOffAtCreate} {
			name := "moved" + map[bool]string{true: "-late", false: "-early"}[len(h.Store.List("tern", "moved")) > 0]
			cut(t, m, h, name)
			require.NoError(t, os.Rename(filepath.Join(m.home, name), filepath.Join(m.home, name+"-elsewhere")))
			m.ok(name+"-elsewhere", "", "attach", "--yes")
			here(name, name+"-elsewhere")
			_, err := h.Store.Find("tern", "tern", name+"-elsewhere")
			assert.Error(t, err, "no second one was made")
		}
	})
	t.Run("files changed", func(t *testing.T) {
		m.t = t
		cutOffAtCreate(t, m, h, "changed")
		m.write("changed", map[string]string{"later.txt": "later", "README.md": "changed\n"})
		m.ok("changed", "", "attach", "--yes")
		here("changed", "changed")
		assert.Contains(t, m.ok("changed", "", "status"), "1 changed file, 1 new")
	})
	m.t = t
	left, err := filepath.Glob(filepath.Join(m.home, ".uncinate/state/journal/*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestJournalsThatCannotBeUsed(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	cutOff(t, m, h, "gauge")
	found, err := filepath.Glob(filepath.Join(m.home, ".uncinate/state/journal/*.journal"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	whole, err := os.ReadFile(found[0])
	require.NoError(t, err)
	for says, text := range map[string]string{
		"knows version 3": strings.Replace(string(whole), `"version":3`, `"version":7`, 1),
		"is damaged":      strings.Replace(string(whole), `"step"`, `"st`, 1),
		"holds no line":   "",
	} {
		require.NoError(t, os.WriteFile(found[0], []byte(text), 0o600))
		for _, command := range []string{"attach", "detach"} {
			m.refused(1, []string{"journal of unfinished work cannot be used", says, "mv -- " + found[0]}, "gauge", "", command, "--yes")
		}
	}
	require.NoError(t, os.WriteFile(found[0], whole, 0o600))
	m.ok("gauge", "", "attach", "--yes")
	assert.Len(t, h.Store.List("tern", ""), 1)
}

func TestStreamsThatAreClosed(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	shell := func(line string) (int, string) {
		c := exec.Command("bash", "-c", line)
		c.Dir, c.Env = filepath.Join(m.home, "gauge"), append(m.env, "U="+program)
		out, _ := c.CombinedOutput()
		return c.ProcessState.ExitCode(), string(out)
	}
	_, out := shell(`"$U" attach --preview | true; echo "${PIPESTATUS[0]}"`)
	assert.Contains(t, []string{"0\n", "uncinate: stopped.\n130\n"}, out)
	code, out := shell(`"$U" attach <&-`)
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "there is no terminal to ask on")
	code, out = shell(`"$U" attach --yes --quiet <&- >&- 2>/dev/null`)
	assert.Equal(t, 0, code, out)
	assert.Contains(t, m.ok("gauge", "", "attach", "--yes"), "Already attached")
	assert.Len(t, h.Store.List("tern", ""), 1)
}

func TestReadOnlyHome(t *testing.T) {
	t.Parallel()
	if os.Getuid() == 0 {
		// Nothing is read-only to root, so the run is given to another user.
		if _, err := exec.LookPath("setpriv"); err != nil {
			t.Fatal("setpriv is missing; install it with: apt-get install util-linux")
		}
	}
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o555))
	args := []string{program, "vault", "make", "--by", "file"}
	if os.Getuid() == 0 {
		for up := dir; up != "/"; up = filepath.Dir(up) {
			if s, err := os.Stat(up); err == nil && s.Mode().Perm()&0o005 == 0 {
				require.NoError(t, os.Chmod(up, s.Mode().Perm()|0o055))
			}
		}
		require.NoError(t, os.Chmod(filepath.Dir(program), 0o755))
		args = append([]string{"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"}, args...)
	}
	c := exec.Command(args[0], args[1:]...)
	c.Env = []string{"HOME=" + dir, "UNCINATE_HOME=" + filepath.Join(dir, "u"), "PATH=" + os.Getenv("PATH")}
	out, err := c.CombinedOutput()
	require.Error(t, err)
	assert.Equal(t, 1, c.ProcessState.ExitCode(), string(out))
	assert.Contains(t, string(out), "cannot be made")
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, entries)
}
