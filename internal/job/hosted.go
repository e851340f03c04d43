package job

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// HostedRepository is one on a host, with the account that sees it.
type HostedRepository struct {
	Account string `json:"account"`
	Host    string `json:"host"`
	description.Repository
}

// ListHosted lists what an account sees, or all accounts; those with find in their name.
// What could not be asked is told in notes.
func (d *Desk) ListHosted(ctx context.Context, account, find string) (out []HostedRepository, notes []string, err error) {
	all, err := d.Accounts()
	if err != nil {
		return nil, nil, err
	}
	if account != "" {
		a, err := d.Account(account)
		if err != nil {
			return nil, nil, err
		}
		all = []*Account{a}
	}
	asked := 0
	for _, a := range all {
		if a.Host == "" {
			continue
		}
		asked++
		found, err := d.RepositoriesOf(ctx, a.Name, find)
		if err != nil {
			if ctx.Err() != nil || account != "" {
				return nil, nil, err
			}
			notes = append(notes, "Account "+a.Name+" on "+a.Host+": "+fault.Of(err).Says+".")
			continue
		}
		for _, r := range found {
			out = append(out, HostedRepository{a.Name, a.Host, r})
		}
	}
	if asked == 0 {
		return nil, nil, NoAccount("")
	}
	return out, notes, nil
}

// hosted finds one repository on a host: what is a name, owner/name or any of its addresses.
func (d *Desk) hosted(ctx context.Context, account, what string) (*login, description.Repository, error) {
	var none description.Repository
	h, owner, name, err := d.Recognise(what)
	if err != nil {
		return nil, none, err
	}
	on := ""
	if h != nil {
		on = h.Name
	} else if strings.Contains(what, "://") {
		return nil, none, fault.New(fault.Failed, "no host that is known has the address %s", text.Excerpt(withoutSecret(what), 80)).Try("see the known ones", "uncinate host list")
	} else {
		owner, name = naming.Split(what)
	}
	a, err := d.pick(account, on)
	if err != nil && account == "" {
		if one := d.onlyOne(ctx, on, owner, name); one != nil {
			a, err = one, nil
		}
	}
	if err != nil {
		return nil, none, err
	}
	if owner == "" {
		owner = a.User
	}
	l, err := d.login(ctx, a)
	if err != nil {
		return nil, none, err
	}
	if err := l.may("repository-show", "show a repository"); err != nil {
		return nil, none, err
	}
	r, found, err := l.repository(ctx, owner, name)
	if err == nil && !found {
		f := fault.New(fault.HostSaidNo, "%s has no repository %s/%s, or not for %s", l.Host.Name, owner, name, a.User)
		names := d.whoSees(ctx, l.Host.Name, a, owner, name, false)
		err = others(f.Try("see what there is", text.Command("uncinate", "hosted", "list", "--account", a.Name)), names, "see it", func(account string) string {
			return text.Command("uncinate", "hosted", "show", owner+"/"+name, "--account", account)
		})
	}
	return l, r, err
}

// onlyOne finds the account that is meant where there are several: the one that runs the
// only repository of that name which any of them sees. Nobody is asked for anything.
func (d *Desk) onlyOne(ctx context.Context, on, owner, name string) *Account {
	all, err := d.Accounts()
	if err != nil {
		return nil
	}
	var found *Account
	where := ""
	hosts := map[string]bool{}
	for _, a := range all {
		hosts[a.Host] = a.Host != "" && (on == "" || a.Host == on)
	}
	for host, asked := range hosts {
		if !asked {
			continue
		}
		best := 0
		d.whoCan(ctx, host, nil, func(l *login) bool {
			of := owner
			if of == "" {
				of = l.Account.User
			}
			r, there, err := l.repository(ctx, of, name)
			if err != nil || !there {
				return false
			}
			rank := 1 + slices.Index([]string{"", "read", "write", "admin"}, r.Right)
			switch at := host + " " + r.Path(); {
			case where != "" && where != at:
				where = "several"
			case rank > best:
				where, found, best = at, l.Account, rank
			}
			return true
		})
	}
	if where == "several" {
		return nil
	}
	return found
}

// ShowHosted tells of one repository.
func (d *Desk) ShowHosted(ctx context.Context, account, what string) (HostedRepository, error) {
	l, r, err := d.hosted(ctx, account, what)
	if err != nil {
		return HostedRepository{}, err
	}
	return HostedRepository{l.Account.Name, l.Host.Name, r}, nil
}

// HostedChange is what is wanted of a hosted repository. Empty fields stay as they are.
type HostedChange struct {
	Name        string
	Description string
	Set         bool // the description is given, maybe empty
	Visibility  string
	Branch      string
}

