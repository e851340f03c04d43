package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSyncOnAFullDisk lets the project's disk be full when something comes in: it is said,
// nothing is lost, and with room again the same command ends it.
func TestSyncOnAFullDisk(t *testing.T) {
	t.Parallel()
	linux(t)
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	small := filepath.Join(launch.home, "small")
	leave := launch.smallDisk("small", 768)
	launch.ok("", "", "clone", "saltmarsh/gauge", "small/gauge")
	for round, free := range []int{0, 8, 40, 60, 90, 120} {
		for i := range 40 {
			pier.write("gauge", map[string]string{fmt.Sprintf("many/%02d.txt", i): strings.Repeat(fmt.Sprint(round, i, " "), 900)})
		}
		pier.ok("gauge", "", "sync", "--save", "--message", fmt.Sprint("Round ", round))
		launch.write("small/gauge", map[string]string{"own.txt": fmt.Sprint("own ", round)})
		launch.ok("small/gauge", "", "save", fmt.Sprint("Own ", round))
		launch.write("small/gauge", map[string]string{"unsaved.txt": fmt.Sprint("unsaved ", round)})
		leave(free)
		r := launch.run("small/gauge", "", "sync")
		if r.code != 0 {
			assert.Contains(t, strings.ToLower(r.err), "no space left on device", "%d free", free)
		}
		data, err := os.ReadFile(filepath.Join(small, "gauge/unsaved.txt"))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint("unsaved ", round), string(data))
		leave(-1)
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

// TestLocalWorkOnAFullDisk lets the disk be full, to a page, when branches are switched to and
// joined and work is saved: the cause is said, nothing is lost, and with room again it ends.
func TestLocalWorkOnAFullDisk(t *testing.T) {
	t.Parallel()
	linux(t)
	h := newHost(t)
	_, launch, _ := shared(t, h)
	small := filepath.Join(launch.home, "small")
	leave := launch.smallDisk("small", 768)
	launch.ok("", "", "clone", "saltmarsh/gauge", "small/gauge")
	launch.git("small/gauge", "switch", "-q", "-c", "other")
	for i := range 30 {
		launch.write("small/gauge", map[string]string{fmt.Sprintf("many/%02d.txt", i): strings.Repeat(fmt.Sprint("other ", i, " "), 700)})
	}
	launch.git("small/gauge", "add", "-A")
	launch.git("small/gauge", "commit", "-q", "-m", "Other")
	launch.git("small/gauge", "switch", "-q", "main")
	launch.write("small/gauge", map[string]string{"own.txt": "own\n"})
	launch.ok("small/gauge", "", "save", "Own")
	launch.write("small/gauge", map[string]string{"unsaved.txt": "unsaved\n", "many/tide.log": "ignored\n"})
	kept := filepath.Join(t.TempDir(), "kept")
	launch.command("", "", "cp", "-a", filepath.Join(small, "gauge"), kept)
	for _, line := range []string{"branch switch other", "branch join other", "save Unsaved", "branch make third --from other --switch"} {
		levels := []int{0, 2, 5, 21, 89}
		if os.Getenv("UNCINATE_SOAK") != "" {
			levels = []int{0, 1, 2, 3, 5, 8, 13, 21, 34, 55, 89, 144}
		}
		for _, free := range levels {
			launch.command("", "", "rm", "-rf", filepath.Join(small, "gauge"))
			launch.command("", "", "cp", "-a", kept, filepath.Join(small, "gauge"))
			leave(free)
			r := launch.run("small/gauge", "", strings.Fields(line)...)
			if r.code != 0 {
				assert.Contains(t, strings.ToLower(r.err), "no space left on device", "%s, %d free", line, free)
			}
			leave(-1)
			if r.code != 0 {
				launch.ok("small/gauge", "", strings.Fields(line)...)
			}
			for p, s := range map[string]string{"unsaved.txt": "unsaved\n", "many/tide.log": "ignored\n"} {
				data, err := os.ReadFile(filepath.Join(small, "gauge", p))
				require.NoError(t, err)
				assert.Equal(t, s, string(data), "%s, %d free", line, free)
			}
			status := launch.git("small/gauge", "status", "--porcelain")
			assert.Equal(t, line == "save Unsaved", status == "", "%s, %d free: %s", line, free, status)
		}
	}
}

// TestUndoOnAFullDisk lets the disk be full, to a page, as changes are taken back: git's index is whole
// each time, and with room again it ends.
func TestUndoOnAFullDisk(t *testing.T) {
	t.Parallel()
	linux(t)
	h := newHost(t)
	_, launch, _ := shared(t, h)
	leave := launch.smallDisk("small", 512)
	launch.ok("", "", "clone", "saltmarsh/gauge", "small/gauge")
	for i := range 60 { // an index of two pages
		launch.write("small/gauge", map[string]string{fmt.Sprintf("a-longer-name-of-a-folder/%02d.txt", i): "x\n"})
	}
	launch.ok("small/gauge", "", "save", "Many")
	launch.write("small/gauge", map[string]string{"README.md": "changed\n"})
	kept := filepath.Join(t.TempDir(), "kept")
	launch.command("", "", "cp", "-a", filepath.Join(launch.home, "small/gauge"), kept)
	levels := []int{2, 4, 5, 6, 8, 10, 13}
	if os.Getenv("UNCINATE_SOAK") != "" {
		levels = make([]int, 40)
		for i := range levels {
			levels[i] = i
		}
	}
	for _, free := range levels {
		launch.command("", "", "rm", "-rf", filepath.Join(launch.home, "small/gauge"))
		launch.command("", "", "cp", "-a", kept, filepath.Join(launch.home, "small/gauge"))
		leave(free)
		r := launch.command("small/gauge", "", program, "undo", "changes", "--yes")
		if r.code != 0 {
			assert.Contains(t, strings.ToLower(r.err), "no space left on device", "%d free", free)
		}
		leave(-1)
		if r.code != 0 {
			launch.ok("small/gauge", "", "undo", "changes", "--yes")
		}
		assert.Empty(t, launch.git("small/gauge", "status", "--porcelain"), "%d free", free)
		assert.Equal(t, "64", fmt.Sprint(strings.Count(launch.git("small/gauge", "ls-files"), "\n")+1), "%d free", free)
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
