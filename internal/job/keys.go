package job

import (
	"context"
	"crypto/rand"
	"encoding/base64"
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
	"uncinate/internal/world/files"
	"uncinate/internal/world/openssh"
)

// How an account's keys on this machine stand to one another. Outside of a rotation
// there is only the one in force.
const (
	keyInForce = ""
	keyNext    = "next" // made, and not in force yet
	keyOld     = "old"  // not in force any more, and still on the host
)

// Key is one of this machine's SSH keys: an account's. Its private half lies in a file
// of its own and nowhere else; the passphrase that encrypts it lies in the vault.
type Key struct {
	Account string    `json:"account"`
	Host    string    `json:"host"`
	Machine string    `json:"machine"`
	Public  string    `json:"public" says:"its public half, as in a .pub file"`
	File    string    `json:"file" says:"where its private half lies, or its public one if the private one lies in an agent or in hardware"`
	Sealed  bool      `json:"sealed,omitempty" says:"encrypted with a passphrase that lies in the vault"`
	TakenIn bool      `json:"taken_in,omitempty" says:"it was not made here"`
	Signs   bool      `json:"signs,omitempty" says:"commits and tags are signed with it"`
	Made    time.Time `json:"made"`
	State   string    `json:"state,omitempty" says:"next or old while keys are being rotated"`
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

// secretName is the passphrase's in the vault.
func (k *Key) secretName() string { return "key/" + k.Fingerprint() }

func (d *Desk) keysFile() string { return filepath.Join(d.Home.Config, "keys.json") }

// keysFolder holds the private halves.
func (d *Desk) keysFolder() string { return filepath.Join(filepath.Dir(d.Home.Vault), "keys") }

// Keys lists this machine's keys.
func (d *Desk) Keys() ([]*Key, error) {
	var all []*Key
	_, err := files.ReadJSON(d.keysFile(), &all)
	return all, err
}

// keyOf finds an account's key in a state; nil for none.
func (d *Desk) keyOf(account, state string) (*Key, error) {
	all, err := d.Keys()
	for _, k := range all {
		if k.Account == account && k.State == state {
			return k, err
		}
	}
	return nil, err
}

// KeyFileOf is where the key in force of an account lies; "" for none.
func (d *Desk) KeyFileOf(account string) (string, error) {
	k, err := d.keyOf(account, keyInForce)
	if err != nil || k == nil {
		return "", err
	}
	return k.File, nil
}

// changeKeys writes the list of keys anew.
func (d *Desk) changeKeys(change func([]*Key) []*Key) error {
	all, err := d.Keys()
	if err != nil {
		return err
	}
	return files.WriteJSON(d.keysFile(), change(all))
}

// NoKey is the fault when an account has no key on this machine.
func (d *Desk) NoKey(a *Account) *fault.Fault {
	return fault.New(fault.Decision, "the account %s has no SSH key on this machine", a.Name).
		Try("make one", text.Command("uncinate", "key", "make", a.Name)).
		Try("or take one in that you have, by its public half", text.Command("uncinate", "key", "make", a.Name, "--public", "FILE"))
}

// Machine is this machine's name, as keys carry it.
func (d *Desk) Machine() (string, error) {
	s, err := d.Settings()
	if err != nil {
		return "", err
	}
	name := s.Machine
	if name == "" {
		if name, err = os.Hostname(); err != nil {
			name = ""
		}
		name, _, _ = strings.Cut(name, ".")
	}
	if sshkey.CheckMachine(name) != nil {
		return "", fault.New(fault.Decision, "this machine's own name, %s, cannot stand in a key", text.Quote(name)).
			Try("give it one", "uncinate key make ACCOUNT --machine NAME")
	}
	return name, nil
}

// NameMachine sets this machine's name.
func (d *Desk) NameMachine(name string) error {
	if err := sshkey.CheckMachine(name); err != nil {
		return err
	}
	s, err := d.Settings()
	if err != nil {
		return err
	}
	s.Machine = name
	return files.WriteJSON(d.settingsFile(), s)
}

// KeyOptions are a person's wishes for a key.
type KeyOptions struct {
	Account string
	Kind    string // ed25519 unless said
	Open    bool   // without a passphrase
	Public  string // file with the public half of a key that is taken in
}

// MakeKey makes an account's key for this machine, or takes one in.
func (d *Desk) MakeKey(ctx context.Context, o KeyOptions) (*Key, error) {
	a, err := d.Account(o.Account)
	if err != nil {
		return nil, err
	}
	old, err := d.keyOf(a.Name, keyInForce)
	if err != nil {
		return nil, err
	}
	if old != nil {
		return nil, fault.New(fault.Decision, "the account %s has a key on this machine already: %s", a.Name, old.Fingerprint()).
			Try("put a new one in its place, everywhere", text.Command("uncinate", "key", "rotate", a.Name)).
			Try("or see how it stands", text.Command("uncinate", "key", "list", a.Name))
	}
	if o.Public != "" {
		return d.takeIn(a, o.Public)
	}
	return d.makeKey(ctx, a, o.Kind, o.Open, keyInForce)
}

// makeKey makes a pair: the passphrase goes into the vault first, then the private half
// into its file, then the entry is made.
func (d *Desk) makeKey(ctx context.Context, a *Account, kind string, open bool, state string) (*Key, error) {
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
	k := &Key{Account: a.Name, Host: a.Host, Machine: machine, Public: public.Line(), Sealed: !open, Made: d.Now().UTC().Truncate(time.Second), State: state}
	if !open {
		if err := d.Vault.Put(ctx, map[string]string{k.secretName(): passphrase}); err != nil {
			return nil, err
		}
	}
	k.File = filepath.Join(d.keysFolder(), a.Name+"-"+files.Short(k.Fingerprint()))
	if err := files.Write(k.File, private, 0o600); err != nil {
		return nil, err
	}
	if err := files.Write(k.File+".pub", []byte(k.Public+"\n"), 0o644); err != nil {
		return nil, err
	}
	return k, d.changeKeys(func(all []*Key) []*Key { return append(all, k) })
}

// takeIn takes a key in by its public half. The private one stays where it is: beside
// it, in an agent, or in hardware.
func (d *Desk) takeIn(a *Account, given string) (*Key, error) {
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
		return nil, fault.New(fault.Refused, "the key is too weak: %s", why).Try("make a new one", text.Command("uncinate", "key", "make", a.Name))
	}
	machine, err := d.Machine()
	if err != nil {
		return nil, err
	}
	all, err := d.Keys()
	if err != nil {
		return nil, err
	}
	for _, k := range all {
		if k.Half().Same(public) {
			return nil, fault.New(fault.Decision, "the key is that of the account %s already; each account has one of its own", k.Account).
				Try("make one for this account", text.Command("uncinate", "key", "make", a.Name))
		}
	}
	k := &Key{Account: a.Name, Host: a.Host, Machine: machine, Public: public.Line(), TakenIn: true, Made: d.Now().UTC().Truncate(time.Second)}
	k.File = strings.TrimSuffix(path, ".pub")
	if info, err := os.Stat(k.File); err != nil || k.File == path || !info.Mode().IsRegular() {
		k.File = filepath.Join(d.keysFolder(), a.Name+"-"+files.Short(k.Fingerprint())+".pub")
		if err := files.Write(k.File, []byte(k.Public+"\n"), 0o644); err != nil {
			return nil, err
		}
	} else if err := k.guarded(); err != nil {
		return nil, err
	}
	return k, d.changeKeys(func(all []*Key) []*Key { return append(all, k) })
}

