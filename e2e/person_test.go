package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// talk is a person at a terminal: it waits for words and types answers.
type talk struct {
	t    *testing.T
	file *os.File
	cmd  *exec.Cmd

	mu   sync.Mutex
	seen bytes.Buffer
	read int // how much of it was waited for
	end  chan struct{}
}

func (m *machine) talk(dir string, args ...string) *talk {
	m.t.Helper()
	return m.talkTo(dir, program, args...)
}

func (m *machine) talkTo(dir, name string, args ...string) *talk {
	m.t.Helper()
	c := exec.Command(name, args...)
	c.Dir, c.Env = filepath.Join(m.home, dir), append(m.env, "TERM=xterm")
	f, err := pty.StartWithSize(c, &pty.Winsize{Rows: 30, Cols: 70})
	require.NoError(m.t, err)
	k := &talk{t: m.t, file: f, cmd: c, end: make(chan struct{})}
	go func() {
		defer close(k.end)
		part := make([]byte, 4096)
		for {
			n, err := f.Read(part)
			k.mu.Lock()
			k.seen.Write(part[:n])
			k.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	m.t.Cleanup(func() { f.Close() })
	return k
}

func (k *talk) screen() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.seen.String()
}

// asked waits until the words are on the screen, behind what was waited for before,
// and types an answer.
func (k *talk) asked(words, answer string) {
	k.t.Helper()
	if !assert.Eventually(k.t, func() bool {
		s := k.screen()
		i := strings.Index(s[k.read:], words)
		if i >= 0 {
			k.read += i + len(words)
		}
		return i >= 0
	}, 20*time.Second, 10*time.Millisecond) {
		k.t.Fatalf("waiting for %q, on the screen: %q", words, k.screen())
	}
	time.Sleep(50 * time.Millisecond) // the echo is off only after the question is there
	_, err := k.file.WriteString(answer)
	require.NoError(k.t, err)
}

// ends waits for the end and gives the exit code and all that was on the screen.
func (k *talk) ends() (int, string) {
	k.t.Helper()
	err := k.cmd.Wait()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(k.t, err)
	}
	<-k.end
	return k.cmd.ProcessState.ExitCode(), k.screen()
}

func TestFirstAttachSetsTheAccountUpAndGoesOn(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	require.NoError(t, practice.WriteProjects(m.home))
	k := m.talk("gauge-firmware", "attach")
	k.asked("keyring or file? ", "passphrase\n")
	k.asked("New passphrase", "seven tall masts\n")
	k.asked("Repeat it", "seven tall masts\n")
	t.Cleanup(func() { m.run("", "", "vault", "lock") })
	k.asked("(it is not shown): ", h.token["tern"]+"\n")
	k.asked("Go ahead? (yes or no)", "yes\n")
	code, screen := k.ends()
	require.Equal(t, 0, code, screen)
	for _, words := range []string{"To attach gauge-firmware to a new repository, tern/gauge-firmware on\r\n  gannet:", "2,006 stay here", "Attached."} {
		assert.Contains(t, screen, words)
	}
	assert.NotContains(t, screen, "seven tall masts")
	assert.NotContains(t, screen, h.token["tern"])
	assert.Contains(t, screen, "Tern of Saltmarsh\r\n      <tern@gannet.example>", "long sentences are broken to the terminal's width")
}

func TestSayingNoChangesNothing(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	before := tree(t, filepath.Join(m.home, "gauge"))
	for _, answer := range []string{"no\n", "\n", "yep\n"} {
		k := m.talk("gauge", "attach")
		k.asked("Go ahead?", answer)
		code, screen := k.ends()
		assert.Equal(t, 3, code)
		assert.Contains(t, screen, "stopped; nothing was changed")
	}
	k := m.talk("gauge", "attach")
	k.asked("Go ahead?", "\x03")
	code, screen := k.ends()
	assert.Equal(t, 130, code, screen)
	untouched(t, m, h, "gauge", before)
}

