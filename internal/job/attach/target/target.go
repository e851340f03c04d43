// Package target is where a folder is attached to, and by whom: a new repository, one that was made
// on the host before, or a plain address; the account, the transport, who signs; and the steps that
// make and tie it. Work is the small value that all parts of an attach share. All that a clone needs
// is here; nothing here joins or sends histories.
package target

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
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
)

// ChooseTarget decides what is hooked to: a repository that exists (named, already
// the folder's remote, or hooked before) or one to be made.
func (t *Target) ChooseTarget(ctx context.Context) error {
	o := &t.Options
	to := o.To
	if o.Move {
		return t.chooseMove(ctx, to)
	}
	if o.Account == "" {
		o.Account = t.Project.Account
	}
	if err := t.checkPushAddress(); err != nil {
		return err
	}
	for name, url := range t.Folder.Remotes {
		if project.WithoutSecret(url) != url && name != o.Remote {
			if at, err := address.Parse(url); err == nil && at.Secret != "" {
				t.Notes = append(t.Notes, "The remote "+text.Visible(name)+" holds a token in its address, in plain text; this attach leaves it alone.")
			}
		}
	}
	standing := t.Folder.Remotes[o.Remote]
	if t.Run.Fact("address") != "" && to == "" {
		standing = "" // our own remote, set before the interruption
	}
	if standing != "" {
		old, err := address.Parse(standing)
		if err != nil {
			return fault.New(fault.Decision, "the remote %s of this project leads to an address that is not supported", text.Quote(o.Remote)).
				Detail("%s", fault.Of(err).Says).
				Try("keep it and hook under another name", text.Command("uncinate", "attach", "--remote", "host"))
		}
		if to == "" {
			to = standing
			if t.Project.Folder == "" {
				t.Notes = append(t.Notes, "The remote "+text.Visible(o.Remote)+" stands already; the project is hooked to where it leads: "+old.Bare().String())
			}
		} else if given, err := address.Parse(to); err != nil || !given.Same(old) {
			if h, owner, name, err := hosts.Recognise(t.Desk, standing); err != nil || h == nil || !t.sameName(to, owner, name) {
				return fault.New(fault.Decision, "this project has a remote %s already, and it leads to %s", text.Quote(o.Remote), old.Bare().String()).
					Try("hook to that one", t.Again("--to", old.Bare().String())).
					Try("or keep it and hook under another name", t.Again("--remote", "host", "--to", project.WithoutSecret(to)))
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

// chooseNew proposes the repository that is to be made.
func (t *Target) chooseNew(ctx context.Context) error {
	o := &t.Options
	account, err := accounts.Pick(t.Desk, o.Account, o.Host)
	if err != nil {
		return err
	}
	if t.Login, err = login.Open(ctx, t.Desk, account); err != nil {
		return err
	}
	owner, name, err := t.newName(account.User)
	if err != nil {
		return err
	}
	if err := t.Login.May("repository-create", "create a repository"); err != nil {
		return err
	}
	if err := t.Login.May("repository-show", "show a repository"); err != nil {
		return err
	}
	if err := t.checkOwner(ctx, owner, name); err != nil {
		return err
	}
	t.Repository = description.Repository{Owner: owner, Name: name, Visibility: o.Visibility, Description: o.Description}
	t.Create = true
	if t.ByPush() {
		if err := t.checkByPush(); err != nil {
			return err
		}
	}
	w := t.Run.State.Head.Wanted
	w["account"], w["owner"], w["name"] = account.Name, owner, name
	there, found, err := t.Login.Repository(ctx, owner, name)
	if err != nil {
		return err
	}
	if found {
		return t.takeUp(ctx, account, there)
	}
	if err := t.checkRenamed(ctx); err != nil {
		return err
	}
	https, err := t.Login.Host.RepositoryFrom(map[string]any{"owner": owner, "name": name})
	if err == nil {
		https, err = t.Login.Host.WithSSH(https)
	}
	if err != nil {
		return err
	}
	t.Repository.Page, t.Repository.HTTPS, t.Repository.SSH = https.Page, https.HTTPS, https.SSH
	return nil
}

// newName gives the owner and the name of a repository that is to be made, the account's user
// and the folder's name unless the person says otherwise, and checks its visibility.
func (t *Target) newName(user string) (owner, name string, err error) {
	o := &t.Options
	owner, name = naming.Split(o.Name)
	owner = cmp.Or(owner, o.Owner, user)
	if name == "" {
		if name = naming.Propose(filepath.Base(t.Folder.Path)); name == "" {
			return "", "", fault.New(fault.Decision, "no repository name can be made of the folder's name %s", text.Quote(filepath.Base(t.Folder.Path))).
				Try("give one", t.Again("--name", "NAME"))
		}
	} else if err := naming.Check(name); err != nil {
		return "", "", err
	}
	o.Visibility = cmp.Or(o.Visibility, "private")
	known := []string{"private", "members", "public"}
	if !slices.Contains(known, o.Visibility) {
		f := fault.New(fault.Usage, "the visibility is private, members or public, not %s", text.Quote(o.Visibility))
		if near := text.Nearest(o.Visibility, known); near != "" {
			f.Try("", t.Again("--visibility", near))
		}
		return "", "", f
	}
	return owner, name, nil
}

// takeUp goes on with a repository of the wanted name that is there already, if it is one that
// this attach made before it was cut off.
func (t *Target) takeUp(ctx context.Context, account *accounts.Account, there description.Repository) error {
	if there.Empty == nil { // the host does not say, so git is asked
		if refs, err := t.RefsThere(ctx, account, there); err == nil {
			empty := refs.Empty()
			there.Empty = &empty
		}
	}
	made := there
	ours, err := t.pushed(ctx, there)
	if err == nil && !ours {
		made, err = t.adopt(there)
	}
	if err != nil {
		return err
	}
	t.Repository = made
	t.Repository.Visibility = t.Options.Visibility
	return nil
}

// checkRenamed stops when the repository that an interrupted run made is there under
// another name now: a second one would be made otherwise.
func (t *Target) checkRenamed(ctx context.Context) error {
	id := t.Run.Fact("id")
	if id == "" || t.Login.May("repository-list", "") != nil {
		return nil
	}
	all, err := t.Login.Repositories(ctx, "")
	if err != nil {
		return err
	}
	for _, r := range all {
		if r.ID == id {
			return fault.New(fault.Decision, "the repository that this attach made on %s before it was cut off is called %s now", t.Login.Host.Name, r.Path()).
				Try("hook to it under that name", t.Again("--to", r.Path()))
		}
	}
	return nil
}

// adopt decides about a repository that is there already under the wanted name: ours
// if an interrupted run made it, else a question for the person.
func (t *Target) adopt(there description.Repository) (description.Repository, error) {
	r := t.Run
	if id := r.Fact("id"); id != "" && id == there.ID {
		return there, nil
	}
	if nonce := r.Fact("nonce"); nonce != "" && strings.Contains(there.Description, nonce) {
		return there, nil
	}
	h, account := t.Login.Host, t.Login.Account
	mine := there.Owner == account.User || there.Creator == account.User
	if mine && there.Empty != nil && *there.Empty {
		return there, fault.New(fault.Decision, "%s has a repository %s already; it is empty and yours", h.Name, there.Path()).
			Try("hook to it", t.Again("--to", there.Path())).
			Try("or make one of another name", t.Again("--name", there.Name+"-2"))
	}
	f := fault.New(fault.HostSaidNo, "%s has a repository %s already, with work in it", h.Name, there.Path())
	if there.Empty == nil {
		f.Says = h.Name + " has a repository " + there.Path() + " already"
	}
	return there, f.Try("take another name", t.Again("--name", there.Name+"-2")).
		Try("or bring that one onto this machine", text.Command("uncinate", "clone", there.Path()))
}

// ChooseExisting finds the repository that --to, or the folder's remote, names.
func (to *Target) ChooseExisting(ctx context.Context, what string) error {
	o := &to.Options
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
	hosts, listErr := hosts.All(t.Desk)
	if listErr == nil && t.Options.Account == "" && owner != "" && len(hosts) == 1 && hosts[0].Actions["repository-show"] == nil {
		return hosts[0], owner, name, nil
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

// moveIn asks the host with the secret that stood in the address.
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
		f := fault.New(fault.HostSaidNo, "%s has no repository %s/%s, or not for %s", t.Login.Host.Name, owner, name, t.Login.Account.User)
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

// choosePlain takes an address that no description covers: git alone.
func (t *Target) choosePlain(ctx context.Context, given address.Address, err error) error {
	if err != nil {
		return err
	}
	if given.Scheme == "http" && !address.Guarded("http", given.Host) {
		return fault.New(fault.Refused, "plain http to %s would send the work, and any token, unencrypted", given.Host).
			Try("use its https address", t.Again("--to", "https://"+given.Host+"/"+given.Path))
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

// plainAccount finds the account kept for the very address, if there is one.
func (t *Target) plainAccount() (*accounts.Account, error) {
	if t.Options.Account != "" {
		return accounts.Named(t.Desk, t.Options.Account)
	}
	all, err := accounts.All(t.Desk)
	if err != nil {
		return nil, err
	}
	for _, b := range all {
		if at, err := address.Parse(b.Address); err == nil && at.Key() == t.Hook.Address.Key() {
			return b, nil
		}
	}
	return nil, nil
}

// checkOwner makes sure, where the host tells, that the account may make repositories
// for an owner, and lists the owners it may choose otherwise.
func (t *Target) checkOwner(ctx context.Context, owner, name string) error {
	if owner == t.Login.Account.User || t.Login.May("owner-list", "") != nil {
		return nil
	}
	items, err := t.Login.List(ctx, "owner-list", "list owners", nil)
	if err != nil {
		return err
	}
	owners := []string{t.Login.Account.User}
	for _, i := range items {
		if o, ok := i["owner"].(string); ok && !slices.Contains(owners, o) {
			owners = append(owners, o)
		}
	}
	if slices.Contains(owners, owner) {
		return nil
	}
	f := fault.New(fault.HostSaidNo, "on %s the account %s cannot make repositories for %s", t.Login.Host.Name, t.Login.Account.Name, text.Quote(owner))
	names := login.WhoCreates(ctx, t.Desk, t.Login.Host.Name, t.Login.Account, owner)
	if len(names) > 0 {
		return login.Others(f, names, "make repositories for "+owner, func(account string) string { return t.Again("--account", account, "--name", owner+"/"+name) })
	}
	f.Detail("The owners to choose from are %s.", text.Excerpt(strings.Join(owners, ", "), 300))
	if near := text.Nearest(owner, owners); near != "" {
		owners = []string{near}
	}
	for _, o := range owners[:min(len(owners), 4)] {
		f.Try("for "+o, t.Again("--name", o+"/"+name))
	}
	return f
}

// Target is where a folder is attached to, and by whom.
type Target struct {
	Work
	Login      *login.Login // nil for an address that no description covers
	Hook       *project.Hook
	Repository description.Repository // what is hooked to, or what is to be made
	Create     bool
	Vacant     bool   // what is hooked to was made before, and holds nothing yet
	Clones     bool   // it is a clone's, which may do without an account
	Move       string // a secret that stood in an address, to be moved into the vault
	moveFor    accounts.Account
	Branch     string
	Name       string   // who signs commits
	Email      string   //
	Former     string   // what the old remote is called from then on; "" where nothing moves
	Went       bool     // commits were sent now
	Others     []string // other accounts that can see what this one cannot
}
