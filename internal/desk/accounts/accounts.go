// Package accounts keeps who the person is on each host: accounts, the records of their SSH keys,
// and their secrets in the vault, renewed where the host lets a sign-in renew itself. Whoever needs
// a token asks Token, and whoever has several accounts to choose from asks Pick. No secret goes
// anywhere but to the caller and the vault.
package accounts

import (
	"cmp"
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/world/files"
)

// Account is who the person is on a host, or at one address of a host that nobody
// described. The secret is in the vault alone.
type Account struct {
	Name       string    `json:"name"`
	Host       string    `json:"host,omitempty"`    // a known host, or
	Address    string    `json:"address,omitempty"` // one repository's address, or one below which several are
	Repository string    `json:"repository,omitempty" says:"the address of one on which its sign-in is tested, where nothing else tells"`
	Origin     string    `json:"origin,omitempty"` // where the host was when the token was given
	User       string    `json:"user"`
	FullName   string    `json:"full_name,omitempty"`
	Email      string    `json:"email,omitempty"`
	Scopes     []string  `json:"scopes,omitempty"`
	May        []string  `json:"may,omitempty" says:"what its token is wanted for; none: publish and keys"`
	ScopesTold bool      `json:"scopes_told,omitempty"` // whether the host tells scopes at all
	Expires    time.Time `json:"expires,omitzero"`
	Added      time.Time `json:"added"`
	Doubtful   time.Time `json:"doubtful,omitzero"` // when git last said that the host refused the token
	InMemory   bool      `json:"in_memory,omitempty" says:"the token is held in memory for one sign-in only"`
	Missing    bool      `json:"token_missing,omitempty" says:"the token is not where it is kept"`
	NoToken    bool      `json:"no_token,omitempty" says:"one gets in with an SSH key alone, as to a plain server"`
	Over       string    `json:"over,omitempty" says:"the transport of its projects: https or ssh (default: https)"`
	Default    bool      `json:"default,omitempty" says:"used on its host where no account is named"`
	OAuth      bool      `json:"oauth,omitempty" says:"signed in through the host's pages; the token is renewed by itself"`

	Refresh string    `json:"-"` // what renews the token, on its way to the vault
	Ends    time.Time `json:"-"` // when the sign-in said that its token ends
}

// AnswersOf is the folder in which pages of lists are kept that a host told an account.
func AnswersOf(d *desk.Desk, account string) string {
	return filepath.Join(d.Home.State, "answers", account)
}

// Wants are what the account's token is wanted for (description.Wants).
func (a *Account) Wants() []string {
	if len(a.May) == 0 {
		return []string{"publish", "keys"}
	}
	return a.May
}

// RefreshName is the name in the vault of the secret that renews the account's token.
func (a *Account) RefreshName() string { return "account/" + a.Name + "/refresh" }

func (a *Account) formerName() string { return "account/" + a.Name + "/former" }

func (a *Account) secretName() string { return "account/" + a.Name + "/token" }

// Again is how the account is given a token again, as a command to paste.
func (a *Account) Again(options ...string) string {
	words := []string{"uncinate", "account", "add"}
	if a.Name != "" {
		words = append(words, a.Name)
	}
	if a.Host == "" {
		words = append(words, "--at", a.Address, "--user", a.User)
	} else {
		words = append(words, "--host", a.Host)
	}
	if a.Repository != "" {
		words = append(words, "--repository", a.Repository)
		if a.Host != "" {
			words = append(words, "--user", a.User)
		}
	}
	if a.InMemory {
		words = append(words, "--in-memory")
	}
	if a.OAuth && a.Host != "" {
		words = append(words, "--by", "device")
	}
	return text.Command(append(words, options...)...)
}

// Anew is how another token, or sign-in, is put in the place of the account's.
func (a *Account) Anew() string {
	if a.OAuth {
		return a.Again()
	}
	return text.Command("uncinate", "token", "replace", a.Name)
}

// Token gives an account's token; a missing one is a fault. Without mayAsk nobody is
// asked for what opens the vault.
func Token(ctx context.Context, d *desk.Desk, a *Account, mayAsk bool) (string, error) {
	if a.NoToken {
		return "", fault.New(fault.Decision, "the account %s has no token: one gets in to %s with an SSH key", a.Name, a.Host).Try("see its keys", text.Command("uncinate", "key", "list", a.Name))
	}
	if a.OAuth && !a.Expires.IsZero() && a.Expires.Sub(d.Now()) <= renewsWithin {
		return renew(ctx, d, a, mayAsk)
	}
	token, found, err := Secret(ctx, d, a, a.secretName(), mayAsk)
	switch {
	case err != nil || found:
		return token, err
	case a.InMemory:
		return "", fault.New(fault.Decision, "the token of account %s was held in memory for one session, which is over", a.Name).Try("give it again", a.Again())
	}
	return "", fault.New(fault.Decision, "the vault holds no token for the account %s", a.Name).Try("give it one", a.Again())
}

