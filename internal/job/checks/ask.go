package checks

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/draft"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
)

// AskOptions are a person's wishes.
type AskOptions struct {
	Address string // of the host; "" to ask nobody
	File    string // its OpenAPI document; "" for the one that it publishes
	User    string // for a host that signs in with one
}

// Asked is a draft, and what the live host told.
type Asked struct {
	draft.Draft
	From      string // where the document is from
	Tried     []Tried
	Mistakes  []description.Mistake
	Questions []string // what neither the document nor the host tells
}

// Drafter makes a draft by a document and the live host.
type Drafter struct {
	desk  *desk.Desk
	o     AskOptions
	root  map[string]any
	from  string
	base  string
	seen  []login.Exchange
	first *description.Description
}

// PlanDraft reads the document.
func PlanDraft(ctx context.Context, d *desk.Desk, o AskOptions) (*Drafter, error) {
	a := &Drafter{desk: d, o: o, from: o.File}
	if o.Address != "" {
		u, err := hosts.AskAddress(o.Address)
		if err != nil {
			return nil, err
		}
		a.base = u.Scheme + "://" + u.Host
		if o.File == "" {
			if a.root, a.from, err = hosts.PublishedAPI(ctx, d, u); err != nil {
				return nil, err
			}
			return a, nil
		}
	}
	var err error
	a.root, err = hosts.APIDocument(o.File)
	return a, err
}

// Draft writes the draft by the document alone.
func (a *Drafter) Draft() (*Asked, error) {
	return a.drafted(&draft.Seen{Base: a.base})
}

func (a *Drafter) drafted(seen *draft.Seen) (*Asked, error) {
	out, err := hosts.Drafted(a.root, a.from, seen)
	if err != nil {
		return nil, err
	}
	r := &Asked{Draft: out, From: a.from}
	a.first, r.Mistakes = description.Load([]byte(out.Text))
	return r, nil
}

// Asks gives the fault by which the host cannot be asked with what a draft has; nil if it can.
func (a *Drafter) Asks(first *Asked) error {
	switch {
	case len(first.Mistakes) > 0:
		return fault.New(fault.Failed, "the draft by %s has mistakes, so the host was not asked", text.Visible(a.from))
	case a.first.Actions["identify"] == nil || !onlyGets(a.first.Actions["identify"].Requests[:1]):
		return fault.New(fault.HostSaidNo, "whose a token is cannot be asked by GET alone, so the host was not asked")
	case a.first.SignIn.Exchange != nil:
		return fault.New(fault.HostSaidNo, "signing in takes more than GET, so the host was not asked")
	case a.first.SignIn.TakesUser() && a.o.User == "":
		return fault.New(fault.Usage, "this host also needs a user name").Try("", text.Command("uncinate", "host", "draft", "--ask", a.o.Address, "--user", "NAME"))
	}
	return nil
}

func onlyGets(all []*description.Request) bool {
	return !slices.ContainsFunc(all, func(q *description.Request) bool { return q.Method != "GET" || q.Wait != nil })
}

// elsewhere reports whether a request's address is not at the base.
func elsewhere(q *description.Request) bool {
	return q.URL != nil && !strings.HasPrefix(q.URL.Raw(), "{")
}

// Ask asks the host what can be asked by GET, at the address that was given and nowhere else, and mends the draft by its answers.
func (a *Drafter) Ask(ctx context.Context, token string) (*Asked, error) {
	d := a.first // of its own for each draft
	d.Trust = nil
	others := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(d.Actions)) {
		act := d.Actions[name]
		if slices.ContainsFunc(act.Requests, elsewhere) {
			delete(d.Actions, name)
			others[name] = "not asked: it is at another origin"
			continue
		}
		if onlyGets(act.Requests) {
			continue
		}
		if delete(d.Actions, name); name == "identify" { // whose it is, without what the token may
			d.Actions[name] = &description.Action{Name: act.Name, By: act.By, Requests: act.Requests[:1]}
		}
	}
	t := &Try{desk: a.desk, tell: func(string) {}}
	l := &login.Login{Desk: a.desk, Host: &hosts.Host{Name: d.Name, At: d.Base, Description: d}, Account: &accounts.Account{Host: d.Name, User: a.o.User}, Token: token}
	l.Trace = func(x login.Exchange) { t.seen, a.seen = append(t.seen, x), append(a.seen, x) }
	id, err := l.Identify(ctx)
	if err != nil {
		return nil, fault.Of(err)
	}
	l.Account.User = id.User
	t.login = l
	if err := t.Look(ctx); err != nil {
		return nil, err
	}
	tried := slices.DeleteFunc(t.all, func(x Tried) bool { return d.Actions[x.Action] == nil }) // what could not be asked
	seen := &draft.Seen{Base: a.base, Absent: a.absent(), Asked: others}
	for _, x := range tried {
		if seen.Asked[x.Action] == "" {
			seen.Asked[x.Action] = text.Either(x.State == desk.Bad, "NOT as drafted: ", "") + x.Says
		}
	}
	a.addresses(seen)
	r, err := a.drafted(seen)
	if err != nil {
		return nil, err
	}
	r.Tried, r.Questions = tried, a.questions(id)
	return r, nil
}

