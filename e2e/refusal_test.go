package e2e

import (
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// untouched asserts that a refused attach left nothing: no repository here, none there.
func untouched(t *testing.T, m *machine, h *host, folder string, before map[string]string) {
	t.Helper()
	assert.NoDirExists(t, filepath.Join(m.home, folder, ".git"))
	assert.Equal(t, before, tree(t, filepath.Join(m.home, folder)))
	for _, r := range h.Store.List("tern", "") {
		assert.NotEqual(t, folder, r.Name)
	}
	entries, err := filepath.Glob(filepath.Join(m.home, ".uncinate/state/journal/*"))
	require.NoError(t, err)
	assert.Empty(t, entries, "no journal of unfinished work is left")
}

func TestAttachRefusesFolders(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.refused(1, []string{"there is no folder"}, "", "", "attach", "--yes", "missing")
	m.refused(4, []string{"is your home folder"}, "", "", "attach", "--yes", ".")
	m.refused(4, []string{"top of the file system"}, "", "", "attach", "--yes", "/")
	m.project("gauge")
	m.refused(1, []string{"is a file", "uncinate attach"}, "", "", "attach", "--yes", "gauge/README.md")
	m.git("gauge", "init", "-q", "-b", "main")
	m.refused(3, []string{"is inside another repository", "uncinate attach " + filepath.Join(m.home, "gauge")}, "", "", "attach", "--yes", "gauge/src")
	m.git("", "init", "-q", "--bare", "bare.git")
	m.refused(4, []string{"bare repository"}, "", "", "attach", "--yes", "bare.git")
	m.project("detached")
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "-A"}, {"-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "One"}, {"checkout", "-q", "--detach"}} {
		m.git("detached", args...)
	}
	m.refused(3, []string{"detached HEAD", "uncinate branch make NAME --switch"}, "detached", "", "attach", "--yes")
	m.write("broken", map[string]string{".git": "gitdir: /nowhere\n", "a": "a"})
	m.refused(1, []string{"git cannot work with the repository"}, "broken", "", "attach", "--yes")
	m.write("keys", map[string]string{"id_gauge": likeAKey, "a": "a"})
	m.refused(4, []string{"id_gauge:1 holds a private key", "uncinate ignore add id_gauge", "--let id_gauge --reason TEXT"}, "keys", "", "attach", "--yes")
	m.refused(2, []string{"needs a reason"}, "keys", "", "attach", "--yes", "--let", "id_gauge")
	m.ok("keys", "", "attach", "--yes", "--let", "id_gauge", "--reason", "a test key")
	assert.Contains(t, m.ok("keys", "", "survey"), "Let through: id_gauge (a test key)")
	m.refused(3, []string{"there is no terminal to ask on", "uncinate attach gauge --yes"}, "", "", "attach", "gauge")
	assert.Len(t, h.Store.List("tern", ""), 1)
}

func TestAttachWithoutGit(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	before := tree(t, filepath.Join(m.home, "gauge"))
	bin := filepath.Join(m.home, "bin")
	require.NoError(t, os.Mkdir(bin, 0o755))
	m.env = append(m.env, "PATH="+bin)
	m.refused(1, []string{"git is not on the PATH", "Git 2.", "uncinate settings set git /usr"}, "gauge", "", "attach", "--yes")
	require.NoError(t, os.WriteFile(filepath.Join(bin, "git"), []byte("#!/bin/sh\necho a harp\n"), 0o755))
	m.refused(1, []string{"is not git", "a harp"}, "gauge", "", "attach", "--yes")
	require.NoError(t, os.WriteFile(filepath.Join(bin, "git"), []byte("#!/bin/sh\necho git version 2.11.0\n"), 0o755))
	m.refused(1, []string{"git 2.11.0 at " + bin + "/git is too old", "2.39", "uncinate settings set git /usr"}, "gauge", "", "attach", "--yes")
	untouched(t, m, h, "gauge", before)
}

