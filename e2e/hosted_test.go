package e2e

import (
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

// mainJob is the same on every host: list, show, change, rename with the attached project
// following, delete.
func mainJob(t *testing.T, m *machine, name string, public bool) {
	t.Helper()
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes", "--description", "Levels")
	assert.Contains(t, m.ok("", "", "repository", "list"), "tern/gauge")
	assert.Contains(t, m.ok("", "", "repository", "list", "nothing-like-it"), "No repository of that kind was found")
	assert.Contains(t, m.ok("", "", "repository", "show", "gauge"), "Levels")
	m.refused(5, []string{"no repository tern/other, or tern may not see it", "uncinate repository list"}, "", "", "repository", "show", "other")
	m.refused(2, []string{"say what is to be changed"}, "", "", "repository", "change", "gauge")

	assert.Contains(t, m.ok("", "", "repository", "change", "gauge", "--description", "Levels at the pier", "--yes"), "checked with "+name)
	assert.Contains(t, m.ok("", "", "repository", "show", "gauge"), "Levels at the pier")
	assert.Contains(t, m.ok("", "", "repository", "change", "gauge", "--description", "Levels at the pier", "--yes"), "so already")
	m.refused(3, []string{"there is no terminal to ask on", "Rename it to tide-gauge", "Update 1"}, "", "", "repository", "change", "gauge", "--name", "tide-gauge")
	m.ok("", "", "repository", "change", "gauge", "--name", "tide-gauge", "--yes")
	m.refused(5, []string{"no repository tern/gauge"}, "", "", "repository", "show", "gauge")
	assert.Contains(t, m.git("gauge", "remote", "get-url", "origin"), "tide-gauge")
	m.write("gauge", map[string]string{"more.txt": "more\n"})
	m.git("gauge", "add", "-A")
	m.git("gauge", "commit", "-q", "-m", "More")
	m.git("gauge", "push", "-q")
	assert.Contains(t, m.ok("gauge", "", "sync"), "In step")
	m.git("gauge", "branch", "trial")
	m.git("gauge", "push", "-q", "origin", "trial")
	m.ok("", "", "repository", "change", "tide-gauge", "--default-branch", "trial", "--yes")
	if public {
		m.ok("", "", "repository", "change", "tide-gauge", "--visibility", "public", "--yes")
		assert.Contains(t, m.ok("", "", "repository", "show", "tide-gauge"), "public")
	} else {
		m.refused(4, []string{"cannot be set"}, "", "", "repository", "change", "tide-gauge", "--visibility", "public", "--yes")
	}
	m.refused(3, []string{"there is no terminal to ask on", "Delete the repository tern/tide-gauge"}, "", "", "repository", "delete", "tide-gauge")
	m.ok("", "", "repository", "delete", "tide-gauge", "--yes")
	assert.Contains(t, m.ok("", "", "repository", "list"), "No repository of that kind was found")
	assert.FileExists(t, filepath.Join(m.home, "gauge/README.md"))
	assert.NotEqual(t, 0, m.run("gauge", "", "sync").code)
}

func TestHostedOnEveryHost(t *testing.T) {
	t.Parallel()
	for _, name := range practice.Hosts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHostOf(t, name)
			m := signedIn(t, h)
			mainJob(t, m, name, true)
			assert.Empty(t, h.Store.List("tern", ""))

			// The answer is lost each time: what was done is found to be done.
			m.project("lost")
			m.ok("lost", "", "attach", "--yes")
			for n := range 5 {
				require.NoError(t, h.Faults.Set([]string{fmt.Sprintf("lose after %d times 1", n)}))
				said := fmt.Sprint("Levels ", n)
				if r := m.run("", "", "repository", "change", "lost", "--description", said, "--yes"); r.code != 0 {
					require.NoError(t, h.Faults.Set(nil))
					m.ok("", "", "repository", "change", "lost", "--description", said, "--yes")
				}
				assert.Equal(t, said, h.Store.List("tern", "")[0].Description)
			}
			require.NoError(t, h.Faults.Set(nil))
			m.ok("", "", "repository", "delete", "lost", "--yes")
		})
	}
	t.Run("skerry", func(t *testing.T) {
		t.Parallel()
		s := newPlainSSH(t)
		m := s.signIn()
		mainJob(t, m, "skerry", false)
		kept, err := filepath.Glob(filepath.Join(s.dir, "srv/.aside/*/tide-gauge.git"))
		require.NoError(t, err)
		require.Len(t, kept, 1, "it is moved aside, not erased")
		assert.NotEmpty(t, m.git(kept[0], "rev-parse", "trial"))
	})
}

// TestDeployKeys lets a key open one repository: to read it, then to write to it, and
// nothing else; on a host with an API and on a plain server.
func TestDeployKeys(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"gannet", "skerry"} {
		t.Run(name, func(t *testing.T) { deployKeys(t, name) })
	}
}

