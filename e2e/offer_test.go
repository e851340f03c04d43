package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// offerers are tern, whose gauge is attached, and knot with a clone of it: a right 0 is that of whoever sees it.
func offerers(t *testing.T, right int) (h *host, tern, knot *machine) {
	t.Helper()
	h, tern = attached(t)
	_, err := h.Store.Change(t.Context(), "tern", "tern", "gauge", 0, func(r *practice.Repo) error { r.Visibility = "members"; return nil })
	require.NoError(t, err)
	if right > practice.None {
		require.NoError(t, h.Store.SetRight(t.Context(), "tern", "tern", "gauge", "knot", right, 0))
	}
	tern.write("gauge", map[string]string{"levels.csv": "station,level\ninlet,1\nbar,2\nreef,3\nquoin,4\n"})
	tern.ok("gauge", "", "sync", "--save", "--message", "Levels")
	knot = signedInAs(t, h, "knot")
	knot.ok("", "", "clone", "tern/gauge")
	return h, tern, knot
}

// commits saves contents on a new branch, which is checked out.
func (m *machine) commits(branch, message string, contents map[string]string) {
	m.t.Helper()
	m.git("gauge", "switch", "-q", "-c", branch)
	m.write("gauge", contents)
	m.ok("gauge", "", "save", "--message", message)
}

// offers are those of tern/gauge, by their number, as the host has them.
func (h *host) offers(t *testing.T) map[int]practice.Offered {
	t.Helper()
	all, _, err := h.Store.Offers(t.Context(), "tern", "tern", "gauge", "", 0, 1000)
	require.NoError(t, err)
	out := map[int]practice.Offered{}
	for _, o := range all {
		out[o.Number] = o
	}
	return out
}

// tip is the commit of a branch on the host; "" for none.
func (h *host) tip(t *testing.T, m *machine, repo, branch string) string {
	t.Helper()
	out := m.git("", "ls-remote", h.gitDir(t, "tern", strings.Split(repo, "/")[0], strings.Split(repo, "/")[1]), "refs/heads/"+branch)
	id, _, _ := strings.Cut(out, "\t")
	return id
}

// TestOffers offers a branch, which is seen, tried and accepted; the next one clashes, is brought up to date
// and accepted as one commit; both machines end with no trace of the branches.
func TestOffers(t *testing.T) {
	t.Parallel()
	h, tern, knot := offerers(t, practice.Write)
	assert.Contains(t, tern.ok("gauge", "", "offer", "list"), "There is no open offer to tern/gauge.")
	knot.commits("neap", "Add the neap table\n\nFor the small tides.", map[string]string{"neap.csv": "x\n"})
	shown := knot.ok("gauge", "", "offer", "create", "--preview", "--remove-branch")
	assert.Contains(t, shown, "    Add the neap table\n\n    For the small tides.\n")
	assert.Contains(t, shown, "1. Send neap (1 commit)")
	assert.Empty(t, h.offers(t))
	knot.refused(3, []string{"uncinate offer create --remove-branch --yes"}, "gauge", "", "offer", "create", "--remove-branch")
	knot.ok("gauge", "", "offer", "create", "--yes", "--remove-branch")
	assert.Contains(t, knot.ok("gauge", "", "offer", "create", "--yes"), "neap is offered already, as number 1")
	require.Len(t, h.offers(t), 1)
	knot.write("gauge", map[string]string{"neap.csv": "x\ny\n"})
	knot.ok("gauge", "", "sync", "--save", "--message", "More of it")

	require.NoError(t, h.Store.SayOf("knot", "tern", "gauge", 1, "Look at the\x1b[31m heights", "neap.csv"))
	require.NoError(t, h.Store.Sound("tern", "tern", "gauge", practice.Sounding{Commit: h.offers(t)[1].Tip, Name: "levels", State: "passed"}))
	assert.Regexp(t, `1\s+Add the neap table\s+knot\s+neap → main\s+\S+\s+clean`, tern.ok("gauge", "", "offer", "list"))
	assert.Regexp(t, `offered\s+gauge\s+main\s.*1 offer to merge waits`, tern.ok("", "", "status", "--all"))
	assert.NotContains(t, knot.ok("", "", "status", "--all"), "offer to merge", "it is knot's own")
	before := tern.git("gauge", "for-each-ref")
	out := tern.ok("gauge", "", "offer", "show", "1")
	for _, part := range []string{"Offer 1: Add the neap table", "merges  cleanly", "checks  levels passed", "More of it", "new  neap.csv  2 added", "knot, ", "of neap.csv:", "Look at the", "uncinate offer accept 1"} {
		assert.Contains(t, out, part)
	}
	assert.NotContains(t, out, "\x1b[31m")
	assert.Equal(t, before, tern.git("gauge", "for-each-ref"), "a look leaves no trace in git")
	assert.Contains(t, tern.ok("gauge", "", "offer", "show", "1", "--full"), "+y")
	tern.ok("gauge", "", "offer", "fetch", "1")
	assert.Equal(t, "x\ny\n", tern.read("gauge", "neap.csv"))
	assert.Contains(t, tern.ok("gauge", "", "offer", "accept", "1", "--preview"), "by a merge commit")
	tern.ok("gauge", "", "offer", "accept", "1", "--yes")
	assert.Equal(t, "main", tern.git("gauge", "branch", "--show-current"))
	assert.NotContains(t, tern.git("gauge", "branch"), "neap")
	assert.Empty(t, h.tip(t, tern, "tern/gauge", "neap"))
	assert.Equal(t, h.tip(t, tern, "tern/gauge", "main"), tern.git("gauge", "rev-parse", "main"))
	knot.refused(3, []string{"offer 1 of neap was accepted into main by tern, and the branch is no longer on the host", "uncinate branch remove neap"}, "gauge", "", "sync")
	knot.ok("gauge", "", "branch", "remove", "neap", "--yes")
	knot.ok("gauge", "", "sync")
	assert.Equal(t, "* main", knot.git("gauge", "branch"))
	clashesAndIsAccepted(t, h, tern, knot)
}

