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
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/web"
)

// AttachOptions are a person's wishes. Empty ones are proposed.
type AttachOptions struct {
	Folder      string
	To          string // a repository made on the host before: its name or any of its addresses
	Name        string // of the repository to be made; may be owner/name
	Owner       string
	Account     string
	Host        string
	Visibility  string
	Description string
	Remote      string
	Message     string   // of the first commit
	FullName    string   // who signs commits, where the account does not say
	Email       string   //
	Branches    bool     // publish all local branches
	Let         []string // files that go up although they look like private keys
}

// Attach is the main job on one folder: looked at and planned, to be shown, then done.
type Attach struct {
	desk    *Desk
	options AttachOptions
	folder  *folder
	travel  *travel // nil when there are commits already
	run     *runner
	login   *login // nil for an address that no description covers
	hook    *hook
	target  description.Repository // what is hooked to, or what is to be made
	create  bool
	clones  bool   // it is a clone's, which may do without an account
	move    string // a secret that stood in an address, to be moved into the vault
	moveFor Account
	branch  string
	name    string // who signs commits
	email   string
	project Project // the register's entry, if there is one
	steps   []Step

	Resumed bool     // unfinished work was found and goes on
	Notes   []string // what the person should know before agreeing
}

// Attached is what came of it.
type Attached struct {
	Folder        string   `json:"folder"`
	Page          string   `json:"page,omitempty"`
	Address       string   `json:"address"`
	Account       string   `json:"account,omitempty"`
	Visibility    string   `json:"visibility,omitempty"`
	Branch        string   `json:"branch"`
	Commit        string   `json:"commit,omitempty"` // empty: nothing to send yet
	Files         int      `json:"files"`            // in the commit
	Bytes         int64    `json:"bytes"`            //
	Stays         []Stay   `json:"stays,omitempty"`
	Nested        []string `json:"nested,omitempty"` // folders with a repository of their own
	OtherBranches []string `json:"other_branches,omitempty"`
	Verified      bool     `json:"verified"`
	Changed       bool     `json:"changed"` // false: all was done before
}

// Attach looks at the folder, git and the host, and makes the plan.
func (d *Desk) Attach(ctx context.Context, o AttachOptions) (*Attach, error) {
	where, err := d.findFolder(o.Folder)
	if err != nil {
		return nil, err
	}
	if err := d.notAProject(where); err != nil {
		return nil, err
	}
	f, err := d.look(ctx, where)
	if err != nil {
		return nil, err
	}
	a := &Attach{desk: d, folder: f}
	if a.run, a.Resumed, err = d.begin("attach", f.path); err != nil {
		return nil, err
	}
	a.options = a.recall(o)
	o = a.options
	if a.project, _, err = d.ProjectAt(f.path); err != nil {
		return nil, err
	}
	if err := a.chooseTarget(ctx); err != nil {
		return nil, err
	}
	if err := a.chooseSigner(); err != nil {
		return nil, err
	}
	if f.head == "" {
		if a.travel, err = d.travels(ctx, f); err != nil {
			return nil, err
		}
		if err := a.checkKeys(); err != nil {
			return nil, err
		}
	}
	if err := a.checkAddress(); err != nil {
		return nil, err
	}
	if !a.create {
		if err := a.checkHistory(ctx); err != nil {
			return nil, err
		}
	}
	a.steps = a.plan()
	return a, nil
}

// recall puts the choices of an interrupted run in where this run makes none.
func (a *Attach) recall(o AttachOptions) AttachOptions {
	w := a.run.state.Head.Wanted
	if a.Resumed {
		for key, field := range o.kept() {
			if *field == "" {
				*field = w[key]
			}
		}
	}
	if a.Resumed && o.To == "" {
		o.To = w["to"]
	}
	if o.To != "" {
		w["to"] = withoutSecret(o.To)
	}
	if o.Remote == "" {
		o.Remote = "origin"
	}
	if o.Message == "" {
		o.Message = "First commit"
	}
	for key, field := range o.kept() {
		if *field != "" {
			w[key] = *field
		}
	}
	return o
}

