package e2e

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// readIndexFile reads git's index without a process: "path stage" → "mode id". false where it is of
// a form that is left to git (gitformat-index documentation, versions 2 and 3, SHA-1).
func readIndexFile(path string) (map[string]string, bool) {
	data, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		return map[string]string{}, true
	}
	if err != nil || len(data) < 32 || string(data[:4]) != "DIRC" {
		return nil, false
	}
	version, count := binary.BigEndian.Uint32(data[4:]), binary.BigEndian.Uint32(data[8:])
	if version != 2 && version != 3 {
		return nil, false
	}
	all := map[string]string{}
	at := 12
	for range count {
		if at+62 > len(data) {
			return nil, false
		}
		mode, id, flags := binary.BigEndian.Uint32(data[at+24:]), data[at+40:at+60], binary.BigEndian.Uint16(data[at+60:])
		begins := at + 62
		if flags&0x4000 != 0 { // extended
			begins += 2
		}
		name, _, found := strings.Cut(string(data[min(begins, len(data)):]), "\x00")
		if !found {
			return nil, false
		}
		all[fmt.Sprintf("%s %d", name, flags>>12&3)] = fmt.Sprintf("%06o %s", mode, hex.EncodeToString(id))
		at += (begins - at + len(name) + 8) &^ 7
	}
	return all, true
}

// readRefs reads a repository's refs without a process.
func readRefs(common string) map[string]string {
	all := map[string]string{}
	if data, err := os.ReadFile(filepath.Join(common, "packed-refs")); err == nil {
		for line := range strings.Lines(string(data)) {
			if id, name, found := strings.Cut(strings.TrimSpace(line), " "); found && len(id) == 40 {
				all[name] = id
			}
		}
	}
	_ = filepath.WalkDir(filepath.Join(common, "refs"), func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.HasSuffix(path, ".lock") {
			return nil // it went meanwhile
		}
		data, _ := os.ReadFile(path)
		name, _ := filepath.Rel(common, path)
		if id := strings.TrimSpace(string(data)); len(id) == 40 {
			all[name] = id
		}
		return nil
	})
	return all
}

// gitState is what git's folder of a project holds: what is staged, the refs and the branch.
func (m *machine) gitState(name string) (index, refs, head string) {
	m.t.Helper()
	own := filepath.Join(m.home, name, ".git")
	staged, known := readIndexFile(filepath.Join(own, "index"))
	require.True(m.t, known, "git's index is of another form")
	data, err := os.ReadFile(filepath.Join(own, "HEAD"))
	require.NoError(m.t, err)
	return sortedLines(staged), sortedLines(readRefs(own)), strings.TrimSpace(string(data))
}

func sortedLines(all map[string]string) string {
	var b strings.Builder
	for _, key := range slices.Sorted(maps.Keys(all)) {
		fmt.Fprintln(&b, all[key], key)
	}
	return b.String()
}

// TestReadIndexFile compares it with what git says.
func TestReadIndexFile(t *testing.T) {
	m := newMachine(t)
	m.write("p", map[string]string{"a": "a\n", "src/level.c": "int level;\n", "a longer name of a file": "x\n"})
	m.git("p", "init", "-q", "-b", "main")
	m.git("p", "add", "-A")
	m.git("p", "update-index", "--skip-worktree", "--", "a")
	m.git("p", "add", "-N", "--", "a longer name of a file")
	m.git("p", "update-index", "--index-info")
	all, known := readIndexFile(filepath.Join(m.home, "p/.git/index"))
	require.True(t, known)
	said := map[string]string{}
	for line := range strings.Lines(m.git("p", "ls-files", "-s") + "\n") {
		about, path, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		fields := strings.Fields(about)
		said[path+" "+fields[2]] = fields[0] + " " + fields[1]
	}
	assert.Equal(t, said, all)
	assert.Len(t, all, 3)
}
