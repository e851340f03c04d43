// Package project is a folder that is attached: Look finds it and says what it is, the register
// knows all of this machine, a Tie is what ties it to its repository in git's configuration, and
// Refs and Push ask and send. It reads the work tree; what changes it is in worktree.
package project

import (
	"context"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/world/files"
)

// Visit gives the address of a project's page, or of a part of it; of names the branch or the file.
func Visit(ctx context.Context, d *desk.Desk, given, part, of string) (string, error) {
	var h *hosts.Host
	var owner, name string
	f, p, err := ProjectFor(ctx, d, given)
	if err != nil {
		return "", err
	}
	if h, owner, name, err = hosts.Recognise(d, p.Address); err != nil {
		return "", err
	}
	if h == nil {
		if part != "" {
			return "", fault.New(fault.Failed, "nobody described the host of %s, so its pages are not known", p.Address)
		}
		at, err := address.Parse(p.Address)
		if err != nil {
			return "", err
		}
		if at.Scheme == "ssh" {
			return "", fault.New(fault.Failed, "nobody described the host of %s, so its pages are not known", p.Address)
		}
		at.Suffix = false
		return at.String(), nil
	}
	t := h.Page
	if part != "" {
		if t = h.Pages[part]; t == nil {
			f := fault.New(fault.Usage, "the description of %s names no page for %s", h.Name, text.Quote(part))
			if near := text.Nearest(part, slices.Sorted(maps.Keys(h.Pages))); near != "" {
				f.Detail("Did you mean %s?", near)
			}
			return "", f
		}
	}
	if part == "" {
		if p.Page == "" { // it was cloned, or found
			p.Page = toldPage(ctx, d, p.Account, h, owner, name)
		}
		if h.Trusts(p.Page) {
			return p.Page, nil
		}
	}
	if t == nil {
		return "", fault.New(fault.Failed, "the description of %s names no page for a repository", h.Name)
	}
	vars := description.Vars{"owner": owner, "name": name, "path": owner + "/" + name, "branch": f.Branch}
	switch {
	case of == "" && part == "file":
		return "", fault.New(fault.Usage, "name the file").Try("for example", "uncinate visit file README.md")
	case part == "branch" && of != "":
		vars["branch"] = of
	case part == "file":
		path, err := filepath.Abs(of)
		if err != nil {
			return "", err
		}
		if path, err = filepath.EvalSymlinks(filepath.Dir(path)); err != nil {
			return "", fault.New(fault.Usage, "there is no folder %s", text.Visible(filepath.Dir(of)))
		}
		inside, err := filepath.Rel(f.Path, filepath.Join(path, filepath.Base(of)))
		if err != nil || !filepath.IsLocal(inside) {
			return "", fault.New(fault.Usage, "%s is not in the project %s", text.Visible(of), text.Visible(f.Path))
		}
		vars["file"] = filepath.ToSlash(inside)
	case of != "":
		return "", fault.New(fault.Usage, "one argument too many: %s", text.Quote(of)).Try("", text.Command("uncinate", "visit", part))
	}
	return h.Expand(t, vars)
}

// toldPage gives the page that the host itself tells of a repository, where its description reads that; "" where it does not, or
// where the host does not answer: the page is made of the description's template then.
func toldPage(ctx context.Context, d *desk.Desk, account string, h *hosts.Host, owner, name string) string {
	show := h.Actions["repository-show"]
	if account == "" || show == nil || !slices.ContainsFunc(show.Requests, func(q *description.Request) bool { return q.Fields["page"] != nil }) {
		return ""
	}
	a, err := accounts.Named(d, account)
	if err != nil || a.Host != h.Name {
		return ""
	}
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return ""
	}
	r, found, err := l.Repository(ctx, owner, name)
	if err != nil || !found {
		return ""
	}
	return r.Page
}

// ProjectFor finds the project that a folder, or one above it, is.
func ProjectFor(ctx context.Context, d *desk.Desk, given string) (*Folder, Project, error) {
	f, err := lookAround(ctx, d, given)
	if err != nil {
		return nil, Project{}, err
	}
	p, err := ProjectOf(ctx, d, f)
	return f, p, err
}

