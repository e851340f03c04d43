package tree

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestReadAll reads plain files alone, counts what is too large, and passes over one folder.
func TestReadAll(t *testing.T) {
	top := t.TempDir()
	for name, text := range map[string]string{"a": "one", "b/c": "two", "own/secret": "no", "large": "0123456789"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(top, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(top, name), []byte(text), 0o644))
	}
	require.NoError(t, os.Symlink("a", filepath.Join(top, "link")))
	var mu sync.Mutex
	seen := map[string]string{}
	see := func(path string, data []byte) {
		mu.Lock()
		defer mu.Unlock()
		rel, _ := filepath.Rel(top, path)
		seen[rel] = string(data)
	}
	unread, err := ReadAll(t.Context(), top, filepath.Join(top, "own"), 5, see)
	require.NoError(t, err)
	assert.Equal(t, 1, unread)
	assert.Equal(t, map[string]string{"a": "one", "b/c": "two"}, seen)
	_, err = ReadAll(t.Context(), filepath.Join(top, "none"), "", 5, see)
	assert.ErrorIs(t, err, os.ErrNotExist)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = ReadAll(ctx, top, "", 5, see)
	assert.ErrorIs(t, err, context.Canceled)
}
