package vault

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/fault"
)

// quick is a vault whose passphrase is cheap to try.
func quick(t *testing.T, r Ring) *Vault {
	t.Helper()
	v := At(filepath.Join(t.TempDir(), "vault"), filepath.Join(t.TempDir(), "run"), r)
	v.work = 10
	return v
}

func byFile(t *testing.T) *Vault {
	t.Helper()
	v := quick(t, &ring{})
	require.NoError(t, v.Make(t.Context(), ByFile, ""))
	return v
}

func TestPutGetRemove(t *testing.T) {
	v := byFile(t)
	_, found, err := v.Get(t.Context(), "account/tern/token", true)
	require.NoError(t, err)
	assert.False(t, found)
	require.NoError(t, v.Put(t.Context(), map[string]string{"account/tern/token": "canary-secret"}))
	got, found, err := v.Get(t.Context(), "account/tern/token", false)
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
	require.NoError(t, v.Remove(t.Context(), "account/tern/token"))
	_, found, _ = v.Get(t.Context(), "account/tern/token", true)
	assert.False(t, found)
	require.NoError(t, v.Remove(t.Context(), "never there"))
}

func TestManyWritersLoseNothing(t *testing.T) {
	v := byFile(t)
	var wait sync.WaitGroup
	for i := range 12 {
		wait.Go(func() {
			assert.NoError(t, v.Put(t.Context(), map[string]string{fmt.Sprint("secret-", i): fmt.Sprint(i)}))
		})
	}
	wait.Wait()
	for i := range 12 {
		got, _, err := v.Get(t.Context(), fmt.Sprint("secret-", i), true)
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint(i), got)
	}
}

func TestNoVault(t *testing.T) {
	v := At(t.TempDir(), t.TempDir(), &ring{})
	_, found, err := v.Info(t.Context())
	require.NoError(t, err)
	assert.False(t, found)
	_, _, err = v.Get(t.Context(), "x", true)
	assert.True(t, fault.Is(err, fault.Decision))
	assert.Error(t, v.Make(t.Context(), "candle", ""))
	assert.Error(t, v.Make(t.Context(), ByPassphrase, "short"))
	_, found, err = v.Info(t.Context())
	require.NoError(t, err)
	assert.False(t, found, "a vault refused is not half made")
}

func TestChange(t *testing.T) {
	v := byFile(t)
	require.NoError(t, v.Put(t.Context(), map[string]string{"a": "canary-secret"}))
	old, err := os.ReadFile(filepath.Join(v.dir, "identity.key"))
	require.NoError(t, err)
	assert.Error(t, v.Change(t.Context(), ByPassphrase, "short"))
	assert.Error(t, v.Change(t.Context(), "candle", ""))
	got, _, err := v.Get(t.Context(), "a", true)
	require.NoError(t, err, "a change refused leaves all as it was")
	assert.Equal(t, "canary-secret", got)

	require.NoError(t, v.Change(t.Context(), ByPassphrase, "seven tall masts"))
	_, _, err = v.Get(t.Context(), "a", false)
	assert.True(t, fault.Is(err, fault.Decision), "it is locked now")
	assert.NoFileExists(t, filepath.Join(v.dir, "identity.key"))
	assert.NoFileExists(t, filepath.Join(v.dir, "secrets.age"))
	sealed, err := os.ReadFile(filepath.Join(v.dir, "secrets.1.age"))
	require.NoError(t, err)
	before, err := age.ParseX25519Identity(strings.TrimSpace(string(old)))
	require.NoError(t, err)
	_, err = open(sealed, before)
	assert.Error(t, err, "the old key opens it no more")
	assert.True(t, fault.Is(v.Change(t.Context(), ByFile, ""), fault.Decision), "a locked vault is not changed")

	v.AskWith(func() (string, error) { return "seven tall masts", nil })
	require.NoError(t, v.Change(t.Context(), ByPassphrase, "eight tall masts"))
	_, _, err = v.Get(t.Context(), "a", true)
	assert.ErrorIs(t, err, WrongPassphrase)
	v.AskWith(func() (string, error) { return "eight tall masts", nil })
	require.NoError(t, v.Change(t.Context(), ByFile, ""))
	got, _, err = v.Get(t.Context(), "a", false)
	require.NoError(t, err)
	assert.Equal(t, "canary-secret", got)
	require.NoError(t, v.Put(t.Context(), map[string]string{"b": "c"}))

	// A change that was cut off before vault.json was written has left stray files.
	for _, name := range []string{"secrets.4.age", "identity.4.age"} {
		require.NoError(t, os.WriteFile(filepath.Join(v.dir, name), []byte("stray"), 0o600))
	}
	require.NoError(t, v.Change(t.Context(), ByFile, ""))
	got, _, err = v.Get(t.Context(), "b", true)
	require.NoError(t, err)
	assert.Equal(t, "c", got)
}

