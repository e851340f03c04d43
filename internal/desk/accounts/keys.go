package accounts

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/openssh"
)

// Signs reports whether signatures can be told to be the account's: by its e-mail.
func (a *Account) Signs() error {
	if a.Email == "" || strings.ContainsAny(a.Email, " \t\"\n,*?!") {
		return fault.New(fault.Decision, "the account %s has no e-mail by which its signatures could be told to be its own", a.Name).
			Try("say it", a.Again("--email", "ADDRESS"))
	}
	return nil
}

// DropFiles removes both halves of a key; one that is gone already is not an error.
func DropFiles(k *Key) error {
	for _, path := range []string{k.File, k.File + ".pub"} {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fault.New(fault.Failed, "%s cannot be removed", text.Visible(path)).Because(err)
		}
	}
	return nil
}

// KindOf finds the kind of key in what SSH calls it; "" for one that is not known.
func KindOf(kind string) string {
	for _, k := range sshkey.Kinds {
		if strings.Contains(kind, k) {
			return k
		}
	}
	return ""
}

// How an account's keys on this machine stand to one another. Outside of a rotation
// there is only the valid one.
const (
	KeyInForce = ""
	KeyNext    = "next" // made, and not used yet
	KeyOld     = "old"  // no longer used, and still on the host
)

// Key is one of this machine's SSH keys: an account's. Its private half is in a file
// of its own and nowhere else; the passphrase that encrypts it is in the vault.
type Key struct {
	Account    string    `json:"account"`
	Host       string    `json:"host"`
	Machine    string    `json:"machine"`
	Public     string    `json:"public" says:"its public half, as in a .pub file"`
	File       string    `json:"file" says:"where its private half is, or its public one if the private one is in an agent or in hardware"`
	Sealed     bool      `json:"sealed,omitempty" says:"encrypted with a passphrase that is in the vault"`
	Registered bool      `json:"registered,omitempty" says:"it was not made here"`
	Signs      bool      `json:"signs,omitempty" says:"commits and tags are signed with it"`
	Created    time.Time `json:"created"`
	State      string    `json:"state,omitempty" says:"next or old while keys are being rotated"`
	Alone      bool      `json:"-"` // it is no account's: a file that the person named for one repository
}

// Half is the public half.
func (k *Key) Half() sshkey.Public {
	p, err := sshkey.Read(k.Public)
	if err != nil {
		return sshkey.Public{}
	}
	return p
}

// Fingerprint is the public half's.
func (k *Key) Fingerprint() string { return k.Half().Fingerprint() }

// SecretName is the passphrase's in the vault.
func (k *Key) SecretName() string { return "key/" + k.Fingerprint() }

func keysFile(d *desk.Desk) string { return filepath.Join(d.Home.Config, "keys.json") }

// KeysFolder holds the private halves.
func KeysFolder(d *desk.Desk) string { return filepath.Join(filepath.Dir(d.Home.Vault), "keys") }

// Keys lists this machine's keys.
func Keys(d *desk.Desk) ([]*Key, error) {
	var all []*Key
	_, err := files.ReadJSON(keysFile(d), &all)
	return all, err
}

// KeyOf finds an account's key in a state; nil for none.
func KeyOf(d *desk.Desk, account, state string) (*Key, error) {
	all, err := Keys(d)
	for _, k := range all {
		if k.Account == account && k.State == state {
			return k, err
		}
	}
	return nil, err
}

// KeyFileOf is where an account's valid key is; "" for none.
func KeyFileOf(d *desk.Desk, account string) (string, error) {
	k, err := KeyOf(d, account, KeyInForce)
	if err != nil || k == nil {
		return "", err
	}
	return k.File, nil
}

// ChangeKeys writes the list of keys again.
func ChangeKeys(ctx context.Context, d *desk.Desk, change func([]*Key) []*Key) error {
	return desk.Alter(ctx, d, keysFile(d), func(all []*Key) ([]*Key, error) { return change(all), nil })
}

// NoKey is the fault when an account has no key on this machine.
func NoKey(d *desk.Desk, a *Account) *fault.Fault {
	return fault.New(fault.Decision, "the account %s has no SSH key on this machine", a.Name).
		Try("make one", text.Command("uncinate", "key", "make", a.Name)).
		Try("or use one that you have, by its public half", text.Command("uncinate", "key", "make", a.Name, "--public", "FILE"))
}

