package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// TestPeople lets people into a repository and takes them out, though answers are lost; what a host does
// not offer is said, with the page.
func TestPeople(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	address := m.git("gauge", "remote", "get-url", "origin")
	may := func() map[string]int { return h.repoAt(t, address).People }
	assert.Contains(t, m.ok("gauge", "", "access", "list"), "names nobody beside its owner, tern, and no deploy key")
	shown := m.ok("gauge", "", "access", "grant", "knot", "--right", "write", "--preview")
	assert.Contains(t, shown, "Let knot write to tern/gauge")
	assert.Contains(t, shown, "then: uncinate clone tern/gauge")
	m.refused(3, []string{"uncinate access grant knot --right write --yes"}, "gauge", "", "access", "grant", "knot", "--right", "write")
	for _, fault := range []string{"lose on POST times 1", "cut on POST times 1", "fail=503 on POST times 1"} {
		for _, line := range []string{"access grant knot --right write --yes", "access withdraw knot --yes"} {
			require.NoError(t, h.Faults.Set([]string{fault}))
			if r := m.command("gauge", "", program, strings.Fields(line)...); r.code != 0 {
				m.ok("gauge", "", strings.Fields(line)...)
			}
			assert.Equal(t, map[bool]int{true: practice.Write}[strings.Contains(line, "grant")], may()["knot"], "%s: %s", fault, line)
		}
	}
	m.ok("gauge", "", "access", "grant", "knot", "dunlin", "--yes")
	assert.Equal(t, map[string]int{"knot": practice.Read, "dunlin": practice.Read}, may())
	assert.Contains(t, m.ok("gauge", "", "access", "grant", "knot", "--right", "admin", "--preview"), "Let knot write to, and see to the settings of, tern/gauge (until now: read)")
	m.ok("gauge", "", "access", "grant", "knot", "--right", "admin", "--yes")
	assert.Contains(t, m.ok("gauge", "", "access", "grant", "knot", "--right", "admin"), "That is so already")
	m.refused(5, []string{"there is nobody named nobody on gannet", "Nothing was granted"}, "gauge", "", "access", "grant", "dunlin", "nobody", "--right", "write", "--yes")
	assert.Equal(t, map[string]int{"knot": practice.Admin, "dunlin": practice.Read}, may(), "all or nothing")
	out := m.ok("gauge", "", "access", "list")
	assert.Contains(t, out, "dunlin  read\nknot    admin")
	m.refused(1, []string{"dunli is not among the people", "Did you mean dunlin?"}, "gauge", "", "access", "withdraw", "dunli", "--yes")
	assert.Contains(t, m.ok("gauge", "", "access", "withdraw", "dunlin", "knot", "--yes"), "are no longer among the people of tern/gauge")
	assert.Empty(t, may())

	// What is asked wrongly, and what is not offered.
	for _, c := range []struct {
		code int
		says string
		args string
	}{{2, "a person may read, write or admin, and not rule", "grant knot --right rule"}, {5, h.URL + "/crew/tern/gauge", "grant knot@saltmarsh.example"}, {2, "either people or a key", "grant knot --key x.pub"},
		{2, "--title needs --key", "grant knot --title x"}, {2, "name a person", "withdraw"}} {
		m.refused(c.code, []string{c.says}, "gauge", "", append([]string{"access"}, strings.Fields(c.args)...)...)
	}
	assert.Contains(t, m.command("gauge", "", program, "invite", "knot").err, "uncinate access grant knot")
	for _, name := range []string{"petrel", "fulmar"} {
		other := newHostOf(t, name)
		m.ok("", "", "host", "add", name, "--at", other.URL)
		m.ok("", other.token["tern"]+"\n", "account", "add", "tern-"+name, "--host", name, "--user", "tern")
		m.project(name)
		m.ok(name, "", "attach", "--yes", "--account", "tern-"+name)
		m.refused(5, []string{fmt.Sprintf("%s offers no way to give people access", name)}, name, "", "access", "grant", "knot", "--yes")
	}
}