// TestDamage spoils each of the vault's files in every way. The error names the last
// good copy, and putting that back, as it says, mends all.
func TestDamage(t *testing.T) {
	ways := map[string]func([]byte) []byte{
		"cut":     func(b []byte) []byte { return b[:len(b)/2] },
		"flipped": func(b []byte) []byte { b[len(b)/2] ^= 0x20; return b },
		"empty":   func([]byte) []byte { return nil },
		"gone":    nil,
	}
	for _, by := range []string{ByFile, ByPassphrase} {
		for _, name := range []string{"secrets.age", "identity.key", "identity.age", "vault.json"} {
			if (name == "identity.key") != (by == ByFile) && strings.HasPrefix(name, "identity") || by == ByPassphrase && name == "secrets.age" {
				continue
			}
			for how, damage := range ways {
				v := quick(t, &ring{})
				require.NoError(t, v.Make(t.Context(), by, "seven tall masts"))
				v.AskWith(func() (string, error) { return "seven tall masts", nil })
				require.NoError(t, v.Put(t.Context(), map[string]string{"a": "b"}))
				path := filepath.Join(v.dir, name)
				data, err := os.ReadFile(path)
				require.NoError(t, err)
				switch {
				case name == "vault.json" && how == "flipped":
					data = bytes.Replace(data, []byte("age1"), []byte("age2"), 1)
					require.NoError(t, os.WriteFile(path, data, 0o600))
				case damage == nil:
					require.NoError(t, os.Remove(path))
				default:
					require.NoError(t, os.WriteFile(path, damage(data), 0o600))
				}
				_, _, err = v.Get(t.Context(), "a", true)
				require.Error(t, err, "%s %s %s", by, name, how)
				assert.NotContains(t, err.Error(), "AGE-SECRET-KEY")
				assert.Error(t, v.Put(t.Context(), map[string]string{"c": "d"}), "what is damaged is not written over")
				f := fault.Of(err)
				require.NotEmpty(t, f.Remedies, "%s %s %s: %s", by, name, how, f.Says)
				require.Equal(t, "cp -p -- "+filepath.Join(v.dir, "copies", name)+" "+path, f.Remedies[0].Command, "%s: %v", how, f.Details)
				require.NoError(t, exec.Command("sh", "-c", f.Remedies[0].Command).Run())
				got, _, err := v.Get(t.Context(), "a", true)
				require.NoError(t, err)
				assert.Equal(t, "b", got)
			}
		}
	}
	v := byFile(t)
	for _, path := range []string{filepath.Join(v.dir, "secrets.age"), filepath.Join(v.dir, "copies/secrets.age")} {
		require.NoError(t, os.WriteFile(path, []byte("spoilt"), 0o600))
	}
	_, _, err := v.Get(t.Context(), "a", true)
	assert.Contains(t, fault.Of(err).Details[0], "copy is of no use either")
}

// TestHolder runs the holding process's work inside the test.
func TestHolder(t *testing.T) {
	v := quick(t, &ring{})
	require.NoError(t, v.Make(t.Context(), ByPassphrase, "seven tall masts"))
	id, err := v.Unwrap("seven tall masts")
	require.NoError(t, err)
	_, err = v.Unwrap("seven tall mast")
	assert.ErrorIs(t, err, WrongPassphrase)
	_, _, err = v.Get(t.Context(), "a", true)
	assert.True(t, fault.Is(err, fault.Decision), "locked, and nobody can be asked")
	asked := 0
	v.AskWith(func() (string, error) { asked++; return "seven tall masts", nil })
	require.NoError(t, v.Put(t.Context(), map[string]string{"a": "b"}))
	assert.Equal(t, 1, asked)
	_, _, err = v.Get(t.Context(), "a", false)
	assert.True(t, fault.Is(err, fault.Decision), "silently means that nobody is asked")
	assert.Equal(t, 1, asked)

	require.NoError(t, os.MkdirAll(filepath.Dir(v.socket), 0o700))
	hold := func(until time.Time) chan error {
		task, err := json.Marshal(message{Want: wantHold, Identity: id.String(), Until: until, Socket: v.socket})
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() { ended <- Hold(context.Background(), strings.NewReader(string(task)+"\n")) }()
		return ended
	}
	ended := hold(time.Now().Add(time.Minute))
	require.Eventually(t, func() bool { i, _, _ := v.Info(t.Context()); return i.Open }, 5*time.Second, 5*time.Millisecond)
	got, _, err := v.Get(t.Context(), "a", false)
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
	_, err = askHolder(v.socket, message{Want: wantIdentity})
	assert.True(t, fault.Is(err, fault.Refused))
}

