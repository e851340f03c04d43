package e2e

import (
	"bytes"
	"io/fs"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

const canary = "plunge~canary5ec3e700000000000000000000000000"

// holders lists the files below the folders that hold a text.
func holders(t *testing.T, text string, tops ...string) []string {
	t.Helper()
	var found []string
	for _, top := range tops {
		require.NoError(t, filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return err
			}
			data, err := os.ReadFile(path)
			if bytes.Contains(data, []byte(text)) {
				found = append(found, path)
			}
			return err
		}))
	}
	return found
}

// watchProcesses looks through the arguments and environments of all processes, over
// and over, until the returned function is called; that gives where text was seen.
func watchProcesses(t *testing.T, text string) (stop func() []string) {
	t.Helper()
	linux(t)
	done, result := make(chan struct{}), make(chan []string)
	go func() {
		var seen []string
		looks := 0
		for {
			select {
			case <-done:
				if looks < 3 {
					seen = append(seen, "too few looks to count")
				}
				result <- seen
				return
			default:
			}
			looks++
			entries, _ := os.ReadDir("/proc")
			for _, e := range entries {
				if e.Name()[0] < '0' || e.Name()[0] > '9' {
					continue
				}
				for _, what := range []string{"cmdline", "environ"} {
					// Processes end while they are looked at.
					data, err := os.ReadFile(filepath.Join("/proc", e.Name(), what))
					if err == nil && bytes.Contains(data, []byte(text)) {
						seen = append(seen, what+" of "+strings.ReplaceAll(string(data[:min(len(data), 200)]), "\x00", " "))
					}
				}
			}
			time.Sleep(2 * time.Millisecond)
		}
	}()
	return func() []string {
		close(done)
		return <-result
	}
}

type canaryCase struct {
	name  string
	setUp func(m *machine, h *host)
	to    []string
}

func TestCanaryTokenStaysInTheVault(t *testing.T) {
	t.Parallel()
	basic := "dGVybjpnbnRfY2FuYXJ5" // how the canary begins in HTTP Basic
	for _, c := range []canaryCase{
		{"nothing else configured", func(*machine, *host) {}, nil},
		{"a helper that stores in plain text", func(m *machine, _ *host) {
			m.git("", "config", "--global", "credential.helper", "store")
		}, nil},
		{"a netrc entry with another password", func(m *machine, h *host) {
			u, err := url.Parse(h.URL)
			require.NoError(m.t, err)
			m.write("", map[string]string{".netrc": "machine " + u.Hostname() + "\n  login tern\n  password of-another-time\n"})
		}, nil},
		{"addresses rewritten", func(m *machine, h *host) {
			m.git("", "config", "--global", "url.http://127.0.0.1:9/elsewhere/.insteadOf", h.URL+"/")
			m.git("", "config", "--global", "url.http://127.0.0.1:9/elsewhere/.pushInsteadOf", h.URL+"/tern/")
		}, nil},
		{"git's own variables set", func(m *machine, _ *host) {
			m.env = append(m.env, "GIT_TRACE=1", "GIT_TRACE_CURL=1", "GIT_TRACE_REDACT=0", "GIT_CURL_VERBOSE=1", "GIT_DIR=/nowhere", "GIT_AUTHOR_NAME=Someone", "GIT_ASKPASS=/bin/false")
		}, nil},
	} {
		t.Run(c.name, func(t *testing.T) { canaryStays(t, basic, c) })
	}
}

// canaryStays works through a day, with everything that is said searched for the token.
func canaryStays(t *testing.T, basic string, c struct {
	name  string
	setUp func(m *machine, h *host)
	to    []string
}) {
	t.Helper()
	h := newHost(t)
	require.NoError(t, h.Store.AddToken(canary, "tern", practice.GannetScopes, time.Now().Add(time.Hour*24*100)))
	m := newMachine(t)
	m.project("gauge")
	stop := watchProcesses(t, canary)
	var said strings.Builder
	tell := func(r result) {
		assert.Equal(t, 0, r.code, r.out+r.err)
		said.WriteString(r.out + r.err)
	}
	tell(m.run("", "", "host", "add", "gannet", "--at", h.URL))
	tell(m.run("", "", "vault", "make", "--by", "file"))
	tell(m.run("", canary, "account", "add", "--host", "gannet", "--verbose"))
	c.setUp(m, h)
	tell(m.run("gauge", "", "attach", "--yes", "--verbose"))
	tell(m.run("", "", "clone", "--verbose", "gauge", "copy"))
	if !slices.Contains(m.env, "GIT_DIR=/nowhere") {
		m.write("copy", map[string]string{"more.txt": "more\n"})
		m.git("copy", "add", "-A")
		m.git("copy", "commit", "-q", "-m", "More")
		tell(m.command("copy", "", "git", "push"))
		tell(m.command("gauge", "", "git", "pull"))
	}
	tell(m.run("copy", "", "sync", "--verbose"))
	tell(m.run("copy", "", "status", "--verbose"))
	tell(m.run("", "", "account", "show", "tern", "--json"))
	tell(m.run("", "", "vault", "show", "--json"))
	assert.Empty(t, stop())
	for _, text := range []string{canary, basic} {
		assert.Empty(t, holders(t, text, m.home, h.dir))
		assert.NotContains(t, said.String(), text)
	}
	assert.NotContains(t, m.command("gauge", "", "git", "log", "--format=%an").out, "Someone")
}

