package openfiles

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBelow(t *testing.T) {
	if runtime.GOOS != "linux" {
		_, known := Below(t.TempDir())
		assert.False(t, known, "only Linux tells")
		return
	}
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	path := filepath.Join(dir, "deep", "tide log.txt")
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte("x"), 0o600))
	held, err := os.Open(path)
	require.NoError(t, err)
	defer held.Close()
	found, known := Below(dir)
	assert.True(t, known)
	assert.Empty(t, found, "what this process has open itself does not count")
	c := exec.Command("sleep", "30")
	c.Stdin = held
	require.NoError(t, c.Start())
	defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
	require.Eventually(t, func() bool {
		found, _ = Below(dir)
		return found[path] == Process{c.Process.Pid, "sleep"}
	}, 5*time.Second, 10*time.Millisecond)
	found, _ = Below(filepath.Join(dir, "other"))
	assert.Empty(t, found)
	found, _ = Below(filepath.Join(dir, "dee"))
	assert.Empty(t, found, "a name that only begins alike is another folder")
}
