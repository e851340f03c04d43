package e2e

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// pasted runs the first command that a message tells to run.
func (m *machine) pasted(dir, said string) result {
	m.t.Helper()
	for line := range strings.SplitSeq(said, "\n") {
		if command, ok := strings.CutPrefix(strings.TrimSpace(line), "uncinate "); ok {
			c := exec.Command("bash", "-c", `uncinate() { "$U" "$@"; }; uncinate `+command)
			c.Dir, c.Env = filepath.Join(m.home, dir), append(m.env, "U="+program)
			out, _ := c.CombinedOutput()
			return result{c.ProcessState.ExitCode(), string(out), ""}
		}
	}
	m.t.Fatalf("there is no command in: %s", said)
	return result{}
}

// TestTheRightAccountIsNamed meets "not found" and "denied" with the wrong one of
// several accounts on one host.
func TestTheRightAccountIsNamed(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	for _, user := range []string{"tern-own", "dunlin"} {
		m.ok("", h.token[user], "account", "add", user, "--host", "gannet")
	}
	_, err := h.Store.Create(t.Context(), "tern-own", practice.Repo{Owner: "tern-own", Name: "hidden", Visibility: "private"})
	require.NoError(t, err)

	said := m.refused(5, []string{"no repository tern-own/hidden, or tern may not see it", "Your account tern-own can see it", "uncinate clone --account tern-own tern-own/hidden"}, "", "", "clone", "--account", "tern", "tern-own/hidden")
	r := m.pasted("", said)
	require.Equal(t, 0, r.code, r.out)
	assert.DirExists(t, filepath.Join(m.home, "hidden/.git"))
	for folder, what := range map[string]string{"by-path": "tern-own/hidden", "by-name": "hidden", "by-address": h.URL + "/tern-own/hidden.git"} {
		r := m.run("", "", "clone", what, folder)
		require.Equal(t, 0, r.code, "%s: %s", what, r.err)
		assert.Contains(t, r.err, "only tern-own can see it, so that one is used", what)
	}
	m.refused(5, []string{"no repository nobody/nothing"}, "", "", "clone", "--account", "tern", "nobody/nothing")

	// To make one for a group that only another account belongs to.
	m.project("shared")
	said = m.refused(5, []string{"on gannet the account tern-own cannot make repositories for saltmarsh", "Your account tern can make repositories for saltmarsh"}, "shared", "", "attach", "--yes", "--account", "tern-own", "--name", "saltmarsh/shared")
	r = m.pasted("shared", strings.Replace(said, "uncinate attach", "uncinate attach --yes", 1))
	require.Equal(t, 0, r.code, r.out)

	// To send with an account that may only read.
	m.ok("", "", "clone", "--account", "dunlin", "saltmarsh/shared", "copy")
	m.write("copy", map[string]string{"more": "more"})
	m.git("copy", "add", "-A")
	m.git("copy", "commit", "-q", "-m", "More")
	said = m.refused(5, []string{"account dunlin may only read saltmarsh/shared", "Your account tern can send to it"}, "copy", "", "sync")
	r = m.pasted("copy", strings.Replace(said, "uncinate attach", "uncinate attach --yes", 1))
	require.Equal(t, 0, r.code, r.out)
	assert.Contains(t, m.ok("copy", "", "sync"), "In step")

	// A attached repository that was taken away from one account.
	_, err = h.Store.Change(t.Context(), "tern-own", "tern-own", "hidden", 0, func(r *practice.Repo) error { r.Owner = "tern"; return nil })
	require.NoError(t, err)
	m.refused(5, []string{"no repository at"}, "by-name", "", "sync")
}
