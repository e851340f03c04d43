package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hiss is content that no packer makes smaller.
func hiss(seed uint64, size int) string {
	r := rand.New(rand.NewPCG(seed, 11))
	out := make([]byte, size)
	for i := range out {
		out[i] = byte(r.Uint32())
	}
	return string(out)
}

// loudWork is a project's files, most of them noise.
func loudWork() map[string]string {
	contents := map[string]string{"readme.txt": strings.Repeat("level\n", 20_000), "odd ' name\t.jpg": hiss(90, 100_000), "-dash.png": hiss(91, 100_000), "own.dat": hiss(92, 200_000)}
	for i := range 12 {
		contents[fmt.Sprintf("pictures/%02d.jpg", i)] = hiss(uint64(i), 60_000)
	}
	shared := hiss(93, 400_000) // two versions of one thing: git keeps what they have in common once
	contents["scan-1.raw"], contents["scan-2.raw"] = shared+hiss(94, 50_000), shared+hiss(95, 50_000)
	return contents
}

// TestNoiseIsCopied publishes and saves work with much that cannot be made smaller: that is in packs, as it is, all else as git
// has it by itself; nothing of it is set in the project; what a killed run left of a pack goes, and what a program has open stays.
func TestNoiseIsCopied(t *testing.T) {
	t.Parallel()
	linux(t)
	h := newHost(t)
	m := signedIn(t, h)
	m.alone = true
	contents := loudWork()
	m.write("gauge", contents)
	m.git("", "init", "-q", "-b", "main", "gauge")
	require.NoError(t, os.WriteFile(filepath.Join(m.home, "gauge/.git/info/attributes"), []byte("*.dat filter=odd\n"), 0o600))
	m.git("gauge", "config", "filter.odd.clean", "tr a-z A-Z")
	left, held := filepath.Join(m.home, "gauge/.git/objects/pack/tmp_pack_left"), filepath.Join(m.home, "gauge/.git/objects/pack/tmp_pack_held")
	for _, path := range []string{left, held} {
		require.NoError(t, os.WriteFile(path, []byte("PACK"), 0o600))
	}
	open, err := os.Open(held)
	require.NoError(t, err)
	defer open.Close()

	m.ok("gauge", "", "attach", "--yes", "--trust")
	assert.NoFileExists(t, left)
	assert.FileExists(t, held)
	assert.Empty(t, m.git("gauge", "status", "--porcelain"))
	assert.NotContains(t, m.git("gauge", "config", "--local", "--list"), "compression")
	packed := func() string {
		return m.git("gauge", "cat-file", "--batch-all-objects", "--batch-check=%(objectname) %(objectsize) %(objectsize:disk) %(deltabase)")
	}
	stored := func(path string) (size, disk int) {
		t.Helper()
		id := m.git("gauge", "rev-parse", "HEAD:"+path)
		for line := range strings.Lines(packed()) {
			if strings.HasPrefix(line, id) {
				_, err := fmt.Sscanf(line, id+" %d %d", &size, &disk)
				require.NoError(t, err)
			}
		}
		return size, disk
	}
	for _, path := range []string{"pictures/03.jpg", "-dash.png", "odd ' name\t.jpg"} {
		size, disk := stored(path)
		assert.Greater(t, disk, size, "%s is stored as it is", path)
		assert.NoFileExists(t, m.loose(path))
	}
	size, disk := stored("readme.txt")
	assert.Less(t, disk*10, size)
	through := m.raw("gauge", "cat-file", "blob", "HEAD:own.dat")
	assert.Len(t, through, 200_000)
	assert.NotEqual(t, contents["own.dat"], through, "filters are heeded")
	m.git("gauge", "gc", "-q")
	_, one := stored("scan-1.raw")
	_, two := stored("scan-2.raw")
	assert.Less(t, one+two, 700_000, "what both have in common is kept once")
	m.ok("", "", "clone", "gauge", "copy")
	assert.Equal(t, contents["pictures/07.jpg"], m.read("copy/pictures/07.jpg"))
	assert.NotContains(t, m.git(h.gitDir(t, "tern", "tern", "gauge"), "fsck", "--strict"), "error")
	m.savesNoise(stored)
}

// savesNoise saves more of it, and brings it to the copy.
func (m *machine) savesNoise(stored func(path string) (size, disk int)) {
	t := m.t
	t.Helper()
	m.write("gauge", map[string]string{"pictures/03.jpg": hiss(200, 70_000), "pictures/new.jpg": hiss(201, 70_000), "more.txt": "more\n"})
	m.ok("gauge", "", "save", "--message", "More")
	assert.Empty(t, m.git("gauge", "status", "--porcelain"))
	for _, path := range []string{"pictures/03.jpg", "pictures/new.jpg"} {
		size, disk := stored(path)
		assert.Greater(t, disk, size)
	}
	m.ok("gauge", "", "sync")
	m.ok("copy", "", "sync")
	assert.Equal(t, m.read("gauge/pictures/03.jpg"), m.read("copy/pictures/03.jpg"))
}

// loose is where an object of the project gauge would be by itself.
func (m *machine) loose(path string) string {
	id := m.git("gauge", "rev-parse", "HEAD:"+path)
	return filepath.Join(m.home, "gauge/.git/objects", id[:2], id[2:])
}