// ChangeHosted plans to change a hosted repository. Projects of this machine that are
// hooked to it follow a new name.
func (d *Desk) ChangeHosted(ctx context.Context, account, what string, o HostedChange) (*Change, error) {
	if o.Visibility != "" && !slices.Contains(description.Visibilities, o.Visibility) {
		f := fault.New(fault.Usage, "the visibility is private, members or public, not %s", text.Quote(o.Visibility))
		if near := text.Nearest(o.Visibility, description.Visibilities); near != "" {
			f.Try("", text.Command("uncinate", "hosted", "change", what, "--visibility", near))
		}
		return nil, f
	}
	l, r, err := d.hosted(ctx, account, what)
	if err != nil {
		return nil, err
	}
	if err := l.may("repository-change", "change a repository"); err != nil {
		return nil, err
	}
	if o.Name != "" {
		if err := naming.Check(o.Name); err != nil {
			return nil, err
		}
	}
	c := &Change{desk: d, job: "hosted-change", subject: l.Host.Name + " " + r.Path(), host: l.Host.Name, asWas: "It is as it was.", Head: "To change " + r.Path() + ":"}
	vars := description.Vars{"owner": r.Owner, "name": r.Name, "path": r.Path(), "id": r.ID, "version": r.Version}
	var says []string
	if o.Name != "" && o.Name != r.Name {
		vars["new_name"] = o.Name
		says = append(says, "call it "+o.Name)
	}
	if o.Visibility != "" && o.Visibility != r.Visibility {
		vars["visibility"] = o.Visibility
		says = append(says, "make it "+map[bool]string{true: "visible to members", false: o.Visibility}[o.Visibility == "members"])
		if o.Visibility == "public" {
			c.Notes = append(c.Notes, "Everybody will see it, with its whole history.")
		}
	}
	if o.Set && o.Description != r.Description {
		vars["description"] = any(o.Description)
		if o.Description == "" {
			vars["description"] = description.Blank{}
		}
		says = append(says, "describe it as "+text.Quote(o.Description))
	}
	if o.Branch != "" && o.Branch != r.DefaultBranch {
		vars["default_branch"] = o.Branch
		says = append(says, "make "+text.Visible(o.Branch)+" its default branch")
	}
	if len(says) == 0 {
		return c, nil
	}
	after := r
	sentence := strings.Join(says, ", ")
	c.steps = []Step{{Item: plan.Item{ID: "change", Place: plan.Host, Sentence: strings.ToUpper(sentence[:1]) + sentence[1:]},
		Do: func(ctx context.Context) error {
			_, failed := l.do(ctx, "repository-change", "change "+r.Path(), vars)
			if failed != nil && !fault.Is(failed, fault.Unreachable) {
				return failed
			}
			name := r.Name
			if o.Name != "" {
				name = o.Name
			}
			there, found, err := l.repository(ctx, r.Owner, name)
			switch {
			case failed != nil && (err != nil || !found || there.ID != r.ID):
				return failed // otherwise only the answer was lost; what counts is what is shown
			case err != nil:
				return err
			case !found:
				return fault.New(fault.Failed, "%s took the change, and does not show %s/%s", l.Host.Name, r.Owner, name)
			case vars["visibility"] != nil && there.Visibility != o.Visibility, vars["description"] != nil && there.Description != o.Description,
				vars["default_branch"] != nil && there.DefaultBranch != o.Branch:
				return fault.New(fault.Failed, "%s took the change, and shows %s as it was", l.Host.Name, there.Path())
			}
			after = there
			return nil
		}}}
	if vars["new_name"] != nil {
		if hooked, err := d.hookedTo(r); err != nil {
			return nil, err
		} else if len(hooked) > 0 {
			c.steps = append(c.steps, Step{Item: plan.Item{ID: "follow", Place: plan.Here, Sentence: "Let " + text.Count(len(hooked), "project") + " of this machine follow the new name"},
				Do: func(ctx context.Context) error { return d.follow(ctx, hooked, after) }})
		}
	}
	return c, nil
}

// hookedTo lists this machine's projects that are hooked to a repository.
func (d *Desk) hookedTo(r description.Repository) ([]Project, error) {
	all, err := d.Register()
	var out []Project
	for _, p := range all {
		at, e := address.Parse(p.Address)
		if e != nil {
			continue
		}
		for _, s := range []string{r.HTTPS, r.SSH} {
			if own, e := address.Parse(s); e == nil && own.Same(at) {
				out = append(out, p)
				break
			}
		}
	}
	return out, err
}

