package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// made makes tern's repository on the host by other hands: with these files, in one
// commit on the branch.
func (m *machine) made(h *host, name, branch string, contents map[string]string) {
	m.t.Helper()
	_, err := h.Store.Create(m.t.Context(), "tern", practice.Repo{Owner: "tern", Name: name, Visibility: "private", Default: branch})
	require.NoError(m.t, err)
	seed := name + "-there"
	m.write(seed, contents)
	m.git(seed, "init", "-q", "-b", branch)
	m.addTo(h, name, branch, "First files", nil)
}

// addTo commits to a repository that was made so, and pushes it by other hands.
func (m *machine) addTo(h *host, name, branch, text string, contents map[string]string) {
	m.t.Helper()
	seed := name + "-there"
	m.write(seed, contents)
	was := m.env
	m.env = append(was[:len(was):len(was)], "GIT_AUTHOR_DATE=2025-03-01T10:00:00Z", "GIT_COMMITTER_DATE=2025-03-01T10:00:00Z")
	defer func() { m.env = was }()
	m.git(seed, "add", "-A", "-f")
	m.git(seed, "-c", "user.name=Knot", "-c", "user.email=knot@gannet.example", "commit", "-q", "--allow-empty", "-m", text)
	m.git(seed, "push", "-q", h.gitDir(m.t, "tern", "tern", name), branch)
}

// blobs gives the contents of every file below a folder but .git.
func blobs(t *testing.T, top string) map[string]bool {
	t.Helper()
	out := map[string]bool{}
	for _, text := range tree(t, top) {
		out[strings.TrimPrefix(text, "--x------ ")[11:]] = true
	}
	return out
}

var firstFiles = map[string]string{"README.md": "# gauge\n", "LICENCE": "Permission is granted.\n", ".gitignore": "# from the host\n*.log\n*.tmp\n"}

// TestJoinFirstFiles is the usual trouble: the repository was made on the host with a
// readme, a licence and ignore rules, and the project has each of its own.
func TestJoinFirstFiles(t *testing.T) {
	t.Parallel()
	for _, committed := range []bool{false, true} {
		for _, way := range []string{"mine", "theirs", "both"} {
			t.Run(map[bool]string{true: "commits,", false: "files,"}[committed]+way, func(t *testing.T) { joinsFirstFiles(t, committed, way) })
		}
	}
}

// joinsFirstFiles attaches to a repository that holds files already, decided in one way.
func joinsFirstFiles(t *testing.T, committed bool, way string) {
	t.Helper()
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.made(h, "gauge", "trunk", firstFiles)
	m.write("gauge", map[string]string{"README.md": "# My gauge\n\nReads the level.\n", "LICENCE": "Permission is granted.\n", ".gitignore": "*.tmp\n/secret\n", "src/level.c": "int level;\n", "x.log": "mine", "build/level.o": "o"})
	if committed {
		m.commit("gauge", "main")
	}
	before := blobs(t, filepath.Join(m.home, "gauge"))
	m.refused(3, []string{"1 file differs between both sides", "README.md", "--clash mine", "--clash both", "Nothing was changed"}, "gauge", "", "attach", "--yes", "--to", "gauge")
	assert.Equal(t, before, blobs(t, filepath.Join(m.home, "gauge")))
	preview := m.ok("gauge", "", "attach", "--preview", "--to", "gauge", "--clash", way)
	assert.Contains(t, preview, map[string]string{"mine": "README.md stays yours", "theirs": "README.md becomes theirs", "both": "README.md becomes theirs, with yours beside it"}[way])
	out := m.ok("gauge", "", "attach", "--yes", "--to", "gauge", "--clash", way)
	assert.Contains(t, out, "1 commit from the host")

	// One branch, the host's; a fast-forward of what was there.
	there := h.gitDir(t, "tern", "tern", "gauge")
	assert.Equal(t, "trunk", m.git("gauge", "symbolic-ref", "--short", "HEAD"))
	assert.Equal(t, m.git("gauge", "rev-parse", "HEAD"), m.git(there, "rev-parse", "refs/heads/trunk"))
	assert.Equal(t, "refs/heads/trunk", m.git(there, "for-each-ref", "--format=%(refname)"))
	m.git(there, "merge-base", "--is-ancestor", m.git("gauge-there", "rev-parse", "HEAD"), "refs/heads/trunk")
	joinedFilesAreAllThere(t, committed, way, m, before)
}

