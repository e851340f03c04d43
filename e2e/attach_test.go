package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
	"uncinate/internal/world/files"
)

// module finds a Go module's folder in the module cache.
func module(t *testing.T, path string) string {
	t.Helper()
	out, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", path).Output()
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}

func TestAttachLargeModule(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	for _, path := range []string{"golang.org/x/sys", "golang.org/x/crypto", "github.com/theory/jsonpath", "filippo.io/age"} {
		require.NoError(t, os.CopyFS(filepath.Join(m.home, "large", filepath.Base(path)), os.DirFS(module(t, path))))
	}
	require.NoError(t, filepath.WalkDir(filepath.Join(m.home, "large"), func(path string, e os.DirEntry, err error) error {
		if err == nil && e.IsDir() {
			err = os.Chmod(path, 0o755)
		}
		return err
	}))
	before := tree(t, filepath.Join(m.home, "large"))
	require.Greater(t, len(before), 1000)
	var r struct {
		Address, Commit, Visibility string
		Files                       int
		Verified                    bool
	}
	require.NoError(t, json.Unmarshal([]byte(m.ok("", "", "attach", "--yes", "--json", "--let", "*", "--reason", "test vectors of libraries", "large")), &r))
	assert.True(t, r.Verified)
	assert.Equal(t, "private", r.Visibility)

	// A plain clone, with the credential helper alone, gives the very tree.
	include := m.git("large", "config", "--get", "include.path")
	m.git("", "-c", "include.path="+include, "clone", "-q", r.Address, "copy")
	after := tree(t, filepath.Join(m.home, "copy"))
	assert.Len(t, after, r.Files)
	for name, was := range before {
		assert.Equal(t, was, after[name], name)
	}
	m.git("large", "fsck", "--strict")
	m.git("copy", "fsck", "--strict")
	m.git(h.gitDir(t, "tern", "tern", "large"), "fsck", "--strict")
	assert.Equal(t, r.Commit, m.git(h.gitDir(t, "tern", "tern", "large"), "rev-parse", "refs/heads/main"))
}

func TestAttachLeavesOutWhatIsRemakeable(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	require.NoError(t, practice.WriteProjects(m.home))
	preview := m.ok("gauge-firmware", "", "attach", "--preview")
	assert.Contains(t, preview, "2,006 stay here")
	assert.NoDirExists(t, filepath.Join(m.home, "gauge-firmware/.git"))
	assert.Empty(t, h.Store.List("tern", ""), "a preview makes nothing")

	out := m.ok("gauge-firmware", "", "attach", "--yes")
	assert.Contains(t, out, "67 files")
	assert.Contains(t, out, "/build/ (made by the build)")
	assert.Empty(t, m.git("gauge-firmware", "ls-files", "build"))
	assert.Equal(t, "Tern of Saltmarsh <tern@gannet.example>", m.git("gauge-firmware", "log", "-1", "--format=%an <%ae>"))
	r, err := h.Store.Find("tern", "tern", "gauge-firmware")
	require.NoError(t, err)
	assert.Equal(t, "private", r.Visibility)
	assert.Empty(t, r.Description, "the mark of the making is gone")

	// Once more: nothing changes.
	config, err := os.ReadFile(filepath.Join(m.home, "gauge-firmware/.git/config"))
	require.NoError(t, err)
	head := m.git("gauge-firmware", "rev-parse", "HEAD")
	// What one put aside that was killed with its journal gone is cleared away.
	left := filepath.Join(m.home, ".uncinate/state/journal/attach-"+files.Short(filepath.Join(m.home, "gauge-firmware"))+".journal.config")
	require.NoError(t, os.WriteFile(left, []byte("old"), 0o600))
	assert.Contains(t, m.ok("gauge-firmware", "", "attach", "--yes"), "Already attached; nothing was changed.")
	assert.NoFileExists(t, left)
	again, err := os.ReadFile(filepath.Join(m.home, "gauge-firmware/.git/config"))
	require.NoError(t, err)
	assert.Equal(t, string(config), string(again))
	assert.Equal(t, head, m.git("gauge-firmware", "rev-parse", "HEAD"))
	assert.Len(t, h.Store.List("tern", ""), 1)
}

func TestAttachFromEveryState(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)

	t.Run("an empty folder, its first commit later", func(t *testing.T) {
		m.t = t
		require.NoError(t, os.Mkdir(filepath.Join(m.home, "empty"), 0o755))
		assert.Contains(t, m.ok("empty", "", "attach", "--yes"), "nothing yet")
		assert.Contains(t, m.ok("empty", "", "status"), "nothing to send yet")
		m.project("empty")
		m.git("empty", "add", "-A")
		m.git("empty", "commit", "-q", "-m", "Later")
		m.git("empty", "push", "-q")
		assert.Contains(t, m.ok("empty", "", "status"), "in step")
	})
	t.Run("a repository without commits", func(t *testing.T) {
		m.t = t
		m.project("unborn")
		m.git("unborn", "init", "-q", "--initial-branch=trunk")
		m.ok("unborn", "", "attach", "--yes", "--message", "Begin the gauge")
		assert.Equal(t, "Begin the gauge", m.git("unborn", "log", "-1", "--format=%s"))
		r, err := h.Store.Find("tern", "tern", "unborn")
		require.NoError(t, err)
		assert.Equal(t, "trunk", r.Default)
	})
	t.Run("commits and branches", func(t *testing.T) {
		m.t = t
		m.project("older")
		for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "-A"}, {"-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "One"}, {"branch", "trial"}} {
			m.git("older", args...)
		}
		head := m.git("older", "rev-parse", "HEAD")
		assert.Contains(t, m.ok("older", "", "attach", "--yes"), "trial")
		dir := h.gitDir(t, "tern", "tern", "older")
		assert.Equal(t, head, m.git(dir, "rev-parse", "refs/heads/main"))
		assert.Equal(t, "main", m.git(dir, "for-each-ref", "--format=%(refname:short)"))
		m.ok("older", "", "attach", "--yes", "--branches")
		assert.Equal(t, "main\ntrial", m.git(dir, "for-each-ref", "--format=%(refname:short)"))
	})
	attachesToWhatIsThere(t, h, m)
}

