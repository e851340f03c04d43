// Package target is where a folder is attached to, and by whom: a new repository, one that was made
// on the host before, or a plain address; the account, the transport, who signs; and the steps that
// make and tie it. Work is the small value that all parts of an attach share. All that a clone needs
// is here; nothing here joins or sends histories.
package target

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// ChooseTarget decides what is attached to: a repository that exists (named, already
// the folder's remote, or attached before) or one to be made.
func (t *Target) ChooseTarget(ctx context.Context) error {
	o := &t.Options
	to := o.To
	if o.Move {
		return t.chooseMove(ctx, to)
	}
	if o.Account == "" {
		o.Account = t.Project.Account
	}
	if o.Account == "" && to == "" && o.Key == "" {
		o.Key = t.Project.KeyFile
	}
	if err := t.checkPushAddress(); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(t.Folder.Remotes)) {
		url := t.Folder.Remotes[name]
		if project.WithoutSecret(url) != url && name != o.Remote {
			if at, err := address.Parse(url); err == nil && at.Secret != "" {
				t.Notes = append(t.Notes, "The remote "+text.Visible(name)+" holds a token in its address, in plain text; this attach leaves it alone.")
			}
		}
	}
	standing := t.Folder.Remotes[o.Remote]
	if FactAddress.Of(t.Run) != "" && to == "" {
		standing = "" // our own remote, set before the interruption
	}
	if standing != "" {
		old, err := address.Parse(standing)
		if err != nil {
			return fault.New(fault.Decision, "the remote %s of this project leads to an address that is not supported", text.Quote(o.Remote)).
				Detail("%s", fault.Of(err).Says).
				Try("keep it and attach under another name", text.Command("uncinate", "attach", "--remote", "host"))
		}
		if to == "" {
			to = standing
			if t.Project.Folder == "" {
				t.Notes = append(t.Notes, "The remote "+text.Visible(o.Remote)+" is there already; the project is attached to where it leads: "+old.Bare().String())
			}
		} else if given, err := address.Parse(to); err != nil || !given.Same(old) {
			if h, owner, name, err := hosts.Recognise(t.Desk, standing); err != nil || h == nil || !t.sameName(to, owner, name) {
				return fault.New(fault.Decision, "this project has a remote %s already, and it leads to %s", text.Quote(o.Remote), old.Bare().String()).
					Try("attach to that one", t.Again("--to", old.Bare().String())).
					Try("or keep it and attach under another name", t.Again("--remote", "host", "--to", project.WithoutSecret(to)))
			}
		}
		if old.Secret != "" {
			t.Move, t.moveFor = old.Secret, accounts.Account{User: old.User, Address: old.Bare().String()}
			if old.User == "" {
				t.moveFor.User = "git"
			}
		}
	}
	if to == "" {
		return t.chooseNew(ctx)
	}
	return t.ChooseExisting(ctx, to)
}

// checkPushAddress stops where git would push to another address than it fetches
// from (git-config documentation, remote.<name>.pushurl).
func (t *Target) checkPushAddress() error {
	for _, s := range t.Folder.Settings {
		if s.Key != "remote."+t.Options.Remote+".pushurl" {
			continue
		}
		return fault.New(fault.Decision, "the remote %s has an address of its own for pushing, %s, so what is checked is not what is sent to",
			text.Quote(t.Options.Remote), text.Excerpt(project.WithoutSecret(s.Value), 80)).
			Try("take that address out", text.Command("git", "-C", t.Folder.Path, "config", "--unset-all", s.Key))
	}
	return nil
}

func (t *Target) sameName(to, owner, name string) bool {
	return to == name || to == owner+"/"+name
}

