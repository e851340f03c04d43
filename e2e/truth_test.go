package e2e

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the program says is so: these are sentences that were untrue once.

// pair is a host, a machine whose project gauge is attached, and one that cloned it.
func pair(t *testing.T) (*host, *machine, *machine) {
	t.Helper()
	h, pier := attached(t)
	launch := signedIn(t, h)
	launch.ok("", "", "clone", "gauge")
	return h, pier, launch
}

// saved commits a line on a branch, and sends it.
func (m *machine) saved(branch, text string) {
	m.t.Helper()
	m.ok("gauge", "", "branch", "switch", branch)
	m.write("gauge", map[string]string{text + ".txt": text + "\n"})
	m.ok("gauge", "", "save", "-m", text)
	m.ok("gauge", "", "sync")
}

// TestOtherBranchesAreLookedAtToo sends to a branch of which another machine has an older state, and
// is on another one.
func TestOtherBranchesAreLookedAtToo(t *testing.T) {
	t.Parallel()
	_, pier, launch := pair(t)
	pier.ok("gauge", "", "branch", "make", "scale", "--publish")
	launch.ok("gauge", "", "sync")
	launch.ok("gauge", "", "branch", "switch", "scale")
	launch.ok("gauge", "", "branch", "switch", "main")
	pier.saved("scale", "datum")
	for _, offline := range []bool{false, true} { // before the commit is here, and after
		said := launch.ok("gauge", "", "status")
		if offline {
			said = launch.ok("gauge", "", "status", "--offline")
		}
		assert.Contains(t, said, "this branch is in step")
		assert.Contains(t, said, "new commits on the host for scale")
		board := launch.ok("", "", "status", "--all")
		assert.Regexp(t, `behind +gauge +main .*new commits on the host for scale`, board)
		assert.Contains(t, board, "not in step")
		assert.Contains(t, launch.ok("", "", "sync", "--all"), "new commits on the host for scale")
		assert.Contains(t, launch.ok("gauge", "", "sync"), "New commits on the host for scale")
	}
	assert.Contains(t, launch.ok("gauge", "", "changes", "--branch", "scale"), "datum.txt")
	assert.Contains(t, launch.ok("gauge", "", "branch", "join", "scale", "--yes"), "Joined: 1 commit of scale")
	assert.FileExists(t, filepath.Join(launch.home, "gauge/datum.txt"))
	assert.Contains(t, launch.ok("gauge", "", "branch", "switch", "scale"), "1 commit on the host is not here")
	launch.write("gauge", map[string]string{"own.txt": "own\n"})
	launch.ok("gauge", "", "save", "-m", "Own")
	launch.ok("gauge", "", "branch", "switch", "main")
	assert.Contains(t, launch.ok("gauge", "", "branch", "join", "scale", "--yes"), "Not joined: 1 commit of scale that is only on the host")
}

// TestBranchThatIsGone merges a branch and removes it on the host, while another machine is on it.
func TestBranchThatIsGone(t *testing.T) {
	t.Parallel()
	_, pier, launch := pair(t)
	pier.ok("gauge", "", "branch", "make", "scale", "--switch", "--publish")
	pier.saved("scale", "datum")
	launch.ok("gauge", "", "sync")
	launch.ok("gauge", "", "branch", "switch", "scale")
	pier.ok("gauge", "", "branch", "switch", "main")
	pier.ok("gauge", "", "branch", "join", "scale", "--yes")
	pier.ok("gauge", "", "sync")
	pier.ok("gauge", "", "branch", "remove", "scale", "--yes")
	assert.Contains(t, launch.ok("gauge", "", "status"), "this branch is no longer on the host")
	launch.refused(3, []string{"scale is no longer on the host, where main holds what it held", "uncinate branch switch main"}, "gauge", "", "sync")
	said := launch.ok("gauge", "", "status")
	assert.Contains(t, said, "no longer on the host, where main holds all of it")
	assert.Contains(t, said, "Next: uncinate branch switch main")
	assert.Regexp(t, `gone +gauge +scale .*no longer on the host, where main holds all of it`, launch.ok("", "", "status", "--all"))
	launch.ok("gauge", "", "branch", "switch", "main")
	assert.NotContains(t, launch.ok("gauge", "", "sync"), "No longer on the host", "it was told already")
	pier.ok("gauge", "", "branch", "make", "deck", "--publish")
	launch.ok("gauge", "", "sync")
	pier.ok("gauge", "", "branch", "remove", "deck", "--yes")
	assert.Contains(t, launch.ok("gauge", "", "sync"), "No longer on the host: deck.")
	assert.NotContains(t, launch.ok("gauge", "", "sync"), "No longer on the host")
	assert.Contains(t, launch.ok("gauge", "", "branch", "list"), "here, no longer on host")
	launch.ok("gauge", "", "branch", "remove", "scale", "--yes")
	assert.NotContains(t, launch.ok("gauge", "", "branch", "list"), "scale")
}

