package checks

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/login"
)

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
	if h.Actions[makes] == nil || h.Actions[removes] == nil || h.Actions[makes].By == "page" || h.Actions[removes].By == "page" {
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
				err = errors.New(text.Either(want, "the host took it, and does not show it so", "the host took it, and still shows it"))
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
