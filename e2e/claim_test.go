package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/claiming"
	"uncinate/internal/job/claims"
)

// claimed lists the claims as a machine is told them.
func (m *machine) claimed(dir string, more ...string) claims.List {
	m.t.Helper()
	var l claims.List
	require.NoError(m.t, json.Unmarshal([]byte(m.ok(dir, "", append([]string{"claim", "list", "--json"}, more...)...)), &l))
	return l
}

// drawings is a project that two people have.
func drawings(t *testing.T) (h *host, tern, knot *machine) {
	h = newHost(t)
	tern, _, knot = shared(t, h)
	tern.write("gauge", map[string]string{"mooring/plan.dwg": "plan\n", "mooring/notes.txt": "notes\n", "deck/a.dwg": "a\n"})
	tern.ok("gauge", "", "sync", "--save", "--message", "Drawings")
	knot.ok("gauge", "", "sync")
	return h, tern, knot
}

// TestClaims plays two people with one project: one claims, the other is told; claims that are required,
// that end, and on odd hosts.
func TestClaims(t *testing.T) {
	t.Parallel()
	h, tern, knot := drawings(t)
	claimsAreTold(t, tern, knot)
	tern.ok("gauge", "", "sync", "--yes")
	claimsAreRequired(t, tern, knot)
	bare := h.gitDir(t, "tern", "saltmarsh", "gauge")
	none := func() {
		for _, ref := range []string{claims.Ref, claims.Branch} {
			tern.git(bare, "update-ref", "-d", ref)
		}
		for _, m := range []*machine{tern, knot} {
			require.NoError(t, os.Remove(filepath.Join(m.home, "gauge/.git/uncinate/claims.json")))
		}
	}
	none()
	claimsEnd(t, h, bare, tern, knot)
	none()
	oddHosts(t, h, bare, tern, knot, none)
}

