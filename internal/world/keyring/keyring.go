// Package keyring keeps a secret in the system's own keyring: the Secret Service on
// Linux (freedesktop.org Secret Service API), the keychain on macOS, the credential
// store on Windows. It never starts a bus or a keyring that is not there, and never
// waits without end for a question that nobody answers.
package keyring

import (
	"context"
	"errors"
	"time"

	system "github.com/zalando/go-keyring"

	"uncinate/internal/core/fault"
)

// service is the name under which the keyring keeps our entries.
const service = "uncinate"

// The time limits of one talk with the keyring: with a person who may have to type
// the keyring's own password, and without.
const (
	LimitAsking = 2 * time.Minute
	LimitSilent = 5 * time.Second
)

// System is the keyring of this machine's signed-in person.
type System struct{}

// Locked is the fault when the keyring cannot be read without its password.
func Locked() *fault.Fault {
	return fault.New(fault.Decision, "the system's keyring is locked, and the vault with it").
		Try("open it; the keyring asks for its own password", "uncinate vault unlock")
}

// Open reports whether the keyring can be read without asking anyone. It is an error
// where there is no keyring at all.
func (System) Open(ctx context.Context) (bool, error) {
	return limited(ctx, LimitSilent, func() (bool, error) {
		locked, err := locked()
		return !locked, err
	})
}

// Unlock lets the keyring ask for its password if it is locked.
func (System) Unlock(ctx context.Context) error {
	_, err := limited(ctx, LimitAsking, func() (bool, error) { return true, unlock() })
	return err
}

// Get reads an entry. A locked keyring is a fault; with mayAsk it asks first.
func (r System) Get(ctx context.Context, name string, mayAsk bool) (string, error) {
	if err := r.ready(ctx, mayAsk); err != nil {
		return "", err
	}
	got, err := limited(ctx, LimitSilent, func() (string, error) { return system.Get(service, name) })
	if errors.Is(err, system.ErrNotFound) {
		return "", fault.New(fault.Failed, "the system's keyring has no entry for this vault").
			Detail("It may be another person's keyring, or the entry was removed in it.")
	}
	return got, err
}

// Set writes an entry, replacing an older one of that name.
func (r System) Set(ctx context.Context, name, secret string) error {
	if err := r.ready(ctx, true); err != nil {
		return err
	}
	_, err := limited(ctx, LimitSilent, func() (bool, error) { return true, system.Set(service, name, secret) })
	return err
}

// Remove takes an entry out; one that is not there is no error.
func (r System) Remove(ctx context.Context, name string) error {
	if err := r.ready(ctx, false); err != nil {
		return err
	}
	_, err := limited(ctx, LimitSilent, func() (bool, error) { return true, system.Delete(service, name) })
	if errors.Is(err, system.ErrNotFound) {
		return nil
	}
	return err
}

func (r System) ready(ctx context.Context, mayAsk bool) error {
	open, err := r.Open(ctx)
	switch {
	case err != nil || open:
		return err
	case !mayAsk:
		return Locked()
	}
	return r.Unlock(ctx)
}

// limited does a call that knows no time limit of its own.
func limited[T any](ctx context.Context, limit time.Duration, call func() (T, error)) (T, error) {
	type result struct {
		value T
		err   error
	}
	done := make(chan result, 1)
	go func() {
		value, err := call()
		done <- result{value, err}
	}()
	var none T
	select {
	case r := <-done:
		var f *fault.Fault
		if r.err == nil || errors.As(r.err, &f) || errors.Is(r.err, system.ErrNotFound) {
			return r.value, r.err
		}
		return none, fault.New(fault.Failed, "the system's keyring refused").Because(r.err)
	case <-ctx.Done():
		return none, ctx.Err()
	case <-time.After(limit):
		return none, fault.New(fault.Failed, "the system's keyring did not answer within %s", limit)
	}
}
