package attach

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
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
)

// chooseTarget decides what is hooked to: a repository that exists (named, already
// the folder's remote, or hooked before) or one to be made.
func (a *Attach) chooseTarget(ctx context.Context) error {
	o := &a.Options
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
	for name, url := range a.folder.Remotes {
		if project.WithoutSecret(url) != url && name != o.Remote {
			if at, err := address.Parse(url); err == nil && at.Secret != "" {
				a.Notes = append(a.Notes, "The remote "+text.Visible(name)+" holds a token in its address, in plain text; this attach leaves it alone.")
			}
		}
	}
	standing := a.folder.Remotes[o.Remote]
	if a.run.Fact("address") != "" && to == "" {
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
			if h, owner, name, err := hosts.Recognise(a.Desk, standing); err != nil || h == nil || !a.sameName(to, owner, name) {
				return fault.New(fault.Decision, "this project has a remote %s already, and it leads to %s", text.Quote(o.Remote), old.Bare().String()).
					Try("hook to that one", a.Again("--to", old.Bare().String())).
					Try("or keep it and hook under another name", a.Again("--remote", "host", "--to", project.WithoutSecret(to)))
			}
		}
		if old.Secret != "" {
			a.move, a.moveFor = old.Secret, accounts.Account{User: old.User, Address: old.Bare().String()}
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
	for _, s := range a.folder.Settings {
		if s.Key != "remote."+a.Options.Remote+".pushurl" {
			continue
		}
		return fault.New(fault.Decision, "the remote %s has an address of its own for pushing, %s, so what is checked is not what is sent to",
			text.Quote(a.Options.Remote), text.Excerpt(project.WithoutSecret(s.Value), 80)).
			Try("take that address out", text.Command("git", "-C", a.folder.Path, "config", "--unset-all", s.Key))
	}
	return nil
}

func (a *Attach) sameName(to, owner, name string) bool {
	return to == name || to == owner+"/"+name
}

// chooseNew proposes the repository that is to be made.
func (a *Attach) chooseNew(ctx context.Context) error {
	o := &a.Options
	account, err := accounts.Pick(a.Desk, o.Account, o.Host)
	if err != nil {
		return err
	}
	if a.Login, err = login.Open(ctx, a.Desk, account); err != nil {
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
		if name = naming.Propose(filepath.Base(a.folder.Path)); name == "" {
			return fault.New(fault.Decision, "no repository name can be made of the folder's name %s", text.Quote(filepath.Base(a.folder.Path))).
				Try("give one", a.Again("--name", "NAME"))
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
			f.Try("", a.Again("--visibility", near))
		}
		return f
	}
	what := "create a repository"
	if err := a.Login.May("repository-create", what); err != nil {
		return err
	}
	if err := a.Login.May("repository-show", "show a repository"); err != nil {
		return err
	}
	if err := a.checkOwner(ctx, owner, name); err != nil {
		return err
	}
	a.Target = description.Repository{Owner: owner, Name: name, Visibility: o.Visibility, Description: o.Description}
	a.Create = true
	if a.byPush() {
		if err := a.checkByPush(); err != nil {
			return err
		}
	}
	w := a.run.State.Head.Wanted
	w["account"], w["owner"], w["name"] = account.Name, owner, name
	there, found, err := a.Login.Repository(ctx, owner, name)
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
		a.Target = made
		a.Target.Visibility = o.Visibility
		return nil
	}
	if err := a.checkRenamed(ctx); err != nil {
		return err
	}
	https, err := a.Login.Host.RepositoryFrom(map[string]any{"owner": owner, "name": name})
	if err == nil {
		https, err = a.Login.Host.WithSSH(https)
	}
	if err != nil {
		return err
	}
	a.Target.Page, a.Target.HTTPS, a.Target.SSH = https.Page, https.HTTPS, https.SSH
	return nil
}

// checkRenamed stops when the repository that an interrupted run made is there under
// another name now: a second one would be made otherwise.
func (a *Attach) checkRenamed(ctx context.Context) error {
	id := a.run.Fact("id")
	if id == "" || a.Login.May("repository-list", "") != nil {
		return nil
	}
	all, err := a.Login.Repositories(ctx, "")
	if err != nil {
		return err
	}
	for _, r := range all {
		if r.ID == id {
			return fault.New(fault.Decision, "the repository that this attach made on %s before it was cut off is called %s now", a.Login.Host.Name, r.Path()).
				Try("hook to it under that name", a.Again("--to", r.Path()))
		}
	}
	return nil
}