// attachesToWhatIsThere attaches to repositories that were made on the host, and for a group.
func attachesToWhatIsThere(t *testing.T, h *host, m *machine) {
	t.Helper()
	t.Run("one made on the host first, by name and by every address", func(t *testing.T) {
		m.t = t
		for i, to := range []string{"first-0", "tern/first-1", h.URL + "/tern/first-2", h.URL + "/tern/first-3.git", h.URL + "/tern/first-4/at/main"} {
			name := "first-" + string(rune('0'+i))
			_, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: name, Visibility: "private", Default: "trunk"})
			require.NoError(t, err)
			folder := "here-" + string(rune('0'+i))
			m.project(folder)
			m.ok(folder, "", "attach", "--yes", "--to", to)
			assert.Equal(t, m.git(folder, "rev-parse", "HEAD"), m.git(h.gitDir(t, "tern", "tern", name), "rev-parse", "refs/heads/trunk"))
		}
	})
	t.Run("for a group, visible to members", func(t *testing.T) {
		m.t = t
		m.project("shared")
		m.ok("", "", "attach", "--yes", "--name", "saltmarsh/shared-gauge", "--visibility", "members", "--description", "Invented levels", "shared")
		r, err := h.Store.Find("knot", "saltmarsh", "shared-gauge")
		require.NoError(t, err)
		assert.Equal(t, []string{"members", "Invented levels"}, []string{r.Visibility, r.Description})
	})
}

func TestAttachTakesStrangeFileNames(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	names := []string{"with blanks.txt", "new\nline", "-rf", "--help", "tab\there", "\xff\xfe not utf-8", "ünï", "quote'\"s", "back\\slash", "*", ":(top)x", "sub dir/-x", ".hidden", "#hash", "!bang", "a b/c\nd/e"}
	contents := map[string]string{}
	for _, n := range names {
		contents[n] = "holds " + n
	}
	m.write("strange", contents)
	require.NoError(t, os.Symlink("nowhere\nat all", filepath.Join(m.home, "strange/link")))
	require.NoError(t, os.WriteFile(filepath.Join(m.home, "strange/run me"), []byte("#!/bin/sh\n"), 0o755))
	before := tree(t, filepath.Join(m.home, "strange"))
	m.ok("strange", "", "attach", "--yes")
	other := signedIn(t, h)
	other.ok("", "", "clone", "strange", "there and back")
	assert.Equal(t, before, tree(t, filepath.Join(other.home, "there and back")))
}

func TestNestedRepositoryStays(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("outer")
	m.project("outer/inner")
	m.git("outer/inner", "init", "-q")
	out := m.ok("outer", "", "attach", "--yes")
	assert.Contains(t, out, "inner (a repository of its own)")
	assert.Equal(t, ".gitignore\nREADME.md\nsrc/level.c", m.git("outer", "ls-files"))
}

func TestPlainGitAfterAttachAndClone(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch := signedIn(t, h), signedIn(t, h)
	pier.project("gauge")
	pier.ok("gauge", "", "attach", "--yes")
	launch.ok("", "", "clone", "gauge")
	for i, m := range []*machine{pier, launch, pier} {
		m.git("gauge", "pull", "-q")
		m.write("gauge", map[string]string{"log.txt": strings.Repeat("tide\n", i+1)})
		m.git("gauge", "add", "-A")
		m.git("gauge", "commit", "-q", "-m", "Reading")
		m.git("gauge", "push", "-q")
	}
	assert.Contains(t, launch.ok("gauge", "", "status"), "new commits on the host")
	assert.Contains(t, launch.ok("gauge", "", "sync"), "Received 1 commit")
	assert.Equal(t, pier.git("gauge", "rev-parse", "HEAD"), launch.git("gauge", "rev-parse", "HEAD"))
}

func TestPersonsOwnHooksRun(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("attached")
	m.git("attached", "init", "-q", "-b", "main")
	hook := filepath.Join(m.home, "attached/.git/hooks/pre-commit")
	require.NoError(t, os.MkdirAll(filepath.Dir(hook), 0o755))
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho the datum is missing >&2\nexit 1\n"), 0o755))
	m.refused(1, []string{"your own pre-commit check stopped", "the datum is missing"}, "attached", "", "attach", "--yes")
	assert.Empty(t, h.Store.List("tern", ""), "nothing was made on the host")
	require.NoError(t, os.Remove(hook))
	assert.Contains(t, m.ok("attached", "", "attach", "--yes"), "Attached.")
	assert.Len(t, h.Store.List("tern", ""), 1)
}
