package practice

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"time"
)

// NewToken makes a token and gives its secret, which is shown only now.
func (st *Store) NewToken(prefix, user string, scopes []string, expires time.Time) (string, error) {
	random := make([]byte, 20)
	if _, err := rand.Read(random); err != nil {
		return "", err
	}
	secret := prefix + hex.EncodeToString(random)
	return secret, st.AddToken(secret, user, scopes, expires)
}

// AddToken makes a token of a given secret.
func (st *Store) AddToken(secret, user string, scopes []string, expires time.Time) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	st.s.Tokens = append(st.s.Tokens, &Token{Hash: hash(secret), User: user, Scopes: scopes, Expires: expires, Made: st.now().UTC().Truncate(time.Second)})
	return st.save()
}

// NameToken calls a token something, as its owner would on the host's page.
func (st *Store) NameToken(secret, name string) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	for _, t := range st.s.Tokens {
		if t.Hash == hash(secret) {
			t.Name = name
			return st.save()
		}
	}
	return problem("none", "there is no such token")
}

// id is a token's id on the host, which tells nothing of its secret.
func (t *Token) id() string {
	if t.SignIn != "" {
		return t.SignIn
	}
	return hash("token " + t.Hash)[:12]
}

// Tokens lists a user's tokens that are good.
func (st *Store) Tokens(user string) []Token {
	st.mu.Lock()
	defer st.mu.Unlock()
	var out []Token
	for _, t := range st.s.Tokens {
		if t.User == user && (t.Expires.IsZero() || st.now().Before(t.Expires)) {
			out = append(out, *t)
		}
	}
	return out
}

// EndByID revokes a user's token by its id; all of a sign-in by the sign-in's.
func (st *Store) EndByID(user, id string) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	before := len(st.s.Tokens)
	st.s.Tokens = slices.DeleteFunc(st.s.Tokens, func(t *Token) bool { return t.User == user && t.id() == id })
	if len(st.s.Tokens) == before {
		return problem("none", "there is no pass %s", id)
	}
	return st.save()
}

// EndToken lets a token end now.
func (st *Store) EndToken(secret string) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	for _, t := range st.s.Tokens {
		if t.Hash == hash(secret) {
			t.Expires = st.now().Add(-time.Second).UTC().Truncate(time.Second)
			return st.save()
		}
	}
	return problem("none", "there is no such token")
}

// EndAll lets all tokens end now for which which says yes.
func (st *Store) EndAll(which func(*Token) bool) {
	st.mu.Lock()
	defer st.mu.Unlock()
	for _, t := range st.s.Tokens {
		if which(t) {
			t.Expires = st.now().Add(-time.Second).UTC().Truncate(time.Second)
		}
	}
}

// NewSigned makes a token that a sign-in through the host's pages gives, like t.
func (st *Store) NewSigned(prefix string, t Token) (string, error) {
	secret := prefix + randomText(20)
	t.Hash, t.Signed, t.Expires, t.Made = hash(secret), true, t.Expires.UTC().Truncate(time.Second), st.now().UTC().Truncate(time.Second)
	st.mu.Lock()
	defer st.mu.Unlock()
	st.s.Tokens = append(st.s.Tokens, &t)
	return secret, st.save()
}

// Revoke revokes a token for good.
func (st *Store) Revoke(secret string) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	st.s.Tokens = slices.DeleteFunc(st.s.Tokens, func(t *Token) bool { return t.Hash == hash(secret) })
	return st.save()
}

// Renew makes a new token like another, good until a time, and revokes that one.
func (st *Store) Renew(prefix, secret string, expires time.Time) (string, error) {
	s := st.SignIn(secret)
	if s.User == nil {
		return "", problem("none", "there is no such token")
	}
	fresh, err := st.NewToken(prefix, s.User.Name, s.Token.Scopes, expires)
	if err != nil {
		return "", err
	}
	return fresh, st.Revoke(secret)
}

func hash(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Session is who asks, and with which token.
type Session struct {
	User  *User // nil: nobody signed in
	Token *Token
	Ended bool // the token was good and has ended
}

// May reports whether the session's token has a scope.
func (s Session) May(scope string) bool {
	return s.Token != nil && slices.Contains(s.Token.Scopes, scope)
}

// SignIn finds whose secret it is.
func (st *Store) SignIn(secret string) Session { return st.session(secret, false) }

// Refreshes finds whose refresh token it is.
func (st *Store) Refreshes(secret string) Session { return st.session(secret, true) }

func (st *Store) session(secret string, renews bool) Session {
	st.mu.Lock()
	defer st.mu.Unlock()
	h := hash(secret)
	for _, t := range st.s.Tokens {
		if t.Hash != h || t.Renews != renews {
			continue
		}
		if !t.Expires.IsZero() && st.now().After(t.Expires) {
			return Session{Token: t, Ended: true}
		}
		return Session{User: st.s.Users[t.User], Token: t}
	}
	return Session{}
}
