package e2e

import (
	"fmt"
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

// killAfterTime runs the program in a session of its own and kills it after a time: it alone, or
// all that it started with it. It gives whether it was killed before it ended.
func (m *machine) killAfterTime(dir string, after time.Duration, all bool, args ...string) bool {
	m.t.Helper()
	c := exec.Command(program, args...)
	c.Dir, c.Env = filepath.Join(m.home, dir), m.env
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	require.NoError(m.t, c.Start())
	ended := make(chan struct{})
	go func() {
		_ = c.Wait() // how it ended is asked of its state
		close(ended)
	}()
	select {
	case <-ended:
		return false
	case <-time.After(after):
	}
	if all {
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL) // they may have ended
	} else {
		_ = c.Process.Kill()
	}
	<-ended
	return c.ProcessState.Sys().(syscall.WaitStatus).Signaled()
}

// killedAndAgain kills a command after a time, runs it again and looks; false where it had ended.
func killedAndAgain(t *testing.T, launch *machine, kept, line string, n, step time.Duration, all bool, check func(t *testing.T, name string)) bool {
	t.Helper()
	name := fmt.Sprintf("%s, killed after %s, all: %v", line, n*step, all)
	launch.command("/", "", "rm", "-rf", launch.home)
	launch.command("/", "", "cp", "-a", kept, launch.home)
	killed := launch.killAfterTime("gauge", n*step, all, strings.Fields(line)...)
	launch.free()
	if line == "sync --in" && killed && n%2 == 0 {
		// A commit in between holds what the person made, and nothing of what was coming in.
		launch.ok("gauge", "", "save", "Between", "--only", "own2.txt", "--only", "own.txt", "--only", "notes.txt")
		assert.Equal(t, "own2.txt", launch.git("gauge", "show", "--format=", "--name-only", "HEAD"), name)
		launch.ok("gauge", "", "sync", "--in")
		return true
	}
	again := launch.run("gauge", "", strings.Fields(line)...)
	if saved := strings.HasPrefix(line, "save"); !saved || again.code != 1 { // it was saved, and there is nothing to save any more
		require.Equal(t, 0, again.code, "%s: %s", name, again.err)
	}
	check(t, name)
	changed := launch.git("gauge", "status", "--porcelain")
	assert.Equal(t, !strings.HasPrefix(line, "save"), changed == "?? own2.txt\n?? unsaved.txt", "%s: %s", name, changed)
	left, err := filepath.Glob(filepath.Join(launch.home, "gauge/.git/*.lock"))
	require.NoError(t, err)
	assert.Empty(t, left, name)
	data, err := os.ReadFile(filepath.Join(launch.home, "gauge/many/tide.log"))
	require.NoError(t, err)
	assert.Equal(t, "ignored\n", string(data))
	return killed
}

// TestKilledAtEveryStep kills commands after every few milliseconds, alone and with all that they
// started: the same command, run once more, ends with 0, and everything is right. With
// UNCINATE_SOAK the steps are of 4 ms.
func TestKilledAtEveryStep(t *testing.T) {
	linux(t)
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	for i := range 60 {
		pier.write("gauge", map[string]string{fmt.Sprintf("many/%02d.txt", i): fmt.Sprintln("one", i)})
	}
	pier.ok("gauge", "", "sync", "--save", "--message", "Many")
	launch.ok("gauge", "", "sync")
	launch.git("gauge", "branch", "before")
	for i := range 60 {
		pier.write("gauge", map[string]string{fmt.Sprintf("many/%02d.txt", i): fmt.Sprintln("two", i), fmt.Sprintf("more/%02d.txt", i): "m\n"})
	}
	require.NoError(t, os.Remove(filepath.Join(pier.home, "gauge/many/07.txt")))
	pier.ok("gauge", "", "sync", "--save", "--message", "More")
	launch.write("gauge", map[string]string{"own.txt": "own\n"})
	launch.ok("gauge", "", "save", "Own")
	launch.git("gauge", "fetch", "-q")
	launch.git("gauge", "branch", "there", "origin/main")
	launch.git("gauge", "update-ref", "refs/remotes/origin/main", "before")
	launch.write("gauge", map[string]string{"own2.txt": "own\n", "unsaved.txt": "unsaved\n", "many/tide.log": "ignored\n"})
	launch.git("gauge", "config", "advice.detachedHead", "false")
	kept := filepath.Join(t.TempDir(), "kept")
	launch.command("", "", "cp", "-a", launch.home, kept)
	step := 200 * time.Millisecond
	if os.Getenv("UNCINATE_SOAK") != "" {
		step = 4 * time.Millisecond
	}
	right := map[string]func(t *testing.T, name string){
		"sync --in": func(t *testing.T, name string) {
			assert.Equal(t, "Own\nMore", launch.git("gauge", "log", "-2", "--format=%s"), name)
		},
		"branch switch there": func(t *testing.T, name string) {
			assert.Equal(t, "there", launch.git("gauge", "branch", "--show-current"), name)
		},
		"branch join there": func(t *testing.T, name string) {
			assert.Equal(t, "Merge branch 'there'", launch.git("gauge", "log", "-1", "--format=%s"), name)
		},
		"save Unsaved --only unsaved.txt": func(t *testing.T, name string) {
			assert.Equal(t, "Unsaved", launch.git("gauge", "log", "-1", "--format=%s"), name)
		},
	}
	for line, check := range right {
		for _, all := range []bool{false, true} {
			for n := time.Duration(1); ; n++ {
				if !killedAndAgain(t, launch, kept, line, n, step, all, check) {
					break
				}
			}
		}
	}
}

