package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// smallDisk puts a folder of the home on a file system of so many pages of 4 kB, and gives a
// way to leave only some of them free; with a number below 0, all.
func (m *machine) smallDisk(folder string, pages int) (leave func(free int)) {
	t := m.t
	t.Helper()
	linux(t)
	if os.Getuid() != 0 {
		t.Fatal("a small file system is mounted for this test, which takes root; run it as root, in a container for example")
	}
	top := filepath.Join(m.home, folder)
	require.NoError(t, os.MkdirAll(top, 0o700))
	out, err := exec.Command("mount", "-t", "tmpfs", "-o", "mode=700,nr_blocks="+strconv.Itoa(pages), "tmpfs", top).CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() {
		out, err := exec.Command("umount", top).CombinedOutput()
		require.NoError(t, err, string(out))
	})
	filler := filepath.Join(top, "filler")
	return func(free int) {
		t.Helper()
		require.NoError(t, os.RemoveAll(filler))
		if free < 0 {
			return
		}
		f, err := os.Create(filler)
		require.NoError(t, err)
		page := make([]byte, 4096)
		n := 0
		for ; err == nil; n++ {
			_, err = f.Write(page)
		}
		require.NoError(t, f.Truncate(int64(max(n-1-free, 0))*4096))
		require.NoError(t, f.Close())
	}
}

// TestDiskFull lets the disk fill up at every moment of the work: what is written by
// then is whole, and with room again the same command goes on.
func TestDiskFull(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	leave := m.smallDisk(".uncinate", 64)
	leave(0)
	m.refused(1, []string{"no space left on device"}, "", "", "host", "add", "gannet", "--at", h.URL)
	m.refused(1, []string{"no space left on device"}, "", "", "vault", "make", "--by", "file")
	leave(-1)
	assert.Contains(t, m.ok("", "", "host", "list"), "No host is known yet")
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token["tern"], "account", "add", "--host", "gannet")

	failed := 0
	for free := 0; free < 12; free++ {
		leave(free)
		r := m.run("", h.token["knot"], "account", "add", "--host", "gannet")
		if r.code != 0 {
			failed++
			assert.Contains(t, r.err, "no space left on device")
			assert.NotContains(t, r.out, "The token is good")
		}
		leave(-1)
		assert.Equal(t, "good: belongs to tern on gannet", m.ready(0)["account tern/token"], "the vault is whole, with %d pages left", free)
		if r.code == 0 {
			m.ok("", "", "account", "forget", "knot")
		}
	}
	assert.Positive(t, failed)

	failed = 0
	for free := 0; free < 12; free++ {
		name := "gauge-" + string(rune('a'+free))
		m.project(name)
		leave(free)
		if r := m.run(name, "", "attach", "--yes"); r.code != 0 {
			failed++
			assert.Equal(t, 1, r.code, r.err)
			assert.Contains(t, r.err, "no space left on device")
		}
		leave(-1)
		m.ok(name, "", "attach", "--yes")
		assert.Equal(t, m.git(name, "rev-parse", "HEAD"), m.git(h.gitDir(t, "tern", "tern", name), "rev-parse", "main"))
	}
	assert.Positive(t, failed)
	assert.Len(t, h.Store.List("tern", ""), 12, "nothing is made twice")
}

// TestDiskFullWhileKeysAreExchanged lets the disk fill up in every moment of an exchange:
// there is a working key afterwards, and with room again the same command ends it.
func TestDiskFullWhileKeysAreExchanged(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	leave := m.smallDisk(".uncinate", 80)
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token["tern"], "account", "add", "--host", "gannet")
	leave(0)
	m.refused(1, []string{"no space left on device"}, "", "", "key", "make", "tern")
	leave(-1)
	m.ok("", "", "settings", "set", "machine", "pier")
	m.ok("", "", "key", "make", "tern")
	m.ok("", "", "key", "install", "tern", "--yes")
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes", "--over", "ssh")
	failed := 0
	for free := 0; free < 14; free += 2 {
		leave(free)
		r := m.run("", "", "key", "rotate", "tern", "--yes")
		if r.code != 0 {
			failed++
			assert.Contains(t, r.err, "no space left on device")
		}
		leave(-1)
		m.git("gauge", "ls-remote", "-q", "origin")
		m.ok("", "", "key", "rotate", "tern", "--yes")
		m.git("gauge", "ls-remote", "-q", "origin")
		assert.Len(t, h.Store.Keys("tern"), 1)
		require.Len(t, m.keys("tern"), 1)
	}
	assert.Positive(t, failed)
}
