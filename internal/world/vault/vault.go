// Package vault keeps secrets: one age file (age-encryption.org/v1) encrypted to an
// X25519 identity. Only that identity is wrapped, by a passphrase (scrypt), or is
// in the system's keyring, or in a key file that its owner chose knowingly. Reading
// the vault takes the identity: from the keyring or key file, from the small process
// that holds it for a time, or from a person who types the passphrase.
//
// Every file of the vault has a copy in the folder copies, written just before it: a
// damaged file is an error that names the copy, if that is good.
package vault

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// The ways in which the identity is protected.
const (
	ByPassphrase = "passphrase"
	ByKeyring    = "keyring"
	ByFile       = "file"
)

// Ways names them, the most careful ones first.
var Ways = []string{ByPassphrase, ByKeyring, ByFile}

// Ring is the system's keyring. Its errors are faults; one of kind Decision means
// that it is locked.
type Ring interface {
	Open(ctx context.Context) (bool, error)
	Unlock(ctx context.Context) error
	Get(ctx context.Context, name string, mayAsk bool) (string, error)
	Set(ctx context.Context, name, secret string) error
	Remove(ctx context.Context, name string) error
}

// cheap is set by the linker (-X) where tests build the program: a passphrase then costs next to
// nothing to try. What ships has it empty.
var cheap string

// Vault is the vault in a folder. It need not exist yet.
type Vault struct {
	dir    string
	socket string
	ring   Ring
	ask    func() (string, error) // asks for the passphrase; nil where nobody can be asked
	seen   func(secret string)    // is told every secret that is read or written
	count  int                    // how many changes it went through, as it says itself
	notes  string                 // the file outside of it in which that is noted; "" for none
	older  func(is, was int)      // is told once when the vault is older than it was
	work   int                    // scrypt's work factor, a power of two; 0 for the library's own
}

// Info is what can be told without opening the vault.
type Info struct {
	By        string    `json:"by"`        // one of Ways
	Recipient string    `json:"recipient"` // the public half
	Made      time.Time `json:"made"`      //
	Version   int       `json:"version"`   // of this file's form

	Generation int `json:"generation,omitempty"` // which of the vault's files count

	Open     bool      `json:"-"` // can be read without asking anyone
	Until    time.Time `json:"-"` // when the holding process ends; zero if none
	Folder   string    `json:"-"` //
	Secrets  string    `json:"-"` // the file with the secrets
	Identity string    `json:"-"` // the file with the identity
}

// At gives the vault in folder dir whose holding process listens at run's socket.
func At(dir, run string, ring Ring) *Vault {
	v := &Vault{dir: dir, socket: filepath.Join(run, "vault.sock"), ring: ring, seen: func(string) {}}
	if cheap != "" {
		v.work = 10
	}
	return v
}

// OnSecret sets who is told of every secret that is read or written, so that it can
// be blanked wherever it would be shown.
func (v *Vault) OnSecret(seen func(secret string)) { v.seen = seen }

// Hide lets a secret that is kept in no vault be blanked like those that are.
func (v *Vault) Hide(secret string) { v.seen(secret) }

// AskWith sets how a person is asked for the passphrase.
func (v *Vault) AskWith(ask func() (string, error)) { v.ask = ask }

func (v *Vault) infoPath() string { return filepath.Join(v.dir, "vault.json") }

// The vault's files carry the number of its generation, but for the first: a change
// writes the next generation's files beside the old ones, and vault.json says which
// one counts.
func (i Info) path(name, ending string) string {
	if i.Generation > 0 {
		name = fmt.Sprintf("%s.%d", name, i.Generation)
	}
	return filepath.Join(i.Folder, name+ending)
}

func (i Info) secretsPath() string { return i.path("secrets", ".age") }
func (i Info) wrappedPath() string { return i.path("identity", ".age") }
func (i Info) keyPath() string     { return i.path("identity", ".key") }

// Missing is the fault when there is no vault yet.
func Missing() *fault.Fault {
	return fault.New(fault.Decision, "there is no vault yet to keep secrets in").
		Try("protected by a passphrase that you type", "uncinate vault make --by passphrase").
		Try("or by the keyring that your system opens when you sign in", "uncinate vault make --by keyring").
		Try("or by a key file that anyone who can read your files can use", "uncinate vault make --by file")
}

// Locked is the fault when the vault cannot be read without the passphrase.
func Locked() *fault.Fault {
	return fault.New(fault.Decision, "the vault is locked").Try("open it for a time", "uncinate vault unlock")
}

// WrongPassphrase is the fault when the passphrase does not open the vault.
var WrongPassphrase = fault.New(fault.Failed, "the passphrase is wrong; the vault stays locked").
	Try("try again", "uncinate vault unlock")

