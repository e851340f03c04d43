package tree

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFolders(t *testing.T) {
	top := filepath.Join(t.TempDir(), ".hidden but asked for")
	for _, p := range []string{"a/b/c/d", "enough/inside", ".git/objects", "a/.cache/x"} {
		require.NoError(t, os.MkdirAll(filepath.Join(top, p), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(top, "a/file"), nil, 0o644))
	require.NoError(t, os.Symlink("..", filepath.Join(top, "a/up")))
	var met []string
	visit := func(path string) (bool, error) {
		rel, err := filepath.Rel(top, path)
		met = append(met, filepath.ToSlash(rel))
		return rel == "enough", err
	}
	closed, err := Folders(t.Context(), top, 3, visit)
	require.NoError(t, err)
	assert.Empty(t, closed)
	assert.Equal(t, []string{".", "a", "a/b", "a/b/c", "enough"}, met)

	closed, err = Folders(t.Context(), filepath.Join(top, "none"), 3, visit)
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(top, "none")}, closed)
	broken := errors.New("broken")
	_, err = Folders(t.Context(), top, 3, func(string) (bool, error) { return false, broken })
	assert.ErrorIs(t, err, broken)
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Folders(stopped, top, 3, visit)
	assert.ErrorIs(t, err, context.Canceled)
}
