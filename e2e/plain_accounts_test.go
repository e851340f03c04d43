package e2e

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAccountOfAddressesAlone holds an account on a host whose description tells addresses and nothing else: its sign-in is
// tested on a repository, and one clones and attaches by names. What of a project stays behind is said.
func TestAccountOfAddressesAlone(t *testing.T) {
	t.Parallel()
	const password = "two words"
	at, dir := plainServer(t, password)
	for _, name := range []string{"tern/log", "tern/book"} {
		bare := filepath.Join(dir, name+".git")
		require.NoError(t, exec.Command("git", "init", "-q", "--bare", "-b", "main", bare).Run())
		require.NoError(t, exec.Command("git", "-C", bare, "config", "http.receivepack", "true").Run())
	}
	m := person(t, "tern")
	m.write("", map[string]string{"skua.toml": "language = 1\nname = \"skua\"\nbase = \"" + at + "\"\n[address]\nhttps = \"{+base}/{owner}/{name}.git\"\n"})
	m.ok("", "", "host", "add", "./skua.toml")
	m.refused(5, []string{"does not say how a token is tested", "account add --host skua --user NAME --repository OWNER/NAME"}, "", password, "account", "add", "--host", "skua", "--user", "tern")
	m.refused(5, []string{"does not accept the sign-in of tern"}, "", "wrong", "account", "add", "--host", "skua", "--user", "tern", "--repository", "tern/log")
	m.ok("", password, "account", "add", "--host", "skua", "--user", "tern", "--repository", "tern/log")
	assert.Contains(t, m.ok("", "", "token", "test"), "good for "+at+"/tern/log")
	assert.Contains(t, m.ok("", "", "account", "list"), "skua")

	m.project("log")
	m.commit("log", "main")
	m.git("log", "tag", "light")
	m.git("log", "tag", "-a", "-m", "One", "v1")
	said := m.ok("log", "", "attach", "--yes", "--to", "tern/log")
	assert.Contains(t, said, "2 tags: light, v1 (sent by: git -C")
	m.git("log", "push", "-q", "origin", "--tags")
	assert.NotContains(t, m.ok("log", "", "attach", "--yes"), "2 tags")
	m.ok("", "", "clone", "tern/log", "copy")
	m.write("copy", map[string]string{"more.txt": "more\n"})
	m.ok("copy", "", "sync", "--save", "--message", "More")
	m.ok("log", "", "sync")
	assert.FileExists(t, filepath.Join(m.home, "log/more.txt"))
	assert.Contains(t, m.ok("", "", "status", "--all"), "in step")

	// Two accounts for one address: it is asked which; the nearer one goes before.
	m.ok("", password, "account", "add", "one", "--at", at, "--user", "tern", "--repository", "almanac.git")
	m.ok("", password, "account", "add", "two", "--at", at, "--user", "tern", "--repository", "almanac.git")
	m.refused(3, []string{"2 accounts are kept for " + at + "/almanac.git; say which", "--account one"}, "", "", "clone", at+"/almanac.git")
	m.ok("", password, "account", "add", "near", "--at", at+"/drawings.git", "--user", "tern")
	m.ok("", "", "clone", at+"/drawings.git")
	assert.Contains(t, m.ok("drawings", "", "status", "--json"), `"near"`)
	m.ok("", "", "clone", at+"/almanac.git", "--account", "two")
}
