package job

import (
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
)

// chooseTarget decides what is hooked to: a repository that exists (named, already
// the folder's remote, or hooked before) or one to be made.
func (a *Attach) chooseTarget(ctx context.Context) error {
	o := &a.options
	to := o.To
	if o.Move {
		return a.chooseMove(ctx, to)
	}
	if o.Account == "" {
		o.Account = a.project.Account
	}
	if err := a.checkPushAddress(); err != nil {
		return err
	}
	for name, url := range a.folder.remotes {
		if withoutSecret(url) != url && name != o.Remote {
			if at, err := address.Parse(url); err == nil && at.Secret != "" {
				a.Notes = append(a.Notes, "The remote "+text.Visible(name)+" holds a token in its address, in plain text; this attach leaves it alone.")
			}
		}
	}
	standing := a.folder.remotes[o.Remote]
	if a.run.fact("address") != "" && to == "" {
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
			if a.project.Folder == "" {
				a.Notes = append(a.Notes, "The remote "+text.Visible(o.Remote)+" stands already; the project is hooked to where it leads: "+old.Bare().String())
			}
		} else if given, err := address.Parse(to); err != nil || !given.Same(old) {
			if h, owner, name, err := a.desk.Recognise(standing); err != nil || h == nil || !a.sameName(to, owner, name) {
				return fault.New(fault.Decision, "this project has a remote %s already, and it leads to %s", text.Quote(o.Remote), old.Bare().String()).
					Try("hook to that one", a.again("--to", old.Bare().String())).
					Try("or keep it and hook under another name", a.again("--remote", "host", "--to", withoutSecret(to)))
			}
		}
		if old.Secret != "" {
			a.move, a.moveFor = old.Secret, Account{User: old.User, Address: old.Bare().String()}
			if old.User == "" {
				a.moveFor.User = "git"
			}
		}
	}
	if to == "" {
		return a.chooseNew(ctx)
	}
	return a.chooseExisting(ctx, to)
}

// checkPushAddress stops where git would push to another address than it fetches
// from (git-config documentation, remote.<name>.pushurl).
func (a *Attach) checkPushAddress() error {
	for _, s := range a.folder.settings {
		if s.Key != "remote."+a.options.Remote+".pushurl" {
			continue
		}
		return fault.New(fault.Decision, "the remote %s has an address of its own for pushing, %s, so what is checked is not what is sent to",
			text.Quote(a.options.Remote), text.Excerpt(withoutSecret(s.Value), 80)).
			Try("take that address out", text.Command("git", "-C", a.folder.path, "config", "--unset-all", s.Key))
	}
	return nil
}

func withoutSecret(to string) string {
	if a, err := address.Parse(to); err == nil {
		return a.Bare().String()
	}
	return to
}

func (a *Attach) sameName(to, owner, name string) bool {
	return to == name || to == owner+"/"+name
}

// chooseNew proposes the repository that is to be made.
func (a *Attach) chooseNew(ctx context.Context) error {
	o := &a.options
	account, err := a.desk.pick(o.Account, o.Host)
	if err != nil {
		return err
	}
	if a.login, err = a.desk.login(ctx, account); err != nil {
		return err
	}
	owner, name := naming.Split(o.Name)
	if owner == "" {
		owner = o.Owner
	}
	if owner == "" {
		owner = account.User
	}
	if name == "" {
		if name = naming.Propose(filepath.Base(a.folder.path)); name == "" {
			return fault.New(fault.Decision, "no repository name can be made of the folder's name %s", text.Quote(filepath.Base(a.folder.path))).
				Try("give one", a.again("--name", "NAME"))
		}
	} else if err := naming.Check(name); err != nil {
		return err
	}
	if o.Visibility == "" {
		o.Visibility = "private"
	}
	if !slices.Contains([]string{"private", "members", "public"}, o.Visibility) {
		f := fault.New(fault.Usage, "the visibility is private, members or public, not %s", text.Quote(o.Visibility))
		if near := text.Nearest(o.Visibility, []string{"private", "members", "public"}); near != "" {
			f.Try("", a.again("--visibility", near))
		}
		return f
	}
	what := "create a repository"
	if err := a.login.may("repository-create", what); err != nil {
		return err
	}
	if err := a.login.may("repository-show", "show a repository"); err != nil {
		return err
	}
	if err := a.checkOwner(ctx, owner, name); err != nil {
		return err
	}
	a.target = description.Repository{Owner: owner, Name: name, Visibility: o.Visibility, Description: o.Description}
	a.create = true
	if a.byPush() {
		if err := a.checkByPush(); err != nil {
			return err
		}
	}
	w := a.run.state.Head.Wanted
	w["account"], w["owner"], w["name"] = account.Name, owner, name
	there, found, err := a.login.repository(ctx, owner, name)
	if err != nil {
		return err
	}
	if found {
		if there.Empty == nil { // the host does not say, so git is asked
			if refs, err := a.refsThere(ctx, account, there); err == nil {
				empty := refs.Empty()
				there.Empty = &empty
			}
		}
		made := there
		ours, err := a.pushed(ctx, there)
		if err == nil && !ours {
			made, err = a.adopt(there)
		}
		if err != nil {
			return err
		}
		a.target = made
		a.target.Visibility = o.Visibility
		return nil
	}
	if err := a.checkRenamed(ctx); err != nil {
		return err
	}
	https, err := a.login.Host.RepositoryFrom(map[string]any{"owner": owner, "name": name})
	if err == nil {
		https, err = a.login.Host.WithSSH(https)
	}
	if err != nil {
		return err
	}
	a.target.Page, a.target.HTTPS, a.target.SSH = https.Page, https.HTTPS, https.SSH
	return nil
}

