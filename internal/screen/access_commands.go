package screen

import (
	"context"
	"flag"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/repositories"
)

// Access is who may open a repository, as a JSON document.
type Access struct {
	Repository string                `json:"repository"`
	Host       string                `json:"host"`
	People     []repositories.Person `json:"people"`
	Keys       []login.DeployKey     `json:"keys"`
	Unable     []string              `json:"not_listed,omitempty" says:"what the host does not list, and where it is seen"`
}

func accessCommand() *Command {
	return &Command{Name: "access", Short: "manage who, and which deploy key, may open a repository: list, grant, withdraw",
		Long: `People are named as the host names them. A deploy key opens one repository and nothing else: for a server that follows it, or a machine
that builds it. The repository is the current project's, unless --repository names another: a name on
the account's host, OWNER/NAME, or any address of it.`,
		Subs: []*Command{
			accessList(),
			accessGrant(),
			accessWithdraw(),
		}}
}

// which is a repository on the host: one that is named, or the current project's.
type which struct{ account, repository string }

func (w *which) add(o *flag.FlagSet) {
	o.StringVar(&w.account, "account", "", "which `account` to use")
	o.StringVar(&w.repository, "repository", "", "which `repository` (default: the current project's)")
}

// find names the repository, and the account of a project where none is given.
func (w *which) find(ctx context.Context, d *desk.Desk) error {
	if w.repository != "" {
		return nil
	}
	_, p, err := project.ProjectFor(ctx, d, ".")
	if err != nil {
		return fault.Of(err).Try("or name the repository", "uncinate repository list")
	}
	w.repository = p.Address
	if w.account == "" {
		w.account = p.Account
	}
	return nil
}

func accessList() *Command {
	return &Command{Name: "list", Gives: Access{}, Short: "list the people and deploy keys that may open a repository",
		Options: func(o *flag.FlagSet) Run {
			var w which
			w.add(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				if err := w.find(ctx, d); err != nil {
					return err
				}
				s, err := repositories.ListAccess(ctx, d, w.account, w.repository)
				if err != nil {
					return err
				}
				return e.Give(Access{s.Path(), s.Host, s.People, append([]login.DeployKey{}, s.Keys...), s.Unable}, func() { e.access(s) })
			})
		}}
}

// access shows who may open a repository.
func (e *Env) access(s *repositories.Shared) {
	var rows [][]string
	for _, p := range s.People {
		rows = append(rows, []string{p.User, p.Right})
	}
	if len(rows) > 0 {
		e.Table([]string{"person", "right"}, rows)
	}
	rows = nil
	for _, k := range s.Keys {
		rows = append(rows, []string{k.Fingerprint, k.Right, k.Title})
	}
	if len(rows) > 0 {
		if len(s.People) > 0 {
			e.Say("")
		}
		e.Table([]string{"deploy key", "right", "title"}, rows)
	}
	if len(s.People)+len(s.Keys) == 0 && len(s.Unable) == 0 {
		e.Say("%s names nobody beside its owner, %s, and no deploy key.", text.Visible(s.Path()), text.Visible(s.Owner))
	}
	for _, u := range s.Unable {
		e.Say("%s", e.Out.visible(u))
	}
}

func accessGrant() *Command {
	return &Command{Name: "grant", Args: "[PERSON...]", Most: -1, Gives: DoneThings{}, Short: "let people, or a key, read one repository, or write to it", Needs: map[string][]string{"title": {"key"}},
		Examples: []string{"uncinate access grant knot --right write", "uncinate access grant --repository saltmarsh/inlet-board --key deploy-key.pub", "uncinate access grant --key deploy-key.pub --right write"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var w which
			w.add(o)
			key := o.String("key", "", "the `file` with the key's public half")
			title := o.String("title", "", "its `name` on the host (default: the key's comment)")
			right := o.String("right", "read", "the `right`: read or write; of people admin too")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				switch {
				case *key != "" && len(args) > 0:
					return fault.New(fault.Usage, "either people or a key are let in at once, not both").Try("the people first", text.Command(append([]string{"uncinate", "access", "grant"}, args...)...))
				case *key == "" && len(args) == 0:
					return fault.New(fault.Usage, "name a person, or the file with a key's public half, by --key FILE").Try("make a key", "ssh-keygen -t ed25519 -f deploy-key").
						Try("then", "uncinate access grant --key deploy-key.pub")
				}
				if err := w.find(ctx, d); err != nil {
					return err
				}
				if len(args) > 0 {
					c, err := repositories.GrantPeople(ctx, d, w.account, w.repository, args, *right)
					if err != nil {
						return err
					}
					return e.doChange(ctx, c, p, text.Visible(strings.Join(args, ", "))+" "+text.Either(len(args) == 1, "has", "have")+" the right "+*right+" in "+c.About+" now.")
				}
				change, err := repositories.GrantKey(ctx, d, w.account, w.repository, *key, *title, *right)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "The key may now "+*right+" "+change.About+".")
			})
		}}
}

func accessWithdraw() *Command {
	return &Command{Name: "withdraw", Args: "[PERSON...]", Most: -1, Gives: DoneThings{}, Short: "take people's, or a key's, access to a repository back",
		Examples: []string{"uncinate access withdraw knot", "uncinate access withdraw --key SHA256:..."},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var w which
			w.add(o)
			key := o.String("key", "", "the key's `fingerprint`, as access list shows it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *key != "" && len(args) > 0 {
					return fault.New(fault.Usage, "either people or a key are taken out at once, not both").Try("the people first", text.Command(append([]string{"uncinate", "access", "withdraw"}, args...)...))
				}
				if *key == "" && len(args) == 0 {
					again := []string{"uncinate", "access", "list"}
					if w.repository != "" {
						again = append(again, "--repository", w.repository)
					}
					return fault.New(fault.Usage, "name a person, or a key's fingerprint, by --key").Try("see both", text.Command(again...))
				}
				if err := w.find(ctx, d); err != nil {
					return err
				}
				if len(args) > 0 {
					c, err := repositories.WithdrawPeople(ctx, d, w.account, w.repository, args)
					if err != nil {
						return err
					}
					return e.doChange(ctx, c, p, text.Visible(strings.Join(args, ", "))+" "+text.Either(len(args) == 1, "is", "are")+" no longer among the people of "+c.About+".")
				}
				change, err := repositories.WithdrawKey(ctx, d, w.account, w.repository, *key)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "The key no longer opens "+change.About+".")
			})
		}}
}
