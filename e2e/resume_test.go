package e2e

import (
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// faulty stands before a host and spoils what spoil says: it may answer itself, or
// let the host do the work and then cut the line.
func faulty(t *testing.T, h *host, spoil func(q *http.Request) (cutBefore, cutAfter bool)) string {
	t.Helper()
	to, err := url.Parse(h.URL)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(to)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		before, after := spoil(q)
		if before {
			panic(http.ErrAbortHandler)
		}
		if after {
			proxy.ServeHTTP(httptest.NewRecorder(), q)
			panic(http.ErrAbortHandler)
		}
		proxy.ServeHTTP(w, q)
	}))
	t.Cleanup(s.Close)
	return s.URL
}

// TestEveryLostAnswer loses the answer to each request of an attach in turn, after
// the host has done the work, and then each request itself. Run again, the attach
// ends as if nothing had happened, with exactly one hosted repository.
func TestEveryLostAnswer(t *testing.T) {
	t.Parallel()
	for _, lose := range []string{"answer", "request"} {
		lost := 0
		for n := 1; ; n++ {
			h := newHost(t)
			var count atomic.Int64
			var armed atomic.Bool
			at := faulty(t, h, func(*http.Request) (bool, bool) {
				hit := armed.Load() && count.Add(1) == int64(n)
				return hit && lose == "request", hit && lose == "answer"
			})
			m := newMachine(t)
			m.ok("", "", "host", "add", "gannet", "--at", at)
			m.ok("", "", "vault", "make", "--by", "file")
			m.ok("", h.token["tern"], "account", "add", "--host", "gannet")
			m.project("gauge")
			armed.Store(true)
			first := m.run("gauge", "", "attach", "--yes", "--description", "Invented levels")
			armed.Store(false)
			if count.Load() < int64(n) {
				require.Equal(t, 0, first.code, first.err)
				break // there is no n-th request
			}
			if first.code != 0 {
				lost++
			}
			out := m.ok("gauge", "", "attach", "--yes", "--description", "Invented levels")
			assert.Contains(t, strings.ToLower(out), "attached", "%s %d", lose, n)
			all := h.Store.List("tern", "")
			require.Len(t, all, 1, "%s %d\n%s", lose, n, first.err)
			assert.Equal(t, "Invented levels", all[0].Description, "%s %d", lose, n)
			assert.Equal(t, m.git("gauge", "rev-parse", "HEAD"), m.git(h.Store.GitDir(all[0].ID), "rev-parse", "refs/heads/main"))
			assert.Equal(t, "1", m.git("gauge", "rev-list", "--count", "HEAD"))
			left, err := filepath.Glob(filepath.Join(m.home, ".uncinate/state/journal/*"))
			require.NoError(t, err)
			assert.Empty(t, left)
		}
		assert.GreaterOrEqual(t, lost, 4, "so few were lost that nothing was tried")
	}
}

// TestKilledAnywhere kills an attach at moments all over its run; run again it goes on.
func TestKilledAnywhere(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	killed := 0
	for i := range 14 {
		name := "gauge-" + string(rune('a'+i))
		m.project(name)
		c := exec.Command(program, "attach", "--yes", "--description", "Levels")
		c.Dir, c.Env = filepath.Join(m.home, name), m.env
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(5+i*14) * time.Millisecond)
		if c.Process.Kill() == nil && c.Wait() != nil {
			killed++
		}
		// Children of the killed run may still be at work; a person comes back later.
		require.Eventually(t, func() bool { return m.run(name, "", "attach", "--yes").code == 0 }, 20*time.Second, 300*time.Millisecond, name)
		r, err := h.Store.Find("tern", "tern", name)
		require.NoError(t, err, name)
		assert.Equal(t, m.git(name, "rev-parse", "HEAD"), m.git(h.Store.GitDir(r.ID), "rev-parse", "refs/heads/main"))
		assert.Equal(t, "1", m.git(name, "rev-list", "--count", "HEAD"), name)
	}
	assert.Len(t, h.Store.List("tern", ""), 14)
	assert.GreaterOrEqual(t, killed, 3)
}

