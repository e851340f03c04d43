package gitnet

import (
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/gitconfig"
)

func nothing(string) string { return "" }

// TestOf holds that the settings that fit an address best count, as git reads them.
func TestOf(t *testing.T) {
	all := []gitconfig.Setting{
		{Scope: "system", Key: "http.sslcainfo", Value: "/all"},
		{Scope: "global", Key: "http.https://gannet.example/.sslCAInfo", Value: "/gannet"},
		{Scope: "global", Key: "http.https://gannet.example/tern.sslCAInfo", Value: "/tern"},
		{Scope: "global", Key: "http.https://*.example.sslCAInfo", Value: "/star"},
		{Scope: "global", Key: "http.https://gannet.example:8443.proxy", Value: "http://p:1"},
		{Scope: "global", Key: "http.proxy", Value: "http://p:2"},
		{Scope: "global", Key: "http.extraHeader", Value: "A: 1"},
		{Scope: "global", Key: "http.https://gannet.example.extraHeader", Value: "B: 2"},
		{Scope: "global", Key: "http.https://gannet.example.extraHeader", Value: "C: 3"},
		{Scope: "global", Key: "http.https://petrel.example.proxy", Value: ""},
		{Scope: "local", Key: "http.proxy", Value: "http://evil:3"},
		{Scope: "global", Key: "http.https://kelp.example.sslVerify", Value: "false"},
	}
	for at, want := range map[string]Settings{
		"https://gannet.example/knot/gauge":      {CAInfo: "/gannet", Proxy: "http://p:2", ProxySet: true, Headers: []string{"B: 2", "C: 3"}},
		"https://gannet.example/tern/gauge":      {CAInfo: "/tern", Proxy: "http://p:2", ProxySet: true, Headers: []string{"B: 2", "C: 3"}},
		"https://gannet.example/ternery/gauge":   {CAInfo: "/gannet", Proxy: "http://p:2", ProxySet: true, Headers: []string{"B: 2", "C: 3"}},
		"https://gannet.example:8443/tern/gauge": {CAInfo: "/all", Proxy: "http://p:1", ProxySet: true, Headers: []string{"A: 1"}},
		"https://petrel.example/x":               {CAInfo: "/star", ProxySet: true, Headers: []string{"A: 1"}},
		"http://gannet.example/x":                {CAInfo: "/all", Proxy: "http://p:2", ProxySet: true, Headers: []string{"A: 1"}},
		"https://kelp.example/x":                 {CAInfo: "/star", Unverified: true, Proxy: "http://p:2", ProxySet: true, Headers: []string{"A: 1"}},
		"https://a.b.example/x":                  {CAInfo: "/all", Proxy: "http://p:2", ProxySet: true, Headers: []string{"A: 1"}},
	} {
		u, err := url.Parse(at)
		require.NoError(t, err)
		assert.Equal(t, want, Of(all, u, nothing), at)
	}
	u, err := url.Parse("https://gannet.example/x")
	require.NoError(t, err)
	assert.Equal(t, "/variable", Of(all, u, func(n string) string { return map[string]string{"GIT_SSL_CAINFO": "/variable"}[n] }).CAInfo)
	assert.True(t, Of(nil, u, nothing).Plain())
}

// TestProxyFor holds that proxies are taken from where git and curl take them.
func TestProxyFor(t *testing.T) {
	for _, c := range []struct {
		at, setting string
		set         bool
		env         map[string]string
		proxy       string
	}{
		{"https://gannet.example/", "", false, map[string]string{"ALL_PROXY": "socks5://s:1"}, "socks5://s:1"},
		{"https://gannet.example/", "", false, map[string]string{"https_proxy": "http://p:1", "all_proxy": "http://p:2"}, "http://p:1"},
		{"http://gannet.example/", "", false, map[string]string{"HTTP_PROXY": "http://p:1"}, ""},
		{"https://gannet.example/", "http://p:3", true, map[string]string{"https_proxy": "http://p:1"}, "http://p:3"},
		{"https://gannet.example/", "", true, map[string]string{"https_proxy": "http://p:1"}, ""},
		{"https://gannet.example/", "http://p:3", true, map[string]string{"no_proxy": "kelp.example, .example"}, ""},
		{"https://10.1.2.3/", "http://p:3", true, map[string]string{"NO_PROXY": "10.0.0.0/8"}, ""},
	} {
		u, err := url.Parse(c.at)
		require.NoError(t, err)
		got, _ := Settings{Proxy: c.setting, ProxySet: c.set}.ProxyFor(u, func(n string) string { return c.env[n] })
		assert.Equal(t, c.proxy, got, "%v", c)
	}
}
