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

// signedInAs is a machine of another person, who has an account on the host.
func signedInAs(t *testing.T, h *host, user string) *machine {
	t.Helper()
	m := newMachine(t)
	m.ok("", "", "host", "add", h.Name, "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token[user]+"\n", "account", "add", "--host", h.Name, "--user", user)
	return m
}

// often runs a command until it ends well, at most twice: the first time a request of a kind fails or
// its answer is lost.
func (m *machine) often(h *host, fault, dir string, args ...string) {
	m.t.Helper()
	require.NoError(m.t, h.Faults.Set([]string{fault}))
	if r := m.command(dir, "", program, args...); r.code != 0 {
		m.ok(dir, "", args...)
	}
	require.NoError(m.t, h.Faults.Set(nil))
}

var lostAnswers = []string{"lose on %s times 1", "cut on %s times 1", "fail=503 on %s times 1"}

// TestPeople invites people into a repository, who answer, and takes them out, though answers are lost.
func TestPeople(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	address := m.git("gauge", "remote", "get-url", "origin")
	may := func() map[string]int { return h.repoAt(t, address).People }
	waiting := func() (to []string) {
		all, err := h.Store.Invites("tern", "tern", "gauge")
		require.NoError(t, err)
		for _, i := range all {
			to = append(to, i.To+i.Mail)
		}
		return to
	}
	assert.Contains(t, m.ok("gauge", "", "access", "list"), "names nobody beside its owner, tern, and no deploy key")
	shown := m.ok("gauge", "", "access", "grant", "knot", "--right", "write", "--preview")
	assert.Contains(t, shown, "Invite knot to write to tern/gauge")
	assert.Contains(t, shown, "allows 7 people in a private repository, those who are invited included; with this it has 1.")
	assert.Contains(t, shown, "then: uncinate invitation accept tern/gauge && uncinate clone tern/gauge")
	m.refused(3, []string{"uncinate access grant knot --right write --yes"}, "gauge", "", "access", "grant", "knot", "--right", "write")
	knot := signedInAs(t, h, "knot")
	for i, fault := range lostAnswers {
		post := fmt.Sprintf(fault, "POST")
		m.often(h, post, "gauge", "access", "grant", "knot", "--right", "write", "--yes")
		assert.Equal(t, []string{"knot"}, waiting(), "%s: once", fault)
		assert.Contains(t, m.ok("gauge", "", "access", "grant", "knot", "--right", "write", "--preview"), "Nothing")
		assert.Contains(t, knot.ok("", "", "invitation", "list"), "tern/gauge  write  tern")
		if i == 0 {
			m.often(h, fmt.Sprintf(fault, "DELETE"), "gauge", "access", "withdraw", "knot", "--yes")
			assert.Empty(t, waiting())
			continue
		}
		knot.often(h, post, "", "invitation", "accept", "gauge", "--yes")
		assert.Empty(t, waiting())
		assert.Equal(t, practice.Write, may()["knot"])
		m.often(h, post, "gauge", "access", "withdraw", "knot", "--yes")
		assert.Empty(t, may(), fault)
	}
}

// TestInvitations lets an invitation of another right take the place of one that waits, and one by e-mail
// be to whoever has the address; people accept and decline.
func TestInvitations(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	knot := signedInAs(t, h, "knot")
	require.NoError(t, h.Store.AddUser(practice.User{Name: "dunlin", Email: "dunlin@gannet.example", MailConfirmed: true}))
	m.ok("gauge", "", "access", "grant", "knot", "dunlin@gannet.example", "--yes")
	m.ok("gauge", "", "access", "grant", "knot", "--right", "admin", "--yes")
	out := m.ok("gauge", "", "access", "list")
	assert.Regexp(t, `dunlin\s+read`, out)
	assert.Regexp(t, `knot\s+admin`, out)
	knot.ok("", "", "invitation", "accept", "tern/gauge", "--yes", "--clone")
	assert.Equal(t, m.id("gauge", "HEAD"), knot.id("gauge", "HEAD"))
	dunlin := signedInAs(t, h, "dunlin")
	dunlin.ok("", "", "invitation", "decline", "gauge", "--yes")
	assert.Equal(t, map[string]int{"knot": practice.Admin}, h.repoAt(t, h.URL+"/tern/gauge").People)
	assert.Contains(t, dunlin.ok("", "", "invitation", "list"), "There is no invitation to you")
	dunlin.refused(1, []string{"there is no invitation to gauge"}, "", "", "invitation", "accept", "gauge")
	assert.Contains(t, m.ok("gauge", "", "access", "grant", "knot", "--right", "admin"), "That is so already", "a member")
	assert.Contains(t, m.ok("gauge", "", "access", "grant", "knot", "--right", "read", "--preview"), "Let knot read tern/gauge (until now: admin)")
	m.refused(5, []string{"there is nobody named knto on gannet", "Did you mean knot?", "Nothing was granted"}, "gauge", "", "access", "grant", "dunlin", "knto", "--right", "write", "--yes")
	left, err := h.Store.Invites("tern", "tern", "gauge")
	require.NoError(t, err)
	assert.Empty(t, left, "all or nothing")
	m.refused(1, []string{"knt is not among the people", "Did you mean knot?"}, "gauge", "", "access", "withdraw", "knt", "--yes")
	assert.Contains(t, m.ok("gauge", "", "access", "withdraw", "knot", "--yes"), "Taken back, and checked with gannet")
	knot.refused(5, []string{"or knot may not see it", "It was there before", "the access of knot was taken back"}, "gauge", "", "sync")

	// What is asked wrongly.
	for _, c := range []struct {
		code int
		says string
		args string
	}{{2, "a person may read, write or admin, and not rule", "grant knot --right rule"}, {2, "either people or a key", "grant knot --key x.pub"},
		{2, "--title needs --key", "grant knot --title x"}, {2, "name a person", "withdraw"}} {
		m.refused(c.code, []string{c.says}, "gauge", "", append([]string{"access"}, strings.Fields(c.args)...)...)
	}
	assert.Contains(t, m.command("gauge", "", program, "invite", "knot").err, "uncinate access grant knot")
}

// TestInvitationsMeanwhile takes one back while it is answered, and sends one too many for the plan.
func TestInvitationsMeanwhile(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	knot := signedInAs(t, h, "knot")
	m.ok("gauge", "", "access", "grant", "knot", "--yes")
	k := knot.talk("", "invitation", "accept", "gauge")
	k.asked("Go ahead? (yes or no) ", "")
	m.ok("gauge", "", "access", "withdraw", "knot", "--yes")
	k.asked("", "yes\n")
	code, said := k.ends()
	assert.Equal(t, 5, code)
	assert.Contains(t, said, "was taken back meanwhile")
	for n := range 7 {
		require.NoError(t, h.Store.AddUser(practice.User{Name: fmt.Sprint("warden-", n)}))
		_, err := h.Store.Invite("tern", "tern", "gauge", fmt.Sprint("warden-", n), "", practice.Read, 0)
		require.NoError(t, err)
	}
	assert.Contains(t, m.ok("gauge", "", "access", "grant", "knot", "--preview"), "with this it has 8, so the host may refuse")
	m.refused(5, []string{"gannet does not allow it on your plan: invite knot to tern/gauge", "Nothing was granted"}, "gauge", "", "access", "grant", "knot", "--yes")
}

// TestPeopleByGroup gives rights at once where there are no invitations, and does not take away what
// comes from a group.
func TestPeopleByGroup(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"petrel", "fulmar"} {
		h := newHostOf(t, name)
		m := signedIn(t, h)
		m.project("gauge")
		m.ok("gauge", "", "attach", "--yes")
		may := func() map[string]int { return h.repoAt(t, h.URL+"/tern/gauge").People }
		verb := map[string][2]string{"petrel": {"PUT", "DELETE"}, "fulmar": {"POST after 3", "POST after 3"}}[name]
		for _, fault := range lostAnswers {
			m.often(h, fmt.Sprintf(fault, verb[0]), "gauge", "access", "grant", "knot", "--right", "write", "--yes")
			assert.Equal(t, map[string]int{"knot": practice.Write}, may(), fault)
			m.often(h, fmt.Sprintf(fault, verb[1]), "gauge", "access", "withdraw", "knot", "--yes")
			assert.Empty(t, may(), fault)
		}
		require.NoError(t, h.Store.AddUser(practice.User{Name: "zoë-€"}))
		m.ok("gauge", "", "access", "grant", "zoë-€", "--yes")
		assert.Equal(t, map[string]int{"zoë-€": practice.Read}, may())
		m.ok("gauge", "", "access", "withdraw", "zoë-€", "--yes")
		assert.Empty(t, may())
		m.ok("gauge", "", "access", "grant", "knot", "--right", "write", "--yes")
		m.refused(5, []string{"by their name there, not by an e-mail address"}, "gauge", "", "access", "grant", "knot@saltmarsh.example")
		group := map[string]string{"petrel": "saltmarsh/gauges", "fulmar": "saltmarsh"}[name]
		m.often(h, "lose on POST times 1", "gauge", "repository", "transfer", "tern/gauge", group, "--yes")
		assert.Contains(t, m.ok("gauge", "", "sync"), "In step")
		out := m.ok("gauge", "", "access", "list")
		assert.Regexp(t, `dunlin\s+read\s+the group `+group, out)
		m.ok("gauge", "", "access", "withdraw", "knot", "--yes")
		m.refused(5, []string{"knot may open " + group + "/gauge by the group " + group + ", and that can only be taken away there"}, "gauge", "", "access", "withdraw", "knot", "--yes")
		for _, args := range []string{"repository archive " + group + "/gauge", "repository import " + h.URL + "/x/y", "repository copy " + group + "/gauge tern/x"} {
			m.refused(5, []string{name + " offers no way to"}, "gauge", "", strings.Fields(args)...)
		}
	}
}

// TestNamesOfPeople holds that names which a host gives are shown, and are neither options nor obeyed.
func TestNamesOfPeople(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	odd := []string{"-rf", "--yes", "a\x1b[31mred", "../../up", "two words", "line\nbreak", "\u202eback", "q'uote\"`$(x)"}
	for _, who := range odd {
		require.NoError(t, h.Store.AddUser(practice.User{Name: who, FullName: who}))
		require.NoError(t, h.Store.SetRight(t.Context(), "tern", "tern", "gauge", who, practice.Read, 0))
	}
	for _, command := range [][]string{{"access", "list"}, {"access", "list", "--json"}, {"repository", "show", "tern/gauge"}} {
		out := m.ok("gauge", "", command...)
		assert.NotContains(t, out, "\x1b")
		assert.NotContains(t, out, "\u202e")
	}
	for _, who := range odd {
		said := m.command("gauge", "", program, "access", "withdraw", "--yes", "--", who)
		assert.Equal(t, 0, said.code, "%q: %s", who, said.err)
		assert.NotContains(t, said.out+said.err, "\x1b")
	}
	assert.Empty(t, h.repoAt(t, m.git("gauge", "remote", "get-url", "origin")).People)
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
