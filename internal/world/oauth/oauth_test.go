package oauth

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/fault"
)

// server answers with metadata, as change leaves them, and by what answer says.
func server(t *testing.T, change func(m map[string]any), answer http.HandlerFunc) string {
	t.Helper()
	var base string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.URL.Path != "/metadata" {
			answer(w, q)
			return
		}
		m := map[string]any{"issuer": base, "token_endpoint": base + "/token", "device_authorization_endpoint": base + "/device", "authorization_endpoint": base + "/authorize", "revocation_endpoint": base + "/revoke"}
		if change != nil {
			change(m)
		}
		assert.NoError(t, json.NewEncoder(w).Encode(m))
	}))
	t.Cleanup(s.Close)
	base = s.URL
	return base
}

func TestSecretsGoNowhereElse(t *testing.T) {
	nobody := func(http.ResponseWriter, *http.Request) { t.Error("nothing was to be asked") }
	for _, key := range []string{"issuer", "token_endpoint", "device_authorization_endpoint", "authorization_endpoint", "revocation_endpoint"} {
		base := server(t, func(m map[string]any) { m[key] = "https://elsewhere.example/x" }, nobody)
		_, err := Discover(t.Context(), http.DefaultTransport, base+"/metadata", "uncinate")
		assert.True(t, fault.Is(err, fault.Refused), "%s: %v", key, err)
	}
	base := server(t, func(m map[string]any) { delete(m, "token_endpoint") }, nobody)
	_, err := Discover(t.Context(), http.DefaultTransport, base+"/metadata", "uncinate")
	assert.True(t, fault.Is(err, fault.Unreachable), err)
	_, err = Discover(t.Context(), http.DefaultTransport, "http://gannet.example/metadata", "uncinate")
	assert.True(t, fault.Is(err, fault.Refused), "plain http to anywhere but this machine: %v", err)
	_, err = Discover(t.Context(), http.DefaultTransport, "http://127.0.0.1:1/metadata", "uncinate")
	assert.True(t, fault.Is(err, fault.Unreachable), err)
	away := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		http.Redirect(w, q, "https://elsewhere.example/", http.StatusFound)
	}))
	t.Cleanup(away.Close)
	_, err = Discover(t.Context(), http.DefaultTransport, away.URL, "uncinate")
	assert.True(t, fault.Is(err, fault.Unreachable), "a redirect is not followed: %v", err)
}

func TestDeviceKeepsTheHostsPace(t *testing.T) {
	var asked []time.Time
	says := []string{"authorization_pending", "slow_down", ""}
	base := server(t, nil, func(w http.ResponseWriter, q *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if q.URL.Path == "/device" {
			_, _ = w.Write([]byte(`{"device_code":"d-5ec3e7","user_code":"BCDF-GHJK","verification_uri":"http://` + q.Host + `/enter","expires_in":60,"interval":1}`))
			return
		}
		asked = append(asked, time.Now())
		assert.Equal(t, "d-5ec3e7", q.PostFormValue("device_code"))
		if say := says[min(len(asked), len(says))-1]; say != "" {
			w.WriteHeader(400)
			_, _ = w.Write([]byte(`{"error":"` + say + `"}`))
			return
		}
		_, _ = w.Write([]byte(`{"access_token":"a","refresh_token":"r","expires_in":3600,"token_type":"bearer"}`))
	})
	s, err := Discover(t.Context(), http.DefaultTransport, base+"/metadata", "uncinate")
	require.NoError(t, err)
	shown := ""
	tok, err := s.ByDevice(t.Context(), []string{"read"}, func(page, code string, until time.Time) { shown = page + " " + code })
	require.NoError(t, err)
	assert.Equal(t, base+"/enter BCDF-GHJK", shown)
	assert.Equal(t, "r", tok.Refresh)
	assert.InDelta(t, time.Hour.Seconds(), time.Until(tok.Ends).Seconds(), 60)
	require.Len(t, asked, 3)
	assert.Greater(t, asked[2].Sub(asked[1]), asked[1].Sub(asked[0]), "asked to slow down, it does")

	ctx, cancel := context.WithCancel(t.Context())
	says, asked = []string{"authorization_pending"}, nil
	_, err = s.ByDevice(ctx, nil, func(string, string, time.Time) { cancel() })
	assert.ErrorIs(t, err, context.Canceled)
}

func TestWhatTheHostSays(t *testing.T) {
	for code, words := range map[string]string{"access_denied": "was not allowed", "expired_token": "not entered in time", "invalid_grant": "the sign-in is over", "invalid_client": "refused the sign-in"} {
		base := server(t, nil, func(w http.ResponseWriter, q *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(400)
			_, _ = w.Write([]byte(`{"error":"` + code + `","error_description":"\u001b[31mno"}`))
		})
		s, err := Discover(t.Context(), http.DefaultTransport, base+"/metadata", "uncinate")
		require.NoError(t, err)
		_, err = s.Refresh(t.Context(), "refresh-5ec3e7")
		assert.True(t, fault.Is(err, fault.HostSaidNo), code)
		assert.ErrorContains(t, err, words)
		assert.NotContains(t, err.Error()+strings.Join(fault.Of(err).Details, ""), "5ec3e7")
		assert.NotContains(t, strings.Join(fault.Of(err).Details, ""), "\x1b")
		assert.Error(t, s.Revoke(t.Context(), "x"))
	}
	base := server(t, func(m map[string]any) {
		for _, k := range []string{"device_authorization_endpoint", "authorization_endpoint", "revocation_endpoint"} {
			delete(m, k)
		}
	}, nil)
	s, err := Discover(t.Context(), http.DefaultTransport, base+"/metadata", "uncinate")
	require.NoError(t, err)
	_, err = s.ByDevice(t.Context(), nil, nil)
	assert.True(t, fault.Is(err, fault.HostSaidNo))
	_, err = s.ByBrowser(t.Context(), nil, nil)
	assert.True(t, fault.Is(err, fault.HostSaidNo))
	assert.True(t, fault.Is(s.Revoke(t.Context(), "x"), fault.HostSaidNo))
}

func TestBrowserChallenges(t *testing.T) {
	base := server(t, nil, func(w http.ResponseWriter, q *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if q.PostFormValue("code") != "c-5ec3e7" || len(q.PostFormValue("code_verifier")) < 43 {
			w.WriteHeader(400)
			_, _ = w.Write([]byte(`{"error":"invalid_grant"}`))
			return
		}
		_, _ = w.Write([]byte(`{"access_token":"a","token_type":"bearer"}`))
	})
	s, err := Discover(t.Context(), http.DefaultTransport, base+"/metadata", "uncinate")
	require.NoError(t, err)
	tok, err := s.ByBrowser(t.Context(), []string{"read"}, func(page string) {
		u, err := url.Parse(page)
		require.NoError(t, err)
		v := u.Query()
		assert.NotEmpty(t, v.Get("code_challenge"))
		go func() {
			r, err := http.Get(v.Get("redirect_uri") + "?code=c-5ec3e7&state=" + v.Get("state"))
			if assert.NoError(t, err) {
				r.Body.Close()
			}
		}()
	})
	require.NoError(t, err)
	assert.Equal(t, "a", tok.Access)
	assert.True(t, tok.Ends.IsZero(), "no end was told")
}
