package web

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/address"
	"uncinate/internal/world/git"
)

func pkt(lines ...string) string {
	var b strings.Builder
	for _, l := range lines {
		if l == "flush" {
			b.WriteString("0000")
			continue
		}
		fmt.Fprintf(&b, "%04x%s\n", len(l)+5, l)
	}
	return b.String()
}

func TestParseRefs(t *testing.T) {
	a, b := strings.Repeat("a", 40), strings.Repeat("b", 40)
	refs, ok := ParseRefs(pkt(a+" HEAD symref-target:refs/heads/trunk", a+" refs/heads/trunk", b+" refs/tags/v1 peeled:"+a, "flush"))
	require.True(t, ok)
	assert.Equal(t, Refs{IDs: map[string]string{"HEAD": a, "refs/heads/trunk": a, "refs/tags/v1": b}, Head: "trunk"}, refs)
	refs, ok = ParseRefs(pkt("version 2", "agent=x", "ls-refs=unborn", "flush", a+" refs/heads/trunk", "flush"))
	require.True(t, ok, "as it comes over SSH")
	assert.Equal(t, a, refs.Branch("trunk"))
	refs, ok = ParseRefs(pkt("unborn HEAD symref-target:refs/heads/main", "flush"))
	require.True(t, ok)
	assert.True(t, refs.Empty())
	assert.Equal(t, "main", refs.Head)
	for _, bad := range []string{"", "0000x", "zzzz", "0003", pkt(a + " refs/heads/x"), pkt("version 2", "flush"), pkt("ERR no such thing", "flush"), pkt(a[:39]+" refs/heads/x", "flush"), "ffff" + a} {
		refs, ok = ParseRefs(bad)
		assert.False(t, ok, "%q: an answer that is cut off is not an empty one", bad)
	}
}

// TestListRefs asks servers of several kinds.
func TestListRefs(t *testing.T) {
	id := strings.Repeat("c", 40)
	var seen *http.Request
	var body string
	answer := func(w http.ResponseWriter) {}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		data, _ := io.ReadAll(q.Body)
		seen, body = q, string(data)
		answer(w)
	}))
	defer server.Close()
	c := New(5*time.Second, "test", slog.New(slog.NewTextHandler(io.Discard, nil)))
	at, err := address.Parse(server.URL + "/tern/gauge.git")
	require.NoError(t, err)

	answer = func(w http.ResponseWriter) {
		w.Header().Set("Content-Type", "application/x-git-upload-pack-result")
		_, _ = io.WriteString(w, pkt(id+" refs/heads/main", "flush"))
	}
	refs, ok, err := c.ListRefs(context.Background(), at, "tern", "secret-of-tern")
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, id, refs.Branch("main"))
	assert.Equal(t, "/tern/gauge.git/git-upload-pack", seen.URL.Path)
	assert.Equal(t, "version=2", seen.Header.Get("Git-Protocol"))
	user, secret, _ := seen.BasicAuth()
	assert.Equal(t, "tern secret-of-tern", user+" "+secret)
	// Each line of the request has the length that it says.
	for s := body; len(s) > 0; {
		var n int
		_, err := fmt.Sscanf(s[:4], "%04x", &n)
		require.NoError(t, err)
		require.LessOrEqual(t, n, len(s))
		if n > 4 {
			assert.True(t, strings.HasSuffix(s[:n], "\n"), "%q", s[:n])
		}
		s = s[max(n, 4):]
	}
	for _, other := range []func(http.ResponseWriter){
		func(w http.ResponseWriter) { w.WriteHeader(404) },
		func(w http.ResponseWriter) { w.WriteHeader(401) },
		func(w http.ResponseWriter) { _, _ = io.WriteString(w, "a page") },
		func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", "application/x-git-upload-pack-result")
			_, _ = io.WriteString(w, pkt("ERR not here", "flush"))
		},
	} {
		answer = other
		_, ok, err = c.ListRefs(context.Background(), at, "", "")
		require.NoError(t, err)
		assert.False(t, ok, "the older way is asked next")
		assert.Empty(t, seen.Header.Get("Authorization"))
	}
}

// FuzzParseRefs holds that no answer breaks the reader.
func FuzzParseRefs(f *testing.F) {
	f.Add(pkt(strings.Repeat("a", 40)+" refs/heads/x", "flush"))
	f.Add(pkt("version 2", "flush"))
	f.Fuzz(func(t *testing.T, s string) {
		refs, ok := ParseRefs(s)
		for name, id := range refs.IDs {
			if ok && (!git.IsID(id) || strings.ContainsAny(name, " ")) {
				t.Fatalf("%q %q", name, id)
			}
		}
	})
}