// TestTransfer hands a repository over to a group, though the answer is lost; copies follow.
func TestTransfer(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	m.ok("", "", "clone", "tern/gauge", "copy")
	shown := m.ok("", "", "repository", "transfer", "tern/gauge", "saltmarsh", "--preview")
	for _, says := range []string{"Hand tern/gauge over to saltmarsh", "Update 2 projects here to the new address", "Copies elsewhere follow at their next sync"} {
		assert.Contains(t, shown, says)
	}
	m.refused(3, []string{"uncinate repository transfer tern/gauge saltmarsh --yes"}, "", "", "repository", "transfer", "tern/gauge", "saltmarsh")
	m.refused(5, []string{"make repositories for knot", "It is as it was."}, "", "", "repository", "transfer", "tern/gauge", "knot", "--yes")
	m.refused(2, nil, "", "", "repository", "transfer", "tern/gauge", "../x", "--yes")
	require.NoError(t, h.Faults.Set([]string{"lose on POST times 1"}))
	assert.Contains(t, m.ok("", "", "repository", "transfer", "tern/gauge", "saltmarsh", "--yes"), "Handed over, and checked with gannet.")
	for _, folder := range []string{"gauge", "copy"} {
		assert.Equal(t, h.URL+"/saltmarsh/gauge.git", m.git(folder, "remote", "get-url", "origin"))
		assert.Contains(t, m.ok(folder, "", "sync"), "In step")
	}
	assert.Contains(t, m.ok("", "", "repository", "transfer", "saltmarsh/gauge", "saltmarsh", "--yes"), "That is so already")

	// Cut off once the host had done it: the same command says so, and the copies follow.
	require.True(t, m.killWhen("", func([]byte) bool {
		_, err := h.Store.Find("tern", "tern", "gauge")
		return err == nil
	}, "repository", "transfer", "saltmarsh/gauge", "tern", "--yes"))
	m.free()
	assert.Contains(t, m.ok("", "", "repository", "transfer", "saltmarsh/gauge", "tern", "--yes"), "It was handed over before this was cut off")
	for _, folder := range []string{"gauge", "copy"} {
		m.run(folder, "", "sync", "--yes")
		assert.Equal(t, h.URL+"/tern/gauge.git", m.git(folder, "remote", "get-url", "origin"))
	}
}

// TestDeletedIsKept deletes a repository with all its branches and tags, though the answer is lost, and
// brings it back whole.
func TestDeletedIsKept(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	m.ok("gauge", "", "branch", "make", "pump", "--publish")
	m.ok("gauge", "", "tag", "make", "1.0.0", "--yes")
	h2 := m.git("gauge", "rev-parse", "HEAD")
	assert.Contains(t, m.ok("", "", "rescue", "list", "--deleted"), "No repository was deleted from here yet")
	shown := m.ok("", "", "repository", "delete", "tern/gauge", "--preview")
	assert.Contains(t, shown, "Keep all its branches and tags in a rescue copy on this machine, for 90 days")

	// What cannot be received is not deleted.
	require.NoError(t, h.Faults.Set([]string{"fail=503 on POST"}))
	require.NotEqual(t, 0, m.command("", "", program, "repository", "delete", "tern/gauge", "--yes").code)
	require.NoError(t, h.Faults.Set([]string{"lose on DELETE times 1"}))
	assert.Contains(t, m.ok("", "", "repository", "delete", "tern/gauge", "--yes"), "To bring it back: uncinate rescue bring --deleted tern/gauge")
	assert.Empty(t, h.Store.List("tern", ""))
	assert.Contains(t, m.ok("", "", "rescue", "list", "--deleted"), "tern/gauge  gannet")
	m.refused(1, []string{"no rescue copy of a deleted repository tern/guage", "Did you mean tern/gauge?"}, "", "", "rescue", "bring", "--deleted", "tern/guage")
	m.refused(3, []string{"there is something at", "--into gauge-2"}, "", "", "rescue", "bring", "--deleted", "gauge")
	said := m.ok("", "", "rescue", "bring", "--deleted", "gauge", "--into", "back")
	assert.Contains(t, said, "2 branches, 1 tag.\nTo publish it: uncinate attach "+m.home+"/back --branches\nThen its tags: git -C "+m.home+"/back push --tags origin")
	assert.Equal(t, h2, m.git("back", "rev-parse", "main", "pump", "1.0.0^{commit}")[:40])
	assert.Equal(t, "main\npump", m.git("back", "for-each-ref", "--format=%(refname:short)", "refs/heads"))
	assert.Empty(t, m.git("back", "status", "--porcelain"))
	assert.Equal(t, tree(t, m.home+"/gauge"), tree(t, m.home+"/back"))
	m.ok("back", "", "attach", "--yes", "--branches", "--name", "gauge-again")
	m.git("back", "push", "-q", "--tags", "origin")
	assert.Equal(t, 5, strings.Count(m.git("back", "ls-remote", "origin"), "\n")+1, "HEAD, two branches, a tag and what it is of")

	// A name is typed in place of a yes; and what is not wanted is not kept.
	k := m.talk("", "repository", "delete", "tern/gauge-again", "--without-copy")
	k.asked("Type tern/gauge-again to go ahead: ", "gauge\n")
	code, said := k.ends()
	assert.Equal(t, 3, code, said)
	k = m.talk("", "repository", "delete", "tern/gauge-again", "--without-copy")
	k.asked("Type tern/gauge-again to go ahead: ", "tern/gauge-again\n")
	code, said = k.ends()
	assert.Equal(t, 0, code, said)
	assert.NotContains(t, m.ok("", "", "rescue", "list", "--deleted"), "gauge-again")

	// A copy that cannot be read is told of, and not left out of the list.
	notes, err := filepath.Glob(filepath.Join(m.home, ".uncinate/state/deleted/*/about.json"))
	require.NoError(t, err)
	require.Len(t, notes, 1)
	require.NoError(t, os.WriteFile(notes[0], []byte("{"), 0o600))
	m.refused(1, []string{"about.json is damaged", "mv -- "}, "", "", "rescue", "list", "--deleted")
}
