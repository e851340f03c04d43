package openssh

import (
	"bytes"
	"context"
	"crypto/rand"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh/agent"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshkey"
)

// fakeSSH puts a shell script in the client's place.
func fakeSSH(t *testing.T, script string) *Client {
	t.Helper()
	path := filepath.Join(t.TempDir(), "ssh")
	require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+script), 0o755))
	return &Client{Path: path}
}

func TestRun(t *testing.T) {
	t.Setenv("SSH_ASKPASS", "/somebody/else")
	c := fakeSSH(t, `echo "$@"; echo "asks ${SSH_ASKPASS-nobody}" >&2; cat; exit 3`)
	r, err := c.Run(t.Context(), Cmd{Args: append([]string{"-T"}, Target("git", "skerry.example:2222")...), In: strings.NewReader("in")})
	require.NoError(t, err)
	assert.Equal(t, 3, r.Code)
	assert.Equal(t, "-T -p 2222 -l git -- skerry.example\nin", string(r.Out))
	assert.Equal(t, "asks nobody\n", r.Errs)

	_, err = fakeSSH(t, "exec sleep 20").Run(t.Context(), Cmd{Limit: 100 * time.Millisecond})
	assert.True(t, fault.Is(err, fault.Unreachable), "%v", err)
	_, err = fakeSSH(t, "yes | head -c 9000000").Run(t.Context(), Cmd{})
	assert.ErrorContains(t, err, "answers with more than")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = fakeSSH(t, "exec sleep 20").Run(ctx, Cmd{})
	assert.ErrorIs(t, err, context.Canceled)
	_, err = (&Client{Path: "/nowhere/ssh"}).Run(t.Context(), Cmd{})
	assert.ErrorContains(t, err, "cannot be run")
	t.Setenv("PATH", t.TempDir())
	_, err = Find(nil)
	assert.ErrorContains(t, err, "not installed")
}

func TestSession(t *testing.T) {
	s, err := fakeSSH(t, `echo "Welcome"; exec sh -s`).Start(t.Context(), Cmd{})
	require.NoError(t, err)
	out, line, err := s.Ask(t.Context(), "echo one; echo m1-end done\n", "m1-end ", time.Second*10)
	require.NoError(t, err)
	assert.Equal(t, "Welcome\none\n", string(out))
	assert.Equal(t, "m1-end done\n", line)
	out, _, err = s.Ask(t.Context(), "printf 'xm2-end no\\nyes\\n'; echo m2-end done\n", "m2-end ", time.Second*10)
	require.NoError(t, err)
	assert.Equal(t, "xm2-end no\nyes\n", string(out), "the mark is at a line's beginning")
	_, _, err = s.Ask(t.Context(), "exit 255\n", "m3-end ", time.Second*10)
	assert.ErrorIs(t, err, ErrEnded)
	assert.Equal(t, 255, s.Code())
	_, _, err = s.Ask(t.Context(), "echo\n", "m4-end ", time.Second*10)
	assert.ErrorIs(t, err, ErrEnded)

	s, err = fakeSSH(t, "exec sh -s").Start(t.Context(), Cmd{})
	require.NoError(t, err)
	_, _, err = s.Ask(t.Context(), "sleep 20\n", "m-end ", 100*time.Millisecond)
	assert.True(t, fault.Is(err, fault.Unreachable), "%v", err)
	s, err = fakeSSH(t, "yes").Start(t.Context(), Cmd{})
	require.NoError(t, err)
	_, _, err = s.Ask(t.Context(), "", "m-end ", 20*time.Second)
	assert.ErrorContains(t, err, "answers with more than")
	s.Close()
	s.Close()
}

func TestUnreachable(t *testing.T) {
	for said, why := range map[string]string{"ssh: connect to host x port 22: Connection refused": "nothing listens there", "ssh: Could not resolve hostname x": "no host of that name",
		"Connection closed by 127.0.0.1": "the line was cut", "kex_exchange_identification: banner line contains invalid characters": "does not speak SSH", "\x1b[31mwhat": "the connection failed"} {
		err := Unreachable("skerry.example", said)
		assert.ErrorContains(t, err, why)
		assert.True(t, fault.Is(err, fault.Unreachable))
		assert.NotContains(t, strings.Join(fault.Of(err).Details, ""), "\x1b")
	}
}

// TestAgent talks with an agent of the library's own, over a socket.
func TestAgent(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "agent")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	ring := agent.NewKeyring()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _ = agent.ServeAgent(ring, c); c.Close() }()
		}
	}()
	t.Setenv("SSH_AUTH_SOCK", socket)
	a, err := FindAgent()
	require.NoError(t, err)
	private, public, err := sshkey.Make("ed25519", "tern, machine pier", "seven tall masts", rand.Reader)
	require.NoError(t, err)
	assert.ErrorContains(t, a.Add(private, "another", "x", time.Hour), "cannot be opened")
	require.NoError(t, a.Add(private, "seven tall masts", public.Comment, time.Hour))
	keys, err := a.Keys()
	require.NoError(t, err)
	require.Len(t, keys, 1)
	assert.True(t, keys[0].Same(public))
	assert.Equal(t, "tern, machine pier", keys[0].Comment)
	require.NoError(t, a.Add(private, "seven tall masts", public.Comment, time.Second))
	require.NoError(t, a.Remove(public))
	require.NoError(t, a.Remove(public), "one that it has not is fine")
	keys, err = a.Keys()
	require.NoError(t, err)
	assert.Empty(t, keys)
	require.NoError(t, ring.Lock([]byte("x")))
	assert.Error(t, a.Add(private, "seven tall masts", "x", time.Hour), "a locked agent refuses")
	t.Setenv("SSH_AUTH_SOCK", socket+"-gone")
	a, err = FindAgent()
	require.NoError(t, err)
	_, err = a.Keys()
	assert.ErrorContains(t, err, "does not answer")
	t.Setenv("SSH_AUTH_SOCK", "")
	_, err = FindAgent()
	assert.ErrorIs(t, err, ErrNoAgent)
}

func TestKnown(t *testing.T) {
	dir := t.TempDir()
	_, public, err := sshkey.Make("ed25519", "", "", rand.Reader)
	require.NoError(t, err)
	file := filepath.Join(dir, "known_hosts")
	require.NoError(t, os.WriteFile(file, []byte("# comment\nskerry.example "+public.Line()+"\n[skerry.example]:2222 "+public.Line()+"\n@revoked gone.example "+public.Line()+"\n"), 0o600))
	for host, n := range map[string]int{"skerry.example": 1, "skerry.example:22": 1, "skerry.example:2222": 1, "skerry.example:23": 0, "other.example": 0, "gone.example": 0} {
		keys, err := Known(t.Context(), file, host)
		require.NoError(t, err)
		assert.Len(t, keys, n, host)
		for _, k := range keys {
			assert.True(t, bytes.Equal(k.Blob, public.Blob))
		}
	}
	keys, err := Known(t.Context(), filepath.Join(dir, "none"), "skerry.example")
	require.NoError(t, err)
	assert.Empty(t, keys)
}
