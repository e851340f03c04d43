package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// plainSSH is a real OpenSSH server with bare repositories in a folder.
type plainSSH struct {
	t    *testing.T
	dir  string
	at   string // ssh://user@127.0.0.1:port
	port string
	stop func()
}

// newPlainSSH starts sshd from its own package as an ordinary process; more are lines of
// its configuration.
func newPlainSSH(t *testing.T, more ...string) *plainSSH {
	t.Helper()
	sshd := "/usr/sbin/sshd"
	if _, err := os.Stat(sshd); err != nil {
		t.Fatal("sshd is missing; install it with: apt-get install openssh-server")
	}
	needs(t, "ssh-keygen", "openssh-client")
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	s := &plainSSH{t: t, dir: dir}
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "host_key")).Run())
	if os.Getuid() == 0 {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755), "sshd wants this folder for its privilege separation")
	}
	_, s.port, err = net.SplitHostPort(free(t))
	require.NoError(t, err)
	config := append([]string{"Port " + s.port, "ListenAddress 127.0.0.1", "HostKey " + dir + "/host_key", "PidFile none", "UsePAM no", "StrictModes no", "PermitRootLogin yes",
		"PasswordAuthentication no", "KbdInteractiveAuthentication no", "AuthorizedKeysFile " + dir + "/authorized_keys", "LogLevel VERBOSE", "MaxStartups 100", "KexAlgorithms curve25519-sha256"}, more...)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), []byte(strings.Join(config, "\n")+"\n"), 0o600))
	s.start()
	me, err := user.Current()
	require.NoError(t, err)
	s.at = "ssh://" + me.Username + "@127.0.0.1:" + s.port
	return s
}

// start lets the server run until the test ends, or it is started again.
func (s *plainSSH) start() {
	t := s.t
	t.Helper()
	log, err := os.Create(filepath.Join(s.dir, "log"))
	require.NoError(t, err)
	c := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(s.dir, "config"))
	c.Stderr = log
	require.NoError(t, c.Start())
	s.stop = sync.OnceFunc(func() { _ = c.Process.Kill(); _ = c.Wait(); log.Close() })
	t.Cleanup(s.stop)
	listens(t, s.port)
}

// listens waits until a server that was started takes callers.
func listens(t *testing.T, port string) {
	t.Helper()
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
}

// restart lets the server read its files again.
func (s *plainSSH) restart() {
	s.t.Helper()
	s.stop()
	s.start()
}

func (s *plainSSH) read(name string) string {
	s.t.Helper()
	data, err := os.ReadFile(filepath.Join(s.dir, name))
	require.NoError(s.t, err)
	return string(data)
}

// fingerprint is the server's own key's.
func (s *plainSSH) fingerprint() string {
	out, err := exec.Command("ssh-keygen", "-l", "-f", filepath.Join(s.dir, "host_key.pub")).Output()
	require.NoError(s.t, err)
	return strings.Fields(string(out))[1]
}

// signIn lets a new machine, which has a key of the person's own in its agent, add an
// account on the server.
func (s *plainSSH) signIn() *machine {
	t := s.t
	t.Helper()
	m := newMachine(t)
	m.alone = true
	m.agent()
	require.Equal(t, 0, m.command("", "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "by hand", "-f", "own").code)
	require.Equal(t, 0, m.command("", "", "ssh-add", "-q", "own").code)
	line := m.command("", "", "cat", "own.pub").out
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "authorized_keys"), []byte("# kept by hand\n"+line+"\n\n# the end"), 0o640))
	m.git("", "config", "--global", "user.name", "Tern")
	m.git("", "config", "--global", "user.email", "tern@skerry.example")
	m.write("", map[string]string{"skerry.toml": "language = 1\nname = \"skerry\"\nbase = \"ssh://git@skerry.example\"\ntransport = \"shell\"\n[shell]\nfolder = \"" + s.dir + "/srv\"\nkeys = \"" + s.dir + "/authorized_keys\"\n"})
	m.ok("", "", "host", "add", "./skerry.toml", "--at", s.at)
	m.ok("", "", "vault", "make", "--by", "file")
	said := m.refused(3, []string{"nothing confirms yet", s.fingerprint()}, "", "", "account", "add", "tern", "--host", "skerry")
	pin := regexp.MustCompile(`uncinate (host pin .*)`).FindStringSubmatch(said)
	m.ok("", "", strings.Fields(strings.ReplaceAll(pin[1], "'", ""))...)
	assert.Contains(t, m.ok("", "", "account", "add", "tern", "--host", "skerry"), "skerry lets you in over SSH")
	m.ok("", "", "settings", "set", "machine", "pier")
	m.ok("", "", "key", "make", "tern", "--open")
	m.ok("", "", "key", "install", "tern", "--yes")
	return m
}

