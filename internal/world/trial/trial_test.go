package trial

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRun(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("GIT_DIR", "/nowhere")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.sh"), []byte("#!/bin/sh\necho in $(pwd) with \"$GIT_DIR\" and $1\nfor i in $(seq 30); do echo line $i; done\nexit 3\n"), 0o755))
	exit, last, err := Run(t.Context(), dir, []string{"./go.sh", "a b"})
	require.NoError(t, err)
	assert.Equal(t, 3, exit)
	assert.Len(t, last, mostLines)
	assert.Equal(t, "line 30", last[len(last)-1])

	exit, last, err = Run(t.Context(), dir, []string{"sh", "-c", "echo \"$GIT_DIR.\"; pwd"})
	require.NoError(t, err)
	assert.Zero(t, exit)
	real, err := filepath.EvalSymlinks(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{".", real}, last)

	_, _, err = Run(t.Context(), dir, []string{"no-such-program"})
	assert.ErrorContains(t, err, "there is no program")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "text"), []byte("x"), 0o644))
	_, _, err = Run(t.Context(), dir, []string{"./text"})
	assert.ErrorContains(t, err, "cannot be run")
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = Run(gone, dir, []string{"sh", "-c", "sleep 5"})
	assert.ErrorIs(t, err, context.Canceled)
	e := &end{}
	for range 1000 {
		_, err := e.Write([]byte(strings.Repeat("x", 100) + "\n"))
		require.NoError(t, err)
	}
	assert.LessOrEqual(t, len(e.kept), mostKept)
}