// checkRenamed stops when the repository that an interrupted run made is there under
// another name now: a second one would be made otherwise.
func (a *Attach) checkRenamed(ctx context.Context) error {
	id := a.run.fact("id")
	if id == "" || a.login.may("repository-list", "") != nil {
		return nil
	}
	all, err := a.login.Repositories(ctx, "")
	if err != nil {
		return err
	}
	for _, r := range all {
		if r.ID == id {
			return fault.New(fault.Decision, "the repository that this attach made on %s before it was cut off is called %s now", a.login.Host.Name, r.Path()).
				Try("hook to it under that name", a.again("--to", r.Path()))
		}
	}
	return nil
}

// adopt decides about a repository that is there already under the wanted name: ours
// if an interrupted run made it, else a question for the person.
func (a *Attach) adopt(there description.Repository) (description.Repository, error) {
	r := a.run
	if id := r.fact("id"); id != "" && id == there.ID {
		return there, nil
	}
	if nonce := r.fact("nonce"); nonce != "" && strings.Contains(there.Description, nonce) {
		return there, nil
	}
	h, account := a.login.Host, a.login.Account
	mine := there.Owner == account.User || there.Creator == account.User
	if mine && there.Empty != nil && *there.Empty {
		return there, fault.New(fault.Decision, "%s has a repository %s already; it is empty and yours", h.Name, there.Path()).
			Try("hook to it", a.again("--to", there.Path())).
			Try("or make one of another name", a.again("--name", there.Name+"-2"))
	}
	f := fault.New(fault.HostSaidNo, "%s has a repository %s already, with work in it", h.Name, there.Path())
	if there.Empty == nil {
		f.Says = h.Name + " has a repository " + there.Path() + " already"
	}
	return there, f.Try("take another name", a.again("--name", there.Name+"-2")).
		Try("or bring that one onto this machine", text.Command("uncinate", "clone", there.Path()))
}

// chooseExisting finds the repository that --to, or the folder's remote, names.
func (a *Attach) chooseExisting(ctx context.Context, to string) error {
	o := &a.options
	h, owner, name, err := a.desk.Recognise(to)
	if err != nil {
		return err
	}
	given, parseErr := address.Parse(to)
	if h == nil && parseErr != nil && !strings.Contains(to, ":") {
		if h, owner, name, err = a.byName(ctx, to); err != nil {
			return err
		}
	}
	if given.Secret != "" && a.move == "" {
		a.move, a.moveFor = given.Secret, Account{User: given.User, Address: given.Bare().String()}
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
		return a.choosePlain(ctx, given, parseErr)
	}
	if a.move != "" {
		a.moveFor.Host, a.moveFor.Address = h.Name, ""
		return a.moveIn(ctx, h, owner, name)
	}
	account, err := a.desk.pick(o.Account, h.Name)
	if err != nil && o.Account == "" {
		// Of several accounts the one that can see the repository is meant.
		if names := a.desk.whoSees(ctx, h.Name, nil, owner, name, false); len(names) == 1 {
			if account, err = a.desk.Account(names[0]); err == nil {
				a.Notes = append(a.Notes, "Of your accounts on "+h.Name+" only "+names[0]+" can see it, so that one is used.")
			}
		}
	}
	if err != nil {
		if on, _ := a.desk.AccountsOn(h.Name); a.clones && o.Account == "" && len(on) == 0 && parseErr == nil {
			return a.choosePlain(ctx, given, nil) // what is public needs no account
		}
		return err
	}
	if a.login, err = a.desk.login(ctx, account); err != nil {
		return err
	}
	return a.showExisting(ctx, owner, name)
}