func TestTokenInAddressMovesToTheVault(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	require.NoError(t, h.Store.AddToken(canary, "tern", practice.GannetScopes, time.Time{}))
	_, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: "gauge", Visibility: "private"})
	require.NoError(t, err)
	for _, known := range []bool{true, false} {
		m := newMachine(t)
		m.ok("", "", "vault", "make", "--by", "file")
		if known {
			m.ok("", "", "host", "add", "gannet", "--at", h.URL)
		}
		m.project("gauge")
		m.git("gauge", "init", "-q", "-b", "main")
		// Written as a person's editor would, so that no process carries it.
		config := filepath.Join(m.home, "gauge/.git/config")
		data, err := os.ReadFile(config)
		require.NoError(t, err)
		withToken := strings.Replace(h.URL, "://", "://tern:"+canary+"@", 1) + "/tern/gauge.git"
		require.NoError(t, os.WriteFile(config, append(data, "[remote \"origin\"]\n\turl = "+withToken+"\n\tfetch = +refs/heads/*:refs/remotes/origin/*\n"...), 0o644))
		if !known {
			// The project's history is there from the first round.
			m.write("gauge", map[string]string{"more.txt": "more\n"})
			require.NoError(t, os.RemoveAll(h.gitDir(t, "tern", "tern", "gauge")+"/refs/heads/main"))
		}
		stop := watchProcesses(t, canary)
		r := m.run("gauge", "", "attach", "--yes", "--verbose", "--full-name", "Tern", "--email", "tern@gannet.example")
		seen := stop()
		require.Equal(t, 0, r.code, r.out+r.err)
		assert.Contains(t, r.err, "Move the token out of the remote's address into the vault")
		assert.Empty(t, seen)
		assert.Empty(t, holders(t, canary, m.home, h.dir))
		assert.NotContains(t, r.out+r.err, canary)
		assert.Equal(t, h.URL+"/tern/gauge.git", m.git("gauge", "remote", "get-url", "origin"))
		m.write("gauge", map[string]string{"later.txt": "later\n"})
		m.git("gauge", "add", "-A")
		m.git("gauge", "commit", "-q", "-m", "Later")
		m.git("gauge", "push", "-q")
	}
}

func TestNetrcOfSomeoneElseStops(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	m.write("", map[string]string{".netrc": "machine other.example login a password b\nmachine 127.0.0.1 login knot password " + h.token["knot"] + "\n"})
	said := m.refused(3, []string{".netrc", "line 2", "as knot, not as tern"}, "gauge", "", "attach", "--yes")
	assert.NotContains(t, said, h.token["knot"])
	assert.NoDirExists(t, filepath.Join(m.home, "gauge/.git"))
	assert.Empty(t, h.Store.List("tern", ""))
}

