package files

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/plan"
)

func TestFindHome(t *testing.T) {
	t.Setenv("UNCINATE_HOME", "/machine/one")
	h, err := FindHome("")
	require.NoError(t, err)
	assert.Equal(t, Home{Top: "/machine/one", Config: "/machine/one/config", State: "/machine/one/state", Vault: "/machine/one/vault", Run: "/machine/one/run"}, h)
	h, err = FindHome("/said")
	require.NoError(t, err)
	assert.Equal(t, "/said/vault", h.Vault)
	h, err = FindHome("/" + strings.Repeat("deep/", 40))
	require.NoError(t, err)
	assert.Less(t, len(filepath.Join(h.Run, "vault.sock")), 108, "a Unix socket's path is short")
	t.Setenv("UNCINATE_HOME", "")
	h, err = FindHome("")
	require.NoError(t, err)
	assert.Empty(t, h.Top)
	assert.True(t, strings.HasSuffix(h.Config, "uncinate"))
}

func TestWriteKeepsModesAndLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "new/folder/file")
	require.NoError(t, Write(path, []byte("one"), 0o600))
	s, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), s.Mode().Perm())
	require.NoError(t, os.Chmod(path, 0o640))
	require.NoError(t, Write(path, []byte("two"), 0o600))
	s, err = os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), s.Mode().Perm(), "the mode that stands is kept")
	data, err := Read(path, 3)
	require.NoError(t, err)
	assert.Equal(t, "two", string(data))
	_, err = Read(path, 2)
	assert.ErrorContains(t, err, "larger than 2 bytes")
	_, err = Read(filepath.Join(dir, "none"), 2)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	entries, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
	assert.Error(t, Write(filepath.Join(dir, "file/below"), nil, 0o600))
}

func TestJSONIsStrict(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.json")
	var v struct{ A int }
	found, err := ReadJSON(path, &v)
	require.NoError(t, err)
	assert.False(t, found)
	require.NoError(t, WriteJSON(path, map[string]int{"A": 3}))
	found, err = ReadJSON(path, &v)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, 3, v.A)
	for _, bad := range []string{`{"A":1,"New":2}`, `{"A":`, ``} {
		require.NoError(t, os.WriteFile(path, []byte(bad), 0o600))
		_, err = ReadJSON(path, &v)
		assert.Regexp(t, "is damaged|by another version", err)
	}
}

func TestJournalOnDisk(t *testing.T) {
	h := Home{State: t.TempDir()}
	j := h.JournalAt("attach", "/some/folder")
	_, found, err := j.Read()
	require.NoError(t, err)
	assert.False(t, found)
	assert.Error(t, j.Add(plan.Record{Step: "x", Mark: plan.Begun}), "a journal is started first")
	require.NoError(t, j.Start(plan.Head{Version: plan.Version, Job: "attach", Subject: "/some/folder", Started: time.Now()}))
	require.NoError(t, j.Add(plan.Record{Step: "init", Mark: plan.Begun, Facts: map[string]json.RawMessage{"made-git": json.RawMessage("true")}}))
	require.NoError(t, os.WriteFile(j.Aside("index"), []byte("old"), 0o600))
	other := h.JournalAt("attach", "/some/other")
	_, found, err = other.Read()
	require.NoError(t, err)
	assert.False(t, found, "each folder has its own")
	s, found, err := j.Read()
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "true", string(s.Facts["made-git"]))
	require.NoError(t, j.Close())
	assert.NoFileExists(t, j.Aside("index"))
	require.NoError(t, j.Close(), "closing twice does no harm")
	require.NoError(t, os.WriteFile(j.Path(), []byte("{broken}\n"), 0o600))
	_, _, err = j.Read()
	assert.ErrorContains(t, err, "cannot be used")
}

// A folder whose path is a pattern is taken as it is; a moved folder's journal goes
// with it, as often as it moves; what a killed one left is swept, and no more than that.
func TestJournalsThatAreLeft(t *testing.T) {
	h := Home{State: filepath.Join(t.TempDir(), "[a]*")}
	require.NoError(t, h.Sweep("/none"), "no folder of journals yet")
	first, left := h.JournalAt("attach", filepath.Join(h.State, "first")), h.JournalAt("attach", "/left")
	require.NoError(t, first.Start(plan.Head{Version: plan.Version, Job: "attach", Subject: filepath.Join(h.State, "first"), Started: time.Now()}))
	require.NoError(t, os.WriteFile(first.Aside("index"), []byte("old"), 0o600))
	require.NoError(t, os.WriteFile(left.Aside("config"), []byte("old"), 0o600))
	require.NoError(t, h.Sweep("/left"))
	assert.FileExists(t, left.Aside("config"), "a journal waits for its folder, which may be this one")
	for _, to := range []string{"second", "third"} {
		orphans, err := h.Orphans("attach")
		require.NoError(t, err)
		require.Len(t, orphans, 1)
		require.NoError(t, h.Adopt(orphans[0], filepath.Join(h.State, to)))
		assert.FileExists(t, h.JournalAt("attach", filepath.Join(h.State, to)).Aside("index"))
	}
	third := h.JournalAt("attach", filepath.Join(h.State, "third"))
	require.NoError(t, h.Sweep(filepath.Join(h.State, "third")))
	assert.FileExists(t, third.Aside("index"), "its journal is there")
	require.NoError(t, third.Close())
	assert.NoFileExists(t, third.Aside("index"))
	require.NoError(t, h.Sweep("/left"))
	assert.NoFileExists(t, left.Aside("config"))
}

func TestLockAndEmptyFolder(t *testing.T) {
	path := filepath.Join(t.TempDir(), "locks/a")
	held, _, err := Lock(t.Context(), path)
	require.NoError(t, err)
	require.NotNil(t, held)
	again, holder, err := Lock(t.Context(), path)
	require.NoError(t, err)
	assert.Nil(t, again)
	assert.Equal(t, os.Getpid(), holder)
	require.NoError(t, held.Release())
	require.NoError(t, held.Release(), "once more does no harm")
	again, _, err = Lock(t.Context(), path)
	require.NoError(t, err)
	assert.NotNil(t, again)

	dir := t.TempDir()
	empty, err := IsEmptyFolder(dir)
	require.NoError(t, err)
	assert.True(t, empty)
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".x"), nil, 0o600))
	empty, err = IsEmptyFolder(dir)
	require.NoError(t, err)
	assert.False(t, empty)
	_, err = IsEmptyFolder(filepath.Join(dir, "none"))
	assert.True(t, errors.Is(err, fs.ErrNotExist))
}