// TestCommitsThatAreNotSent has commits in a copy that never sends, and after a sync that only receives.
func TestCommitsThatAreNotSent(t *testing.T) {
	t.Parallel()
	h, pier := attached(t)
	launch := signedIn(t, h)
	launch.ok("", "", "clone", "gauge", "--read-only")
	launch.write("gauge", map[string]string{"own.txt": "own\n"})
	assert.Contains(t, launch.ok("gauge", "", "save", "-m", "Own"), "This copy of the project never sends")
	said := launch.ok("gauge", "", "sync")
	assert.NotContains(t, said, "In step")
	assert.Contains(t, said, "1 commit is only here: this copy of the project never sends.")
	said = launch.ok("gauge", "", "status")
	assert.Contains(t, said, "1 commit only here; this copy of the project never sends")
	assert.NotContains(t, said, "uncinate sync")
	assert.NotContains(t, launch.ok("", "", "status", "--all"), "uncinate sync")
	assert.Contains(t, launch.ok("", "", "sync", "--all"), "this copy never sends")
	pier.write("gauge", map[string]string{"own.txt": "own\n"})
	pier.ok("gauge", "", "save", "-m", "Own")
	said = pier.ok("gauge", "", "sync", "--in")
	assert.NotContains(t, said, "In step")
	assert.Contains(t, said, "1 commit not sent. To send: uncinate sync")
	pier.ok("gauge", "", "sync")
	pier.git("gauge", "checkout", "-q", "-b", "fresh")
	assert.Contains(t, pier.ok("gauge", "", "sync", "--in"), "which does not have the branch fresh yet")
	pier.ok("gauge", "", "sync")
	pier.write("gauge", map[string]string{"own.txt": "more\n"})
	said = pier.ok("gauge", "", "sync", "--save", "-m", "More", "--preview")
	assert.Contains(t, said, "1. Commit 1 changed file on fresh")
	assert.Contains(t, said, "2. Send 1 commit on fresh")
	pier.refused(2, []string{"--graph shows how all commits lead to each other"}, "gauge", "", "history", "--graph", "own.txt")
}

// TestPreviewOfASaveThatMeetsOthers previews a sync that saves first what the other side changed too.
func TestPreviewOfASaveThatMeetsOthers(t *testing.T) {
	t.Parallel()
	_, pier, launch := pair(t)
	pier.saved("main", "datum")
	launch.write("gauge", map[string]string{"datum.txt": "mine\n"})
	said := launch.refused(3, []string{"datum.txt", "known only once yours are saved", "uncinate sync --save --message Mine\n"}, "gauge", "", "sync", "--save", "-m", "Mine", "--preview")
	assert.NotContains(t, said, "--preview")
	launch.refused(3, []string{"both sides changed the same file"}, "gauge", "", "sync", "--save", "-m", "Mine")
}