// ChooseExisting finds the repository that --to, or the folder's remote, names.
func (to *Target) ChooseExisting(ctx context.Context, what string) error {
	o := &to.Options
	if strings.Contains(what, ":") {
		if err := to.readSettings(ctx); err != nil {
			return err
		}
		what = project.Leads(to.Desk, to.settings, what)
	}
	if o.Key != "" {
		given, err := address.Parse(what)
		if err != nil {
			return fault.New(fault.Usage, "with a key, the repository is named by its address over SSH").Because(err)
		}
		return to.choosePlain(ctx, given, nil)
	}
	h, owner, name, err := hosts.Recognise(to.Desk, what)
	if err != nil {
		return err
	}
	given, parseErr := address.Parse(what)
	if h == nil && parseErr != nil && !strings.Contains(what, ":") {
		if h, owner, name, err = to.byName(ctx, what); err != nil {
			return err
		}
	}
	if given.Secret != "" && to.Move == "" {
		to.Move, to.moveFor = given.Secret, accounts.Account{User: given.User, Address: given.Bare().String()}
	}
	if h != nil && h.Actions["repository-show"] == nil {
		// The description tells addresses only, so git alone does the work.
		vars := description.Vars{"owner": owner, "name": name, "path": owner + "/" + name}
		t := h.HTTPS
		if t == nil {
			t = h.SSH
		}
		at, err := h.Expand(t, vars)
		if err != nil {
			return fault.New(fault.Failed, "the clone address on %s cannot be made", h.Name).Because(err)
		}
		given, parseErr = address.Parse(at)
		h = nil
	}
	if h == nil {
		return to.choosePlain(ctx, given, parseErr)
	}
	if to.Move != "" {
		to.moveFor.Host, to.moveFor.Address = h.Name, ""
		return to.moveIn(ctx, h, owner, name)
	}
	account, err := accounts.Pick(to.Desk, o.Account, h.Name)
	if err != nil && o.Account == "" {
		// Of several accounts the one that can see the repository is meant.
		if names := login.WhoSees(ctx, to.Desk, h.Name, nil, owner, name, false); len(names) == 1 {
			if account, err = accounts.Named(to.Desk, names[0]); err == nil {
				to.Notes = append(to.Notes, "Of your accounts on "+h.Name+" only "+names[0]+" can see it, so that one is used.")
			}
		}
	}
	if err != nil {
		if on, _ := accounts.On(to.Desk, h.Name); to.Clones && o.Account == "" && len(on) == 0 && parseErr == nil {
			return to.choosePlain(ctx, given, nil) // what is public needs no account
		}
		return err
	}
	if to.Login, err = login.Open(ctx, to.Desk, account); err != nil {
		return err
	}
	return to.showExisting(ctx, owner, name)
}

// byName finds the host of a plain name or owner/name: the account's, or the only
// one that is known.
func (t *Target) byName(ctx context.Context, to string) (h *hosts.Host, owner, name string, err error) {
	owner, name = naming.Split(to)
	account, err := accounts.Pick(t.Desk, t.Options.Account, t.Options.Host)
	if err == nil {
		if owner == "" {
			owner = account.User
		}
		h, err = hosts.Named(t.Desk, account.Host)
		return h, owner, name, err
	}
	if t.Options.Account == "" {
		if h, owner, ok := t.ofSeveral(ctx, owner, name); ok {
			return h, owner, name, nil
		}
	}
	known, listErr := hosts.All(t.Desk)
	if listErr == nil && t.Options.Account == "" && owner != "" && len(known) == 1 && known[0].Actions["repository-show"] == nil {
		return known[0], owner, name, nil
	}
	return nil, "", "", errors.Join(err, listErr)
}

// ofSeveral finds the host and owner of a plain name where there are several accounts,
// all on one host: the owner is said, or is the one account's user who has it.
func (t *Target) ofSeveral(ctx context.Context, owner, name string) (*hosts.Host, string, bool) {
	all, err := accounts.All(t.Desk)
	if err != nil || len(all) < 2 {
		return nil, "", false
	}
	for _, b := range all {
		if b.Host == "" || b.Host != all[0].Host {
			return nil, "", false
		}
	}
	h, err := hosts.Named(t.Desk, all[0].Host)
	if err != nil || owner != "" {
		return h, owner, err == nil
	}
	var owners []string
	for _, b := range all {
		if len(login.WhoSees(ctx, t.Desk, h.Name, nil, b.User, name, false)) > 0 {
			owners = append(owners, b.User)
		}
	}
	if len(owners) != 1 {
		return nil, "", false
	}
	return h, owners[0], true
}

// moveIn asks the host with the secret that was in the address.
func (t *Target) moveIn(ctx context.Context, h *hosts.Host, owner, name string) error {
	if err := t.Desk.Vault.Ready(ctx); err != nil {
		return err
	}
	t.Login = &login.Login{Desk: t.Desk, Host: h, Account: &t.moveFor, Token: t.Move}
	id, err := t.Login.Identify(ctx)
	if err != nil {
		return err
	}
	t.moveFor.User, t.moveFor.FullName, t.moveFor.Email = id.User, id.FullName, id.Email
	if t.moveFor.Name, err = t.freeName(id.User, h.Name); err != nil {
		return err
	}
	return t.showExisting(ctx, owner, name)
}

// freeName gives the name under which a moved secret's account is kept.
func (t *Target) freeName(user, where string) (string, error) {
	all, err := accounts.All(t.Desk)
	if err != nil {
		return "", err
	}
	for _, b := range all {
		if b.User == user && b.Where() == where {
			return b.Name, nil
		}
	}
	name := user
	for slices.ContainsFunc(all, func(b *accounts.Account) bool { return b.Name == name }) {
		name += "-2"
	}
	return name, accounts.CheckAccountName(name)
}

