package files

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsThere(t *testing.T) {
	top := t.TempDir()
	at := func(name string) string { return filepath.Join(top, name) }
	require.NoError(t, os.WriteFile(at("file"), []byte("abc"), 0o644))
	require.NoError(t, os.Mkdir(at("folder"), 0o755))
	require.NoError(t, os.Symlink("file", at("link")))
	require.NoError(t, os.Symlink("nowhere", at("broken")))
	for name, kind := range map[string]Kind{"file": Regular, "folder": Folder, "link": Link, "broken": Link, "none": None, "file/in": None} {
		assert.Equal(t, kind, KindOf(at(name)), name)
	}
	assert.Equal(t, Regular, Reached(at("link")))
	assert.Equal(t, None, Reached(at("broken")))
	assert.False(t, Missing(at("broken")), "a link that leads nowhere is something")
	assert.True(t, Missing(at("none")))
	assert.False(t, Missing(at("file/in")), "what cannot be looked at is not missing")
	size, modified, err := Stamp(at("file"))
	require.NoError(t, err)
	assert.Equal(t, int64(3), size)
	assert.Positive(t, modified)
	names, err := Names(top)
	require.NoError(t, err)
	assert.Equal(t, []string{"broken", "file", "folder", "link"}, names)
	names, err = Names(at("none"))
	require.NoError(t, err)
	assert.Empty(t, names)
}

func TestMakingAndRemoving(t *testing.T) {
	top := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(top, "a"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(top, "a/two"), nil, 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(top, "c"), 0o755))
	failed, err := CreateEmpty(top, []string{"c/kept", "a/two"})
	assert.ErrorIs(t, err, fs.ErrExist)
	assert.Equal(t, "a/two", failed)
	assert.NoFileExists(t, filepath.Join(top, "c/kept"), "all, or none")
	_, err = CreateEmpty(top, []string{"c/kept"})
	require.NoError(t, err)
	assert.NoError(t, Remove(filepath.Join(top, "none")), "what is gone already is not an error")

	path, done, err := Temporary("uncinate-test-", "text")
	require.NoError(t, err)
	data, err := Read(path, 10)
	require.NoError(t, err)
	assert.Equal(t, "text", string(data))
	require.NoError(t, done())
	assert.NoFileExists(t, path)
	for _, line := range []string{"one", "two"} {
		require.NoError(t, Append(filepath.Join(top, "log"), line))
	}
	data, err = Read(filepath.Join(top, "log"), 100)
	require.NoError(t, err)
	assert.Equal(t, "one\ntwo\n", string(data))
}

func TestSetAside(t *testing.T) {
	top := t.TempDir()
	kept, err := SetAside(filepath.Join(top, "none"), filepath.Join(top, "aside"))
	require.NoError(t, err)
	assert.False(t, kept)
	require.NoError(t, os.WriteFile(filepath.Join(top, "own"), []byte("own"), 0o600))
	kept, err = SetAside(filepath.Join(top, "own"), filepath.Join(top, "aside"))
	require.NoError(t, err)
	assert.True(t, kept)
	s, err := os.Stat(filepath.Join(top, "aside"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), s.Mode().Perm())
	kept, err = CanWrite(top)
	require.NoError(t, err)
	assert.False(t, kept)
	shared, err := OthersMayWrite(filepath.Join(top, "own"))
	require.NoError(t, err)
	assert.False(t, shared)
	require.NoError(t, os.Chmod(filepath.Join(top, "own"), 0o622))
	shared, err = OthersMayWrite(filepath.Join(top, "own"))
	require.NoError(t, err)
	assert.True(t, shared)
}

// TestExchange gives two files each other's names, and moves one only where nothing stands.
func TestExchange(t *testing.T) {
	top := t.TempDir()
	at := func(name string) string { return filepath.Join(top, name) }
	write := func(name string) { require.NoError(t, os.WriteFile(at(name), []byte(name), 0o644)) }
	read := func(name string) string {
		data, err := os.ReadFile(at(name))
		require.NoError(t, err)
		return string(data)
	}
	write("a")
	write("b")
	require.NoError(t, Exchange(at("a"), at("b")))
	assert.Equal(t, "b a", read("a")+" "+read("b"))
	assert.ErrorIs(t, Exchange(at("a"), at("none")), fs.ErrNotExist)
	assert.ErrorIs(t, MoveNew(at("a"), at("b")), fs.ErrExist)
	require.NoError(t, MoveNew(at("a"), at("c")))
	assert.True(t, Missing(at("a")))
	require.NoError(t, CopyFile(at("c"), at("d")))
	_, before, err := Stamp(at("c"))
	require.NoError(t, err)
	_, after, err := Stamp(at("d"))
	require.NoError(t, err)
	assert.Equal(t, before, after, "with its time")
	same, err := SameDisk(at("c"), top)
	require.NoError(t, err)
	assert.True(t, same)
}

// TestScratchIn takes away what processes that ended left, and nothing else.
func TestScratchIn(t *testing.T) {
	top := t.TempDir()
	for _, name := range []string{"new-4000000", "new-1", "new-x", "other"} {
		require.NoError(t, os.Mkdir(filepath.Join(top, name), 0o755))
	}
	dir, done, err := ScratchIn(top, "new-")
	require.NoError(t, err)
	names, err := Names(top)
	require.NoError(t, err)
	assert.Equal(t, []string{"new-1", filepath.Base(dir), "new-x", "other"}, names, "process 1 runs, and so do we")
	require.NoError(t, done())
	assert.NoDirExists(t, dir)
}
