package git

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestHashFile holds that a link is not followed, and that contents and files have the ids
// that git writes into its index.
func TestHashFile(t *testing.T) {
	r, run := woven(t)
	require.NoError(t, os.WriteFile(filepath.Join(r.Dir, "-file"), []byte("one\n"), 0o644))
	require.NoError(t, os.Symlink("-file", filepath.Join(r.Dir, "link")))
	require.NoError(t, os.Symlink("nowhere", filepath.Join(r.Dir, "broken")))
	run("add", "-A")
	for _, name := range []string{"-file", "link", "broken"} {
		id, err := r.HashFile(t.Context(), name)
		require.NoError(t, err)
		assert.Equal(t, run("rev-parse", ":"+name), id, name)
	}
	id, err := r.Hash(t.Context(), strings.NewReader("one\n"), false)
	require.NoError(t, err)
	assert.Equal(t, run("rev-parse", ":-file"), id)
	kept, err := r.Hash(t.Context(), strings.NewReader("kept\n"), true)
	require.NoError(t, err)
	assert.Equal(t, "kept", run("cat-file", "blob", kept))
	_, err = r.HashFile(t.Context(), "none")
	assert.ErrorIs(t, err, os.ErrNotExist)
}
