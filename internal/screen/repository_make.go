package screen

import (
	"context"
	"flag"
	"strings"

	"uncinate/internal/core/licences"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/repositories"
	"uncinate/internal/job/repositories/making"
)

// newOptions are those of a repository that is made on a host.
func newOptions(o *flag.FlagSet, n *making.New) {
	o.StringVar(&n.Description, "description", "", "one `line` about it")
	o.StringVar(&n.Visibility, "visibility", "private", "private, members or public: `who` can see it")
}

func repositoryCreate() *Command {
	return &Command{Name: "create", Args: "NAME", Least: 1, Most: 1, Gives: DoneThings{}, Short: "create one without a local folder",
		First: []string{"description", "visibility", "readme", "licence", "ignore", "account"},
		Long: `NAME is a name, or OWNER/NAME for a group. To publish a folder, use attach: it creates the repository
too. First files make one commit; licences: ` + strings.Join(licences.Known(), ", ") + `.`,
		Examples: []string{"uncinate repository create saltmarsh/gauge-notes --readme", "uncinate repository create tide-almanac --licence MIT --ignore python"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			account := accountOption(o)
			var n making.New
			newOptions(o, &n)
			o.StringVar(&n.Branch, "default-branch", "main", "its first `branch`")
			o.BoolVar(&n.Readme, "readme", false, "with a README.md of its name and description")
			o.StringVar(&n.Licence, "licence", "", "with the text of a `licence`")
			o.Var((*list)(&n.Ignore), "ignore", "with the ignore rules of a `kind` of project; may be repeated")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				n.Name = args[0]
				change, err := making.Create(ctx, d, *account, n)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "Created, and checked with "+change.HostName()+". To clone it: "+text.Command("uncinate", "clone", change.About))
			})
		}}
}

func repositoryCopy() *Command {
	return &Command{Name: "copy", Args: "REPOSITORY [NAME]", Least: 1, Most: 2, Takes: []string{"repository"}, Gives: DoneThings{}, Short: "make a copy of one on its host, under your name",
		Long:     "With its branches and tags. NAME is the copy's name, or OWNER/NAME; without, it is called as the first one.",
		Examples: []string{"uncinate repository copy saltmarsh/inlet-board"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			account := accountOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				var n making.New
				if len(args) > 1 {
					n.Name = args[1]
				}
				change, err := making.Copy(ctx, d, *account, args[0], n)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "Copied, and checked with "+change.HostName()+". To clone it: "+text.Command("uncinate", "clone", change.About))
			})
		}}
}

func repositoryImport() *Command {
	return &Command{Name: "import", Args: "ADDRESS [NAME]", Least: 1, Most: 2, Gives: DoneThings{}, Short: "let the host make one of what is at an address",
		Long:     "The host itself reads the address, so it must be open to it. What is not: clone it, and attach the copy.",
		Examples: []string{"uncinate repository import https://skua.example/charts/soundings.git saltmarsh/soundings"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			account := accountOption(o)
			var n making.New
			newOptions(o, &n)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if len(args) > 1 {
					n.Name = args[1]
				}
				change, err := making.Import(ctx, d, *account, args[0], n)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, "Imported, and checked with "+change.HostName()+". To clone it: "+text.Command("uncinate", "clone", change.About))
			})
		}}
}

func repositoryArchive() *Command {
	return &Command{Name: "archive", Args: "REPOSITORY", Least: 1, Most: 1, Takes: []string{"repository"}, Gives: DoneThings{}, Short: "let one only be read, or with --end be changed again",
		Examples: []string{"uncinate repository archive gauge-firmware", "uncinate repository archive gauge-firmware --end"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			account := accountOption(o)
			end := o.Bool("end", false, "let it be changed again")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				change, err := repositories.Archive(ctx, d, *account, args[0], *end)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, p, text.Either(*end, "It can be changed again; checked with ", "Archived, and checked with ")+change.HostName()+".")
			})
		}}
}
