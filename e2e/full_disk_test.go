package e2e

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSyncOnAFullDisk lets the project's disk be full when something comes in: it is said,
// nothing is lost, and with room again the same command ends it.
func TestSyncOnAFullDisk(t *testing.T) {
	t.Parallel()
	linux(t)
	if os.Getuid() != 0 {
		t.Fatal("a small file system is mounted for this test, which takes root; run it as root, in a container for example")
	}
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	small := filepath.Join(launch.home, "small")
	require.NoError(t, os.Mkdir(small, 0o755))
	out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=3m", "tmpfs", small).CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() {
		out, err := exec.Command("umount", small).CombinedOutput()
		require.NoError(t, err, string(out))
	})
	launch.ok("", "", "clone", "saltmarsh/gauge", "small/gauge")
	filler := filepath.Join(small, "filler")
	for round, free := range []int{0, 8, 40, 60, 90, 120} {
		for i := range 40 {
			pier.write("gauge", map[string]string{fmt.Sprintf("many/%02d.txt", i): strings.Repeat(fmt.Sprint(round, i, " "), 900)})
		}
		pier.ok("gauge", "", "sync", "--save", "--message", fmt.Sprint("Round ", round))
		launch.write("small/gauge", map[string]string{"own.txt": fmt.Sprint("own ", round)})
		launch.ok("small/gauge", "", "save", fmt.Sprint("Own ", round))
		launch.write("small/gauge", map[string]string{"unsaved.txt": fmt.Sprint("unsaved ", round)})
		// Fill it, but for some pages.
		f, err := os.Create(filler)
		require.NoError(t, err)
		page, n := make([]byte, 4096), 0
		for ; err == nil; n++ {
			_, err = f.Write(page)
		}
		require.True(t, errors.Is(err, syscall.ENOSPC), err)
		require.NoError(t, f.Truncate(int64(max(n-1-free, 0))*4096))
		require.NoError(t, f.Close())
		r := launch.run("small/gauge", "", "sync")
		if r.code != 0 {
			assert.Contains(t, strings.ToLower(r.err), "no space left on device", "%d free", free)
		}
		data, err := os.ReadFile(filepath.Join(small, "gauge/unsaved.txt"))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint("unsaved ", round), string(data))
		require.NoError(t, os.Remove(filler))
		r = launch.run("small/gauge", "", "sync")
		require.Equal(t, 0, r.code, "%d pages were free: %s", free, r.err)
		assert.Equal(t, fmt.Sprintf("Own %d\nRound %d", round, round), launch.git("small/gauge", "log", "-2", "--format=%s"))
		launch.ok("small/gauge", "", "sync", "--save", "--message", "Unsaved")
		assert.Empty(t, launch.git("small/gauge", "status", "--porcelain"))
		pier.ok("gauge", "", "sync")
		launch.ok("small/gauge", "", "rescue", "drop", "--older", "1", "--yes")
		launch.git("small/gauge", "reflog", "expire", "--expire=now", "--all")
		launch.git("small/gauge", "gc", "-q", "--prune=now")
		require.NoError(t, os.RemoveAll(filepath.Join(small, "gauge/.git/uncinate")))
	}
}

// TestTheRegisterHoldsAll lets many processes take copies in at once.
func TestTheRegisterHoldsAll(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("seed")
	m.ok("seed", "", "attach", "--yes")
	const many = 12
	for i := range many {
		m.git("", "clone", "-q", "seed", fmt.Sprintf("copies/%d/seed%d", i, i))
		m.git(fmt.Sprintf("copies/%d/seed%d", i, i), "remote", "set-url", "origin", m.git("seed", "remote", "get-url", "origin"))
	}
	var work sync.WaitGroup
	codes := make([]result, many)
	for i := range many {
		work.Go(func() {
			c := exec.Command(program, "project", "find", fmt.Sprintf("copies/%d", i), "--yes")
			c.Dir, c.Env = m.home, m.env
			out, err := c.CombinedOutput()
			codes[i] = result{code: c.ProcessState.ExitCode(), out: string(out)}
			if err != nil {
				codes[i].err = err.Error()
			}
		})
	}
	work.Wait()
	for _, r := range codes {
		assert.Equal(t, 0, r.code, "%s %s", r.out, r.err)
	}
	assert.Contains(t, m.ok("", "", "status", "--all"), "13 projects, all in step.")

	// And two syncs of all at once: each project is now in step by one of them.
	m.write("seed", map[string]string{"new.txt": "n\n"})
	m.ok("seed", "", "sync", "--save", "--message", "New")
	results := make([]result, 2)
	for i := range results {
		work.Go(func() {
			c := exec.Command(program, "sync", "--all")
			c.Dir, c.Env = m.home, m.env
			out, _ := c.CombinedOutput() // its code is looked at below
			results[i] = result{code: c.ProcessState.ExitCode(), out: string(out)}
		})
	}
	work.Wait()
	for _, r := range results {
		if r.code != 0 {
			assert.Equal(t, 1, r.code, r.out)
			assert.Contains(t, r.out, "another uncinate")
		}
	}
	assert.Contains(t, m.ok("", "", "sync", "--all"), "13 projects: 13 in step already")
}
