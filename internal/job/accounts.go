package job

import (
	"context"
	"encoding/base64"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/web"
)

// Account is who the person is on a host, or at one address of a host that nobody
// described. The secret lies in the vault alone.
type Account struct {
	Name       string    `json:"name"`
	Host       string    `json:"host,omitempty"`    // a known host, or
	Address    string    `json:"address,omitempty"` // one repository's address
	Origin     string    `json:"origin,omitempty"`  // where the host was when the token was given
	User       string    `json:"user"`
	FullName   string    `json:"full_name,omitempty"`
	Email      string    `json:"email,omitempty"`
	Scopes     []string  `json:"scopes,omitempty"`
	ScopesTold bool      `json:"scopes_told,omitempty"` // whether the host tells scopes at all
	Expires    time.Time `json:"expires,omitzero"`
	Added      time.Time `json:"added"`
	Doubtful   time.Time `json:"doubtful,omitzero"` // when git last said that the host refused the token
	Unkept     bool      `json:"unkept,omitempty" says:"the token is held in memory for one sign-in only"`
	NoToken    bool      `json:"no_token,omitempty" says:"one gets in with an SSH key alone, as to a plain server"`
	Over       string    `json:"over,omitempty" says:"the transport that its projects go over: https or ssh; https unless said"`
	OAuth      bool      `json:"oauth,omitempty" says:"signed in through the host's pages; the token is renewed by itself"`

	refresh string    // what renews the token, on its way to the vault
	ends    time.Time // when the sign-in said that its token ends
}

func (a *Account) refreshName() string { return "account/" + a.Name + "/refresh" }

func (a *Account) secretName() string { return "account/" + a.Name + "/token" }

// again is how the account is given a token anew, as a command to paste.
func (a *Account) again(options ...string) string {
	words := []string{"uncinate", "account", "add"}
	if a.Name != "" {
		words = append(words, a.Name)
	}
	if a.Host == "" {
		words = append(words, "--at", a.Address, "--user", a.User)
	} else {
		words = append(words, "--host", a.Host)
	}
	if a.Unkept {
		words = append(words, "--unkept")
	}
	return text.Command(append(words, options...)...)
}

// token gives an account's token; a missing one is a fault. Without mayAsk nobody is
// asked for what opens the vault.
func (d *Desk) token(ctx context.Context, a *Account, mayAsk bool) (string, error) {
	if a.NoToken {
		return "", fault.New(fault.Decision, "the account %s has no token: one gets in to %s with an SSH key", a.Name, a.Host).Try("see its keys", text.Command("uncinate", "key", "list", a.Name))
	}
	if a.OAuth && !a.Expires.IsZero() && a.Expires.Sub(d.Now()) <= renewsWithin {
		return d.renew(ctx, a, mayAsk)
	}
	token, found, err := d.secret(ctx, a, a.secretName(), mayAsk)
	switch {
	case err != nil || found:
		return token, err
	case a.Unkept:
		return "", fault.New(fault.Decision, "the token of account %s was kept for one sign-in only, and that is over", a.Name).Try("give it again", a.again())
	}
	return "", fault.New(fault.Decision, "the vault holds no token for the account %s", a.Name).Try("give it one", a.again())
}

