package login

import (
	"context"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/world/web"
)

// GitRefs asks an address for its refs with an account's token, over HTTP. A refused
// short-lived token is exchanged again, once.
func GitRefs(ctx context.Context, d *desk.Desk, a *accounts.Account, token string, at address.Address) (web.Refs, error) {
	if err := MayGo(d, a, at); err != nil {
		return web.Refs{}, err
	}
	user, secret, err := GitLogin(ctx, d, a, token)
	if err != nil {
		return web.Refs{}, err
	}
	refs, err := d.Web.Refs(ctx, at, user, secret)
	if !fault.Is(err, fault.HostSaidNo) || !dropShort(d, secret) {
		return refs, err
	}
	if user, secret, err = GitLogin(ctx, d, a, token); err != nil {
		return web.Refs{}, err
	}
	return d.Web.Refs(ctx, at, user, secret)
}

// MayGo refuses to let an account's secret go to an address which is neither of its host's own
// origin nor of one that the host's description names as trusted. All that hands a secret on over
// git's transports asks it; the API's requests ask the description itself.
func MayGo(d *desk.Desk, a *accounts.Account, to address.Address) error {
	own := description.OriginOf(a.Address)
	if a.Host != "" {
		h, err := accounts.HostOf(d, a)
		if err != nil || h.Trusts(to.String()) {
			return err
		}
		own = description.OriginOf(h.At)
	} else if own == description.OriginOf(to.String()) {
		return nil
	}
	return fault.New(fault.Refused, "what account %s signs in with goes to %s alone, and not to %s", a.Name, own, text.Visible(to.String()))
}

// GitLogin gives the user name and secret that git's HTTP transport wants. Without a
// token only the name counts.
func GitLogin(ctx context.Context, d *desk.Desk, a *accounts.Account, token string) (user, secret string, err error) {
	if a.Host == "" {
		return a.User, token, nil
	}
	h, err := accounts.HostOf(d, a)
	if err != nil {
		return "", "", err
	}
	vars := description.Vars{"user": a.User, "token": token, "kept_token": token}
	if token != "" && h.SignIn.Git.Short() {
		l := &Login{Desk: d, Host: h, Account: a, Token: token}
		if vars["token"], err = l.short(ctx); err != nil {
			return "", "", err
		}
	}
	if user, secret = h.SignIn.Git.Fill(vars); user == "" && secret == "" { // the description does not say: as git does it everywhere
		return a.User, token, nil
	}
	return user, secret, nil
}