// private reports whether the file holds the private half.
func (k *Key) private() bool { return !strings.HasSuffix(k.File, ".pub") }

// guarded refuses a private half that others can read, as ssh itself does, or that is gone.
func (k *Key) guarded() error {
	info, err := os.Stat(k.File)
	if err != nil {
		return fault.New(fault.Failed, "the key's file %s is gone", text.Visible(k.File)).Because(err).
			Try("make a new key in its place, everywhere", text.Command("uncinate", "key", "rotate", k.Account))
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

// opened refuses a key of the person's own that a passphrase protects and that no agent
// offers: nobody could be asked for it when git signs in.
func (k *Key) opened() error {
	if !k.TakenIn {
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
	return fault.New(fault.Decision, "the key of account %s cannot be used: %s, and no SSH agent offers it", k.Account, why).
		Try("give it to the agent", text.Command("ssh-add", strings.TrimSuffix(k.File, ".pub"))).
		Try("or put a new key in its place, whose passphrase the vault keeps", text.Command("uncinate", "key", "rotate", k.Account))
}

func folderMode(path string) fs.FileMode {
	if info, err := os.Stat(filepath.Dir(path)); err == nil {
		return info.Mode()
	}
	return 0
}

// AnswerSSH gives ssh the passphrase of a key: what it asks must name the key's file.
// Nobody is asked for what opens the vault.
func (d *Desk) AnswerSSH(ctx context.Context, fingerprint, prompt string) (string, error) {
	all, err := d.Keys()
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(all, func(k *Key) bool { return k.Fingerprint() == fingerprint })
	if i < 0 {
		return "", fault.New(fault.Failed, "this machine knows no key %s any more", text.Quote(fingerprint)).Try("see the known ones", "uncinate key list")
	}
	k := all[i]
	// ssh names the file; ssh-keygen, which only the account's own signing runs with this
	// program, may not.
	asked := strings.TrimRight(prompt, ": ")
	named := strings.TrimSuffix(strings.TrimSuffix(asked, "'"), "\"")
	if asked != "Enter passphrase" && !strings.HasSuffix(named, k.File) {
		return "", fault.New(fault.Refused, "ssh asks for something else than the passphrase of %s, and that is not answered", text.Visible(k.File))
	}
	return d.passphrase(ctx, k, false)
}

// passphrase gives a sealed key's; a missing one is a fault.
func (d *Desk) passphrase(ctx context.Context, k *Key, mayAsk bool) (string, error) {
	passphrase, found, err := d.Vault.Get(ctx, k.secretName(), mayAsk)
	if err == nil && !found {
		err = fault.New(fault.Decision, "the vault does not hold the passphrase of the key of account %s", k.Account).
			Try("put a new key in its place", text.Command("uncinate", "key", "rotate", k.Account))
	}
	return passphrase, err
}

// AgentUntil gives this machine's sealed keys to the session's SSH agent until a time, and
// tells how many it took.
func (d *Desk) AgentUntil(ctx context.Context, until time.Time) (int, error) {
	return d.inAgent(func(x *openssh.Agent, k *Key) error {
		private, err := files.Read(k.File, 64<<10)
		if err != nil {
			return err
		}
		passphrase, err := d.passphrase(ctx, k, false)
		if err != nil {
			return err
		}
		return x.Add(private, passphrase, k.Half().Comment, until.Sub(d.Now()))
	})
}

// OutOfAgent takes them out of the agent again.
func (d *Desk) OutOfAgent() (int, error) {
	return d.inAgent(func(x *openssh.Agent, k *Key) error { return x.Remove(k.Half()) })
}

func (d *Desk) inAgent(do func(*openssh.Agent, *Key) error) (int, error) {
	x, err := openssh.FindAgent()
	if err != nil {
		return 0, nil // none is needed: ssh asks for the passphrase, and the vault answers
	}
	all, err := d.Keys()
	n := 0
	for _, k := range all {
		if k.Sealed && err == nil {
			if err = do(x, k); err == nil {
				n++
			}
		}
	}
	return n, err
}