// Secret reads one of an account's secrets from where they are kept.
func Secret(ctx context.Context, d *desk.Desk, a *Account, name string, mayAsk bool) (string, bool, error) {
	s := d.Common()
	s.Vault.Lock()
	defer s.Vault.Unlock()
	if a.InMemory {
		return d.Vault.GetInMemory(name)
	}
	return d.Vault.Get(ctx, name, mayAsk)
}

// Where is the host or the address, for showing.
func (a *Account) Where() string {
	if a.Host != "" {
		return a.Host
	}
	return a.Address
}

// AccountsFile is where the accounts are kept; no secret is in it.
func AccountsFile(d *desk.Desk) string { return filepath.Join(d.Home.Config, "accounts.json") }

// All lists the accounts of this machine.
func All(d *desk.Desk) ([]*Account, error) {
	var all []*Account
	_, err := files.ReadJSON(AccountsFile(d), &all)
	return all, err
}

// NamesOn names the accounts on a host.
func NamesOn(d *desk.Desk, host string) ([]string, error) {
	on, err := On(d, host)
	names := make([]string, len(on))
	for i, a := range on {
		names[i] = a.Name
	}
	return names, err
}

// On lists the accounts on a host.
func On(d *desk.Desk, host string) ([]*Account, error) {
	all, err := All(d)
	return slices.DeleteFunc(all, func(a *Account) bool { return a.Host != host }), err
}

// Named finds an account by name.
func Named(d *desk.Desk, name string) (*Account, error) {
	all, err := All(d)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, a := range all {
		if a.Name == name {
			return a, nil
		}
		names = append(names, a.Name)
	}
	f := fault.New(fault.Failed, "no account named %s is known on this machine", text.Quote(name))
	if near := text.Nearest(name, names); near != "" {
		f.Detail("Did you mean %s?", near)
	}
	return nil, f.Try("see the known ones", "uncinate account list")
}

// NoAccount is the fault when a job needs an account and there is none at all.
func NoAccount(host string) *fault.Fault {
	f := fault.New(fault.Decision, "there is no account on this machine yet")
	if host != "" {
		f.Says = "there is no account for " + host + " on this machine yet"
		return f.Try("add yours", text.Command("uncinate", "account", "add", "--host", host))
	}
	return f.Try("add yours", "uncinate account add --host HOST")
}

// NoneYet is NoAccount where any known host will do, each of which is offered.
func NoneYet(d *desk.Desk) *fault.Fault {
	known, err := hosts.All(d)
	f := NoAccount("")
	if err != nil || len(known) > 5 {
		return f
	}
	f.Remedies = nil
	for _, h := range known {
		f.Try("add yours on "+h.Name, text.Command("uncinate", "account", "add", "--host", h.Name))
	}
	if len(known) == 0 {
		f.Says += ", and no host is known"
		f.Try("see how a host is made known", "uncinate help host add").Try("or try it with a practice host", "uncinate tour")
	}
	return f
}

// Pick chooses the account for a host: the named one, or the only one.
func Pick(d *desk.Desk, named, host string) (*Account, error) {
	if named != "" {
		a, err := Named(d, named)
		if err == nil && host != "" && a.Host != host {
			return nil, fault.New(fault.Usage, "the account %s is on %s, not on %s", a.Name, a.Where(), host)
		}
		return a, err
	}
	all, err := All(d)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(a *Account) bool { return a.Host == "" || host != "" && a.Host != host })
	switch len(all) {
	case 0:
		if host == "" {
			return nil, NoneYet(d)
		}
		return nil, NoAccount(host)
	case 1:
		return all[0], nil
	}
	if a := theDefault(all, host); a != nil {
		d.Tell.Note("Using the account %s, the default one on %s.", a.Name, a.Host)
		return a, nil
	}
	return nil, Several(all)
}

// theDefault gives the one that is its host's default, where all are on one host.
func theDefault(all []*Account, host string) *Account {
	for _, a := range all {
		if a.Host != all[0].Host && host == "" {
			return nil
		}
	}
	for _, a := range all {
		if a.Default {
			return a
		}
	}
	return nil
}

// Several is the fault when several accounts could do it, and none is chosen. Each is offered; a
// remedy that begins with an option is the command that was typed, with that option.
func Several(all []*Account) *fault.Fault {
	f := fault.New(fault.Decision, "%d accounts could do this; choose one", len(all))
	on := map[string]int{}
	for _, a := range all {
		on[a.Host]++
		f.Try("as "+a.User+" on "+a.Host, "--account "+text.Quote(a.Name))
	}
	if a := all[0]; on[a.Host] > 1 {
		f.Try("or make one the default on "+a.Host, text.Command("uncinate", "account", "change", a.Name, "--default"))
	}
	return f
}

// ChangeAll changes accounts: how is asked for each.
func ChangeAll(ctx context.Context, d *desk.Desk, how func(*Account)) error {
	return Alter(ctx, d, func(all []*Account) ([]*Account, error) {
		for _, a := range all {
			how(a)
		}
		return all, nil
	})
}

// Alter changes the accounts, alone. Where how fails, nothing is changed.
func Alter(ctx context.Context, d *desk.Desk, how func([]*Account) ([]*Account, error)) error {
	return desk.Alter(ctx, d, AccountsFile(d), how)
}