func (t *Target) showExisting(ctx context.Context, owner, name string) error {
	there, found, err := t.Login.Repository(ctx, owner, name)
	if err != nil {
		return err
	}
	if !found {
		f := fault.New(fault.HostSaidNo, "%s has no repository %s/%s, or %s may not see it", t.Login.Host.Name, owner, name, t.Login.Account.User)
		if t.Others = login.WhoSees(ctx, t.Desk, t.Login.Host.Name, t.Login.Account, owner, name, false); len(t.Others) > 0 {
			return login.Others(f, t.Others, "see it", func(account string) string { return t.Again("--to", owner+"/"+name, "--account", account) })
		}
		if near := t.NearName(ctx, name); near != "" {
			f.Detail("There is one named %s.", near)
			f.Try("take that one", t.Again("--to", owner+"/"+near))
		}
		return f.Try("make it", t.Again("--name", owner+"/"+name))
	}
	t.Repository = there
	return nil
}

// NearName gives the name of a repository on the host that is nearest to one that is not there;
// "" for none.
func (t *Target) NearName(ctx context.Context, name string) string {
	all, err := t.Login.Repositories(ctx, "")
	if err != nil {
		return "" // only a hint is lost
	}
	var names []string
	for _, r := range all {
		names = append(names, r.Name)
	}
	return text.Nearest(name, names)
}

// AgainTo is the same with another repository.
func (t *Target) AgainTo(what string) string {
	if t.Clones {
		return text.Command("uncinate", "clone", what)
	}
	return t.Again("--to", what)
}

// choosePlain takes an address that no description covers: git alone.
func (t *Target) choosePlain(ctx context.Context, given address.Address, err error) error {
	if err != nil {
		return err
	}
	if given.Scheme == "http" && !address.Guarded("http", given.Host) {
		return fault.New(fault.Refused, "plain http to %s would send the work, and any token, unencrypted", given.Host).
			Try("use its https address", t.AgainTo("https://"+given.Host+"/"+given.Path))
	}
	if at, owner, name, is := hosts.PageOf(t.Desk, given.Bare().String()); is {
		return fault.New(fault.Usage, "%s is the address of a page; the repository is %s/%s on %s", given.Bare().String(), owner, name, at.Name).
			Try("take that one", t.AgainTo(owner+"/"+name))
	}
	bare := given.Bare()
	if given.Scheme == "ssh" {
		bare = given
	}
	t.Repository = description.Repository{Name: given.Name(), HTTPS: bare.String()}
	if t.Move != "" {
		if err := t.Desk.Vault.Ready(ctx); err != nil {
			return err
		}
		t.moveFor.Name, err = t.freeName(t.moveFor.User+"-"+given.Name(), t.moveFor.Address)
		return err
	}
	return nil
}

// plainAccount finds the account kept for the address, or for what is above it, if there is one.
func (t *Target) plainAccount() (*accounts.Account, error) {
	if t.Options.Account != "" {
		return accounts.Named(t.Desk, t.Options.Account)
	}
	if t.Options.Key != "" {
		return nil, nil
	}
	if a, err := accounts.For(t.Desk, t.Tie.Address); err != nil || a != nil {
		return a, err
	}
	h, _, _, err := hosts.Recognise(t.Desk, t.Tie.Address.String())
	if err != nil || h == nil || h.Actions["repository-show"] != nil {
		return nil, err
	}
	on, err := accounts.On(t.Desk, h.Name) // it has no way to show one, and its accounts sign in all the same
	if err != nil || len(on) != 1 || t.Tie.Address.Scheme == "ssh" {
		return nil, err
	}
	return on[0], nil
}

// Target is where a folder is attached to, and by whom.
type Target struct {
	Work
	Login      *login.Login // nil for an address that no description covers
	Tie        *project.Tie
	Repository description.Repository // what is attached to, or what is to be made
	Create     bool
	Vacant     bool   // what is attached to was made before, and holds nothing yet
	Format     string // how the objects are named in it, "sha256" or as git does by itself: sha1, or ""
	Unborn     string // what its first branch is to be called, as the host says of one that holds nothing; "" where it does not say
	Clones     bool   // it is a clone's, which may do without an account
	Move       string // a secret that was in an address, to be moved into the vault
	moveFor    accounts.Account
	settings   []git.Setting // git's, once they were read
	Branch     string
	Name       string   // who signs commits
	Email      string   //
	Former     string   // what the old remote is called from then on; "" where nothing moves
	Went       bool     // commits were sent now
	Others     []string // other accounts that can see what this one cannot
}