func TestAttachMeetsATakenName(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	before := tree(t, filepath.Join(m.home, "gauge"))
	_, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: "gauge", Visibility: "private"})
	require.NoError(t, err)
	said := m.refused(3, []string{"empty and yours", "uncinate attach --to tern/gauge", "--name gauge-2"}, "gauge", "", "attach", "--yes")
	assert.NoDirExists(t, filepath.Join(m.home, "gauge/.git"), said)
	assert.Equal(t, before, tree(t, filepath.Join(m.home, "gauge")))
	m.ok("", "", "attach", "--yes", "--to", "tern/gauge", "gauge")
	m.project("elsewhere/gauge")
	m.refused(5, []string{"already, with work in it", "--name gauge-2", "uncinate clone tern/gauge"}, "elsewhere/gauge", "", "attach", "--yes")
	m.refused(5, []string{"has no repository tern/gaug", "There is one named gauge"}, "elsewhere/gauge", "", "attach", "--yes", "--to", "gaug")
	m.refused(5, []string{"on gannet the account tern cannot make repositories for knot", "The owners to choose from are tern, saltmarsh"}, "elsewhere/gauge", "", "attach", "--yes", "--name", "knot/gauge")
	assert.NoDirExists(t, filepath.Join(m.home, "elsewhere/gauge/.git"), "what was begun is put back")
	m.refused(2, []string{"cannot be a repository's name"}, "elsewhere/gauge", "", "attach", "--yes", "--name", "a b")
	m.refused(3, []string{"has a remote origin already"}, "gauge", "", "attach", "--yes", "--to", h.URL+"/tern/other")
	assert.Len(t, h.Store.List("tern", ""), 1)
}

func TestTokensThatAreNoGood(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.refused(5, []string{"does not accept the token", "uncinate account add --host gannet"}, "", "plunge~wrong\n", "account", "add", "--host", "gannet")
	m.refused(2, []string{"no token was given"}, "", "\n", "account", "add", "--host", "gannet")
	m.refused(2, []string{"blank or a control character"}, "", "plunge~a b\n", "account", "add", "--host", "gannet")
	require.NoError(t, h.Store.AddToken("plunge~ended", "tern", practice.GannetScopes, time.Now().Add(-time.Hour)))
	m.refused(5, []string{"token of account tern has ended"}, "", "plunge~ended\n", "account", "add", "tern", "--host", "gannet")
	assert.Contains(t, m.ok("", "", "account", "list"), "no account")

	require.NoError(t, h.Store.AddToken("plunge~narrow", "tern", []string{"self", "look"}, time.Time{}))
	r := m.run("", "plunge~narrow\n", "account", "add", "--host", "gannet")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "may not create repositories: it lacks the scope launch")
	m.project("gauge")
	before := tree(t, filepath.Join(m.home, "gauge"))
	m.refused(5, []string{"lacks the scope launch", "/chest/passes", "uncinate account add tern --host gannet"}, "gauge", "", "attach", "--yes")
	untouched(t, m, h, "gauge", before)

	// A token that is good now and ends before it is used.
	require.NoError(t, h.Store.AddToken("plunge~short", "tern", practice.GannetScopes, time.Now().Add(time.Hour)))
	m.ok("", "plunge~short\n", "account", "add", "tern", "--host", "gannet")
	require.NoError(t, h.Store.EndToken("plunge~short"))
	m.refused(5, []string{"the token of account tern has ended (on "}, "gauge", "", "attach", "--yes")
	untouched(t, m, h, "gauge", before)
	m.refused(1, []string{"no account named ternn", "Did you mean tern?"}, "gauge", "", "attach", "--yes", "--account", "ternn")
}

func TestSeveralAccountsAreAsked(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.ok("", h.token["tern-own"], "account", "add", "tern-own", "--host", "gannet")
	m.project("gauge")
	m.refused(3, []string{"2 accounts", "--account tern-own"}, "gauge", "", "attach", "--yes")
	m.ok("gauge", "", "attach", "--yes", "--account", "tern-own")
	assert.Equal(t, "tern-own@gannet.example", m.git("gauge", "log", "-1", "--format=%ae"))
	m.refused(3, []string{"you already have an account named tern here"}, "", h.token["tern-own"], "account", "add", "tern", "--host", "gannet")
	m.refused(4, []string{"still has 2 accounts", "uncinate account forget tern"}, "", "", "host", "forget", "gannet")
	// A description of the same name that leads elsewhere does not get the tokens.
	m.write("", map[string]string{"evil.toml": "language = 1\nname = \"gannet\"\nbase = \"https://evil.example\"\n[address]\nhttps = \"{+base}/{owner}/{name}\"\n"})
	m.refused(4, []string{"is known already, at another address, and has 2 accounts"}, "", "", "host", "add", "./evil.toml")
	hosts := filepath.Join(m.home, ".uncinate/config/hosts.json")
	was, err := os.ReadFile(hosts)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(hosts, []byte(strings.Replace(string(was), h.URL, "http://127.0.0.1:1", 1)), 0o600))
	m.refused(4, []string{"the token of account tern belongs to " + h.URL}, "gauge", "", "clone", "--account", "tern", "gauge", "../copy")
	require.NoError(t, os.WriteFile(hosts, was, 0o600))
	assert.Contains(t, m.ok("", "", "account", "forget", "tern-own"), "1 project attached with it")
	m.refused(3, []string{"tern-own", "is no longer known", "uncinate account add tern-own"}, "gauge", "", "sync")
}

