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

// TestMergedIndexes puts what two runs of git added into two copies of an index together, as one run would have.
func TestMergedIndexes(t *testing.T) {
	for _, format := range []string{"sha1", "sha256"} {
		r := made(t)
		env := []string{}
		run := func(args ...string) string {
			t.Helper()
			c := exec.Command("git", append([]string{"-C", r.Dir}, args...)...)
			c.Env = append(os.Environ(), env...)
			out, err := c.CombinedOutput()
			require.NoError(t, err, "%s", out)
			return string(out)
		}
		require.NoError(t, os.RemoveAll(filepath.Join(r.Dir, ".git")))
		run("init", "-q", "-b", "main", "--object-format="+format)
		write := func(name, contents string) {
			t.Helper()
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(r.Dir, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(r.Dir, name), []byte(contents), 0o644))
		}
		for _, name := range []string{"a", "b/c", "b-d", "e", "z"} {
			write(name, "first "+name)
		}
		run("add", "-A")
		index := filepath.Join(r.Dir, ".git/index")
		was, err := os.ReadFile(index)
		require.NoError(t, err)
		one, two := filepath.Join(t.TempDir(), "one"), filepath.Join(t.TempDir(), "two")
		fresh := func() {
			require.NoError(t, os.WriteFile(one, was, 0o600))
			require.NoError(t, os.WriteFile(two, was, 0o600))
		}
		fresh()
		for _, name := range []string{"a", "b/new", "e", "y/x"} {
			write(name, "second "+name)
		}
		env = []string{"GIT_INDEX_FILE=" + one}
		run("add", "a", "y/x")
		env = []string{"GIT_INDEX_FILE=" + two}
		run("add", "b/new", "e")
		done, err := MergeIndex(one, two, []string{"b/new", "e"})
		require.NoError(t, err)
		require.True(t, done)
		env = []string{"GIT_INDEX_FILE=" + one}
		merged := run("ls-files", "-s")
		assert.Empty(t, run("diff-files"), "the files are as it says, and git knows so without reading them")
		run("fsck", "--strict")
		run("write-tree")
		env = nil
		run("add", "-A")
		assert.Equal(t, run("ls-files", "-s"), merged)

		// A file where the other has a folder, another form: nothing is changed.
		fresh()
		require.NoError(t, os.RemoveAll(filepath.Join(r.Dir, "b")))
		write("b", "a file now")
		env = []string{"GIT_INDEX_FILE=" + two}
		run("add", "b")
		done, err = MergeIndex(one, two, []string{"b"})
		require.NoError(t, err)
		assert.False(t, done)
		now, err := os.ReadFile(one)
		require.NoError(t, err)
		assert.Equal(t, was, now)
		run("update-index", "--index-version", "4")
		done, err = MergeIndex(one, two, []string{"a"})
		require.NoError(t, err)
		assert.False(t, done)
	}
}