// MainFor is ProjectFor, whatever branch is checked out: never a copy of one's own.
func MainFor(ctx context.Context, d *desk.Desk, given string) (*Folder, Project, error) {
	f, p, err := ProjectFor(ctx, d, given)
	if err == nil && p.Own {
		p, err = MainOf(ctx, d, f)
	}
	return f, p, err
}

// ProjectLoosely is ProjectFor, also where no branch is checked out: the folder's is "" then.
func ProjectLoosely(ctx context.Context, d *desk.Desk, given string) (*Folder, Project, error) {
	_, top, err := FindTop(ctx, d, given)
	if err != nil || top == "" {
		return ProjectFor(ctx, d, given)
	}
	f, err := LookLoosely(ctx, d, top)
	if err != nil {
		return nil, Project{}, err
	}
	f.ReadRemotes(d)
	if f.Branch, err = f.branch(ctx); err != nil {
		return nil, Project{}, err
	}
	p, err := ProjectOf(ctx, d, f)
	return f, p, err
}

// ProjectOf finds a looked-at folder in the register, or takes what its remote says. Where the branch that is
// checked out goes to a copy of one's own, it is that.
func ProjectOf(ctx context.Context, d *desk.Desk, f *Folder) (Project, error) {
	p, err := MainOf(ctx, d, f)
	if err != nil || f.Branch == "" {
		return p, err
	}
	own, found, err := OwnCopy(d, f.Path)
	if err != nil || !found || f.Remotes[own.Remote] == "" {
		return p, err
	}
	if goes, _, err := f.Repo.Own("branch." + f.Branch + ".remote"); err != nil || goes != own.Remote {
		return p, err
	}
	return own, nil
}

// MainOf is ProjectOf, whatever branch is checked out.
func MainOf(ctx context.Context, d *desk.Desk, f *Folder) (Project, error) {
	p, found, err := ProjectAt(d, f.Path)
	if err != nil {
		return p, err
	}
	if found {
		if name := remoteNow(p, f.Remotes); name != p.Remote {
			if err := RenameRemote(ctx, d, f.Path, p.Remote, name); err != nil {
				return p, err
			}
			p.Remote = name
		}
		if url := f.Remotes[p.Remote]; url != "" {
			if at, err := address.Parse(url); err == nil && !stillThere(d, at, p) {
				// Plain git moved the remote since; what counts is what is there.
				return Project{Folder: f.Path, Remote: p.Remote, Address: withoutSecret(at)}, nil
			}
			return p, nil
		}
	}
	if url := f.Remotes["origin"]; url != "" {
		at, err := address.Parse(url)
		if err != nil {
			return p, fault.New(fault.Decision, "the remote origin leads to an address that is not supported: %s", fault.Of(err).Says).
				Try("keep that, and attach it under another name", text.Command("uncinate", "attach", "--remote", "host", f.Path))
		}
		out := Project{Folder: f.Path, Remote: "origin", Address: withoutSecret(at)}
		if a := f.included(d, at); a != nil {
			out.Account, out.Host = a.Name, a.Host
		}
		return out, nil
	}
	if found {
		return p, fault.New(fault.Decision, "the remote %s, by which %s was attached to %s, is no longer there", text.Visible(p.Remote), text.Visible(f.Path), text.Visible(p.Address)).
			Try("attach it again", text.Command("uncinate", "attach", "--to", p.Address, f.Path))
	}
	return p, notAttached(d, f.Path)
}

// included is the account whose sign-in for an address the folder's own configuration includes already, as a submodule's
// that was brought here; nil for none.
func (f *Folder) included(d *desk.Desk, at address.Address) *accounts.Account {
	for _, s := range f.Settings {
		if s.Key != "include.path" || !s.Own() || !isOurs(d, s.Value) || filepath.Base(s.Value) != files.Short(at.Key())+".gitconfig" {
			continue
		}
		if a, err := accounts.Named(d, filepath.Base(filepath.Dir(filepath.FromSlash(s.Value)))); err == nil {
			return a
		}
	}
	return nil
}

// stillThere reports whether a remote's address is that of a project. On a known host of repositories a path is
// the same from the top and from the home folder of whoever signs in.
func stillThere(d *desk.Desk, at address.Address, p Project) bool {
	if at.Key() == KeyOf(p.Address) {
		return true
	}
	if at.Home && at.Rooted().Key() == KeyOf(p.Address) {
		h, _, _, err := hosts.Recognise(d, at.String())
		return err == nil && h != nil && h.Shell == nil
	}
	return false
}

