package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// TestEveryFaultIsNamed lets the host misbehave in every way it knows.
func TestEveryFaultIsNamed(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	for i, c := range []struct {
		fault string
		code  int
		says  string
	}{
		{"fail", 6, "cannot work now (status 500)"},
		{"fail=503 on /deck", 6, "cannot work now (status 503)"},
		{"fail=402 on POST on /deck/hulls", 5, "does not allow it on your plan"},
		{"fail=404 on POST", 5, "has nothing of that name, or account tern may not see it"},
		{"cut on /deck", 6, "the line was cut"},
		{"rate-limit=200s on /deck", 6, "It names 200 seconds."},
		{"rate-limit=1s on /deck times 1", 0, "gannet asks us to wait for 1s."},
		{"garbage on /deck", 6, "not the API that the description expects"},
		{"end-token", 5, "the token of account tern has ended"},
		{"delay=50ms", 0, ""},
		{"late=200ms on PATCH", 0, ""},
	} {
		name := fmt.Sprint("gauge-", i)
		m.project(name)
		require.NoError(t, h.Faults.Set([]string{c.fault}))
		r := m.run(name, "", "attach", "--yes")
		require.NotEmpty(t, h.Faults.Log())
		assert.Equal(t, c.code, r.code, "%s\n%s", c.fault, r.err)
		assert.Contains(t, r.err, c.says, c.fault)
		require.NoError(t, h.Faults.Set(nil))
		if strings.HasPrefix(c.fault, "end-token") {
			var err error
			h.token["tern"], err = h.Store.NewToken("plunge~", "tern", practice.GannetScopes, time.Time{})
			require.NoError(t, err)
			m.ok("", h.token["tern"], "account", "add", "tern", "--host", "gannet")
		}
		m.ok(name, "", "attach", "--yes")
	}
	assert.Len(t, h.Store.List("tern", ""), 11)
}

// TestRefusedAtCreatePutsBack lets the host refuse the creation after the local steps
// were done, from each state a folder can be in.
func TestRefusedAtCreatePutsBack(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	require.NoError(t, h.Faults.Set([]string{"fail=402 on POST on /deck/hulls"}))
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
				seen["index"], seen["refs"], seen["head"] = m.gitState(name)
			} else {
				seen["git"] = "none"
			}
			return seen
		}
		before := see()
		m.refused(5, []string{"does not allow it on your plan", "the folder is as it was"}, name, "", "attach", "--yes")
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
	m := signedIn(t, h)
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
		require.NoError(t, h.Faults.Set([]string{"cut on git-receive-pack"}))
		m.refused(1, []string{"could not send the work", "goes on from here"}, folder, "", append([]string{"attach", "--yes"}, c.args...)...)
		require.NoError(t, h.Faults.Set(nil))
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
