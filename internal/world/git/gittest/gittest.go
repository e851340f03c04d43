// Package gittest gives tests a repository of their own, made and worked on by plain git, where
// nothing of the person's configuration counts.
package gittest

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// New makes a repository on the branch main, and a way to run git in it.
func New(t *testing.T) (dir string, run func(args ...string) string) {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	t.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
	t.Setenv("GIT_CONFIG_NOSYSTEM", "1")
	run = func(args ...string) string {
		t.Helper()
		out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput()
		require.NoError(t, err, "git %v: %s", args, out)
		return strings.TrimSpace(string(out))
	}
	run("init", "-q", "-b", "main")
	run("config", "user.name", "Tern")
	run("config", "user.email", "tern@skerry.example")
	return dir, run
}

// Commit writes files, removes those with no contents, commits all and gives the commit's id.
func Commit(t *testing.T, dir string, run func(...string) string, text string, contents map[string]string) string {
	t.Helper()
	for name, s := range contents {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		if s == "" {
			require.NoError(t, os.Remove(path))
			continue
		}
		require.NoError(t, os.WriteFile(path, []byte(s), 0o644))
	}
	run("add", "-A")
	run("commit", "-q", "--allow-empty", "-m", text)
	return run("rev-parse", "HEAD")
}
