package credentials

import (
	"context"
	"errors"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
)

// Token is an account's token as it is told of, never itself.
type Token struct {
	Account     string     `json:"account"`
	Host        string     `json:"host"`
	User        string     `json:"user"`
	State       desk.State `json:"state" says:"good: its host took it just now; kept: it is in the vault, and the host was not asked; doubtful or bad"`
	Says        string     `json:"says"`
	Expires     time.Time  `json:"expires,omitzero"`
	Scopes      []string   `json:"scopes,omitempty"`
	Superfluous []string   `json:"superfluous,omitempty" says:"scopes that nothing described needs for publishing"`
	Remedies    []string   `json:"remedies,omitempty"`
}

// Tokens lists the accounts' tokens as they were last known.
func Tokens(ctx context.Context, d *desk.Desk) ([]Token, error) {
	all, err := accounts.All(d)
	accounts.LookInVault(ctx, d, all...)
	out := []Token{}
	for _, a := range all {
		if a.NoToken {
			continue
		}
		t := Token{Account: a.Name, Host: a.Where(), User: a.User, Expires: a.Expires, Scopes: a.Scopes}
		t.State, t.Says = accounts.Ending(a, d.Now())
		switch {
		case a.Missing:
			t.Remedies = []string{a.Again()}
		case t.State != desk.Kept:
			t.Remedies = []string{a.Anew()}
		}
		out = append(out, t)
	}
	return out, err
}

// TestToken asks an account's host whether its token is good, and notes what it says.
func TestToken(ctx context.Context, d *desk.Desk, name string) (Token, error) {
	a, err := accounts.Named(d, name)
	if err != nil {
		return Token{}, err
	}
	t := Token{Account: a.Name, Host: a.Where(), User: a.User, Expires: a.Expires, Scopes: a.Scopes}
	bad := func(err error) (Token, error) {
		f := fault.Of(err)
		if f.Kind == fault.Interrupted {
			return t, err
		}
		l := desk.LineOf("", "", err)
		t.State, t.Says, t.Remedies = desk.Bad, f.Says, l.Remedies
		if login.Means(err, description.NotSignedIn) || login.Means(err, description.TokenEnded) {
			return t, accounts.Doubt(ctx, d, a.Name)
		}
		if f.Kind == fault.Unreachable {
			t.State, t.Says = desk.Doubtful, "not tested: "+f.Says
		}
		return t, nil
	}
	if tested, err := login.OnRepository(ctx, d, a); err != nil {
		return bad(err)
	} else if tested {
		t.State, t.Says = desk.Good, text.Either(a.Repository == "", "good for its address", "good for "+a.Repository)
		return t, nil
	}
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return bad(err)
	}
	id, err := l.Identify(ctx)
	if err != nil {
		return bad(err)
	}
	now := *a
	now.Scopes, now.ScopesTold, now.Expires, now.Doubtful, now.Missing = id.Scopes, id.ScopesTold, id.Expires, time.Time{}, false
	if err := accounts.NoteAccount(ctx, d, &now); err != nil {
		return t, err
	}
	t.Scopes, t.Expires = id.Scopes, id.Expires
	t.State, t.Says = accounts.Ending(&now, d.Now())
	if t.State == desk.Kept {
		t.State = desk.Good
	} else {
		t.Remedies = []string{a.Anew()}
	}
	t.Superfluous = login.Superfluous(l.Host.Description, id, l.Account.Wants())
	return t, nil
}

// TokenChange is a change of an account's token: planned, to be shown, then done.
type TokenChange struct {
	desk  *desk.Desk
	steps []desk.Step

	Account *accounts.Account
	Renews  bool // the host renews it, so no new token need be given
	Head    string
}

// Items is the plan as it is shown.
func (t *TokenChange) Items() []plan.Item { return desk.Items(t.steps) }

// Release gives the plan up; it holds nothing yet.
func (t *TokenChange) Release() error { return nil }

