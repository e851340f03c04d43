package screen

import (
	"context"
	"flag"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/history"
)

func tagCommand() *Command {
	return &Command{Name: "tag", Short: "name versions: list, make, remove", Word: "make", Subs: []*Command{
		tagList(),
		tagMake(),
		tagRemove(),
	}}
}

func tagList() *Command {
	return &Command{Name: "list", Args: "[FOLDER]", Most: 1, Short: "list the tags, the newest first", Takes: []string{"project"}, Gives: []history.ListedTag{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			most := mostOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				folder, err := in.of(args...)
				if err != nil {
					return err
				}
				all, err := history.Tags(ctx, d, folder)
				if err != nil {
					return err
				}
				return e.Give(append([]history.ListedTag{}, all...), func() { e.tags(all, *most) })
			})
		}}
}

func (e *Env) tags(all []history.ListedTag, most int) {
	if len(all) == 0 {
		e.Say("There is no tag here yet.")
		return
	}
	cells := [][]string{{"tag", "commit", "created", "who", "message"}}
	for i, t := range all {
		if i == most {
			break
		}
		cells = append(cells, []string{t.Name, t.Commit[:min(10, len(t.Commit))], t.Created.Local().Format(time.DateOnly), t.Who, t.Message})
	}
	e.lines(cells, give{4, 20}, give{3, 8}, give{0, 12})
	if len(all) > most && most > 0 {
		e.more(len(all), most)
	}
}

func tagMake() *Command {
	return &Command{Name: "make", Args: "VERSION [COMMIT]", Least: 1, Most: 2, Short: "tag a version and send the tag",
		Long: `VERSION is a version number such as 1.4.0, with or without a v before it (Semantic Versioning
2.0.0), unless --any-name is given. The tag is annotated, and signed if the account signs.
A tag that exists is never moved.`,
		Examples: []string{"uncinate tag make v1.4.0", `uncinate tag make 2.0.0-rc.1 --message "First look at the new scale"`}, Gives: history.MadeTag{},
		Options: func(o *flag.FlagSet) Run {
			var t history.TagOptions
			var p plans
			p.add(o)
			in := inFolder(o)
			o.StringVar(&t.Text, "message", "", "the tag's message, a `text` (default: its name)")
			o.BoolVar(&t.Any, "any-name", false, "the name need not be a version number")
			o.BoolVar(&t.Here, "here", false, "do not send it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				t.Folder = in.in()
				if t.Name = args[0]; len(args) > 1 {
					t.At = args[1]
				}
				b, err := history.Tag(ctx, d, t)
				if err != nil {
					return err
				}
				p.yes = p.yes || !p.preview && len(b.Notes) == 0
				if done, err := e.carryOut(ctx, p, b.Head, &b.BranchPlan, b.Notes); err != nil || !done {
					return err
				}
				return e.Give(b.Made, func() {
					e.Say("Tagged %s at %.10s%s.", text.Visible(b.Made.Tag), b.Made.Commit, text.Either(b.Made.Sent, ", here and on the host", ", here only"))
				})
			})
		}}
}

func tagRemove() *Command {
	return &Command{Name: "remove", Args: "NAME", Least: 1, Most: 1, Short: "remove a tag, here and on the host; a rescue copy of it is kept", Takes: []string{"tag"}, Gives: Planned{},
		Apart: [][]string{{"here", "on-host"}},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			here := o.Bool("here", false, "here only")
			onHost := o.Bool("on-host", false, "on the host only")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				b, err := history.RemoveTag(ctx, d, in.in(), args[0], *here, *onHost)
				if err != nil {
					return err
				}
				if len(b.Items()) == 0 {
					return fault.New(fault.Failed, "there is no tag %s", text.Visible(args[0])).Try("see the tags", "uncinate tag list")
				}
				return e.proposeBranches(ctx, b, p, "The tag "+text.Visible(args[0])+" is removed.")
			})
		}}
}
