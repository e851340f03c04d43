package credentials

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/world/files"
)

// KeyOptions are a person's wishes for a key.
type KeyOptions struct {
	Account string
	Kind    string // ed25519 by default
	Open    bool   // without a passphrase
	Public  string // file with the public half of a key that is registered
	Preview bool   // only check whether it can be done; there is no key then
}

// MakeKey makes an account's key for this machine, or takes one in.
func MakeKey(ctx context.Context, d *desk.Desk, o KeyOptions) (*accounts.Key, error) {
	a, err := accounts.Named(d, o.Account)
	if err != nil {
		return nil, err
	}
	old, err := accounts.KeyOf(d, a.Name, accounts.KeyInForce)
	if err != nil {
		return nil, err
	}
	if old != nil {
		return nil, fault.New(fault.Decision, "the account %s has a key on this machine already: %s", a.Name, old.Fingerprint()).
			Try("put a new one in its place, everywhere", text.Command("uncinate", "key", "rotate", a.Name)).
			Try("or see its state", text.Command("uncinate", "key", "list", a.Name))
	}
	if o.Public != "" {
		return takeIn(ctx, d, a, o.Public, o.Preview)
	}
	if _, err := d.Machine(); err != nil || o.Preview {
		return nil, err
	}
	return makeKey(ctx, d, a, o.Kind, o.Open, accounts.KeyInForce)
}

// makeKey makes a pair: the passphrase goes into the vault first, then the private half
// into its file, then the entry is made.
func makeKey(ctx context.Context, d *desk.Desk, a *accounts.Account, kind string, open bool, state string) (*accounts.Key, error) {
	machine, err := d.Machine()
	if err != nil {
		return nil, err
	}
	if kind == "" {
		kind = sshkey.Kinds[0]
	}
	passphrase := ""
	if !open {
		if err := d.Vault.Ready(ctx); err != nil {
			return nil, err
		}
		random := make([]byte, 24)
		if _, err := rand.Read(random); err != nil {
			return nil, err
		}
		passphrase = base64.RawURLEncoding.EncodeToString(random)
		d.Vault.Hide(passphrase)
	}
	private, public, err := sshkey.Make(kind, sshkey.Name(a.Name, a.Host, machine), passphrase, rand.Reader)
	if err != nil {
		return nil, err
	}
	k := &accounts.Key{Account: a.Name, Host: a.Host, Machine: machine, Public: public.Line(), Sealed: !open, Created: d.Now().UTC().Truncate(time.Second), State: state}
	if !open {
		if err := d.Vault.Put(ctx, map[string]string{k.SecretName(): passphrase}); err != nil {
			return nil, err
		}
	}
	k.File = filepath.Join(accounts.KeysFolder(d), a.Name+"-"+files.Short(k.Fingerprint()))
	var wrote error
	err = accounts.ChangeKeys(ctx, d, func(all []*accounts.Key) []*accounts.Key {
		wrote = errors.Join(sweep(d, a.Name, all), files.Write(k.File, private, 0o600), files.Write(k.File+".pub", []byte(k.Public+"\n"), 0o644))
		return text.Either(wrote == nil, append(all, k), all)
	})
	if err = errors.Join(wrote, err); err != nil {
		return nil, err
	}
	return k, nil
}

// sweep removes the files that a run left which was killed as it made a key of the account: those of no
// key that is known. Keys are made one at a time.
func sweep(d *desk.Desk, account string, all []*accounts.Key) error {
	names, err := files.Names(accounts.KeysFolder(d))
	if err != nil {
		return err
	}
	left := regexp.MustCompile(`^\.?` + regexp.QuoteMeta(account) + `-[0-9a-f]{16}(\.pub)?[0-9]*$`)
	for _, n := range names {
		path := filepath.Join(accounts.KeysFolder(d), n)
		known := slices.ContainsFunc(all, func(k *accounts.Key) bool { return k.File == path || k.File+".pub" == path })
		if left.MatchString(n) && !known {
			if err := files.Remove(path); err != nil {
				return err
			}
		}
	}
	return nil
}

// takeIn takes a key in by its public half. The private one stays where it is: beside
// it, in an agent, or in hardware.
func takeIn(ctx context.Context, d *desk.Desk, a *accounts.Account, given string, preview bool) (*accounts.Key, error) {
	path, err := filepath.Abs(given)
	if err != nil {
		return nil, err
	}
	data, err := files.Read(path, sshkey.Longest)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.Usage, "there is no file %s", text.Visible(path))
	}
	if err != nil {
		return nil, err
	}
	public, err := sshkey.Read(string(data))
	if err != nil {
		return nil, err
	}
	if why := public.Weak(); why != "" {
		return nil, fault.New(fault.Refused, "the key is too weak: %s", why).TryWithout("make a new one", text.Command("uncinate", "key", "make", a.Name), "public")
	}
	machine, err := d.Machine()
	if err != nil {
		return nil, err
	}
	all, err := accounts.Keys(d)
	if err != nil {
		return nil, err
	}
	for _, k := range all {
		if k.Half().Same(public) {
			return nil, fault.New(fault.Decision, "the key is that of the account %s already; each account has one of its own", k.Account).
				TryWithout("make one for this account", text.Command("uncinate", "key", "make", a.Name), "public")
		}
	}
	if preview {
		return nil, nil
	}
	k := &accounts.Key{Account: a.Name, Host: a.Host, Machine: machine, Public: public.Line(), Registered: true, Created: d.Now().UTC().Truncate(time.Second)}
	k.File = strings.TrimSuffix(path, ".pub")
	if k.File == path || files.Reached(k.File) != files.Regular {
		k.File = filepath.Join(accounts.KeysFolder(d), a.Name+"-"+files.Short(k.Fingerprint())+".pub")
		if err := files.Write(k.File, []byte(k.Public+"\n"), 0o644); err != nil {
			return nil, err
		}
	} else if err := k.Guarded(); err != nil {
		return nil, err
	}
	return k, accounts.ChangeKeys(ctx, d, func(all []*accounts.Key) []*accounts.Key { return append(all, k) })
}
