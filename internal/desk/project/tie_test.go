package project

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/address"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/desktest"
	"uncinate/internal/world/git"
)

func TestIncludeNamesTheHelperSafely(t *testing.T) {
	d, _ := desktest.New(t)
	at, err := address.Parse("https://gannet.example/tern/gauge.git")
	require.NoError(t, err)
	h := &Tie{Desk: d, Address: at, Account: &accounts.Account{Name: "tern"}, Rewrite: true}
	text := h.includeText()
	path := filepath.Join(t.TempDir(), "config")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	g, err := git.Find(t.Context(), "", d.Log)
	require.NoError(t, err)
	for _, suffix := range []string{"", ".git"} {
		out, err := g.Run(t.Context(), git.Cmd{Args: []string{"config", "--file", path, "--get-all", "-z", "credential.https://gannet.example/tern/gauge" + suffix + ".helper"}})
		require.NoError(t, err)
		assert.Equal(t, []string{"", `!'/opt/it'\''s here/uncinate' credential --account tern --for https://gannet.example/tern/gauge`}, append([]string{""}, git.SplitNUL(out)[1:]...), "git reads back what was meant")
	}
}

func TestRewrites(t *testing.T) {
	at, err := address.Parse("https://gannet.example/tern/gauge.git")
	require.NoError(t, err)
	for key, c := range map[string]struct {
		value string
		hit   bool
	}{
		"url.ssh://x/.insteadOf":                              {"https://gannet.example/", true},
		"url.ssh://x/.pushInsteadOf":                          {"https://gannet.example/tern/", true},
		"url.ssh://y/.insteadof":                              {"https://gannet.example/knot/", false},
		"url.https://gannet.example/tern/gauge.git.insteadOf": {"https://gannet.example/tern/gauge.git", false},
		"user.name":              {"https://gannet.example/", false},
		"url.ssh://z/.insteadOf": {"", false},
	} {
		got := Rewrites([]git.Setting{{Scope: "global", Key: key, Value: c.value}}, at)
		assert.Equal(t, c.hit, got != nil, key)
	}
}
