// Package vault keeps secrets: one age file (age-encryption.org/v1) encrypted to an
// X25519 identity. Only that identity is wrapped, by a passphrase (scrypt), or lies
// in a key file that its owner chose knowingly. Reading the vault takes the identity:
// from the key file, from the small process that holds it for a time, or from a
// person who types the passphrase.
package vault

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
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
	ByFile       = "file"
)

// Vault is the vault in a folder. It need not exist yet.
type Vault struct {
	dir    string
	socket string
	ask    func() (string, error) // asks for the passphrase; nil where nobody can be asked
}

// Info is what can be told without opening the vault.
type Info struct {
	By        string    `json:"by"`        // "passphrase" or "file"
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
func At(dir, run string) *Vault {
	return &Vault{dir: dir, socket: filepath.Join(run, "vault.sock")}
}

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
		Try("or by a key file that anyone who can read your files can use", "uncinate vault make --by file")
}

// Locked is the fault when the vault cannot be read without the passphrase.
func Locked() *fault.Fault {
	return fault.New(fault.Decision, "the vault is locked").Try("open it for a time", "uncinate vault unlock")
}

// WrongPassphrase is the fault when the passphrase does not open the vault.
var WrongPassphrase = fault.New(fault.Failed, "the passphrase is wrong; the vault stays locked").
	Try("try again", "uncinate vault unlock")

// Info tells of the vault; false when there is none.
func (v *Vault) Info() (Info, bool, error) {
	var i Info
	found, err := files.ReadJSON(v.infoPath(), &i)
	if err != nil || !found {
		return i, false, err
	}
	if i.Version != 1 {
		return i, false, fault.New(fault.Failed, "the vault in %s has version %d, and this program knows version 1", text.Visible(v.dir), i.Version)
	}
	i.Folder = v.dir
	i.Secrets, i.Identity = i.secretsPath(), i.wrappedPath()
	if i.By == ByFile {
		i.Identity, i.Open = i.keyPath(), true
		return i, true, nil
	}
	if _, until, err := askHolder(v.socket); err == nil {
		i.Open, i.Until = true, until
	}
	return i, true, nil
}

// Make makes a new vault, protected by a passphrase or a key file.
func (v *Vault) Make(by, passphrase string) error {
	if _, found, err := v.Info(); err != nil || found {
		if err == nil {
			err = fault.New(fault.Refused, "there is a vault already, in %s", text.Visible(v.dir)).Try("see it", "uncinate vault show")
		}
		return err
	}
	return v.establish(Info{By: by, Folder: v.dir}, passphrase, map[string]string{})
}

// establish makes a new identity, protects it, writes the secrets for it and, at the
// end, lets them count.
func (v *Vault) establish(info Info, passphrase string, all map[string]string) error {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	switch info.By {
	case ByFile:
		err = files.Write(info.keyPath(), []byte(id.String()+"\n"), 0o600)
	case ByPassphrase:
		if len(passphrase) < 8 {
			return fault.New(fault.Usage, "a passphrase of fewer than 8 characters is too easily guessed")
		}
		var recipient *age.ScryptRecipient
		if recipient, err = age.NewScryptRecipient(passphrase); err == nil {
			var sealed []byte
			if sealed, err = seal([]byte(id.String()), recipient); err == nil {
				err = files.Write(info.wrappedPath(), sealed, 0o600)
			}
		}
	default:
		err = fault.New(fault.Usage, "a vault is protected by \"passphrase\" or \"file\", not by %q", text.Excerpt(info.By, 30))
	}
	if err == nil {
		err = write(info, id.Recipient(), all)
	}
	if err != nil {
		return err
	}
	info.Recipient, info.Made, info.Version = id.Recipient().String(), time.Now().UTC().Truncate(time.Second), 1
	return files.WriteJSON(v.infoPath(), info)
}

// Change protects the vault in another way, or by another passphrase. The secrets are
// encrypted anew to a new identity: what opened the vault before opens it no more. A
// change that is cut off leaves the vault as it was.
func (v *Vault) Change(by, passphrase string) error {
	release, err := v.alone()
	if err != nil {
		return err
	}
	defer release()
	all, _, old, err := v.read(true)
	if err != nil {
		return err
	}
	if err := v.establish(Info{By: by, Folder: v.dir, Generation: old.Generation + 1}, passphrase, all); err != nil {
		return err
	}
	if err := endHolder(v.socket); err != nil && !errors.Is(err, errNoHolder) {
		return err
	}
	for _, path := range []string{old.secretsPath(), old.wrappedPath(), old.keyPath()} {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fault.New(fault.Failed, "the vault was changed, but its old file %s cannot be removed", text.Visible(path)).Because(err).
				Try("remove it", text.Command("rm", "--", path))
		}
	}
	return nil
}

