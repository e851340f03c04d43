package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

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
			t.Run(map[bool]string{true: "commits,", false: "files,"}[committed]+way, func(t *testing.T) {
				t.Parallel()
				h := newHost(t)
				m := signedIn(t, h)
				m.made(h, "gauge", "trunk", firstFiles)
				m.write("gauge", map[string]string{"README.md": "# My gauge\n\nReads the level.\n", "LICENCE": "Permission is granted.\n", ".gitignore": "*.tmp\n/secret\n", "src/level.c": "int level;\n", "x.log": "mine", "build/level.o": "o"})
				if committed {
					m.commit("gauge", "main")
				}
				before := blobs(t, filepath.Join(m.home, "gauge"))
				m.refused(3, []string{"1 file is here and there, and not the same", "README.md", "--clash mine", "--clash both", "Nothing was changed"}, "gauge", "", "attach", "--yes", "--to", "gauge")
				assert.Equal(t, before, blobs(t, filepath.Join(m.home, "gauge")))
				preview := m.ok("gauge", "", "attach", "--preview", "--to", "gauge", "--clash", way)
				assert.Contains(t, preview, map[string]string{"mine": "README.md stays yours", "theirs": "README.md becomes theirs", "both": "README.md stays yours, with theirs beside it"}[way])
				out := m.ok("gauge", "", "attach", "--yes", "--to", "gauge", "--clash", way)
				assert.Contains(t, out, "1 commit that was there")

				// One branch, the host's; a fast-forward of what was there.
				there := h.gitDir(t, "tern", "tern", "gauge")
				assert.Equal(t, "trunk", m.git("gauge", "symbolic-ref", "--short", "HEAD"))
				assert.Equal(t, m.git("gauge", "rev-parse", "HEAD"), m.git(there, "rev-parse", "refs/heads/trunk"))
				assert.Equal(t, "refs/heads/trunk", m.git(there, "for-each-ref", "--format=%(refname)"))
				m.git(there, "merge-base", "--is-ancestor", m.git("gauge-there", "rev-parse", "HEAD"), "refs/heads/trunk")

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
				assert.Equal(t, map[string]string{"mine": "# My gauge\n\nReads the level.\n", "both": "# My gauge\n\nReads the level.\n", "theirs": "# gauge\n"}[way], string(readme))
				beside, err := filepath.Glob(filepath.Join(m.home, "gauge/README (*).md"))
				require.NoError(t, err)
				want := map[string]int{"both": 1}
				if !committed {
					want["theirs"] = 1 // what is in no commit is kept as a file
				}
				assert.Len(t, beside, want[way])
				status := m.git("gauge", "status", "--porcelain")
				assert.Empty(t, strings.ReplaceAll(strings.ReplaceAll(status, "?? build/", ""), "?? x.log", ""), "the copies lie outside of what git carries")
				assert.Contains(t, m.ok("gauge", "", "attach"), "Already attached")
				m.write("gauge", map[string]string{"more": "x"})
				m.git("gauge", "add", "more")
				m.git("gauge", "commit", "-q", "-m", "More")
				m.git("gauge", "push", "-q")
			})
		}
	}
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

	// Both changed the same file: decided, and the other side kept beside.
	m.made(h, "clash", "main", firstFiles)
	m.git("", "clone", "-q", "clash-there", "clash")
	m.git("clash", "remote", "remove", "origin")
	m.addTo(h, "clash", "main", "Theirs", map[string]string{"LICENCE": "Theirs.\n"})
	m.write("clash", map[string]string{"LICENCE": "Mine.\n"})
	m.refused(3, []string{"LICENCE", "not saved"}, "clash", "", "attach", "--yes", "--to", "clash", "--clash", "theirs")
	m.git("clash", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-a", "-m", "Mine")
	assert.Contains(t, m.ok("clash", "", "attach", "--yes", "--to", "clash", "--clash", "both"), "kept beside  LICENCE (theirs, gannet ")
	assert.Equal(t, "Mine.", m.git("clash", "show", "HEAD:LICENCE"))
	end("clash", "main")

	// What lies here without being sent is never written over.
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
