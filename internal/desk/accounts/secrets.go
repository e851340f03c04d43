package accounts

import (
	"context"
	"fmt"
	"time"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
)

// When a token's life is worth a word.
const (
	Soon   = 14 * 24 * time.Hour  // before its end it is warned of
	TooFar = 366 * 24 * time.Hour // an end farther off is longer than a token should live
)

// Ending tells how a token's end stands.
func Ending(a *Account, now time.Time) (desk.State, string) {
	left := a.Expires.Sub(now)
	switch {
	case a.OAuth && a.Doubtful.IsZero():
		return desk.Good, "renews itself"
	case !a.Doubtful.IsZero():
		return desk.Doubtful, "the host refused it on " + a.Doubtful.Format(time.DateOnly)
	case a.Expires.IsZero():
		return desk.Good, "no expiry given"
	case left <= 0:
		return desk.Bad, "ended on " + a.Expires.Format(time.DateOnly)
	case left < Soon:
		return desk.Doubtful, fmt.Sprintf("ends on %s, in %s", a.Expires.Format(time.DateOnly), text.Count(int(left/(24*time.Hour)), "day"))
	}
	return desk.Good, "valid until " + a.Expires.Format(time.DateOnly)
}

// Hush keeps a job from warning of the very token that it replaces or takes away.
func Hush(d *desk.Desk, a *Account) {
	s := d.Common()
	s.Mu.Lock()
	defer s.Mu.Unlock()
	if s.Warned == nil {
		s.Warned = map[string]bool{}
	}
	s.Warned[a.Name] = true
}

func hushed(d *desk.Desk, a *Account) bool {
	s := d.Common()
	s.Mu.Lock()
	defer s.Mu.Unlock()
	return s.Warned[a.Name]
}

// Warn says one line when the account's token ends soon.
func Warn(d *desk.Desk, a *Account) {
	if left := a.Expires.Sub(d.Now()); !a.Expires.IsZero() && left < Soon && left > 0 && !a.OAuth && !hushed(d, a) {
		Hush(d, a)
		_, says := Ending(a, d.Now())
		d.Tell.Note("Note: the token of account %s %s. Replace it: %s", a.Name, says, text.Command("uncinate", "token", "replace", a.Name))
	}
}

// NoteAccount writes an account's entry anew; the token stays as it is.
func NoteAccount(ctx context.Context, d *desk.Desk, a *Account) error {
	return Alter(ctx, d, func(all []*Account) ([]*Account, error) {
		for i, b := range all {
			if b.Name == a.Name {
				all[i] = a
			}
		}
		return all, nil
	})
}

// Store puts an account's token where it is kept, with what renews it, if there is that.
func Store(ctx context.Context, d *desk.Desk, a *Account, token string) error {
	secrets := map[string]string{a.secretName(): token}
	if a.Refresh != "" || !a.OAuth {
		secrets[a.RefreshName()] = a.Refresh // a token that was given takes an older sign-in's place
	}
	if !a.InMemory {
		return d.Vault.Put(ctx, secrets)
	}
	for name, secret := range secrets {
		if secret == "" {
			if err := d.Vault.RemoveInMemory(name); err != nil {
				return err
			}
			continue
		}
		if err := d.Vault.PutInMemory(ctx, d.Program, name, secret, d.Now().Add(inMemoryFor)); err != nil {
			return err
		}
	}
	return nil
}

// Drop takes an account's secrets away from where they are kept.
func Drop(ctx context.Context, d *desk.Desk, a *Account) error {
	if !a.InMemory {
		return d.Vault.Remove(ctx, a.secretName(), a.RefreshName())
	}
	for _, name := range []string{a.secretName(), a.RefreshName()} {
		if err := d.Vault.RemoveInMemory(name); err != nil {
			return err
		}
	}
	return nil
}
