package vault

import (
	"uncinate/internal/world/files"

	"context"
	"errors"
	"time"
)

// Unlock opens the vault with a passphrase and starts the process that holds it
// open for a time. program is the path of this very program.
func (v *Vault) Unlock(ctx context.Context, program, passphrase string, long time.Duration) (time.Time, error) {
	id, err := v.Unwrap(passphrase)
	if err != nil {
		return time.Time{}, err
	}
	until := time.Now().Add(long).Truncate(time.Second)
	return until, giveHolder(ctx, program, v.socket, message{Want: wantHold, Identity: id.String(), Until: until})
}

// UnlockRing lets the system's keyring ask for its password.
func (v *Vault) UnlockRing(ctx context.Context) error { return v.ring.Unlock(ctx) }

// Lock ends the holding process, and with it what it held for one sign-in; false when
// there was none.
func (v *Vault) Lock() (bool, error) {
	_, err := askHolder(v.socket, message{Want: wantEnd})
	if errors.Is(err, errNoHolder) {
		return false, nil
	}
	return err == nil, err
}

// PutInMemory gives a secret to the holding process alone, which forgets it when the
// time is over, when the terminal session that gave it ends, or by Lock. Nothing is
// written.
func (v *Vault) PutInMemory(ctx context.Context, program, name, secret string, until time.Time) error {
	v.seen(secret)
	return giveHolder(ctx, program, v.socket, message{Want: wantKeep, Name: name, Secret: secret, Until: until, Leader: sessionLeader()})
}

// GetInMemory reads such a secret; false when it is forgotten.
func (v *Vault) GetInMemory(name string) (string, bool, error) {
	m, err := askHolder(v.socket, message{Want: wantSecret, Name: name})
	if errors.Is(err, errNoHolder) {
		return "", false, nil
	}
	v.seen(m.Secret)
	return m.Secret, m.Secret != "", err
}

// RemoveInMemory lets the holding process forget such a secret now.
func (v *Vault) RemoveInMemory(name string) error {
	_, err := askHolder(v.socket, message{Want: wantDrop, Name: name})
	if errors.Is(err, errNoHolder) {
		return nil
	}
	return err
}

// Destroy ends the holding process and removes the vault for good: its entry in the system's keyring, and its files.
// What else is in its folder stays, and is told.
func (v *Vault) Destroy(ctx context.Context) (left []string, err error) {
	if _, err := v.Lock(); err != nil {
		return nil, err
	}
	info, found, err := v.info()
	if err != nil {
		return nil, err
	}
	if found && info.By == ByKeyring {
		if err := v.ring.Remove(ctx, info.Recipient); err != nil {
			return nil, err
		}
	}
	return files.Clear(v.dir, "vault.json", "lock", "secrets*.age", "identity*", "copies")
}