// TestStatusTellsOfACut looks at a project in which files were being received when that was
// killed, and lets any command go on with it.
func TestStatusTellsOfACut(t *testing.T) {
	linux(t)
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	pier.write("gauge", map[string]string{"more.txt": "m\n", "notes.txt": "theirs\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "More")
	home := filepath.Join(launch.home, "gauge")
	for n := 1; ; n++ {
		require.Less(t, n, 60, "it is never cut off between its moves")
		launch.killAfter(n, "sync", "--folder", home)
		launch.free()
		if journal, err := os.ReadFile(filepath.Join(home, ".git/uncinate/laying/journal.json")); err == nil && strings.Contains(string(journal), `"Ready": true`) {
			break
		}
	}
	said := launch.ok("gauge", "", "status", "--json")
	assert.Contains(t, said, `"cut_off": true`)
	assert.Contains(t, said, `"state": "unfinished"`)
	assert.Contains(t, launch.ok("gauge", "", "status"), "files were being received when that was cut off")
	assert.Contains(t, launch.ok("gauge", "", "status", "--all"), "files were being received when that was cut off")
	r := launch.run("gauge", "", "branch", "make", "any")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "Went on from where it was cut off")
	assert.Equal(t, "More", launch.git("gauge", "log", "-1", "--format=%s"))
	assert.Empty(t, launch.git("gauge", "status", "--porcelain"))
}

// TestRescueBringKilled kills the bringing back of a copy at every step: the same command, run
// once more, ends with 0, and the commits are there.
func TestRescueBringKilled(t *testing.T) {
	linux(t)
	t.Parallel()
	h := newHost(t)
	pier, _, _ := shared(t, h)
	pier.ok("gauge", "", "branch", "make", "task", "--switch")
	for i := range 30 {
		pier.write("gauge", map[string]string{fmt.Sprintf("task/%02d.txt", i): fmt.Sprintln("task", i)})
	}
	pier.ok("gauge", "", "save", "Task")
	tip := pier.id("gauge", "HEAD")
	pier.ok("gauge", "", "branch", "switch", "main")
	pier.ok("gauge", "", "branch", "remove", "task", "--yes")
	pier.git("gauge", "reflog", "expire", "--expire=now", "--all")
	pier.git("gauge", "gc", "-q", "--prune=now")
	kept := filepath.Join(t.TempDir(), "kept")
	pier.command("", "", "cp", "-a", pier.home, kept)
	step := 20 * time.Millisecond
	if os.Getenv("UNCINATE_SOAK") != "" {
		step = 4 * time.Millisecond
	}
	for _, all := range []bool{false, true} {
		for n := time.Duration(1); ; n++ {
			name := fmt.Sprintf("killed after %s, all: %v", n*step, all)
			pier.command("/", "", "rm", "-rf", pier.home)
			pier.command("/", "", "cp", "-a", kept, pier.home)
			killed := pier.killAfterTime("gauge", n*step, all, "rescue", "bring", "1", "--as", "back")
			pier.free()
			r := pier.run("gauge", "", "rescue", "bring", "1", "--as", "back")
			require.Equal(t, 0, r.code, "%s: %s", name, r.err)
			assert.Equal(t, tip, pier.id("gauge", "back"), name)
			pier.git("gauge", "fsck", "--connectivity-only")
			if !killed {
				break
			}
		}
	}
}
