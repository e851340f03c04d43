package job

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// MostPages is how many pages of one list are asked for.
const MostPages = 1000

// refusal is a host's no, with what it means, so that a job can decide by it.
type refusal struct {
	*fault.Fault
	Means description.Meaning
}

func (r *refusal) Unwrap() error { return r.Fault }

// means reports whether err is a host's no of that meaning.
func means(err error, m description.Meaning) bool {
	var r *refusal
	return errors.As(err, &r) && r.Means == m
}

// login is an account with its secret, for the length of one job.
type login struct {
	desk    *Desk
	Host    *Host
	Account *Account
	token   string
	trace   func(exchange) // is told every exchange; nil for nobody

	mu     sync.Mutex
	ownWay bool      // a plain server does not let the account's key in yet
	free   time.Time // when the host takes requests again, where it said that none was left
	told   time.Time // the last such time that was said
	date   time.Time // the host's clock, as its last answer told (RFC 9110, 6.6.1)
}

// login opens an account for asking its host. The vault may be asked for.
func (d *Desk) login(ctx context.Context, a *Account) (*login, error) {
	h, err := d.hostOf(a)
	if err != nil {
		return nil, err
	}
	if h.Shell != nil { // its key signs in
		return &login{desk: d, Host: h, Account: a}, nil
	}
	token, err := d.token(ctx, a, true)
	if err != nil {
		return nil, err
	}
	d.warn(a)
	return &login{desk: d, Host: h, Account: a, token: token}, nil
}

// lacks names the host's scopes that an action takes and the token has not.
func (l *login) lacks(action string) []string {
	act := l.Host.Actions[action]
	if act == nil || !l.Account.ScopesTold {
		return nil
	}
	var missing []string
	for _, need := range act.Needs {
		for _, scope := range l.Host.Scopes[need] {
			if !slices.Contains(l.Account.Scopes, scope) && !slices.Contains(missing, scope) {
				missing = append(missing, scope)
			}
		}
	}
	return missing
}

// may checks beforehand that an action is described and that the token's scopes cover it.
func (l *login) may(action, what string) error {
	if l.Host.Actions[action] == nil {
		f := fault.New(fault.HostSaidNo, "%s offers no way to %s (its description has no action %s)", l.Host.Name, what, action)
		return f
	}
	if missing := l.lacks(action); len(missing) > 0 {
		return l.scopeFault(what, missing)
	}
	return nil
}

func (l *login) scopeFault(what string, missing []string) error {
	f := fault.New(fault.HostSaidNo, "the token of account %s may not %s: it lacks the scope %s", l.Account.Name, what, strings.Join(missing, " and "))
	if t := l.Host.Pages["token"]; t != nil {
		if page, err := l.Host.Expand(t, nil); err == nil {
			f.Detail("Tokens are made at %s", page)
		}
	}
	return f.Try("give the account a token that has it", text.Command("uncinate", "account", "add", l.Account.Name, "--host", l.Host.Name))
}

// do performs an action that gives one thing, or none.
func (l *login) do(ctx context.Context, action, what string, vars description.Vars) (map[string]any, error) {
	fields := map[string]any{}
	_, err := l.each(ctx, action, what, vars, func(r description.Result) { maps.Copy(fields, r.Fields) })
	return fields, err
}

// list performs an action that gives a list, page after page.
func (l *login) list(ctx context.Context, action, what string, vars description.Vars) ([]map[string]any, error) {
	var items []map[string]any
	_, err := l.each(ctx, action, what, vars, func(r description.Result) { items = append(items, r.Items...) })
	return items, err
}