// absent finds, by action, the fields that no answer had.
func (a *Drafter) absent() map[string][]string {
	found := map[string]map[string]bool{}
	out := map[string][]string{}
	for _, x := range a.seen {
		of := a.of(x)
		for _, item := range told(x) {
			if found[of] == nil && len(item) > 0 {
				found[of] = map[string]bool{}
			}
			for name, v := range item {
				if v != nil && v != "" {
					found[of][name] = true
				}
			}
		}
	}
	for of, there := range found {
		for _, name := range a.fieldsOf(of) {
			// What may well be empty is left in.
			if !there[name] && !slices.Contains([]string{"description", "created", "used", "expires", "inherited", "version", "right", "default_branch", "visibility", "tag"}, name) {
				out[of] = append(out[of], name)
			}
		}
		slices.Sort(out[of])
	}
	return out
}

// told are the things that an exchange's answer told of.
func told(x login.Exchange) []map[string]any {
	return append(slices.Clone(x.Result.Items), x.Result.Fields)
}

// repositories are those that answers showed.
func (a *Drafter) repositories() []map[string]any {
	var out []map[string]any
	for _, x := range a.seen {
		for _, item := range told(x) {
			if a.of(x) == "repository" && item["owner"] != nil && item["name"] != nil {
				out = append(out, item)
			}
		}
	}
	return out
}

// of is what an exchange's fields are of: its action, or any repository.
func (a *Drafter) of(x login.Exchange) string {
	if strings.HasPrefix(x.Action, "repository-") {
		return "repository"
	}
	return x.Action
}

// fieldsOf are the fields that the draft reads of something.
func (a *Drafter) fieldsOf(of string) []string {
	if of == "repository" {
		of = "repository-list"
	}
	act := a.first.Actions[of]
	if act == nil {
		return nil
	}
	return slices.Sorted(maps.Keys(act.Requests[len(act.Requests)-1].Fields))
}

// addresses takes the addresses of a repository that was seen.
func (a *Drafter) addresses(seen *draft.Seen) {
	all := a.repositories()
	if len(all) == 0 {
		return
	}
	seen.Owner, seen.Name, seen.Addresses = fmt.Sprint(all[0]["owner"]), fmt.Sprint(all[0]["name"]), map[string]string{}
	for _, field := range []string{"page", "https", "ssh"} {
		if s, ok := all[0][field].(string); ok {
			seen.Addresses[field] = s
		}
	}
}

// questions are what only a person knows, short.
func (a *Drafter) questions(id description.Identity) []string {
	var out []string
	odd := map[string]bool{}
	for _, x := range a.seen {
		for _, s := range x.Result.Odd {
			odd[s] = true
		}
	}
	for _, s := range slices.Sorted(maps.Keys(odd)) {
		out = append(out, fmt.Sprintf("The host says %s. What does that mean? Say it in [value].", text.Excerpt(s, 80)))
	}
	if id.User == "" {
		out = append(out, "Which field of the answer to identify is the user's name?")
	}
	all := a.repositories()
	if len(all) > 0 && !slices.ContainsFunc(all, func(r map[string]any) bool { return r["visibility"] != nil }) {
		out = append(out, "Which of the host's words mean private, members and public? Say it in [value.visibility].")
	}
	return out
}
