package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// refsOf lists a repository's branches and tags.
func (m *machine) refsOf(dir string) string {
	m.t.Helper()
	return m.git(dir, "for-each-ref", "--format=%(objectname) %(refname)", "refs/heads", "refs/tags")
}

// TestMoveToAnotherHost moves a project from gannet to petrel: branches and tags that are
// only there or only here go along, and the old repository stays.
func TestMoveToAnotherHost(t *testing.T) {
	t.Parallel()
	g, p := newHost(t), newHostOf(t, "petrel")
	m := signedIn(t, g)
	m.ok("", "", "host", "add", "petrel", "--at", p.URL)
	m.ok("", p.token["tern"]+"\n", "account", "add", "tern-petrel", "--host", "petrel")
	m.project("gauge")
	m.commit("gauge", "main")
	m.git("gauge", "tag", "v1")
	m.git("gauge", "branch", "side")
	m.ok("gauge", "", "attach", "--yes", "--account", "tern", "--branches")
	old := g.gitDir(t, "tern", "tern", "gauge")
	m.git("gauge", "push", "-q", "origin", "main:refs/heads/only-there", "v1:refs/tags/there")
	m.git("gauge", "branch", "only-here")
	m.git("gauge", "tag", "-a", "v2", "-m", "Two")
	before := m.refsOf(old)
	whole := m.whole("gauge")

	m.refused(3, []string{"say where to", "uncinate attach --move --account tern-petrel"}, "gauge", "", "attach", "--move", "--yes")
	preview := m.ok("gauge", "", "attach", "--move", "--preview", "--account", "tern-petrel")
	for _, step := range []string{"Receive all branches and tags of " + g.URL, "Keep the old remote under the name former", "Create the private repository tern/gauge on petrel", "Send all branches and tags"} {
		assert.Contains(t, preview, step)
	}
	assert.Equal(t, whole, m.whole("gauge"))

	// Cut off in the push, put back, and done.
	require.NoError(t, p.Faults.Set([]string{"cut on git-receive-pack"}))
	assert.NotZero(t, m.run("gauge", "", "attach", "--move", "--yes", "--account", "tern-petrel").code)
	require.NoError(t, p.Faults.Set(nil))
	m.ok("gauge", "", "detach", "--yes")
	now := m.whole("gauge")
	for _, key := range []string{"config", "index", "head", "README.md"} {
		assert.Equal(t, whole[key], now[key], key)
	}
	assert.Empty(t, p.Store.List("tern", ""))
	assert.Contains(t, m.ok("gauge", "", "status"), "in step")

	require.NoError(t, p.Faults.Set([]string{"cut on git-receive-pack"}))
	assert.NotZero(t, m.run("gauge", "", "attach", "--move", "--yes", "--account", "tern-petrel").code)
	require.NoError(t, p.Faults.Set(nil))
	m.ok("gauge", "", "attach", "--yes")
	moved := m.refsOf(p.gitDir(t, "tern", "tern", "gauge"))
	for _, ref := range []string{"heads/main", "heads/side", "heads/only-there", "heads/only-here", "tags/v1", "tags/v2", "tags/there"} {
		assert.Contains(t, moved, " refs/"+ref)
	}
	assert.Equal(t, before, m.refsOf(old), "the old one stays as it is")
	assert.Equal(t, g.URL+"/tern/gauge.git", m.git("gauge", "remote", "get-url", "former"))
	assert.True(t, strings.HasPrefix(m.git("gauge", "remote", "get-url", "origin"), p.URL))
	m.write("gauge", map[string]string{"more": "x"})
	m.git("gauge", "add", "-A")
	m.git("gauge", "commit", "-q", "-m", "More")
	m.git("gauge", "push", "-q")
	m.git("gauge", "push", "-q", "former", "main")
	assert.Contains(t, m.ok("gauge", "", "status"), p.URL)
	assert.Contains(t, m.ok("gauge", "", "sync"), "In step")
}

