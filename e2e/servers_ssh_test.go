package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// atHome runs a command where the home folder that the system knows is the machine's, since ssh goes by that one.
func (m *machine) atHome(dir, name string, args ...string) result {
	m.t.Helper()
	linux(m.t)
	if os.Getuid() != 0 {
		m.t.Fatal("a home folder is mounted for this test, which takes root; run it as root, in a container for example")
	}
	return m.command(dir, "", "unshare", append([]string{"-m", "sh", "-c", `mount --bind "$HOME" "$(getent passwd 0 | cut -d: -f6)" && exec "$0" "$@"`, name}, args...)...)
}

// well is atHome of the program, which goes well.
func (m *machine) well(dir string, args ...string) string {
	m.t.Helper()
	r := m.atHome(dir, program, args...)
	require.Equal(m.t, 0, r.code, "uncinate %q\n%s%s", args, r.out, r.err)
	return r.out + r.err
}

// opens lets a key in, whose commands begin in the server's folder as in a home.
func (s *plainSSH) opens(options, public string) {
	s.t.Helper()
	line := `command="cd ` + s.dir + ` && HOME=` + s.dir + ` exec sh -c \"$SSH_ORIGINAL_COMMAND\"",` + options + `no-pty ` + public
	require.NoError(s.t, os.WriteFile(filepath.Join(s.dir, "authorized_keys"), []byte(line), 0o600))
}

// known is the server's line in a known_hosts file.
func (s *plainSSH) known() string { return "[127.0.0.1]:" + s.port + " " + s.read("host_key.pub") }