// follow hooks projects to a repository's new addresses, over the transport that each has.
func (d *Desk) follow(ctx context.Context, projects []Project, r description.Repository) error {
	for _, p := range projects {
		if _, err := os.Stat(p.Folder); err != nil {
			d.Tell.Note("Note: the project %s is not there any more.", text.Visible(p.Folder))
			continue
		}
		f, err := d.look(ctx, p.Folder)
		if err != nil {
			return err
		}
		h, err := d.hookOf(ctx, f, p)
		if err != nil {
			return err
		}
		to := r.HTTPS
		if h.address.Scheme == "ssh" {
			to = r.SSH
		}
		if h.address, err = address.Parse(to); err != nil {
			return err
		}
		if err := h.set(ctx); err != nil {
			return gitFault(err, "git's configuration cannot be written")
		}
		p.Address, p.Page = h.address.String(), r.Page
		if err := d.enter(p); err != nil {
			return err
		}
	}
	return nil
}

// DeleteHosted plans to delete a hosted repository.
func (d *Desk) DeleteHosted(ctx context.Context, account, what string) (*Change, error) {
	l, r, err := d.hosted(ctx, account, what)
	if err != nil {
		return nil, err
	}
	if err := l.may("repository-delete", "delete a repository"); err != nil {
		return nil, err
	}
	c := &Change{desk: d, job: "hosted-delete", subject: l.Host.Name + " " + r.Path(), host: l.Host.Name, asWas: "It is as it was.", Head: "To delete " + r.Path() + ":"}
	how := "; this cannot be taken back"
	if l.Host.Shell != nil {
		how = "; it is moved aside there, not erased"
	}
	hooked, err := d.hookedTo(r)
	if err != nil {
		return nil, err
	}
	for _, p := range hooked {
		c.Notes = append(c.Notes, "The project "+text.Visible(p.Folder)+" stays as it is, and is hooked to nothing then.")
	}
	c.steps = []Step{{Item: plan.Item{ID: "delete", Place: plan.Host, Sentence: "Delete the repository " + r.Path() + " on " + l.Host.Name + how},
		Do: func(ctx context.Context) error {
			_, err := l.do(ctx, "repository-delete", "delete "+r.Path(), description.Vars{"owner": r.Owner, "name": r.Name, "path": r.Path(), "id": r.ID, "version": r.Version})
			there, found, look := l.repository(ctx, r.Owner, r.Name)
			switch {
			case look == nil && !found:
				return nil // also where the answer was lost
			case err != nil:
				return err
			case look != nil:
				return look
			case there.ID == r.ID:
				return fault.New(fault.Failed, "%s took the deletion, and shows %s still", l.Host.Name, r.Path())
			}
			return nil
		}}}
	return c, nil
}

// DeployKey is a key that opens one repository.
type DeployKey struct {
	ID          string `json:"id"`
	Title       string `json:"title,omitempty"`
	Fingerprint string `json:"fingerprint"`
	Right       string `json:"right" says:"read or write"`
}

// ListAccess lists the deploy keys of a repository.
func (d *Desk) ListAccess(ctx context.Context, account, what string) (HostedRepository, []DeployKey, error) {
	l, r, err := d.hosted(ctx, account, what)
	if err != nil {
		return HostedRepository{}, nil, err
	}
	if err := l.may("deploy-key-list", "list deploy keys"); err != nil {
		return HostedRepository{}, nil, err
	}
	keys, err := l.deployKeys(ctx, r)
	return HostedRepository{l.Account.Name, l.Host.Name, r}, keys, err
}

func repositoryVars(r description.Repository) description.Vars {
	return description.Vars{"owner": r.Owner, "name": r.Name, "path": r.Path(), "version": r.Version}
}

func (l *login) deployKeys(ctx context.Context, r description.Repository) ([]DeployKey, error) {
	items, err := l.list(ctx, "deploy-key-list", "list the deploy keys of "+r.Path(), repositoryVars(r))
	out := []DeployKey{}
	for _, f := range items {
		k := DeployKey{ID: description.Written(f["id"]), Title: description.Written(f["title"]), Right: description.Written(f["right"])}
		if half, err := sshkey.Read(description.Written(f["key"])); err == nil {
			k.Fingerprint = half.Fingerprint()
		}
		out = append(out, k)
	}
	return out, err
}

