package git

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestInMiddle stops real git in the middle of a merge and of a rebase.
func TestInMiddle(t *testing.T) {
	r, run := woven(t)
	own := filepath.Join(r.Dir, ".git")
	assert.Nil(t, InMiddle(own))
	assert.False(t, IsBare(r.Dir))
	assert.True(t, IsBare(own))
	base := put(t, r, run, "base", map[string]string{"a": "one"})
	put(t, r, run, "theirs", map[string]string{"a": "two"})
	run("checkout", "-q", "-b", "own", base)
	put(t, r, run, "own", map[string]string{"a": "three"})
	_, err := r.Do(t.Context(), "merge", "main")
	require.Error(t, err)
	assert.Equal(t, &Middle{"a merge", "commit", "merge --abort"}, InMiddle(own))
	run("merge", "--abort")
	_, err = r.Do(t.Context(), "rebase", "main")
	require.Error(t, err)
	assert.Equal(t, "a rebase", InMiddle(own).What)
	run("rebase", "--abort")
	assert.Nil(t, InMiddle(own))

	path, _ := IndexLock(own)
	assert.Empty(t, path)
	require.NoError(t, os.WriteFile(filepath.Join(own, "index.lock"), nil, 0o600))
	path, since := IndexLock(own)
	assert.Equal(t, filepath.Join(own, "index.lock"), path)
	assert.False(t, since.IsZero())
	assert.False(t, HasHook(own, "pre-push"))
	require.NoError(t, os.MkdirAll(filepath.Join(own, "hooks"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(own, "hooks/pre-push"), nil, 0o755))
	assert.True(t, HasHook(own, "pre-push"))
}