// joinedFilesAreAllThere looks for everything that either side had.
func joinedFilesAreAllThere(t *testing.T, committed bool, way string, m *machine, before map[string]bool) {
	t.Helper()
	// Nothing is lost from either side: each blob is in the history or in the folder.
	kept := blobs(t, filepath.Join(m.home, "gauge"))
	for object := range strings.SplitSeq(m.git("gauge", "rev-list", "--objects", "--all"), "\n") {
		id, _, _ := strings.Cut(object, " ")
		if m.git("gauge", "cat-file", "-t", id) == "blob" {
			kept[m.command("gauge", "", "git", "cat-file", "blob", id).out] = true
		}
	}
	for _, side := range []map[string]bool{before, blobs(t, filepath.Join(m.home, "gauge-there"))} {
		for text := range side {
			if !strings.HasPrefix(text, "*.tmp") && !strings.HasPrefix(text, "# from the host") {
				assert.True(t, kept[text], text)
			}
		}
	}
	rules, err := os.ReadFile(filepath.Join(m.home, "gauge/.gitignore"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(rules), "*.tmp\n/secret\n\n# these rules came from gannet\n# from the host\n*.log\n"), string(rules))
	readme, err := os.ReadFile(filepath.Join(m.home, "gauge/README.md"))
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"mine": "# My gauge\n\nReads the level.\n", "both": "# gauge\n", "theirs": "# gauge\n"}[way], string(readme))
	beside, err := filepath.Glob(filepath.Join(m.home, "gauge/README.from-*.md"))
	require.NoError(t, err)
	want := map[string]int{"both": 1}
	if !committed {
		want["theirs"] = 1 // what is in no commit is kept as a file
	}
	assert.Len(t, beside, want[way])
	status := m.git("gauge", "status", "--porcelain")
	assert.Empty(t, strings.ReplaceAll(strings.ReplaceAll(status, "?? build/", ""), "?? x.log", ""), "the copies are outside of what git tracks")
	assert.Contains(t, m.ok("gauge", "", "attach"), "Already attached")
	m.write("gauge", map[string]string{"more": "x"})
	m.git("gauge", "add", "more")
	m.git("gauge", "commit", "-q", "-m", "More")
	m.git("gauge", "push", "-q")
}

// TestJoinInEverySituation joins with hosted repositories in other states.
func TestJoinInEverySituation(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	end := func(name, branch string) {
		t.Helper()
		assert.Equal(t, m.git(name, "rev-parse", "HEAD"), m.git(h.gitDir(t, "tern", "tern", name), "rev-parse", branch), name)
		assert.Empty(t, m.git(name, "status", "--porcelain"), name)
	}

	// An empty folder begins with what is there.
	m.made(h, "empty", "main", firstFiles)
	require.NoError(t, os.Mkdir(filepath.Join(m.home, "empty"), 0o755))
	m.ok("empty", "", "attach", "--yes", "--to", "empty")
	assert.Equal(t, tree(t, filepath.Join(m.home, "empty-there")), tree(t, filepath.Join(m.home, "empty")))
	end("empty", "main")

	// The host is ahead of what is here; work that is not saved and not touched survives.
	m.made(h, "ahead", "main", firstFiles)
	m.git("", "clone", "-q", "ahead-there", "ahead")
	m.git("ahead", "remote", "remove", "origin")
	m.addTo(h, "ahead", "main", "More there", map[string]string{"more": "x", "LICENCE": "Changed.\n"})
	m.write("ahead", map[string]string{"README.md": "# not saved\n"})
	m.ok("ahead", "", "attach", "--yes", "--to", "ahead")
	assert.Equal(t, "M README.md", m.git("ahead", "status", "--porcelain"))
	m.git("ahead", "checkout", "-q", "README.md")
	end("ahead", "main")

	// Both went on from a common commit: one merge commit, without any clash.
	m.made(h, "apart", "main", firstFiles)
	m.git("", "clone", "-q", "apart-there", "apart")
	m.git("apart", "remote", "remove", "origin")
	m.addTo(h, "apart", "main", "More there", map[string]string{"there": "x"})
	m.write("apart", map[string]string{"here": "x", "LICENCE": "Changed here.\n"})
	m.git("apart", "add", "-A")
	m.git("apart", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "More here")
	m.ok("apart", "", "attach", "--yes", "--to", "apart")
	assert.Equal(t, "3", m.git("apart", "rev-list", "--count", "--no-merges", "HEAD"))
	assert.Len(t, strings.Fields(m.git("apart", "rev-list", "--parents", "-1", "HEAD")), 3)
	end("apart", "main")
	joinsWhereBothHaveFiles(t, h, m, end)
}