// TestWhoWasNotAsked has hosts that were not asked, gave no answer, or refused.
func TestWhoWasNotAsked(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	board := func() string { return m.ok("", "", "status", "--all") }
	m.ok("", "", "repository", "delete", "tern/gauge", "--yes")
	assert.Regexp(t, `refused +gauge .*there is no repository at`, board())
	said := m.ok("gauge", "", "status")
	assert.NotContains(t, said, "in step")
	assert.Contains(t, said, "the host refused: there is no repository at")
	m.refused(5, []string{"or tern may not see it", "uncinate repository list --account tern", "uncinate detach "}, "gauge", "", "sync")
	m.git("gauge", "remote", "set-url", "origin", "http://127.0.0.1:9/tern/gauge.git")
	assert.Regexp(t, `no answer +gauge .*127.0.0.1:9 cannot be reached`, board())
	m.git("gauge", "remote", "set-url", "origin", h.URL+"/tern/gauge.git")
	m.ok("", "", "token", "forget", "tern")
	assert.Regexp(t, `not asked +gauge .*the vault holds no token for the account tern`, board())
	assert.Contains(t, board(), "uncinate account add tern --host gannet")
	assert.Contains(t, m.ok("gauge", "", "status"), "the host was not asked: the vault holds no token")
	for _, args := range [][]string{{"account", "list"}, {"account", "show", "tern"}, {"token", "list"}} {
		assert.Contains(t, m.ok("", "", args...), "not in the vault", args)
	}
	assert.NotContains(t, m.ok("", "", "token", "list"), "good")
}

// TestReadyTellsTheCause has a host that is down, and a home in which nothing can be made.
func TestReadyTellsTheCause(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	require.NoError(t, h.Faults.Set([]string{"cut"}))
	said := m.run("", "", "ready").out
	assert.Regexp(t, `bad +host .*cannot be reached`, said)
	assert.NotRegexp(t, `bad +token`, said)
	assert.Regexp(t, `doubtful +tern .*not tested: `, m.run("", "", "token", "test").out)
	other := newMachine(t)
	other.env = append(other.env, "UNCINATE_HOME=/proc/none")
	said = other.run("", "", "ready").out
	assert.Contains(t, said, "cannot be made, since nothing can be written in /proc")
	assert.NotContains(t, said, "own folders")
}

// TestAttachHeedsItsOptions gives a project that has commits, and one that is attached, options that
// are for a first commit.
func TestAttachHeedsItsOptions(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	m.git("gauge", "init", "-q", "-b", "dev")
	m.git("gauge", "add", "-A")
	m.git("gauge", "-c", "user.name=T", "-c", "user.email=t@gannet.example", "commit", "-q", "-m", "Begin")
	for range 2 { // before it is attached, and after
		m.refused(2, []string{"--only chooses files of a first commit", "uncinate save --message 'What was done' --only README.md"}, "gauge", "", "attach", "--only", "README.md", "--yes")
		m.refused(2, []string{"--message is for a first commit", "uncinate save --message Hi"}, "gauge", "", "attach", "--message", "Hi", "--yes")
		m.refused(2, []string{"it is called dev already", "uncinate branch rename dev trunk"}, "gauge", "", "attach", "--branch", "trunk", "--yes")
		m.ok("gauge", "", "attach", "--message", "Begin", "--branch", "dev", "--yes")
	}
	for _, x := range [][]string{{"--host", "petrel", "uncinate attach --move --host petrel"}, {"--licence", "MIT", "uncinate save"},
		{"--visibility", "public", "--visibility public"}, {"--owner", "knot", "--move --owner knot"}, {"--description", "Levels", "--description Levels"}} {
		args := []string{"attach", "--yes", x[0]}
		if x[1] != "" {
			args = append(args, x[1])
		}
		m.refused(2, []string{"attached already", x[2]}, "gauge", "", args...)
	}
	f := newHostOf(t, "fulmar")
	m.ok("", "", "host", "add", "fulmar", "--at", f.URL)
	m.ok("", f.token["tern"]+"\n", "account", "add", "tern-fulmar", "--host", "fulmar", "--user", "tern")
	m.refused(5, []string{"offers nothing that --may hooks would be for"}, "", "", "token", "add", "tern-fulmar", "--may", "hooks")
}

// TestAttachTellsOfBranches attaches to a repository with another default branch, and with branches
// that are there already.
func TestAttachTellsOfBranches(t *testing.T) {
	t.Parallel()
	_, pier, launch := pair(t)
	pier.ok("gauge", "", "branch", "make", "scale", "--switch", "--publish")
	launch.ok("gauge", "", "sync")
	launch.ok("gauge", "", "branch", "switch", "scale")
	launch.git("gauge", "branch", "own")
	launch.git("gauge", "commit", "-q", "--allow-empty", "-m", "Own")
	launch.git("gauge", "branch", "own2")
	said := launch.ok("gauge", "", "attach", "--yes")
	assert.Contains(t, said, "default branch main")
	assert.Contains(t, said, "stayed   2 branches: own, own2")
}

