package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// made runs a program in the project's own folder.
func madeBy(t *testing.T, name string, args ...string) string {
	t.Helper()
	c := exec.Command(name, args...)
	c.Dir = ".."
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s %v\n%s", name, args, out)
	return string(out)
}

// TestRelease makes what is handed out for this system; installs the Debian package in a folder of its own, uses the program that it
// brings, and removes it. That it is the same twice, byte for byte, is looked at by .ci/run.
func TestRelease(t *testing.T) {
	t.Parallel()
	top := t.TempDir()
	madeBy(t, "go", "run", "./release", "dist", "-version", "1.2.3", "-only", "linux/amd64", "-to", filepath.Join(top, "one"))
	sums, err := os.ReadFile(filepath.Join(top, "one/SHA256SUMS"))
	require.NoError(t, err)
	assert.Equal(t, 3, strings.Count(string(sums), "\n"), "an archive, a package and a list")
	check := exec.Command("sha256sum", "-c", "SHA256SUMS")
	check.Dir = filepath.Join(top, "one")
	said, err := check.CombinedOutput()
	require.NoError(t, err, string(said))

	var list struct{ Packages []struct{ Name string } }
	data, err := os.ReadFile(filepath.Join(top, "one/uncinate-1.2.3-linux-amd64.spdx.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(data, &list))
	assert.Greater(t, len(list.Packages), 10)

	root := filepath.Join(top, "root")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg/updates"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg/info"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644))
	dpkg := []string{"--root=" + root, "--force-depends", "--force-not-root", "--force-script-chrootless", "--log=/dev/null"}
	madeBy(t, "dpkg", append(dpkg, "-i", filepath.Join(top, "one/uncinate_1.2.3_amd64.deb"))...)
	assert.Equal(t, "uncinate 1.2.3\n", madeBy(t, filepath.Join(root, "usr/bin/uncinate"), "version"))
	m := newMachine(t)
	m.env = append(m.env, "MANPATH="+filepath.Join(root, "usr/share/man"))
	for _, path := range []string{"usr/share/man/man1/uncinate-attach.1.gz", "usr/share/bash-completion/completions/uncinate", "usr/share/zsh/site-functions/_uncinate",
		"usr/share/fish/vendor_completions.d/uncinate.fish", "usr/share/doc/uncinate/copyright", "usr/share/doc/uncinate/install.md"} {
		assert.FileExists(t, filepath.Join(root, path))
	}
	madeBy(t, "dpkg", append(dpkg, "-r", "uncinate")...)
	assert.NoFileExists(t, filepath.Join(root, "usr/bin/uncinate"))
	assert.NoDirExists(t, filepath.Join(root, "usr/share/doc/uncinate"))
}

// TestInstall puts the program, its manual pages and completions where they are looked for, and takes them away again; and the
// program shows the licence of each library that is linked in.
func TestInstall(t *testing.T) {
	t.Parallel()
	top := t.TempDir()
	madeBy(t, "make", "install", "DESTDIR="+top, "PREFIX=/opt/tool", "PROGRAM="+filepath.Join(top, "build/uncinate"), "VERSION=1.2.3")
	at := filepath.Join(top, "opt/tool")
	assert.Equal(t, "uncinate 1.2.3\n", madeBy(t, filepath.Join(at, "bin/uncinate"), "version"))
	for _, path := range []string{"share/man/man1/uncinate.1", "share/man/man1/uncinate-sync.1", "share/bash-completion/completions/uncinate", "share/zsh/site-functions/_uncinate", "share/fish/vendor_completions.d/uncinate.fish"} {
		assert.FileExists(t, filepath.Join(at, path))
	}
	shown := madeBy(t, filepath.Join(at, "bin/uncinate"), "version", "--licences")
	for line := range strings.Lines(madeBy(t, "go", "version", "-m", filepath.Join(at, "bin/uncinate"))) {
		if part := strings.Fields(line); len(part) > 1 && part[0] == "dep" {
			assert.Contains(t, shown, "==== "+part[1]+"\n", "make licences")
		}
	}
	madeBy(t, "make", "uninstall", "DESTDIR="+top, "PREFIX=/opt/tool")
	assert.Empty(t, tree(t, filepath.Join(at, "share")))
	assert.NoFileExists(t, filepath.Join(at, "bin/uncinate"))
}
