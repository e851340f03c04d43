package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// ready runs ready and gives its lines: about and what → state and words.
func (m *machine) ready(code int, args ...string) map[string]string {
	m.t.Helper()
	r := m.run("", "", append([]string{"ready", "--json"}, args...)...)
	require.Equal(m.t, code, r.code, r.out+r.err)
	var doc struct {
		Ready bool
		Lines []struct{ About, What, State, Says string }
	}
	require.NoError(m.t, json.Unmarshal([]byte(r.out), &doc))
	assert.Equal(m.t, code == 0, doc.Ready)
	lines := map[string]string{}
	for _, l := range doc.Lines {
		lines[l.About+"/"+l.What] = l.State + ": " + l.Says
	}
	return lines
}

func TestReady(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.project("gauge")
	lines := m.ready(0, "gauge")
	assert.Contains(t, lines["machine/git"], "good: 2.")
	assert.Equal(t, "doubtful: not made yet", lines["machine/vault"])
	assert.Equal(t, "doubtful: none yet", lines["machine/accounts"])
	assert.Contains(t, lines["project/repository"], "doubtful: there is no account")
	assert.Contains(t, lines["machine/identity"], "doubtful: git has no name and e-mail")
	assert.Contains(t, m.ok("", "", "ready"), "uncinate vault make --by file")

	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token["tern"], "account", "add", "--host", "gannet")
	lines = m.ready(0, "gauge")
	assert.Equal(t, "good: opened by a key file", lines["machine/vault"])
	assert.Equal(t, "good: only you can write to them", lines["machine/own folders"])
	m.write("many", map[string]string{"id": likeAKey})
	m.git("many", "init", "-q")
	m.git("many", "remote", "add", "origin", "http://elsewhere.example/x/y.git")
	many := m.ready(1, "many")
	assert.Contains(t, many["project/files"], "bad: 1 file would go up that must not")
	assert.Contains(t, many["project/repository"], "bad: plain http to elsewhere.example", "all that is in the way is told at once")
	assert.Equal(t, "good: belongs to tern on gannet", lines["account tern/token"])
	assert.Contains(t, lines["account tern/token expiry"], "good: 20")
	assert.Equal(t, "good: same as gannet's", lines["account tern/clock"])
	assert.Equal(t, "good: can be attached to a new repository, tern/gauge on gannet", lines["project/attach"])
	assert.NoDirExists(t, filepath.Join(m.home, "gauge/.git"))
	assert.Empty(t, h.Store.List("tern", ""), "looking makes nothing")
	m.ok("gauge", "", "attach", "--yes")
	assert.Equal(t, "good: attached to "+h.URL+"/tern/gauge.git", m.ready(0, "gauge")["project/attached"])

	require.NoError(t, h.Faults.Set([]string{"date=3h"}))
	assert.Contains(t, m.ready(0)["account tern/clock"], "doubtful: this machine's clock is 3h0m from gannet's")
	require.NoError(t, h.Faults.Set([]string{"fail=503"}))
	assert.Contains(t, m.ready(1)["account tern/host"], "bad: gannet is there but cannot work now")
	require.NoError(t, h.Faults.Set(nil))
	require.NoError(t, h.Store.AddToken("plunge~narrow", "tern", []string{"self"}, time.Now().Add(50*time.Hour)))
	m.ok("", "plunge~narrow", "account", "add", "tern", "--host", "gannet")
	lines = m.ready(0)
	assert.Equal(t, "doubtful: lacks launch, look", lines["account tern/scopes"])
	assert.Contains(t, lines["account tern/token expiry"], "doubtful: expires on ")
	require.NoError(t, h.Store.EndToken("plunge~narrow"))
	assert.Contains(t, m.ready(1)["account tern/token"], "bad: the token of account tern has ended")
	m.ok("", h.token["dunlin"], "account", "add", "--host", "gannet")
	assert.Contains(t, m.ready(1)["account dunlin/name and e-mail"], "doubtful: dunlin@gannet.example is not yet confirmed")

	state := filepath.Join(m.home, ".uncinate/state")
	require.NoError(t, os.Chmod(state, 0o777))
	assert.Contains(t, m.ready(1)["machine/folder of state"], "bad: others may write in")
	require.NoError(t, os.Chmod(state, 0o700))
	m.env = append(m.env, "SSH_AUTH_SOCK=/nowhere")
	assert.Contains(t, m.ready(1)["machine/SSH agent"], "doubtful: SSH_AUTH_SOCK names one that does not answer")
	assert.Contains(t, m.ready(1, "missing")["project/folder"], "bad: there is no folder")
}

func TestReadyWithAnotherGit(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	real, err := exec.LookPath("git")
	require.NoError(t, err)
	other := filepath.Join(m.home, "other-git")
	require.NoError(t, os.WriteFile(other, []byte("#!/bin/sh\necho \"$@\" >> "+m.home+"/used\nexec "+real+" \"$@\"\n"), 0o755))
	m.ok("", "", "settings", "set", "git", other)
	assert.Equal(t, "good: "+version(t)+" at "+other, m.ready(0)["machine/git"])
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes")
	used, err := os.ReadFile(filepath.Join(m.home, "used"))
	require.NoError(t, err)
	assert.Contains(t, string(used), "push")
	m.refused(1, []string{"there is no program at"}, "", "", "settings", "set", "git", filepath.Join(m.home, "none"))
	require.NoError(t, os.Remove(other))
	m.refused(1, []string{"there is no program at", "uncinate settings unset git"}, "gauge", "", "status")
	m.ok("", "", "settings", "unset", "git")
	assert.Contains(t, m.ready(0)["machine/git"], "at "+real)
}

func version(t *testing.T) string {
	t.Helper()
	out, err := exec.Command("git", "version").Output()
	require.NoError(t, err)
	return string(out[len("git version ") : len(out)-1])
}

func TestPracticeFaultsByOption(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.refused(2, []string{"--fault"}, "", "", "practice", "--fault", "sulk")
	for _, kind := range practice.FaultKinds {
		_, err := practice.ParseFault(kind)
		assert.NoError(t, err)
	}
}