// secret reads one of an account's secrets from where they are kept.
func (d *Desk) secret(ctx context.Context, a *Account, name string, mayAsk bool) (string, bool, error) {
	s := d.common()
	s.vault.Lock()
	defer s.vault.Unlock()
	if a.Unkept {
		return d.Vault.GetUnkept(name)
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

func (d *Desk) accountsFile() string { return filepath.Join(d.Home.Config, "accounts.json") }

// Accounts lists the accounts of this machine.
func (d *Desk) Accounts() ([]*Account, error) {
	var all []*Account
	_, err := files.ReadJSON(d.accountsFile(), &all)
	return all, err
}

// NamesOn names the accounts on a host.
func (d *Desk) NamesOn(host string) ([]string, error) {
	on, err := d.AccountsOn(host)
	names := make([]string, len(on))
	for i, a := range on {
		names[i] = a.Name
	}
	return names, err
}

// AccountsOn lists the accounts on a host.
func (d *Desk) AccountsOn(host string) ([]*Account, error) {
	all, err := d.Accounts()
	return slices.DeleteFunc(all, func(a *Account) bool { return a.Host != host }), err
}

// Account finds an account by name.
func (d *Desk) Account(name string) (*Account, error) {
	all, err := d.Accounts()
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

// pick chooses the account for a host: the named one, or the only one.
func (d *Desk) pick(named, host string) (*Account, error) {
	if named != "" {
		a, err := d.Account(named)
		if err == nil && host != "" && a.Host != host {
			return nil, fault.New(fault.Usage, "the account %s is on %s, not on %s", a.Name, a.Where(), host)
		}
		return a, err
	}
	all, err := d.Accounts()
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(a *Account) bool { return a.Host == "" || host != "" && a.Host != host })
	switch len(all) {
	case 0:
		return nil, NoAccount(host)
	case 1:
		return all[0], nil
	}
	f := fault.New(fault.Decision, "there are %d accounts that could do it; say which", len(all))
	for _, a := range all {
		f.Try(a.User+" on "+a.Host, "--account "+text.Quote(a.Name))
	}
	return nil, f
}

// HostWithAccounts finds a host whose description says how a token is tested.
func (d *Desk) HostWithAccounts(name string) (*Host, error) {
	h, err := d.Host(name)
	if err == nil && h.Actions["identify"] == nil {
		return nil, fault.New(fault.HostSaidNo, "the description of %s does not say how a token is tested (it has no action identify)", h.Name).
			Try("keep the token for one repository's address", text.Command("uncinate", "account", "add", "--at", h.At+"/OWNER/NAME", "--user", "NAME"))
	}
	return h, err
}

// AddAccount tests a token against its host at once and, if it is good, stores it in
// the vault. A known account of that name on that host gets the new token.
func (d *Desk) AddAccount(ctx context.Context, want Account, token string) (*Account, []string, error) {
	token = strings.TrimSpace(token)
	h, err := d.Host(want.Host)
	if want.Host != "" && err == nil && h.Shell != nil {
		return d.addOnServer(ctx, h, want)
	}
	switch {
	case token == "":
		return nil, nil, fault.New(fault.Usage, "no token was given")
	case strings.ContainsFunc(token, func(r rune) bool { return r <= ' ' || r >= 0x7f }):
		return nil, nil, fault.New(fault.Usage, "what was given is no token: there is a blank or a control character inside it")
	}
	if want.Address != "" {
		return d.addAtAddress(ctx, want, token)
	}
	if h, err = d.HostWithAccounts(want.Host); err != nil {
		return nil, nil, err
	}
	if h.SignIn.TakesUser() && want.User == "" {
		return nil, nil, fault.New(fault.Usage, "%s takes a user name beside the secret", h.Name).
			Try("", want.again("--user", "NAME"))
	}
	asked := want
	l := &login{desk: d, Host: h, Account: &asked, token: token}
	id, err := l.identify(ctx)
	if err != nil {
		return nil, nil, err
	}
	if id.Active != nil && !*id.Active {
		return nil, nil, fault.New(fault.HostSaidNo, "%s says that the token is not in force", h.Name)
	}
	if id.User == "" {
		return nil, nil, fault.New(fault.Unreachable, "what answers at %s does not say whose token it is", h.At)
	}
	if want.User != "" && want.User != id.User {
		return nil, nil, fault.New(fault.Usage, "the token is %s's on %s, not %s's", text.Visible(id.User), h.Name, want.User)
	}
	a := want
	a.Origin = h.Origin()
	a.User, a.Scopes, a.ScopesTold, a.Expires, a.Added = id.User, id.Scopes, id.ScopesTold, id.Expires, d.Now().UTC().Truncate(time.Second)
	if a.OAuth && a.Expires.IsZero() {
		a.Expires = a.ends
	}
	if a.Name == "" {
		a.Name = id.User
	}
	if a.FullName == "" {
		a.FullName = id.FullName
	}
	if a.Email == "" {
		a.Email = id.Email
	}
	var doubts []string
	if id.EmailConfirmed != nil && !*id.EmailConfirmed {
		doubts = append(doubts, "the e-mail "+text.Visible(a.Email)+" is not yet confirmed on "+h.Name)
	}
	if !a.OAuth {
		doubts = append(doubts, d.tokenDoubts(h, id)...)
	}
	l.Account = &a
	for _, need := range []struct{ action, what string }{{"repository-list", "list repositories"}, {"repository-create", "create repositories"}} {
		if missing := l.lacks(need.action); len(missing) > 0 {
			doubts = append(doubts, "the token may not "+need.what+": it lacks the scope "+strings.Join(missing, " and "))
		}
	}
	return &a, doubts, d.keepAccount(ctx, &a, token)
}

// addOnServer adds an account on a plain server: one gets in over SSH, and no token is kept.
func (d *Desk) addOnServer(ctx context.Context, h *Host, want Account) (*Account, []string, error) {
	if want.Name == "" {
		want.Name = want.User
	}
	if want.Name == "" {
		return nil, nil, fault.New(fault.Usage, "say whose the repositories on %s are to be: your name there, a folder of its own", h.Name).
			Try("", text.Command("uncinate", "account", "add", "NAME", "--host", h.Name))
	}
	if want.User == "" {
		want.User = want.Name
	}
	if err := shellPath(want.User); err != nil {
		return nil, nil, err
	}
	want.Origin, want.Added, want.NoToken = h.Origin(), d.Now().UTC().Truncate(time.Second), true
	l := &login{desk: d, Host: h, Account: &want}
	if _, err := l.identify(ctx); err != nil {
		return nil, nil, err
	}
	var doubts []string
	if l.ownWay {
		doubts = append(doubts, "its key is not on "+h.Name+" yet; until then your own SSH configuration lets you in")
	}
	return &want, doubts, d.keepAccount(ctx, &want, "")
}

// addAtAddress tests a user name and token by asking for the repository over git's
// own HTTP protocol (gitprotocol-http, "Smart Clients").
func (d *Desk) addAtAddress(ctx context.Context, want Account, token string) (*Account, []string, error) {
	a, err := address.Parse(want.Address)
	if err != nil {
		return nil, nil, err
	}
	if a.Scheme == "ssh" {
		return nil, nil, fault.New(fault.Usage, "an ssh address takes a key, not a token")
	}
	if want.User == "" {
		want.User = a.User
	}
	if want.User == "" {
		return nil, nil, fault.New(fault.Usage, "the user name that belongs to the token is missing").
			Try("", text.Command("uncinate", "account", "add", "--at", a.Bare().String(), "--user", "NAME"))
	}
	answer, err := d.Web.Do(ctx, description.Call{Method: http.MethodGet, URL: a.Bare().String() + "/info/refs?service=git-upload-pack",
		Header: http.Header{"Authorization": {"Basic " + base64.StdEncoding.EncodeToString([]byte(want.User+":"+token))}}})
	if err != nil {
		return nil, nil, err
	}
	switch {
	case answer.Status == 401 || answer.Status == 403:
		return nil, nil, fault.New(fault.HostSaidNo, "%s does not accept this user name and token", a.Bare().String())
	case answer.Status == 404:
		return nil, nil, fault.New(fault.HostSaidNo, "there is no repository at %s, or not for %s", a.Bare().String(), text.Visible(want.User))
	case answer.Status != 200 || !strings.HasPrefix(answer.Header.Get("Content-Type"), "application/x-git-"):
		return nil, nil, fault.New(fault.Unreachable, "what answers at %s is no git repository (status %d)", a.Bare().String(), answer.Status)
	}
	want.Address, want.Added = a.Bare().String(), d.Now().UTC().Truncate(time.Second)
	if want.Name == "" {
		want.Name = want.User + "-" + a.Name()
	}
	return &want, nil, d.keepAccount(ctx, &want, token)
}

// keepAccount writes the secret first and the account's entry after it: an entry
// without secret would mislead, a secret without entry does no harm.
func (d *Desk) keepAccount(ctx context.Context, a *Account, token string) error {
	if err := checkAccountName(a.Name); err != nil {
		return err
	}
	all, err := d.Accounts()
	if err != nil {
		return err
	}
	at := slices.IndexFunc(all, func(b *Account) bool { return b.Name == a.Name })
	if at >= 0 {
		if old := all[at]; old.Where() != a.Where() || old.User != a.User {
			return fault.New(fault.Decision, "the name %s is taken here by the account of %s on %s", a.Name, old.User, old.Where()).
				Try("give this one another name", text.Command("uncinate", "account", "add", a.Name+"-own", "--host", a.Host))
		}
		if old := all[at]; a.Unkept && !old.Unkept {
			return fault.New(fault.Decision, "the vault keeps a token of account %s already", a.Name).
				Try("forget that one first", text.Command("uncinate", "account", "forget", a.Name))
		}
		if a.Over == "" {
			a.Over = all[at].Over
		}
		all[at] = a
	} else {
		all = append(all, a)
	}
	if token != "" { // on a plain server there is none
		if err := d.store(ctx, a, token); err != nil {
			return err
		}
	}
	return files.WriteJSON(d.accountsFile(), all)
}

// unkeptFor is how long a token for one sign-in is held at most.
const unkeptFor = 12 * time.Hour

func checkAccountName(name string) error {
	if name == "" || len(name) > 60 || name[0] == '-' || name[0] == '.' ||
		strings.Trim(strings.ToLower(name), "abcdefghijklmnopqrstuvwxyz0123456789-_.") != "" {
		return fault.New(fault.Usage, "an account's name is made of letters, digits, '-', '_' and '.', and %s is not", text.Quote(name))
	}
	return nil
}

// ForgetAccount makes this machine forget an account and its token. Projects hooked
// with it stay, without sign-in; their number is given.
func (d *Desk) ForgetAccount(ctx context.Context, name string) (int, error) {
	all, err := d.Accounts()
	if err != nil {
		return 0, err
	}
	a, err := d.Account(name)
	if err != nil {
		return 0, err
	}
	projects, err := d.Register()
	if err != nil {
		return 0, err
	}
	hooked := 0
	for _, p := range projects {
		if p.Account == name {
			hooked++
		}
	}
	if !a.NoToken {
		if err := d.drop(ctx, a); err != nil {
			return 0, err
		}
	}
	return hooked, files.WriteJSON(d.accountsFile(), slices.DeleteFunc(all, func(b *Account) bool { return b.Name == name }))
}

// hostOf finds an account's host, and refuses one that has moved since its token was
// given: the token belongs to the old address.
func (d *Desk) hostOf(a *Account) (*Host, error) {
	h, err := d.Host(a.Host)
	if err == nil && a.Origin != "" && a.Origin != h.Origin() {
		return nil, fault.New(fault.Refused, "the token of account %s belongs to %s, and %s is at %s now", a.Name, a.Origin, h.Name, h.Origin()).
			Try("if that is right, forget the account and add it again", text.Command("uncinate", "account", "forget", a.Name))
	}
	return h, err
}

// doubt notes that the host refused an account's token when git used it.
func (d *Desk) doubt(name string) error {
	all, err := d.Accounts()
	if err != nil {
		return err
	}
	for _, a := range all {
		if a.Name == name {
			a.Doubtful = d.Now().UTC().Truncate(time.Second)
			return files.WriteJSON(d.accountsFile(), all)
		}
	}
	return nil
}

// plainLogin gives the address and the token of an account that is kept for one.
func (d *Desk) plainLogin(ctx context.Context, a *Account) (address.Address, string, error) {
	at, err := address.Parse(a.Address)
	if err != nil {
		return at, "", err
	}
	token, err := d.token(ctx, a, false)
	return at, token, err
}

// ChooseOver chooses the transport of an account's projects.
func (d *Desk) ChooseOver(name, over string) (*Account, error) {
	a, err := d.Account(name)
	if err != nil {
		return nil, err
	}
	switch over {
	case "https":
	case "ssh":
		k, err := d.keyOf(a.Name, keyInForce)
		if err == nil && k == nil {
			err = d.NoKey(a)
		}
		if err != nil {
			return nil, err
		}
	default:
		return nil, fault.New(fault.Usage, "an account's projects go over https or ssh").Try("", text.Command("uncinate", "account", "choose", name, "--over", "ssh"))
	}
	a.Over = over
	return a, d.noteAccount(a)
}

// gitRefs asks an address for its refs with an account's token, over HTTP. A refused
// short-lived token is exchanged anew, once.
func (d *Desk) gitRefs(ctx context.Context, a *Account, token string, at address.Address) (web.Refs, error) {
	user, secret, err := d.gitLogin(ctx, a, token)
	if err != nil {
		return web.Refs{}, err
	}
	refs, err := d.Web.Refs(ctx, at, user, secret)
	if !fault.Is(err, fault.HostSaidNo) || !d.dropShort(secret) {
		return refs, err
	}
	if user, secret, err = d.gitLogin(ctx, a, token); err != nil {
		return web.Refs{}, err
	}
	return d.Web.Refs(ctx, at, user, secret)
}

// gitLogin gives the user name and secret that git's HTTP transport wants. Without a
// token only the name counts.
func (d *Desk) gitLogin(ctx context.Context, a *Account, token string) (user, secret string, err error) {
	if a.Host == "" {
		return a.User, token, nil
	}
	h, err := d.hostOf(a)
	if err != nil {
		return "", "", err
	}
	vars := description.Vars{"user": a.User, "token": token, "kept_token": token}
	if token != "" && h.SignIn.Git.Short() {
		l := &login{desk: d, Host: h, Account: a, token: token}
		if vars["token"], err = l.short(ctx); err != nil {
			return "", "", err
		}
	}
	user, secret = h.SignIn.Git.Fill(vars)
	return user, secret, nil
}