// info reads what the vault says of itself; false when there is none.
func (v *Vault) info() (Info, bool, error) {
	i, err := readInfo(v.infoPath())
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := os.Lstat(copyOf(v.infoPath())); err == nil {
			return i, false, damaged("is gone", v.infoPath(), func([]byte) error { _, err := readInfo(copyOf(v.infoPath())); return err })
		}
		return i, false, nil
	}
	if err != nil {
		if fault.Of(err) == errNewer {
			return i, false, fault.New(fault.Failed, "the vault in %s was made by a newer version of this program", text.Visible(v.dir)).
				Try("see which this one is", "uncinate version")
		}
		return i, false, damaged("is damaged", v.infoPath(), func([]byte) error { _, err := readInfo(copyOf(v.infoPath())); return err })
	}
	i.Folder = v.dir
	i.Secrets, i.Identity = i.secretsPath(), i.wrappedPath()
	switch i.By {
	case ByFile:
		i.Identity = i.keyPath()
	case ByKeyring:
		i.Identity = "the system's keyring"
	}
	return i, true, ownVault(v.dir)
}

// Info tells of the vault and whether it is open; false when there is none.
func (v *Vault) Info(ctx context.Context) (Info, bool, error) {
	i, found, err := v.info()
	if err != nil || !found {
		return i, found, err
	}
	switch i.By {
	case ByFile:
		i.Open = true
	case ByKeyring:
		i.Open, err = v.ring.Open(ctx)
	default:
		if m, err := askHolder(v.socket, message{Want: wantIdentity}); err == nil && m.Identity != "" {
			i.Open, i.Until = true, m.Until
		}
	}
	return i, true, err
}

// Make makes a new vault, protected in one of the Ways.
func (v *Vault) Make(ctx context.Context, by, passphrase string) error {
	if _, found, err := v.info(); err != nil || found {
		if err == nil {
			err = fault.New(fault.Refused, "there is a vault already, in %s", text.Visible(v.dir)).Try("see it", "uncinate vault show")
		}
		return err
	}
	err := v.establish(ctx, Info{By: by, Folder: v.dir}, passphrase, map[string]string{})
	if err != nil && by == ByKeyring && ctx.Err() == nil {
		f := *fault.Of(err)
		return f.Try("protect it by a passphrase instead", "uncinate vault make --by passphrase")
	}
	return err
}

// establish makes a new identity, protects it, writes the secrets for it and, at the
// end, lets them count.
func (v *Vault) establish(ctx context.Context, info Info, passphrase string, all map[string]string) error {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	switch info.By {
	case ByFile:
		err = keep(info.keyPath(), []byte(id.String()+"\n"))
	case ByKeyring:
		err = v.ring.Set(ctx, id.Recipient().String(), id.String())
	case ByPassphrase:
		if len(passphrase) < 8 {
			return fault.New(fault.Usage, "a passphrase of fewer than 8 characters is too easily guessed")
		}
		var recipient *age.ScryptRecipient
		if recipient, err = age.NewScryptRecipient(passphrase); err == nil {
			if v.work > 0 {
				recipient.SetWorkFactor(v.work)
			}
			var sealed []byte
			if sealed, err = seal([]byte(id.String()), recipient); err == nil {
				err = keep(info.wrappedPath(), sealed)
			}
		}
	default:
		err = fault.New(fault.Usage, "a vault is protected by %s, not by %q", strings.Join(Ways, ", "), text.Excerpt(info.By, 30))
	}
	if err == nil {
		err = v.write(info, id.Recipient(), all)
	}
	if err != nil {
		return err
	}
	info.Recipient, info.Made, info.Version = id.Recipient().String(), time.Now().UTC().Truncate(time.Second), 1
	data, err := json.MarshalIndent(info, "", "  ")
	if err != nil {
		return err
	}
	return keep(v.infoPath(), append(data, '\n'))
}

// Change protects the vault in another way, or by another passphrase. The secrets are
// encrypted again to a new identity: what opened the vault before opens it no more. A
// change that is cut off leaves the vault as it was.
func (v *Vault) Change(ctx context.Context, by, passphrase string) (err error) {
	release, err := v.alone(ctx)
	if err != nil {
		return err
	}
	defer fault.Also(&err, release)
	all, _, old, err := v.read(ctx, true)
	if err != nil {
		return err
	}
	if err := v.establish(ctx, Info{By: by, Folder: v.dir, Generation: old.Generation + 1}, passphrase, all); err != nil {
		return err
	}
	// What the holder kept of the old identity no longer opens anything.
	if _, err := askHolder(v.socket, message{Want: wantLock}); err != nil && !errors.Is(err, errNoHolder) {
		return err
	}
	for _, path := range []string{old.secretsPath(), old.wrappedPath(), old.keyPath()} {
		for _, path := range []string{path, copyOf(path)} {
			if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fault.New(fault.Failed, "the vault was changed, but its old file %s cannot be removed", text.Visible(path)).Because(err).
					Try("remove it", text.Command("rm", "--", path))
			}
		}
	}
	if old.By == ByKeyring {
		if err := v.ring.Remove(ctx, old.Recipient); err != nil {
			return fault.New(fault.Failed, "the vault was changed, but its old entry cannot be removed from the system's keyring").Because(err).
				Detail("The entry no longer opens anything. It is named %s.", old.Recipient)
		}
	}
	return nil
}

