package git

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTrackedIsWhatGitLists holds the reading of an index to what git lists, in each form that an index may have.
func TestTrackedIsWhatGitLists(t *testing.T) {
	for _, format := range []string{"sha1", "sha256"} {
		r := made(t)
		run := func(args ...string) {
			t.Helper()
			out, err := exec.Command("git", append([]string{"-C", r.Dir}, args...)...).CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
		require.NoError(t, os.RemoveAll(filepath.Join(r.Dir, ".git")))
		run("init", "-q", "-b", "main", "--object-format="+format)
		run("config", "user.name", "T")
		run("config", "user.email", "t@skerry.example")
		check := func(read bool) {
			t.Helper()
			want, err := r.Lines(t.Context(), "ls-files", "-z", "-c", "--deduplicate")
			require.NoError(t, err)
			got, err := r.Tracked(t.Context())
			require.NoError(t, err)
			assert.Equal(t, want, got)
			data, err := os.ReadFile(filepath.Join(r.Dir, ".git/index"))
			if err == nil {
				_, ok := indexPaths(data, map[string]int{"sha1": 20, "sha256": 32}[format])
				assert.Equal(t, read, ok, "read without git")
			}
		}
		check(true) // nothing was added yet
		long := strings.Repeat(strings.Repeat("a", 200)+"/", 20) + "b"
		for i, name := range []string{"a", "a b", "a/b", "a-b", "ä", "new\nline", "z"} {
			if name == "a" {
				name = "aa"
			}
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(r.Dir, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(r.Dir, name), fmt.Append(nil, i), 0o644))
		}
		run("add", "-A")
		id, err := exec.Command("git", "-C", r.Dir, "hash-object", "-w", "z").Output()
		require.NoError(t, err)
		run("update-index", "--add", "--cacheinfo", "100644,"+strings.TrimSpace(string(id))+","+long)
		check(true)
		run("commit", "-q", "-m", "one")
		check(true)
		require.NoError(t, os.WriteFile(filepath.Join(r.Dir, "meant"), []byte("m"), 0o644))
		run("add", "-N", "meant")
		run("update-index", "--skip-worktree", "z")
		check(true)
		run("checkout", "-q", "-b", "side", "HEAD")
		require.NoError(t, os.WriteFile(filepath.Join(r.Dir, "aa"), []byte("side"), 0o644))
		run("commit", "-q", "-m", "side", "aa")
		run("checkout", "-q", "main")
		require.NoError(t, os.WriteFile(filepath.Join(r.Dir, "aa"), []byte("main"), 0o644))
		run("commit", "-q", "-m", "main", "aa")
		require.Error(t, exec.Command("git", "-C", r.Dir, "merge", "-q", "side").Run(), "they clash")
		check(true)
		run("update-index", "--index-version", "4")
		check(false)
		run("update-index", "--index-version", "2")
		run("update-index", "--split-index")
		check(false)
	}
}
