package job

import (
	"context"
	"path/filepath"
	"slices"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/oauth"
)

// SignInWay checks that a host offers a way to sign in through its own pages.
func (h *Host) SignInWay(way string) error {
	o := h.SignIn.OAuth
	if o != nil && slices.Contains(o.Ways, way) {
		return nil
	}
	f := fault.New(fault.HostSaidNo, "%s offers no sign-in by %s (its description does not say so)", h.Name, text.Quote(way))
	if o != nil {
		for _, other := range o.Ways {
			f.Try("", text.Command("uncinate", "account", "add", "--host", h.Name, "--by", other))
		}
	}
	return f.Try("paste a token", text.Command("uncinate", "account", "add", "--host", h.Name))
}

func (d *Desk) signInServer(ctx context.Context, h *Host) (*oauth.Server, error) {
	at, err := h.Expand(h.SignIn.OAuth.Metadata, nil)
	if err != nil {
		return nil, fault.New(fault.Failed, "the address of %s's sign-in cannot be made", h.Name).Because(err)
	}
	return oauth.Discover(ctx, at, h.SignIn.OAuth.Client)
}

// Shower shows a person where to sign in.
type Shower interface {
	// Enter shows the page, and the code that is to be entered there until a time.
	Enter(page, code string, until time.Time)
	// Open opens the page in this machine's browser, and shows its address.
	Open(page string)
}

// SignIn signs a person in through the host's own pages, and adds or renews the account.
func (d *Desk) SignIn(ctx context.Context, want Account, way string, show Shower) (*Account, []string, error) {
	h, err := d.HostWithAccounts(want.Host)
	if err == nil {
		err = h.SignInWay(way)
	}
	if err != nil {
		return nil, nil, err
	}
	s, err := d.signInServer(ctx, h)
	if err != nil {
		return nil, nil, err
	}
	scopes := h.LeastScopes("publish", "keys")
	var t oauth.Token
	if way == oauth.ByDevice {
		t, err = s.ByDevice(ctx, scopes, show.Enter)
	} else {
		t, err = s.ByBrowser(ctx, scopes, show.Open)
	}
	if err != nil {
		return nil, nil, err
	}
	want.OAuth, want.refresh, want.ends = true, t.Refresh, t.Ends
	return d.AddAccount(ctx, want, t.Access)
}

// renewsWithin is how long before its end an access token is renewed.
const renewsWithin = 2 * time.Minute

// renew gets a new access token for an account that signed in through the host's pages.
// Of several processes one does it; the others take what it got.
func (d *Desk) renew(ctx context.Context, a *Account, mayAsk bool) (string, error) {
	var held *files.Held
	for deadline := time.Now().Add(15 * time.Second); held == nil; {
		var err error
		if held, _, err = files.Lock(filepath.Join(d.Home.State, "locks", "renew-"+a.Name+".lock")); err != nil {
			return "", err
		}
		if held == nil {
			if time.Now().After(deadline) {
				return "", fault.New(fault.Failed, "another process has been renewing the sign-in of account %s for long; try again", a.Name)
			}
			if err := d.sleep(ctx, 50*time.Millisecond); err != nil {
				return "", err
			}
		}
	}
	defer held.Release()
	now, err := d.Account(a.Name)
	if err != nil {
		return "", err
	}
	if now.Expires.Sub(d.Now()) > renewsWithin {
		*a = *now
		token, _, err := d.secret(ctx, a, a.secretName(), mayAsk)
		return token, err
	}
	refresh, found, err := d.secret(ctx, a, a.refreshName(), mayAsk)
	if err != nil {
		return "", err
	}
	over := func(why string) error {
		return fault.New(fault.HostSaidNo, "the sign-in of account %s is over: %s", a.Name, why).
			Try("sign in again", text.Command("uncinate", "account", "add", a.Name, "--host", a.Host, "--by", "device"))
	}
	if !found || refresh == "" {
		return "", over("the host gave nothing to renew it by")
	}
	h, err := d.hostOf(a)
	if err != nil {
		return "", err
	}
	if h.SignIn.OAuth == nil {
		return "", over("the description of " + h.Name + " does not say any more how one signs in")
	}
	s, err := d.signInServer(ctx, h)
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
	a.refresh = t.Refresh
	if err := d.store(ctx, a, t.Access); err != nil {
		return "", err
	}
	a.Expires = t.Ends
	return t.Access, d.noteAccount(a)
}

// revokeSignIn takes an account's sign-in back on the host.
func (d *Desk) revokeSignIn(ctx context.Context, l *login) error {
	s, err := d.signInServer(ctx, l.Host)
	if err != nil {
		return err
	}
	refresh, found, err := d.secret(ctx, l.Account, l.Account.refreshName(), true)
	if err != nil {
		return err
	}
	if found && refresh != "" {
		if err := s.Revoke(ctx, refresh); err != nil {
			return err
		}
	}
	return s.Revoke(ctx, l.token)
}
