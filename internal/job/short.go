package job

import (
	"context"
	"time"

	"uncinate/internal/core/description"
)

// shortToken is a short-lived token. It is held in memory only, for one run.
type shortToken struct {
	secret string
	ends   time.Time
}

// shortMargin is how long before its end a short-lived token is not used any more.
const shortMargin = 20 * time.Second

// short gives the token that the API and git are asked with: the one that is kept, or,
// where the host exchanges that, a short-lived one.
func (l *login) short(ctx context.Context) (string, error) {
	x := l.Host.SignIn.Exchange
	if x == nil {
		return l.token, nil
	}
	l.desk.common().shorts.Lock()
	defer l.desk.common().shorts.Unlock()
	key := l.Host.Origin() + " " + l.user() + " " + l.token
	if s, ok := l.desk.common().shorts.of[key]; ok && s.ends.Sub(l.desk.Now()) > shortMargin {
		return s.secret, nil
	}
	vars := description.Vars{"kept_token": l.token, "user": l.user()}
	r := &asking{login: l, act: &description.Action{Name: "exchange"}, q: x.Request, what: "give a short-lived token for the one that is kept", vars: vars}
	call, err := x.Request.Build(l.Host.Description, vars)
	if err != nil {
		return "", err
	}
	answer, err := r.send(ctx, call, true)
	if err != nil {
		return "", err
	}
	secret, ends, err := x.Short(l.Host.Description, answer, l.desk.Now())
	if err != nil {
		return "", err
	}
	l.desk.Vault.Hide(secret)
	if l.desk.common().shorts.of == nil {
		l.desk.common().shorts.of = map[string]shortToken{}
	}
	l.desk.common().shorts.of[key] = shortToken{secret, ends}
	return secret, nil
}

// dropShort lets the next request get a new short-lived token in the place of this one;
// false where it is none.
func (d *Desk) dropShort(secret string) bool {
	d.common().shorts.Lock()
	defer d.common().shorts.Unlock()
	for key, s := range d.common().shorts.of {
		if s.secret == secret {
			delete(d.common().shorts.of, key)
			return true
		}
	}
	return false
}

func (l *login) user() string {
	if l.Account == nil {
		return ""
	}
	return l.Account.User
}