// clashesAndIsAccepted is what comes of an offer that clashes.
func clashesAndIsAccepted(t *testing.T, h *host, tern, knot *machine) {
	t.Helper()
	knot.commits("reef", "Correct the reef", map[string]string{"levels.csv": "station,level\ninlet,1\nbar,2\nreef,33\nquoin,4\n"})
	knot.ok("gauge", "", "offer", "create", "--yes")
	tern.write("gauge", map[string]string{"levels.csv": "station,level\ninlet,1\nbar,2\nreef,31\nquoin,4\n"})
	tern.ok("gauge", "", "sync", "--save", "--message", "Another reef")
	assert.Contains(t, knot.ok("gauge", "", "offer", "create", "--yes"), "reef is offered already, as number 2", "though main there is not known here")
	assert.Contains(t, tern.ok("gauge", "", "offer", "list"), "clashes: levels.csv")
	assert.Contains(t, tern.ok("gauge", "", "offer", "show", "2"), "cannot be accepted before its author")
	tern.refused(3, []string{"offer 2 clashes with main", "levels.csv", "Nothing was accepted."}, "gauge", "", "offer", "accept", "2", "--yes")
	assert.Contains(t, knot.ok("gauge", "", "offer", "list"), "uncinate sync && uncinate branch join main && uncinate sync")
	knot.ok("gauge", "", "sync")
	knot.refused(3, []string{"both sides changed the same file"}, "gauge", "", "branch", "join", "main", "--yes")
	knot.ok("gauge", "", "settle", "mine", "levels.csv")
	knot.ok("gauge", "", "sync")
	assert.Contains(t, tern.ok("gauge", "", "offer", "list"), "clean")
	tern.refused(3, []string{"has other commits than when you looked at it", "uncinate offer show 2"}, "gauge", "", "offer", "accept", "2", "--yes")
	assert.Contains(t, tern.run("gauge", "", "offer", "show", "2").err, "2 commits came since you looked at it last.")
	was := h.tip(t, tern, "tern/gauge", "main")
	tern.ok("gauge", "", "offer", "accept", "2", "--way", "one", "--text", "Correct the reef, as one", "--yes", "--remove-branch")
	assert.Equal(t, "Correct the reef, as one", tern.git("gauge", "log", "-1", "--format=%s"))
	assert.Equal(t, was, tern.git("gauge", "rev-parse", "main^"))
	knot.refused(3, []string{"offer 2 of reef was accepted"}, "gauge", "", "sync")
	assert.Regexp(t, `reef\s+here, no longer on host\s+joined`, knot.ok("gauge", "", "branch", "list"))
	out := knot.ok("gauge", "", "branch", "remove", "reef", "--preview")
	assert.Contains(t, out, "All of it is in main already")
	assert.NotContains(t, out, "rescue copy")
	knot.ok("gauge", "", "branch", "remove", "reef", "--yes")
	knot.ok("gauge", "", "sync")
	assert.Equal(t, tern.git("gauge", "rev-parse", "HEAD^{tree}"), knot.git("gauge", "rev-parse", "HEAD^{tree}"))
}

