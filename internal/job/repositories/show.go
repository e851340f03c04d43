package repositories

import (
	"context"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
)

// Shown is one repository, with what its host tells of it besides.
type Shown struct {
	Repository
	People    []Person           `json:"people,omitempty"`
	Invited   []Sent             `json:"invited,omitempty" says:"invitations that wait for an answer"`
	Protected []login.Protection `json:"protected,omitempty" says:"protected branches"`
	Keys      []login.DeployKey  `json:"keys,omitempty" says:"deploy keys"`
	Limits    []string           `json:"limits,omitempty" says:"the host's limits for it, and what is used"`
	Unable    []string           `json:"not_told,omitempty" says:"what the host did not tell"`
}

// Show tells of one repository. What the host's description has no action for is left out; what the
// host does not tell this account is said.
func Show(ctx context.Context, d *desk.Desk, account, what string) (*Shown, error) {
	l, r, err := Find(ctx, d, account, what)
	if err != nil {
		return nil, err
	}
	s := &Shown{Repository: Repository{l.Account.Name, l.Host.Name, r}}
	for _, x := range []struct {
		action, what string
		ask          func() error
	}{
		{"people-list", "its people", func() error {
			c := crew{l: l, r: r}
			err := c.look(ctx)
			s.People, s.Invited = c.people, c.invited
			return err
		}},
		{"protection-list", "its protected branches", func() (err error) {
			s.Protected, err = l.Protections(ctx, r)
			return err
		}},
		{"deploy-key-list", "its deploy keys", func() (err error) {
			s.Keys, err = l.DeployKeys(ctx, r)
			return err
		}},
	} {
		if l.Host.Actions[x.action] == nil || l.Host.Shell != nil && x.action != "deploy-key-list" {
			continue
		}
		err := l.May(x.action, "see "+x.what)
		if err == nil {
			err = x.ask()
		}
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case fault.Is(err, fault.HostSaidNo):
			s.Unable = append(s.Unable, "Not told: "+x.what+" ("+fault.Of(err).Says+").")
		case err != nil:
			return nil, err
		}
	}
	limits := hosts.LimitsOf(l.Host)
	for _, x := range []struct {
		bytes int64
		of    string
	}{{limits.File, "a file"}, {limits.Push, "a push"}, {limits.Repository, "the repository"}} {
		if x.bytes > 0 {
			used := text.Either(x.of == "the repository" && r.Bytes > 0, " ("+text.Size(r.Bytes)+" used)", "")
			s.Limits = append(s.Limits, x.of+" "+text.Size(x.bytes)+used)
		}
	}
	if used := login.Used(ctx, d, l.Host, []*accounts.Account{l.Account}); used != "" {
		s.Limits = append(s.Limits, "storage for large files used by you: "+used)
	}
	return s, nil
}