// ring is a keyring in memory.
type ring struct {
	entries map[string]string
	locked  bool
	absent  bool
}

func (r *ring) err(locks bool) error {
	switch {
	case r.absent:
		return fault.New(fault.Failed, "there is no system keyring here")
	case r.locked && locks:
		return fault.New(fault.Decision, "the system's keyring is locked")
	}
	return nil
}
func (r *ring) Open(context.Context) (bool, error) { return !r.locked, r.err(false) }
func (r *ring) Unlock(context.Context) error       { r.locked = false; return r.err(false) }
func (r *ring) Get(_ context.Context, name string, mayAsk bool) (string, error) {
	return r.entries[name], r.err(!mayAsk)
}
func (r *ring) Set(_ context.Context, name, secret string) error {
	if r.entries == nil {
		r.entries = map[string]string{}
	}
	r.entries[name] = secret
	return r.err(true)
}
func (r *ring) Remove(_ context.Context, name string) error {
	delete(r.entries, name)
	return r.err(true)
}

func TestByKeyring(t *testing.T) {
	r := &ring{}
	v := quick(t, r)
	var seen []string
	v.OnSecret(func(s string) { seen = append(seen, s) })
	r.absent = true
	err := v.Make(t.Context(), ByKeyring, "")
	require.Error(t, err)
	assert.Contains(t, fault.Of(err).Remedies[0].Command, "--by passphrase")
	_, found, err := v.Info(t.Context())
	require.NoError(t, err)
	assert.False(t, found)
	r.absent, r.entries = false, nil
	require.NoError(t, v.Make(t.Context(), ByKeyring, ""))
	require.NoError(t, v.Put(t.Context(), map[string]string{"a": "canary-secret"}))
	assert.Contains(t, seen, "canary-secret")
	assert.Len(t, r.entries, 1)
	r.locked = true
	i, _, err := v.Info(t.Context())
	require.NoError(t, err)
	assert.False(t, i.Open)
	_, _, err = v.Get(t.Context(), "a", false)
	assert.True(t, fault.Is(err, fault.Decision))
	require.NoError(t, v.UnlockRing(t.Context()))
	got, _, err := v.Get(t.Context(), "a", false)
	require.NoError(t, err)
	assert.Equal(t, "canary-secret", got)
	require.NoError(t, v.Change(t.Context(), ByFile, ""))
	assert.Empty(t, r.entries, "the keyring keeps nothing that opens nothing")
}

// TestInMemory holds a secret in the process alone.
func TestInMemory(t *testing.T) {
	v := quick(t, &ring{})
	require.NoError(t, os.MkdirAll(filepath.Dir(v.socket), 0o700))
	_, found, err := v.GetInMemory("a")
	require.NoError(t, err)
	assert.False(t, found)
	leader := exec.Command("sleep", "60")
	newSession(leader)
	require.NoError(t, leader.Start())
	task, err := json.Marshal(message{Want: wantKeep, Name: "a", Secret: "canary-secret", Until: time.Now().Add(time.Minute), Leader: leader.Process.Pid, Socket: v.socket})
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() { ended <- Hold(context.Background(), strings.NewReader(string(task)+"\n")) }()
	require.Eventually(t, func() bool { _, found, _ := v.GetInMemory("a"); return found }, 5*time.Second, 5*time.Millisecond)
	require.NoError(t, v.PutInMemory(t.Context(), "/no/program", "b", "second-secret", time.Now().Add(time.Minute)), "one process holds all")
	require.NoError(t, v.PutInMemory(t.Context(), "/no/program", "c", "third-secret", time.Now().Add(-time.Minute)))
	for name, want := range map[string]string{"a": "canary-secret", "b": "second-secret", "c": "", "d": ""} {
		got, _, err := v.GetInMemory(name)
		require.NoError(t, err)
		assert.Equal(t, want, got, name)
	}
	require.NoError(t, leader.Process.Kill())
	_ = leader.Wait()
	got, found, err := v.GetInMemory("a")
	require.NoError(t, err)
	assert.False(t, found, "the session that gave it has ended: %s", got)
	require.NoError(t, v.RemoveInMemory("b"))
	require.NoError(t, <-ended, "nothing is held any more")
	require.NoError(t, v.RemoveInMemory("b"))
}

func TestOthersMayNotWriteInTheFolder(t *testing.T) {
	v := byFile(t)
	require.NoError(t, os.Chmod(v.dir, 0o777))
	_, _, err := v.Get(t.Context(), "a", true)
	assert.True(t, fault.Is(err, fault.Refused))
	assert.Equal(t, "chmod 700 "+v.dir, fault.Of(err).Remedies[0].Command)
}

// TestAPassphraseCosts holds that what ships does not have what tests build the program with.
func TestAPassphraseCosts(t *testing.T) {
	assert.Empty(t, cheap)
}
