package login_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/login/logintest"
	"uncinate/internal/practice"
	"uncinate/internal/world/vault"
)

func TestAGivenTokenTakesAnOlderSignInsPlace(t *testing.T) {
	_, signIn, token := logintest.Practised(t, "gannet")
	l := signIn(token)
	d := l.Desk
	a := &accounts.Account{Name: "tern", Host: "gannet", User: "tern", OAuth: true, Refresh: "renews-it"}
	require.NoError(t, d.Vault.Make(t.Context(), vault.ByFile, ""))
	require.NoError(t, accounts.KeepAccount(t.Context(), d, a, token))
	kept, found, err := d.Vault.Get(t.Context(), a.RefreshName(), false)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "renews-it", kept)

	a.Refresh = "" // the host gave no new one when it renewed the token
	require.NoError(t, accounts.Store(t.Context(), d, a, token))
	_, found, err = d.Vault.Get(t.Context(), a.RefreshName(), false)
	require.NoError(t, err)
	assert.True(t, found, "the older one renews it still")

	given := &accounts.Account{Name: "tern", Host: "gannet", User: "tern"}
	require.NoError(t, accounts.KeepAccount(t.Context(), d, given, token))
	_, found, err = d.Vault.Get(t.Context(), a.RefreshName(), false)
	require.NoError(t, err)
	assert.False(t, found)
}

// TestListsAreAskedWhetherTheyChanged counts what the host sends the second time.
func TestListsAreAskedWhetherTheyChanged(t *testing.T) {
	h, signIn, token := logintest.Practised(t, "gannet")
	for i := range 150 {
		_, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: fmt.Sprintf("gauge-%03d", i), Visibility: "private"})
		require.NoError(t, err)
	}
	for range 2 {
		l := signIn(token)
		var statuses []int
		l.Trace = func(x login.Exchange) { statuses = append(statuses, x.Answer.Status) }
		all, err := l.Repositories(t.Context(), "")
		require.NoError(t, err)
		assert.Len(t, all, 150)
		assert.Equal(t, []int{200, 200}, statuses)
	}
	_, err := h.Store.Change(t.Context(), "tern", "tern", "gauge-003", 0, func(r *practice.Repo) error { r.Description = "changed"; return nil })
	require.NoError(t, err)
	all, err := signIn(token).Repositories(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, "changed", all[3].Description, "what changed is told again")
}