// OfFile is the key in a file that a person names for one repository: its private half, or its public one where the
// private one is in an agent or in hardware.
func OfFile(path string) (*Key, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	k := &Key{Account: "key-" + files.Short(path), File: path, Registered: true, Alone: true}
	data, err := files.ReadNamed(path, 64<<10)
	if err != nil {
		return nil, fault.New(fault.Usage, "the key's file %s cannot be read: %s", text.Visible(path), files.Plain(err)).Because(err)
	}
	if k.private() {
		if public, err := sshkey.Half(data); err == nil {
			k.Public = public.Line()
			return k, nil
		}
		if data, err = files.ReadNamed(path+".pub", 64<<10); err != nil {
			return nil, fault.New(fault.Usage, "%s holds no SSH key that can be read", text.Visible(path))
		}
	}
	public, err := sshkey.Read(strings.TrimSpace(string(data)))
	if err != nil {
		return nil, fault.New(fault.Usage, "%s holds no SSH key that can be read", text.Visible(path)).Because(err)
	}
	k.Public = public.Line()
	return k, nil
}

// Whose names the key by its account, or its file.
func (k *Key) Whose() string {
	if k.Alone {
		return "the SSH key " + text.Visible(k.File)
	}
	return "the SSH key of account " + k.Account
}

// private reports whether the file holds the private half.
func (k *Key) private() bool { return !strings.HasSuffix(k.File, ".pub") }

// Guarded refuses a private half that others can read, as ssh itself does, or that is gone.
func (k *Key) Guarded() error {
	info, err := os.Stat(k.File)
	if err != nil {
		f := fault.New(fault.Failed, "the key's file %s is gone", text.Visible(k.File)).Because(err)
		if k.Alone {
			return f
		}
		return f.Try("make a new key in its place, everywhere", text.Command("uncinate", "key", "rotate", k.Account))
	}
	if runtime.GOOS == "windows" || !k.private() {
		return nil
	}
	for _, x := range []struct {
		path string
		mode fs.FileMode
		may  fs.FileMode
		want string
	}{{k.File, info.Mode(), 0o077, "600"}, {filepath.Dir(k.File), folderMode(k.File), 0o022, "700"}} {
		if x.mode.Perm()&x.may != 0 {
			return fault.New(fault.Refused, "others can read or change %s (its mode is %o), so the key in it is not used", text.Visible(x.path), x.mode.Perm()).
				Try("mend that", text.Command("chmod", x.want, "--", x.path))
		}
	}
	return nil
}

// Opened refuses a key of the person's own that a passphrase protects and that no agent
// offers: nobody could be asked for it when git signs in.
func (k *Key) Opened() error {
	if !k.Registered {
		return nil
	}
	offered := func() bool {
		x, err := openssh.FindAgent()
		if err != nil {
			return false
		}
		keys, err := x.Keys()
		return err == nil && slices.ContainsFunc(keys, func(p sshkey.Public) bool { return p.Same(k.Half()) })
	}
	if k.private() {
		private, err := files.Read(k.File, 64<<10)
		if err != nil {
			return err
		}
		if !sshkey.Protected(private) {
			return nil
		}
	} else if k.Half().Hardware() {
		return nil // ssh finds the security key by itself
	}
	if offered() {
		return nil
	}
	why := "a passphrase of its own protects it"
	if !k.private() {
		why = "its private half is in no file that is known"
	}
	f := fault.New(fault.Decision, "%s cannot be used: %s, and no SSH agent offers it", k.Whose(), why).
		Try("give it to the agent", text.Command("ssh-add", strings.TrimSuffix(k.File, ".pub")))
	if k.Alone {
		return f
	}
	return f.Try("or put a new key in its place, whose passphrase the vault keeps", text.Command("uncinate", "key", "rotate", k.Account))
}

func folderMode(path string) fs.FileMode {
	if info, err := os.Stat(filepath.Dir(path)); err == nil {
		return info.Mode()
	}
	return 0
}

// Passphrase gives a sealed key's; a missing one is a fault.
func Passphrase(ctx context.Context, d *desk.Desk, k *Key, mayAsk bool) (string, error) {
	passphrase, found, err := d.Vault.Get(ctx, k.SecretName(), mayAsk)
	if err == nil && !found {
		err = fault.New(fault.Decision, "the vault does not hold the passphrase of the key of account %s", k.Account).
			Try("put a new key in its place", text.Command("uncinate", "key", "rotate", k.Account))
	}
	return passphrase, err
}
