package e2e

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// inForce reports whether a host takes a token.
func (h *host) inForce(token string) bool { return h.Store.SignIn(token).User != nil }

func TestTokenLife(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	first := h.token["tern"]

	// One that ends soon is warned of, in one line, by every command that uses it.
	require.NoError(t, h.Store.AddToken("plunge~soon_5ec3e7", "tern", practice.GannetScopes, time.Now().Add(9*24*time.Hour+time.Hour)))
	r := m.run("", "plunge~soon_5ec3e7\n", "token", "replace", "tern", "--yes")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "The token needs these scopes: self, look, work, launch, steer, lines.")
	assert.Contains(t, r.err, "Tokens are made at "+h.URL+"/chest/passes")
	assert.False(t, h.inForce(first), "the old one is revoked")
	for _, args := range [][]string{{"status"}, {"sync"}, {"attach", "--yes"}} {
		r := m.run("gauge", "", args...)
		assert.Equal(t, 0, r.code, r.err)
		assert.Equal(t, 1, strings.Count(r.err, "Note: the token of account tern expires on "), "%v: %s", args, r.err)
		assert.Contains(t, r.err, "in 9 days. Replace it: uncinate token replace tern")
	}
	assert.Contains(t, m.command("gauge", "", "git", "fetch").err, "uncinate token replace tern", "plain git hands it on")
	assert.Contains(t, m.ok("", "", "token", "list"), "doubtful  tern")

	// A new one that is no good leaves the old one alone.
	m.refused(5, []string{"does not accept the token", "The token stays as it was"}, "", "plunge~wrong_token\n", "token", "replace", "tern", "--yes")
	assert.True(t, h.inForce("plunge~soon_5ec3e7"))
	m.ok("gauge", "", "sync")

	// One with too many scopes and too long a life is taken, and said so.
	require.NoError(t, h.Store.AddToken("plunge~too_much_5ec3e7", "tern", practice.GannetScopes, time.Now().Add(3*366*24*time.Hour)))
	r = m.run("", "plunge~too_much_5ec3e7\n", "token", "add", "tern")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "a nearer end is safer")
	assert.Contains(t, r.err, "the scopes crew, offers, bells")
	assert.Contains(t, m.ok("", "", "token", "test"), "tern has scopes that nothing here needs: crew, offers, bells")

	require.NoError(t, h.Store.EndToken("plunge~too_much_5ec3e7"))
	r = m.run("", "", "token", "test", "tern")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.out, "the token of account tern has ended")
	m.refused(5, []string{"has ended"}, "gauge", "", "attach", "--yes", "--name", "other", "--remote", "second")

	require.NoError(t, h.Store.AddToken("plunge~last_5ec3e7", "tern", practice.GannetScopes, time.Time{}))
	m.ok("", "plunge~last_5ec3e7\n", "token", "replace", "tern", "--yes")
	m.refused(3, []string{"there is no terminal to ask on"}, "", "", "token", "revoke", "tern")
	assert.Contains(t, m.ok("", "", "token", "revoke", "tern", "--yes"), "no longer accepts the token")
	assert.False(t, h.inForce("plunge~last_5ec3e7"))
	m.refused(3, []string{"the vault holds no token for the account tern", "uncinate account add tern --host gannet"}, "gauge", "", "sync")
	m.refused(2, []string{"Did you mean publish?"}, "", "x\n", "token", "add", "tern", "--may", "publsh")
}

func TestTokenRenewedByTheHost(t *testing.T) {
	t.Parallel()
	h := newHostOf(t, "petrel")
	m := signedIn(t, h)
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes")
	assert.Contains(t, m.ok("", "", "token", "replace", "tern", "--renew", "--preview"), "Ask petrel to replace the token")
	assert.True(t, h.inForce(h.token["tern"]))
	m.ok("", "", "token", "replace", "tern", "--renew", "--yes")
	assert.False(t, h.inForce(h.token["tern"]))
	m.write("gauge", map[string]string{"more": "more"})
	m.git("gauge", "add", "-A")
	m.git("gauge", "commit", "-q", "-m", "More")
	m.git("gauge", "push", "-q")
	require.NoError(t, h.Faults.Set([]string{"cut on /burrow/token"}))
	m.refused(6, []string{"not certain whether the old token is still valid", "uncinate token test tern"}, "", "", "token", "replace", "tern", "--renew", "--yes")
	require.NoError(t, h.Faults.Set(nil))
	assert.Contains(t, m.ok("", "", "token", "test", "tern"), "expires on")

	old := newHostOf(t, "fulmar")
	n := signedIn(t, old)
	n.refused(5, []string{"does not renew tokens by itself", old.URL + "/locker", "uncinate token replace tern"}, "", "", "token", "replace", "tern", "--renew", "--yes")
	n.refused(5, []string{"offers no way to revoke", "uncinate token forget tern"}, "", "", "token", "revoke", "tern", "--yes")
	n.ok("", "", "token", "forget", "tern")
	assert.True(t, old.inForce(old.token["tern"]))
	n.refused(3, []string{"holds no token"}, "", "", "token", "forget", "tern")
}

func TestTokenIsHandedOutKnowingly(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	said := m.refused(3, []string{"This hands out the token itself", "no terminal to ask on", "uncinate token show tern --yes"}, "", "", "token", "show", "tern")
	assert.NotContains(t, said, h.token["tern"])
	r := m.run("", "", "token", "show", "tern", "--yes")
	assert.Equal(t, h.token["tern"]+"\n", r.out)
	assert.NotContains(t, r.err, h.token["tern"])
	m.refused(1, []string{"there is no terminal here"}, "", "", "token", "show", "tern", "--yes", "--clipboard")
	k := m.talk("", "token", "show", "tern", "--yes", "--clipboard")
	code, screen := k.ends()
	assert.Equal(t, 0, code)
	assert.Contains(t, screen, "\x1b]52;c;"+base64.StdEncoding.EncodeToString([]byte(h.token["tern"]))+"\a")
	log, err := os.ReadFile(filepath.Join(m.home, ".uncinate/state/handed-out.log"))
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(string(log), "account tern by "))
	assert.NotContains(t, string(log), h.token["tern"])
}

func TestTokenCopiesAreFound(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	token := h.token["tern"]
	m.write("", map[string]string{"notes/todo.txt": "1\n2\ntoken: " + token + "\n", "notes/clean.txt": "plunge~nothing\n",
		".netrc":  "machine gannet.example login tern password " + token + "\n",
		"curl.sh": "curl -H 'Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte("tern:"+token)) + "'\n"})
	r := m.run("", "", "token", "find", ".")
	assert.Equal(t, 4, r.code)
	for _, words := range []string{"notes/todo.txt:3  plain", ".netrc:1", "curl.sh:1", "as HTTP Basic", "3 tokens found"} {
		assert.Contains(t, r.out, words)
	}
	assert.Contains(t, r.err, "uncinate token replace tern")
	assert.NotContains(t, r.out+r.err, token)
	assert.NotContains(t, r.out, "secrets.age")
	require.NoError(t, os.RemoveAll(filepath.Join(m.home, "notes")))
	for _, name := range []string{".netrc", "curl.sh"} {
		require.NoError(t, os.Remove(filepath.Join(m.home, name)))
	}
	assert.Contains(t, m.ok("", "", "token", "find", "."), "no token found")
	m.refused(1, []string{"there is no folder"}, "", "", "token", "find", "nowhere")
}
