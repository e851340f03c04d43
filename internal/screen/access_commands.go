package screen

import (
	"context"
	"flag"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/repositories"
)

// Access is who, beside people, may open a repository, as a JSON document.
type Access struct {
	Repository string            `json:"repository"`
	Host       string            `json:"host"`
	Keys       []login.DeployKey `json:"keys"`
}

func accessCommand() *Command {
	return &Command{Name: "access", Short: "manage which deploy key may open a repository: list, grant, withdraw",
		Long: `A deploy key opens one repository and nothing else: for a server that follows it, or a machine
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
	return &Command{Name: "list", Gives: Access{}, Short: "list the deploy keys of a repository",
		Options: func(o *flag.FlagSet) Run {
			var w which
			w.add(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				if err := w.find(ctx, d); err != nil {
					return err
				}
				r, keys, err := repositories.ListAccess(ctx, d, w.account, w.repository)
				if err != nil {
					return err
				}
				return e.Give(Access{r.Path(), r.Host, append([]login.DeployKey{}, keys...)}, func() {
					var rows [][]string
					for _, k := range keys {
						rows = append(rows, []string{k.Fingerprint, k.Right, k.Title})
					}
					if len(rows) == 0 {
						e.Say("No deploy key opens %s.", text.Visible(r.Path()))
						return
					}
					e.Table([]string{"key", "right", "title"}, rows)
				})
			})
		}}
}

func accessGrant() *Command {
	return &Command{Name: "grant", Gives: DoneThings{}, Short: "let a key read one repository, or write to it",
		Examples: []string{"uncinate access grant --repository saltmarsh/inlet-board --key deploy-key.pub", "uncinate access grant --key deploy-key.pub --right write"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var w which
			w.add(o)
			key := o.String("key", "", "the `file` with the key's public half")
			title := o.String("title", "", "its `name` on the host (default: the key's comment)")
			right := o.String("right", "read", "the `right`: read or write")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				if *key == "" {
					return fault.New(fault.Usage, "name the file with the key's public half, by --key FILE").Try("make a key", "ssh-keygen -t ed25519 -f deploy-key").
						Try("then", "uncinate access grant --key deploy-key.pub")
				}
				if err := w.find(ctx, d); err != nil {
					return err
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
	return &Command{Name: "withdraw", Gives: DoneThings{}, Short: "take a key's access to a repository back",
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var w which
			w.add(o)
			key := o.String("key", "", "the key's `fingerprint`, as access list shows it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				if *key == "" {
					again := []string{"uncinate", "access", "list"}
					if w.repository != "" {
						again = append(again, "--repository", w.repository)
					}
					return fault.New(fault.Usage, "name the key's fingerprint, by --key").Try("see the keys", text.Command(again...))
				}
				if err := w.find(ctx, d); err != nil {
					return err
				}
				change, err := repositories.WithdrawKey(ctx, d, w.account, w.repository, *key)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "The key no longer opens "+change.About+".")
			})
		}}
}
