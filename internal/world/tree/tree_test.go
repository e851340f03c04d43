package tree

import (
	"context"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/ignore"
	"uncinate/internal/core/survey"
)

func lay(t *testing.T, files map[string]string) string {
	t.Helper()
	top := t.TempDir()
	for p, s := range files {
		full := filepath.Join(top, p)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		if !strings.HasSuffix(p, "/") {
			require.NoError(t, os.WriteFile(full, []byte(s), 0o644))
		} else {
			require.NoError(t, os.MkdirAll(full, 0o755))
		}
	}
	return top
}

// TestWalkAsGitLists compares a walk with git's own list of what is not ignored.
func TestWalkAsGitLists(t *testing.T) {
	top := lay(t, map[string]string{".gitignore": "*.o\n/out/\n!keep.o\n", "a.c": "x", "a.o": "", "keep.o": "", "out/keep.o": "", "src/b.c": "", "src/.gitignore": "!b.o\n/deep\n", "src/b.o": "", "src/deep/x": "",
		"lib/.gitignore": "*\n!.gitignore\n!x/\n", "lib/x/y": "", "name with\nline end": "", "private": "", "mine.tmp": "", "b\xffd": ""})
	require.NoError(t, exec.Command("git", "init", "-q", "--template=", top).Run())
	require.NoError(t, os.MkdirAll(filepath.Join(top, ".git/info"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(top, ".git/info/exclude"), []byte("private\n"), 0o644))
	own := filepath.Join(t.TempDir(), "own")
	require.NoError(t, os.WriteFile(own, []byte("*.tmp\n"), 0o644))
	out, err := exec.Command("git", "-C", top, "-c", "core.excludesFile="+own, "ls-files", "-z", "-o", "--exclude-standard").Output()
	require.NoError(t, err)
	want := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00")
	slices.Sort(want)
	all, err := Walk(t.Context(), top, []*ignore.List{RulesOf(own), RulesOf(filepath.Join(top, ".git/info/exclude"))})
	require.NoError(t, err)
	var got, left []string
	for _, e := range all {
		if e.Rule == nil {
			got = append(got, e.Path)
		} else {
			left = append(left, e.Path+" by "+e.Rule.Source)
		}
	}
	assert.Equal(t, want, got)
	assert.Contains(t, left, "src/deep/x by src/.gitignore")
	assert.Contains(t, left, "mine.tmp by "+own)
	assert.Nil(t, RulesOf(filepath.Join(top, "none")))
}

func TestWhatIsNotAPlainFile(t *testing.T) {
	top := lay(t, map[string]string{"a": "x", "empty/": "", "deep/empty/": "", "nested/.git/HEAD": "", "nested/x": "", "shut/x": ""})
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(top, "out")))
	require.NoError(t, os.Symlink("..", filepath.Join(top, "empty", "loop")))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(top, "deep", ".gitignore")))
	l, err := (&net.ListenConfig{}).Listen(t.Context(), "unix", filepath.Join(top, "sock"))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	require.NoError(t, os.Chmod(filepath.Join(top, "shut"), 0))
	t.Cleanup(func() { os.Chmod(filepath.Join(top, "shut"), 0o755) })
	all, err := Walk(t.Context(), top, nil)
	require.NoError(t, err)
	got := map[string]survey.Type{}
	for _, e := range all {
		got[e.Path] = e.Type
	}
	if os.Getuid() == 0 { // root may look into every folder
		assert.Equal(t, survey.Regular, got["shut/x"])
	} else {
		assert.Equal(t, survey.Unreadable, got["shut"])
	}
	delete(got, "shut")
	delete(got, "shut/x")
	assert.Equal(t, map[string]survey.Type{"a": survey.Regular, "deep/.gitignore": survey.Link, "deep/empty": survey.EmptyFolder, "empty/loop": survey.Link, "nested": survey.Nested, "out": survey.Link, "sock": survey.Special}, got)
	for _, p := range []string{"out", "sock", "empty", "none"} {
		_, err := Open(top, p)
		assert.Error(t, err, p)
	}
	_, err = Walk(t.Context(), filepath.Join(top, "none"), nil)
	assert.ErrorIs(t, err, os.ErrNotExist)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Walk(gone, top, nil)
	assert.ErrorIs(t, err, context.Canceled)
}

func TestHolesAreSteppedOver(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sparse")
	f, err := os.Create(path)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("start"), 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("far away"), 1<<40)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(1<<40+1<<30))
	require.NoError(t, f.Close())
	c, err := openContents(filepath.Dir(path), "sparse")
	require.NoError(t, err)
	defer c.Close()
	data, err := io.ReadAll(c) // a terabyte would not end
	require.NoError(t, err)
	assert.Contains(t, string(data), "start")
	assert.Contains(t, string(data), "far away")
	assert.Less(t, len(data), 1<<20)
}
