package accounts

import (
	"context"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/world/oauth"
)

// SignInServer finds the host's OAuth endpoints (RFC 8414), as its description says.
func SignInServer(ctx context.Context, d *desk.Desk, h *hosts.Host) (*oauth.Server, error) {
	at, err := h.Expand(h.SignIn.OAuth.Metadata, nil)
	if err != nil {
		return nil, fault.New(fault.Failed, "the address of %s's sign-in cannot be made", h.Name).Because(err)
	}
	if !h.Trusts(at) {
		return nil, fault.New(fault.Refused, "the description of %s sends you elsewhere to sign in: %s", h.Name, text.Excerpt(at, 80))
	}
	return oauth.Discover(ctx, d.Web.Transport(), at, h.SignIn.OAuth.Client)
}

// renewsWithin is how long before its end an access token is renewed.
const renewsWithin = 2 * time.Minute

// renew gets a new access token for an account that signed in through the host's pages.
// Of several processes one does it; the others take what it got.
func renew(ctx context.Context, d *desk.Desk, a *Account, mayAsk bool) (_ string, err error) {
	held, err := d.Wait(ctx, "renew-"+a.Name, "the sign-in of account "+a.Name)
	if err != nil {
		return "", err
	}
	defer fault.Also(&err, held.Release)
	now, err := Named(d, a.Name)
	if err != nil {
		return "", err
	}
	if now.Expires.Sub(d.Now()) > renewsWithin {
		*a = *now
		token, _, err := Secret(ctx, d, a, a.secretName(), mayAsk)
		return token, err
	}
	refresh, found, err := Secret(ctx, d, a, a.RefreshName(), mayAsk)
	if err != nil {
		return "", err
	}
	over := func(why string) error {
		return fault.New(fault.HostSaidNo, "the sign-in of account %s is over: %s", a.Name, why).
			Try("sign in again", a.Again())
	}
	if !found || refresh == "" {
		return "", over("the host gave nothing to renew it by")
	}
	h, err := HostOf(d, a)
	if err != nil {
		return "", err
	}
	if h.SignIn.OAuth == nil {
		return "", over("the description of " + h.Name + " no longer says how to sign in")
	}
	s, err := SignInServer(ctx, d, h)
	if err != nil {
		return "", err
	}
	t, err := s.Refresh(ctx, refresh)
	if fault.Is(err, fault.HostSaidNo) {
		return "", over(h.Name + " does not renew it")
	}
	if err != nil {
		return "", err
	}
	a.Refresh = t.Refresh
	if err := Store(ctx, d, a, t.Access); err != nil {
		return "", err
	}
	a.Expires = t.Ends
	return t.Access, NoteAccount(ctx, d, a)
}