// identity finds the identity without asking anyone, or by asking.
func (v *Vault) identity(info Info, mayAsk bool) (*age.X25519Identity, error) {
	if info.By == ByFile {
		if err := private(info.keyPath()); err != nil {
			return nil, err
		}
		data, err := files.Read(info.keyPath(), 4096)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fault.New(fault.Failed, "the vault's key file is gone from %s", text.Visible(info.keyPath()))
		}
		if err != nil {
			return nil, err
		}
		return parseIdentity(string(data))
	}
	if held, _, err := askHolder(v.socket); err == nil {
		return parseIdentity(held)
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

func parseIdentity(s string) (*age.X25519Identity, error) {
	id, err := age.ParseX25519Identity(strings.TrimSpace(s))
	if err != nil {
		// The library's error may repeat what it read.
		return nil, fault.New(fault.Failed, "the vault's identity is damaged")
	}
	return id, nil
}

// Unwrap opens the identity with a passphrase.
func (v *Vault) Unwrap(passphrase string) (*age.X25519Identity, error) {
	info, found, err := v.Info()
	if err != nil {
		return nil, err
	}
	if !found {
		return nil, Missing()
	}
	data, err := files.Read(info.wrappedPath(), 64<<10)
	if err != nil {
		return nil, fault.New(fault.Failed, "the vault's wrapped identity cannot be read from %s", text.Visible(info.wrappedPath())).Because(err)
	}
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
		return nil, fault.New(fault.Failed, "the vault's wrapped identity is damaged: %s", text.Visible(info.wrappedPath())).Because(err)
	}
	return parseIdentity(string(plain))
}

// private refuses a file that others may read.
func private(path string) error {
	s, err := os.Stat(path)
	if err != nil || s.Mode().Perm()&0o077 == 0 || !modesCount {
		return nil
	}
	return fault.New(fault.Refused, "others may read %s, which opens the vault", text.Visible(path)).
		Try("keep it to yourself", text.Command("chmod", "600", path))
}

// Get reads one secret; false when there is none of the name.
func (v *Vault) Get(name string) (string, bool, error) {
	all, _, _, err := v.read(true)
	if err != nil {
		return "", false, err
	}
	s, found := all[name]
	return s, found, nil
}

// GetSilently is Get, without asking anyone.
func (v *Vault) GetSilently(name string) (string, bool, error) {
	all, _, _, err := v.read(false)
	if err != nil {
		return "", false, err
	}
	s, found := all[name]
	return s, found, nil
}

// Ready makes sure that the vault exists and can be opened, asking if it must.
func (v *Vault) Ready() error {
	_, _, _, err := v.read(true)
	return err
}

// Put stores a secret under a name, replacing an older one.
func (v *Vault) Put(name, secret string) error {
	return v.change(func(all map[string]string) { all[name] = secret })
}

// Remove takes a secret out; one that is not there is no error.
func (v *Vault) Remove(name string) error {
	return v.change(func(all map[string]string) { delete(all, name) })
}

func (v *Vault) change(how func(map[string]string)) error {
	release, err := v.alone()
	if err != nil {
		return err
	}
	defer release()
	all, id, info, err := v.read(true)
	if err != nil {
		return err
	}
	how(all)
	return write(info, id.Recipient(), all)
}

// alone waits for the vault's lock, for ten seconds at most.
func (v *Vault) alone() (release func() error, err error) {
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		held, _, err := files.Lock(filepath.Join(v.dir, "lock"))
		if err != nil {
			return nil, err
		}
		if held != nil {
			return held.Release, nil
		}
		if time.Now().After(deadline) {
			return nil, fault.New(fault.Failed, "another process has been writing the vault for ten seconds; try again")
		}
	}
}

func (v *Vault) read(mayAsk bool) (map[string]string, *age.X25519Identity, Info, error) {
	all, id, info, err := v.readOnce(mayAsk)
	if now, found, e := v.Info(); err != nil && e == nil && found && now.Generation != info.Generation {
		return v.readOnce(mayAsk) // it was changed while we read
	}
	return all, id, info, err
}

func (v *Vault) readOnce(mayAsk bool) (map[string]string, *age.X25519Identity, Info, error) {
	info, found, err := v.Info()
	if err == nil && !found {
		err = Missing()
	}
	if err != nil {
		return nil, nil, info, err
	}
	id, err := v.identity(info, mayAsk)
	if err != nil {
		return nil, nil, info, err
	}
	data, err := files.Read(info.secretsPath(), 16<<20)
	if err != nil {
		return nil, nil, info, fault.New(fault.Failed, "the vault's secrets cannot be read from %s", text.Visible(info.secretsPath())).Because(err)
	}
	plain, err := open(data, id)
	all := map[string]string{}
	if err == nil {
		err = json.Unmarshal(plain, &all)
	}
	if err != nil {
		return nil, nil, info, fault.New(fault.Failed, "the vault's file %s is damaged or is not for this identity", text.Visible(info.secretsPath())).Because(err)
	}
	return all, id, info, nil
}

func write(info Info, to age.Recipient, all map[string]string) error {
	plain, err := json.Marshal(all)
	if err != nil {
		return err
	}
	sealed, err := seal(plain, to)
	if err != nil {
		return err
	}
	return files.Write(info.secretsPath(), sealed, 0o600)
}

func seal(plain []byte, to age.Recipient) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to)
	if err == nil {
		_, err = w.Write(plain)
	}
	if err == nil {
		err = w.Close()
	}
	return out.Bytes(), err
}

func open(sealed []byte, with age.Identity) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), with)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, 16<<20))
}

// Unlock opens the vault with a passphrase and starts the process that holds it
// open for a time. program is the path of this very program.
func (v *Vault) Unlock(program, passphrase string, long time.Duration) (time.Time, error) {
	id, err := v.Unwrap(passphrase)
	if err != nil {
		return time.Time{}, err
	}
	if err := endHolder(v.socket); err != nil && !errors.Is(err, errNoHolder) {
		return time.Time{}, err
	}
	until := time.Now().Add(long).Truncate(time.Second)
	return until, startHolder(program, v.socket, id.String(), until)
}

// Lock ends the holding process; false when there was none.
func (v *Vault) Lock() (bool, error) {
	err := endHolder(v.socket)
	if errors.Is(err, errNoHolder) {
		return false, nil
	}
	return err == nil, err
}
