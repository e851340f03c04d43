package practice

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLargeStorage speaks the batch API as git-lfs does, rightly and wrongly.
func TestLargeStorage(t *testing.T) {
	r, err := Start("gannet", t.TempDir(), "127.0.0.1:0", nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, r.Close()) })
	tokens, err := r.Demo()
	require.NoError(t, err)
	made, err := r.Store.Create(t.Context(), "tern", Repo{Owner: "tern", Name: "moorings", Visibility: "public"})
	require.NoError(t, err)
	secret := map[string]string{}
	for _, k := range tokens {
		secret[k.User] = k.Secret
	}
	ask := func(user, method, at string, body []byte) (int, string) {
		t.Helper()
		q, err := http.NewRequestWithContext(t.Context(), method, r.URL+"/tern/moorings.git/info/lfs/"+at, bytes.NewReader(body))
		require.NoError(t, err)
		if user != "" {
			q.SetBasicAuth(user, secret[user])
		}
		a, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		defer a.Body.Close()
		said, err := io.ReadAll(a.Body)
		require.NoError(t, err)
		return a.StatusCode, string(said)
	}
	data := []byte(strings.Repeat("pier", 1000))
	sum := sha256.Sum256(data)
	oid := hex.EncodeToString(sum[:])
	batch := func(operation, oid string) []byte {
		b, err := json.Marshal(map[string]any{"operation": operation, "objects": []map[string]any{{"oid": oid, "size": len(data)}}})
		require.NoError(t, err)
		return b
	}
	code, said := ask("tern", "POST", "objects/batch", batch("upload", oid))
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, said, `"upload":{"href":"`+r.URL+"/tern/moorings.git/info/lfs/objects/"+oid+`"`)
	code, said = ask("tern", "POST", "objects/batch", batch("download", oid))
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, said, `"code":404`)

	code, said = ask("tern", "PUT", "objects/"+oid, []byte("something else"))
	assert.Equal(t, http.StatusUnprocessableEntity, code, said)
	left, err := filepath.Glob(filepath.Join(r.Store.GitDir(made.ID), "large/*"))
	require.NoError(t, err)
	assert.Empty(t, left, "what is not what it says is not kept")
	code, _ = ask("tern", "PUT", "objects/"+oid, data)
	assert.Equal(t, http.StatusOK, code)
	kept, err := os.ReadFile(filepath.Join(r.Store.GitDir(made.ID), "large", oid))
	require.NoError(t, err)
	assert.Equal(t, data, kept)
	assert.GreaterOrEqual(t, r.Store.Used("tern"), int64(len(data)))
	_, said = ask("tern", "POST", "objects/batch", batch("upload", oid))
	assert.NotContains(t, said, "actions", "it is there already")
	code, said = ask("", "GET", "objects/"+oid, nil)
	assert.Equal(t, http.StatusOK, code)
	assert.Equal(t, string(data), said)

	for _, c := range []struct {
		user, method, at string
		body             []byte
		code             int
	}{
		{"dunlin", "POST", "objects/batch", batch("upload", oid), http.StatusForbidden},
		{"dunlin", "PUT", "objects/" + oid, data, http.StatusForbidden},
		{"tern", "GET", "objects/" + strings.Repeat("0", 64), nil, http.StatusNotFound},
		{"tern", "GET", "objects/..%2f..%2fHEAD", nil, http.StatusNotFound},
		{"tern", "POST", "objects/batch", []byte("{"), http.StatusUnprocessableEntity},
		{"tern", "POST", "locks/verify", []byte("{}"), http.StatusNotFound},
		{"tern", "DELETE", "objects/" + oid, nil, http.StatusNotFound},
	} {
		code, said := ask(c.user, c.method, c.at, c.body)
		assert.Equal(t, c.code, code, "%s %s by %s: %s", c.method, c.at, c.user, said)
	}
	_, said = ask("tern", "POST", "objects/batch", batch("upload", "../../x"))
	assert.Contains(t, said, "no such object can be")
}
