package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// watches starts deploy watch, and gives what it says; it is interrupted at the test's end, and has to end well.
func (m *machine) watches(env []string, args ...string) *saying {
	m.t.Helper()
	c := exec.Command(program, append([]string{"deploy", "watch"}, args...)...)
	out := &saying{}
	c.Dir, c.Env, c.Stdout, c.Stderr = m.home, append(m.env[:len(m.env):len(m.env)], env...), out, out
	require.NoError(m.t, c.Start())
	out.process = c
	m.t.Cleanup(func() {
		require.NoError(m.t, c.Process.Signal(os.Interrupt))
		require.NoError(m.t, c.Wait(), out.String())
	})
	require.Eventually(m.t, func() bool { return strings.Contains(out.String(), "Following ") }, 10*time.Second, 10*time.Millisecond)
	return out
}

// saying is what a program says while it runs.
type saying struct {
	mu      sync.Mutex
	b       bytes.Buffer
	process *exec.Cmd
}

func (s *saying) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *saying) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// soon holds that a commit is in use within so long.
func (m *machine) soon(commit, folder string, within time.Duration) {
	m.t.Helper()
	began := time.Now()
	require.Eventually(m.t, func() bool { now, _ := m.live(folder, "level.txt"); return now == commit }, within+10*time.Second, 5*time.Millisecond)
	m.t.Logf("%s was in use after %s", commit[:10], time.Since(began).Round(time.Millisecond))
}

// given are the ports that free has given.
var given sync.Map

// free gives a loopback address that nothing listens on, and that stays free until whoever asked
// listens there: each port is given once, and lies below those that the system takes by itself for
// connections. It is called, not listened on: a program that is started at that moment would hold it on.
func free(t *testing.T) string {
	t.Helper()
	for range 10000 {
		port := 10000 + rand.IntN(20000)
		if _, was := given.LoadOrStore(port, true); was {
			continue
		}
		at := fmt.Sprintf("127.0.0.1:%d", port)
		c, err := net.Dial("tcp", at)
		if err != nil {
			return at
		}
		require.NoError(t, c.Close())
	}
	t.Fatal("no port is free")
	return ""
}

