package screen

import (
	"context"
	"flag"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/history"
)

func tagCommand() *Command {
	return &Command{Name: "tag", Args: "VERSION [COMMIT]", Least: 1, Most: 2,
		Short: "mark a version, and send the mark",
		Long: `VERSION is a version number such as 1.4.0, with or without a v before it (Semantic Versioning
2.0.0), unless --any-name is given. The tag is annotated, and signed if the account signs.
What a tag stands for is never changed.`,
		Examples: []string{"uncinate tag v1.4.0", `uncinate tag 2.0.0-rc.1 --text "First look at the new scale"`}, Gives: Planned{},
		Options: func(o *flag.FlagSet) Run {
			var t history.TagOptions
			var p plans
			p.add(o)
			o.StringVar(&t.Folder, "folder", ".", "the project's `folder`")
			o.StringVar(&t.Text, "text", "", "what the tag says: a `text`; its name unless said")
			o.BoolVar(&t.Any, "any-name", false, "the name need not be a version number")
			o.BoolVar(&t.Here, "here", false, "do not send it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if t.Name = args[0]; len(args) > 1 {
					t.At = args[1]
				}
				plan, err := history.Tag(ctx, d, t)
				if err != nil {
					return err
				}
				p.yes = p.yes || len(plan.Notes) == 0
				return e.proposeBranches(ctx, plan, p, "Marked as "+text.Visible(t.Name)+".")
			})
		}}
}
