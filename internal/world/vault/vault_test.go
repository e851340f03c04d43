package vault

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/fault"
)

func byFile(t *testing.T) *Vault {
	t.Helper()
	v := At(filepath.Join(t.TempDir(), "vault"), filepath.Join(t.TempDir(), "run"))
	require.NoError(t, v.Make(ByFile, ""))
	return v
}

func TestPutGetRemove(t *testing.T) {
	v := byFile(t)
	_, found, err := v.Get("account/tern/token")
	require.NoError(t, err)
	assert.False(t, found)
	require.NoError(t, v.Put("account/tern/token", "canary-secret"))
	got, found, err := v.GetSilently("account/tern/token")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "canary-secret", got)
	require.NoError(t, filepath.WalkDir(v.dir, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		assert.NotContains(t, string(data), "canary-secret", path)
		return err
	}))
	require.NoError(t, v.Remove("account/tern/token"))
	_, found, _ = v.Get("account/tern/token")
	assert.False(t, found)
	require.NoError(t, v.Remove("never there"))
}

func TestManyWritersLoseNothing(t *testing.T) {
	v := byFile(t)
	var wait sync.WaitGroup
	for i := range 12 {
		wait.Go(func() { assert.NoError(t, v.Put(fmt.Sprint("secret-", i), fmt.Sprint(i))) })
	}
	wait.Wait()
	for i := range 12 {
		got, _, err := v.Get(fmt.Sprint("secret-", i))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint(i), got)
	}
}

func TestNoVault(t *testing.T) {
	v := At(t.TempDir(), t.TempDir())
	_, found, err := v.Info()
	require.NoError(t, err)
	assert.False(t, found)
	_, _, err = v.Get("x")
	assert.True(t, fault.Is(err, fault.Decision))
	assert.Error(t, v.Make("candle", ""))
	assert.Error(t, v.Make(ByPassphrase, "short"))
	_, found, err = v.Info()
	require.NoError(t, err)
	assert.False(t, found, "a vault refused is not half made")
}

func TestChange(t *testing.T) {
	v := byFile(t)
	require.NoError(t, v.Put("a", "canary-secret"))
	old, err := os.ReadFile(filepath.Join(v.dir, "identity.key"))
	require.NoError(t, err)
	assert.Error(t, v.Change(ByPassphrase, "short"))
	assert.Error(t, v.Change("candle", ""))
	got, _, err := v.Get("a")
	require.NoError(t, err, "a change refused leaves all as it was")
	assert.Equal(t, "canary-secret", got)

	require.NoError(t, v.Change(ByPassphrase, "seven tall masts"))
	_, _, err = v.GetSilently("a")
	assert.True(t, fault.Is(err, fault.Decision), "it is locked now")
	assert.NoFileExists(t, filepath.Join(v.dir, "identity.key"))
	assert.NoFileExists(t, filepath.Join(v.dir, "secrets.age"))
	sealed, err := os.ReadFile(filepath.Join(v.dir, "secrets.1.age"))
	require.NoError(t, err)
	before, err := parseIdentity(string(old))
	require.NoError(t, err)
	_, err = open(sealed, before)
	assert.Error(t, err, "the old key opens it no more")
	assert.True(t, fault.Is(v.Change(ByFile, ""), fault.Decision), "a locked vault is not changed")

	v.AskWith(func() (string, error) { return "seven tall masts", nil })
	require.NoError(t, v.Change(ByPassphrase, "eight tall masts"))
	_, _, err = v.Get("a")
	assert.ErrorIs(t, err, WrongPassphrase)
	v.AskWith(func() (string, error) { return "eight tall masts", nil })
	require.NoError(t, v.Change(ByFile, ""))
	got, _, err = v.GetSilently("a")
	require.NoError(t, err)
	assert.Equal(t, "canary-secret", got)
	require.NoError(t, v.Put("b", "c"))

	// A change that was cut off before vault.json was written has left stray files.
	for _, name := range []string{"secrets.4.age", "identity.4.age"} {
		require.NoError(t, os.WriteFile(filepath.Join(v.dir, name), []byte("stray"), 0o600))
	}
	require.NoError(t, v.Change(ByFile, ""))
	got, _, err = v.Get("b")
	require.NoError(t, err)
	assert.Equal(t, "c", got)
}

func TestDamageIsSaid(t *testing.T) {
	for _, name := range []string{"secrets.age", "identity.key", "vault.json"} {
		for how, damage := range map[string]func([]byte) []byte{
			"cut":     func(b []byte) []byte { return b[:len(b)/2] },
			"flipped": func(b []byte) []byte { b[len(b)/2] ^= 0x20; return b },
			"empty":   func([]byte) []byte { return nil },
		} {
			v := byFile(t)
			require.NoError(t, v.Put("a", "b"))
			path := filepath.Join(v.dir, name)
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			if name == "vault.json" && how == "flipped" {
				continue // any byte of it may be a harmless one
			}
			require.NoError(t, os.WriteFile(path, damage(data), 0o600))
			_, _, err = v.Get("a")
			require.Error(t, err, "%s %s", name, how)
			assert.NotContains(t, err.Error(), "AGE-SECRET-KEY")
			assert.Error(t, v.Put("c", "d"), "what is damaged is not written over")
		}
	}
}

// TestHolder runs the holding process's work inside the test.
func TestHolder(t *testing.T) {
	v := At(filepath.Join(t.TempDir(), "vault"), filepath.Join(t.TempDir(), "run"))
	require.NoError(t, v.Make(ByPassphrase, "seven tall masts"))
	id, err := v.Unwrap("seven tall masts")
	require.NoError(t, err)
	_, err = v.Unwrap("seven tall mast")
	assert.ErrorIs(t, err, WrongPassphrase)
	_, _, err = v.Get("a")
	assert.True(t, fault.Is(err, fault.Decision), "locked, and nobody can be asked")
	asked := 0
	v.AskWith(func() (string, error) { asked++; return "seven tall masts", nil })
	require.NoError(t, v.Put("a", "b"))
	assert.Equal(t, 1, asked)
	_, _, err = v.GetSilently("a")
	assert.True(t, fault.Is(err, fault.Decision), "silently means that nobody is asked")
	assert.Equal(t, 1, asked)

	require.NoError(t, os.MkdirAll(filepath.Dir(v.socket), 0o700))
	hold := func(until time.Time) chan error {
		task, err := json.Marshal(message{Identity: id.String(), Until: until, Socket: v.socket})
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() { ended <- Hold(context.Background(), strings.NewReader(string(task)+"\n")) }()
		return ended
	}
	ended := hold(time.Now().Add(time.Minute))
	require.Eventually(t, func() bool { i, _, _ := v.Info(); return i.Open }, 5*time.Second, 5*time.Millisecond)
	got, _, err := v.GetSilently("a")
	require.NoError(t, err)
	assert.Equal(t, "b", got)
	was, err := v.Lock()
	require.NoError(t, err)
	assert.True(t, was)
	require.NoError(t, <-ended)
	was, err = v.Lock()
	require.NoError(t, err)
	assert.False(t, was)

	require.NoError(t, <-hold(time.Now().Add(100*time.Millisecond)), "it ends by itself")
	assert.Error(t, Hold(context.Background(), strings.NewReader("{}\n")))

	// A folder that others could have put there is not trusted.
	require.NoError(t, os.Chmod(filepath.Dir(v.socket), 0o755))
	_, _, err = talkTo(v)
	assert.True(t, fault.Is(err, fault.Refused))
}

func talkTo(v *Vault) (string, time.Time, error) { return askHolder(v.socket) }
