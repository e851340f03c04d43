package target

import (
	"cmp"
	"context"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
)

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
	if err := t.checkNewFormat(); err != nil {
		return err
	}
	t.chosen = Options{Account: account.Name, Owner: owner, Name: name}
	if err := t.keepChoices(); err != nil {
		return err
	}
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

// OwnFormat is how the objects are named in the folder's repository; "" where there is none (gitrepository-layout
// documentation, extensions.objectFormat).
func (t *Target) OwnFormat() string {
	if !t.Folder.IsRepo {
		return ""
	}
	for _, s := range t.Folder.Settings {
		if strings.EqualFold(s.Key, "extensions.objectFormat") && s.Own() {
			return s.Value
		}
	}
	return "sha1"
}

// checkNewFormat refuses to make a repository for objects that it could not take, as far as that can be known.
func (t *Target) checkNewFormat() error {
	if t.Format = t.OwnFormat(); t.Format != "sha256" {
		t.Format = ""
		return nil
	}
	h := t.Login.Host
	if act := h.Actions["repository-create"]; h.Shell != nil || act != nil && act.Takes("object_format") {
		return nil
	}
	return fault.New(fault.Decision, "this folder's repository names its objects by SHA-256, and nobody knows whether %s makes such repositories: nothing was made there", h.Name).
		Detail("Git cannot send it to one of the usual kind.").
		Try("make an empty one of that kind on its page, then attach to it", t.Again("--to", t.Repository.Path()))
}

// CheckFormat refuses a repository whose objects are named in another way than the folder's, since git can bring them
// together in no way; what is made anew here is made as that one is.
func (t *Target) CheckFormat(there string) error {
	here := t.OwnFormat()
	if here == "sha256" && there == "" {
		return fault.New(fault.Decision, "this folder's repository names its objects by SHA-256, and %s does not say whether it takes such ones: nothing was sent", t.Tie.Address.String()).
			Try("see what it says to git", text.Command("git", "-C", t.Folder.Path, "push", "--dry-run", t.Tie.Address.String(), "HEAD"))
	}
	if here == "" || there == "" {
		t.Format = there
		return nil
	}
	if here == there {
		t.Format = here
		return nil
	}
	names := map[string]string{"sha1": "SHA-1", "sha256": "SHA-256"}
	return fault.New(fault.Decision, "the repository at %s names its objects by %s, and this folder's by %s: git cannot send from one to the other", t.Tie.Address.String(), names[there], names[here]).
		Detail("Nothing was changed, here or there.").
		Try("clone that one beside it, and bring the files in", text.Command("uncinate", "clone", t.Tie.Address.String(), t.Folder.Path+"-2"))
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
	id := FactID.Of(t.Run)
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
				Try("attach to it under that name", t.Again("--to", r.Path()))
		}
	}
	return nil
}

// adopt decides about a repository that is there already under the wanted name: ours
// if an interrupted run made it, else a question for the person.
func (t *Target) adopt(there description.Repository) (description.Repository, error) {
	r := t.Run
	if id := FactID.Of(r); id != "" && id == there.ID {
		return there, nil
	}
	if nonce := factNonce.Of(r); nonce != "" && strings.Contains(there.Description, nonce) {
		return there, nil
	}
	h, account := t.Login.Host, t.Login.Account
	mine := there.Owner == account.User || there.Creator == account.User
	if mine && there.Empty != nil && *there.Empty {
		return there, fault.New(fault.Decision, "%s has a repository %s already; it is empty and yours", h.Name, there.Path()).
			Try("attach to it", t.Again("--to", there.Path())).
			Try("or make one of another name", t.Again("--name", there.Name+"-2"))
	}
	f := fault.New(fault.HostSaidNo, "%s has a repository %s already, with work in it", h.Name, there.Path())
	if there.Empty == nil {
		f.Says = h.Name + " has a repository " + there.Path() + " already"
	}
	return there, f.Try("take another name", t.Again("--name", there.Name+"-2")).
		Try("or bring that one onto this machine", text.Command("uncinate", "clone", there.Path()))
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
