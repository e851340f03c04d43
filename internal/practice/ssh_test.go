package practice

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// pair makes a key: what signs, and its public line.
func pair(t *testing.T) (ssh.Signer, string) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return signer, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
}

// asks signs in with a key and runs one command; what comes back begins as git's server
// programs begin, if it was let in.
func asks(h *Running, user string, key ssh.Signer, command string) (string, error) {
	c, err := ssh.Dial("tcp", strings.TrimPrefix(h.URL, "http://"), &ssh.ClientConfig{User: user, Auth: []ssh.AuthMethod{ssh.PublicKeys(key)},
		HostKeyCallback: ssh.FixedHostKey(h.ssh.signer.PublicKey()), Timeout: 10 * time.Second})
	if err != nil {
		return "", err
	}
	defer c.Close()
	s, err := c.NewSession()
	if err != nil {
		return "", err
	}
	in, err := s.StdinPipe()
	if err != nil {
		return "", err
	}
	in.Close()
	out, err := s.CombinedOutput(command)
	return string(out), err
}

func TestSSH(t *testing.T) {
	h, err := Start("gannet", t.TempDir(), "127.0.0.1:0", nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, h.Close()) })
	_, err = h.Demo()
	require.NoError(t, err)
	keys := map[string]ssh.Signer{}
	add := func(name string, k Key) {
		signer, line := pair(t)
		k.Line, k.Title = line, name
		_, err := h.Store.AddKey(k)
		require.NoError(t, err)
		keys[name] = signer
	}
	board, err := h.Store.Create(t.Context(), "tern", Repo{Owner: "saltmarsh", Name: "board", Visibility: "private"})
	require.NoError(t, err)
	_, err = h.Store.Create(t.Context(), "tern", Repo{Owner: "tern", Name: "own", Visibility: "private"})
	require.NoError(t, err)
	for _, user := range []string{"tern", "knot", "dunlin"} {
		add(user, Key{User: user})
	}
	add("reads", Key{User: "tern", Repo: board.ID})
	add("writes", Key{User: "tern", Repo: board.ID, Writes: true})
	add("signs", Key{User: "tern", Signs: true})
	keys["nobody"], _ = pair(t)

	for who, may := range map[string]struct{ read, write, own bool }{
		"tern": {true, true, true}, "knot": {true, true, false}, "dunlin": {true, false, false},
		"reads": {true, false, false}, "writes": {true, true, false}, "signs": {}, "nobody": {},
	} {
		for command, allowed := range map[string]bool{"git-upload-pack '/saltmarsh/board.git'": may.read, "git-upload-pack 'saltmarsh/board'": may.read,
			"git-receive-pack '/saltmarsh/board.git'": may.write, "git-upload-pack '/tern/own.git'": may.own} {
			out, err := asks(h, "git", keys[who], command)
			served := strings.Contains(out, "0000") || strings.Contains(out, "capabilities^{}") // what git's own programs say first
			assert.Equal(t, allowed, served, "%s: %s: %q %v", who, command, out, err)
		}
	}
	for _, command := range []string{"sh -c id", "git-upload-pack '/saltmarsh/board.git'; id", "git-upload-pack /saltmarsh/board.git", "git-upload-archive '/saltmarsh/board.git'", "git-upload-pack '/../board.git'", "git-upload-pack '"} {
		out, err := asks(h, "git", keys["tern"], command)
		assert.Error(t, err, command)
		assert.True(t, strings.Contains(out, "only git is served here") || strings.Contains(out, "no such repository"), "%s: %q", command, out)
	}
	_, err = asks(h, "tern", keys["tern"], "git-upload-pack '/saltmarsh/board.git'")
	assert.Error(t, err, "the user is git")
	r, err := http.Get(h.URL + "/openapi.yaml")
	require.NoError(t, err)
	assert.Equal(t, 200, r.StatusCode, "HTTP is served on the same port")
	require.NoError(t, r.Body.Close())
	assert.Contains(t, strings.Join(h.SSHLog(), "\n"), "git-receive-pack saltmarsh/board by deploy key writes with "+ssh.FingerprintSHA256(keys["writes"].PublicKey()))

	// It misbehaves when it is told to.
	for _, kind := range []string{"fail", "cut", "lose", "delay=20ms"} {
		require.NoError(t, h.Faults.Set([]string{kind + " on SSH times 1"}))
		began := time.Now()
		out, err := asks(h, "git", keys["tern"], "git-receive-pack '/saltmarsh/board.git'")
		assert.Len(t, h.Faults.Log(), 1, kind)
		switch kind {
		case "fail":
			assert.Contains(t, out, "gannet: fail on SSH", fmt.Sprint(err))
		case "cut":
			assert.Error(t, err)
			assert.NotContains(t, out, "capabilities")
		case "delay=20ms":
			assert.Greater(t, time.Since(began), 20*time.Millisecond)
		}
		require.NoError(t, h.Faults.Set(nil))
		h.Faults.log = nil
	}
	_, err = h.Store.AddKey(Key{User: "knot", Line: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(keys["tern"].PublicKey())))})
	assert.ErrorContains(t, err, "in use already, by tern")
}