func TestInterruptedAtTheTokenLeavesTheTerminalAsItWas(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	k := m.talk("", "account", "add", "--host", "gannet")
	k.asked("(it is not shown): ", "half a tok")
	time.Sleep(500 * time.Millisecond) // the kernel hands typed letters on when it has time to
	require.NoError(t, k.cmd.Process.Signal(os.Interrupt))
	code, screen := k.ends()
	assert.Equal(t, 130, code, screen)
	assert.NotContains(t, screen, "half a tok")
	assert.Contains(t, m.ok("", "", "account", "list"), "no account")
}

func TestInterruptedWhileSendingGoesOnLater(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.write("large", map[string]string{"a.txt": "a"})
	noise := make([]byte, 48<<20)
	for i := range noise {
		noise[i] = byte(i*i>>7) ^ byte(i>>11)
	}
	require.NoError(t, os.WriteFile(filepath.Join(m.home, "large/drawing.bin"), noise, 0o644))
	c := exec.Command(program, "attach", "--yes")
	c.Dir, c.Env = filepath.Join(m.home, "large"), m.env
	var errs bytes.Buffer
	c.Stderr = &errs
	require.NoError(t, c.Start())
	require.Eventually(t, func() bool {
		all := h.Store.List("tern", "")
		return len(all) == 1
	}, 30*time.Second, 5*time.Millisecond)
	time.Sleep(30 * time.Millisecond)
	require.NoError(t, c.Process.Signal(os.Interrupt))
	_ = c.Wait()
	assert.Equal(t, 130, c.ProcessState.ExitCode(), errs.String())
	assert.Contains(t, errs.String(), "goes on from here")
	assert.Contains(t, m.ok("large", "", "attach", "--yes"), "Attached.")
	assert.Len(t, h.Store.List("tern", ""), 1)
	m.git(h.gitDir(t, "tern", "tern", "large"), "fsck", "--strict")
}

func TestTour(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	tmp := filepath.Join(m.home, "tmp")
	require.NoError(t, os.Mkdir(tmp, 0o755))
	m.env = append(m.env, "TMPDIR="+tmp)
	out := m.ok("", "", "tour")
	assert.Contains(t, out, "The tour is over.")
	for _, words := range []string{"Note: the token of account tern expires on", "Replaced.", "expires on", "Revoked: gannet no longer accepts the token", "the vault holds no token for the account tern"} {
		assert.Contains(t, out, words)
	}
	for _, words := range []string{ // of three people
		"Invited; they wait for answers.", "Accepted. To clone it: uncinate clone inlet/tide-notes --account knot", "main is protected on gannet, so it did not take the work", "The repository is called watch/notes now.",
		"the access of dunlin was taken back", "Who sees to its settings can end that.", "Everybody will see it, with its whole history: 4 commits on 4 branches", "watch/notes is in ~/notes-again again: 4 branches, 0 tags.",
		"by the group saltmarsh, and that can only be taken away there", "petrel offers no way to archive a repository",
		"and main back to where gannet has it", "say-where-the-gauge-stands is removed.", "clashes: README.md", "Accept reef at", "Make a copy of your own, dunlin/levels", "Offer 2 of say-who-reads-the-gauge was accepted into main by tern", "All of it is in main already"} {
		assert.Contains(t, strings.ReplaceAll(out, program, "uncinate"), words)
	}
	left, err := os.ReadDir(tmp)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left behind")
	entries, err := os.ReadDir(m.home)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing of the person's own was touched")
}

