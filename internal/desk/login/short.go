package login

import (
	"context"
	"sync"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/desk"
)

// shortToken is a short-lived token. It is held in memory only, for one run.
type shortToken struct {
	secret string
	ends   time.Time
}

// shortTokens are those of this run, by origin, user and the token that is kept.
type shortTokens struct {
	mu sync.Mutex
	of map[string]shortToken
}

// shortMargin is how long before its end a short-lived token is no longer used.
const shortMargin = 20 * time.Second

// short gives the token that the API and git are asked with: the one that is kept, or,
// where the host exchanges that, a short-lived one.
func (l *Login) short(ctx context.Context) (string, error) {
	x := l.Host.SignIn.Exchange
	if x == nil {
		return l.Token, nil
	}
	shorts := desk.Memory[shortTokens](l.Desk)
	shorts.mu.Lock()
	defer shorts.mu.Unlock()
	key := l.Host.Origin() + " " + l.user() + " " + l.Token
	if s, ok := shorts.of[key]; ok && s.ends.Sub(l.Desk.Now()) > shortMargin {
		return s.secret, nil
	}
	vars := description.Vars{"kept_token": l.Token, "user": l.user()}
	r := &asking{Login: l, act: &description.Action{Name: "exchange"}, q: x.Request, what: "give a short-lived token for the one that is kept", vars: vars}
	call, err := x.Request.Build(l.Host.Description, vars)
	if err != nil {
		return "", err
	}
	answer, err := r.send(ctx, call, true)
	if err != nil {
		return "", err
	}
	secret, ends, err := x.Short(l.Host.Description, answer, l.Desk.Now())
	if err != nil {
		return "", err
	}
	l.Desk.Vault.Hide(secret)
	if shorts.of == nil {
		shorts.of = map[string]shortToken{}
	}
	shorts.of[key] = shortToken{secret, ends}
	return secret, nil
}

// dropShort lets the next request get a new short-lived token in the place of this one;
// false where it is none.
func dropShort(d *desk.Desk, secret string) bool {
	shorts := desk.Memory[shortTokens](d)
	shorts.mu.Lock()
	defer shorts.mu.Unlock()
	for key, s := range shorts.of {
		if s.secret == secret {
			delete(shorts.of, key)
			return true
		}
	}
	return false
}

func (l *Login) user() string {
	if l.Account == nil {
		return ""
	}
	return l.Account.User
}
