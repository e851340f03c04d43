package credentials

import (
	"cmp"
	"context"
	"time"

	"uncinate/internal/core/sshkey"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/world/oauth"
)

// Shower shows a person where to sign in.
type Shower interface {
	// Enter shows the page, and the code that is to be entered there until a time.
	Enter(page, code string, until time.Time)
	// Open opens the page in this machine's browser, and shows its address.
	Open(page string)
}

// SignIn signs a person in through the host's own pages, and adds or renews the account.
func SignIn(ctx context.Context, d *desk.Desk, want accounts.Account, way string, show Shower) (*accounts.Account, []string, error) {
	h, err := login.HostWithAccounts(d, want.Host, "")
	if err == nil {
		err = h.SignInWay(way)
	}
	if err != nil {
		return nil, nil, err
	}
	s, err := accounts.SignInServer(ctx, d, h)
	if err != nil {
		return nil, nil, err
	}
	if label := h.SignIn.OAuth.Label; label != "" {
		machine, err := d.Machine()
		if err != nil {
			return nil, nil, err
		}
		s.Call(label, sshkey.Name(cmp.Or(want.Name, want.User, "uncinate"), h.Name, machine))
	}
	scopes := h.LeastScopes(want.Wants()...)
	var t oauth.Token
	if way == oauth.ByDevice {
		t, err = s.ByDevice(ctx, scopes, show.Enter)
	} else {
		t, err = s.ByBrowser(ctx, scopes, show.Open)
	}
	if err != nil {
		return nil, nil, err
	}
	want.OAuth, want.Refresh, want.Ends = true, t.Refresh, t.Ends
	return login.AddAccount(ctx, d, want, t.Access)
}

// revokeSignIn takes an account's sign-in back on the host.
func revokeSignIn(ctx context.Context, d *desk.Desk, l *login.Login) error {
	s, err := accounts.SignInServer(ctx, d, l.Host)
	if err != nil {
		return err
	}
	refresh, found, err := accounts.Secret(ctx, d, l.Account, l.Account.RefreshName(), true)
	if err != nil {
		return err
	}
	if found && refresh != "" {
		if err := s.Revoke(ctx, refresh); err != nil {
			return err
		}
	}
	return s.Revoke(ctx, l.Token)
}