// claimsAreTold: one claims, the other is told, takes it, and the first is told.
func claimsAreTold(t *testing.T, tern, knot *machine) {
	t.Helper()
	assert.Contains(t, tern.ok("gauge", "", "claim"), "Nobody has claimed anything.")
	assert.Contains(t, tern.ok("gauge", "", "claim", "mooring/plan.dwg", "--reason", "The new mast", "--until", "3d"), "Claimed: mooring/plan.dwg, until "+time.Now().Add(72*time.Hour).Format("2006-01-02"))
	assert.NotContains(t, tern.git("gauge", "for-each-ref"), "claims")
	for _, overlaps := range []string{"mooring/plan.dwg", "mooring", "mooring/", "*.dwg", "moor*/"} {
		knot.refused(3, []string{"tern claimed mooring/plan.dwg already", "tern since ", ": The new mast", "Nothing was claimed", "--from tern"}, "gauge", "", "claim", "create", overlaps)
	}
	knot.ok("gauge", "", "claim", "create", "mooring/notes.txt", "deck", "--until", time.Now().Add(48*time.Hour).Format("2006-01-02 15:04"))
	tern.refused(3, []string{"deck/: knot since"}, "gauge", "", "claim", "deck/b.dwg")
	for _, c := range [][]string{{"--until", "yesterday", "x"}, {"--until", "2020-01-01", "x"}, {"../x"}, {"/etc/passwd"}, {".git/config"}, {"."}, {"x", "--from", "dunlin"}} {
		knot.refused(2, nil, "gauge", "", append([]string{"claim", "create"}, c...)...)
	}

	// What is changed and claimed by somebody else is told, asked about by save, and before it is sent.
	knot.write("gauge", map[string]string{"mooring/plan.dwg": "knot's\n", "own.txt": "own\n"})
	says := "mooring/plan.dwg is claimed by tern until "
	for _, line := range []string{"status", "status --offline", "changes"} {
		assert.Contains(t, knot.ok("gauge", "", strings.Fields(line)...), says, line)
	}
	assert.Contains(t, knot.ok("gauge", "", "save", "Own"), "mooring/plan.dwg: claimed by tern until ")
	assert.Equal(t, " M mooring/plan.dwg", strings.TrimRight(knot.command("gauge", "", "git", "status", "--porcelain").out, "\n"))
	knot.ok("gauge", "", "save", "Plan", "--only", "mooring/plan.dwg")
	knot.refused(3, []string{says, "uncinate sync --yes"}, "gauge", "", "sync")
	assert.Contains(t, tern.ok("gauge", "", "claim", "list"), "tern (you)")

	// Taken, and told once.
	assert.Contains(t, knot.ok("gauge", "", "claim", "create", "mooring/plan.dwg", "--from", "tern", "--preview"), "Take the claim of mooring/plan.dwg: tern since")
	knot.refused(3, []string{"uncinate claim create mooring/plan.dwg --from tern --yes"}, "gauge", "", "claim", "create", "mooring/plan.dwg", "--from", "tern")
	knot.ok("gauge", "", "claim", "create", "mooring/plan.dwg", "--from", "tern", "--reason", "Agreed", "--yes")
	knot.ok("gauge", "", "sync")
	assert.Contains(t, tern.command("gauge", "", program, "sync").err, "knot took your claim of mooring/plan.dwg at ")
	assert.NotContains(t, tern.ok("gauge", "", "status"), "took your claim")
	tern.refused(3, []string{"is claimed by knot, not by you"}, "gauge", "", "claim", "release", "mooring/plan.dwg")
	tern.refused(1, []string{"nobody has claimed plan.dwg just so"}, "gauge", "", "claim", "release", "plan.dwg")

	// A sync of all asks in other ways.
	for i := range 3 {
		knot.ok("", "", "clone", "saltmarsh/gauge", fmt.Sprint("more-", i))
	}
	knot.write("gauge", map[string]string{"sent.txt": "sent\n"})
	knot.ok("gauge", "", "save", "Sent")
	knot.ok("", "", "sync", "--all")
	assert.NotContains(t, knot.ok("gauge", "", "status", "--offline"), "no longer has the claims")

	// Over: by the host's clock, and with its branch.
	list := knot.claimed("gauge")
	assert.True(t, list.Clock)
	assert.Len(t, list.Claims, 3)
	knot.ok("gauge", "", "branch", "make", "deck", "--switch", "--publish")
	knot.ok("gauge", "", "claim", "create", "with.txt", "--branch")
	tern.refused(3, nil, "gauge", "", "claim", "with.txt")
	knot.ok("gauge", "", "branch", "switch", "main")
	knot.ok("gauge", "", "branch", "remove", "deck", "--yes")
	tern.ok("gauge", "", "claim", "with.txt")
	assert.Contains(t, knot.ok("gauge", "", "claim", "release"), "Released: deck/.\nReleased: mooring/notes.txt.\nReleased: mooring/plan.dwg.")
	tern.ok("gauge", "", "claim", "release")
	assert.Empty(t, knot.claimed("gauge").Claims)
}

// claimsAreRequired asks for claims by an attribute, in a copy too of somebody who has never heard of it.
func claimsAreRequired(t *testing.T, tern, knot *machine) {
	t.Helper()
	assert.Contains(t, tern.ok("gauge", "", "settings", "set", "claim.required", "*.dwg", "deck"), "*.dwg, /deck/**")
	tern.ok("gauge", "", "sync", "--save", "--message", "Drawings must be claimed")
	knot.ok("gauge", "", "sync")
	knot.write("gauge", map[string]string{"mooring/plan.dwg": "knot's again\n", "own.txt": "own again\n"})
	line := "uncinate claim create "
	assert.Contains(t, knot.ok("gauge", "", "status"), "Must be claimed before it is saved: "+line)
	knot.refused(3, []string{"1 file must be claimed before it is saved, and you have not claimed it", "mooring/plan.dwg", ".gitattributes", line + "mooring/plan.dwg"}, "gauge", "", "save", "Both")
	knot.refused(3, []string{"must be claimed"}, "gauge", "", "sync", "--save", "--message", "Both")
	knot.ok("gauge", "", "save", "Own", "--only", "own.txt")
	knot.git("gauge", "commit", "-q", "-a", "-m", "By plain git")
	knot.refused(3, []string{"1 file must be claimed before it is changed, and you have not: uncinate claim create mooring/plan.dwg"}, "gauge", "", "sync")
	knot.ok("gauge", "", "claim", "mooring")
	assert.NotContains(t, knot.ok("gauge", "", "status"), "Must be claimed")
	knot.ok("gauge", "", "sync")
	tern.ok("gauge", "", "settings", "unset", "claim.required")
	assert.NotContains(t, read(t, filepath.Join(tern.home, "gauge/.gitattributes")), "claim")
	tern.refused(2, []string{"is not a path or pattern of files"}, "gauge", "", "settings", "set", "claim.required", "../x")
}