func TestMoveRefuses(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.ok("", h.token["tern-own"]+"\n", "account", "add", "--host", "gannet")
	m.project("gauge")
	m.refused(3, []string{"nothing to move from"}, "gauge", "", "attach", "--move", "--yes", "--account", "tern-own")
	m.commit("gauge", "main")
	m.ok("gauge", "", "attach", "--yes", "--account", "tern")
	m.refused(2, []string{"it is there already"}, "gauge", "", "attach", "--move", "--yes", "--to", h.URL+"/tern/gauge.git")

	// Both sides went on: nothing moves until they are brought together.
	m.ok("", "", "clone", "--account", "tern", "gauge", "copy")
	for _, dir := range []string{"copy", "gauge"} {
		m.write(dir, map[string]string{"by-" + dir: "x"})
		m.git(dir, "add", "-A")
		m.git(dir, "commit", "-q", "-m", dir)
	}
	m.git("copy", "push", "-q")
	config := m.whole("gauge")["config"]
	m.refused(3, []string{"holds commits here that are not there", "uncinate sync"}, "gauge", "", "attach", "--move", "--yes", "--account", "tern-own")
	assert.Equal(t, config, m.whole("gauge")["config"])

	_, err := h.Store.Create(t.Context(), "tern-own", practice.Repo{Owner: "tern-own", Name: "full", Visibility: "private", Default: "main"})
	require.NoError(t, err)
	m.git("copy", "push", "-q", h.gitDir(t, "tern-own", "tern-own", "full"), "main")
	m.git("gauge", "reset", "-q", "--hard", "HEAD~1")
	m.git("gauge", "pull", "-q", "--ff-only")
	m.refused(3, []string{"moves only to an empty repository"}, "gauge", "", "attach", "--move", "--yes", "--to", "tern-own/full", "--account", "tern-own")
	_, err = h.Store.Create(t.Context(), "tern-own", practice.Repo{Owner: "tern-own", Name: "gauge", Visibility: "private", Default: "main"})
	require.NoError(t, err)
	m.ok("gauge", "", "attach", "--move", "--yes", "--to", "tern-own/gauge", "--account", "tern-own")
	assert.NoFileExists(t, filepath.Join(m.home, "gauge/.git/config.lock"))
	assert.Equal(t, m.git("gauge", "rev-parse", "HEAD"), m.git(h.gitDir(t, "tern-own", "tern-own", "gauge"), "rev-parse", "main"))
}

// TestMoveCutOff kills a move wherever its journal grows: run again it comes to its end,
// detached both hosts and the folder are as they were.
func TestMoveCutOff(t *testing.T) {
	t.Parallel()
	for n := 1; n <= 26; n++ {
		if os.Getenv("UNCINATE_SOAK") == "" && n%4 != 2 {
			continue
		}
		for _, then := range []string{"attach", "detach"} {
			t.Run(fmt.Sprint(n, then), func(t *testing.T) {
				t.Parallel()
				h := newHost(t)
				m := signedIn(t, h)
				m.ok("", h.token["tern-own"]+"\n", "account", "add", "--host", "gannet")
				m.begin("gauge", "branches")
				m.ok("gauge", "", "attach", "--yes", "--account", "tern", "--branches")
				old := h.gitDir(t, "tern", "tern", "gauge")
				m.git(old, "tag", "there", "main")
				whole, there := m.whole("gauge"), m.refsOf(old)
				move := []string{"attach", "--move", "--yes", "--account", "tern-own", "--name", "tern-own/gauge"}
				m.killAt("gauge", n, move...)
				m.free()
				if then == "detach" {
					r := m.run("gauge", "", "detach", "--yes", "--json")
					require.Equal(t, 0, r.code, r.err)
					var did struct{ Unfinished bool }
					require.NoError(t, json.Unmarshal([]byte(r.out), &did))
					if !did.Unfinished {
						return // nothing was begun, or it had come to its end: only the tie went
					}
					assert.Empty(t, h.Store.List("tern-own", ""))
					now := m.whole("gauge")
					for key, text := range whole {
						if key != "refs" { // the tracking refs have been renewed
							assert.Equal(t, text, now[key], key)
						}
					}
					assert.Equal(t, there, m.refsOf(old))
					return
				}
				m.ok("gauge", "", move...)
				moved := m.refsOf(h.gitDir(t, "tern-own", "tern-own", "gauge"))
				assert.Subset(t, strings.Split(moved, "\n"), strings.Split(there, "\n"))
				assert.Contains(t, moved, "refs/tags/v1")
				assert.Equal(t, there, m.refsOf(old))
				assert.Contains(t, m.ok("gauge", "", "status"), "tern-own/gauge")
			})
		}
	}
}