// TestOffersWithoutTheRight takes who may only read from commits on main to an offer in one command, keeps
// the copy in step with the original, also when that is renamed, and ends after the commits were replayed there.
func TestOffersWithoutTheRight(t *testing.T) {
	t.Parallel()
	h, tern, knot := offerers(t, practice.None)
	knot.write("gauge", map[string]string{"levels.csv": "station,level\ninlet,1\nbar,22\nreef,3\nquoin,4\n"})
	knot.ok("gauge", "", "save", "--message", "Correct the bar")
	head := knot.git("gauge", "rev-parse", "HEAD")
	knot.refused(5, []string{"account knot may only read tern/gauge", "uncinate offer create"}, "gauge", "", "sync", "--yes")
	shown := knot.ok("gauge", "", "offer", "create", "--preview")
	for _, step := range []string{"Put your commits on a branch of their own, correct-the-bar, and main back to where gannet has it", "Make a copy of your own, knot/gauge, since you may only read tern/gauge",
		"Add the copy as the second remote own; sync keeps it in step with tern/gauge", "Send correct-the-bar (1 commit) to knot/gauge", "Offer it to tern/gauge for main"} {
		assert.Contains(t, shown, step)
	}
	assert.Equal(t, "* main", knot.git("gauge", "branch"))
	knot.ok("gauge", "", "offer", "create", "--yes")
	assert.Equal(t, "correct-the-bar", knot.git("gauge", "branch", "--show-current"))
	assert.Equal(t, head, h.tip(t, knot, "knot/gauge", "correct-the-bar"))
	assert.Equal(t, h.tip(t, knot, "tern/gauge", "main"), knot.git("gauge", "rev-parse", "main"), "main is as the host has it")
	assert.Equal(t, "knot/gauge", h.offers(t)[1].Source.Owner+"/"+h.offers(t)[1].Source.Name)
	assert.Contains(t, knot.ok("gauge", "", "status"), "in step")
	assert.Contains(t, knot.ok("", "", "status", "--all"), "in step")

	// The original goes on, and gets another name.
	tern.write("gauge", map[string]string{"other.txt": "other\n"})
	tern.ok("gauge", "", "sync", "--save", "--message", "Other")
	assert.Contains(t, knot.ok("gauge", "", "sync"), "Your copy on the host has main as the original has it now.")
	assert.Equal(t, h.tip(t, knot, "tern/gauge", "main"), h.tip(t, knot, "knot/gauge", "main"))
	tern.ok("", "", "repository", "change", "tern/gauge", "--name", "tide-gauge", "--yes")
	tern.write("gauge", map[string]string{"other.txt": "other again\n"})
	tern.ok("gauge", "", "sync", "--save", "--message", "Other again")
	knot.write("gauge", map[string]string{"levels.csv": "station,level\ninlet,1\nbar,23\nreef,3\nquoin,4\n"})
	assert.Contains(t, knot.ok("gauge", "", "sync", "--save", "--message", "Correct it more"), "Your copy on the host has main")
	assert.Contains(t, knot.git("gauge", "remote", "get-url", "origin"), "tern/tide-gauge")
	assert.Equal(t, h.tip(t, knot, "tern/tide-gauge", "main"), h.tip(t, knot, "knot/gauge", "main"))

	// It is tried and replayed by who may write; knot's copy is in step without a riddle.
	tern.ok("gauge", "", "offer", "fetch", "1")
	assert.Equal(t, "knot-correct-the-bar", tern.git("gauge", "branch", "--show-current"))
	assert.Contains(t, tern.ok("gauge", "", "sync"), "which sync does not send")
	tern.ok("gauge", "", "branch", "switch", "main")
	tern.ok("gauge", "", "offer", "accept", "1", "--way", "replay", "--remove-branch", "--yes")
	assert.Equal(t, "* main", tern.git("gauge", "branch"))
	assert.NotContains(t, tern.git("gauge", "log", "--format=%H"), head, "the commits have other names")
	out := knot.ok("gauge", "", "sync")
	assert.Contains(t, out, "Offer 1 of correct-the-bar was accepted into main by tern")
	assert.Contains(t, out, "uncinate branch remove correct-the-bar && uncinate sync")
	knot.ok("gauge", "", "branch", "remove", "correct-the-bar", "--yes")
	assert.Contains(t, knot.ok("gauge", "", "sync"), "In step.")
	assert.Equal(t, tern.git("gauge", "rev-parse", "main"), knot.git("gauge", "rev-parse", "HEAD"))
	assert.Empty(t, h.tip(t, knot, "knot/gauge", "correct-the-bar"))

	// The next one goes by the same copy.
	knot.commits("reef", "Reef", map[string]string{"reef.txt": "reef\n"})
	out = knot.ok("gauge", "", "offer", "create", "--preview")
	assert.NotContains(t, out, "Make a copy")
	knot.ok("gauge", "", "offer", "create", "--yes")
	assert.NotEmpty(t, h.tip(t, knot, "knot/gauge", "reef"))
}