func TestCredentialAnswersForOneAddressOnly(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	for _, name := range []string{"gauge", "gauge-two"} {
		m.project(name)
		m.ok(name, "", "attach", "--yes")
	}
	at := strings.TrimPrefix(h.URL, "http://")
	ask := func(request string) result {
		m.env = append(m.env, "GIT_TERMINAL_PROMPT=0", "GIT_ASKPASS=")
		return m.command("gauge", request, "git", "credential", "fill")
	}
	for _, path := range []string{"tern/gauge", "tern/gauge.git"} {
		assert.Contains(t, ask("protocol=http\nhost="+at+"\npath="+path+"\n\n").out, "password="+h.token["tern"], path)
	}
	for _, request := range []string{
		"protocol=http\nhost=" + at + "\npath=tern/gauge-two.git\n\n",
		"protocol=http\nhost=" + at + "\npath=tern/gauge/inside\n\n",
		"protocol=http\nhost=" + at + "\npath=tern/gauge.git.git\n\n",
		"protocol=http\nhost=" + at + "\n\n",
		"protocol=http\nhost=" + at + ".evil.example\npath=tern/gauge\n\n",
		"protocol=http\nhost=127.0.0.1:1\npath=tern/gauge\n\n",
		"protocol=https\nhost=" + at + "\npath=tern/gauge\n\n",
		"protocol=http\nhost=" + at + "\npath=tern/gauge\nusername=knot\n\n",
	} {
		assert.NotContains(t, ask(request).out, h.token["tern"], request)
	}
	// A host that refuses the token makes it doubtful; nothing is erased.
	m.command("gauge", "protocol=http\nhost="+at+"\npath=tern/gauge\nusername=tern\npassword=x\n\n", "git", "credential", "reject")
	assert.Contains(t, m.ok("", "", "account", "list"), "refused by the host on")
	assert.Contains(t, ask("protocol=http\nhost="+at+"\npath=tern/gauge\n\n").out, "password="+h.token["tern"])
}

func TestVaultByPassphrase(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	m.refused(3, []string{"there is no vault yet", "uncinate vault make --by passphrase"}, "", h.token["tern"], "account", "add", "--host", "gannet")
	m.refused(2, []string{"too easily guessed"}, "", "short\n", "vault", "make", "--by", "passphrase")
	stop := watchProcesses(t, "seven tall masts")
	m.ok("", "seven tall masts\n", "vault", "make", "--by", "passphrase")
	t.Cleanup(func() { m.run("", "", "vault", "lock") })
	assert.Empty(t, stop(), "no process carries the passphrase")
	assert.Empty(t, holders(t, "seven tall masts", m.home))
	m.ok("", h.token["tern"], "account", "add", "--host", "gannet")
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes")
	change := func() {
		f, err := os.OpenFile(filepath.Join(m.home, "gauge/README.md"), os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteString("more\n")
		require.NoError(t, err)
		require.NoError(t, f.Close())
		m.git("gauge", "commit", "-q", "-a", "-m", "More")
	}
	change()
	m.git("gauge", "push", "-q")

	m.ok("", "", "vault", "lock")
	assert.Contains(t, m.ok("", "", "vault", "show"), "locked")
	change()
	r := m.command("gauge", "", "git", "push")
	assert.NotEqual(t, 0, r.code)
	assert.Contains(t, r.err, "the vault is locked")
	assert.Contains(t, r.err, "uncinate vault unlock")
	m.refused(3, []string{"the vault is locked"}, "gauge", "", "sync")
	m.refused(1, []string{"the passphrase is wrong"}, "", "eight tall masts\n", "vault", "unlock")
	assert.Contains(t, m.ok("", "", "vault", "show"), "locked")
	m.ok("", "seven tall masts\n", "vault", "unlock", "--within", "8s")
	m.git("gauge", "push", "-q")
	m.refused(2, []string{"how should the vault be protected", "vault change --by passphrase"}, "", "", "vault", "change")
	m.ok("", "nine tall masts\n", "vault", "change", "--by", "passphrase")
	change()
	m.git("gauge", "push", "-q")
	m.ok("", "", "vault", "lock")
	m.refused(3, []string{"the vault is locked"}, "", "ten tall masts\n", "vault", "change", "--by", "file")
	m.refused(1, []string{"the passphrase is wrong"}, "", "seven tall masts\n", "vault", "unlock")
	m.ok("", "nine tall masts\n", "vault", "unlock", "--within", "3s")
	assert.Eventually(t, func() bool { return strings.Contains(m.ok("", "", "vault", "show"), "locked") }, 30*time.Second, 300*time.Millisecond, "it locks by itself")
	for _, name := range []string{"vault/secrets.1.age", "vault/identity.1.age", "vault/vault.json"} {
		s, err := os.Stat(filepath.Join(m.home, ".uncinate", name))
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o600), s.Mode().Perm(), name)
	}
}

func TestVaultRefusesAnOpenKeyFile(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	key := filepath.Join(m.home, ".uncinate/vault/identity.key")
	require.NoError(t, os.Chmod(key, 0o644))
	m.project("gauge")
	m.refused(4, []string{"others may read", "chmod 600"}, "gauge", "", "attach", "--yes")
	require.NoError(t, os.Chmod(key, 0o600))
	secrets := filepath.Join(m.home, ".uncinate/vault/secrets.age")
	data, err := os.ReadFile(secrets)
	require.NoError(t, err)
	data[len(data)-3] ^= 1
	require.NoError(t, os.WriteFile(secrets, data, 0o600))
	m.refused(1, []string{"secrets.age", "damaged"}, "gauge", "", "attach", "--yes")
}

