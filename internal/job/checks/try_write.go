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
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/login"
)

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
		s.guards(ctx)
		s.rings(ctx)
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
			s.gone = err == nil
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

	keyAsked bool // a key was asked for
	asked    bool // the repository was asked for, so that it may be there whatever the answer was
	gone     bool // and is known to be there no more
}

// create makes the scratch repository, and looks whether it is as it was asked for.
func (s *scratched) create(ctx context.Context) (string, error) {
	l := s.login
	vars := maps.Clone(s.vars)
	vars["visibility"], vars["description"], vars["default_branch"] = "private", scratchSays, "main"
	s.asked = true
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
	s.keyAsked = true
	f, err := s.login.Do(ctx, "key-add", "add a key", description.Vars{"title": s.name, "key": line})
	if err != nil {
		return "", err
	}
	if f["id"] == nil {
		return "", errors.New("no id was read of the key that was added, so it could not be removed again")
	}
	s.key = fmt.Sprint(f["id"])
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
			err = errors.Join(err, s.left(left.Path(), e))
		} else if left.Name == s.name {
			s.gone = true
		}
	}
	if s.asked && !s.gone {
		if e := s.surelyGone(ctx); e != nil {
			err = errors.Join(err, s.left(s.vars["path"].(string), e))
		}
	}
	s.findKey(ctx)
	if s.key != "" {
		if _, e := s.login.Do(ctx, "key-remove", "remove the scratch key", description.Vars{"id": s.key}); e != nil {
			err = errors.Join(err, fault.New(fault.Failed, "the scratch key %s could not be removed: %s", s.key, fault.Of(e).Says))
		}
	}
	return err
}

// findKey finds the scratch key of which the answer could not be read, by its title.
func (s *scratched) findKey(ctx context.Context) {
	if !s.keyAsked || s.key != "" || s.login.Host.Actions["key-list"] == nil {
		return
	}
	items, err := s.login.List(ctx, "key-list", "list keys", nil)
	if err != nil {
		return // what cannot be listed was told of
	}
	for _, item := range items {
		if item["title"] == s.name && item["id"] != nil {
			s.key = fmt.Sprint(item["id"])
		}
	}
}

// left says that something is left behind, or may be.
func (s *scratched) left(what string, why error) error {
	f := fault.New(fault.Failed, "%s may be left behind on %s: it could not be removed, or that could not be seen (%s)", what, s.login.Host.Name, fault.Of(why).Says)
	if page := s.login.Host.Page; page != nil {
		if at, err := s.login.Host.Expand(page, s.vars); err == nil {
			f.Detail("Look, and remove it by hand, at %s", at)
		}
	}
	return f
}

// surelyGone looks once more for a repository that was asked for, of which no answer could be read or no list tells. Where it
// cannot be seen whether it is there, it is asked to be deleted by its name alone.
func (s *scratched) surelyGone(ctx context.Context) error {
	there, found, err := s.login.Repository(ctx, s.login.Account.User, s.name)
	if err == nil && !found {
		s.gone = true
		return nil
	}
	vars := s.vars
	if found {
		vars = login.RepositoryVars(there)
	}
	if _, e := s.login.Do(ctx, "repository-delete", "delete "+s.name, vars); e != nil && !login.Means(e, description.NotFound) {
		return errors.Join(e, err)
	}
	if _, still, e := s.login.Repository(ctx, s.login.Account.User, s.name); e == nil && still {
		return errors.New("it was asked to be deleted, and is still shown")
	}
	s.gone = true
	return nil
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

// about gives the variables of the scratch repository as it is by now.
func (s *scratched) about(ctx context.Context) (description.Vars, error) {
	there, found, err := s.login.Repository(ctx, s.made.Owner, s.made.Name)
	if err == nil && !found {
		err = errors.New("the scratch repository is not shown")
	}
	return login.RepositoryVars(there), err
}

// both tries two actions of which the second takes away what the first makes, where the host has both; there tells whether it is there.
func (s *scratched) both(ctx context.Context, makes, removes string, vars func() (description.Vars, error), there func() (bool, error), made, gone string) {
	h := s.login.Host
	if h.Actions[makes] == nil || h.Actions[removes] == nil || h.Actions[makes].By != "request" || h.Actions[removes].By != "request" {
		return
	}
	one := func(action, says string, want bool) bool {
		return s.act(action, func() (string, error) {
			v, err := vars()
			if err == nil {
				_, err = s.login.Do(ctx, action, "try "+action, v)
			}
			if err != nil {
				return "", err
			}
			is, err := there()
			if err == nil && is != want {
				err = errors.New("the host took it, and its list does not show it")
			}
			return says, err
		})
	}
	if one(makes, made, true) {
		one(removes, gone, false)
	}
}

// guards protects the scratch repository's branch, and ends that.
func (s *scratched) guards(ctx context.Context) {
	guarded := func() (bool, error) {
		all, err := s.login.Protections(ctx, s.made)
		return slices.ContainsFunc(all, func(p login.Protection) bool { return p.Branch == "main" }), err
	}
	s.both(ctx, "branch-protect", "branch-unprotect", func() (description.Vars, error) {
		vars, err := s.about(ctx)
		if err == nil {
			vars["branch"], vars["rewriting"], vars["deleting"] = "main", false, false
		}
		return vars, err
	}, guarded, "the branch main is protected, and listed", "it is protected no more")
}

// rings adds a web hook to the scratch repository, and removes it. It leads to a name that nobody has (RFC 6761, section 6.4), or, of
// a host on this machine, to a port on which nothing listens.
func (s *scratched) rings(ctx context.Context) {
	at := "https://uncinate-try.invalid/ring"
	if strings.HasPrefix(s.login.Host.At, "http://") {
		at = "http://127.0.0.1:9/ring"
	}
	id := any(nil)
	listed := func() (bool, error) {
		vars, err := s.about(ctx)
		if err != nil {
			return false, err
		}
		all, err := s.login.List(ctx, "hook-list", "list web hooks", vars)
		i := slices.IndexFunc(all, func(f map[string]any) bool { return f["address"] == at })
		if i >= 0 {
			id = all[i]["id"]
		}
		return i >= 0, err
	}
	s.both(ctx, "hook-add", "hook-remove", func() (description.Vars, error) {
		vars, err := s.about(ctx)
		if err == nil {
			vars["address"], vars["secret"] = at, rand.Text()
			if id != nil {
				vars["id"] = id
			}
		}
		return vars, err
	}, listed, "a web hook was added, and is listed", "it was removed")
}
