// Package login is a signed-in conversation with a host. Open signs an account in; a Login then
// carries out the actions of the host's description, whatever form they have, reads lists to their
// end, and turns each refusal into a fault that names the true cause. Routes over SSH, host keys
// and plain servers are here too. It changes nothing in a project.
package login

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
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
)

// TellsTags reports whether the host's list of branches has the tags in it.
func (l *Login) TellsTags() bool {
	a := l.Host.Actions["head-list"]
	return slices.ContainsFunc(a.Requests, func(q *description.Request) bool { return q.Fields["tag"] != nil })
}

// Used asks the host how much of its large-file storage the first account uses.
func Used(ctx context.Context, d *desk.Desk, h *hosts.Host, holders []*accounts.Account) string {
	if h.Actions["storage-used"] == nil || len(holders) == 0 {
		return ""
	}
	l, err := Open(ctx, d, holders[0])
	if err != nil {
		return "not known now"
	}
	fields, err := l.Do(ctx, "storage-used", "tell what is used", nil)
	if bytes, ok := fields["bytes"].(int64); ok && err == nil && bytes == 0 {
		return "none"
	} else if ok && err == nil {
		return text.Size(bytes)
	}
	return "not known now"
}

// MostPages is how many pages of one list are asked for.
const MostPages = 1000

// Refusal is a host's no, with what it means, so that a job can decide by it.
type Refusal struct {
	*fault.Fault
	Means description.Meaning
}

// Unwrap gives the fault to errors.As.
func (r *Refusal) Unwrap() error { return r.Fault }

// Means reports whether err is a host's no of that meaning.
func Means(err error, m description.Meaning) bool {
	var r *Refusal
	return errors.As(err, &r) && r.Means == m
}

// Lost decides about a request whose answer was lost: the work may have been done all the same, and
// a look tells. also names faults besides Unreachable that can come of work done before.
func Lost(err error, look func() (done bool, err error), also ...fault.Kind) error {
	if !slices.ContainsFunc(append(also, fault.Unreachable), func(k fault.Kind) bool { return fault.Is(err, k) }) {
		return err
	}
	if done, e := look(); e != nil || !done {
		return err // the cause that came first tells more
	}
	return nil
}

// ChangeLatest changes a repository as it is by now: where the host says that it was changed
// meanwhile, it is read again, and the change is made once more.
func (l *Login) ChangeLatest(ctx context.Context, what string, r description.Repository, change description.Vars) (map[string]any, error) {
	try := func(r description.Repository) (map[string]any, error) {
		vars := RepositoryVars(r)
		maps.Copy(vars, change)
		return l.Do(ctx, "repository-change", what+" "+r.Path(), vars)
	}
	fields, err := try(r)
	if !Means(err, description.Changed) {
		return fields, err
	}
	// A request of a run that was cut off may have come to its end only now.
	now, found, look := l.Repository(ctx, r.Owner, r.Name)
	if look != nil || !found || r.ID != "" && now.ID != r.ID {
		return nil, errors.Join(err, look)
	}
	return try(now)
}

// Login is an account with its secret, for the length of one job.
type Login struct {
	Desk    *desk.Desk
	Host    *hosts.Host
	Account *accounts.Account
	Token   string
	Trace   func(Exchange) // is told every exchange; nil for nobody

	mu     sync.Mutex
	ownWay bool      // a plain server does not let the account's key in yet
	free   time.Time // when the host takes requests again, where it said that none was left
	told   time.Time // the last such time that was said
	Date   time.Time // the host's clock, as its last answer told (RFC 9110, 6.6.1)
}

// Open opens an account for asking its host. The vault may be asked for.
func Open(ctx context.Context, d *desk.Desk, a *accounts.Account) (*Login, error) {
	h, err := accounts.HostOf(d, a)
	if err != nil {
		return nil, err
	}
	if h.Shell != nil { // its key signs in
		return &Login{Desk: d, Host: h, Account: a}, nil
	}
	token, err := accounts.Token(ctx, d, a, true)
	if err != nil {
		return nil, err
	}
	accounts.Warn(d, a)
	return &Login{Desk: d, Host: h, Account: a, Token: token}, nil
}

// Lacks names the host's scopes that an action takes and the token has not.
func (l *Login) Lacks(action string) []string {
	act := l.Host.Actions[action]
	if act == nil || !l.Account.ScopesTold {
		return nil
	}
	return l.Host.Lacking(l.Account.Scopes, act.Needs)
}

// May checks beforehand that an action is described and that the token's scopes cover it.
func (l *Login) May(action, what string) error {
	if l.Host.Actions[action] == nil && l.Host.Shell != nil {
		return fault.New(fault.HostSaidNo, "%s is a plain server, and has no way to %s", l.Host.Name, what).
			Detail("Whoever has a key on the server may open all that is there.")
	}
	if l.Host.Actions[action] == nil {
		f := fault.New(fault.HostSaidNo, "%s offers no way to %s (its description has no action %s)", l.Host.Name, what, action)
		return f
	}
	if missing := l.Lacks(action); len(missing) > 0 {
		return l.scopeFault(what, missing, l.Host.Actions[action].Needs)
	}
	return nil
}