// refused turns a host's no into words: what was asked, what it means, what to do.
func (l *login) refused(m description.Meaning, words string, a description.Answer, what string, act *description.Action) error {
	name := "the account"
	again := text.Command("uncinate", "account", "add", "--host", l.Host.Name)
	if l.Account != nil && l.Account.Name != "" {
		name = "account " + l.Account.Name
		again = text.Command("uncinate", "account", "add", l.Account.Name, "--host", l.Host.Name)
	}
	f := fault.New(fault.HostSaidNo, "%s refused to %s", l.Host.Name, what)
	switch m {
	case description.NotSignedIn:
		f.Says = l.Host.Name + " does not accept the token of " + name
		f.Try("give it a token that is good", again)
	case description.TokenEnded:
		f.Says = "the token of " + name + " has ended"
		if l.Account != nil && !l.Account.Expires.IsZero() {
			f.Says += " (on " + l.Account.Expires.Format(time.DateOnly) + ")"
		}
		f.Try("give it a new one", again)
	case description.ScopeMissing:
		f.Says = "the token of " + name + " may not " + what + ": it lacks a scope"
		var scopes []string
		for _, need := range act.Needs {
			scopes = append(scopes, l.Host.Scopes[need]...)
		}
		if len(scopes) > 0 {
			f.Detail("It takes the scope %s.", strings.Join(scopes, " and "))
		}
		f.Try("give it a token that has it", again)
	case description.NotFound:
		f.Says = l.Host.Name + " has nothing of that name, or not for " + name + ", when asked to " + what
	case description.RateLimit:
		f.Kind = fault.Unreachable
		f.Says = l.Host.Name + " asks us to wait: too many requests"
		if pause, told := l.Host.Again(a, l.desk.Now()); told {
			f.Detail("It names %s.", text.Count(int(pause/time.Second), "second"))
		}
	case description.Down:
		f.Kind = fault.Unreachable
		f.Says = l.Host.Name + " is there but cannot work now (status " + strconv.Itoa(a.Status) + "), when asked to " + what
	case description.PlanLimit:
		f.Says = l.Host.Name + " does not allow it on your plan: " + what
	case description.Denied:
		f.Says = l.Host.Name + " does not allow " + name + " to " + what
	case description.NameTaken:
		f.Says = "the name is taken on " + l.Host.Name
	}
	if words != "" {
		f.Detail("%s says: %s", l.Host.Name, words)
	}
	return &refusal{Fault: f, Means: m}
}

// repository asks for one repository; false when the host has none for this account.
func (l *login) repository(ctx context.Context, owner, name string) (description.Repository, bool, error) {
	f, err := l.do(ctx, "repository-show", "show "+owner+"/"+name, description.Vars{"owner": owner, "name": name, "path": owner + "/" + name})
	if means(err, description.NotFound) {
		return description.Repository{}, false, nil
	}
	if err != nil {
		return description.Repository{}, false, err
	}
	r, err := l.Host.RepositoryFrom(f)
	if err == nil {
		r, err = l.Host.WithSSH(r)
	}
	return r, err == nil, err
}

// Repositories lists what the account can see, those with find in their name.
func (l *login) Repositories(ctx context.Context, find string) ([]description.Repository, error) {
	if err := l.may("repository-list", "list repositories"); err != nil {
		return nil, err
	}
	items, err := l.list(ctx, "repository-list", "list repositories", description.Vars{"find": find})
	if err != nil {
		return nil, err
	}
	var out []description.Repository
	for _, f := range items {
		r, err := l.Host.RepositoryFrom(f)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// RepositoriesOf lists what an account can see, those with find in their name.
func (d *Desk) RepositoriesOf(ctx context.Context, account, find string) ([]description.Repository, error) {
	a, err := d.Account(account)
	if err != nil {
		return nil, err
	}
	l, err := d.login(ctx, a)
	if err != nil {
		return nil, err
	}
	return l.Repositories(ctx, find)
}

// identify asks who the token's owner is.
func (l *login) identify(ctx context.Context) (description.Identity, error) {
	f, err := l.do(ctx, "identify", "tell whose token it is", nil)
	if err != nil {
		return description.Identity{}, err
	}
	return description.IdentityFrom(f), nil
}
