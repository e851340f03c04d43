package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSHA256 does the main job in repositories whose objects are named by SHA-256: attach, clone, join, sync with clashes,
// rescue copies and undo; and it refuses, before anything is made, to tie one to a repository of the other kind.
func TestSHA256(t *testing.T) {
	t.Parallel()
	at, dir := plainServer(t, "")
	h := newHost(t)
	m := signedIn(t, h)
	m.alone = true
	m.git("", "config", "--global", "user.name", "Tern")
	m.git("", "config", "--global", "user.email", "tern@skerry.example")
	bare := filepath.Join(dir, "wide.git")
	m.git("", "init", "-q", "--bare", "-b", "trunk", "--object-format=sha256", bare)
	m.git("", "--git-dir="+bare, "config", "http.receivepack", "true")

	m.ok("", "", "clone", at+"/wide.git", "empty")
	assert.Equal(t, "sha256", m.git("empty", "rev-parse", "--show-object-format"), "also where nothing is in it yet")
	assert.Equal(t, "trunk", m.git("empty", "branch", "--show-current"))
	m.git("", "init", "-q", "--object-format=sha1", "narrow")
	m.write("narrow", map[string]string{"x.txt": "x\n"})
	m.refused(3, []string{"names its objects by SHA-256, and this folder's by SHA-1: git cannot send from one to the other", "Nothing was changed"}, "narrow", "", "attach", "--yes", "--to", at+"/wide.git")
	assert.Equal(t, "", m.git("narrow", "remote"))
	m.write("folder", map[string]string{"a.txt": "a\n", "b.txt": "b\n"})
	m.ok("folder", "", "attach", "--yes", "--to", at+"/wide.git")
	assert.Len(t, m.git(bare, "rev-parse", "trunk"), 64)
	m.ok("", "", "clone", at+"/wide.git", "copy")
	assert.Equal(t, tree(t, filepath.Join(m.home, "folder")), tree(t, filepath.Join(m.home, "copy")))

	m.write("folder", map[string]string{"a.txt": "ours\n"})
	m.ok("folder", "", "sync", "--save", "--message", "Ours")
	m.write("copy", map[string]string{"a.txt": "theirs\n", "c.txt": "c\n"})
	m.ok("copy", "", "save", "--message", "Theirs")
	m.refused(3, []string{"a.txt"}, "copy", "", "sync")
	m.ok("copy", "", "settle", "mine", "a.txt")
	m.ok("copy", "", "sync")
	m.ok("folder", "", "sync")
	assert.Equal(t, "theirs\n", m.read("folder/a.txt"))
	assert.Contains(t, m.ok("", "", "status", "--all"), "in step")
	m.write("folder", map[string]string{"a.txt": "not saved\n"})
	m.ok("folder", "", "undo", "changes", "--yes")
	assert.Equal(t, "theirs\n", m.read("folder/a.txt"))
	m.ok("folder", "", "rescue", "list")
	m.write("other", map[string]string{"d.txt": "d\n"})
	m.ok("other", "", "attach", "--yes", "--to", at+"/wide.git")
	assert.FileExists(t, filepath.Join(m.home, "other/a.txt"), "it was joined with what is there")
	m.ok("folder", "", "branch", "make", "neap", "--switch")
	m.write("folder", map[string]string{"neap.txt": "n\n"})
	m.ok("folder", "", "sync", "--save", "--message", "Neap")
	assert.Len(t, m.git(bare, "rev-parse", "neap"), 64)
	works(t, settingsShown, "objects named by SHA-256: attach, clone (also empty), join, sync, settle, undo, branches")
	m.git("folder", "gc", "-q")
	assert.NotContains(t, m.git("folder", "fsck", "--strict"), "error")

	sha256OnHosts(t, h, m)
}

// sha256OnHosts attaches where it is known that such objects are taken, and where nobody knows.
func sha256OnHosts(t *testing.T, h *host, m *machine) {
	t.Helper()
	m.git("", "init", "-q", "-b", "main", "--object-format=sha256", "gauge")
	m.write("gauge", map[string]string{"x.txt": "x\n"})
	m.ok("gauge", "", "attach", "--yes")
	assert.Equal(t, "sha256", m.git(h.gitDir(t, "tern", "tern", "gauge"), "rev-parse", "--show-object-format"))
	description := filepath.Join(m.home, "old.toml")
	data := strings.Replace(read(t, "../descriptions/gannet.toml"), `, naming = "{object_format}"`, "", 1)
	require.NoError(t, os.WriteFile(description, []byte(data), 0o600))
	m.ok("", "", "host", "add", description, "--at", h.URL, "--yes")
	m.git("", "init", "-q", "-b", "main", "--object-format=sha256", "buoy")
	m.write("buoy", map[string]string{"x.txt": "x\n"})
	m.refused(3, []string{"nobody knows whether gannet makes such repositories: nothing was made there"}, "buoy", "", "attach", "--yes")
	refuses(t, settingsShown, "objects named by SHA-256, and a host that may not take them", m.run("buoy", "", "attach", "--yes"))
	m.env = append(m.env, "GIT_DEFAULT_HASH=sha256")
	m.write("usual", map[string]string{"x.txt": "x\n"})
	m.ok("usual", "", "attach", "--yes")
	works(t, settingsShown, "GIT_DEFAULT_HASH: a project that is made for a host is as the host makes them")
	assert.Equal(t, "sha1", m.git("usual", "rev-parse", "--show-object-format"), "as the host makes them")
}

// TestSHA256OverSSH knows by what objects are named on servers of the older protocol too, and what the first branch is to
// be called on those of the newer one.
func TestSHA256OverSSH(t *testing.T) {
	t.Parallel()
	for name, settings := range map[string][]string{"older": nil, "newer": {"AcceptEnv GIT_PROTOCOL"}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newPlainSSH(t, settings...)
			m := s.ownWay("")
			bare := filepath.Join(s.dir, "repositories/wide.git")
			m.git("", "init", "-q", "--bare", "-b", "trunk", "--object-format=sha256", bare)
			if name == "newer" {
				m.well("", "clone", "Pier:repositories/wide.git", "empty")
				assert.Equal(t, "sha256 trunk", m.git("empty", "rev-parse", "--show-object-format")+" "+m.git("empty", "branch", "--show-current"))
			}
			m.git("", "init", "-q", "-b", "trunk", "--object-format=sha256", "work")
			m.write("work", map[string]string{"x.txt": "x\n"})
			r := m.atHome("work", program, "attach", "--yes", "--to", "Pier:repositories/tides.git")
			assert.Equal(t, 3, r.code)
			assert.Contains(t, r.err, "by SHA-1, and this folder's by SHA-256")
			s.empty(m, "repositories/narrow.git")
			r = m.atHome("work", program, "attach", "--yes", "--to", "Pier:repositories/narrow.git")
			assert.Equal(t, 3, r.code, "it is empty, and of the other kind")
			assert.Contains(t, r.err, "by SHA-1, and this folder's by SHA-256")
			m.well("work", "attach", "--yes", "--to", "Pier:repositories/wide.git")
			m.well("", "clone", "Pier:repositories/wide.git", "copy")
			assert.Len(t, m.git("copy", "rev-parse", "trunk"), 64)
			works(t, sshShown, "repositories whose objects are named by SHA-256, with the "+name+" protocol")
		})
	}
}
