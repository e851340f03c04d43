package git_test

import (
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/world/git"
)

// TestSurelyClean is true only where git status has nothing to tell, whatever is done to a work tree.
func TestSurelyClean(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Log("only git looks there")
		return
	}
	g, err := git.Find(t.Context(), "", slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err)
	for _, format := range []string{"sha1", "sha256"} {
		dir := t.TempDir()
		run := func(args ...string) string {
			t.Helper()
			c := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=T", "-c", "user.email=t@skerry.example"}, args...)...)
			out, err := c.CombinedOutput()
			require.NoError(t, err, string(out))
			return strings.TrimSpace(string(out))
		}
		write := func(path, text string) {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, path)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, path), []byte(text), 0o644))
		}
		run("init", "-q", "-b", "main", "--object-format="+format)
		for _, p := range []string{"a", "a.b/x", "a/../b/c/d/e", "b/c/f", "b.c", "run.sh"} {
			write(p, "one\n")
		}
		require.NoError(t, os.Chmod(filepath.Join(dir, "run.sh"), 0o755))
		require.NoError(t, os.Symlink("b", filepath.Join(dir, "link")))
		past := time.Now().Add(-time.Minute).Truncate(time.Second)
		settled := func() { // as if nothing had been written just before the index
			require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
				if d.Name() == ".git" {
					return filepath.SkipDir
				}
				if i, e := d.Info(); e == nil && i.Mode().IsRegular() && !i.ModTime().Equal(past) {
					return os.Chtimes(p, past, past)
				}
				return err
			}))
			time.Sleep(20 * time.Millisecond)
			run("update-index", "--refresh", "-q")
		}
		run("add", "-A")
		run("commit", "-q", "-m", "One")
		clean := func() bool {
			t.Helper()
			repo := g.In(dir)
			settings, err := repo.Settings(t.Context())
			require.NoError(t, err)
			quick := repo.SurelyClean(t.Context(), settings, run("rev-parse", "HEAD^{tree}"))
			if quick {
				assert.Empty(t, run("status", "--porcelain"))
			}
			return quick
		}
		settled()
		require.True(t, clean(), format)
		for what, change := range map[string]func(){
			"changed": func() { write("b/c/f", "two\n") }, "of the same size": func() { write("b/c/f", "eno\n") },
			"new": func() { write("b/new", "n\n") }, "a new folder": func() { write("n/n", "n\n") }, "gone": func() { require.NoError(t, os.Remove(filepath.Join(dir, "a.b/x"))) },
			"mode": func() { require.NoError(t, os.Chmod(filepath.Join(dir, "a"), 0o755)) }, "added": func() { write("added", "x\n"); run("add", "added") },
			"a link": func() {
				require.NoError(t, os.Remove(filepath.Join(dir, "a")))
				require.NoError(t, os.Symlink("b.c", filepath.Join(dir, "a")))
			},
			"elsewhere": func() {
				require.NoError(t, os.Remove(filepath.Join(dir, "link")))
				require.NoError(t, os.Symlink("a", filepath.Join(dir, "link")))
			},
			"assumed": func() { run("update-index", "--assume-unchanged", "a"); write("a", "two\n") }, "meant": func() { write("meant", "x\n"); run("add", "-N", "meant") },
			"another commit": func() { run("commit", "-q", "--allow-empty-message", "-m", "", "--allow-empty"); write("c", "x\n") },
		} {
			if format == "sha256" && what != "changed" { // the rest is the same
				continue
			}
			change()
			assert.False(t, clean(), what)
			run("reset", "-q", "--hard")
			run("update-index", "--no-assume-unchanged", "a")
			run("reset", "-q", "--hard")
			run("clean", "-qfdx")
			settled()
			require.True(t, clean(), "after: "+what)
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".git/index"), []byte("DIRC\x00\x00\x00\x02\xff\xff\xff\xff"), 0o644))
		assert.False(t, g.In(dir).SurelyClean(t.Context(), nil, strings.Repeat("a", 40)))
	}
}
