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

// TestClaims plays two people: one claims, the other is told, takes it, and the first is told.
func TestClaims(t *testing.T) {
	t.Parallel()
	_, tern, knot := drawings(t)
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

// TestClaimIsRequired asks for claims by an attribute, in a copy too of somebody who has never heard of it.
func TestClaimIsRequired(t *testing.T) {
	t.Parallel()
	_, tern, knot := drawings(t)
	assert.Contains(t, tern.ok("gauge", "", "settings", "set", "claim.required", "*.dwg", "deck"), "*.dwg, /deck/**")
	tern.ok("gauge", "", "sync", "--save", "--message", "Drawings must be claimed")
	knot.ok("gauge", "", "sync")
	knot.write("gauge", map[string]string{"mooring/plan.dwg": "knot's\n", "own.txt": "own\n"})
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

// TestClaimsOnOddHosts meets hosts that hide or refuse the name space, that drop it later, that take no
// claims at all, and one on which the person may only read.
func TestClaimsOnOddHosts(t *testing.T) {
	t.Parallel()
	h, tern, knot := drawings(t)
	bare := h.gitDir(t, "tern", "saltmarsh", "gauge")
	set := func(key, value string) { tern.git(bare, "config", key, value) }
	for _, hides := range []string{"uploadpack.hideRefs", "receive.hideRefs"} {
		set(hides, "refs/uncinate")
		tern.ok("gauge", "", "claim", "mooring")
		assert.Equal(t, claims.Branch, knot.claimed("gauge").Ref, hides)
		knot.refused(3, []string{"tern claimed mooring/ already"}, "gauge", "", "claim", "mooring/plan.dwg")
		knot.ok("gauge", "", "sync") // the branch is not one that people work on
		assert.NotContains(t, knot.ok("gauge", "", "status")+knot.ok("gauge", "", "branch", "list"), "uncinate/claims")
		tern.git(bare, "config", "--unset-all", hides)
		for _, ref := range []string{claims.Ref, claims.Branch} {
			tern.git(bare, "update-ref", "-d", ref)
		}
		for _, m := range []*machine{tern, knot} {
			require.NoError(t, os.Remove(filepath.Join(m.home, "gauge/.git/uncinate/claims.json")))
		}
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
	knot.write("gauge", map[string]string{"own.txt": "own\n"})
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

// TestClaimsEnd lets claims end by the host's clock and, where that tells no time, by nobody's.
func TestClaimsEnd(t *testing.T) {
	t.Parallel()
	h, tern, knot := drawings(t)
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
	for ago, there := range map[time.Duration]int{5 * time.Minute: 1, 20 * time.Minute: 0} {
		data, err := claiming.Write([]claiming.Claim{{ID: "0123456789abcdef", Path: "deck/", By: "knot", Key: "knot", Until: time.Now().Add(-ago)}})
		require.NoError(t, err)
		tern.forge(h.gitDir(t, "tern", "saltmarsh", "gauge"), claims.Ref, string(data))
		list := tern.claimed("gauge")
		assert.False(t, list.Clock)
		assert.Len(t, list.Claims, there, "ended %s ago", ago)
	}
	tern.ok("gauge", "", "claim", "deck")
	assert.Contains(t, tern.ok("gauge", "", "claim"), "The host tells no time: claims end by this machine's clock, 15 minutes later.")
}

// reaching is a machine that reaches a host over a transport.
func reaching(t *testing.T, over string) *machine {
	t.Helper()
	if over == "plain" {
		return newPlainSSH(t).signIn()
	}
	m := signedIn(t, newHost(t))
	if over == "ssh" {
		m.ok("", "", "settings", "set", "machine", "pier")
		m.ok("", "", "key", "make", "tern", "--open")
		m.ok("", "", "key", "install", "tern", "--yes")
		m.ok("", "", "account", "change", "tern", "--over", "ssh")
	}
	return m
}

// TestClaimsAtOnce lets eight people claim at once, over each transport, and two of whom only one can.
func TestClaimsAtOnce(t *testing.T) {
	linux(t)
	t.Parallel()
	for _, over := range []string{"http", "ssh", "plain"} {
		t.Run(over, func(t *testing.T) {
			t.Parallel()
			people := 3
			if over == "http" || os.Getenv("UNCINATE_SOAK") != "" {
				people = 8
			}
			m := reaching(t, over)
			m.project("gauge")
			m.ok("gauge", "", "attach", "--yes")
			for i := range people {
				m.ok("", "", "clone", "gauge", fmt.Sprint("copy", i))
				m.git(fmt.Sprint("copy", i), "config", "user.email", fmt.Sprintf("person-%d@skerry.example", i))
			}
			var work sync.WaitGroup
			results := make([]result, 2*people)
			for i := range people {
				for j, line := range []string{fmt.Sprintf("claim create own/file-%d.txt --json", i), "claim create shared.dwg --json"} {
					work.Go(func() { results[2*i+j] = m.command(fmt.Sprint("copy", i), "", program, strings.Fields(line)...) })
				}
			}
			work.Wait()
			most, winners := 0, 0
			for i, r := range results {
				var c claims.Changed
				switch {
				case r.code == 0:
					require.NoError(t, json.Unmarshal([]byte(r.out), &c))
					most = max(most, c.Rounds)
					if i%2 == 1 {
						winners++
					}
				case i%2 == 0:
					t.Errorf("%d: %s%s", i, r.out, r.err)
				default:
					assert.Equal(t, 3, r.code, r.err)
					assert.Contains(t, r.out+r.err, "claimed shared.dwg already")
				}
			}
			list := m.claimed("copy0")
			own := 0
			for _, c := range list.Claims {
				if strings.HasPrefix(c.Path, "own/") {
					own++
				}
			}
			assert.Equal(t, people, own)
			if over == "plain" { // elsewhere it is one and the same person who claims it again
				assert.Equal(t, 1, winners)
			}
			assert.Equal(t, people+1, len(list.Claims))
			assert.True(t, list.Clock)
			t.Logf("at most %d rounds", most)
		})
	}
}