// TestACopyOnlyReceives ties a project to a second host that only receives.
func TestACopyOnlyReceives(t *testing.T) {
	t.Parallel()
	g, p := newHost(t), newHostOf(t, "petrel")
	m := signedIn(t, g)
	m.ok("", "", "host", "add", "petrel", "--at", p.URL)
	m.ok("", p.token["tern"]+"\n", "account", "add", "tern-petrel", "--host", "petrel")
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes", "--account", "tern")
	m.refused(2, []string{"--copy needs --remote", "--copy needs --remote"}, "gauge", "", "attach", "--yes", "--copy", "--account", "tern-petrel")
	m.ok("gauge", "", "attach", "--yes", "--copy", "--remote", "server", "--account", "tern-petrel", "--name", "gauge")
	there := p.gitDir(t, "tern", "tern", "gauge")
	assert.Equal(t, m.git("gauge", "rev-parse", "HEAD"), m.git(there, "rev-parse", "main"))
	assert.Contains(t, m.ok("gauge", "", "attach", "--yes", "--remote", "server"), "Already attached")
	assert.Contains(t, m.ok("gauge", "", "attach", "--yes"), g.URL)

	// Sync goes on with the first, and sends to the copy too.
	m.write("gauge", map[string]string{"more": "x"})
	m.git("gauge", "add", "-A")
	m.git("gauge", "commit", "-q", "-m", "More")
	said := m.ok("gauge", "", "sync")
	assert.Contains(t, said, "Sent 1 commit")
	assert.Contains(t, said, "The second remote "+p.URL)
	assert.Equal(t, m.git("gauge", "rev-parse", "HEAD"), m.git(there, "rev-parse", "main"))
	assert.Contains(t, m.ok("gauge", "", "status"), g.URL)

	// A copy that cannot be reached is told of, and keeps nothing from the first.
	m.write("gauge", map[string]string{"more": "y"})
	m.git("gauge", "commit", "-q", "-a", "-m", "Again")
	require.NoError(t, p.Faults.Set([]string{"cut"}))
	r := m.run("gauge", "", "sync")
	assert.NotZero(t, r.code)
	assert.Contains(t, r.err, "only the copy server at "+p.URL)
	assert.Equal(t, m.git("gauge", "rev-parse", "HEAD"), m.git(g.gitDir(t, "tern", "tern", "gauge"), "rev-parse", "main"))
	require.NoError(t, p.Faults.Set(nil))
	assert.Contains(t, m.ok("gauge", "", "sync"), "The second remote ")
	assert.Equal(t, m.git("gauge", "rev-parse", "HEAD"), m.git(there, "rev-parse", "main"))
	m.ok("gauge", "", "detach", "--yes", "--remote", "server")
	assert.NotContains(t, m.ok("gauge", "", "sync"), "The copy at")
}

// TestProjectsWithParts attaches a project that has submodules, and one with large-file
// pointers in its commits already.
func TestProjectsWithParts(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("part")
	m.commit("part", "main")
	m.project("whole")
	m.commit("whole", "main")
	m.git("whole", "-c", "protocol.file.allow=always", "submodule", "--quiet", "add", "../part", "part")
	m.git("whole", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "A part")
	s := m.survey("whole")
	assert.Contains(t, of(s, "work"), ".gitmodules")
	m.ok("whole", "", "attach", "--yes")
	assert.Contains(t, m.git(h.gitDir(t, "tern", "tern", "whole"), "ls-tree", "main", "part"), "160000 commit")
	assert.Contains(t, m.ok("whole", "", "attach", "--yes"), "Already attached")
	m.refused(3, []string{"is a part (a submodule) of another project"}, "whole/part", "", "attach", "--yes")
	r := m.run("", "", "clone", "whole", "whole-too")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, strings.Join(strings.Fields(r.err), " "), "1 submodule of this project is empty: part.")
	assert.Contains(t, r.err, "uncinate sync --submodules")

	m.write("stored", map[string]string{"a.dwg": strings.Repeat("a", 5000), "README.md": "x"})
	m.git("stored", "init", "-q", "-b", "main")
	m.git("stored", "lfs", "install", "--local")
	m.git("stored", "lfs", "track", "*.dwg")
	m.git("stored", "add", "-A")
	m.git("stored", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "One")
	m.ok("stored", "", "attach", "--yes")
	objects, err := filepath.Glob(filepath.Join(h.gitDir(t, "tern", "tern", "stored"), "large/*"))
	require.NoError(t, err)
	assert.Len(t, objects, 1, "git-lfs sent it by its own hook")
}
