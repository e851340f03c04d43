package repositories

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
)

// Person is somebody who may do something in a repository.
type Person struct {
	User  string `json:"user"`
	Right string `json:"right" says:"read, write or admin; or the host's own word"`
}

// Shared is who may open a repository.
type Shared struct {
	Repository
	People []Person
	Keys   []login.DeployKey
	Unable []string // what the host does not list, with the page where it is seen
}

// rights are our words for them, the least first.
var rights = []string{"read", "write", "admin"}

// ListAccess lists the people who may open a repository, and the deploy keys; what the host lists by
// no action is told.
func ListAccess(ctx context.Context, d *desk.Desk, account, what string) (*Shared, error) {
	l, r, err := find(ctx, d, account, what)
	if err != nil {
		return nil, err
	}
	s := &Shared{Repository: Repository{l.Account.Name, l.Host.Name, r}, People: []Person{}, Keys: []login.DeployKey{}}
	unable := func(of string, err error) {
		s.Unable = append(s.Unable, text.Either(s.Unable == nil, "The ", "the ")+of+" are not listed: "+fault.Of(err).Says)
	}
	noPeople, noKeys := l.May("people-list", "list people"), l.May("deploy-key-list", "list deploy keys")
	switch {
	case noPeople != nil && noKeys != nil:
		return nil, page(l, r, noPeople)
	case noPeople != nil:
		unable("people", page(l, r, noPeople))
	case noKeys != nil:
		unable("deploy keys", noKeys)
	}
	if noPeople == nil {
		if s.People, err = people(ctx, l, r); err != nil {
			return nil, err
		}
	}
	if noKeys == nil {
		s.Keys, err = l.DeployKeys(ctx, r)
	}
	return s, err
}

// page adds to what a host does not offer the page where people see to it.
func page(l *login.Login, r description.Repository, err error) error {
	return byHand(l, r, "people", "People see to it there", err)
}

// byHand adds to what a host does not offer a page of the repository where it is done by hand.
func byHand(l *login.Login, r description.Repository, page, says string, err error) error {
	f := *fault.Of(err)
	if t := l.Host.Pages[page]; t != nil {
		if at, err := l.Host.Expand(t, login.RepositoryVars(r)); err == nil {
			return f.Detail("%s: %s", says, text.Visible(at))
		}
	}
	return &f
}

// people asks the host who may do what, by name.
func people(ctx context.Context, l *login.Login, r description.Repository) ([]Person, error) {
	items, err := l.List(ctx, "people-list", "list the people of "+r.Path(), login.RepositoryVars(r))
	out := []Person{}
	for _, i := range items {
		p := Person{User: description.Written(i["user"]), Right: description.Written(i["right"])}
		if p.User != "" {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b Person) int { return strings.Compare(a.User, b.User) })
	return out, err
}

// rightOf gives what a person may do; "" where that is nothing.
func rightOf(all []Person, who string) string {
	i := slices.IndexFunc(all, func(p Person) bool { return strings.EqualFold(p.User, who) })
	if i < 0 {
		return ""
	}
	return all[i].Right
}

// GrantPeople plans to let people read, write or see to a repository.
func GrantPeople(ctx context.Context, d *desk.Desk, account, what string, who []string, right string) (*desk.Change, error) {
	if !slices.Contains(rights, right) {
		return nil, fault.New(fault.Usage, "a person may read, write or admin, and not %s", text.Quote(right))
	}
	l, r, all, err := shared(ctx, d, account, what, "people-grant", "give people access")
	if err != nil {
		return nil, err
	}
	if words := l.Host.Words["right"]; len(words) > 0 {
		if _, sets := words[right]; !sets { // one that the host cannot set is not rounded
			return nil, page(l, r, fault.New(fault.HostSaidNo, "%s knows no right %s", l.Host.Name, right))
		}
	}
	c := &desk.Change{Desk: d, Job: "people-grant", Subject: l.Host.Name + " " + r.Path(), Host: l.Host.Name, AsWas: "Nothing was granted.", About: r.Path(), Head: "To let people work in " + r.Path() + ":"}
	for _, p := range who {
		if strings.Contains(p, "@") {
			return nil, page(l, r, fault.New(fault.HostSaidNo, "%s takes people by their name there, not by an e-mail address: %s", l.Host.Name, text.Quote(p)))
		}
		now := rightOf(all, p)
		if now == right {
			continue
		}
		words := fmt.Sprintf("Let %s %s %s", text.Visible(p), says(right), r.Path())
		if now != "" {
			words += " (until now: " + text.Visible(now) + ")"
		}
		c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "grant " + p, Place: plan.Host, Sentence: words},
			Do: func(ctx context.Context) error { return setRight(ctx, l, r, "people-grant", p, right) },
			Undo: func(ctx context.Context) error {
				if now == "" && l.May("people-withdraw", "") == nil {
					return setRight(ctx, l, r, "people-withdraw", p, "")
				}
				return setRight(ctx, l, r, "people-grant", p, now)
			}})
	}
	if len(c.Steps) > 0 {
		c.Notes = []string{"To begin, they add their account on " + l.Host.Name + ", then: " + text.Command("uncinate", "clone", r.Path())}
	}
	return c, nil
}

