// Package repositories is the work with repositories on the host, never with a local folder: list,
// show, change, delete, and the deploy keys that open one. Each change is a plan.
package repositories

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
)

// Repository is one on a host, with the account that sees it.
type Repository struct {
	Account string `json:"account"`
	Host    string `json:"host"`
	description.Repository
}

// OneOrAll gives the named account, or all where none is named.
func OneOrAll(d *desk.Desk, account string) ([]*accounts.Account, error) {
	if account == "" {
		return accounts.All(d)
	}
	a, err := accounts.Named(d, account)
	return []*accounts.Account{a}, err
}

// List lists what an account sees, or all accounts; those with find in their name.
// What could not be asked is told in notes.
func List(ctx context.Context, d *desk.Desk, account, find string) (out []Repository, notes []string, err error) {
	all, err := OneOrAll(d, account)
	if err != nil {
		return nil, nil, err
	}
	asked := 0
	var failed error
	for _, a := range all {
		if a.Host == "" {
			continue
		}
		asked++
		found, err := login.RepositoriesOf(ctx, d, a.Name, find)
		if err != nil {
			if ctx.Err() != nil || account != "" {
				return nil, nil, err
			}
			if failed == nil {
				failed = err
			}
			notes = append(notes, "Account "+a.Name+" on "+a.Host+": "+fault.Of(err).Says+".")
			continue
		}
		for _, r := range found {
			out = append(out, Repository{a.Name, a.Host, r})
		}
	}
	if asked == 0 {
		return nil, nil, accounts.NoneYet(d)
	}
	if len(out) == 0 && failed != nil {
		f := *fault.Of(failed)                                    // not all answered, so nobody knows whether there is none
		f.Details = append(slices.Clone(f.Details), notes[1:]...) // the first one is what it says itself
		return nil, nil, &f
	}
	return out, notes, nil
}

// Find finds one repository on a host: what is a name, owner/name or any of its addresses.
func Find(ctx context.Context, d *desk.Desk, account, what string) (*login.Login, description.Repository, error) {
	var none description.Repository
	h, owner, name, err := hosts.Recognise(d, what)
	if err != nil {
		return nil, none, err
	}
	on := ""
	if h != nil {
		on = h.Name
	} else if strings.Contains(what, "://") {
		if at, owner, name, is := hosts.PageOf(d, what); is {
			return nil, none, fault.New(fault.Usage, "%s is the address of a page; the repository is %s/%s on %s", text.Excerpt(project.WithoutSecret(what), 80), owner, name, at.Name).
				Try("name the repository", text.Command("uncinate", "repository", "show", owner+"/"+name))
		}
		return nil, none, fault.New(fault.Failed, "no host that is known has the address %s", text.Excerpt(project.WithoutSecret(what), 80)).Try("see the known ones", "uncinate host list")
	} else {
		owner, name = naming.Split(what)
	}
	a, err := accounts.Pick(d, account, on)
	if err != nil && account == "" {
		if one := onlyOne(ctx, d, on, owner, name); one != nil {
			a, err = one, nil
		}
	}
	if err != nil {
		return nil, none, err
	}
	if owner == "" {
		owner = a.User
	}
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return nil, none, err
	}
	if err := l.May("repository-show", "show a repository"); err != nil {
		return nil, none, err
	}
	r, found, err := l.Repository(ctx, owner, name)
	if err == nil && !found {
		r.Owner, r.Name = owner, name
		f := fault.New(fault.HostSaidNo, "%s has no repository %s/%s, or %s may not see it", l.Host.Name, owner, name, a.User)
		names := login.WhoSees(ctx, d, l.Host.Name, a, owner, name, false)
		err = login.Others(f.Try("see what there is", text.Command("uncinate", "repository", "list", "--account", a.Name)), names, "see it", func(account string) string {
			return text.Command("uncinate", "repository", "show", owner+"/"+name, "--account", account)
		})
	}
	return l, r, err
}