// TestTourInChapters plays each chapter alone, with what it needs of the others done unseen, and waits between two at a terminal.
func TestTourInChapters(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	for chapter, words := range map[string]string{"attach": "nothing of it goes up by accident", "every-day": "new commits on the host", "clashes": "README.md stays yours.", "servers": "in the place of", "new-machine": "6 projects"} {
		out := m.ok("", "", "tour", chapter)
		if chapter == "new-machine" {
			words = "Packed, for the owner of the SSH key buoy."
		}
		assert.Contains(t, out, words, chapter)
		assert.Regexp(t, `\n1\. `, out, chapter)
		if chapter != "attach" {
			assert.NotContains(t, out, "uncinate survey\n", "what it needs is not shown")
		}
	}
	m.env = append(m.env, "CLICOLOR_FORCE=1")
	out := m.ok("", "", "tour", "with-others", "--keep", "kept")
	m.env = m.env[:len(m.env)-1]
	assert.Contains(t, out, "\x1b[1mInvited;", "what the commands show is shown in its own look")
	assert.NotContains(t, out, `\x1b`)
	assert.Equal(t, m.git("kept/jetty/tide-notes", "rev-parse", "HEAD"), m.git("kept/pier/notes-again", "rev-parse", "more-notes"), "what was deleted is back whole")
	m.refused(4, []string{"is not empty"}, "", "", "tour", "--keep", "kept")

	bare := newMachine(t)
	require.NoError(t, os.Mkdir(filepath.Join(bare.home, "bin"), 0o755))
	git, err := exec.LookPath("git")
	require.NoError(t, err)
	require.NoError(t, os.Symlink(git, filepath.Join(bare.home, "bin/git")))
	bare.env, bare.alone = append(bare.env, "PATH="+filepath.Join(bare.home, "bin")), true
	bare.refused(1, []string{"ssh-keygen is not on the PATH", "uncinate tour attach every-day"}, "", "", "tour")
	m.refused(2, []string{"the tour has no chapter clash", "uncinate tour clashes"}, "", "", "tour", "clash")
	k := m.talk("", "tour", "clashes", "attach")
	k.asked("Next: clashes", "q\n")
	code, screen := k.ends()
	assert.Equal(t, 0, code, screen)
	assert.NotContains(t, screen, "The tour is over")
}

func TestPractice(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	tmp := filepath.Join(m.home, "tmp")
	require.NoError(t, os.Mkdir(tmp, 0o755))
	m.env = append(m.env, "TMPDIR="+tmp)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, program, "practice", "--json", "--fault", "no-date times 1", "--seed", "7")
	c.Dir, c.Env = m.home, m.env
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	var said struct {
		Hosts []struct {
			Name, At string
			Users    []struct{ User, Token string }
		}
		Projects string
	}
	require.NoError(t, json.NewDecoder(out).Decode(&said))
	g := said.Hosts[0]
	m.ok("", "", "host", "add", g.Name, "--at", g.At)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", g.Users[0].Token, "account", "add", "--host", g.Name)
	m.ok("", "", "attach", "--yes", filepath.Join(said.Projects, "inlet-board"))
	page := strings.TrimSpace(m.ok(filepath.Join(said.Projects, "inlet-board", "site"), "", "visit", "--print"))
	assert.Equal(t, g.At+"/tern/inlet-board", page)
	assert.Equal(t, g.At+"/crew/tern/inlet-board\n", m.ok(filepath.Join(said.Projects, "inlet-board"), "", "visit", "people"))
	m.refused(2, []string{"names no page for peopel", "Did you mean people?"}, filepath.Join(said.Projects, "inlet-board"), "", "visit", "peopel")
	require.NoError(t, c.Process.Signal(syscall.SIGINT))
	require.NoError(t, c.Wait(), "it stops cleanly")
	left, err := os.ReadDir(tmp)
	require.NoError(t, err)
	assert.Empty(t, left)
	m.refused(1, []string{"listens on a loopback address only"}, "", "", "practice", "--listen", "0.0.0.0:0")
}

func TestTellingInJSON(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	var plan struct {
		Plan []struct{ ID, Place, Step string }
	}
	require.NoError(t, json.Unmarshal([]byte(m.ok("gauge", "", "attach", "--preview", "--json")), &plan))
	var ids []string
	for _, s := range plan.Plan {
		ids = append(ids, s.Place+" "+s.ID)
	}
	assert.Equal(t, []string{"here init", "here identity", "here ignore", "here first-commit", "host create", "here tie", "here send", "host verify"}, ids)
	m.ok("gauge", "", "attach", "--yes")
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"status", "--json"}, `"asked": true`},
		{[]string{"status", "--json", "--offline"}, `"asked": false`},
		{[]string{"sync", "--json"}, `"sent": 0`},
		{[]string{"account", "list", "--json"}, `"user": "tern"`},
		{[]string{"account", "show", "tern", "--json"}, `"host": "gannet"`},
		{[]string{"host", "list", "--json"}, `"accounts": 1`},
		{[]string{"host", "show", "gannet", "--json"}, `"repository-create"`},
		{[]string{"vault", "show", "--json"}, `"by": "file"`},
		{[]string{"clone", "--json", "gauge", "../copy"}, `"branch": "main"`},
	} {
		out := m.ok("gauge", "", c.args...)
		assert.True(t, json.Valid([]byte(out)), "%v", c.args)
		assert.Contains(t, out, c.want, "%v", c.args)
	}
	assert.Contains(t, m.ok("", "", "host", "list"), "Gannet, the work host")
	assert.Contains(t, m.ok("", "", "host", "show", "gannet"), "token, device, browser")
	assert.Contains(t, m.ok("", "", "host", "check", "gannet"), "no mistakes")
	assert.Contains(t, m.ok("", "", "vault", "unlock"), "always open")
	m.refused(4, []string{"cannot be locked"}, "", "", "vault", "lock")
	m.refused(4, []string{"there is a vault already"}, "", "", "vault", "make", "--by", "file")
}