// identity finds the identity without asking anyone, or by asking.
func (v *Vault) identity(ctx context.Context, info Info, mayAsk bool) (*age.X25519Identity, error) {
	switch info.By {
	case ByFile:
		if err := private(info.keyPath()); err != nil {
			return nil, err
		}
		data, err := files.Read(info.keyPath(), 4096)
		fits := func(data []byte) error { _, err := parseIdentity(string(data), info); return err }
		if errors.Is(err, fs.ErrNotExist) {
			return nil, damaged("is gone", info.keyPath(), fits)
		}
		if err != nil {
			return nil, err
		}
		id, err := parseIdentity(string(data), info)
		if err != nil {
			return nil, damaged("is damaged", info.keyPath(), fits)
		}
		return id, nil
	case ByKeyring:
		held, err := v.ring.Get(ctx, info.Recipient, mayAsk)
		if err != nil {
			return nil, err
		}
		return parseIdentity(held, info)
	}
	if m, err := askHolder(v.socket, message{Want: wantIdentity}); err == nil && m.Identity != "" {
		return parseIdentity(m.Identity, info)
	}
	if !mayAsk || v.ask == nil {
		return nil, Locked()
	}
	passphrase, err := v.ask()
	if err != nil {
		return nil, err
	}
	return v.Unwrap(passphrase)
}

// parseIdentity takes an identity that must be the vault's.
func parseIdentity(s string, of Info) (*age.X25519Identity, error) {
	id, err := age.ParseX25519Identity(strings.TrimSpace(s))
	if err != nil || id.Recipient().String() != of.Recipient {
		// The library's error may repeat what it read.
		return nil, fault.New(fault.Failed, "the vault's identity is damaged, or is another vault's")
	}
	return id, nil
}

// Unwrap opens the identity with a passphrase.
func (v *Vault) Unwrap(passphrase string) (*age.X25519Identity, error) {
	info, found, err := v.info()
	if err != nil {
		return nil, err
	}
	if !found {
		return nil, Missing()
	}
	path := info.wrappedPath()
	unwrap := func(data []byte) (*age.X25519Identity, error) {
		scrypt, err := age.NewScryptIdentity(passphrase)
		if err != nil {
			return nil, WrongPassphrase
		}
		plain, err := open(data, scrypt)
		var wrong *age.NoIdentityMatchError
		if errors.As(err, &wrong) {
			return nil, WrongPassphrase
		}
		if err != nil {
			return nil, err
		}
		return parseIdentity(string(plain), info)
	}
	fits := func(data []byte) error { _, err := unwrap(data); return err }
	data, err := files.Read(path, 64<<10)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, damaged("is gone", path, fits)
	}
	if err != nil {
		return nil, err
	}
	id, err := unwrap(data)
	if errors.Is(err, WrongPassphrase) {
		// A damaged wrapping looks the same, but then the copy differs from it and opens.
		if kept, e := files.Read(copyOf(path), 64<<10); e != nil || bytes.Equal(kept, data) || fits(kept) != nil {
			return nil, err
		}
	}
	if err != nil {
		return nil, damaged("is damaged", path, fits)
	}
	return id, nil
}

// Get reads one secret; false when there is none of the name. Without mayAsk nobody
// is asked for what opens the vault.
func (v *Vault) Get(ctx context.Context, name string, mayAsk bool) (string, bool, error) {
	all, _, _, err := v.read(ctx, mayAsk)
	if err != nil {
		return "", false, err
	}
	s, found := all[name]
	return s, found, nil
}

// Ready makes sure that the vault exists and can be opened, asking if it must.
func (v *Vault) Ready(ctx context.Context) error {
	_, _, _, err := v.read(ctx, true)
	return err
}

// Put stores secrets under their names, replacing older ones: all of them or none. An
// empty one takes what is there out.
func (v *Vault) Put(ctx context.Context, secrets map[string]string) error {
	for _, secret := range secrets {
		v.seen(secret)
	}
	return v.change(ctx, func(all map[string]string) {
		for name, secret := range secrets {
			if all[name] = secret; secret == "" {
				delete(all, name)
			}
		}
	})
}

// Remove takes secrets out; one that is not there is no error.
func (v *Vault) Remove(ctx context.Context, names ...string) error {
	return v.change(ctx, func(all map[string]string) {
		for _, name := range names {
			delete(all, name)
		}
	})
}

func (v *Vault) change(ctx context.Context, how func(map[string]string)) (err error) {
	release, err := v.alone(ctx)
	if err != nil {
		return err
	}
	defer fault.Also(&err, release)
	all, id, info, err := v.read(ctx, true)
	if err != nil {
		return err
	}
	how(all)
	return v.write(info, id.Recipient(), all)
}

// mostWait is how long the vault's lock is waited for.
const mostWait = 10 * time.Second

// alone waits for the vault's lock.
func (v *Vault) alone(ctx context.Context) (release func() error, err error) {
	held, _, err := files.LockWait(ctx, filepath.Join(v.dir, "lock"), mostWait)
	if err != nil {
		return nil, err
	}
	if held == nil {
		return nil, fault.New(fault.Failed, "another process has been writing the vault for ten seconds; try again")
	}
	return held.Release, nil
}