// TestOffersOnPetrel offers and accepts on a host of another shape, and is told what it lacks; on hosts without
// offers, that and the way by hand.
func TestOffersOnPetrel(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"petrel", "fulmar"} {
		h := newHostOf(t, name)
		m := signedIn(t, h)
		m.project("gauge")
		m.ok("gauge", "", "attach", "--yes")
		m.commits("neap", "Neap", map[string]string{"neap.csv": "x\n"})
		if name == "fulmar" {
			for _, words := range []string{"offer create --yes", "offer list", "offer show 1", "offer accept 1", "offer close 1", "offer fetch 1"} {
				m.refused(5, []string{"fulmar offers no way to", "uncinate branch join neap"}, "gauge", "", strings.Fields(words)...)
			}
			continue
		}
		assert.Contains(t, m.ok("gauge", "", "offer", "create", "--remove-branch", "--yes"), "Offered as number 1")
		shown := m.run("gauge", "", "offer", "show", "1")
		out := shown.out + shown.err
		assert.Contains(t, out, "petrel tells of no remarks of people.")
		assert.Contains(t, out, "merges  cleanly")
		m.refused(5, []string{"petrel does not accept an offer so"}, "gauge", "", "offer", "accept", "1", "--way", "replay")
		m.ok("gauge", "", "offer", "accept", "1", "--way", "one", "--remove-branch", "--yes")
		assert.Equal(t, "* main", m.git("gauge", "branch"))
		assert.Equal(t, "x\n", m.read("gauge", "neap.csv"))
		assert.Empty(t, h.tip(t, m, "tern/gauge", "neap"))
		m.commits("spring", "Spring", map[string]string{"spring.csv": "x\n"})
		m.ok("gauge", "", "offer", "create", "--yes")
		assert.Regexp(t, `tern/gauge\s+Spring`, m.ok("", "", "offer", "list", "--all", "--mine"))
		m.refused(3, []string{"spring is checked out", "Nothing was closed."}, "gauge", "", "offer", "close", "2", "--remove-branch", "--yes")
		m.ok("gauge", "", "branch", "switch", "main")
		m.ok("gauge", "", "offer", "close", "2", "--remove-branch", "--yes")
		assert.Regexp(t, `Spring\s.*closed`, m.ok("gauge", "", "offer", "list", "--state", "any"))
		assert.Contains(t, m.ok("gauge", "", "rescue", "list"), "branch remove spring", "its commit is nowhere else")
	}
}
