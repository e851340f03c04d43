// Package logintest signs tests in on the practice hosts.
package logintest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/descriptions"
	"uncinate/internal/core/description"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/desktest"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/practice"
)

// Practised starts a practice host and gives its ways to sign tern in, and a token.
func Practised(t *testing.T, name string) (*practice.Running, func(token string) *login.Login, string) {
	t.Helper()
	h, err := practice.Start(name, t.TempDir(), "127.0.0.1:0", nil)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, h.Close()) })
	tokens, err := h.Demo()
	require.NoError(t, err)
	data, err := descriptions.Files.ReadFile(name + ".toml")
	require.NoError(t, err)
	desc, mistakes := description.Load(data)
	require.Empty(t, mistakes)
	desc.Base = h.URL
	d, _ := desktest.New(t)
	return h, func(token string) *login.Login {
		return &login.Login{Desk: d, Host: &hosts.Host{Name: name, At: h.URL, Description: desc}, Account: &accounts.Account{Name: "tern", User: "tern"}, Token: token}
	}, tokens[0].Secret
}
