package e2e

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/world/files"
	"uncinate/internal/world/vault"
)

// needs fails the test, with a line that says how to install it, if a program is missing.
func needs(t *testing.T, program, pack string) {
	t.Helper()
	if _, err := exec.LookPath(program); err != nil {
		t.Fatalf("%s is missing; install it with: apt-get install %s", program, pack)
	}
}

// desktop starts a session bus with a real Secret Service on it, unlocked, and gives
// the machine's programs the way to it.
func (m *machine) desktop() *dbus.Conn {
	t := m.t
	t.Helper()
	linux(t)
	needs(t, "dbus-run-session", "dbus-daemon")
	needs(t, "gnome-keyring-daemon", "gnome-keyring")
	run := filepath.Join(m.home, "run")
	require.NoError(t, os.Mkdir(run, 0o700))
	m.env = append(m.env, "XDG_RUNTIME_DIR="+run)
	c := exec.Command("dbus-run-session", "--", "sh", "-c", `echo "$DBUS_SESSION_BUS_ADDRESS"; echo $$; exec gnome-keyring-daemon --foreground --unlock --components=secrets`)
	c.Env = m.env
	in, err := c.StdinPipe()
	require.NoError(t, err)
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	_, err = in.Write([]byte("password of the desktop"))
	require.NoError(t, err)
	require.NoError(t, in.Close())
	lines := bufio.NewReader(out)
	address, err := lines.ReadString('\n')
	require.NoError(t, err)
	address = strings.TrimSpace(address)
	number, err := lines.ReadString('\n')
	require.NoError(t, err)
	daemon, err := strconv.Atoi(strings.TrimSpace(number))
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, syscall.Kill(daemon, syscall.SIGTERM))
		_ = c.Wait() // the session ends with its program
	})
	m.env = append(m.env, "DBUS_SESSION_BUS_ADDRESS="+address)
	conn, err := dbus.Connect(address)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.Eventually(t, func() bool {
		owned := false // asking an absent service would start another one
		if err := conn.BusObject().Call("org.freedesktop.DBus.NameHasOwner", 0, "org.freedesktop.secrets").Store(&owned); err != nil || !owned {
			return false
		}
		v, err := conn.Object("org.freedesktop.secrets", "/org/freedesktop/secrets/collection/login").GetProperty("org.freedesktop.Secret.Collection.Locked")
		return err == nil && v.Value() == false
	}, 20*time.Second, 50*time.Millisecond, "the Secret Service did not come up")
	return conn
}

func TestVaultByTheSystemsKeyring(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.alone = true
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	said := m.refused(1, []string{"there is no system keyring here: no session bus (D-Bus) runs", "uncinate vault make --by passphrase"}, "", "", "vault", "make", "--by", "keyring")
	assert.NotContains(t, said, "panic")
	assert.NoDirExists(t, filepath.Join(m.home, ".uncinate/vault"), "nothing is half made")
	without := m.env

	bus := m.desktop()
	assert.Contains(t, m.ok("", "", "vault", "make", "--by", "keyring"), "is in your system's keyring")
	m.ok("", h.token["tern"], "account", "add", "--host", "gannet")
	assert.Contains(t, m.ok("", "", "vault", "show"), "open while the system's keyring is")
	assert.Empty(t, holders(t, h.token["tern"], m.home))
	assert.Empty(t, holders(t, "AGE-SECRET-KEY", m.home), "the identity is in the keyring alone")
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes")
	save := func() {
		m.write("gauge", map[string]string{"later.txt": time.Now().String()})
		m.git("gauge", "add", "-A")
		m.git("gauge", "commit", "-q", "-m", "Later")
	}
	save()
	m.git("gauge", "push", "-q")

	// Locked, nobody is asked by git's question; a person is, where there is a desktop.
	require.NoError(t, bus.Object("org.freedesktop.secrets", "/org/freedesktop/secrets").
		Call("org.freedesktop.Secret.Service.Lock", 0, []dbus.ObjectPath{"/org/freedesktop/secrets/collection/login"}).Err)
	assert.Contains(t, m.ok("", "", "vault", "show"), "locked")
	save()
	r := m.command("gauge", "", "git", "push")
	assert.NotEqual(t, 0, r.code)
	assert.Contains(t, r.err, "the system's keyring is locked")
	assert.Contains(t, r.err, "uncinate vault unlock")
	m.refused(3, []string{"stays locked: its question was not answered"}, "", "", "vault", "unlock")
	assert.Equal(t, "doubtful: locked", m.ready(0)["machine/vault"])
	m.refused(4, []string{"is locked with that, not by itself"}, "", "", "vault", "lock")

	// Over SSH, say, there is no bus.
	with := m.env
	m.env = without
	m.refused(1, []string{"no session bus (D-Bus) runs"}, "gauge", "", "sync")
	assert.Contains(t, m.ready(1)["machine/vault"], "bad: there is no system keyring here")
	m.env = with
}

