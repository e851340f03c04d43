package checks

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/login"
	"uncinate/internal/world/files"
)

// Write makes a scratch repository with what belongs to one, and scratch keys; changes, lists and removes them.
// Whatever fails, what it made is removed at the end.
func (t *Try) Write(ctx context.Context) (err error) {
	random := make([]byte, 6)
	if _, err := rand.Read(random); err != nil {
		return err
	}
	t.brief = true
	name := scratch + hex.EncodeToString(random)
	s := &scratched{Try: t, name: name, pending: map[string]string{}, vars: description.Vars{"owner": t.login.Account.User, "name": name, "path": t.login.Account.User + "/" + name}}
	clean := context.WithoutCancel(ctx) // also Ctrl-C leaves nothing behind
	defer func() { err = errors.Join(err, s.clean(clean)) }()
	created := t.act("repository-create", func() (string, error) { return s.create(ctx) })
	if created {
		s.inside(ctx)
	}
	s.keys(ctx)
	if created {
		t.act("repository-delete", func() (string, error) {
			if err := t.remove(ctx, s.made); err != nil {
				return "", err
			}
			_, found, err := t.login.Repository(ctx, s.made.Owner, s.made.Name)
			if err == nil && found {
				err = errors.New("it is still shown")
			}
			s.gone = err == nil
			return "it was deleted, and is shown no more", err
		})
	}
	return ctx.Err()
}

// inside does what is done with a repository.
func (s *scratched) inside(ctx context.Context) {
	s.act("repository-change", func() (string, error) { return s.change(ctx) })
	s.act("repository-list", func() (string, error) {
		found, err := s.login.Repositories(ctx, s.name)
		if err == nil && !slices.ContainsFunc(found, func(r description.Repository) bool { return r.Name == s.name }) {
			err = errors.New("the list with its name does not hold it")
		}
		return "it is found by its name", err
	})
	sent := s.sends(ctx)
	s.guards(ctx)
	s.rings(ctx)
	s.opens(ctx)
	s.lets(ctx)
	if sent {
		s.offered(ctx)
	}
	s.both(ctx, "repository-archive", "repository-reopen", func() (description.Vars, error) { return s.about(ctx) }, func() (bool, error) {
		there, found, err := s.login.Repository(ctx, s.made.Owner, s.made.Name)
		return found && there.Archived, err
	}, "it is archived, and shown so", "it may be changed again")
}

// scratched is what a trial that writes makes on the host, and takes away again.
type scratched struct {
	*Try
	name    string
	vars    description.Vars
	made    description.Repository
	pending map[string]string // by kind, the ids of scratch keys that were asked for and may be there; "" where no answer told one

	asked  bool // the repository was asked for, so that it may be there whatever the answer was
	unsure bool // whether it is made was not told
	gone   bool // and is known to be there no more
}

// create makes the scratch repository, and looks whether it is as it was asked for.
func (s *scratched) create(ctx context.Context) (string, error) {
	l := s.login
	vars := maps.Clone(s.vars)
	vars["visibility"], vars["description"], vars["default_branch"] = "private", scratchSays, "main"
	s.asked = true
	f, err := l.Do(ctx, "repository-create", "create "+s.name, vars)
	s.unsure = fault.Is(err, fault.Unreachable)
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

// clean takes away whatever is left.
func (s *scratched) clean(ctx context.Context) (err error) {
	for _, left := range s.leftovers(ctx, s.name) {
		if e := s.remove(ctx, left); e != nil {
			err = errors.Join(err, s.leaves(left.Path(), e))
		} else if left.Name == s.name {
			s.gone = true
		}
	}
	if s.asked && !s.gone {
		if e := s.surelyGone(ctx); e != nil {
			err = errors.Join(err, s.leaves(s.vars["path"].(string), e))
		}
	}
	for _, kind := range keyKinds {
		err = errors.Join(err, s.dropKeys(ctx, kind))
	}
	return err
}

// leaves says that something is left behind, or may be.
func (s *scratched) leaves(what string, why error) error {
	f := fault.New(fault.Failed, "%s may be left behind on %s: it could not be removed, or that could not be seen (%s)", what, s.login.Host.Name, fault.Of(why).Says)
	if page := s.login.Host.Page; page != nil {
		if at, err := s.login.Host.Expand(page, s.vars); err == nil {
			f.Detail("Look, and remove it by hand, at %s", at)
		}
	}
	return f
}

// patience is how long a repository is looked for that a host may still be making.
const patience = 3 * time.Second

// surelyGone looks once more for a repository that was asked for, of which no answer could be read or no list tells. Where it
// cannot be seen whether it is there, it is asked to be deleted by its name alone.
func (s *scratched) surelyGone(ctx context.Context) error {
	there, found, err := s.login.Repository(ctx, s.login.Account.User, s.name)
	later := s.unsure && slices.ContainsFunc(s.login.Host.Actions["repository-create"].Requests, func(r *description.Request) bool { return r.Wait != nil })
	for waited := time.Duration(0); err == nil && !found && later && waited < patience; waited += patience / 10 {
		if err := files.Pause(ctx, patience/10); err != nil {
			return err
		}
		there, found, err = s.login.Repository(ctx, s.login.Account.User, s.name)
	}
	switch {
	case err == nil && !found && later:
		return errors.New("it makes repositories after it has answered, and has not shown this one yet")
	case err == nil && !found:
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
