package checks

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
)

// Tried is one action that was tried on the live host: the requests, how the answers
// were read, and whether that is what it should be.
type Tried struct {
	Action   string     `json:"action"`
	How      How        `json:"how" says:"looked, wrote, or not tried"`
	State    desk.State `json:"state" says:"good, doubtful or bad; doubtful is what was not tried"`
	Says     string     `json:"says" says:"what came of it, or why it was not tried"`
	Answered []string   `json:"answered,omitempty" says:"each kind of request, with the status of its answer"`
	Unread   []string   `json:"unread,omitempty" says:"fields that the description reads, and that no answer had"`
	Asked    []string   `json:"asked,omitempty" says:"the requests, with the status of each answer"`
	Read     []string   `json:"read,omitempty" says:"what was read from the answers"`
}

// How says how an action was tried.
type How string

// The ways of trying.
const (
	Looked   How = "looked"
	Wrote    How = "wrote"
	NotTried How = "not tried"
)

// TryOptions are a person's wishes.
type TryOptions struct {
	Host    string
	Account string
	Write   bool   // also make, change and remove a scratch repository with all that belongs to one, and keys
	Person  string // somebody else on the host, who is let into the scratch repository and out again; "" for another account of this machine
}

// Try tries a description's actions on the live host, one after the other.
type Try struct {
	desk    *desk.Desk
	login   *login.Login
	tell    func(action string)
	seen    []login.Exchange
	answers map[string]*answers // by action
	brief   bool                // the requests alone are told: how answers are read was told before
	all     []Tried

	person string       // who is let in
	other  *login.Login // that person's own account on this machine; nil where it is nobody's
}

// answers are those that came to an action's requests.
type answers struct {
	how []string        // each kind of request, with the status
	any bool            // one of them told of something
	has map[string]bool // the fields that there were
}

// scratch marks what a try makes, so that a later one finds what an interrupted one
// left behind.
const scratch = "uncinate-try-"

const scratchSays = "A scratch repository of \"uncinate host try\"; it may be deleted."

// PlanTry signs in and makes ready. tell is told each action before it is tried.
func PlanTry(ctx context.Context, d *desk.Desk, o TryOptions, tell func(action string)) (*Try, error) {
	h, err := login.HostWithAccounts(d, o.Host, "")
	if err != nil {
		return nil, err
	}
	account, err := accounts.Pick(d, o.Account, h.Name)
	if err != nil {
		return nil, err
	}
	t := &Try{desk: d, tell: tell}
	if t.login, err = login.Open(ctx, d, account); err != nil {
		return nil, err
	}
	t.login.Trace = t.note
	return t, t.findPerson(ctx, o)
}

// note keeps an exchange, how it was answered, and which fields its answer had.
func (t *Try) note(x login.Exchange) {
	t.seen = append(t.seen, x)
	a := t.answers[x.Action]
	if a == nil {
		if t.answers == nil {
			t.answers = map[string]*answers{}
		}
		a = &answers{has: map[string]bool{}}
		t.answers[x.Action] = a
	}
	if how := status(x); how != "" && !slices.Contains(a.how, how) {
		a.how = append(a.how, how)
	}
	for _, f := range told(x) {
		a.any = a.any || len(f) > 0
		for name, v := range f {
			a.has[name] = a.has[name] || v != nil && v != ""
		}
	}
}

// AccountName is the account that is used.
func (t *Try) AccountName() string { return t.login.Account.Name }