func TestVaultChangesToAndFromTheKeyring(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.alone = true
	m.desktop()
	m.ok("", "", "vault", "change", "--by", "keyring")
	assert.NoFileExists(t, filepath.Join(m.home, ".uncinate/vault/identity.key"))
	assert.Empty(t, holders(t, "AGE-SECRET-KEY", m.home))
	assert.Contains(t, m.ok("", "", "account", "show", "tern"), "tern@gannet.example")
	assert.Equal(t, "good: open while the system's keyring is", m.ready(0)["machine/vault"])
	m.ok("", "", "vault", "change", "--by", "file")
	assert.Equal(t, "good: belongs to tern on gannet", m.ready(0)["account tern/token"])
}

func TestTokenForOneSignInOnly(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.alone = true
	needs(t, "setsid", "util-linux")
	m.project("gauge")
	m.env = append(m.env, "U="+program, "T="+h.token["tern"]) // the environment is the test's own, not the program's doing
	script := `set -e
"$U" host add gannet --at ` + h.URL + `
printf '%s\n' "$T" | env -u T "$U" account add --host gannet --in-memory
unset T
cd gauge
"$U" attach --yes
echo more >>README.md
git commit -q -a -m More
git push
"$U" account list
`
	r := m.command("", script, "setsid", "--wait", "bash", "-s")
	require.Equal(t, 0, r.code, r.out+r.err)
	assert.Contains(t, r.out, "held in memory for this session only")
	assert.Contains(t, r.out, "in memory, for this session")
	m.env = m.env[:len(m.env)-1]
	assert.Empty(t, holders(t, h.token["tern"], m.home), "nothing is written")
	assert.NoDirExists(t, filepath.Join(m.home, ".uncinate/vault"))
	require.Eventually(t, func() bool { return m.run("gauge", "", "sync").code == 3 }, 10*time.Second, 100*time.Millisecond, "it is forgotten when the session ends")
	m.refused(3, []string{"was held in memory for one session, which is over", "uncinate account add tern --host gannet --in-memory"}, "gauge", "", "sync")
	r = m.command("gauge", "", "git", "push")
	assert.NotEqual(t, 0, r.code)

	m.ok("", h.token["tern"], "account", "add", "tern", "--host", "gannet", "--in-memory")
	m.ok("gauge", "", "sync")
	// A token that is given takes the place of an older sign-in, with what renewed it.
	home, err := files.FindHome(filepath.Join(m.home, ".uncinate"))
	require.NoError(t, err)
	v := vault.At(home.Vault, home.Run, nil)
	require.NoError(t, v.PutInMemory(t.Context(), program, "account/tern/refresh", "renews-it", time.Now().Add(time.Hour)))
	m.ok("", h.token["tern"], "account", "add", "tern", "--host", "gannet", "--in-memory")
	_, found, err := v.GetInMemory("account/tern/refresh")
	require.NoError(t, err)
	assert.False(t, found)
	assert.Contains(t, m.ok("", "", "vault", "lock"), "is forgotten")
	m.refused(3, []string{"which is over"}, "gauge", "", "sync")
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token["tern"], "account", "add", "tern", "--host", "gannet")
	m.ok("gauge", "", "sync")
	m.refused(3, []string{"the vault keeps a token of account tern already"}, "", h.token["tern"], "account", "add", "tern", "--host", "gannet", "--in-memory")
}