// TestRefusedAtCreatePutsBack lets the host refuse the creation after the local steps
// were done, from each state a folder can be in.
func TestRefusedAtCreatePutsBack(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	at := faulty(t, h, func(*http.Request) (bool, bool) { return false, false })
	refuse := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.Method == http.MethodPost && strings.HasSuffix(q.URL.Path, "/repos") {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(402)
			_, _ = w.Write([]byte(`{"title":"Your plan has room for no more","detail":"Ten repositories are all"}`))
			return
		}
		to, _ := url.Parse(at)
		httputil.NewSingleHostReverseProxy(to).ServeHTTP(w, q)
	}))
	t.Cleanup(refuse.Close)
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", refuse.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token["tern"], "account", "add", "--host", "gannet")
	for name, prepare := range map[string]func(dir string){
		"plain": func(string) {},
		"unborn": func(dir string) {
			m.git(dir, "init", "-q", "-b", "trunk")
			m.git(dir, "add", "README.md")
		},
		"older": func(dir string) {
			for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"config", "user.name", "T"}, {"config", "user.email", "t@skerry.example"}, {"add", "-A"}, {"commit", "-q", "-m", "One"}} {
				m.git(dir, args...)
			}
		},
	} {
		m.project(name)
		m.write(name, map[string]string{".gitignore": "# mine\n", "src/level.o": "object"})
		prepare(name)
		see := func() map[string]string {
			seen := tree(t, filepath.Join(m.home, name))
			if _, err := os.Stat(filepath.Join(m.home, name, ".git")); err == nil {
				seen["config"] = m.git(name, "config", "--local", "--list")
				seen["index"] = m.git(name, "ls-files", "-s")
				seen["refs"] = m.git(name, "for-each-ref")
				seen["head"] = m.git(name, "symbolic-ref", "HEAD")
			} else {
				seen["git"] = "none"
			}
			return seen
		}
		before := see()
		m.refused(5, []string{"does not allow it on your plan", "Ten repositories are all", "the folder is as it was"}, name, "", "attach", "--yes")
		assert.Equal(t, before, see(), name)
		left, err := filepath.Glob(filepath.Join(m.home, ".uncinate/state/journal/*"))
		require.NoError(t, err)
		assert.Empty(t, left, name)
	}
	assert.Empty(t, h.Store.List("tern", ""))
}

func TestTwoAtOnce(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	var codes [2]chan result
	for i := range codes {
		codes[i] = make(chan result, 1)
		go func() {
			c := exec.Command(program, "attach", "--yes")
			c.Dir, c.Env = filepath.Join(m.home, "gauge"), m.env
			out, _ := c.CombinedOutput()
			codes[i] <- result{c.ProcessState.ExitCode(), string(out), ""}
		}()
	}
	first, second := <-codes[0], <-codes[1]
	assert.True(t, first.code == 0 || second.code == 0, "%v\n%v", first, second)
	for _, r := range []result{first, second} {
		if r.code != 0 {
			assert.Contains(t, r.out, "another uncinate (process ")
		}
	}
	m.ok("gauge", "", "attach", "--yes")
	assert.Len(t, h.Store.List("tern", ""), 1)
	assert.Equal(t, "1", m.git("gauge", "rev-list", "--count", "HEAD"))
}

func TestResumeKeepsTheChoices(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	var armed atomic.Bool
	at := faulty(t, h, func(q *http.Request) (bool, bool) {
		return armed.Load() && strings.Contains(q.URL.Path, "git-receive-pack"), false
	})
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", at)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token["tern"], "account", "add", "--host", "gannet")
	_, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "saltmarsh", Name: "almanac", Visibility: "members"})
	require.NoError(t, err)
	for folder, c := range map[string]struct {
		args  []string
		owner string
		name  string
	}{
		"new":   {[]string{"--name", "saltmarsh/new-gauge", "--visibility", "members", "--message", "Begin"}, "saltmarsh", "new-gauge"},
		"taken": {[]string{"--to", "saltmarsh/almanac", "--message", "Begin"}, "saltmarsh", "almanac"},
	} {
		m.project(folder)
		armed.Store(true)
		m.refused(1, []string{"could not send the work", "goes on from here"}, folder, "", append([]string{"attach", "--yes"}, c.args...)...)
		armed.Store(false)
		r := m.run(folder, "", "attach", "--yes")
		require.Equal(t, 0, r.code, r.err)
		assert.Contains(t, r.err, "this one goes on from there")
		there, err := h.Store.Find("tern", c.owner, c.name)
		require.NoError(t, err)
		assert.Equal(t, "members", there.Visibility)
		assert.Equal(t, "Begin", m.git(h.Store.GitDir(there.ID), "log", "-1", "--format=%s", "main"))
	}
	assert.Len(t, h.Store.List("tern", ""), 2)
}
