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

// Ending tells what is known here of an account's token, without asking its host.
func Ending(a *Account, now time.Time) (desk.State, string) {
	left := a.Expires.Sub(now)
	switch {
	case a.NoToken:
		return desk.Kept, "none: an SSH key"
	case a.Missing && a.InMemory:
		return desk.Bad, "no longer held in memory"
	case a.Missing:
		return desk.Bad, "not in the vault"
	case !a.Doubtful.IsZero():
		return desk.Doubtful, "refused by the host on " + a.Doubtful.Format(time.DateOnly)
	case a.OAuth:
		return desk.Kept, "renews itself"
	case a.Expires.IsZero():
		return desk.Kept, memory(a, "no expiry given")
	case left <= 0:
		return desk.Bad, "expired on " + a.Expires.Format(time.DateOnly)
	case left < 24*time.Hour:
		return desk.Doubtful, "expires on " + a.Expires.Format(time.DateOnly) + ", in less than a day"
	case left < Soon:
		return desk.Doubtful, fmt.Sprintf("expires on %s, in %s", a.Expires.Format(time.DateOnly), text.Count(int(left/(24*time.Hour)), "day"))
	}
	return desk.Kept, memory(a, "expires on "+a.Expires.Format(time.DateOnly))
}

func memory(a *Account, says string) string {
	return text.Either(a.InMemory, "in memory, for this session; ", "") + says
}

// LookInVault notes of accounts whether their tokens are where they are kept, as far as that is seen
// without asking anybody for a passphrase.
func LookInVault(ctx context.Context, d *desk.Desk, all ...*Account) {
	for _, a := range all {
		if a.NoToken {
			continue
		}
		_, found, err := Secret(ctx, d, a, a.secretName(), false)
		a.Missing = err == nil && !found
	}
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
		d.Tell.Note("Note: the token of account %s %s. Replace it: %s", a.Name, says, a.Anew())
	}
}

// NoteAccount writes an account's entry again; the token stays as it is.
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

// Former gives the token that an account had before another was put in its place, where it could not
// be revoked yet; "" for none.
func Former(ctx context.Context, d *desk.Desk, a *Account) (string, error) {
	if a.InMemory {
		return "", nil
	}
	old, _, err := Secret(ctx, d, a, a.formerName(), true)
	if err != nil || old == "" {
		return "", err
	}
	now, found, err := Secret(ctx, d, a, a.secretName(), true)
	if err != nil || found && now == old { // it was kept, and then nothing took its place
		return "", err
	}
	return old, nil
}

// KeepFormer keeps the token that is about to be replaced until it is revoked; "" drops it.
func KeepFormer(ctx context.Context, d *desk.Desk, a *Account, token string) error {
	if a.InMemory {
		return nil
	}
	if token == "" {
		return d.Vault.Remove(ctx, a.formerName())
	}
	return d.Vault.Put(ctx, map[string]string{a.formerName(): token})
}

// Drop takes an account's secrets away from where they are kept.
func Drop(ctx context.Context, d *desk.Desk, a *Account) error {
	if !a.InMemory {
		return d.Vault.Remove(ctx, a.secretName(), a.RefreshName(), a.formerName())
	}
	for _, name := range []string{a.secretName(), a.RefreshName()} {
		if err := d.Vault.RemoveInMemory(name); err != nil {
			return err
		}
	}
	return nil
}