// withoutSecret is an address that may be shown and kept: over SSH with its user, who is no secret and
// belongs to it.
func withoutSecret(at address.Address) string {
	if at.Scheme == "ssh" {
		return at.String()
	}
	return at.Bare().String()
}

// notAttached says that a folder is not attached, or that its attach was cut off.
func notAttached(d *desk.Desk, where string) *fault.Fault {
	if CutOff(d, where) {
		return fault.New(fault.Decision, "an attach of %s was cut off, and is not finished", text.Visible(where)).
			Try("go on with it", text.Command("uncinate", "attach", where)).
			Try("or put back what it did", text.Command("uncinate", "detach", where))
	}
	if inside := ProjectsIn(where); len(inside) > 1 {
		return fault.New(fault.Decision, "%s holds %s, and is not one itself", text.Visible(where), text.Count(len(inside), "repository")).
			Try("see one of them", text.Command("uncinate", "status", filepath.Join(where, inside[0]))).
			Try("see all projects of this machine", "uncinate status --all").
			Try("register those that were cloned by other means", text.Command("uncinate", "project", "find", where))
	}
	return fault.New(fault.Decision, "%s is not attached to a repository yet", text.Visible(where)).
		Try("attach it", text.Command("uncinate", "attach", where))
}

// ProjectsIn lists the repositories right below a folder that has no file of its own, as those have
// in which people keep their projects; nothing where it is a repository itself.
func ProjectsIn(where string) []string {
	names, err := files.Names(where)
	if err != nil {
		return nil
	}
	var out []string
	for _, n := range names {
		switch {
		case n == ".git", !strings.HasPrefix(n, ".") && files.KindOf(filepath.Join(where, n)) == files.Regular:
			return nil
		case files.KindOf(filepath.Join(where, n, ".git")) != files.None:
			out = append(out, n)
		}
	}
	return out
}

// CutOff reports whether an attach of a folder was begun and has not come to its end.
func CutOff(d *desk.Desk, where string) bool {
	return !files.Missing(d.Home.JournalAt("attach", where).Path())
}

// remoteNow is what a project's remote is called: plain git may have renamed it since.
func remoteNow(p Project, remotes map[string]string) string {
	if remotes[p.Remote] != "" {
		return p.Remote
	}
	for _, name := range slices.Sorted(maps.Keys(remotes)) {
		if KeyOf(remotes[name]) == KeyOf(p.Address) {
			return name
		}
	}
	return p.Remote
}

// KeyOf is what all spellings of an address have in common; what is not an address is its own.
func KeyOf(s string) string {
	at, err := address.Parse(s)
	if err != nil {
		return s
	}
	return at.Key()
}

// TieOf gives the tie of a project that stands.
func TieOf(ctx context.Context, d *desk.Desk, f *Folder, p Project) (*Tie, error) {
	at, err := address.Parse(p.Address)
	if err != nil {
		return nil, err
	}
	h := &Tie{Desk: d, Repo: f.Repo, Folder: f, Remote: p.Remote, Address: at}
	if p.Account == "" {
		err = h.ByItself(p.KeyFile, f.Settings)
	}
	if p.Account != "" {
		if h.Account, err = accounts.Named(d, p.Account); err != nil {
			return nil, fault.New(fault.Decision, "the account %s, with which this project was attached, is no longer known", p.Account).
				Try("add it again", text.Command("uncinate", "account", "add", p.Account, "--host", p.Host))
		}
		accounts.Warn(d, h.Account)
		if err := mend(ctx, d, p); err != nil {
			return nil, err
		}
		if h.Key, err = accounts.KeyOf(d, h.Account.Name, accounts.KeyInForce); err != nil {
			return nil, err
		}
		if at.Scheme == "ssh" && h.Key == nil {
			return nil, accounts.NoKey(d, h.Account)
		}
		user, _, err := login.GitLogin(ctx, d, h.Account, "")
		if err != nil {
			return nil, err
		}
		if err := CheckNetrc(d, at, user); err != nil {
			return nil, err
		}
	}
	return h, err
}