// onlyOne finds the account that is meant where there are several: the one that runs the
// only repository of that name which any of them sees. Nobody is asked for anything.
func onlyOne(ctx context.Context, d *desk.Desk, on, owner, name string) *accounts.Account {
	all, err := accounts.All(d)
	if err != nil {
		return nil
	}
	var found *accounts.Account
	where := ""
	known := map[string]bool{}
	for _, a := range all {
		known[a.Host] = a.Host != "" && (on == "" || a.Host == on)
	}
	for _, host := range slices.Sorted(maps.Keys(known)) {
		if !known[host] {
			continue
		}
		best := 0
		login.WhoCan(ctx, d, host, nil, func(l *login.Login) bool {
			of := owner
			if of == "" {
				of = l.Account.User
			}
			r, there, err := l.Repository(ctx, of, name)
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

// Visible refuses a word that is no visibility.
func Visible(word string) error {
	if word == "" || slices.Contains(description.Visibilities, word) {
		return nil
	}
	f := fault.New(fault.Usage, "the visibility is private, members or public, not %s", text.Quote(word))
	if near := text.Nearest(word, description.Visibilities); near != "" {
		f.Detail("Did you mean %s?", near)
	}
	return f
}

// Wanted is what is wanted of a repository on its host. Empty fields stay as they are.
type Wanted struct {
	Name        string
	Description string
	Set         bool // the description is given, maybe empty
	Visibility  string
	Branch      string
}

// Change plans to change a repository on its host. Projects of this machine that are
// attached to it follow a new name.
func Change(ctx context.Context, d *desk.Desk, account, what string, o Wanted) (*desk.Change, error) {
	if err := Visible(o.Visibility); err != nil {
		return nil, err
	}
	l, r, err := Find(ctx, d, account, what)
	if err != nil {
		return nil, err
	}
	if err := l.May("repository-change", "change a repository"); err != nil {
		return nil, err
	}
	if o.Name != "" {
		if err := naming.Check(o.Name); err != nil {
			return nil, err
		}
	}
	c := &desk.Change{Desk: d, Job: "repository-change", Subject: l.Host.Name + " " + r.Path(), Host: l.Host.Name, AsWas: "It is as it was.", Head: "To change " + r.Path() + ":"}
	vars, says := o.against(r)
	if len(says) == 0 {
		return c, c.GiveUp() // one that was cut off came that far
	}
	if r.Archived {
		return nil, archived(l, r)
	}
	if vars["visibility"] == "public" {
		if err := publish(ctx, d, l, r, c); err != nil {
			return nil, err
		}
	}
	after := r
	sentence := strings.Join(says, ", ")
	c.Steps = []desk.Step{{Item: plan.Item{ID: "change", Place: plan.Host, Sentence: strings.ToUpper(sentence[:1]) + sentence[1:]},
		Do: func(ctx context.Context) error {
			name := cmp.Or(o.Name, r.Name)
			_, err := l.Do(ctx, "repository-change", "change "+r.Path(), vars)
			err = login.Lost(err, func() (bool, error) {
				there, found, err := l.Repository(ctx, r.Owner, name)
				return found && there.ID == r.ID, err
			})
			if err != nil {
				return err
			}
			there, found, err := l.Repository(ctx, r.Owner, name) // what counts is what is shown
			switch {
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
		c.Notes = append(c.Notes, "Its address becomes another one. Copies elsewhere follow at their next sync; links to its pages may break.")
		if attached, err := project.AttachedTo(d, r); err != nil {
			return nil, err
		} else if len(attached) > 0 {
			c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "follow", Place: plan.Here, Sentence: "Update " + text.Count(len(attached), "project") + " here to the new name"},
				Do: func(ctx context.Context) error { return project.Follow(ctx, d, attached, after) }})
		}
	}
	return c, nil
}

// against gives the variables of a change, and what it does in words: only where the wishes
// differ from what is there.
func (o Wanted) against(r description.Repository) (vars description.Vars, says []string) {
	vars = login.RepositoryVars(r)
	if o.Name != "" && o.Name != r.Name {
		vars["new_name"] = o.Name
		says = append(says, "rename it to "+o.Name)
	}
	if o.Visibility != "" && o.Visibility != r.Visibility {
		vars["visibility"] = o.Visibility
		says = append(says, "make it "+text.Either(o.Visibility == "members", "visible to members", o.Visibility))
	}
	if o.Set && o.Description != r.Description {
		vars["description"] = any(o.Description)
		if o.Description == "" {
			vars["description"] = description.Blank{}
		}
		says = append(says, text.Either(o.Description == "", "empty the description", "set the description to "+text.Quote(o.Description)))
	}
	if o.Branch != "" && o.Branch != r.DefaultBranch {
		vars["default_branch"] = o.Branch
		says = append(says, "make "+text.Visible(o.Branch)+" its default branch")
	}
	return vars, says
}

// Delete plans to delete a repository on its host. With copy, all its refs are kept on this machine
// before; a plain server moves it aside, and needs none.
func Delete(ctx context.Context, d *desk.Desk, account, what string, copied bool) (*desk.Change, error) {
	l, r, err := Find(ctx, d, account, what)
	c := &desk.Change{Desk: d, Job: "repository-delete", AsWas: "It is as it was.", Head: "To delete " + r.Path() + ":"}
	if l != nil {
		c.Subject, c.Host = l.Host.Name+" "+r.Path(), l.Host.Name
	}
	if err != nil && l != nil && fault.Is(err, fault.HostSaidNo) {
		if before, look := c.GoesOn(); look == nil && before != nil { // the answer was lost, and the repository with it
			c.Notes = append(c.Notes, "It was deleted before this was cut off.")
			return c, c.GiveUp()
		}
	}
	if err != nil {
		return nil, err
	}
	if err := l.May("repository-delete", "delete a repository"); err != nil {
		return nil, err
	}
	how := "; this cannot be undone"
	if l.Host.Shell != nil {
		how = "; it is moved aside there, not erased"
	}
	attached, err := project.AttachedTo(d, r)
	if err != nil {
		return nil, err
	}
	for _, p := range attached {
		c.Notes = append(c.Notes, "The project "+text.Visible(p.Folder)+" stays as it is, and will then be attached to nothing.")
	}
	if copied && l.Host.Shell == nil {
		keep, err := stepCopy(d, l, r)
		if err != nil {
			return nil, err
		}
		c.Steps = append(c.Steps, keep)
		how = ""
	}
	if people, invited := touched(ctx, l, r); len(people)+len(invited) > 0 {
		c.Notes = append(c.Notes, "Others can no longer open it then: "+named(append(people, invited...))+".")
	}
	c.About = r.Path()
	c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "delete", Place: plan.Host, Sentence: "Delete the repository " + r.Path() + " on " + l.Host.Name + how},
		Do: func(ctx context.Context) error {
			_, err := l.Do(ctx, "repository-delete", "delete "+r.Path(), login.RepositoryVars(r))
			there, found, look := l.Repository(ctx, r.Owner, r.Name)
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
		}})
	return c, nil
}