func TestHostsThatCannotBeReached(t *testing.T) {
	t.Parallel()
	answers := func(status int, kind, body string) string {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			if status/100 == 3 {
				w.Header().Set("Location", "http://127.0.0.2:1/elsewhere")
			}
			w.Header().Set("Content-Type", kind)
			w.WriteHeader(status)
			_, _ = w.Write([]byte(body))
		}))
		t.Cleanup(s.Close)
		return s.URL
	}
	closed := "http://" + free(t)
	raw, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { raw.Close() })
	go func() {
		for {
			c, err := raw.Accept()
			if err != nil {
				return
			}
			_, _ = c.Write([]byte("SSH-2.0-harbour\r\n"))
			c.Close()
		}
	}()
	m := newMachine(t)
	m.ok("", "", "vault", "make", "--by", "file")
	for name, c := range map[string]struct{ at, says string }{
		"closed":    {closed, "nothing listens there"},
		"page":      {answers(200, "text/html", "<html>\x1b[31mHello"), `It begins: <html>\x1b[31mHello`},
		"redirect":  {answers(302, "text/html", ""), "redirects to http://127.0.0.2:1; a token is never sent along"},
		"list":      {answers(200, "application/json", "null"), "not the API that the description expects"},
		"endless":   {answers(200, "application/json", `["`+strings.Repeat("x", 9<<20)+`"]`), "larger than"},
		"down":      {answers(503, "text/plain", "later"), "cannot work now"},
		"no-http":   {"http://" + raw.Addr().String(), "cannot be reached"},
		"no-person": {answers(200, "application/json", "{}"), "does not say whose token it is"},
	} {
		m.ok("", "", "host", "add", "gannet", "--at", c.at, "--as", name)
		said := m.refused(6, []string{c.says}, "", "plunge~x\n", "account", "add", "--host", name)
		assert.NotContains(t, said, "\x1b", name)
	}
	m.refused(4, []string{"plain http would send the token unencrypted"}, "", "", "host", "add", "gannet", "--at", "http://gannet.example")
	m.project("gauge")
	m.refused(4, []string{"plain http to gannet.example", "https://gannet.example/tern/gauge"}, "gauge", "", "attach", "--yes", "--to", "http://gannet.example/tern/gauge.git")
	assert.NoDirExists(t, filepath.Join(m.home, "gauge/.git"))
	plain := newMachine(t)
	plain.project("gauge")
	plain.refused(6, []string{"nothing listens there"}, "gauge", "", "attach", "--yes", "--full-name", "T", "--email", "t@x.example", "--to", closed+"/tern/gauge.git")
	assert.NoDirExists(t, filepath.Join(plain.home, "gauge/.git"))
}

func TestHostGoneMidway(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	m.write("gauge", map[string]string{"more": "more"})
	m.git("gauge", "add", "-A")
	m.git("gauge", "commit", "-q", "-m", "More")
	hold := filepath.Join(h.gitDir(t, "tern", "tern", "gauge"), "hooks")
	require.NoError(t, os.MkdirAll(hold, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(hold, "pre-receive"), []byte("#!/bin/sh\necho no room in the harbour >&2\nexit 1\n"), 0o755))
	m.refused(1, []string{"did not take the work", "pre-receive hook declined", "no room in the harbour", "goes on from here"}, "gauge", "", "sync")
	require.NoError(t, os.RemoveAll(hold))
	assert.Contains(t, m.ok("gauge", "", "sync"), "Sent 1 commit")
}