// adopt decides about a repository that is there already under the wanted name: ours
// if an interrupted run made it, else a question for the person.
func (a *Attach) adopt(there description.Repository) (description.Repository, error) {
	r := a.run
	if id := r.Fact("id"); id != "" && id == there.ID {
		return there, nil
	}
	if nonce := r.Fact("nonce"); nonce != "" && strings.Contains(there.Description, nonce) {
		return there, nil
	}
	h, account := a.Login.Host, a.Login.Account
	mine := there.Owner == account.User || there.Creator == account.User
	if mine && there.Empty != nil && *there.Empty {
		return there, fault.New(fault.Decision, "%s has a repository %s already; it is empty and yours", h.Name, there.Path()).
			Try("hook to it", a.Again("--to", there.Path())).
			Try("or make one of another name", a.Again("--name", there.Name+"-2"))
	}
	f := fault.New(fault.HostSaidNo, "%s has a repository %s already, with work in it", h.Name, there.Path())
	if there.Empty == nil {
		f.Says = h.Name + " has a repository " + there.Path() + " already"
	}
	return there, f.Try("take another name", a.Again("--name", there.Name+"-2")).
		Try("or bring that one onto this machine", text.Command("uncinate", "clone", there.Path()))
}

// chooseExisting finds the repository that --to, or the folder's remote, names.
func (a *Attach) chooseExisting(ctx context.Context, to string) error {
	o := &a.Options
	h, owner, name, err := hosts.Recognise(a.Desk, to)
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
		a.move, a.moveFor = given.Secret, accounts.Account{User: given.User, Address: given.Bare().String()}
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
	account, err := accounts.Pick(a.Desk, o.Account, h.Name)
	if err != nil && o.Account == "" {
		// Of several accounts the one that can see the repository is meant.
		if names := login.WhoSees(ctx, a.Desk, h.Name, nil, owner, name, false); len(names) == 1 {
			if account, err = accounts.Named(a.Desk, names[0]); err == nil {
				a.Notes = append(a.Notes, "Of your accounts on "+h.Name+" only "+names[0]+" can see it, so that one is used.")
			}
		}
	}
	if err != nil {
		if on, _ := accounts.On(a.Desk, h.Name); a.clones && o.Account == "" && len(on) == 0 && parseErr == nil {
			return a.choosePlain(ctx, given, nil) // what is public needs no account
		}
		return err
	}
	if a.Login, err = login.Open(ctx, a.Desk, account); err != nil {
		return err
	}
	return a.showExisting(ctx, owner, name)
}

// byName finds the host of a plain name or owner/name: the account's, or the only
// one that is known.
func (a *Attach) byName(ctx context.Context, to string) (h *hosts.Host, owner, name string, err error) {
	owner, name = naming.Split(to)
	account, err := accounts.Pick(a.Desk, a.Options.Account, a.Options.Host)
	if err == nil {
		if owner == "" {
			owner = account.User
		}
		h, err = hosts.Named(a.Desk, account.Host)
		return h, owner, name, err
	}
	if a.Options.Account == "" {
		if h, owner, ok := a.ofSeveral(ctx, owner, name); ok {
			return h, owner, name, nil
		}
	}
	hosts, listErr := hosts.All(a.Desk)
	if listErr == nil && a.Options.Account == "" && owner != "" && len(hosts) == 1 && hosts[0].Actions["repository-show"] == nil {
		return hosts[0], owner, name, nil
	}
	return nil, "", "", errors.Join(err, listErr)
}

// ofSeveral finds the host and owner of a plain name where there are several accounts,
// all on one host: the owner is said, or is the one account's user who has it.
func (a *Attach) ofSeveral(ctx context.Context, owner, name string) (*hosts.Host, string, bool) {
	all, err := accounts.All(a.Desk)
	if err != nil || len(all) < 2 {
		return nil, "", false
	}
	for _, b := range all {
		if b.Host == "" || b.Host != all[0].Host {
			return nil, "", false
		}
	}
	h, err := hosts.Named(a.Desk, all[0].Host)
	if err != nil || owner != "" {
		return h, owner, err == nil
	}
	var owners []string
	for _, b := range all {
		if len(login.WhoSees(ctx, a.Desk, h.Name, nil, b.User, name, false)) > 0 {
			owners = append(owners, b.User)
		}
	}
	if len(owners) != 1 {
		return nil, "", false
	}
	return h, owners[0], true
}

