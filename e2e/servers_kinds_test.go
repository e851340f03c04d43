package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const sshShown = "OpenSSH"

// job plays the main job over an address of an empty repository: attach, clone, sync both ways, status.
func (m *machine) job(t *testing.T, at, bare string) {
	t.Helper()
	m.write("work", map[string]string{"a.txt": "a\n"})
	m.well("work", "attach", "--yes", "--to", at)
	m.well("", "clone", at, "copy")
	m.write("copy", map[string]string{"b.txt": "b\n"})
	m.well("copy", "sync", "--save", "--message", "B")
	m.well("work", "sync")
	assert.FileExists(t, filepath.Join(m.home, "work/b.txt"))
	assert.Equal(t, m.git("work", "rev-parse", "HEAD"), m.git(bare, "rev-parse", "main"))
	assert.Contains(t, m.well("", "status", "--all"), "in step")
}

// empty makes a new bare repository on a server.
func (s *plainSSH) empty(m *machine, name string) string {
	bare := filepath.Join(s.dir, name)
	m.git("", "init", "-q", "--bare", "-b", "main", bare)
	return bare
}

// TestOpenSSHServers does the main job on servers as people set them up: with a shell that knows git alone, behind
// another server, with certificates of both sides, with one session at a time, and with much to say at the door.
func TestOpenSSHServers(t *testing.T) {
	t.Parallel()
	t.Run("git-shell", func(t *testing.T) {
		t.Parallel()
		s := newPlainSSH(t)
		m := s.ownWay("")
		line := `command="cd ` + s.dir + ` && HOME=` + s.dir + ` exec git-shell -c \"$SSH_ORIGINAL_COMMAND\"",no-pty ` + m.command("", "", "cat", ".ssh/own.pub").out
		require.NoError(t, os.WriteFile(filepath.Join(s.dir, "authorized_keys"), []byte(line), 0o600))
		m.job(t, "Pier:repositories/shell.git", s.empty(m, "repositories/shell.git"))
		works(t, sshShown, "git-shell")
	})
	t.Run("behind another server", func(t *testing.T) {
		t.Parallel()
		door, s := newPlainSSH(t), newPlainSSH(t)
		m := s.ownWay("  ProxyJump door\nHost door\n  HostName 127.0.0.1\n  Port " + door.port + "\n  User root\n  IdentityFile ~/.ssh/own\n")
		require.NoError(t, os.WriteFile(filepath.Join(door.dir, "authorized_keys"), []byte(m.command("", "", "cat", ".ssh/own.pub").out), 0o600))
		m.write(".ssh", map[string]string{"known_hosts": s.known() + door.known()})
		m.job(t, "Pier:repositories/behind.git", s.empty(m, "repositories/behind.git"))
		assert.Contains(t, door.read("log"), "Accepted publickey")
		works(t, sshShown, "behind another server (ProxyJump), by a name in ~/.ssh/config")
	})
	t.Run("certificates", certificatesOfBoth)
	t.Run("one session at a time, and much to say", func(t *testing.T) {
		t.Parallel()
		banner := filepath.Join(t.TempDir(), "banner")
		require.NoError(t, os.WriteFile(banner, []byte("Welcome to the harbour.\nfatal: this is no error\n"), 0o600))
		s := newPlainSSH(t, "MaxSessions 1", "Banner "+banner)
		m := s.ownWay("")
		line := `command="echo 'mind the step' >&2; cd ` + s.dir + ` && HOME=` + s.dir + ` exec sh -c \"$SSH_ORIGINAL_COMMAND\"",no-pty ` + m.command("", "", "cat", ".ssh/own.pub").out
		require.NoError(t, os.WriteFile(filepath.Join(s.dir, "authorized_keys"), []byte(line), 0o600))
		m.job(t, "Pier:repositories/noisy.git", s.empty(m, "repositories/noisy.git"))
		works(t, sshShown, "one session a connection (MaxSessions 1), a banner, and words at the door")
		line = strings.Replace(line, " >&2", "", 1)
		require.NoError(t, os.WriteFile(filepath.Join(s.dir, "authorized_keys"), []byte(line), 0o600))
		refuses(t, sshShown, "words at the door where git's own should be (plain git fails too)", m.atHome("", program, "clone", "Pier:repositories/noisy.git", "never"))
	})
	t.Run("rights per person and repository", rightsAtTheDoor)
}