func TestCloneRefusals(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	m.refused(4, []string{"is here already and is not empty", "It is a copy of", "uncinate clone gauge gauge-2"}, "", "", "clone", "gauge")
	m.write("", map[string]string{"afile": "x"})
	m.refused(4, []string{"it is a file"}, "", "", "clone", "gauge", "afile")
	said := m.refused(5, []string{"gannet has no repository tern/guage", "There is one named gauge"}, "", "", "clone", "guage")
	assert.NotContains(t, said, "attach")
	assert.NoDirExists(t, filepath.Join(m.home, "guage"))
	require.NoError(t, os.Mkdir(filepath.Join(m.home, "taken"), 0o755))
	m.ok("", "", "clone", h.URL+"/tern/gauge.git", "taken")
	m.ok("", "", "clone", "gauge", "made/on/the/way")
	assert.Equal(t, tree(t, filepath.Join(m.home, "gauge")), tree(t, filepath.Join(m.home, "made/on/the/way")))
	_, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: "bare", Visibility: "private"})
	require.NoError(t, err)
	assert.Contains(t, m.ok("", "", "clone", "bare"), "nothing yet")
}

func TestSyncStopsAtWhatIsHarder(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch := signedIn(t, h), signedIn(t, h)
	pier.project("gauge")
	pier.write("gauge", map[string]string{".gitignore": "*.log\n"})
	pier.ok("gauge", "", "attach", "--yes")
	launch.ok("", "", "clone", "gauge")
	commit := func(m *machine, name, text string) {
		m.write("gauge", map[string]string{name: text})
		m.git("gauge", "add", "-A", "-f")
		m.git("gauge", "commit", "-q", "-m", "Write "+name)
	}
	commit(launch, "tide.log", "from the launch\n")
	launch.ok("gauge", "", "sync")
	// An ignored file of one's own is in the way of what comes in.
	pier.write("gauge", map[string]string{"tide.log": "mine, never saved\n"})
	pier.write("gauge", map[string]string{"README.md": "# changed\n"})
	assert.Contains(t, pier.ok("gauge", "", "sync"), "kept as rescue copy 1")
	assert.Equal(t, "mine, never saved\n", pier.ok("gauge", "", "rescue", "show", "1", "tide.log"))
	// An unsaved change elsewhere survives.
	assert.Contains(t, pier.ok("gauge", "", "sync"), "Not saved yet: 1 changed file")
	pier.git("gauge", "checkout", "-q", "README.md")
	// Both sides move.
	commit(pier, "a.txt", "a\n")
	commit(launch, "a.txt", "b\n")
	pier.ok("gauge", "", "sync")
	before, there := launch.git("gauge", "rev-parse", "HEAD"), pier.git("gauge", "rev-parse", "HEAD")
	launch.refused(3, []string{"both sides changed the same file on main: 1 commit only here, 1 commit only on the host", "a.txt, changed on the host by Tern of Saltmarsh", "Write a.txt", "uncinate settle"}, "gauge", "", "sync")
	assert.Equal(t, before, launch.git("gauge", "rev-parse", "HEAD"))
	assert.Equal(t, there, pier.git(h.gitDir(t, "tern", "tern", "gauge"), "rev-parse", "refs/heads/main"))
	assert.Contains(t, launch.ok("gauge/src", "", "status"), "1 commit not sent, 1 commit not received")
	launch.git("gauge", "pull", "-q", "--rebase", "-X", "ours")
	launch.ok("gauge", "", "sync")
}

func TestWrongUsage(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.refused(2, []string{"no command attahc", "Did you mean attach?"}, "", "", "attahc")
	m.refused(2, []string{"no option --privat", "uncinate help attach"}, "", "", "attach", "--privat")
	m.refused(2, []string{"one argument too many"}, "", "", "attach", "a", "b")
	m.refused(2, []string{"a value is missing for --name"}, "", "", "attach", "--name")
	m.refused(2, []string{"host has no sub-command lits", "Did you mean list?"}, "", "", "host", "lits")
	m.refused(2, []string{"usage: uncinate clone"}, "", "", "clone")
	m.refused(3, []string{"is not attached", "uncinate attach"}, "", "", "status")
	m.write("", map[string]string{"bad.toml": "language = 1\nname = \"x\"\nbase = \"https://x.example\"\n[adress]\napi = \"y\"\n"})
	m.refused(2, []string{"line 4, column 2", `did you mean "address"?`}, "", "", "host", "check", "./bad.toml")
	// Options are before or after the arguments, with one dash or two.
	m.project("gauge")
	for _, args := range [][]string{{"attach", "gauge", "-preview"}, {"attach", "--preview", "gauge"}} {
		m.refused(3, []string{"there is no account on this machine yet"}, "", "", args...)
	}
}
