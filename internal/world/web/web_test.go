package web

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
)

const id = "0123456789012345678901234567890123456789"

func TestParseAdvertisement(t *testing.T) {
	whole := "001e# service=git-upload-pack\n0000" +
		"0066" + id + " HEAD\x00 side-band symref=HEAD:refs/heads/trunk\n" + "003f" + id + " refs/heads/trunk\n" + "003e" + id + " refs/tags/v1^{}\n" + "0000"
	// Let the lengths be right whatever is in the lines.
	whole = relength(whole)
	r, ok := ParseAdvertisement(whole)
	require.True(t, ok)
	assert.Equal(t, "trunk", r.Head)
	assert.Equal(t, map[string]string{"HEAD": id, "refs/heads/trunk": id}, r.IDs)
	empty, ok := ParseAdvertisement(relength("0000# service=git-upload-pack\n00000000" + strings.Repeat("0", 40) + " capabilities^{}\x00agent=git\n0000"))
	assert.True(t, ok)
	assert.True(t, empty.Empty())
	for _, bad := range []string{"", "zzzz", "0003", "00ff" + id, "0010not a line at all", "x", strings.TrimSuffix(whole, "0000")} {
		_, ok := ParseAdvertisement(bad)
		assert.False(t, ok, bad)
	}
}

// relength writes the lines again with their true lengths.
func relength(s string) string {
	var b strings.Builder
	for line := range strings.SplitAfterSeq(s, "\n") {
		for strings.HasPrefix(line, "0000") && len(line) > 4 && !strings.HasPrefix(line[4:], strings.Repeat("0", 30)) {
			if line[4] == '#' {
				break
			}
			b.WriteString("0000")
			line = line[4:]
		}
		if line == "0000" || line == "" {
			b.WriteString(line)
			continue
		}
		if strings.HasPrefix(line, "00000000") {
			b.WriteString("0000")
			line = line[4:]
		}
		n := len(line)
		const hex = "0123456789abcdef"
		b.Write([]byte{'0', '0', hex[n>>4], hex[n&15]})
		b.WriteString(line[4:])
	}
	return b.String()
}

func FuzzParseAdvertisement(f *testing.F) {
	f.Add("0032" + id + " HEAD\n0000")
	f.Fuzz(func(t *testing.T, s string) {
		r, ok := ParseAdvertisement(s)
		for _, v := range r.IDs {
			if len(v) != 40 && len(v) != 64 {
				t.Fatal(ok, v)
			}
		}
	})
}

func client() *Client {
	return New(2*time.Second, "uncinate/test", slog.New(slog.NewTextHandler(io.Discard, nil)))
}

func TestSecretsStayAtTheirAddress(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("the other address was asked") }))
	t.Cleanup(other.Close)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		switch q.URL.Path {
		case "/away":
			http.Redirect(w, q, other.URL+"/steal", http.StatusTemporaryRedirect)
		case "/near":
			http.Redirect(w, q, "/here", http.StatusFound)
		case "/round":
			http.Redirect(w, q, "/round", http.StatusFound)
		case "/cut":
			w.Header().Set("Content-Length", "100")
			_, _ = w.Write([]byte("only this"))
		case "/slow":
			time.Sleep(3 * time.Second)
		}
	}))
	t.Cleanup(s.Close)
	get := func(method, path string) error {
		_, err := client().Do(t.Context(), description.Call{Method: method, URL: s.URL + path, Header: http.Header{"Gannet-Token": {"secret"}}})
		return err
	}
	for path, says := range map[string]string{"/away": "a token is never sent along", "/round": "redirects", "/cut": "the line was cut", "/slow": "did not answer in time"} {
		err := get("GET", path)
		require.True(t, fault.Is(err, fault.Unreachable), path)
		assert.Contains(t, err.Error(), says)
		assert.NotContains(t, err.Error(), "secret")
	}
	_, err := client().Do(t.Context(), description.Call{Method: "GET", URL: "http://127.0.0.1:1/x?token=canary-secret"})
	for cause := err; cause != nil; cause = errors.Unwrap(cause) {
		assert.NotContains(t, cause.Error(), "canary-secret", "an address with a secret in it is not repeated")
	}
	assert.NoError(t, get("GET", "/near"))
	assert.Error(t, get("POST", "/near"), "a request that changes something is not sent twice")
	_, err = client().Do(t.Context(), description.Call{Method: "GET", URL: "http://gannet.example/x"})
	assert.True(t, fault.Is(err, fault.Refused))
	_, err = client().Do(t.Context(), description.Call{Method: "GET", URL: "https://no-such-host.invalid/x"})
	assert.True(t, fault.Is(err, fault.Unreachable))
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = client().Do(stopped, description.Call{Method: "GET", URL: s.URL + "/here"})
	assert.ErrorIs(t, err, context.Canceled)
}
