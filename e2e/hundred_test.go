package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// TestAHundredProjects brings a hundred projects onto an empty machine: one clone, one look,
// one sync.
func TestAHundredProjects(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	seed := newMachine(t)
	seed.project("seed")
	seed.git("seed", "init", "-q", "-b", "main")
	seed.git("seed", "add", "-A")
	seed.git("seed", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "First")
	for i := range 100 {
		owner := "tern"
		if i%4 == 0 {
			owner = "saltmarsh"
		}
		r, err := h.Store.Create(context.Background(), "tern", practice.Repo{Owner: owner, Name: fmt.Sprintf("station-%02d", i), Visibility: "private", Default: "main"})
		require.NoError(t, err)
		seed.git("seed", "push", "-q", h.Store.GitDir(r.ID), "main")
	}
	launch := signedIn(t, h)
	assert.Contains(t, launch.ok("", "", "clone", "--everything", "--into", "work"), "100 repositories cloned.")
	assert.Contains(t, launch.ok("", "", "status", "--all"), "100 projects, all in step.")
	assert.Contains(t, launch.ok("", "", "sync", "--all"), "100 projects: 100 in step already.")
	assert.Equal(t, h.URL+"/saltmarsh/station-04.git", launch.git("work/saltmarsh/station-04", "remote", "get-url", "origin"))
	assert.Empty(t, launch.git("work/tern/station-99", "pull", "-q"))

	// Thirty have moved: they come in, and no more programs run at a time than asked for.
	seed.write("seed", map[string]string{"new.txt": "new\n"})
	seed.git("seed", "add", "-A")
	seed.git("seed", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "Second")
	for i, r := range h.Store.List("tern", "") {
		if i < 30 {
			seed.git("seed", "push", "-q", h.Store.GitDir(r.ID), "main")
		}
	}
	said, most := launch.counted("sync", "--all", "--at-once", "3")
	assert.Contains(t, said, "100 projects: 70 in step already, 30 now in step.")
	assert.LessOrEqual(t, most, 3, "programs at a time")
	assert.Positive(t, most, "some were seen")
}

// counted runs the program, and counts the programs that it has running at a time.
func (m *machine) counted(args ...string) (said string, most int) {
	m.t.Helper()
	linux(m.t)
	var out bytes.Buffer
	c := exec.Command(program, args...)
	c.Dir, c.Env, c.Stdout, c.Stderr = m.home, m.env, &out, &out
	require.NoError(m.t, c.Start())
	ended := make(chan error)
	go func() { ended <- c.Wait() }()
	for {
		select {
		case err := <-ended:
			require.NoError(m.t, err, out.String())
			return out.String(), most
		case <-time.After(time.Millisecond):
		}
		entries, err := os.ReadDir("/proc")
		require.NoError(m.t, err)
		now := 0
		for _, e := range entries {
			stat, err := os.ReadFile(filepath.Join("/proc", e.Name(), "stat"))
			if err != nil {
				continue // no process, or it has ended
			}
			// After the name, in brackets: the state, then the parent (proc manual page).
			rest := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
			if len(rest) > 1 && rest[0] != "Z" && rest[1] == strconv.Itoa(c.Process.Pid) {
				now++
			}
		}
		most = max(most, now)
	}
}