func TestHostsByAddressAlone(t *testing.T) {
	t.Parallel()
	at, dir := plainServer(t, "")
	m := newMachine(t)
	m.git("", "config", "--global", "user.name", "Tern")
	m.git("", "config", "--global", "user.email", "tern@skerry.example")
	m.write("", map[string]string{"skua.toml": "language = 1\nname = \"skua\"\nbase = \"" + at + "\"\n[address]\nhttps = \"{+base}/{name}.git\"\npage = \"{+base}/{owner}/{name}\"\n"})
	m.ok("", "", "host", "add", "./skua.toml")
	m.project("almanac")
	m.ok("almanac", "", "attach", "--yes", "--to", "tides/almanac")
	assert.Equal(t, m.git("almanac", "rev-parse", "HEAD"), m.git(filepath.Join(dir, "almanac.git"), "rev-parse", "main"))
	m.ok("", "", "clone", "tides/almanac", "copy")
	m.refused(5, []string{"does not say how a token is tested", "--repository OWNER/NAME"}, "", "x\n", "account", "add", "--host", "skua")
}

func TestPublicCloneNeedsNoAccount(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier := signedIn(t, h)
	pier.project("board")
	pier.ok("board", "", "attach", "--yes", "--visibility", "public")
	pier.project("secret")
	pier.ok("secret", "", "attach", "--yes")
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	assert.Contains(t, m.ok("", "", "clone", h.URL+"/tern/board"), "none; git uses its own sign-in")
	assert.Equal(t, tree(t, filepath.Join(pier.home, "board")), tree(t, filepath.Join(m.home, "board")))
	m.refused(5, []string{"asks for a sign-in", "uncinate account add --host gannet"}, "", "", "clone", h.URL+"/tern/secret")
	assert.NoDirExists(t, filepath.Join(m.home, "secret"))
}

// TestPickAndDecide chooses at a terminal what stays, and how a file is decided that both
// sides hold.
func TestPickAndDecide(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.made(h, "gauge", "main", firstFiles)
	m.write("gauge", map[string]string{"README.md": "# mine\n", "plans/a.dwg": "a", "src/a.c": "int a;\n", "src/b.dwg": "b"})
	k := m.talk("gauge", "attach", "--to", "gauge", "--pick")
	k.asked("Enter for none)", "99\n")
	k.asked("Enter for none)", "1\n")
	k.asked("Use mine, theirs, or both", "perhaps\n")
	k.asked("Use mine, theirs, or both", "theirs\n")
	k.asked("(yes or no)", "yes\n")
	code, seen := k.ends()
	require.Equal(t, 0, code, seen)
	assert.Contains(t, seen, "or by ending")
	sent := m.git("gauge", "ls-tree", "-r", "--name-only", "HEAD")
	assert.Equal(t, ".gitignore\nLICENCE\nREADME.md\nplans/a.dwg", sent)
	assert.Equal(t, "# gauge", m.git("gauge", "show", "HEAD:README.md"))
	m.refused(2, []string{"--pick chooses files of a first commit"}, "gauge", "", "attach", "--pick")
	m.project("other")
	m.refused(3, []string{"there is no terminal to ask on", "--except PATH"}, "other", "", "attach", "--pick")
}
