package screen

import (
	"context"
	"flag"

	"uncinate/internal/desk"
	"uncinate/internal/job/repositories"
)

func repositoryProtect() *Command {
	return &Command{Name: "protect", Args: "BRANCH", Least: 1, Most: 1, Takes: []string{"branch"}, Gives: DoneThings{}, Short: "protect a branch: no rewriting, no deletion, who may send to it",
		Long: `As far as the host can; what it cannot is refused, never rounded. The repository is the current
project's, unless --repository names another.`,
		Examples: []string{"uncinate repository protect main", "uncinate repository protect main --only tern --only knot", "uncinate repository protect main --right admin"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var w which
			w.add(o)
			var g repositories.Guarding
			o.Var((*list)(&g.Mergers), "only", "only this `person` may send to it; may be repeated")
			o.StringVar(&g.Right, "right", "", "the least `right` that may send to it: write or admin")
			o.BoolVar(&g.Rewriting, "allow-rewriting", false, "its history may be rewritten all the same")
			o.BoolVar(&g.Deleting, "allow-deletion", false, "it may be deleted all the same")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if err := w.find(ctx, d); err != nil {
					return err
				}
				change, err := repositories.Protect(ctx, d, w.account, w.repository, args[0], g)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "Protected, and checked with "+change.HostName()+".")
			})
		}}
}

func repositoryUnprotect() *Command {
	return &Command{Name: "unprotect", Args: "BRANCH", Least: 1, Most: 1, Takes: []string{"branch"}, Gives: DoneThings{}, Short: "protect a branch no longer",
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var w which
			w.add(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if err := w.find(ctx, d); err != nil {
					return err
				}
				change, err := repositories.Unprotect(ctx, d, w.account, w.repository, args[0])
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "It is no longer protected; checked with "+change.HostName()+".")
			})
		}}
}