// HostName is where the host's steps act.
func (t *TokenChange) HostName() string { return t.Account.Host }

// Do carries the plan out.
func (t *TokenChange) Do(ctx context.Context) error {
	r, _, err := t.desk.Begin("token", t.Account.Name)
	if err != nil {
		return err
	}
	r.AsWas = "The token stays as it was."
	return r.Run(ctx, t.steps)
}

// ReplaceToken plans to give an account another token: one that is given, or, with an
// empty one, one that the host makes. The old one is revoked on the host,
// where it offers that.
func ReplaceToken(ctx context.Context, d *desk.Desk, name, token string, renew bool) (*TokenChange, error) {
	a, err := accounts.Named(d, name)
	if err != nil {
		return nil, err
	}
	accounts.Hush(d, a)
	t := &TokenChange{desk: d, Account: a, Head: "To replace the token of account " + a.Name + ":"}
	if a.Host == "" {
		t.steps = []desk.Step{{Item: plan.Item{ID: "store", Place: plan.Vault, Sentence: "Put the new token, once tested, in the place of the old one"},
			Do: func(ctx context.Context) error { _, _, err := login.AddAccount(ctx, d, *a, token); return err }}}
		return t, nil
	}
	h, err := accounts.HostOf(d, a)
	if err != nil {
		return nil, err
	}
	offers := func(action string) bool { return h.Actions[action] != nil && h.Actions[action].By == "request" }
	t.Renews = offers("token-renew")
	if renew {
		if !t.Renews {
			return nil, noRenewal(d, h, a)
		}
		l, err := login.Open(ctx, d, a)
		if err != nil {
			return nil, err
		}
		t.steps = stepsRenew(d, l)
		return t, nil
	}
	pending, err := accounts.Former(ctx, d, a)
	if err != nil {
		return nil, err
	}
	if pending == "" {
		t.steps = append(t.steps, stepStore(d, h, a, token))
	}
	if offers("token-revoke") {
		t.steps = append(t.steps, stepRevokeFormer(d, h, a))
	}
	return t, nil
}

// HalfReplaced reports whether a new token is in an account's place already, and the one before it is
// still to be revoked.
func HalfReplaced(ctx context.Context, d *desk.Desk, a *accounts.Account) (bool, error) {
	if a.Host == "" {
		return false, nil
	}
	old, err := accounts.Former(ctx, d, a)
	return old != "", err
}

// stepStore puts a new token in the place of the old one, which is kept until it is revoked.
func stepStore(d *desk.Desk, h *hosts.Host, a *accounts.Account, token string) desk.Step {
	return desk.Step{Item: plan.Item{ID: "store", Place: plan.Vault, Sentence: "Test the new token with " + h.Name + ", and put it in the place of the old one"},
		Do: func(ctx context.Context) error {
			if old, err := login.Open(ctx, d, a); err == nil && old.Token != strings.TrimSpace(token) {
				if err := accounts.KeepFormer(ctx, d, a, old.Token); err != nil {
					return err
				}
			}
			given := *a
			given.Doubtful, given.OAuth = time.Time{}, false
			_, _, err := login.AddAccount(ctx, d, given, token)
			if err != nil {
				return errors.Join(err, accounts.KeepFormer(ctx, d, a, ""))
			}
			return nil
		}}
}

// stepRevokeFormer revokes the token that was replaced, by signing in with it.
func stepRevokeFormer(d *desk.Desk, h *hosts.Host, a *accounts.Account) desk.Step {
	return desk.Step{Item: plan.Item{ID: "revoke", Place: plan.Host, Sentence: "Revoke the old token on " + h.Name},
		Do: func(ctx context.Context) error {
			former, err := accounts.Former(ctx, d, a)
			if err != nil || former == "" {
				return err
			}
			old := &login.Login{Desk: d, Host: h, Account: a, Token: former}
			_, err = old.Do(ctx, "token-revoke", "revoke the old token", nil)
			if err != nil && !login.Means(err, description.TokenEnded) && !login.Means(err, description.NotSignedIn) { // or it is not valid any longer
				return err
			}
			return accounts.KeepFormer(ctx, d, a, "")
		}}
}