// kept names the choices that the journal remembers. An address is kept without
// what secret may stand in it.
func (o *AttachOptions) kept() map[string]*string {
	return map[string]*string{"name": &o.Name, "owner": &o.Owner, "account": &o.Account, "host": &o.Host, "visibility": &o.Visibility,
		"description": &o.Description, "remote": &o.Remote, "message": &o.Message, "full-name": &o.FullName, "email": &o.Email}
}

// Items is the plan as it is shown.
func (a *Attach) Items() []plan.Item { return Items(a.steps) }

// chooseTarget decides what is hooked to: a repository that exists (named, already
// the folder's remote, or hooked before) or one to be made.
func (a *Attach) chooseTarget(ctx context.Context) error {
	o := &a.options
	to := o.To
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
	if a.login, err = a.desk.login(account); err != nil {
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
	a.target = description.Repository{Owner: owner, Name: name, Visibility: o.Visibility, Description: o.Description}
	a.create = true
	w := a.run.state.Head.Wanted
	w["account"], w["owner"], w["name"] = account.Name, owner, name
	there, found, err := a.login.repository(ctx, owner, name)
	if err != nil {
		return err
	}
	if found {
		made, err := a.adopt(there)
		if err != nil {
			return err
		}
		a.target = made
		a.target.Visibility = o.Visibility
		return nil
	}
	https, err := a.login.Host.RepositoryFrom(map[string]any{"owner": owner, "name": name})
	if err != nil {
		return err
	}
	a.target.Page, a.target.HTTPS = https.Page, https.HTTPS
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
		if h, owner, name, err = a.byName(to); err != nil {
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
		return a.choosePlain(given, parseErr)
	}
	if a.move != "" {
		a.moveFor.Host, a.moveFor.Address = h.Name, ""
		return a.moveIn(ctx, h, owner, name)
	}
	account, err := a.desk.pick(o.Account, h.Name)
	if err != nil {
		if on, _ := a.desk.AccountsOn(h.Name); a.clones && o.Account == "" && len(on) == 0 && parseErr == nil {
			return a.choosePlain(given, nil) // what is public needs no account
		}
		return err
	}
	if a.login, err = a.desk.login(account); err != nil {
		return err
	}
	return a.showExisting(ctx, owner, name)
}

// byName finds the host of a plain name or owner/name: the account's, or the only
// one that is known.
func (a *Attach) byName(to string) (h *Host, owner, name string, err error) {
	owner, name = naming.Split(to)
	account, err := a.desk.pick(a.options.Account, a.options.Host)
	if err == nil {
		if owner == "" {
			owner = account.User
		}
		h, err = a.desk.Host(account.Host)
		return h, owner, name, err
	}
	hosts, listErr := a.desk.Hosts()
	if listErr == nil && a.options.Account == "" && owner != "" && len(hosts) == 1 && hosts[0].Actions["repository-show"] == nil {
		return hosts[0], owner, name, nil
	}
	return nil, "", "", errors.Join(err, listErr)
}

// moveIn asks the host with the secret that stood in the address.
func (a *Attach) moveIn(ctx context.Context, h *Host, owner, name string) error {
	if err := a.desk.Vault.Ready(); err != nil {
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
func (a *Attach) choosePlain(given address.Address, err error) error {
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
		if err := a.desk.Vault.Ready(); err != nil {
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

// chooseSigner decides whose name and e-mail the commits carry: what was asked for,
// else what stands in this repository, else the account's, else git's own.
func (a *Attach) chooseSigner() error {
	setting := func(scope, key string) string {
		value := ""
		for _, s := range a.folder.settings {
			if strings.EqualFold(s.Key, key) && (scope == "" || s.Scope == scope) {
				value = s.Value
			}
		}
		return value
	}
	choose := func(asked, key, account string) string {
		for _, s := range []string{asked, setting("local", key), account, setting("", key)} {
			if s != "" {
				return s
			}
		}
		if out, err := a.folder.repo.Do(context.Background(), "config", "--get", key); err == nil {
			return out
		}
		return ""
	}
	var of Account
	if a.login != nil {
		of = *a.login.Account
	}
	a.name = choose(a.options.FullName, "user.name", of.FullName)
	a.email = choose(a.options.Email, "user.email", of.Email)
	if a.name == "" || a.email == "" {
		return fault.New(fault.Decision, "git does not know whose name and e-mail the commits are to carry").
			Try("say it for this project", a.again("--full-name", "NAME", "--email", "ADDRESS"))
	}
	if strings.ContainsAny(a.name+a.email, "<>\n\x00") {
		return fault.New(fault.Usage, "a name or e-mail for commits cannot hold '<', '>' or a line end")
	}
	return nil
}

// checkKeys refuses to send files that are private keys, unless they were let through.
func (a *Attach) checkKeys() error {
	var bad []string
	for _, p := range a.travel.keys {
		if !slices.ContainsFunc(a.options.Let, func(l string) bool {
			ok, err := filepath.Match(l, p)
			return err == nil && ok || l == p || strings.HasPrefix(p, strings.TrimSuffix(l, "/")+"/")
		}) {
			bad = append(bad, p)
		}
	}
	if len(bad) == 0 {
		return nil
	}
	f := fault.New(fault.Refused, "%s would go up that looks like a private key", text.Count(len(bad), "file"))
	for i, p := range bad {
		if i == 8 {
			f.Detail("and %d more", len(bad)-i)
			break
		}
		f.Detail("%s", text.Visible(p))
	}
	return f.Try("keep it out", "echo "+text.Quote("/"+bad[0])+" >> "+text.Quote(filepath.Join(a.folder.path, ".gitignore"))).
		Try("or, if it is no secret (a test key), let it through", a.again("--let", bad[0]))
}

// checkAddress settles the address, and what in the person's own configuration
// would lead git astray on the way to it.
func (a *Attach) checkAddress() error {
	at, err := address.Parse(a.target.HTTPS)
	if err != nil {
		return fault.New(fault.Unreachable, "the host names a clone address that cannot be used: %s", text.Excerpt(a.target.HTTPS, 80)).Because(err)
	}
	if at.Scheme == "http" && !address.Guarded("http", at.Host) {
		return fault.New(fault.Refused, "plain http to %s would send the token unencrypted", at.Host)
	}
	a.hook = &hook{desk: a.desk, repo: a.folder.repo, remote: a.options.Remote, address: at}
	user := ""
	if a.login != nil {
		a.hook.account = a.login.Account
	} else if a.move != "" {
		a.hook.account = &a.moveFor
	} else if a.hook.account, err = a.plainAccount(); err != nil {
		return err
	}
	if a.hook.account != nil {
		if user, _, err = a.desk.gitLogin(a.hook.account, ""); err != nil {
			return err
		}
		if err := a.desk.checkNetrc(at, user); err != nil {
			return err
		}
	}
	settings := a.folder.settings
	if !a.folder.isRepo {
		if settings, err = a.folder.repo.Settings(context.Background()); err != nil {
			return gitFault(err, "git's configuration cannot be read")
		}
	}
	if s := rewrites(settings, at); s != nil && s.Scope != "local" {
		a.hook.rewrite = a.login != nil
		if a.hook.rewrite {
			a.Notes = append(a.Notes, "Your git configuration turns this address into another ("+text.Visible(s.Key)+" in "+text.Visible(s.Origin)+"); for this project it is kept as it is.")
		}
	}
	return nil
}

// checkHistory makes sure that what the hosted repository holds is nothing, or a
// part of what is here.
func (a *Attach) checkHistory(ctx context.Context) error {
	refs, err := a.remoteRefs(ctx)
	if err != nil {
		return err
	}
	a.branch = a.folder.branch
	if refs.Empty() {
		return nil
	}
	tip := refs.Branch(a.branch)
	if a.folder.head != "" {
		for _, id := range []string{tip, refs.IDs["HEAD"]} {
			if id == "" {
				continue
			}
			if _, err := a.folder.repo.Do(ctx, "merge-base", "--is-ancestor", id, a.folder.head); err == nil {
				return nil
			}
		}
	}
	f := fault.New(fault.Decision, "%s holds work already that is not in this folder, and joining the two is not something this version does", a.hook.address.String())
	return f.Detail("Nothing was changed, here or there.").
		Try("bring it onto this machine beside this folder", text.Command("uncinate", "clone", a.hook.address.String())).
		Try("or hook this folder to a new repository", a.again("--name", naming.Propose(filepath.Base(a.folder.path))+"-2"))
}

// remoteRefs asks the hosted repository for its branches: over HTTP by ourselves
// with the account's secret, otherwise through git with the sign-in it has.
func (a *Attach) remoteRefs(ctx context.Context) (web.Refs, error) {
	if a.move != "" && a.login == nil {
		return a.desk.Web.Refs(ctx, a.hook.address, a.moveFor.User, a.move)
	}
	token := ""
	if a.login != nil {
		token = a.login.token
	}
	return a.desk.refs(ctx, a.hook, token)
}

// refs asks an address for its refs on behalf of an account.
func (d *Desk) refs(ctx context.Context, h *hook, token string) (web.Refs, error) {
	if h.account != nil && h.address.Scheme != "ssh" {
		if token == "" {
			var err error
			if token, _, err = d.Vault.Get(h.account.secretName()); err != nil {
				return web.Refs{}, err
			}
		}
		user, secret, err := d.gitLogin(h.account, token)
		if err != nil {
			return web.Refs{}, err
		}
		return d.Web.Refs(ctx, h.address, user, secret)
	}
	ids, head, err := h.repo.Refs(ctx, h.address.String(), h.config()...)
	if err != nil {
		return web.Refs{}, d.diagnose(ctx, h.address, err)
	}
	return web.Refs{IDs: ids, Head: head}, nil
}

// diagnose finds the true cause of a failed talk of git with an address.
func (d *Desk) diagnose(ctx context.Context, at address.Address, err error) error {
	if ctx.Err() != nil || at.Scheme == "ssh" {
		return gitFault(err, "git cannot reach %s", at.String())
	}
	if _, probed := d.Web.Refs(ctx, at, "", ""); probed != nil {
		h, _, _, known := d.Recognise(at.String())
		if known == nil && h != nil && h.Actions["identify"] != nil && fault.Is(probed, fault.HostSaidNo) {
			f := *fault.Of(probed)
			f.Remedies = nil
			return f.Try("add your account there", text.Command("uncinate", "account", "add", "--host", h.Name))
		}
		return probed
	}
	return gitFault(err, "git cannot work with %s", at.String())
}

// HostName is the known host that is hooked to, "" for an address that no
// description covers.
func (a *Attach) HostName() string {
	if a.login == nil {
		return ""
	}
	return a.login.Host.Name
}

// again is an attach of the same folder with other options, as a command to paste.
func (a *Attach) again(options ...string) string {
	words := append([]string{"uncinate", "attach"}, options...)
	if given := a.options.Folder; given != "." && given != "" {
		words = append(words, given)
	}
	return text.Command(words...)
}

// Headline says in a few words what the plan is for.
func (a *Attach) Headline() string {
	what := a.target.HTTPS
	if a.login != nil {
		what = a.target.Path() + " on " + a.login.Host.Name
	}
	verb := "a new repository, "
	if !a.create {
		verb = ""
	}
	return "To hook " + text.Visible(filepath.Base(a.folder.path)) + " to " + verb + what + ":"
}