// certificatesOfBoth has an authority that vouches for the server and for the person.
func certificatesOfBoth(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	keygen := func(args ...string) {
		t.Helper()
		out, err := exec.Command("ssh-keygen", append([]string{"-q"}, args...)...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	authority := filepath.Join(dir, "authority")
	keygen("-t", "ed25519", "-N", "", "-f", authority)
	s := newPlainSSH(t, "TrustedUserCAKeys "+authority+".pub", "HostCertificate "+filepath.Join(dir, "host_key-cert.pub"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "host_key.pub"), []byte(s.read("host_key.pub")), 0o600))
	keygen("-s", authority, "-I", "pier", "-h", "-n", "127.0.0.1", filepath.Join(dir, "host_key.pub"))
	s.restart()
	m := s.ownWay("")
	keygen("-s", authority, "-I", "tern", "-n", "root", filepath.Join(m.home, ".ssh/own.pub"))
	require.NoError(t, os.Remove(filepath.Join(s.dir, "authorized_keys")))
	m.write(".ssh", map[string]string{"known_hosts": "@cert-authority [127.0.0.1]:" + s.port + " " + read(t, authority+".pub")})
	bare := s.empty(m, "repositories/certified.git")
	m.job(t, "Pier:"+bare, bare)
	works(t, sshShown, "certificates of the server and of the person (@cert-authority, TrustedUserCAKeys)")
}

// rightsAtTheDoor has a program at the door that knows who may do what.
func rightsAtTheDoor(t *testing.T) {
	t.Parallel()
	s := newPlainSSH(t)
	tern := s.ownWay("")
	rights := `case "$1 $SSH_ORIGINAL_COMMAND" in "tern git-"*" 'repositories/"*|"knot git-upload-pack 'repositories/tides.git'") cd ` + s.dir + ` && exec sh -c "$SSH_ORIGINAL_COMMAND";; esac; echo "$1 may not do that here" >&2; exit 1`
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "gate"), []byte("#!/bin/sh\n"+rights+"\n"), 0o700))
	knot := newMachine(t)
	knot.alone = true
	knot.write(".ssh", map[string]string{"config": tern.read(".ssh/config"), "known_hosts": s.known()})
	require.Equal(t, 0, knot.command("", "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", ".ssh/own").code)
	knot.git("", "config", "--global", "user.name", "Knot")
	knot.git("", "config", "--global", "user.email", "knot@skerry.example")
	lines := ""
	for name, m := range map[string]*machine{"tern": tern, "knot": knot} {
		lines += `command="` + s.dir + `/gate ` + name + `",no-pty ` + m.command("", "", "cat", ".ssh/own.pub").out
	}
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "authorized_keys"), []byte(lines), 0o600))
	tern.job(t, "Pier:repositories/rights.git", s.empty(tern, "repositories/rights.git"))
	knot.well("", "clone", "Pier:repositories/tides.git", "tides")
	knot.write("tides", map[string]string{"k.txt": "k\n"})
	knot.well("tides", "save", "From knot")
	works(t, sshShown, "rights per person and repository, by a program at the door")
	refuses(t, sshShown, "sync of what one may only read", knot.atHome("tides", program, "sync"))
	refuses(t, sshShown, "clone of what one may not see", knot.atHome("", program, "clone", "Pier:repositories/rights.git"))
}

// TestDropbear does the main job on a small SSH server of another hand.
func TestDropbear(t *testing.T) {
	t.Parallel()
	needs(t, "dropbear", "dropbear-bin")
	dir := t.TempDir()
	key := filepath.Join(dir, "host_key")
	out, err := exec.Command("dropbearkey", "-t", "ed25519", "-f", key).Output()
	require.NoError(t, err)
	public := ""
	for line := range strings.Lines(string(out)) {
		if strings.HasPrefix(line, "ssh-ed25519 ") {
			public = line
		}
	}
	port := freePorts(t, 1)[0]
	s := &plainSSH{t: t, dir: dir, port: port, at: "ssh://root@127.0.0.1:" + port}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "host_key.pub"), []byte(public), 0o600))
	m := s.ownWay("")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, ".ssh"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".ssh/authorized_keys"), []byte(m.command("", "", "cat", ".ssh/own.pub").out), 0o600))
	c := exec.Command("unshare", "-m", "sh", "-c", `mount --bind "$0" "$(getent passwd 0 | cut -d: -f6)" && exec dropbear -F -E -s -p 127.0.0.1:`+port+` -r "$0/host_key" -P "$0/pid"`, dir)
	log, err := os.Create(filepath.Join(dir, "log"))
	require.NoError(t, err)
	c.Stderr = log
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = syscall.Kill(-c.Process.Pid, syscall.SIGTERM); _ = c.Wait(); log.Close() })
	listens(t, port)
	m.job(t, "Pier:repositories/small.git", s.empty(m, "repositories/small.git"))
	works(t, "dropbear", "attach, clone, sync and status, with a key of the person's own")
	m.well("", "clone", "--key", filepath.Join(m.home, ".ssh/own"), "root@[127.0.0.1:"+port+"]:repositories/tides.git", "by-key")
	works(t, "dropbear", "clone by one key that is named")
}
