package screen

import (
	"context"
	"flag"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/job/repositories"
)

// Access is who, beside people, may open a repository, as a JSON document.
type Access struct {
	Repository string            `json:"repository"`
	Keys       []login.DeployKey `json:"keys"`
}

func accessCommand() *Command {
	return &Command{Name: "access", Short: "say which deploy key may open what: list, grant, withdraw",
		Long: "A deploy key opens one repository and nothing else: for a server that follows it, or a machine that builds it.",
		Subs: []*Command{
			accessList(),
			accessGrant(),
			accessWithdraw(),
		}}
}

func accessList() *Command {
	return &Command{Name: "list", Args: "REPOSITORY", Least: 1, Most: 1, Takes: []string{"repository"}, Gives: Access{}, Short: "list the deploy keys of a repository",
		Options: func(o *flag.FlagSet) Run {
			account := accountOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				r, keys, err := repositories.ListAccess(ctx, d, *account, args[0])
				if err != nil {
					return err
				}
				return e.Give(Access{r.Path(), keys}, func() {
					var rows [][]string
					for _, k := range keys {
						rows = append(rows, []string{k.Fingerprint, k.Right, k.Title})
					}
					if len(rows) == 0 {
						e.Say("No deploy key opens %s.", text.Visible(r.Path()))
						return
					}
					e.Table([]string{"key", "may", "name"}, rows)
				})
			})
		}}
}

func accessGrant() *Command {
	return &Command{Name: "grant", Args: "REPOSITORY", Least: 1, Most: 1, Takes: []string{"repository"}, Gives: DoneThings{}, Short: "let a key open one repository, only to read it unless said",
		Examples: []string{"uncinate access grant saltmarsh/harbour-board --key deploy-key.pub", "uncinate access grant harbour-board --key deploy-key.pub --right write"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			account := accountOption(o)
			key := o.String("key", "", "the `file` with the key's public half")
			title := o.String("title", "", "its `name` on the host; its comment unless said")
			right := o.String("right", "", "read or write; read unless said (`what` it may do)")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *key == "" {
					return fault.New(fault.Usage, "say which key, by the file with its public half").Try("", text.Command("uncinate", "access", "grant", args[0], "--key", "FILE.pub"))
				}
				change, err := repositories.GrantKey(ctx, d, *account, args[0], *key, *title, *right)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "Granted.")
			})
		}}
}

func accessWithdraw() *Command {
	return &Command{Name: "withdraw", Args: "REPOSITORY", Least: 1, Most: 1, Takes: []string{"repository"}, Gives: DoneThings{}, Short: "let a key open a repository no more",
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			account := accountOption(o)
			key := o.String("key", "", "the key's `fingerprint`, as access list shows it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *key == "" {
					return fault.New(fault.Usage, "say which key").Try("see them", text.Command("uncinate", "access", "list", args[0]))
				}
				change, err := repositories.WithdrawKey(ctx, d, *account, args[0], *key)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "Withdrawn.")
			})
		}}
}
