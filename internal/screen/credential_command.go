package screen

import (
	"context"
	"flag"

	"uncinate/internal/core/fault"
	"uncinate/internal/job/credentials"
)

func credentialCommand() *Command {
	return &Command{Name: "credential", Args: "get|store|erase", Least: 1, Most: 1,
		Short: "answer git's credential protocol; git calls it by itself",
		Long: `Set by attach and clone for exactly one repository's address and account. It answers
"get" from the vault, keeps nothing on "store", and on "erase" marks the token
doubtful. It asks nobody: while the vault is locked it says so and stops git.`,
		Options: func(o *flag.FlagSet) Run {
			account := o.String("account", "", "which `account` answers")
			target := o.String("for", "", "the only `address` it answers for")
			home := o.String("home", "", "the `folder` that UNCINATE_HOME named when git was told of this")
			return func(ctx context.Context, e *Env, args []string) error {
				e.home = *home
				d, err := e.Desk()
				if err != nil {
					return err
				}
				if *account == "" || *target == "" {
					return fault.New(fault.Usage, "both --account and --for are needed; git is told them by attach and clone")
				}
				return credentials.Credential(ctx, d, args[0], *account, *target, e.reader, e.answers)
			}
		}}
}