// raw is what git gives, to the byte.
func (m *machine) raw(dir string, args ...string) string {
	m.t.Helper()
	r := m.command(dir, "", "git", args...)
	require.Equal(m.t, 0, r.code, r.err)
	return r.out
}

// TestLargeSaves saves files that are large enough to be read only once: the project's index has them as git itself would, what else
// is staged stays staged, a refused commit leaves the index as it was, and another program's lock is respected.
func TestLargeSaves(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.write("gauge", map[string]string{"README.md": "Levels\n", "level.c": "int level;\n"})
	m.git("", "init", "-q", "-b", "main", "gauge")
	m.git("gauge", "config", "user.name", "Tern")
	m.git("gauge", "config", "user.email", "tern@skerry.example")
	m.git("gauge", "add", "-A")
	m.git("gauge", "commit", "-q", "-m", "Begin")
	index := filepath.Join(m.home, "gauge/.git/index")

	m.write("gauge", map[string]string{"a.raw": hiss(1, 9<<20), "level.c": "int level = 2;\n"})
	m.ok("gauge", "", "save", "-m", "Scan", "--only", "a.raw")
	assert.Equal(t, " M level.c\n", m.raw("gauge", "status", "--porcelain"), "the rest is as it was")
	assert.Empty(t, m.git("gauge", "diff-files", "--name-only", "a.raw"), "git need not look into it again")
	assert.NoFileExists(t, index+".lock")

	hook := filepath.Join(m.home, "gauge/.git/hooks/pre-commit")
	require.NoError(t, os.MkdirAll(filepath.Dir(hook), 0o755))
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\nexit 1\n"), 0o755))
	m.write("gauge", map[string]string{"b.raw": hiss(2, 9<<20), "a.raw": hiss(3, 9<<20)})
	assert.NotZero(t, m.run("gauge", "", "save", "-m", "Scans", "--trust").code)
	assert.Equal(t, " M a.raw\n M level.c\n?? b.raw\n", m.raw("gauge", "status", "--porcelain"))
	require.NoError(t, os.Remove(hook))

	m.git("gauge", "add", "level.c")
	m.ok("gauge", "", "save", "-m", "Scans", "--only", "*.raw")
	assert.Equal(t, "M  level.c\n", m.raw("gauge", "status", "--porcelain"), "what else is staged stays so")

	m.write("gauge", map[string]string{"c.raw": hiss(4, 9<<20)})
	require.NoError(t, os.WriteFile(index+".lock", nil, 0o600))
	assert.NotZero(t, m.run("gauge", "", "save", "-m", "More", "--only", "c.raw").code)
	require.NoError(t, os.Remove(index+".lock"))
	m.ok("gauge", "", "save", "-m", "More", "--only", "c.raw")
	left, err := filepath.Glob(index + ".*")
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.Empty(t, m.git("gauge", "fsck", "--no-dangling"))
}

// TestTwoRunsOfGitSaveMuchNoise saves so much that two runs of git add one half each: what comes of it is what one would have made.
func TestTwoRunsOfGitSaveMuchNoise(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.write("gauge", map[string]string{"README.md": "Levels\n", "level.c": "int level;\n", "scan/1.txt": "first\n", "scan/2.txt": "second\n"})
	m.git("", "init", "-q", "-b", "main", "gauge")
	m.git("gauge", "config", "user.name", "Tern")
	m.git("gauge", "config", "user.email", "tern@skerry.example")
	m.git("gauge", "add", "-A")
	m.git("gauge", "commit", "-q", "-m", "Begin")
	packs := func() int {
		all, err := filepath.Glob(filepath.Join(m.home, "gauge/.git/objects/pack/*.pack"))
		require.NoError(t, err)
		return len(all)
	}
	m.write("gauge", map[string]string{"a.raw": hiss(1, 12<<20), "b/c.raw": hiss(2, 12<<20), "b-c.raw": hiss(3, 12<<20), "level.c": "int level = 2;\n", "new.txt": "new\n"})
	m.ok("gauge", "", "save", "-m", "Scans")
	assert.Equal(t, 2, packs(), "each run of git wrote one")
	assert.Empty(t, m.raw("gauge", "status", "--porcelain"))
	assert.Empty(t, m.git("gauge", "diff-files"), "git need not look into them again")
	assert.Equal(t, "README.md a.raw b-c.raw b/c.raw level.c new.txt scan/1.txt scan/2.txt", strings.ReplaceAll(m.git("gauge", "ls-tree", "-r", "--name-only", "HEAD"), "\n", " "))

	// A file comes where a folder was: then one run of git does it all.
	require.NoError(t, os.RemoveAll(filepath.Join(m.home, "gauge/scan")))
	m.write("gauge", map[string]string{"scan": hiss(4, 12<<20), "a.raw": hiss(5, 12<<20), "z.raw": hiss(6, 12<<20)})
	m.ok("gauge", "", "save", "-m", "More scans")
	assert.Empty(t, m.raw("gauge", "status", "--porcelain"))
	assert.Equal(t, "README.md a.raw b-c.raw b/c.raw level.c new.txt scan z.raw", strings.ReplaceAll(m.git("gauge", "ls-tree", "-r", "--name-only", "HEAD"), "\n", " "))
	assert.Empty(t, m.git("gauge", "fsck", "--no-dangling"))
	m.git("gauge", "-c", "pack.window=0", "gc", "-q")
	assert.Equal(t, 1, packs())
}