// deployKeys gives a key access to one repository, and takes it back.
func deployKeys(t *testing.T, name string) {
	t.Helper()
	t.Parallel()
	var m *machine
	if name == "skerry" {
		m = newPlainSSH(t).signIn()
		m.env = append(m.env, "SSH_AUTH_SOCK=")
	} else {
		m = signedIn(t, newHost(t))
		m.ok("", "", "settings", "set", "machine", "pier")
		m.ok("", "", "key", "make", "tern", "--open")
		m.ok("", "", "key", "install", "tern", "--yes")
	}
	for _, project := range []string{"board", "other"} {
		m.project(project)
		m.ok(project, "", "attach", "--yes", "--over", "ssh")
	}
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "follower", "-f", filepath.Join(m.home, "deploy")).Run())
	route := m.git("board", "config", "core.sshCommand")
	config := strings.Trim(route[strings.Index(route, "-F ")+3:], "'")
	data, err := os.ReadFile(config)
	require.NoError(t, err)
	mine := m.keys("tern")[0].Here
	for _, k := range m.keys("tern") {
		if k.Here != "" {
			mine = k.Here
		}
	}
	require.Contains(t, string(data), mine)
	m.write("", map[string]string{"deploy.conf": strings.Replace(string(data), mine, filepath.Join(m.home, "deploy"), 1)})
	git := func(args ...string) int {
		return m.command("", "", "git", append([]string{"-c", "core.sshCommand=ssh -F " + filepath.Join(m.home, "deploy.conf")}, args...)...).code
	}
	board, other := m.git("board", "remote", "get-url", "origin"), m.git("other", "remote", "get-url", "origin")
	assert.NotEqual(t, 0, git("ls-remote", board))

	m.refused(2, []string{"the file with a key's public half"}, "", "", "access", "grant", "--repository", "board")
	m.refused(2, []string{"there is no file", "ssh-keygen"}, "", "", "access", "grant", "--repository", "board", "--key", "none.pub")
	m.refused(3, []string{"key of your account tern"}, "", "", "access", "grant", "--repository", "board", "--key", mine+".pub", "--yes")
	m.ok("", "", "access", "grant", "--repository", "board", "--key", "deploy.pub", "--yes")
	out := m.ok("", "", "access", "list", "--repository", "board")
	assert.Contains(t, out, "read")
	assert.Contains(t, out, "follower")
	assert.Equal(t, 0, git("clone", "-q", board, "followed"))
	assert.NotEqual(t, 0, git("ls-remote", other), "it opens one repository only")
	m.write("followed", map[string]string{"more.txt": "more\n"})
	m.git("followed", "add", "-A")
	m.git("followed", "-c", "user.name=F", "-c", "user.email=f@skerry.example", "commit", "-q", "-m", "More")
	assert.NotEqual(t, 0, git("-C", "followed", "push", "-q"), "it may only read")
	withdrawsDeployKeys(t, name, m, git, board, other)
}

// withdrawsDeployKeys takes the access back, and gives the right to write.
func withdrawsDeployKeys(t *testing.T, name string, m *machine, git func(args ...string) int, board string, other string) {
	t.Helper()
	m.refused(3, []string{"it may read", "uncinate access withdraw"}, "", "", "access", "grant", "--repository", "board", "--key", "deploy.pub", "--right", "write", "--yes")
	print := strings.Fields(m.command("", "", "ssh-keygen", "-l", "-f", "deploy.pub").out)[1]
	m.ok("", "", "access", "withdraw", "--repository", "board", "--key", print, "--yes")
	assert.NotEqual(t, 0, git("ls-remote", board))
	m.ok("", "", "access", "grant", "--repository", "board", "--key", "deploy.pub", "--right", "write", "--yes")
	assert.Equal(t, 0, git("-C", "followed", "push", "-q"))
	assert.Contains(t, m.ok("board", "", "sync"), "Received 1 commit")
	assert.NotEqual(t, 0, git("ls-remote", other))
	if name == "skerry" {
		r := m.command("", "", "ssh", "-F", "deploy.conf", "-p", board[strings.LastIndex(board, ":")+1:strings.Index(board[6:], "/")+6], strings.Split(strings.TrimPrefix(board, "ssh://"), ":")[0], "touch", filepath.Join(m.home, "pwned"))
		assert.NotEqual(t, 0, r.code)
		assert.Contains(t, r.err, "this key opens one repository only")
		assert.NoFileExists(t, filepath.Join(m.home, "pwned"))
	}
	m.refused(1, []string{"no deploy key"}, "", "", "access", "withdraw", "--repository", "board", "--key", "SHA256:other", "--yes")
}