// KeepAccount writes the secret first and the account's entry after it: an entry
// without secret would mislead, a secret without entry does no harm.
func KeepAccount(ctx context.Context, d *desk.Desk, a *Account, token string) (err error) {
	if err := CheckAccountName(a.Name); err != nil {
		return err
	}
	// The name is held, since the secret and the entry are written one after the other.
	held, err := d.Wait(ctx, "account-"+a.Name, "account "+a.Name)
	if err != nil {
		return err
	}
	defer fault.Also(&err, held.Release) // it is over with the process at the latest
	all, err := All(d)
	if err == nil {
		_, err = entered(all, a)
	}
	if err != nil {
		return err
	}
	if token != "" { // on a plain server there is none
		if err := Store(ctx, d, a, token); err != nil {
			return err
		}
	}
	return Alter(ctx, d, func(all []*Account) ([]*Account, error) { return entered(all, a) })
}

// entered puts an account among the others, in the place of its former entry.
func entered(all []*Account, a *Account) ([]*Account, error) {
	at := slices.IndexFunc(all, func(b *Account) bool { return b.Name == a.Name })
	if at >= 0 {
		if old := all[at]; old.Where() != a.Where() || old.User != a.User {
			return nil, fault.New(fault.Decision, "you already have an account named %s here, of %s on %s", a.Name, old.User, old.Where()).
				Try("give this one another name", text.Command("uncinate", "account", "add", a.Name+"-own", "--host", a.Host))
		}
		if old := all[at]; a.InMemory && !old.InMemory {
			return nil, fault.New(fault.Decision, "the vault keeps a token of account %s already", a.Name).
				Try("forget that one first", text.Command("uncinate", "account", "forget", a.Name))
		}
		if a.Over == "" {
			a.Over = all[at].Over
		}
		a.Default = a.Default || all[at].Default
		all[at] = a
	} else {
		all = append(all, a)
	}
	return all, nil
}

// inMemoryFor is how long a token for one sign-in is held at most.
const inMemoryFor = 12 * time.Hour

// CheckAccountName refuses a name that cannot be an account's on this machine.
func CheckAccountName(name string) error {
	if name == "" || len(name) > 60 || name[0] == '-' || name[0] == '.' ||
		strings.Trim(strings.ToLower(name), "abcdefghijklmnopqrstuvwxyz0123456789-_.") != "" {
		return fault.New(fault.Usage, "an account's name is made of letters, digits, '-', '_' and '.', and %s is not", text.Quote(name))
	}
	return nil
}

// HostOf finds an account's host, and refuses one that has moved since its token was
// given: the token belongs to the old address.
func HostOf(d *desk.Desk, a *Account) (*hosts.Host, error) {
	h, err := hosts.Named(d, a.Host)
	if err == nil && a.Origin != "" && description.OriginOf(a.Origin) != h.Origin() {
		return nil, fault.New(fault.Refused, "the token of account %s belongs to %s, and %s is at %s now", a.Name, a.Origin, h.Name, h.Origin()).
			Try("if that is right, forget the account and add it again", text.Command("uncinate", "account", "forget", a.Name))
	}
	return h, err
}

// Doubt notes that the host refused an account's token when git used it.
func Doubt(ctx context.Context, d *desk.Desk, name string) error {
	return doubt(ctx, d, name, d.Now().UTC().Truncate(time.Second))
}

// NoDoubt notes that the host took an account's token.
func NoDoubt(ctx context.Context, d *desk.Desk, name string) error {
	return doubt(ctx, d, name, time.Time{})
}

func doubt(ctx context.Context, d *desk.Desk, name string, since time.Time) error {
	return ChangeAll(ctx, d, func(a *Account) {
		if a.Name == name {
			a.Doubtful = since
		}
	})
}

// For finds the account that is kept for a repository's address: of those kept for it or for what is above it, the one
// whose own address is the nearest. Nil for none.
func For(d *desk.Desk, at address.Address) (*Account, error) {
	all, err := All(d)
	if err != nil || at.Scheme == "ssh" {
		return nil, err
	}
	var best []*Account
	nearest := -1
	for _, a := range all {
		place, err := address.ParsePlace(a.Address)
		if a.Host != "" || err != nil || !at.Within(place) || at.User != "" && at.User != a.User || len(place.Path) < nearest {
			continue
		}
		if len(place.Path) > nearest {
			best, nearest = nil, len(place.Path)
		}
		best = append(best, a)
	}
	switch len(best) {
	case 0:
		return nil, nil
	case 1:
		return best[0], nil
	}
	f := fault.New(fault.Decision, "%d accounts are kept for %s; say which", len(best), at.Bare().String())
	for _, a := range best {
		f.Try("use "+a.Name, "--account "+text.Quote(a.Name))
	}
	return nil, f
}

// PlainLogin gives the address of a repository and the token of an account that is tested on one.
func PlainLogin(ctx context.Context, d *desk.Desk, a *Account) (address.Address, string, error) {
	at, err := address.Parse(cmp.Or(a.Repository, a.Address))
	if err != nil {
		return at, "", err
	}
	token, err := Token(ctx, d, a, false)
	return at, token, err
}