// stepsRenew let the host put a new token in the place of the one that signed in.
func stepsRenew(d *desk.Desk, l *login.Login) []desk.Step {
	a, h, old := l.Account, l.Host, l.Token
	return []desk.Step{
		{Item: plan.Item{ID: "ready", Place: plan.Vault, Sentence: "Make sure that the vault can be written, so that no new token is lost"},
			Do: func(ctx context.Context) error { return accounts.Store(ctx, d, a, old) }},
		{Item: plan.Item{ID: "renew", Place: plan.Host, Sentence: "Ask " + h.Name + " to replace the token"},
			Do: func(ctx context.Context) error {
				f, err := l.Do(ctx, "token-renew", "renew the token", nil)
				if fault.Is(err, fault.Unreachable) {
					f := *fault.Of(err)
					return f.Detail("It is not certain whether the old token is still valid.").Try("see", text.Command("uncinate", "token", "test", a.Name))
				}
				if err != nil {
					return err
				}
				fresh, _ := f["secret"].(string)
				if fresh == "" {
					return fault.New(fault.Unreachable, "%s renewed the token and did not tell the new one", h.Name)
				}
				if err := accounts.Store(ctx, d, a, fresh); err != nil {
					return err
				}
				_, err = TestToken(ctx, d, a.Name)
				return err
			}},
	}
}

func noRenewal(d *desk.Desk, h *hosts.Host, a *accounts.Account) error {
	f := fault.New(fault.HostSaidNo, "%s does not renew tokens by itself", h.Name)
	for _, line := range h.TokenAdvice(a.Wants()...) {
		f.Detail("%s", line)
	}
	return f.TryWithout("give the account one that you made", text.Command("uncinate", "token", "replace", a.Name), "renew")
}

// RevokeToken plans to revoke an account's token on the host, and to take it out of
// the vault.
func RevokeToken(ctx context.Context, d *desk.Desk, name string) (*TokenChange, error) {
	a, err := accounts.Named(d, name)
	if err != nil {
		return nil, err
	}
	accounts.Hush(d, a)
	t := &TokenChange{desk: d, Account: a, Head: "To revoke the token of account " + a.Name + ":"}
	if a.Host == "" {
		return nil, fault.New(fault.HostSaidNo, "nobody described the host of %s, so its tokens are revoked on its own page", a.Address).
			Try("forget it here", text.Command("uncinate", "token", "forget", a.Name))
	}
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return nil, err
	}
	if err := l.May("token-revoke", "revoke a token"); err != nil && !a.OAuth {
		f := *fault.Of(err)
		for _, line := range l.Host.TokenAdvice() {
			f.Detail("%s", line)
		}
		return nil, f.Try("forget it here", text.Command("uncinate", "token", "forget", a.Name))
	}
	t.steps = []desk.Step{
		{Item: plan.Item{ID: "revoke", Place: plan.Host, Sentence: "Revoke the token on " + l.Host.Name + "; this cannot be undone"},
			Do: func(ctx context.Context) error {
				return revoke(ctx, d, l)
			}},
		{Item: plan.Item{ID: "forget", Place: plan.Vault, Sentence: "Take it out of the vault"}, Do: func(ctx context.Context) error { return accounts.Drop(ctx, d, a) }},
	}
	return t, nil
}

// ForgetToken takes an account's token out of the vault; on the host it is.
func ForgetToken(ctx context.Context, d *desk.Desk, name string, preview bool) error {
	a, err := accounts.Named(d, name)
	if err != nil {
		return err
	}
	if _, err := accounts.Token(ctx, d, a, true); err != nil {
		return err
	}
	if preview {
		return nil
	}
	return accounts.Drop(ctx, d, a)
}
