package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSubmodulesBrought brings repositories inside others, each from its own address and with the account for it, and sends
// nothing that asks for commits which are only here.
func TestSubmodulesBrought(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.alone = true
	marker := filepath.Join(m.home, "ran")
	for _, name := range []string{"seal", "pump", "whole"} {
		m.project(name)
		m.ok(name, "", "attach", "--yes")
	}
	inner := func(dir, path, url, commit string) {
		t.Helper()
		m.git(dir, "config", "--file", ".gitmodules", "submodule."+path+".path", path)
		m.git(dir, "config", "--file", ".gitmodules", "submodule."+path+".url", url)
		m.git(dir, "add", ".gitmodules")
		m.git(dir, "update-index", "--add", "--cacheinfo", "160000,"+commit+","+path)
	}
	seal := m.git("seal", "rev-parse", "HEAD")
	inner("pump", "parts/seal", "../seal.git", seal)
	m.git("pump", "commit", "-q", "-m", "With a seal")
	m.ok("pump", "", "sync")
	pump := m.git("pump", "rev-parse", "HEAD")
	inner("whole", "pump", h.URL+"/tern/pump", pump)
	inner("whole", "odd", "ext::touch "+marker, pump)
	inner("whole", "near", "file://"+m.home+"/pump", pump)
	m.git("whole", "commit", "-q", "-m", "With a pump")
	m.ok("whole", "", "sync")

	r := m.run("", "", "clone", "whole", "plain")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, strings.Join(strings.Fields(r.err), " "), "3 submodules of this project are empty: near, odd, pump. To bring what belongs there: uncinate sync --submodules")
	r = m.run("", "", "clone", "whole", "full", "--submodules")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "the submodule odd stays empty")
	assert.Contains(t, r.err, "the submodule near stays empty")
	assert.NoFileExists(t, marker)
	assert.FileExists(t, filepath.Join(m.home, "full/pump/parts/seal/README.md"), "also what is inside it")
	m.git("full/pump/parts/seal", "fetch", "-q", "origin") // signed in, by plain git
	assert.Equal(t, "", m.git("full", "status", "--porcelain"))
	assert.Contains(t, m.ok("plain", "", "sync", "--submodules"), "2 submodules: pump, pump/parts/seal")
	assert.FileExists(t, filepath.Join(m.home, "plain/pump/parts/seal/README.md"))

	works(t, settingsShown, "submodules: clone --submodules and sync --submodules, also private ones, and those inside them")

	onlyHereInside(t, h, m)
}

// onlyHereInside sends nothing that asks for commits of a submodule which are only here.
func onlyHereInside(t *testing.T, h *host, m *machine) {
	t.Helper()
	m.git("full/pump", "config", "user.name", "Tern")
	m.git("full/pump", "config", "user.email", "tern@skerry.example")
	m.write("full/pump", map[string]string{"new.txt": "new\n"})
	m.git("full/pump", "add", "new.txt")
	m.git("full/pump", "commit", "-q", "-m", "New")
	m.git("full", "add", "pump")
	m.git("full", "commit", "-q", "-m", "The new pump")
	was := m.git(h.gitDir(t, "tern", "tern", "whole"), "rev-parse", "main")
	said := m.refused(3, []string{"of the submodule pump, which is only here: nobody else could get it", "Nothing was sent.", "uncinate branch make NAME --switch --folder"}, "full", "", "sync")
	refuses(t, settingsShown, "submodules: sync of what asks for commits of one that are only here", m.run("full", "", "sync"))
	assert.Contains(t, said, "uncinate sync "+filepath.Join(m.home, "full/pump"))
	assert.Equal(t, was, m.git(h.gitDir(t, "tern", "tern", "whole"), "rev-parse", "main"))
	m.ok("", "", "branch", "make", "neap", "--switch", "--folder", filepath.Join(m.home, "full/pump"))
	m.ok("full/pump", "", "sync")
	m.ok("full", "", "sync")
	assert.Contains(t, m.ok("plain", "", "sync", "--submodules"), "In step")
	assert.FileExists(t, filepath.Join(m.home, "plain/pump/new.txt"))
}
