package credentials

import (
	"context"
	"slices"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
)

// EndHere gives the steps that end, on the hosts, what this machine has there: the keys that were made here, and then
// the tokens and sign-ins. notes say what cannot be ended from here, and where it can.
func EndHere(ctx context.Context, d *desk.Desk) (steps []desk.Step, notes []string, err error) {
	all, err := accounts.All(d)
	if err != nil {
		return nil, nil, err
	}
	keys, err := accounts.Keys(d)
	if err != nil {
		return nil, nil, err
	}
	var tokens []desk.Step
	for _, a := range all {
		if a.Host == "" {
			notes = append(notes, "The token of "+a.Name+" stays valid at "+text.Visible(a.Address)+": nobody described its host.")
			continue
		}
		e := &ending{d: d, a: a}
		err := e.look(ctx, keys)
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		if err != nil {
			notes = append(notes, "What "+a.Name+" has on "+a.Host+" cannot be ended from here: "+fault.Of(err).Says+"."+e.page("token"))
		}
		steps, tokens, notes = append(steps, e.keys...), append(tokens, e.token...), append(notes, e.notes...)
	}
	if len(tokens) > 0 {
		notes = append(notes, "A token that is used on another machine too is ended there as well.")
	}
	return append(steps, tokens...), notes, nil
}

// ending is what is ended of one account.
type ending struct {
	d           *desk.Desk
	a           *accounts.Account
	l           *login.Login
	keys, token []desk.Step
	notes       []string
}

// page says where a person ends it.
func (e *ending) page(what string) string {
	h, err := accounts.HostOf(e.d, e.a)
	if err != nil {
		return ""
	}
	if page := h.PageFor(what); page != "" {
		return " It is ended on its page, " + page + "."
	}
	return ""
}

func (e *ending) look(ctx context.Context, keys []*accounts.Key) (err error) {
	if e.l, err = login.Open(ctx, e.d, e.a); err != nil {
		return err
	}
	own := slices.DeleteFunc(slices.Clone(keys), func(k *accounts.Key) bool { return k.Account != e.a.Name || k.Registered })
	for _, kind := range []string{"", "signing-"} {
		if err := e.keysOf(ctx, kind, own); err != nil {
			return err
		}
	}
	if e.a.NoToken {
		return nil
	}
	if err := e.l.May("token-revoke", "revoke a token"); err != nil && !e.a.OAuth {
		e.notes = append(e.notes, "The token of "+e.a.Name+" stays valid on "+e.a.Host+", which offers no way to revoke it."+e.page("token"))
		return nil
	}
	e.token = append(e.token, desk.Step{Item: plan.Item{ID: "token " + e.a.Name, Place: plan.Host, Sentence: "Revoke the token of " + e.a.Name + " on " + e.a.Host},
		Do: func(ctx context.Context) error { return revoke(ctx, e.d, e.l) }})
	return nil
}

// keysOf adds the steps for the keys of a kind that the host has.
func (e *ending) keysOf(ctx context.Context, kind string, own []*accounts.Key) error {
	if len(own) == 0 || e.l.Host.Actions[kind+"key-list"] == nil {
		return nil
	}
	there, err := e.l.HostKeys(ctx, kind)
	if err != nil {
		return err
	}
	for _, k := range own {
		if !slices.ContainsFunc(there, func(x login.HostKeyEntry) bool { return x.Half.Same(k.Half()) }) {
			continue
		}
		if e.l.Host.Actions[kind+"key-remove"] == nil {
			e.notes = append(e.notes, "The key "+k.Fingerprint()+" of "+e.a.Name+" stays on "+e.a.Host+", which offers no way to remove it."+e.page("key"))
			continue
		}
		e.keys = append(e.keys, desk.Step{Item: plan.Item{ID: "key " + kind + k.Fingerprint(), Place: plan.Host, Sentence: "Remove this machine's " + text.Either(kind == "", "key", "signing key") + " of " + e.a.Name + " from " + e.a.Host},
			Do: func(ctx context.Context) error { return removeKey(ctx, e.l, kind, k.Half()) }})
	}
	return nil
}

// revoke revokes the token, or the sign-in, that an account signs in by. One that is over already is no error.
func revoke(ctx context.Context, d *desk.Desk, l *login.Login) error {
	if l.Account.OAuth {
		return revokeSignIn(ctx, d, l)
	}
	_, err := l.Do(ctx, "token-revoke", "revoke the token", nil)
	if login.Means(err, description.TokenEnded) || login.Means(err, description.NotSignedIn) {
		return nil // it is not valid any longer
	}
	return err
}
