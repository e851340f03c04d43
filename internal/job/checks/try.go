package checks

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
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
		if i == 4 {
			r.Asked = append(r.Asked, fmt.Sprintf("and %d more requests", len(t.seen)-i))
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

// Write makes a scratch repository and a scratch key, changes, lists and removes them.
// Whatever fails, what it made is removed at the end.
func (t *Try) Write(ctx context.Context) (all []Tried, err error) {
	random := make([]byte, 6)
	if _, err := rand.Read(random); err != nil {
		return nil, err
	}
	t.brief = true
	l := t.login
	name := scratch + hex.EncodeToString(random)
	s := &scratched{Try: t, name: name, vars: description.Vars{"owner": l.Account.User, "name": name, "path": l.Account.User + "/" + name}}
	clean := context.WithoutCancel(ctx) // also Ctrl-C leaves nothing behind
	defer func() { all, err = t.all, errors.Join(err, s.clean(clean)) }()
	created := t.act("repository-create", func() (string, error) { return s.create(ctx) })
	if created {
		t.act("repository-change", func() (string, error) { return s.change(ctx) })
		t.act("repository-list", func() (string, error) {
			found, err := l.Repositories(ctx, name)
			if err == nil && !slices.ContainsFunc(found, func(r description.Repository) bool { return r.Name == name }) {
				err = errors.New("the list with its name does not hold it")
			}
			return "it is found by its name", err
		})
	}
	t.act("key-add", func() (string, error) { return s.addKey(ctx) })
	if s.key != "" {
		gone := t.act("key-remove", func() (string, error) {
			_, err := l.Do(ctx, "key-remove", "remove the key", description.Vars{"id": s.key})
			return "the key was removed", err
		})
		if gone {
			s.key = ""
		}
	}
	if created {
		t.act("repository-delete", func() (string, error) {
			if err := t.remove(ctx, s.made); err != nil {
				return "", err
			}
			_, found, err := l.Repository(ctx, s.made.Owner, s.made.Name)
			if err == nil && found {
				err = errors.New("it is still shown")
			}
			return "it was deleted, and is shown no more", err
		})
	}
	return t.all, ctx.Err()
}

// scratched is what a trial that writes makes on the host, and takes away again.
type scratched struct {
	*Try
	name string
	vars description.Vars
	made description.Repository
	key  string // the id of the scratch key while it is there
}

// create makes the scratch repository, and looks whether it is as it was asked for.
func (s *scratched) create(ctx context.Context) (string, error) {
	l := s.login
	vars := maps.Clone(s.vars)
	vars["visibility"], vars["description"], vars["default_branch"] = "private", scratchSays, "main"
	f, err := l.Do(ctx, "repository-create", "create "+s.name, vars)
	if err != nil {
		return "", err
	}
	if s.made, err = l.Host.RepositoryFrom(f); err != nil {
		return "", err
	}
	switch there, found, err := l.Repository(ctx, s.made.Owner, s.made.Name); {
	case err != nil:
		return "", err
	case !found:
		return "", errors.New("it was made, and is not shown")
	case there.Visibility != "private" || there.DefaultBranch != "" && there.DefaultBranch != "main":
		return "", fmt.Errorf("it is %s with the default branch %s, and private with main was asked for", there.Visibility, there.DefaultBranch)
	}
	return s.made.Path() + " was made, private, and is shown", nil
}

// change changes the description, and looks whether anything else changed with it.
func (s *scratched) change(ctx context.Context) (string, error) {
	l := s.login
	vars := maps.Clone(s.vars)
	vars["id"], vars["version"], vars["description"] = s.made.ID, s.made.Version, scratchSays+" Changed."
	if _, err := l.Do(ctx, "repository-change", "change "+s.name, vars); err != nil {
		return "", err
	}
	there, _, err := l.Repository(ctx, s.made.Owner, s.made.Name)
	switch {
	case err != nil:
		return "", err
	case there.Description != scratchSays+" Changed.":
		return "", fmt.Errorf("the description is %s after the change", text.Excerpt(there.Description, 60))
	case there.Visibility != "private":
		return "", fmt.Errorf("the change of the description made it %s", there.Visibility)
	}
	return "the description was changed, and nothing else", nil
}

// addKey adds the scratch key, and looks whether it is listed.
func (s *scratched) addKey(ctx context.Context) (string, error) {
	line, err := scratchKey()
	if err != nil {
		return "", err
	}
	f, err := s.login.Do(ctx, "key-add", "add a key", description.Vars{"title": s.name, "key": line})
	if err != nil {
		return "", err
	}
	if s.key, _ = f["id"].(string); s.key == "" {
		s.key = fmt.Sprint(f["id"])
	}
	items, err := s.login.List(ctx, "key-list", "list keys", nil)
	if err == nil && !slices.ContainsFunc(items, func(i map[string]any) bool { return fmt.Sprint(i["id"]) == s.key }) {
		err = errors.New("the list of keys does not hold it")
	}
	return "a key was added, and is listed", err
}

// clean takes away whatever is left.
func (s *scratched) clean(ctx context.Context) (err error) {
	for _, left := range s.leftovers(ctx, s.name) {
		if e := s.remove(ctx, left); e != nil {
			err = errors.Join(err, fault.New(fault.Failed, "the scratch repository %s could not be removed: %s", left.Path(), fault.Of(e).Says))
		}
	}
	if s.key != "" {
		if _, e := s.login.Do(ctx, "key-remove", "remove the scratch key", description.Vars{"id": s.key}); e != nil {
			err = errors.Join(err, fault.New(fault.Failed, "the scratch key %s could not be removed: %s", s.key, fault.Of(e).Says))
		}
	}
	return err
}

// leftovers finds the scratch repositories that stand: of this try and of any before it
// that was cut off.
func (t *Try) leftovers(ctx context.Context, name string) []description.Repository {
	var out []description.Repository
	for _, find := range []string{name, scratch} {
		found, err := t.login.Repositories(ctx, find)
		if err != nil {
			return out // what cannot be listed was told of before
		}
		for _, r := range found {
			ours := strings.HasPrefix(r.Name, scratch) && strings.HasPrefix(r.Description, scratchSays) && r.Owner == t.login.Account.User
			if (ours || r.Name == name) && !slices.ContainsFunc(out, func(o description.Repository) bool { return o.Path() == r.Path() }) {
				out = append(out, r)
			}
		}
	}
	return out
}

func (t *Try) remove(ctx context.Context, r description.Repository) error {
	there, found, err := t.login.Repository(ctx, r.Owner, r.Name) // for its newest version
	if err != nil || !found {
		return err
	}
	_, err = t.login.Do(ctx, "repository-delete", "delete "+r.Path(), login.RepositoryVars(there))
	return err
}

// scratchKey makes the public line of a new key whose private half nobody keeps
// (RFC 8709, section 4).
func scratchKey() (string, error) {
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	const kind = "ssh-ed25519"
	var blob []byte
	for _, part := range [][]byte{[]byte(kind), public} {
		blob = append(binary.BigEndian.AppendUint32(blob, uint32(len(part))), part...)
	}
	return kind + " " + base64.StdEncoding.EncodeToString(blob) + " scratch", nil
}