// oddHosts hide or refuse the name space, drop it later, take no claims at all; on one the person may only
// read.
func oddHosts(t *testing.T, h *host, bare string, tern, knot *machine, none func()) {
	t.Helper()
	set := func(key, value string) { tern.git(bare, "config", key, value) }
	for _, hides := range []string{"uploadpack.hideRefs", "receive.hideRefs"} {
		set(hides, "refs/uncinate")
		tern.ok("gauge", "", "claim", "mooring")
		assert.Equal(t, claims.Branch, knot.claimed("gauge").Ref, hides)
		knot.refused(3, []string{"tern claimed mooring/ already"}, "gauge", "", "claim", "mooring/plan.dwg")
		knot.ok("gauge", "", "sync") // the branch is not one that people work on
		assert.NotContains(t, knot.ok("gauge", "", "status")+knot.ok("gauge", "", "branch", "list"), "uncinate/claims")
		tern.git(bare, "config", "--unset-all", hides)
		none()
	}

	// Dropped later: it is told, and the next claim puts them there again, where they stay.
	tern.ok("gauge", "", "claim", "mooring")
	tern.git(bare, "update-ref", "-d", claims.Ref)
	assert.Contains(t, tern.ok("gauge", "", "status"), "The host no longer has the claims that it had: 1 claim that is known here.")
	tern.ok("gauge", "", "claim", "deck")
	list := knot.claimed("gauge")
	assert.Equal(t, claims.Branch, list.Ref)
	assert.Len(t, list.Claims, 2)

	// What somebody else wrote there is not believed.
	forged := func(s string) { tern.forge(bare, claims.Branch, s) }
	forged("no list")
	knot.refused(4, []string{"cannot be read", "it is not a list of claims"}, "gauge", "", "claim", "list")
	knot.write("gauge", map[string]string{"fresh.txt": "own\n"})
	assert.Contains(t, knot.ok("gauge", "", "status"), "1 new file")
	knot.ok("gauge", "", "sync", "--save", "--message", "Own")
	data, err := claiming.Write([]claiming.Claim{{ID: "0123456789abcdef", Path: "deck/", By: "kn\x1b[31mot", Key: "x", Since: time.Now(), Until: time.Now().Add(time.Hour), Reason: "\x1b]0;title\a"}})
	require.NoError(t, err)
	forged(string(data))
	assert.NotContains(t, knot.ok("gauge", "", "claim", "list"), "\x1b")

	// Who may only read sees them, and cannot claim.
	knot.ok("", h.token["dunlin"]+"\n", "account", "add", "dunlin", "--host", "gannet", "--user", "dunlin")
	knot.ok("", "", "clone", "saltmarsh/gauge", "reader", "--account", "dunlin")
	assert.Contains(t, knot.ok("reader", "", "claim", "list"), "deck/")
	knot.refused(5, []string{"to claim, one must be able to write", "dunlin may only read"}, "reader", "", "claim", "own.txt")

	// Nothing is taken there.
	tern.git(bare, "update-ref", "-d", claims.Branch)
	require.NoError(t, os.MkdirAll(filepath.Join(bare, "hooks"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(bare, "hooks/update"), []byte("#!/bin/sh\ncase $1 in *uncinate*) echo 'no such names here' >&2; exit 1;; esac\n"), 0o755))
	knot.refused(5, []string{"takes no claims", "uncinate status"}, "gauge", "", "claim", "own.txt")
}

// forge writes what is to be the list of claims into a repository of the host.
func (m *machine) forge(bare, ref, s string) {
	m.t.Helper()
	blob := m.command(bare, s, "git", "hash-object", "-w", "--stdin").out
	tree := m.command(bare, "100644 blob "+strings.TrimSpace(blob)+"\tclaims.json\n", "git", "mktree").out
	commit := m.command(bare, "", "git", "-c", "user.name=x", "-c", "user.email=x@skerry.example", "commit-tree", strings.TrimSpace(tree), "-m", "x").out
	m.git(bare, "update-ref", ref, strings.TrimSpace(commit))
}

// claimsEnd lets claims end by the host's clock and, where that tells no time, by nobody's.
func claimsEnd(t *testing.T, h *host, bare string, tern, knot *machine) {
	t.Helper()
	tern.ok("gauge", "", "claim", "deck", "--until", "1h")
	knot.refused(3, nil, "gauge", "", "claim", "deck")
	require.NoError(t, h.Faults.Set([]string{"date=2h"}))
	assert.Empty(t, knot.claimed("gauge").Claims)
	assert.Len(t, knot.claimed("gauge", "--full").Claims, 1)
	knot.ok("gauge", "", "claim", "deck", "--until", "30m")
	tern.refused(3, []string{"knot claimed deck/ already"}, "gauge", "", "claim", "deck")
	require.NoError(t, h.Faults.Set([]string{"no-date"}))
	for _, m := range []*machine{tern, knot} {
		require.NoError(t, os.Remove(filepath.Join(m.home, "gauge/.git/uncinate/claims.json")))
	}
	for there, ago := range []time.Duration{20 * time.Minute, 5 * time.Minute} {
		data, err := claiming.Write([]claiming.Claim{{ID: "0123456789abcdef", Path: "deck/", By: "knot", Key: "knot", Until: time.Now().Add(-ago)}})
		require.NoError(t, err)
		tern.forge(bare, claims.Ref, string(data))
		list := tern.claimed("gauge")
		assert.False(t, list.Clock)
		assert.Len(t, list.Claims, there, "ended %s ago", ago)
	}
	knot.ok("gauge", "", "claim", "release")
	tern.ok("gauge", "", "claim", "deck")
	assert.Contains(t, tern.ok("gauge", "", "claim"), "The host tells no time: claims end by this machine's clock, 15 minutes later.")
	require.NoError(t, h.Faults.Set(nil))
}

// TestClaimsAtOnce lets eight people claim at once, and two of whom only one can. Over SSH and on a plain
// server TestEveryHostOverSSH and TestPlainServer do.
func TestClaimsAtOnce(t *testing.T) {
	linux(t)
	t.Parallel()
	_, m := attached(t)
	folders := []string{"gauge"}
	for i := range 7 {
		folders = append(folders, fmt.Sprint("copy", i))
		m.ok("", "", "clone", "gauge", folders[i+1])
	}
	claimsAtOnce(t, m, folders, false)
}

// claimsAtOnce claims a file of one's own and, where they are several people, one that all want, in
// several clones at once.
func claimsAtOnce(t *testing.T, m *machine, folders []string, several bool) {
	t.Helper()
	if os.Getenv("UNCINATE_SOAK") != "" {
		for i := len(folders); i < 8; i++ {
			folders = append(folders, fmt.Sprint("another", i))
			m.ok("", "", "clone", "gauge", folders[i])
		}
	}
	var work sync.WaitGroup
	own, shared := make([]result, len(folders)), make([]result, len(folders))
	for i, folder := range folders {
		if several {
			m.git(folder, "config", "user.email", fmt.Sprintf("person-%d@skerry.example", i))
			work.Go(func() { shared[i] = m.command(folder, "", program, "claim", "create", "shared.dwg", "--json") })
		}
		work.Go(func() {
			own[i] = m.command(folder, "", program, "claim", "create", fmt.Sprintf("own/file-%d.txt", i), "--json")
		})
	}
	work.Wait()
	most, winners := 0, 0
	for i, r := range own {
		var c claims.Changed
		require.Equal(t, 0, r.code, r.out+r.err)
		require.NoError(t, json.Unmarshal([]byte(r.out), &c))
		most = max(most, c.Rounds)
		if shared[i].code == 0 {
			winners++
		} else {
			assert.Equal(t, 3, shared[i].code, shared[i].err)
			assert.Contains(t, shared[i].out+shared[i].err, "claimed shared.dwg already")
		}
	}
	list := m.claimed(folders[0])
	assert.True(t, list.Clock)
	if several {
		assert.Equal(t, 1, winners)
		assert.Len(t, list.Claims, len(folders)+1)
	} else {
		assert.Len(t, list.Claims, len(folders))
	}
	assert.LessOrEqual(t, most, 10)
}