// lacksOthers makes a repository, and asks for what a plain server has no way to do.
func lacksOthers(m *machine) {
	t := m.t
	t.Helper()
	m.ok("", "", "repository", "create", "notes", "--yes")
	m.refused(3, []string{"there is a repository tern/notes on skerry already"}, "", "", "repository", "create", "notes", "--yes")
	assert.Contains(t, m.ok("", "", "access", "list", "--repository", "notes"), "The people are not listed: skerry is a plain server")
	for _, args := range []string{"access grant knot --repository notes", "repository protect main --repository notes", "repository archive notes",
		"repository copy notes too", "repository transfer notes knot", "repository import https://skua.example/a/b.git", "invitation list --account tern"} {
		m.refused(5, []string{"skerry is a plain server, and has no way to", "Whoever has a key on the server"}, "", "", strings.Fields(args)...)
	}
	m.ok("", "", "repository", "delete", "notes", "--yes")
	m.git("gauge", "switch", "-q", "-c", "neap")
	for _, words := range []string{"offer create --yes", "offer list", "offer show 1", "offer fetch 1", "offer accept 1", "offer close 1"} {
		m.refused(5, []string{"skerry is a plain server, and has no way to", "uncinate branch join neap"}, "gauge", "", strings.Fields(words)...)
	}
	m.git("gauge", "switch", "-q", "main")
}

// TestPlainServer does the main job on a server with nothing but sshd and git, whatever
// shell it has.
func TestPlainServer(t *testing.T) {
	t.Parallel()
	for _, shell := range []string{"bash", "dash", "busybox"} {
		t.Run(shell, func(t *testing.T) {
			t.Parallel()
			needs(t, shell, shell)
			shims := t.TempDir()
			path, err := exec.LookPath(shell)
			require.NoError(t, err)
			require.NoError(t, os.Symlink(path, filepath.Join(shims, "sh")))
			banner := filepath.Join(shims, "banner")
			require.NoError(t, os.WriteFile(banner, []byte("Mind the rocks.\n"), 0o644))
			s := newPlainSSH(t, "SetEnv PATH="+shims+":"+os.Getenv("PATH"), "Banner "+banner)
			m := s.signIn()
			keys := s.read("authorized_keys")
			assert.Contains(t, keys, "# kept by hand\nssh-ed25519", "other lines are untouched")
			assert.Contains(t, keys, "\n\n# the end\n# from here: uncinate\nrestrict ssh-ed25519 ")
			assert.Contains(t, keys, " tern on skerry, machine pier\n# to here: uncinate\n")
			info, err := os.Stat(filepath.Join(s.dir, "authorized_keys"))
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())

			m.project("gauge")
			assert.Contains(t, m.ok("gauge", "", "attach", "--yes", "--description", "It's the tern's \"gauge\" $HOME"), "checked  skerry holds the same commit, private, default branch main")
			bare := filepath.Join(s.dir, "srv/tern/gauge.git")
			assert.Equal(t, "It's the tern's \"gauge\" $HOME\n", s.read("srv/tern/gauge.git/description"))
			assert.Contains(t, m.ok("gauge", "", "attach", "--yes"), "Already attached")
			m.git(bare, "fsck", "--strict")
			m.refused(4, []string{"whoever has a key on the server"}, "", "", "attach", "--yes", "--visibility", "public", "--name", "other", "gauge", "--remote", "two")
			m.refused(5, []string{"already, with work in it"}, "gauge", "", "attach", "--yes", "--name", "gauge", "--remote", "two")
			m.ok("", "", "clone", "gauge", "by-name")
			m.git("", "-c", "core.sshCommand="+m.git("gauge", "config", "core.sshCommand"), "clone", "-q", s.at+bare, "by-git")
			assert.Equal(t, tree(t, filepath.Join(m.home, "gauge")), tree(t, filepath.Join(m.home, "by-git")))
			m.write("by-name", map[string]string{"more.txt": "more\n"})
			m.git("by-name", "add", "-A")
			m.git("by-name", "commit", "-q", "-m", "More")
			m.git("by-name", "push", "-q")
			assert.Contains(t, m.ok("gauge", "", "sync"), "Received 1 commit")
			m.refused(5, []string{"There is one named gauge"}, "", "", "clone", "guage")
			if shell == "bash" {
				lacksOthers(m)
			}
			if shell == "dash" {
				claimsAtOnce(t, m, []string{"gauge", "by-name"}, true)
			}

			out := m.ok("", "", "host", "try", "skerry", "--write", "--yes")
			for _, words := range []string{"it lets you in over SSH", "tern/gauge, private, default branch main", "every form of the address is read as", "the description was changed, and nothing else", "a key was added, and is listed", "is shown no more"} {
				assert.Contains(t, out, words)
			}
			assert.NotContains(t, out, "  bad, ")
			assert.Equal(t, keys, s.read("authorized_keys"), "the scratch key is gone, and all else as it was")

			m.ok("", "", "key", "rotate", "tern", "--yes")
			m.git("gauge", "ls-remote", "-q", "origin")
			assert.Equal(t, 1, strings.Count(s.read("authorized_keys"), "restrict "))
			assert.Contains(t, m.ok("", "", "ready"), "lets you in over SSH")
		})
	}
}