// says puts a right into a sentence.
func says(right string) string {
	switch right {
	case "read":
		return "read"
	case "write":
		return "write to"
	case "admin":
		return "write to, and see to the settings of,"
	}
	return text.Visible(right)
}

// shared looks at a repository and its people, where the host offers an action for them.
func shared(ctx context.Context, d *desk.Desk, account, what, action, to string) (*login.Login, description.Repository, []Person, error) {
	l, r, err := find(ctx, d, account, what)
	if err != nil {
		return nil, r, nil, err
	}
	for _, a := range []string{action, "people-list"} {
		if err := l.May(a, to); err != nil {
			return nil, r, nil, page(l, r, err)
		}
	}
	all, err := people(ctx, l, r)
	return l, r, all, err
}

// setRight gives a person a right, or with "" takes all away, and looks whether it is so then: a request
// whose answer was lost may have been done.
func setRight(ctx context.Context, l *login.Login, r description.Repository, action, who, right string) error {
	vars := login.RepositoryVars(r)
	vars["person"], vars["right"] = who, right
	look := func() (bool, error) {
		all, err := people(ctx, l, r)
		return rightOf(all, who) == right, err
	}
	what := text.Either(right == "", "take ", "give ") + text.Excerpt(who, 60) + text.Either(right == "", " out of ", " access to ") + r.Path()
	_, err := l.Do(ctx, action, what, vars)
	if login.Means(err, description.NotFound) {
		if right == "" {
			return nil
		}
		return fault.New(fault.HostSaidNo, "there is nobody named %s on %s", text.Quote(who), l.Host.Name).Because(err)
	}
	if err := login.Lost(err, look); err != nil {
		return err
	}
	done, err := look()
	if err == nil && !done {
		err = page(l, r, fault.New(fault.Failed, "%s took the request, and does not show that %s may %s %s", l.Host.Name, text.Visible(who), text.Either(right == "", "no longer open", says(right)), r.Path()))
	}
	return err
}

// WithdrawPeople plans to take people's access back.
func WithdrawPeople(ctx context.Context, d *desk.Desk, account, what string, who []string) (*desk.Change, error) {
	l, r, all, err := shared(ctx, d, account, what, "people-withdraw", "take people's access back")
	if err != nil {
		return nil, err
	}
	c := &desk.Change{Desk: d, Job: "people-withdraw", Subject: l.Host.Name + " " + r.Path(), Host: l.Host.Name, AsWas: "They have access still.", About: r.Path(), Head: "To take access to " + r.Path() + " back:"}
	for _, p := range who {
		now := rightOf(all, p)
		if now == "" {
			f := fault.New(fault.Failed, "%s is not among the people of %s", text.Visible(p), r.Path())
			var names []string
			for _, x := range all {
				names = append(names, x.User)
			}
			if near := text.Nearest(p, names); near != "" {
				f.Detail("Did you mean %s?", text.Visible(near))
			}
			return nil, f.Try("see who is", text.Command("uncinate", "access", "list", "--repository", r.Path(), "--account", l.Account.Name))
		}
		if strings.EqualFold(p, l.Account.User) {
			c.Notes = append(c.Notes, "That is yourself: afterwards you can no longer open it.")
		}
		c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "withdraw " + p, Place: plan.Host, Sentence: fmt.Sprintf("Take %s out of %s (until now: %s)", text.Visible(p), r.Path(), text.Visible(now))},
			Do:   func(ctx context.Context) error { return setRight(ctx, l, r, "people-withdraw", p, "") },
			Undo: func(ctx context.Context) error { return setRight(ctx, l, r, "people-grant", p, now) }})
	}
	c.Notes = append(c.Notes, "What they cloned stays with them.")
	if !strings.EqualFold(r.Owner, l.Account.User) {
		c.Notes = append(c.Notes, "Whoever belongs to "+text.Visible(r.Owner)+" may open it by that all the same.")
	}
	return c, nil
}