// Came gives a row for every action that a command uses and the host's description has, in the order of the work, and those
// that it has not.
func (t *Try) Came() (all []Tried, undescribed []string) {
	h := t.login.Host
	var names []string
	for _, a := range h.Abilities() {
		for _, name := range a.Actions {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	for _, name := range append(names, "addresses", "git") {
		at := slices.IndexFunc(t.all, func(r Tried) bool { return r.Action == name })
		act := h.Actions[name]
		switch {
		case at >= 0:
			r := t.all[at]
			r.Answered, r.Unread = t.heard(name)
			all = append(all, r)
		case t.answers[name] != nil && act != nil && act.Looks(): // another one looked by it what came of its work
			r := Tried{Action: name, How: Looked, State: desk.Good, Says: "it shows what was made and removed"}
			r.Answered, r.Unread = t.heard(name)
			all = append(all, r)
		case name == "addresses", name == "git": // not an action: a repository's addresses, and what git sends there
		case act == nil:
			undescribed = append(undescribed, name)
		default:
			all = append(all, Tried{Action: name, How: NotTried, State: desk.Doubtful, Says: untried(name, act)})
		}
	}
	return all, undescribed
}

// heard tells how an action's requests were answered, and which fields its description reads that no answer had.
func (t *Try) heard(action string) (how, unread []string) {
	act, a := t.login.Host.Actions[action], t.answers[action]
	if a == nil {
		return nil, nil
	}
	if a.any && len(act.Requests) > 0 {
		unread = slices.DeleteFunc(slices.Sorted(maps.Keys(act.Requests[len(act.Requests)-1].Fields)), func(f string) bool { return a.has[f] })
	}
	return a.how, unread
}

// untried says why an action was left alone.
func untried(name string, act *description.Action) string {
	switch {
	case act.By == "page":
		return "people do it on a page: " + act.Page.Raw()
	case act.By != "request" && act.By != "shell":
		return "done by " + act.By
	case act.Looks() && name != "people-search":
		return "there is no repository to try it on; --write makes one"
	case strings.HasPrefix(name, "token-"):
		return "the token in use would end"
	case name == "repository-transfer":
		return "what went to another owner could not be removed"
	case name == "repository-copy":
		return "it takes a repository of somebody else"
	case name == "repository-import":
		return "it takes an address from which to import"
	case strings.HasPrefix(name, "people-"), strings.HasPrefix(name, "invitation-"):
		return "--write tries it, with --person NAME or another account on this machine"
	}
	return "--write tries it"
}

// ofAccounts are the actions that look, and take no repository.
var ofAccounts = []string{"owner-list", "key-list", "signing-key-list", "host-key-list", "invitation-list", "token-list", "token-show", "offer-all-list", "head-list", "storage-used"}

// Look tries every action that changes nothing.
func (t *Try) Look(ctx context.Context) error {
	h := t.login.Host
	t.act("identify", func() (string, error) {
		id, err := t.login.Identify(ctx)
		switch {
		case err != nil:
			return "", err
		case id.User == "":
			return "", errors.New("no user was read: the answer has none where \"read\" says")
		case id.User != t.login.Account.User:
			return "", fmt.Errorf("it says %s, and the account is %s's", text.Quote(id.User), t.login.Account.User)
		}
		if h.Shell != nil {
			return "it lets you in over SSH", nil
		}
		return "the token is " + id.User + "'s", nil
	})
	var one description.Repository
	t.act("repository-list", func() (string, error) {
		all, err := t.login.Repositories(ctx, "")
		if err == nil && len(all) > 0 {
			one = all[0]
		}
		return text.Count(len(all), "repository"), err
	})
	vars := login.RepositoryVars(one)
	t.shows(ctx, one)
	for _, name := range h.Can() {
		if a := h.Actions[name]; !a.Looks() || a.By != "request" && a.By != "shell" || slices.Contains([]string{"identify", "repository-list", "repository-show", "people-search"}, name) {
			continue
		}
		if slices.Contains(ofOffers, name) || one.Name == "" && !slices.Contains(ofAccounts, name) {
			continue // it is about an offer, or a repository
		}
		t.act(name, func() (string, error) {
			items, err := t.login.List(ctx, name, "try "+name, maps.Clone(vars))
			if !strings.HasSuffix(name, "-list") {
				return "it is told", err
			}
			return text.Count(len(items), "item"), err
		})
	}
	if t.person != "" {
		t.act("people-search", func() (string, error) {
			items, err := t.login.List(ctx, "people-search", "look for "+t.person, description.Vars{"find": t.person})
			if err == nil && !slices.ContainsFunc(items, func(f map[string]any) bool { return strings.EqualFold(description.Written(f["user"]), t.person) }) {
				err = fmt.Errorf("it does not find %s", text.Quote(t.person))
			}
			return t.person + " is found", err
		})
	}
	t.offers(ctx, one)
	return ctx.Err()
}

// shows looks whether a repository that is listed is shown as it is, and one that is not there as not found.
func (t *Try) shows(ctx context.Context, one description.Repository) {
	if one.Name != "" {
		t.act("repository-show", func() (string, error) {
			there, found, err := t.login.Repository(ctx, one.Owner, one.Name)
			switch {
			case err != nil:
				return "", err
			case !found:
				return "", fmt.Errorf("it does not show %s, which it lists", one.Path())
			case there.Path() != one.Path() || there.ID != one.ID:
				return "", fmt.Errorf("it shows %s, and %s was asked for", there.Path(), one.Path())
			case there.Visibility == "":
				return "", errors.New("no visibility was read: [value.visibility] has no word for what the host says")
			}
			return there.Path() + ", " + there.Visibility + ", default branch " + there.DefaultBranch, nil
		})
		t.spellings(one)
	} else {
		t.done(Tried{Action: "repository-show", How: Looked, State: desk.Good, Says: "there is no repository to try it on"})
	}
	t.act("repository-show", func() (string, error) {
		name := scratch + "none"
		if _, found, err := t.login.Repository(ctx, t.login.Account.User, name); err != nil || found {
			return "", errors.Join(err, text.Either[error](found, fmt.Errorf("it shows %s, which nobody made", name), nil))
		}
		return "a missing repository is answered as not found", nil
	})
}

// spellings looks whether a repository's addresses lead back to it.
func (t *Try) spellings(r description.Repository) {
	result := Tried{Action: "addresses", How: Looked, State: desk.Good, Says: "every form of the address is read as " + r.Path()}
	r, err := t.login.Host.WithSSH(r)
	if err != nil {
		result.State, result.Says = desk.Bad, fault.Of(err).Says
	}
	for _, s := range []string{r.HTTPS, strings.TrimSuffix(r.HTTPS, ".git"), r.SSH, r.Page} {
		if s == "" {
			continue
		}
		owner, name, ok := t.login.Host.Recognise(s)
		if !ok || owner+"/"+name != r.Path() {
			result.State, result.Says = desk.Bad, "a spelling does not lead back to "+r.Path()
			result.Read = append(result.Read, s+" is read as "+text.Either(ok, owner+"/"+name, "nothing"))
			continue
		}
		result.Read = append(result.Read, s)
	}
	t.done(result)
}

// act does one thing and notes what came of it.
func (t *Try) act(action string, work func() (string, error)) bool {
	return t.by(t.login, action, work)
}

// by does one thing, by the login that does it.
func (t *Try) by(l *login.Login, action string, work func() (string, error)) bool {
	t.tell(action)
	t.seen = nil
	described := l.Host.Actions[action]
	if described == nil {
		return false
	}
	r := Tried{Action: action, How: text.Either(described.Looks(), Looked, Wrote), State: desk.Good}
	if missing := l.Lacks(action); len(missing) > 0 {
		t.done(Tried{Action: action, How: NotTried, State: desk.Doubtful, Says: "the token lacks " + text.Either(len(missing) == 1, "the scope ", "the scopes ") + strings.Join(missing, ", ")})
		return false
	}
	if described.By != "request" && described.By != "shell" {
		t.done(Tried{Action: action, How: NotTried, State: desk.Doubtful, Says: untried(action, described)})
		return false
	}
	var err error
	if r.Says, err = work(); err != nil {
		f := fault.Of(err)
		r.State, r.Says = desk.Bad, f.Says
		r.Read = append(r.Read, f.Details...)
	}
	t.requests(&r)
	t.done(r)
	return err == nil
}

// requests adds the requests that were seen, and what was read from their answers.
func (t *Try) requests(r *Tried) {
	for i, x := range t.seen {
		for _, odd := range x.Result.Odd {
			r.State = desk.Bad
			r.Read = append(r.Read, odd+" is there and could not be read: say how the host writes times, and their zone, in [value]")
		}
		if i == 4 {
			r.Asked = append(r.Asked, "and "+text.Count(len(t.seen)-i, "more request"))
		}
		if i >= 4 {
			continue
		}
		r.Asked = append(r.Asked, asked(x))
		if body := strings.TrimSpace(string(x.Answer.Body)); x.Denied && body != "" && r.State == desk.Bad {
			r.Read = append(r.Read, "the answer begins: "+text.Excerpt(body, 200))
		}
		if !t.brief {
			r.Read = append(r.Read, readings(x)...)
		}
	}
}

// done notes what came of an action; one that is tried twice has one row.
func (t *Try) done(r Tried) {
	i := slices.IndexFunc(t.all, func(was Tried) bool { return was.Action == r.Action })
	if i < 0 {
		t.all = append(t.all, r)
		return
	}
	was := &t.all[i]
	switch {
	case r.How == NotTried:
		return
	case was.How == NotTried:
		*was = r
		return
	case was.State == desk.Bad && r.State != desk.Bad: // what went wrong is what is told
	case r.State == desk.Bad && was.State != desk.Bad:
		was.State, was.Says = r.State, r.Says
	case was.Says != r.Says:
		was.Says += "; " + r.Says
	}
	was.Asked, was.Read = append(was.Asked, r.Asked...), append(was.Read, r.Read...)
}

// status is how a kind of request was answered; "" where no answer came.
func status(x login.Exchange) string {
	switch {
	case x.Call.Method == "ssh":
		return "over SSH"
	case x.Answer.Status == 0:
		return ""
	case x.Later != 0:
		return fmt.Sprintf("%s %d, then %d", x.Call.Method, x.Answer.Status, x.Later)
	}
	return fmt.Sprintf("%s %d", x.Call.Method, x.Answer.Status)
}

// asked is a request in one line.
func asked(x login.Exchange) string {
	where := x.Call.URL
	if u, err := url.Parse(where); err == nil {
		where = u.RequestURI()
	}
	line := x.Call.Method + " " + where
	if x.Answer.Status == 0 {
		return x.Call.Method + " " + x.Call.URL
	}
	if len(x.Call.Body) > 0 {
		line += " " + text.Excerpt(string(x.Call.Body), 120)
	}
	if x.Later != 0 { // accepted, and done later
		return fmt.Sprintf("%s -> %d, and when it was done %d", line, x.Answer.Status, x.Later)
	}
	return fmt.Sprintf("%s -> %d", line, x.Answer.Status)
}

// readings says what was read from an answer, at most a few items of a list.
func readings(x login.Exchange) []string {
	var out []string
	say := func(fields map[string]any) {
		var parts []string
		for _, name := range slices.Sorted(maps.Keys(fields)) {
			value := fmt.Sprint(fields[name])
			if when, ok := fields[name].(time.Time); ok {
				value = when.Format(time.RFC3339)
			}
			parts = append(parts, name+" = "+text.Excerpt(value, 60))
		}
		if len(parts) > 0 {
			out = append(out, strings.Join(parts, ", "))
		}
	}
	say(x.Result.Fields)
	for i, item := range x.Result.Items {
		if i == 2 {
			out = append(out, fmt.Sprintf("and %d more", len(x.Result.Items)-i))
			break
		}
		say(item)
	}
	return out
}