// TestAttachToPlainServerCutOff kills an attach to a plain server at every line of its
// journal, then finishes it, or puts it back.
func TestAttachToPlainServerCutOff(t *testing.T) {
	t.Parallel()
	s := newPlainSSH(t)
	m := s.signIn()
	for line := 1; line < 16; line += 2 {
		name := fmt.Sprint("gauge-", line)
		m.project(name)
		before := tree(t, filepath.Join(m.home, name))
		cut := m.killAt(name, line, "attach", "--yes", "--description", "Levels")
		m.free()
		if cut && line%4 == 1 {
			m.ok(name, "", "detach", "--yes")
			assert.Equal(t, before, tree(t, filepath.Join(m.home, name)))
			assert.NoDirExists(t, filepath.Join(s.dir, "srv/tern", name+".git"))
		}
		m.ok(name, "", "attach", "--yes", "--description", "Levels")
		assert.Equal(t, "Levels\n", s.read("srv/tern/"+name+".git/description"))
		assert.Equal(t, m.git(name, "rev-parse", "HEAD"), m.git(filepath.Join(s.dir, "srv/tern", name+".git"), "rev-parse", "main"))
	}
}

func TestWhatIsWrongWithAPlainServer(t *testing.T) {
	t.Parallel()
	s := newPlainSSH(t)
	m := s.signIn()
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes")

	// A repository that is gone, and a server whose run ends badly half-way, are not taken for an empty one.
	at := filepath.Join(s.dir, "srv/tern/gauge.git")
	assert.Contains(t, m.ok("", "", "status", "--all"), ", in step.")
	require.NoError(t, os.Rename(at, at+".gone"))
	for range 3 {
		board := m.ok("", "", "status", "--all")
		assert.Regexp(t, `(refused|no answer) +gauge `, board)
		assert.NotContains(t, board, "no longer on the host")
	}
	require.NoError(t, os.Rename(at+".gone", at))

	// Names that someone else gave: shown, and nothing of them is run.
	pwned := filepath.Join(s.dir, "pwned")
	for _, name := range []string{"a b", "it's", `"quoted"`, "$(touch " + filepath.Base(pwned) + ")", "`touch " + filepath.Base(pwned) + "`", "; touch " + filepath.Base(pwned) + ";", "line\nend", "-rf", "*", "é"} {
		require.NoError(t, exec.Command("git", "init", "-q", "--bare", "--", filepath.Join(s.dir, "srv/odd", name+".git")).Run(), name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "srv/tern/gauge.git/description"), []byte("$(touch "+pwned+") \x1b[31m`touch "+pwned+"`"), 0o644))
	require.NoError(t, os.Symlink("/etc", filepath.Join(s.dir, "srv/etc")))
	require.NoError(t, os.Symlink(filepath.Join(s.dir, "srv/tern/gauge.git"), filepath.Join(s.dir, "srv/tern/linked.git")))
	out := m.ok("", "", "host", "try", "skerry")
	assert.Contains(t, out, "11 repositories", "all but what is behind a link")
	assert.NotContains(t, out, "\x1b[31m")
	m.refused(4, []string{"symbolic link"}, "", "", "clone", "tern/linked")
	for _, name := range []string{"tern/..", "../x", "tern/-x", "tern/.x"} {
		r := m.run("gauge", "", "attach", "--yes", "--remote", "two", "--name", name)
		assert.NotEqual(t, 0, r.code, name)
	}
	for _, name := range []string{"a b", "it's", "$(touch pwned)"} {
		m.ok("", "", "clone", "odd/"+name, "copy of "+fmt.Sprint(len(name)))
	}
	assert.NoFileExists(t, pwned)
	assert.NoFileExists(t, filepath.Join(m.home, "pwned"))
	wrongKeysOnAPlainServer(t, s, m)
}