// again starts a host that was closed, where it was: what it listened on is held for a moment by a program that was being
// started when it closed.
func again(name, dir, at string) (h *practice.Running, err error) {
	for range 500 {
		if h, err = practice.Start(name, dir, at, nil); !errors.Is(err, syscall.EADDRINUSE) {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	return h, err
}

// TestDeployHook lets gannet and petrel ring by their web hooks: a push is in use at once; a call that is wrong, old or
// repeated, or too large, rings nothing, and many of them are refused unread.
func TestDeployHook(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"gannet", "petrel"} {
		h := newHostOf(t, name)
		hut := signedInAs(t, h, "tern")
		hut.alone = true
		hut.board("board")
		hut.ok("board", "", "attach", "--yes")
		hut.ok("", "", "deploy", "make", "tern/board", "srv", "--over", "https", "--yes")
		hut.ok("", "", "deploy", "approve", "--yes")
		at := free(t)
		hut.refused(3, []string{"no host was told to ring here yet"}, "", "", "deploy", "watch", "--listen", at)
		hut.refused(2, []string{"its path ends with srv"}, "", "", "deploy", "hook", "srv", "--at", "http://"+at+"/other")
		hut.refused(2, []string{"is not an https address"}, "", "", "deploy", "hook", "srv", "--at", "http://elsewhere.example/srv")
		for range 2 { // once more makes no second one
			hut.ok("", "", "deploy", "hook", "srv", "--at", "http://"+at+"/hooks/srv", "--yes")
		}
		bells, err := h.Store.Bells("tern", "tern", "board")
		require.NoError(t, err)
		require.Len(t, bells, 1)
		hut.refused(2, []string{"is not a loopback address"}, "", "", "deploy", "watch", "--listen", "0.0.0.0:1")
		out := hut.watches(nil, "--every", "10m", "--listen", at)
		time.Sleep(time.Second) // since the run that it began with
		newest := hut.pushes("board", "Rising", map[string]string{"level.txt": "3.42\n"})
		hut.soon(newest, "srv", time.Second)

		body := []byte(`{"where":"tern/board"}`)
		call := func(secret string, when time.Time, body []byte) int {
			q, err := http.NewRequest(http.MethodPost, "http://"+at+"/hooks/srv", bytes.NewReader(body))
			require.NoError(t, err)
			practice.Sign(name, secret, q.Header, body, when)
			r, err := http.DefaultClient.Do(q)
			if err != nil { // it was closed unread
				return 0
			}
			require.NoError(t, r.Body.Close())
			return r.StatusCode
		}
		now := time.Now()
		assert.Equal(t, 403, call("another-secret-of-somebody", now, body), name)
		assert.Equal(t, 204, call(bells[0].Secret, now, body), name)
		assert.Equal(t, 403, call(bells[0].Secret, now, body), "%s: repeated", name)
		if name == "gannet" {
			assert.Equal(t, 403, call(bells[0].Secret, now.Add(-time.Hour), body), "old")
		}
		assert.Equal(t, 413, call(bells[0].Secret, now, bytes.Repeat([]byte("x"), 64<<10+1)), name)
		refused := 0
		for range 300 {
			if call("another-secret-of-somebody", now, body) != 403 {
				refused++
			}
		}
		assert.Positive(t, refused, "above a hundred wrong ones in a second they are refused unread")
		assert.NotContains(t, out.String()+hut.read("srv.uncinate/state.json"), bells[0].Secret)
		hut.ok("", "", "deploy", "remove", "srv", "--yes")
		bells, err = h.Store.Bells("tern", "tern", "board")
		require.NoError(t, err)
		assert.Empty(t, bells, name)
	}
}

// TestDeployRing rings by git's hook post-receive on a plain server, after what was there, and holds no push up; the
// service manager hears that it is ready and that it works.
func TestDeployRing(t *testing.T) {
	t.Parallel()
	needs(t, "systemd-analyze", "systemd")
	s := newPlainSSH(t)
	hut := newMachine(t)
	hut.alone = true
	bare := filepath.Join(s.dir, "board.git")
	hut.command("", "", "git", "init", "-q", "--bare", "-b", "main", bare)
	hut.board("board")
	hut.git("board", "init", "-q", "-b", "main")
	hut.git("board", "config", "user.name", "Tern")
	hut.git("board", "config", "user.email", "tern@gannet.example")
	hut.git("board", "add", "-A")
	hut.git("board", "commit", "-q", "-m", "First")
	hut.git("board", "push", "-q", bare, "main")
	hut.ok("", "", "host", "pin", "127.0.0.1:"+s.port, "--fingerprint", s.fingerprint())
	said := hut.refused(3, []string{"the host does not know this key yet"}, "", "", "deploy", "make", s.at+bare, "srv", "--yes")
	line := said[strings.Index(said, "ssh-ed25519 "):]
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "authorized_keys"), []byte(line[:strings.Index(line, "\n")+1]), 0o600))
	hut.ok("", "", "deploy", "make", s.at+bare, "srv", "--yes")
	hut.ok("", "", "deploy", "approve", "--yes")

	before := filepath.Join(s.dir, "before")
	require.NoError(t, os.WriteFile(filepath.Join(bare, "hooks/post-receive"), []byte("#!/bin/sh\ncat >"+before+"\n"), 0o755))
	for range 2 {
		hut.ok("", "", "deploy", "ring", "srv", "--after-push", bare)
	}
	socket := filepath.Join(hut.home, "notify")
	manager, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: socket, Net: "unixgram"})
	require.NoError(t, err)
	defer manager.Close()
	hut.watches([]string{"NOTIFY_SOCKET=" + socket, "WATCHDOG_USEC=400000"}, "--every", "10m")
	heard := ""
	for i := range 3 {
		buffer := make([]byte, 100)
		require.NoError(t, manager.SetReadDeadline(time.Now().Add(5*time.Second)))
		n, err := manager.Read(buffer)
		require.NoError(t, err, "message %d", i)
		heard += string(buffer[:n]) + " "
	}
	assert.Equal(t, "READY=1 WATCHDOG=1 WATCHDOG=1 ", heard)
	hut.write("board", map[string]string{"level.txt": "3.42\n"})
	hut.git("board", "commit", "-q", "-a", "-m", "Rising")
	time.Sleep(time.Second)
	hut.git("board", "push", "-q", bare, "main")
	hut.soon(hut.git("board", "rev-parse", "HEAD"), "srv", time.Second)
	data, err := os.ReadFile(before)
	require.NoError(t, err)
	assert.Contains(t, string(data), "refs/heads/main", "what was there before was run, with what git tells it")
	hut.write("board", map[string]string{"level.txt": "3.43\n"})
	hut.git("board", "commit", "-q", "-a", "-m", "Higher")
	require.NoError(t, os.Remove(filepath.Join(bare, "hooks/post-receive")))
	hut.git("board", "push", "-q", bare, "main")
	time.Sleep(time.Second)
	hut.ok("", "", "deploy", "ring")
	hut.soon(hut.git("board", "rev-parse", "HEAD"), "srv", time.Second)

	hut.unitIsSound()
}

// unitIsSound has systemd itself look at the unit that is printed.
func (m *machine) unitIsSound() {
	t := m.t
	t.Helper()
	unit := m.ok("", "", "deploy", "unit", "--every", "30s")
	assert.Contains(t, unit, fmt.Sprintf("ReadWritePaths=%s\n", m.home))
	require.NoError(t, os.WriteFile(filepath.Join(m.home, "uncinate-deploy.service"), []byte(unit), 0o600))
	checked, err := exec.Command("systemd-analyze", "verify", filepath.Join(m.home, "uncinate-deploy.service")).CombinedOutput()
	require.NoError(t, err, string(checked))
	assert.NotContains(t, string(checked), "uncinate-deploy.service:", "not a word against it")
}