// GrantKey plans to let a key open one repository: only to read it, unless right is "write".
func (d *Desk) GrantKey(ctx context.Context, account, what, file, title, right string) (*Change, error) {
	if right == "" {
		right = "read"
	}
	if right != "read" && right != "write" {
		return nil, fault.New(fault.Usage, "a key may read or write, and not %s", text.Quote(right))
	}
	path, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	data, err := files.Read(path, sshkey.Longest)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fault.New(fault.Usage, "there is no file %s", text.Visible(path)).Try("make a pair for the machine that is to have it", text.Command("ssh-keygen", "-t", "ed25519", "-f", strings.TrimSuffix(file, ".pub")))
	}
	if err != nil {
		return nil, err
	}
	half, err := sshkey.Read(string(data))
	if err != nil {
		return nil, err
	}
	if why := half.Weak(); why != "" {
		return nil, fault.New(fault.Refused, "the key is too weak: %s", why)
	}
	mine, err := d.Keys()
	if err != nil {
		return nil, err
	}
	for _, k := range mine {
		if k.Half().Same(half) {
			return nil, fault.New(fault.Decision, "this is the key of your account %s, which opens all its repositories; a key for one repository is one of its own", k.Account).
				Try("make one", text.Command("ssh-keygen", "-t", "ed25519", "-f", "deploy-key"))
		}
	}
	l, r, err := d.hosted(ctx, account, what)
	if err != nil {
		return nil, err
	}
	if err := l.may("deploy-key-add", "give a key access to one repository"); err != nil {
		return nil, err
	}
	if title == "" {
		title = half.Comment
	}
	if title == "" {
		title = "deploy key"
	}
	find := func(ctx context.Context) (DeployKey, bool, error) {
		all, err := l.deployKeys(ctx, r)
		i := slices.IndexFunc(all, func(k DeployKey) bool { return k.Fingerprint == half.Fingerprint() })
		if err != nil || i < 0 {
			return DeployKey{}, false, err
		}
		return all[i], true, nil
	}
	c := &Change{desk: d, job: "access-grant", subject: l.Host.Name + " " + r.Path() + " " + half.Fingerprint(), host: l.Host.Name, asWas: "Nothing was granted.", Head: "To let a key open " + r.Path() + ":"}
	c.steps = []Step{{Item: plan.Item{ID: "grant", Place: plan.Host, Sentence: fmt.Sprintf("Let the key %s (%s) %s %s, and nothing else", half.Fingerprint(), text.Visible(title), right, r.Path())},
		Done: func(ctx context.Context) (bool, error) {
			k, found, err := find(ctx)
			if err == nil && found && k.Right != "" && k.Right != right {
				err = fault.New(fault.Decision, "the key has access to %s already: it may %s", r.Path(), k.Right).
					Try("take that back first", text.Command("uncinate", "access", "withdraw", r.Path(), "--key", half.Fingerprint()))
			}
			return found, err
		},
		Do: func(ctx context.Context) error {
			vars := repositoryVars(r)
			vars["title"], vars["key"], vars["right"] = title, half.Line(), right
			_, err := l.do(ctx, "deploy-key-add", "give the key access to "+r.Path(), vars)
			if fault.Is(err, fault.Unreachable) {
				if _, found, look := find(ctx); look == nil && found {
					return nil
				}
			}
			return err
		}}}
	return c, nil
}

// WithdrawKey plans to take a deploy key's access back; key is its fingerprint, or the
// host's own id of it.
func (d *Desk) WithdrawKey(ctx context.Context, account, what, key string) (*Change, error) {
	l, r, err := d.hosted(ctx, account, what)
	if err != nil {
		return nil, err
	}
	if err := l.may("deploy-key-remove", "take a key's access back"); err != nil {
		return nil, err
	}
	all, err := l.deployKeys(ctx, r)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(k DeployKey) bool { return k.Fingerprint == key || k.ID == key })
	if i < 0 {
		return nil, fault.New(fault.Failed, "no deploy key %s opens %s", text.Quote(key), r.Path()).Try("see those that do", text.Command("uncinate", "access", "list", r.Path(), "--account", l.Account.Name))
	}
	c := &Change{desk: d, job: "access-withdraw", subject: l.Host.Name + " " + r.Path() + " " + key, host: l.Host.Name, asWas: "It has access still.", Head: "To take access to " + r.Path() + " back:"}
	c.steps = []Step{{Item: plan.Item{ID: "withdraw", Place: plan.Host, Sentence: "Let the key " + all[i].Fingerprint + " (" + text.Visible(all[i].Title) + ") open " + r.Path() + " no more"},
		Do: func(ctx context.Context) error {
			vars := repositoryVars(r)
			vars["id"] = all[i].ID
			_, err := l.do(ctx, "deploy-key-remove", "take the key's access back", vars)
			if means(err, description.NotFound) {
				return nil
			}
			return err
		}}}
	return c, nil
}
