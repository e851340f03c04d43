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
	Action string     `json:"action"`
	State  desk.State `json:"state" says:"good, doubtful or bad"`
	Says   string     `json:"says"`
	Asked  []string   `json:"asked,omitempty" says:"the requests, with the status of each answer"`
	Read   []string   `json:"read,omitempty" says:"what was read from the answers"`
}

// TryOptions are a person's wishes.
type TryOptions struct {
	Host    string
	Account string
	Write   bool // also make, change and remove a scratch repository and key
}

// Try tries a description's actions on the live host, one after the other.
type Try struct {
	desk  *desk.Desk
	login *login.Login
	tell  func(Tried)
	seen  []login.Exchange
	brief bool // the requests alone are told: how answers are read was told before
	all   []Tried
}

// scratch marks what a try makes, so that a later one finds what an interrupted one
// left behind.
const scratch = "uncinate-try-"

const scratchSays = "A scratch repository of \"uncinate host try\"; it may be deleted."

// PlanTry signs in and makes ready. tell is told each result as it comes.
func PlanTry(ctx context.Context, d *desk.Desk, o TryOptions, tell func(Tried)) (*Try, error) {
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
	t.login.Trace = func(x login.Exchange) { t.seen = append(t.seen, x) }
	return t, nil
}

// AccountName is the account that is used.
func (t *Try) AccountName() string { return t.login.Account.Name }

// Look tries every action that changes nothing, and gives what came of it.
func (t *Try) Look(ctx context.Context) ([]Tried, error) {
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
		t.done(Tried{Action: "repository-show", State: desk.Doubtful, Says: "there is no repository to try it on; --write makes one"})
	}
	t.act("repository-show", func() (string, error) {
		name := scratch + "none"
		if _, found, err := t.login.Repository(ctx, t.login.Account.User, name); err != nil || found {
			return "", errors.Join(err, text.Either[error](found, fmt.Errorf("it shows %s, which nobody made", name), nil))
		}
		return "a missing repository is answered as not found", nil
	})
	for _, name := range h.Can() {
		if a := h.Actions[name]; !a.Looks() || a.By != "request" && a.By != "shell" || slices.Contains([]string{"identify", "repository-list", "repository-show"}, name) {
			continue
		}
		if slices.Contains(ofOffers, name) || one.Name == "" && !slices.Contains([]string{"owner-list", "key-list", "invitation-list", "token-show", "storage-used"}, name) {
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
	t.offers(ctx, one)
	return t.all, ctx.Err()
}

// spellings looks whether a repository's addresses lead back to it.
func (t *Try) spellings(r description.Repository) {
	result := Tried{Action: "addresses", State: desk.Good, Says: "every form of the address is read as " + r.Path()}
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

// act does one thing and tells what came of it.
func (t *Try) act(action string, work func() (string, error)) bool {
	t.seen = nil
	r := Tried{Action: action, State: desk.Good}
	var err error
	if t.login.Host.Actions[action] == nil {
		t.done(Tried{Action: action, State: desk.Doubtful, Says: "not described"})
		return false
	}
	if by := t.login.Host.Actions[action].By; by != "request" && by != "shell" {
		t.done(Tried{Action: action, State: desk.Doubtful, Says: "done by " + by + ", which is not tried here"})
		return false
	}
	if r.Says, err = work(); err != nil {
		f := fault.Of(err)
		r.State, r.Says = desk.Bad, f.Says
		r.Read = append(r.Read, f.Details...)
	}
	for i, x := range t.seen {
		for _, odd := range x.Result.Odd {
			r.State = desk.Bad
			r.Read = append(r.Read, odd+" is there and could not be read: say how the host writes times, and their zone, in [value]")
		}
		if i == 4 {
			r.Asked = append(r.Asked, "and "+text.Count(len(t.seen)-i, "more request"))
			break
		}
		r.Asked = append(r.Asked, asked(x))
		if !t.brief {
			r.Read = append(r.Read, readings(x)...)
		}
	}
	t.done(r)
	return err == nil
}

func (t *Try) done(r Tried) {
	t.all = append(t.all, r)
	t.tell(r)
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