// joinsWhereBothHaveFiles joins where both sides changed a file, or one is in the way.
func joinsWhereBothHaveFiles(t *testing.T, h *host, m *machine, end func(name string, branch string)) {
	t.Helper()
	// Both changed the same file: decided, and the other side kept beside.
	m.made(h, "clash", "main", firstFiles)
	m.git("", "clone", "-q", "clash-there", "clash")
	m.git("clash", "remote", "remove", "origin")
	m.addTo(h, "clash", "main", "Theirs", map[string]string{"LICENCE": "Theirs.\n"})
	m.write("clash", map[string]string{"LICENCE": "Mine.\n"})
	m.refused(3, []string{"LICENCE", "not saved"}, "clash", "", "attach", "--yes", "--to", "clash", "--clash", "theirs")
	m.git("clash", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-a", "-m", "Mine")
	assert.Contains(t, m.ok("clash", "", "attach", "--yes", "--to", "clash", "--clash", "both"), "put beside  LICENCE.from-")
	assert.Contains(t, m.ok("clash", "", "status"), "To do again: your LICENCE is LICENCE.from-")
	assert.Equal(t, "Mine.\n", m.ok("clash", "", "rescue", "show", "1", "LICENCE"))
	beside, err := filepath.Glob(filepath.Join(m.home, "clash/LICENCE.from-*"))
	require.NoError(t, err)
	require.Len(t, beside, 1)
	mine, err := os.ReadFile(beside[0])
	require.NoError(t, err)
	assert.Equal(t, "Mine.\n", string(mine))
	assert.Equal(t, "Theirs.", m.git("clash", "show", "HEAD:LICENCE"))
	end("clash", "main")

	// It was cloned elsewhere first, and the project is put into it from where it is.
	m.made(h, "cloned", "main", firstFiles)
	m.ok("", "", "clone", "cloned", "copies/cloned")
	m.write("cloned", map[string]string{"a": "x"})
	m.ok("cloned", "", "attach", "--yes", "--to", "../copies/cloned")
	end("cloned", "main")
	m.refused(3, []string{"is not a copy of a hosted repository"}, "cloned", "", "attach", "--yes", "--to", "../cloned-there")
	assert.Contains(t, m.ok("copies/cloned", "", "sync"), "Received")

	// What is here without being sent is never written over.
	m.made(h, "way", "main", map[string]string{"local.toml": "theirs\n", "a": "x"})
	m.write("way", map[string]string{"local.toml": "mine\n", ".gitignore": "local.toml\n", "b": "x"})
	m.ok("way", "", "attach", "--yes", "--to", "way")
	data, err := os.ReadFile(filepath.Join(m.home, "way/local.toml"))
	require.NoError(t, err)
	assert.Equal(t, "mine\n", string(data))
	assert.Equal(t, "theirs", m.git("way", "show", "HEAD:local.toml"))
}

// TestJoinRefuses meets what it cannot join, and touches nothing.
func TestJoinRefuses(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.made(h, "folder", "main", map[string]string{"plan/a": "x"})
	m.write("folder", map[string]string{"plan": "a file"})
	m.refused(3, []string{"where one side has a file the other has a folder: plan/a", "mv -- "}, "folder", "", "attach", "--yes", "--to", "folder")
	m.commit("folder", "main")
	m.refused(3, []string{"the other has a folder: plan", "git mv -- plan plan-2"}, "folder", "", "attach", "--yes", "--to", "folder", "--clash", "both")
	m.refused(2, []string{"mine, theirs or both, not by ours"}, "folder", "", "attach", "--yes", "--to", "folder", "--clash", "ours")
	left, err := filepath.Glob(filepath.Join(m.home, ".uncinate/state/aside/*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	m.made(h, "twigs", "one", firstFiles)
	m.git("twigs-there", "push", "-q", h.gitDir(t, "tern", "tern", "twigs"), "one:refs/heads/two")
	m.git(h.gitDir(t, "tern", "tern", "twigs"), "symbolic-ref", "HEAD", "refs/heads/none")
	r, err := h.Store.Find("tern", "tern", "twigs")
	require.NoError(t, err)
	assert.Equal(t, "one", r.Default)
	m.write("twigs", map[string]string{"a": "x"})
	m.commit("twigs", "one")
	m.git("twigs", "branch", "-m", "mine")
	m.git("twigs", "branch", "one")
	m.refused(3, []string{"here is a branch of that name too", "switch one"}, "twigs", "", "attach", "--yes", "--to", "twigs")

	// A linked work tree has no repository of its own.
	m.project("main-tree")
	m.commit("main-tree", "main")
	m.git("main-tree", "worktree", "add", "-q", "../linked", "-b", "side")
	m.refused(3, []string{"linked work tree", "uncinate attach " + filepath.Join(m.home, "main-tree")}, "linked", "", "attach", "--yes")
}

// TestJoinOnEveryWay joins on hosts of other kinds, and over SSH.
func TestJoinOnEveryWay(t *testing.T) {
	t.Parallel()
	mine := map[string]string{"README.md": "# mine\n", "src/a.c": "int a;\n", ".gitignore": "*.bak\n"}
	check := func(t *testing.T, m *machine, there string) {
		t.Helper()
		assert.Equal(t, m.git("gauge", "rev-parse", "HEAD"), m.git(there, "rev-parse", "refs/heads/main"))
		assert.Equal(t, ".gitignore\nLICENCE\nREADME.md\nsrc/a.c", m.git(there, "ls-tree", "-r", "--name-only", "main"))
		assert.Equal(t, "2", m.git(there, "rev-list", "--count", "main"))
		assert.Empty(t, m.git("gauge", "status", "--porcelain"))
		left, err := filepath.Glob(filepath.Join(m.home, ".uncinate/state/aside/*"))
		require.NoError(t, err)
		assert.Empty(t, left, "what was only looked at is gone")
	}
	for _, name := range []string{"petrel", "fulmar"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHostOf(t, name)
			m := newMachine(t)
			m.ok("", "", "host", "add", name, "--at", h.URL)
			m.ok("", "", "vault", "make", "--by", "file")
			m.ok("", h.token["tern"]+"\n", "account", "add", "--host", name, "--user", "tern")
			m.made(h, "gauge", "main", firstFiles)
			m.write("gauge", mine)
			m.ok("gauge", "", "attach", "--yes", "--to", "tern/gauge", "--clash", "both")
			check(t, m, h.gitDir(t, "tern", "tern", "gauge"))
		})
	}
	t.Run("ssh", func(t *testing.T) {
		t.Parallel()
		h := newHost(t)
		m := signedIn(t, h)
		m.agent()
		m.ok("", "", "host", "pin", strings.TrimPrefix(h.URL, "http://"), "--fingerprint", h.HostKey())
		m.ok("", "", "settings", "set", "machine", "pier")
		m.ok("", "", "key", "make", "tern", "--open")
		m.ok("", "", "key", "install", "tern", "--yes")
		m.made(h, "gauge", "main", firstFiles)
		m.write("gauge", mine)
		m.ok("gauge", "", "attach", "--yes", "--over", "ssh", "--to", "gauge", "--clash", "theirs")
		assert.True(t, strings.HasPrefix(m.git("gauge", "remote", "get-url", "origin"), "ssh://"))
		check(t, m, h.gitDir(t, "tern", "tern", "gauge"))
		beside, err := filepath.Glob(filepath.Join(m.home, "gauge/README.from-pier.md"))
		require.NoError(t, err)
		assert.Len(t, beside, 1, "the machine's name is the one its key carries")
	})
}

// TestJoinStaysInTheFolder meets a hosted repository and a folder made to lead out.
func TestJoinStaysInTheFolder(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	outside := filepath.Join(m.home, "outside")
	require.NoError(t, os.Mkdir(outside, 0o755))

	// A link of one's own, left out by a rule, where there is a folder there.
	m.made(h, "led", "main", map[string]string{"notes/plan.md": "theirs\n"})
	m.write("led", map[string]string{"a": "x", ".gitignore": "/notes\n"})
	require.NoError(t, os.Symlink(outside, filepath.Join(m.home, "led/notes")))
	m.run("led", "", "attach", "--yes", "--to", "led")
	assert.Empty(t, tree(t, outside))
	target, err := os.Readlink(filepath.Join(m.home, "led/notes"))
	require.NoError(t, err)
	assert.Equal(t, outside, target, "the link is as it was")
	m.run("led", "", "detach", "--yes")
	assert.Empty(t, tree(t, outside))

	// A link there that leads out is written as the link it is, and not followed.
	m.made(h, "link", "main", map[string]string{"b": "x"})
	require.NoError(t, os.Symlink(outside, filepath.Join(m.home, "link-there/out")))
	m.addTo(h, "link", "main", "A link", nil)
	m.write("link", map[string]string{"a": "x"})
	m.ok("link", "", "attach", "--yes", "--to", "link")
	assert.Empty(t, tree(t, outside))
	assert.Contains(t, m.ok("link", "", "survey"), "out is a link out of the project")

	// Names with every sign there is.
	odd := map[string]string{
		"-rf":            "x",
		"a b/c\"d":       "x",
		"it's":           "x",
		"$(touch owned)": "x",
		"ünï":            "x",
		"line\nend":      "x",
		"\x1b[31mred":    "x",
	}
	m.made(h, "odd", "main", odd)
	m.write("odd", map[string]string{"mine": "x"})
	said := m.run("odd", "", "attach", "--yes", "--to", "odd")
	require.Equal(t, 0, said.code, said.err)
	assert.NotContains(t, said.out+said.err, "\x1b")
	for name := range odd {
		assert.FileExists(t, filepath.Join(m.home, "odd", name))
	}
	assert.NoFileExists(t, filepath.Join(m.home, "odd/owned"))
	joinMeetsAPush(t, h, m)
}

// joinMeetsAPush joins while somebody pushes: that stops it, and nothing is half-done.
func joinMeetsAPush(t *testing.T, h *host, m *machine) {
	t.Helper()
	// What others push while we look stops it, and nothing is half-done.
	m.made(h, "moving", "main", firstFiles)
	m.write("moving", map[string]string{"a": "x"})
	require.NoError(t, h.Faults.Set([]string{"delay=1s on git-receive-pack"}))
	done := make(chan result)
	go func() { done <- m.run("moving", "", "attach", "--yes", "--to", "moving") }()
	require.Eventually(t, func() bool {
		for _, met := range h.Faults.Log() {
			if strings.Contains(met, "git-receive-pack") {
				return true
			}
		}
		return false
	}, 20*time.Second, 5*time.Millisecond)
	m.addTo(h, "moving", "main", "Meanwhile", map[string]string{"meanwhile": "x"})
	r := <-done
	assert.NotZero(t, r.code, r.err)
	assert.Contains(t, r.err, "What is done is kept", r.err)
}

// TestTrackedFilesThatStayElsewhere surveys a repository that carries what its kind
// leaves out, and takes it out by the pasted command.
func TestTrackedFilesThatStayElsewhere(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.write("gauge", map[string]string{"src/a.c": "int a;\n", "build/a.o": "o", "build/b.o": "o", "README.md": "x"})
	m.commit("gauge", "main")
	s := m.survey("gauge")
	assert.Equal(t, "look: is in git although it stays in projects of this kind: made by the build", said(s, "build/a.o"))
	assert.Equal(t, 4, s.Up.Files)
	assert.Contains(t, m.ok("gauge", "", "survey"), "uncinate ignore add --untrack build/a.o")
	assert.Contains(t, m.ok("gauge", "", "ignore", "add", "--untrack", "build", "--preview"), "would be no longer tracked by git")
	assert.NotEmpty(t, m.git("gauge", "ls-files", "build"))
	m.ok("gauge", "", "ignore", "add", "--untrack", "build")
	assert.Empty(t, m.git("gauge", "ls-files", "build"))
	assert.FileExists(t, filepath.Join(m.home, "gauge/build/a.o"))
	m.git("gauge", "add", ".gitignore")
	m.git("gauge", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "Stay")
	s = m.survey("gauge")
	assert.Equal(t, []string{"build/a.o", "build/b.o"}, of(s, "ignored"))
	m.ok("gauge", "", "attach", "--yes")
	assert.Equal(t, ".gitignore\nREADME.md\nsrc/a.c", m.git(h.gitDir(t, "tern", "tern", "gauge"), "ls-tree", "-r", "--name-only", "main"))
}

// TestDetachKeepsOwnPrivateRules puts a join back after the person wrote a private ignore
// rule: the rule stays.
func TestDetachKeepsOwnPrivateRules(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.made(h, "gauge", "main", firstFiles)
	m.write("gauge", map[string]string{"README.md": "# mine\n", "a": "x"})
	m.git("gauge", "init", "-q", "-b", "main")
	require.NoError(t, h.Faults.Set([]string{"cut on git-receive-pack"}))
	assert.NotZero(t, m.run("gauge", "", "attach", "--yes", "--to", "gauge", "--clash", "both").code)
	require.NoError(t, h.Faults.Set(nil))
	path := filepath.Join(m.home, "gauge/.git/info/exclude")
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(data), "README.from-")
	require.NoError(t, os.WriteFile(path, append(data, "/my-own\n"...), 0o644))
	m.ok("gauge", "", "detach", "--yes")
	data, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(data), "/my-own")
	assert.NoFileExists(t, filepath.Join(m.home, "gauge/LICENCE"))
}