// moveIn asks the host with the secret that stood in the address.
func (a *Attach) moveIn(ctx context.Context, h *hosts.Host, owner, name string) error {
	if err := a.Desk.Vault.Ready(ctx); err != nil {
		return err
	}
	a.Login = &login.Login{Desk: a.Desk, Host: h, Account: &a.moveFor, Token: a.move}
	id, err := a.Login.Identify(ctx)
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
	all, err := accounts.All(a.Desk)
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

func (a *Attach) showExisting(ctx context.Context, owner, name string) error {
	there, found, err := a.Login.Repository(ctx, owner, name)
	if err != nil {
		return err
	}
	if !found {
		f := fault.New(fault.HostSaidNo, "%s has no repository %s/%s, or not for %s", a.Login.Host.Name, owner, name, a.Login.Account.User)
		if a.others = login.WhoSees(ctx, a.Desk, a.Login.Host.Name, a.Login.Account, owner, name, false); len(a.others) > 0 {
			return login.Others(f, a.others, "see it", func(account string) string { return a.Again("--to", owner+"/"+name, "--account", account) })
		}
		if near := a.nearName(ctx, name); near != "" {
			f.Detail("There is one named %s.", near)
			f.Try("take that one", a.Again("--to", owner+"/"+near))
		}
		return f.Try("make it", a.Again("--name", owner+"/"+name))
	}
	a.Target = there
	return nil
}

func (a *Attach) nearName(ctx context.Context, name string) string {
	all, err := a.Login.Repositories(ctx, "")
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
			Try("use its https address", a.Again("--to", "https://"+given.Host+"/"+given.Path))
	}
	bare := given.Bare()
	if given.Scheme == "ssh" {
		bare = given
	}
	a.Target = description.Repository{Name: given.Name(), HTTPS: bare.String()}
	if a.move != "" {
		if err := a.Desk.Vault.Ready(ctx); err != nil {
			return err
		}
		a.moveFor.Name, err = a.freeName(a.moveFor.User+"-"+given.Name(), a.moveFor.Address)
		return err
	}
	return nil
}

// plainAccount finds the account kept for the very address, if there is one.
func (a *Attach) plainAccount() (*accounts.Account, error) {
	if a.Options.Account != "" {
		return accounts.Named(a.Desk, a.Options.Account)
	}
	all, err := accounts.All(a.Desk)
	if err != nil {
		return nil, err
	}
	for _, b := range all {
		if at, err := address.Parse(b.Address); err == nil && at.Key() == a.Hook.Address.Key() {
			return b, nil
		}
	}
	return nil, nil
}

// checkOwner makes sure, where the host tells, that the account may make repositories
// for an owner, and lists the owners it may choose otherwise.
func (a *Attach) checkOwner(ctx context.Context, owner, name string) error {
	if owner == a.Login.Account.User || a.Login.May("owner-list", "") != nil {
		return nil
	}
	items, err := a.Login.List(ctx, "owner-list", "list owners", nil)
	if err != nil {
		return err
	}
	owners := []string{a.Login.Account.User}
	for _, i := range items {
		if o, ok := i["owner"].(string); ok && !slices.Contains(owners, o) {
			owners = append(owners, o)
		}
	}
	if slices.Contains(owners, owner) {
		return nil
	}
	f := fault.New(fault.HostSaidNo, "on %s the account %s cannot make repositories for %s", a.Login.Host.Name, a.Login.Account.Name, text.Quote(owner))
	names := login.WhoCreates(ctx, a.Desk, a.Login.Host.Name, a.Login.Account, owner)
	if len(names) > 0 {
		return login.Others(f, names, "make repositories for "+owner, func(account string) string { return a.Again("--account", account, "--name", owner+"/"+name) })
	}
	f.Detail("The owners to choose from are %s.", text.Excerpt(strings.Join(owners, ", "), 300))
	if near := text.Nearest(owner, owners); near != "" {
		owners = []string{near}
	}
	for _, o := range owners[:min(len(owners), 4)] {
		f.Try("for "+o, a.Again("--name", o+"/"+name))
	}
	return f
}