// TestTheNameForCommitsFollowsTheAccount puts an account right, and moves to another host.
func TestTheNameForCommitsFollowsTheAccount(t *testing.T) {
	t.Parallel()
	h, petrel := newHost(t), newHostOf(t, "petrel")
	m := signedIn(t, h)
	m.ok("", "", "host", "add", "petrel", "--at", petrel.URL)
	m.ok("", petrel.token["tern"], "account", "add", "ternp", "--host", "petrel", "--user", "tern")
	m.ok("", h.token["tern-own"], "account", "add", "own", "--host", "gannet")
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes", "--account", "own", "--visibility", "public")
	m.git("gauge", "branch", "b2")
	assert.Equal(t, "tern-own@gannet.example", m.git("gauge", "config", "user.email"))
	m.ok("gauge", "", "attach", "--yes", "--account", "tern")
	assert.Equal(t, "tern@gannet.example", m.git("gauge", "config", "user.email"))
	said := m.ok("gauge", "", "attach", "--move", "--account", "ternp", "--yes")
	assert.NotContains(t, said, "stayed")
	assert.Contains(t, said, "petrel holds the same commit, public")
	assert.Equal(t, "tern@petrel.example", m.git("gauge", "config", "user.email"))
	m.git("gauge", "config", "user.email", "mine@gannet.example") // what the person set stays
	m.ok("gauge", "", "attach", "--yes")
	assert.Equal(t, "mine@gannet.example", m.git("gauge", "config", "user.email"))
}

// TestUnfinishedGitIsTold looks at a project in which plain git has not finished.
func TestUnfinishedGitIsTold(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	commit := func(text string) {
		m.write("gauge", map[string]string{"README.md": text})
		m.git("gauge", "commit", "-q", "-a", "-m", text)
	}
	m.git("gauge", "branch", "other")
	commit("one\n")
	m.git("gauge", "checkout", "-q", "other")
	commit("two\n")
	m.git("gauge", "checkout", "-q", "main")
	for _, x := range [][2]string{{"merge", "merge other"}, {"cherry-pick", "cherry-pick other"}, {"rebase", "rebase other"}, {"revert", "revert --no-edit HEAD~1"}} {
		m.command("gauge", "", "git", strings.Fields(x[1])...) // it meets a clash
		said := m.ok("gauge", "", "status")
		assert.Contains(t, said, "unfinished  a "+x[0])
		assert.NotContains(t, said, "uncinate sync")
		assert.Contains(t, said, x[0]+" --abort")
		assert.Contains(t, said, "add -- README.md")
		assert.Regexp(t, `unfinished +gauge .*a `+x[0]+` is not finished`, m.ok("", "", "status", "--all"))
		m.refused(3, []string{"a " + x[0] + ", begun by plain git, is not finished", "add -- README.md"}, "gauge", "", "sync")
		m.git("gauge", x[0], "--abort")
		if x[0] == "rebase" { // for the revert to clash
			commit("three\n")
			commit("four\n")
		}
	}
	m.git("gauge", "checkout", "-q", "--detach")
	said := m.ok("gauge", "", "status")
	assert.Contains(t, said, "on no branch (a detached HEAD)")
	assert.NotContains(t, said, "uncinate sync")
	assert.Regexp(t, `no branch +gauge `, m.ok("", "", "status", "--all"))
}

// TestWhatIsNotThere explains files that are not there, looks at commits that the host has by another
// branch, and hands over what rules leave out that were written before.
func TestWhatIsNotThere(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	assert.Contains(t, m.ok("gauge", "", "ignore", "explain", "none.txt"), "There is no none.txt in the project.")
	m.git("gauge", "checkout", "-q", "-b", "fresh")
	assert.Contains(t, m.ok("gauge", "", "history", "--here"), "No commit is only here.")
	assert.NotRegexp(t, `(?m)^here`, m.ok("gauge", "", "history"))
	m.write("gauge", map[string]string{"Makefile": "all:\n", "build/level.o": "x", "build/gauge.map": "x"})
	before := m.ok("gauge", "", "survey", "--handover", "--preview")
	require.Contains(t, before, "build/: run the build")
	m.ok("gauge", "", "ignore", "add", "--suggested")
	assert.Contains(t, m.ok("gauge", "", "survey", "--handover", "--preview"), "build/: run the build")
}