// ownWay is a machine whose person has a key, and a name for the server in an SSH configuration.
func (s *plainSSH) ownWay(more string) *machine {
	t := s.t
	t.Helper()
	m := newMachine(t)
	m.alone = true
	m.write(".ssh", map[string]string{"config": "Host Pier\n  HostName 127.0.0.1\n  Port " + s.port + "\n  User root\n  IdentityFile ~/.ssh/own\n  IdentitiesOnly yes\n" + more, "known_hosts": s.known()})
	require.Equal(t, 0, m.command("", "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "tern", "-f", ".ssh/own").code)
	s.opens("", m.command("", "", "cat", ".ssh/own.pub").out)
	m.git("", "config", "--global", "user.name", "Tern")
	m.git("", "config", "--global", "user.email", "tern@skerry.example")
	m.git("", "init", "-q", "--bare", "-b", "main", filepath.Join(s.dir, "repositories/tides.git"))
	m.project("first")
	m.commit("first", "main")
	m.git("first", "push", "-q", filepath.Join(s.dir, "repositories/tides.git"), "main")
	return m
}

// TestAddressesAsGitReadsThem goes to one repository by all spellings that git and ssh understand: below the home folder on
// the server, by a name of one's own for it, and by a short beginning that git puts an address in the place of.
func TestAddressesAsGitReadsThem(t *testing.T) {
	t.Parallel()
	s := newPlainSSH(t)
	m := s.ownWay("")
	m.git("", "config", "--global", "url.Pier:repositories/.insteadOf", "sk:")
	bare := filepath.Join(s.dir, "repositories/tides.git")
	now := 0
	saves := func(dir string) {
		t.Helper()
		now++
		m.write(dir, map[string]string{"new.txt": strconv.Itoa(now) + "\n"})
		m.git(dir, "add", "-A")
		m.git(dir, "commit", "-q", "-m", "From "+dir)
		m.well(dir, "sync")
		assert.Equal(t, m.git(dir, "rev-parse", "HEAD"), m.git(bare, "rev-parse", "main"))
	}
	for dir, at := range map[string]string{"one": "Pier:repositories/tides.git", "two": "Pier:~/repositories/tides", "three": "ssh://Pier/~/repositories/tides.git",
		"four": "Pier:" + bare, "five": "sk:tides.git", "six": "root@[127.0.0.1:" + s.port + "]:repositories/tides.git"} {
		if dir == "six" { // by its number the server is told no key
			m.write(".ssh", map[string]string{"id_ed25519": m.command("", "", "cat", ".ssh/own").out})
			require.NoError(t, os.Chmod(filepath.Join(m.home, ".ssh/id_ed25519"), 0o600))
		}
		m.well("", "clone", at, dir)
		if dir == "one" || dir == "five" {
			saves(dir)
		}
	}
	for dir, at := range map[string]string{"hand-1": "Pier:repositories/tides.git", "hand-2": "sk:tides.git"} {
		require.Equal(t, 0, m.atHome("", "git", "clone", "-q", at, dir).code)
		saves(dir)
		m.well(dir, "attach", "--yes")
		assert.Equal(t, at, m.git(dir, "config", "remote.origin.url"), "it stays as it was written")
	}
	m.well("one", "attach", "--yes", "--to", "ssh://Pier/~/repositories/tides")
	require.Equal(t, 0, m.atHome("", "git", "clone", "-q", "sk:tides.git", "work/hand-3").code)
	assert.Contains(t, m.well("", "project", "find", "--yes", "work"), "Pier:repositories/tides.git")
	r := m.atHome("", program, "status", "--all")
	assert.Contains(t, r.out, "9 ", r.err)
	works(t, sshShown, "addresses as git reads them: host:path, host:~/path, ssh://host/~/path, host:/path, user@[host:port]:path, names of ~/.ssh/config, url.<base>.insteadOf")
	m.write("new", map[string]string{"x.txt": "x\n"})
	m.git("", "init", "-q", "--bare", "-b", "main", filepath.Join(s.dir, "repositories/new.git"))
	m.well("new", "attach", "--yes", "--to", "sk:new.git")
	assert.Equal(t, m.git("new", "rev-parse", "HEAD"), m.git(filepath.Join(s.dir, "repositories/new.git"), "rev-parse", "main"))
}

// TestServerKeysWithoutAccount goes to a server on which there is no account: its key is shown, holds once it was
// confirmed, also for plain git in that clone, and a changed one is refused.
func TestServerKeysWithoutAccount(t *testing.T) {
	t.Parallel()
	s := newPlainSSH(t)
	m := s.ownWay("")
	require.NoError(t, os.Remove(filepath.Join(m.home, ".ssh/known_hosts")))
	r := m.atHome("", program, "clone", "Pier:repositories/tides.git", "one")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "nothing confirms yet that this SSH key belongs to Pier")
	assert.NoDirExists(t, filepath.Join(m.home, "one"))
	refuses(t, sshShown, "a server whose key nobody confirmed yet, without a terminal (on one it is asked)", r)
	pin := regexp.MustCompile(`uncinate (host pin .*)`).FindStringSubmatch(r.err)
	require.NotNil(t, pin, r.err)
	m.well("", strings.Fields(strings.ReplaceAll(pin[1], "'", ""))...)
	m.well("", "clone", "Pier:repositories/tides.git", "one")
	assert.NoFileExists(t, filepath.Join(m.home, ".ssh/known_hosts"), "the person's own file stays as it is")
	r = m.atHome("one", "git", "pull", "-q")
	assert.Equal(t, 0, r.code, r.err)
	require.Equal(t, 0, m.atHome("", "git", "-c", "core.sshCommand=ssh -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null", "clone", "-q", "Pier:repositories/tides.git", "two").code)
	m.write("two", map[string]string{"two.txt": "2\n"})
	m.git("two", "add", "-A")
	m.git("two", "commit", "-q", "-m", "Two")
	m.well("two", "sync")
	m.well("one", "sync")
	assert.FileExists(t, filepath.Join(m.home, "one/two.txt"))
	assert.Contains(t, m.well("", "status", "--all"), "in step")
	works(t, sshShown, "a server without an account, whose key was confirmed by host pin")

	other := m.command("", "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", "other")
	require.Equal(t, 0, other.code)
	pins := filepath.Join(m.home, ".uncinate/state/known_hosts")
	fake := strings.Join(strings.Fields(m.command("", "", "cat", "other.pub").out)[:2], " ")
	require.NoError(t, os.WriteFile(pins, []byte("Pier "+fake+"\n[127.0.0.1]:"+s.port+" "+fake+"\n"), 0o600))
	r = m.atHome("one", program, "sync")
	assert.Equal(t, 6, r.code)
	assert.Contains(t, r.err, "shows another SSH key than the one by which it is known here")
	refuses(t, sshShown, "a server whose key changed", r)
}

// TestKeyOfOneRepository goes by a key that the person names, and by no other: a deploy key of a server without accounts.
func TestKeyOfOneRepository(t *testing.T) {
	t.Parallel()
	s := newPlainSSH(t)
	m := s.ownWay("")
	for name, passphrase := range map[string]string{"deploy": "", "closed": "a passphrase", "stranger": ""} {
		require.Equal(t, 0, m.command("", "", "ssh-keygen", "-q", "-t", "ed25519", "-N", passphrase, "-C", name, "-f", ".ssh/"+name).code)
	}
	s.opens("", m.command("", "", "cat", ".ssh/deploy.pub").out)
	at := "Pier:repositories/tides.git"
	r := m.atHome("", program, "clone", at, "none")
	assert.Equal(t, 5, r.code)
	assert.Contains(t, r.err, "accepts none of the SSH keys that were offered")
	refuses(t, sshShown, "no key that the server knows", r)
	for key, says := range map[string]string{"stranger": "does not let the SSH key " + m.home, "closed": "a passphrase of its own protects it", "config": "holds no SSH key that can be read", "nothing": "cannot be read: no such file"} {
		r = m.atHome("", program, "clone", "--key", ".ssh/"+key, at, "none")
		assert.NotEqual(t, 0, r.code)
		assert.Contains(t, r.err, says)
		if key == "closed" {
			refuses(t, sshShown, "a key with a passphrase that no agent has", r)
		}
	}
	assert.NoDirExists(t, filepath.Join(m.home, "none"))
	m.well("", "clone", "--key", ".ssh/deploy", at, "one")
	m.write("one", map[string]string{"one.txt": "1\n"})
	m.well("one", "sync", "--save", "--message", "One")
	r = m.atHome("one", "git", "pull", "-q")
	assert.Equal(t, 0, r.code, r.err)
	m.write("new", map[string]string{"x.txt": "x\n"})
	m.git("", "init", "-q", "--bare", "-b", "main", filepath.Join(s.dir, "repositories/new.git"))
	m.well("new", "attach", "--yes", "--to", "Pier:repositories/new.git", "--key", filepath.Join(m.home, ".ssh/deploy"))
	assert.Contains(t, m.well("new", "attach", "--yes"), "Already attached")
	assert.Equal(t, m.git("new", "rev-parse", "HEAD"), m.git(filepath.Join(s.dir, "repositories/new.git"), "rev-parse", "main"))
	assert.Contains(t, m.well("", "status", "--all"), "in step")
	works(t, sshShown, "a key for one repository (clone --key, attach --key)")
	m.git("", "init", "-q", "--bare", "-b", "trunk", filepath.Join(s.dir, "repositories/other.git"))
	m.well("", "clone", "--key", ".ssh/deploy", "Pier:repositories/other.git", "other") // by this protocol it does not say "trunk"
	m.write("other", map[string]string{"x.txt": "x\n"})
	assert.Contains(t, m.well("other", "sync", "--save", "--message", "X"), "gets an empty folder, since its default branch is not there")
	r = m.atHome("", program, "clone", "--key", ".ssh/deploy", "https://skerry.example/tides", "none")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.err, "a key opens repositories over SSH")
}