// wrongKeysOnAPlainServer rotates keys where the file of keys is a link, and while somebody edits it.
func wrongKeysOnAPlainServer(t *testing.T, s *plainSSH, m *machine) {
	t.Helper()
	// Keys outside our lines, and a file that is a link.
	keys := filepath.Join(s.dir, "authorized_keys")
	m.env = append(m.env, "SSH_AUTH_SOCK=") // from here on the account's own key alone
	assert.Len(t, m.keys("tern"), 2)
	require.NoError(t, os.Rename(keys, keys+".real"))
	require.NoError(t, os.Symlink(keys+".real", keys))
	m.refused(4, []string{"symbolic link"}, "", "", "key", "rotate", "tern", "--yes")
	require.NoError(t, os.Remove(keys))
	require.NoError(t, os.Rename(keys+".real", keys))
	m.ok("", "", "key", "rotate", "tern", "--yes")
	// Someone edits it meanwhile: nothing of theirs is lost.
	stop := make(chan struct{})
	edited := make(chan int)
	go func() {
		n := 0
		for {
			select {
			case <-stop:
				edited <- n
				return
			case <-time.After(30 * time.Millisecond):
				f, err := os.OpenFile(keys, os.O_APPEND|os.O_WRONLY, 0)
				if err == nil {
					n++
					fmt.Fprintf(f, "# edit %d\n", n)
					f.Close()
				}
			}
			if n == 12 {
				<-stop
				edited <- n
				return
			}
		}
	}()
	m.ok("", "", "key", "rotate", "tern", "--yes")
	close(stop)
	n := <-edited
	assert.Equal(t, 1, strings.Count(s.read("authorized_keys"), "restrict "))
	require.Positive(t, n)
	require.NoError(t, os.Chmod(filepath.Join(s.dir, "srv"), 0o755))
	aServerWithoutGit(t)
}

// aServerWithoutGit meets a server on which git is missing, and one that is gone.
func aServerWithoutGit(t *testing.T) {
	t.Helper()
	// The server is gone, or has no git.
	without := newPlainSSH(t, "SetEnv PATH="+bare(t))
	m2 := newMachine(t)
	m2.alone = true
	m2.agent()
	require.Equal(t, 0, m2.command("", "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", "own").code)
	require.Equal(t, 0, m2.command("", "", "ssh-add", "-q", "own").code)
	require.NoError(t, os.WriteFile(filepath.Join(without.dir, "authorized_keys"), []byte(m2.command("", "", "cat", "own.pub").out), 0o600))
	m2.write("", map[string]string{"skerry.toml": "language = 1\nname = \"skerry\"\nbase = \"" + without.at + "\"\ntransport = \"shell\"\n[shell]\nfolder = \"" + without.dir + "/srv\"\n"})
	m2.ok("", "", "host", "add", "./skerry.toml")
	m2.ok("", "", "host", "pin", "127.0.0.1:"+without.port, "--fingerprint", without.fingerprint())
	m2.refused(5, []string{"git is not installed on skerry"}, "", "", "account", "add", "tern", "--host", "skerry")
	require.Equal(t, 0, m2.command("", "", "ssh-add", "-D").code)
	m2.refused(5, []string{"lets nobody in over SSH", "ssh " + without.at}, "", "", "account", "add", "tern", "--host", "skerry")
	m2.write("", map[string]string{"gone.toml": "language = 1\nname = \"gone\"\nbase = \"ssh://git@127.0.0.1:1\"\ntransport = \"shell\"\n[shell]\nfolder = \"/srv\"\n"})
	m2.ok("", "", "host", "add", "./gone.toml")
	m2.refused(6, []string{"cannot be reached over SSH: nothing listens there"}, "", "", "account", "add", "tern", "--host", "gone")
}

// bare is a PATH with a shell and its tools and no git.
func bare(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for _, name := range []string{"sh", "id", "sed", "head", "find", "dd", "mkdir", "cat", "cksum"} {
		path, err := exec.LookPath(name)
		require.NoError(t, err)
		require.NoError(t, os.Symlink(path, filepath.Join(dir, name)))
	}
	return dir
}
