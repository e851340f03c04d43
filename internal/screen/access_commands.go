package screen

import (
	"context"
	"flag"
	"strings"
	"time"

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
	Invited    []repositories.Sent   `json:"invited" says:"invitations that wait for an answer"`
	Keys       []login.DeployKey     `json:"keys"`
	Plan       string                `json:"plan,omitempty" says:"how many people the host's plan allows"`
	Unable     []string              `json:"not_listed,omitempty" says:"what the host does not list, and where it is seen"`
}

func accessCommand() *Command {
	return &Command{Name: "access", Short: "manage who, and which deploy key, may open a repository: list, grant, withdraw",
		Long: `People are named as the host names them, or by e-mail address where it invites so. A deploy key opens one repository and nothing else: for a server that follows it, or a machine
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
	_, p, err := project.MainFor(ctx, d, ".")
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
			most := mostOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				if err := w.find(ctx, d); err != nil {
					return err
				}
				s, err := repositories.ListAccess(ctx, d, w.account, w.repository)
				if err != nil {
					return err
				}
				return e.Give(Access{s.Path(), s.Host, append([]repositories.Person{}, s.People...), append([]repositories.Sent{}, s.Invited...), append([]login.DeployKey{}, s.Keys...), s.Plan, s.Unable}, func() { e.access(s, *most) })
			})
		}}
}

// access shows who may open a repository.
func (e *Env) access(s *repositories.Shared, most int) {
	day := func(t time.Time) string { return text.Either(t.IsZero(), "", t.Format(time.DateOnly)) }
	var tables [][][]string
	people := [][]string{{"person", "right", "since", "by"}}
	for _, p := range s.People {
		people = append(people, []string{p.User, p.Right, day(p.Since), text.Either(p.Inherited == "", "", "the group "+p.Inherited)})
	}
	invited := [][]string{{"invited", "right", "since"}}
	for _, i := range s.Invited {
		invited = append(invited, []string{i.To(), i.Right, day(i.Since)})
	}
	keys := [][]string{{"deploy key", "right", "title"}}
	for _, k := range s.Keys {
		keys = append(keys, []string{k.Fingerprint, k.Right, k.Title})
	}
	for _, t := range [][][]string{people, invited, keys} {
		if len(t) > 1 {
			tables = append(tables, t)
		}
	}
	for i, t := range tables {
		if i > 0 {
			e.Say("")
		}
		e.List(t[0], t[1:], most)
	}
	if len(tables) == 0 && s.People != nil {
		e.Say("%s names nobody beside its owner, %s%s.", text.Visible(s.Path()), text.Visible(s.Owner), text.Either(len(s.Unable) == 0, ", and no deploy key", ""))
	}
	if s.Plan != "" && len(tables) > 0 {
		e.Say("%s", s.Plan)
	}
	for _, u := range s.Unable {
		e.Say("%s", e.Out.visible(u))
	}
}

func accessGrant() *Command {
	return &Command{Name: "grant", Args: "[PERSON...]", Most: -1, Gives: DoneThings{}, Short: "let people, or a key, read one repository, or write to it", Needs: map[string][]string{"title": {"key"}},
		Examples: []string{"uncinate access grant knot --right write", "uncinate access grant dunlin@gannet.example", "uncinate access grant --repository saltmarsh/inlet-board --key deploy-key.pub", "uncinate access grant --key deploy-key.pub --right write"},
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
					return fault.New(fault.Usage, "either people or a key are let in at once, not both").TryWithout("the people first", text.Command(append([]string{"uncinate", "access", "grant"}, args...)...), "key", "title")
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
					return e.doChange(ctx, c, p, granted(c))
				}
				change, err := repositories.GrantKey(ctx, d, w.account, w.repository, *key, *title, *right)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "The key may now "+*right+" "+change.About+".")
			})
		}}
}

// granted says what came of it: who may begin, and who has to answer first.
func granted(c *desk.Change) string {
	invited := 0
	for _, s := range c.Items() {
		if strings.HasPrefix(s.ID, "invite ") {
			invited++
		}
	}
	switch {
	case invited == 0:
		return "Granted, and checked with " + c.HostName() + "."
	case invited < len(c.Items()):
		return "Granted, and checked with " + c.HostName() + "; those who are invited have to accept."
	}
	return text.Either(invited == 1, "Invited; it waits for an answer.", "Invited; they wait for answers.")
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
					return fault.New(fault.Usage, "either people or a key are taken out at once, not both").TryWithout("the people first", text.Command(append([]string{"uncinate", "access", "withdraw"}, args...)...), "key")
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
					return e.doChange(ctx, c, p, "Taken back, and checked with "+c.HostName()+".")
				}
				change, err := repositories.WithdrawKey(ctx, d, w.account, w.repository, *key)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "The key no longer opens "+change.About+".")
			})
		}}
}
