package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFoldersThatFoldCase has git believe of one machine's folders that they take capital
// and small letters for the same, as it finds out by itself where they do.
func TestFoldersThatFoldCase(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, _, hut := shared(t, h)
	hut.git("", "config", "--global", "core.ignorecase", "true")

	// An ignored file is in the way of one that is called nearly so: a copy of it is kept.
	pier.write("gauge", map[string]string{"tide.log": "theirs\n"})
	pier.git("gauge", "add", "-f", "tide.log")
	pier.git("gauge", "commit", "-q", "-m", "Take the log in")
	pier.ok("gauge", "", "sync")
	hut.write("gauge", map[string]string{"TIDE.log": "mine\n"})
	assert.Contains(t, hut.ok("gauge", "", "sync"), "Received 1 commit")
	assert.NoFileExists(t, filepath.Join(hut.home, "gauge/TIDE.log"))
	assert.Equal(t, "mine\n", hut.ok("gauge", "", "rescue", "show", "1", "TIDE.log"))

	// Two of one name come in: everything stays as it was.
	pier.write("gauge", map[string]string{"readme.MD": "other\n", "SRC": "a file\n", "plain.txt": "plain\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Write the other")
	before := hut.id("gauge", "HEAD")
	hut.refused(3, []string{"what comes in has names that differ in upper and lower case alone", "README.md and readme.MD", "SRC and src/level.c", "git mv -- SRC SRC-2"}, "gauge", "", "sync")
	assert.Equal(t, before, hut.id("gauge", "HEAD"))
	assert.NoFileExists(t, filepath.Join(hut.home, "gauge/plain.txt"))

	// A clone tells, and what is there under two names is not saved by itself.
	said := hut.run("", "", "clone", "saltmarsh/gauge", "anew", "--json")
	require.Equal(t, 0, said.code, said.err)
	var cloned struct {
		Alike map[string]string `json:"names_alike"`
	}
	require.NoError(t, json.Unmarshal([]byte(said.out), &cloned))
	assert.Equal(t, map[string]string{"README.md": "readme.MD", "readme.MD": "README.md", "SRC": "src/level.c", "src/level.c": "SRC"}, cloned.Alike)
	assert.Contains(t, said.err, "only one of each two can be in it: README.md and readme.MD, SRC and src/level.c.")
	require.NoError(t, os.WriteFile(filepath.Join(hut.home, "anew/readme.MD"), []byte("# gauge\n"), 0o644)) // as it would look there
	hut.refused(3, []string{"all that differs was left out", "readme.MD: it cannot be beside README.md here"}, "anew", "", "save", "Write")
	assert.Contains(t, hut.ok("", "", "clone", "saltmarsh/*", "--into", "all"), "cannot be side by side here, in: saltmarsh/gauge")

	// One gets another name elsewhere, and both go on.
	pier.git("gauge", "mv", "readme.MD", "readme-2.md")
	pier.git("gauge", "mv", "SRC", "SRC-2")
	pier.ok("gauge", "", "sync", "--save", "--message", "Tell them apart")
	hut.ok("gauge", "", "sync")
	assert.Equal(t, pier.id("gauge", "HEAD"), hut.id("gauge", "HEAD"))
	assert.Empty(t, hut.git("gauge", "status", "--porcelain"))
}
