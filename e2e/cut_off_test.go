package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLargeWorkIsCutOff interrupts the first push of large work, and a clone of it, while git adds, packs, sends and receives: each
// goes on when it is run again, nothing of a pack is left, and both sides are whole.
func TestLargeWorkIsCutOff(t *testing.T) {
	t.Parallel()
	linux(t)
	h := newHost(t)
	m := signedIn(t, h)
	m.alone = true
	work := map[string]string{"readme.txt": "Levels\n"}
	for i := range 4 {
		work["scans/"+string(rune('a'+i))+".raw"] = hiss(uint64(200+i), 4<<20)
	}
	m.write("deep", work)
	begun := func(after time.Duration, how syscall.Signal, dir string, args ...string) {
		c := exec.Command(program, args...)
		c.Dir, c.Env = filepath.Join(m.home, dir), m.env
		require.NoError(t, c.Start())
		time.Sleep(after)
		require.NoError(t, c.Process.Signal(how))
		_ = c.Wait() // how it ends is told below by what it left
	}
	goesOn := func(dir string, args ...string) { // git may be at its end yet, when its starter was killed
		require.Eventually(t, func() bool {
			r := m.run(dir, "", args...)
			require.True(t, r.code == 0 || strings.Contains(r.err, "or what it started"), r.err)
			return r.code == 0
		}, time.Minute, 200*time.Millisecond)
	}
	for i, after := range []time.Duration{150, 400, 700, 1000} {
		begun(after*time.Millisecond, []syscall.Signal{syscall.SIGINT, syscall.SIGINT, syscall.SIGINT, syscall.SIGKILL}[i], "deep", "attach", "--yes")
	}
	goesOn("deep", "attach", "--yes")
	packs, err := filepath.Glob(filepath.Join(m.home, "deep/.git/objects/pack/tmp_*"))
	require.NoError(t, err)
	assert.Empty(t, packs)
	assert.Empty(t, m.git("deep", "status", "--porcelain"))
	m.git("deep", "fsck", "--no-dangling")
	there := h.gitDir(t, "tern", "tern", "deep")
	m.git(there, "fsck", "--no-dangling")
	assert.Equal(t, m.git("deep", "rev-parse", "HEAD"), m.git(there, "rev-parse", "main"))

	for i, after := range []time.Duration{100, 250, 400} {
		begun(after*time.Millisecond, []syscall.Signal{syscall.SIGINT, syscall.SIGINT, syscall.SIGKILL}[i], "", "clone", "deep", "copy")
	}
	goesOn("", "clone", "deep", "copy")
	for path, want := range work {
		got, err := os.ReadFile(filepath.Join(m.home, "copy", path))
		require.NoError(t, err)
		assert.True(t, want == string(got), path)
	}
	packs, err = filepath.Glob(filepath.Join(m.home, "copy/.git/objects/pack/tmp_*"))
	require.NoError(t, err)
	assert.Empty(t, packs)
	entries, err := os.ReadDir(m.home)
	require.NoError(t, err)
	for _, e := range entries {
		assert.False(t, strings.HasPrefix(e.Name(), "copy") && e.Name() != "copy", e.Name())
	}
	assert.Contains(t, m.ok("copy", "", "status"), "in step")
}