// MaySend gives the fault of an account whose token has not the host's scope for sending work; nil where it has, or where that is
// not known.
func MaySend(d *desk.Desk, a *accounts.Account) error {
	h, err := accounts.HostOf(d, a)
	if err != nil || !a.ScopesTold {
		return nil // the host's own no says what there is to say
	}
	needs := []string{"write"}
	if missing := h.Lacking(a.Scopes, needs); len(missing) > 0 {
		return (&Login{Desk: d, Host: h, Account: a}).scopeFault("send work", missing, needs)
	}
	return nil
}

func (l *Login) scopeFault(what string, missing, needs []string) error {
	f := fault.New(fault.HostSaidNo, "the token of account %s may not %s: it lacks the scope %s", l.Account.Name, what, strings.Join(missing, " and "))
	if t := l.Host.Pages["token"]; t != nil {
		if page, err := l.Host.Expand(t, nil); err == nil {
			f.Detail("Tokens are made at %s", page)
		}
	}
	return f.Try("give the account a token that has it", l.withNeeds(needs))
}

// withNeeds is the command that gives the account a token for what it has one for, and for needs too.
func (l *Login) withNeeds(needs []string) string {
	words := []string{"uncinate", "account", "add", l.Account.Name, "--host", l.Host.Name}
	if l.Account.OAuth && l.Host.SignIn.OAuth != nil {
		words = append(words, "--by", l.Host.SignIn.OAuth.Ways[0])
	}
	wants := l.Account.Wants()
	for _, w := range description.Wants {
		if slices.ContainsFunc(w.Needs, func(n string) bool { return slices.Contains(needs, n) }) && len(l.Host.Lacking(l.Host.LeastScopes(wants...), needs)) > 0 {
			wants = append(slices.Clone(wants), w.Name)
		}
	}
	if len(wants) > len(l.Account.Wants()) {
		for _, w := range wants {
			words = append(words, "--may", w)
		}
	}
	return text.Command(words...)
}

// Do performs an action that gives one thing, or none.
func (l *Login) Do(ctx context.Context, action, what string, vars description.Vars) (map[string]any, error) {
	fields := map[string]any{}
	_, err := l.each(ctx, action, what, vars, func(r description.Result) { maps.Copy(fields, r.Fields) })
	return fields, err
}

// List performs an action that gives a list, page after page.
func (l *Login) List(ctx context.Context, action, what string, vars description.Vars) ([]map[string]any, error) {
	var items []map[string]any
	_, err := l.each(ctx, action, what, vars, func(r description.Result) { items = append(items, r.Items...) })
	return items, err
}

// Some performs an action that gives a list, as far as its first items: no page is asked for once there are
// most. more tells that there are others.
func (l *Login) Some(ctx context.Context, action, what string, vars description.Vars, most int) (items []map[string]any, more bool, err error) {
	_, more, err = l.some(ctx, action, what, vars, most, func(r description.Result) { items = append(items, r.Items...) })
	if len(items) > most {
		items, more = items[:most], true
	}
	return items, more, err
}

// refused turns a host's no into words: what was asked, what it means, what to do.
func (l *Login) refused(m description.Meaning, words string, a description.Answer, what string, act *description.Action) error {
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
		if l.Account != nil && l.Account.Name != "" {
			again = l.withNeeds(act.Needs)
		}
		f.Try("give it a token that has it", again)
	case description.NotFound:
		f.Says = l.Host.Name + " has nothing of that name, or " + name + " may not see it, when asked to " + what
	case description.RateLimit:
		f.Kind = fault.Unreachable
		f.Says = l.Host.Name + " asks us to wait: too many requests"
		if pause, told := l.Host.Again(a, l.Desk.Now()); told {
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
	return &Refusal{Fault: f, Means: m}
}

// Repository asks for one repository; false when the host has none for this account.
func (l *Login) Repository(ctx context.Context, owner, name string) (description.Repository, bool, error) {
	f, err := l.Do(ctx, "repository-show", "show "+owner+"/"+name, description.Vars{"owner": owner, "name": name, "path": owner + "/" + name})
	if Means(err, description.NotFound) {
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
func (l *Login) Repositories(ctx context.Context, find string) ([]description.Repository, error) {
	if err := l.May("repository-list", "list repositories"); err != nil {
		return nil, err
	}
	items, err := l.List(ctx, "repository-list", "list repositories", description.Vars{"find": find})
	if err != nil {
		return nil, err
	}
	var out []description.Repository
	for _, f := range items {
		r, err := l.Host.RepositoryFrom(f)
		if err != nil {
			return nil, err
		}
		if holds(r, find) { // also where the host searches loosely, or not at all
			out = append(out, r)
		}
	}
	return out, nil
}

// holds reports whether a repository's name, or the names before it too, have a word in them.
func holds(r description.Repository, find string) bool {
	return strings.Contains(strings.ToLower(r.Path()), strings.ToLower(find))
}

// RepositoriesOf lists what an account can see, those with find in their name.
func RepositoriesOf(ctx context.Context, d *desk.Desk, account, find string) ([]description.Repository, error) {
	a, err := accounts.Named(d, account)
	if err != nil {
		return nil, err
	}
	l, err := Open(ctx, d, a)
	if err != nil {
		return nil, err
	}
	return l.Repositories(ctx, find)
}

// Identify asks who the token's owner is.
func (l *Login) Identify(ctx context.Context) (description.Identity, error) {
	f, err := l.Do(ctx, "identify", "tell whose token it is", nil)
	if err != nil {
		return description.Identity{}, err
	}
	return description.IdentityFrom(f), nil
}