// TestParentOfProjects offers one of the projects in a folder that is none itself.
func TestParentOfProjects(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	for _, name := range []string{"a", "b"} {
		m.git("", "init", "-q", filepath.Join(m.home, "all", name))
	}
	m.refused(3, []string{"holds 2 repositories and no file of its own", "/all/a"}, "all", "", "attach", "--yes")
	m.refused(3, []string{"holds 2 repositories, and is not one itself", "uncinate status --all"}, "all", "", "status")
	m.git("all", "init", "-q")
	m.write("all", map[string]string{"README.md": "# All\n"})
	m.ok("all", "", "attach", "--yes")
}

// TestTokenReplacedInHalves cannot revoke the old token, and does when it is told to replace it again.
func TestTokenReplacedInHalves(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	fresh, err := h.NewToken("tern", time.Now().AddDate(1, 0, 0))
	require.NoError(t, err)
	require.NoError(t, h.Faults.Set([]string{"fail on /deck/revoke"}))
	m.refused(6, []string{"The same command, run again, goes on from here"}, "", fresh.Secret, "token", "replace", "tern", "--yes")
	require.NoError(t, h.Faults.Set(nil))
	alive := func(secret string) bool {
		return m.run("", secret, "account", "add", "trial", "--host", "gannet").code == 0
	}
	assert.True(t, alive(h.token["tern"]))
	m.ok("gauge", "", "sync")
	said := m.ok("", "", "token", "replace", "tern", "--yes")
	assert.NotContains(t, said, fresh.Secret)
	assert.False(t, alive(h.token["tern"]))
	m.ok("gauge", "", "sync")
}

// TestRevokedTokenIsTold uses a token that another machine revoked.
func TestRevokedTokenIsTold(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	other := signedIn(t, h)
	other.ok("", "", "token", "revoke", "tern", "--yes")
	m.refused(5, []string{"does not accept the sign-in of tern", "uncinate account add tern --host gannet", "uncinate token test tern"}, "gauge", "", "sync")
	for _, args := range [][]string{{"account", "list"}, {"token", "list"}} {
		assert.Contains(t, m.ok("", "", args...), "refused by the host on", args)
	}
	m.refused(1, []string{"1 token is not valid"}, "", "", "token", "test")
	fresh, err := h.NewToken("tern", time.Now().AddDate(1, 0, 0))
	require.NoError(t, err)
	m.ok("", fresh.Secret, "account", "add", "tern", "--host", "gannet")
	m.ok("gauge", "", "sync")
	assert.NotContains(t, m.ok("", "", "account", "list"), "refused")
}

// TestRunAgainGoesOn cuts the line to the host while commands act there, one after the other: wherever
// it is said that the same command goes on, it does.
func TestRunAgainGoesOn(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	told := 0
	m.ok("", "", "key", "make", "tern", "--open")
	m.write("gauge", map[string]string{"own.txt": "own\n"})
	m.ok("gauge", "", "save", "-m", "Own")
	for _, line := range []string{"branch make deck --publish", "branch rename deck aft --yes", "branch remove aft --yes", "tag make v1.1.0 --yes", "tag remove v1.1.0 --yes",
		"repository change gauge --description Levels --yes", "key install tern --yes", "key rotate tern --yes", "sync", "repository delete gauge --yes"} {
		for _, after := range []string{"2", "1"} {
			require.NoError(t, h.Faults.Set([]string{"lose after " + after}))
			r := m.run("gauge", "", strings.Fields(line)...)
			require.NoError(t, h.Faults.Set(nil))
			if r.code == 0 {
				break
			}
			if strings.Contains(r.err, "run again, goes on from here") {
				told++
			}
			if after == "1" || strings.Contains(r.err, "run again") {
				m.ok("gauge", "", strings.Fields(line)...)
				break
			}
		}
	}
	assert.GreaterOrEqual(t, told, 5)
}