// byName finds the host of a plain name or owner/name: the account's, or the only
// one that is known.
func (a *Attach) byName(ctx context.Context, to string) (h *Host, owner, name string, err error) {
	owner, name = naming.Split(to)
	account, err := a.desk.pick(a.options.Account, a.options.Host)
	if err == nil {
		if owner == "" {
			owner = account.User
		}
		h, err = a.desk.Host(account.Host)
		return h, owner, name, err
	}
	if a.options.Account == "" {
		if h, owner, ok := a.ofSeveral(ctx, owner, name); ok {
			return h, owner, name, nil
		}
	}
	hosts, listErr := a.desk.Hosts()
	if listErr == nil && a.options.Account == "" && owner != "" && len(hosts) == 1 && hosts[0].Actions["repository-show"] == nil {
		return hosts[0], owner, name, nil
	}
	return nil, "", "", errors.Join(err, listErr)
}

// ofSeveral finds the host and owner of a plain name where there are several accounts,
// all on one host: the owner is said, or is the one account's user who has it.
func (a *Attach) ofSeveral(ctx context.Context, owner, name string) (*Host, string, bool) {
	all, err := a.desk.Accounts()
	if err != nil || len(all) < 2 {
		return nil, "", false
	}
	for _, b := range all {
		if b.Host == "" || b.Host != all[0].Host {
			return nil, "", false
		}
	}
	h, err := a.desk.Host(all[0].Host)
	if err != nil || owner != "" {
		return h, owner, err == nil
	}
	var owners []string
	for _, b := range all {
		if len(a.desk.whoSees(ctx, h.Name, nil, b.User, name, false)) > 0 {
			owners = append(owners, b.User)
		}
	}
	if len(owners) != 1 {
		return nil, "", false
	}
	return h, owners[0], true
}

// moveIn asks the host with the secret that stood in the address.
func (a *Attach) moveIn(ctx context.Context, h *Host, owner, name string) error {
	if err := a.desk.Vault.Ready(ctx); err != nil {
		return err
	}
	a.login = &login{desk: a.desk, Host: h, Account: &a.moveFor, token: a.move}
	id, err := a.login.identify(ctx)
	if err != nil {
		return err
	}
	a.moveFor.User, a.moveFor.FullName, a.moveFor.Email = id.User, id.FullName, id.Email
	if a.moveFor.Name, err = a.freeName(id.User, h.Name); err != nil {
		return err
	}
	return a.showExisting(ctx, owner, name)
}

// freeName gives the name under which a moved secret's account is kept.
func (a *Attach) freeName(user, where string) (string, error) {
	all, err := a.desk.Accounts()
	if err != nil {
		return "", err
	}
	for _, b := range all {
		if b.User == user && b.Where() == where {
			return b.Name, nil
		}
	}
	name := user
	for slices.ContainsFunc(all, func(b *Account) bool { return b.Name == name }) {
		name += "-2"
	}
	return name, checkAccountName(name)
}

func (a *Attach) showExisting(ctx context.Context, owner, name string) error {
	there, found, err := a.login.repository(ctx, owner, name)
	if err != nil {
		return err
	}
	if !found {
		f := fault.New(fault.HostSaidNo, "%s has no repository %s/%s, or not for %s", a.login.Host.Name, owner, name, a.login.Account.User)
		if a.others = a.desk.whoSees(ctx, a.login.Host.Name, a.login.Account, owner, name, false); len(a.others) > 0 {
			return others(f, a.others, "see it", func(account string) string { return a.again("--to", owner+"/"+name, "--account", account) })
		}
		if near := a.nearName(ctx, name); near != "" {
			f.Detail("There is one named %s.", near)
			f.Try("take that one", a.again("--to", owner+"/"+near))
		}
		return f.Try("make it", a.again("--name", owner+"/"+name))
	}
	a.target = there
	return nil
}

func (a *Attach) nearName(ctx context.Context, name string) string {
	all, err := a.login.Repositories(ctx, "")
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
func (a *Attach) choosePlain(ctx context.Context, given address.Address, err error) error {
	if err != nil {
		return err
	}
	if given.Scheme == "http" && !address.Guarded("http", given.Host) {
		return fault.New(fault.Refused, "plain http to %s would send the work, and any token, unencrypted", given.Host).
			Try("use its https address", a.again("--to", "https://"+given.Host+"/"+given.Path))
	}
	bare := given.Bare()
	if given.Scheme == "ssh" {
		bare = given
	}
	a.target = description.Repository{Name: given.Name(), HTTPS: bare.String()}
	if a.move != "" {
		if err := a.desk.Vault.Ready(ctx); err != nil {
			return err
		}
		a.moveFor.Name, err = a.freeName(a.moveFor.User+"-"+given.Name(), a.moveFor.Address)
		return err
	}
	return nil
}

// plainAccount finds the account kept for the very address, if there is one.
func (a *Attach) plainAccount() (*Account, error) {
	if a.options.Account != "" {
		return a.desk.Account(a.options.Account)
	}
	all, err := a.desk.Accounts()
	if err != nil {
		return nil, err
	}
	for _, b := range all {
		if at, err := address.Parse(b.Address); err == nil && at.Key() == a.hook.address.Key() {
			return b, nil
		}
	}
	return nil, nil
}
