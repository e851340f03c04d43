package sshline_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"uncinate/internal/practice"
	"uncinate/internal/world/sshline"
)

// TestLine runs commands side by side over one connection to a practice host, with the
// right key and the wrong one, the right host key and another.
func TestLine(t *testing.T) {
	h, err := practice.Start("gannet", t.TempDir(), "127.0.0.1:0", nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, h.Close()) })
	_, err = h.Demo()
	require.NoError(t, err)
	at := strings.TrimPrefix(h.URL, "http://")
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	half, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	form := func(passphrase string) []byte {
		block, err := ssh.MarshalPrivateKey(private, "")
		if passphrase != "" {
			block, err = ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte(passphrase))
		}
		require.NoError(t, err)
		return pem.EncodeToMemory(block)
	}
	known := filepath.Join(t.TempDir(), "known_hosts")
	name := "[" + strings.Replace(at, ":", "]:", 1)
	write := func(line string) { require.NoError(t, os.WriteFile(known, []byte(line+"\n"), 0o600)) }
	dial := func(private []byte, passphrase string) error {
		l, err := sshline.Dial(t.Context(), at, "git", private, passphrase, known, 5*time.Second)
		if err == nil {
			require.NoError(t, l.Close())
		}
		return err
	}
	write("")
	assert.ErrorContains(t, dial(form(""), ""), "key is unknown", "a host that is not known is not talked to")
	write(name + " " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(half))))
	assert.ErrorContains(t, dial(form(""), ""), "key mismatch", "nor one that shows another key")
	write(name + " " + h.HostKeyLine())
	assert.ErrorContains(t, dial(form(""), ""), "unable to authenticate", "the host does not know our key yet")
	_, err = h.Store.AddKey(practice.Key{User: "tern", Title: "x", Line: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(half)))})
	require.NoError(t, err)
	require.NoError(t, dial(form(""), ""))
	require.NoError(t, dial(form("seven tall masts"), "seven tall masts"))
	assert.Error(t, dial(form("seven tall masts"), "eight"))
	assert.Error(t, dial([]byte("no key"), ""))

	l, err := sshline.Dial(t.Context(), at, "git", form(""), "", known, 5*time.Second)
	require.NoError(t, err)
	r, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: "gauge", Default: "main", Visibility: "private"})
	require.NoError(t, err)
	require.NotEmpty(t, r.ID)
	var work sync.WaitGroup
	for range 6 {
		work.Go(func() {
			out, err := l.Run(t.Context(), "git-upload-pack '/tern/gauge.git'", map[string]string{"GIT_PROTOCOL": "version=2"}, []byte("0000"))
			assert.NoError(t, err)
			assert.Contains(t, string(out), "version 2")
		})
	}
	work.Wait()
	out, err := l.Run(t.Context(), "git-upload-pack '/tern/none.git'", nil, nil)
	assert.NoError(t, err, "that it ended badly is told by what it printed")
	assert.Empty(t, out)
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = l.Run(stopped, "git-upload-pack '/tern/gauge.git'", nil, nil)
	assert.ErrorIs(t, err, context.Canceled)
	require.NoError(t, l.Close())
	_, err = l.Run(t.Context(), "git-upload-pack '/tern/gauge.git'", nil, nil)
	assert.Error(t, err)
}