// plainServer serves bare repositories over git's smart HTTP and knows nothing else.
// With a password it asks everybody for tern's.
func plainServer(t *testing.T, password string) (string, string) {
	t.Helper()
	dir := t.TempDir()
	execPath, err := exec.Command("git", "--exec-path").Output()
	require.NoError(t, err)
	backend := &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(execPath)), "git-http-backend"), Env: []string{"GIT_PROJECT_ROOT=" + dir, "GIT_HTTP_EXPORT_ALL=1"}}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if user, given, _ := q.BasicAuth(); password != "" && (user != "tern" || given != password) {
			w.Header().Set("WWW-Authenticate", `Basic realm="plain"`)
			w.WriteHeader(401)
			return
		}
		backend.ServeHTTP(w, q)
	}))
	t.Cleanup(s.Close)
	for _, name := range []string{"almanac.git", "drawings.git"} {
		require.NoError(t, exec.Command("git", "init", "-q", "--bare", "-b", "main", filepath.Join(dir, name)).Run())
		require.NoError(t, exec.Command("git", "-C", filepath.Join(dir, name), "config", "http.receivepack", "true").Run())
	}
	return s.URL, dir
}

func TestAttachToAnUndescribedHost(t *testing.T) {
	t.Parallel()
	at, dir := plainServer(t, "")
	m := newMachine(t)
	m.project("almanac")
	m.refused(3, []string{"git has no name and e-mail for the commits", "--full-name"}, "almanac", "", "attach", "--yes", "--to", at+"/almanac.git")
	m.git("", "config", "--global", "user.name", "Tern")
	m.git("", "config", "--global", "user.email", "tern@skerry.example")
	m.ok("almanac", "", "attach", "--yes", "--to", at+"/almanac.git")
	assert.Equal(t, m.git("almanac", "rev-parse", "HEAD"), m.git(filepath.Join(dir, "almanac.git"), "rev-parse", "main"))
	m.ok("", "", "clone", at+"/almanac", "copy")
	assert.Equal(t, tree(t, filepath.Join(m.home, "almanac")), tree(t, filepath.Join(m.home, "copy")))
	assert.Contains(t, m.ok("copy", "", "sync"), "In step")

	// It holds work now, with which another folder is joined as soon as it is decided how.
	m.project("other")
	m.refused(3, []string{"1 file differs between both sides", "--clash mine"}, "other", "", "attach", "--yes", "--to", at+"/almanac.git")
	assert.NoDirExists(t, filepath.Join(m.home, "other/.git"))
	m.ok("other", "", "attach", "--yes", "--to", at+"/almanac.git", "--clash", "mine")
	assert.Equal(t, "# other", m.git(filepath.Join(dir, "almanac.git"), "show", "main:README.md"))
	m.project("third")
	m.refused(5, []string{"there is no repository at"}, "third", "", "attach", "--yes", "--to", at+"/nothing.git")
}

func TestAccountForAnUndescribedAddress(t *testing.T) {
	t.Parallel()
	at, dir := plainServer(t, "pa55-of-the-plain-host")
	m := newMachine(t)
	m.git("", "config", "--global", "user.name", "Tern")
	m.git("", "config", "--global", "user.email", "tern@skerry.example")
	m.ok("", "", "vault", "make", "--by", "file")
	m.project("drawings")
	m.refused(5, []string{"asks for a sign-in", "uncinate account add --at " + at + "/drawings.git"}, "drawings", "", "attach", "--yes", "--to", at+"/drawings.git")
	m.refused(5, []string{"does not accept"}, "", "wrong\n", "account", "add", "--at", at+"/drawings.git", "--user", "tern")
	m.ok("", "pa55-of-the-plain-host\n", "account", "add", "--at", at+"/drawings.git", "--user", "tern")
	m.ok("drawings", "", "attach", "--yes", "--to", at+"/drawings")
	assert.Equal(t, m.git("drawings", "rev-parse", "HEAD"), m.git(filepath.Join(dir, "drawings.git"), "rev-parse", "main"))
	assert.Empty(t, holders(t, "pa55-of-the-plain-host", m.home))
}
