package screen

import (
	"context"
	"flag"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/repositories"
)

// ListedRepositories is what accounts see, as a JSON document.
type ListedRepositories struct {
	Repositories []repositories.Repository `json:"repositories"`
	Notes        []string                  `json:"notes,omitempty" says:"what could not be asked"`
}

// DoneThings is what was done, as a JSON document.
type DoneThings struct {
	Done []string `json:"done" says:"what was done, in order"`
}

func repositoryCommand() *Command {
	return &Command{Name: "repository", Short: "manage repositories on the host: list, show, create, change, protect, archive, copy, import, transfer, delete",
		Long: `Works on the host, never on a local folder. REPOSITORY is a name on the account's host,
OWNER/NAME, or any address of it.`,
		Subs: []*Command{
			repositoryList(),
			repositoryShow(),
			repositoryCreate(),
			repositoryChange(),
			repositoryProtect(),
			repositoryUnprotect(),
			repositoryArchive(),
			repositoryCopy(),
			repositoryImport(),
			repositoryTransfer(),
			repositoryDelete(),
		}}
}

func repositoryList() *Command {
	return &Command{Name: "list", Args: "[WORD]", Most: 1, Gives: ListedRepositories{}, Short: "list what your accounts see, or what has a word in its name",
		Options: func(o *flag.FlagSet) Run {
			account := accountOption(o)
			most := mostOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				find := ""
				if len(args) > 0 {
					find = args[0]
				}
				all, notes, err := repositories.List(ctx, d, *account, find)
				if err != nil {
					return err
				}
				return e.Give(ListedRepositories{append([]repositories.Repository{}, all...), notes}, func() {
					var rows [][]string
					for _, r := range all {
						rows = append(rows, []string{r.Path(), r.Host, r.Account, r.Visibility, r.DefaultBranch, r.Description})
					}
					if len(rows) == 0 {
						e.Say("No repository of that kind was found.")
					} else {
						e.List([]string{"repository", "host", "account", "visibility", "branch", "about"}, rows, *most)
					}
					for _, n := range notes {
						e.Aside("%s", n)
					}
				})
			})
		}}
}

func repositoryChange() *Command {
	return &Command{Name: "change", First: []string{"name", "description", "visibility", "default-branch", "account"}, Args: "REPOSITORY", Least: 1, Most: 1, Takes: []string{"repository"}, Gives: DoneThings{}, Short: "rename one, or change description, visibility, default branch",
		Long:     "Projects of this machine that are attached to it follow a new name. What was changed is checked with the host.",
		Examples: []string{"uncinate repository change gauge-firmware --name gauge", "uncinate repository change saltmarsh/inlet-board --visibility public"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			account := accountOption(o)
			var c repositories.Wanted
			o.StringVar(&c.Name, "name", "", "its new `name`")
			o.Func("description", "one `line` about it; an empty one takes it away", func(s string) error {
				c.Description, c.Set = s, true
				return nil
			})
			o.StringVar(&c.Visibility, "visibility", "", "private, members or public: `who` can see it")
			o.StringVar(&c.Branch, "default-branch", "", "the `branch` that is shown first, and cloned")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if c == (repositories.Wanted{}) {
					return fault.New(fault.Usage, "say what is to be changed").Try("see what can be", "uncinate help repository change")
				}
				change, err := repositories.Change(ctx, d, *account, args[0], c)
				if err != nil {
					return err
				}
				p.typed = change.About
				if change.MustType && !p.preview && (p.yes || !e.asks) {
					f := fault.New(fault.Refused, "what is in the commits of %s must not be seen by everybody", change.About)
					for _, n := range change.Notes {
						f.Detail("%s", text.Visible(n))
					}
					return f.TryWithout("decide that at a terminal, where its name is to be typed", text.Command("uncinate", "repository", "change", args[0]), "yes")
				}
				return e.doChange(ctx, change, p, "Changed, and checked with "+change.HostName()+".")
			})
		}}
}

func repositoryTransfer() *Command {
	return &Command{Name: "transfer", Args: "REPOSITORY OWNER", Least: 2, Most: 2, Takes: []string{"repository"}, Gives: DoneThings{}, Short: "hand one over to another owner, a person or a group",
		Long:     "Projects of this machine that are attached to it follow; copies elsewhere do at their next sync.",
		Examples: []string{"uncinate repository transfer gauge-firmware saltmarsh"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			account := accountOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				change, err := repositories.Transfer(ctx, d, *account, args[0], args[1])
				if err != nil {
					return err
				}
				if len(change.Items()) == 0 && len(change.Notes) > 0 {
					return e.Give(DoneThings{Done: change.Notes}, func() { e.Say("%s", change.Notes[0]) })
				}
				return e.doChange(ctx, change, p, "Handed over, and checked with "+change.HostName()+".")
			})
		}}
}

func repositoryDelete() *Command {
	return &Command{Name: "delete", Args: "REPOSITORY", Least: 1, Most: 1, Takes: []string{"repository"}, Gives: DoneThings{}, Short: "delete one on the host",
		Long: `All its branches and tags are kept first on this machine, where "uncinate rescue list --deleted" lists
them. On a plain server it is moved aside, not erased. Local folders stay as they are.`,
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			account := accountOption(o)
			without := o.Bool("without-copy", false, "keep no copy of it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				change, err := repositories.Delete(ctx, d, *account, args[0], !*without)
				if err != nil {
					return err
				}
				p.typed = change.About
				return e.doChange(ctx, change, p, "Deleted on "+change.HostName()+"."+text.Either(*without, "", " To bring it back: uncinate rescue bring --deleted "+text.Quote(change.About)))
			})
		}}
}

// doChange shows a plan, asks, does it and tells that it is done.
func (e *Env) doChange(ctx context.Context, c *desk.Change, p plans, done string) error {
	doc := DoneThings{Done: []string{}}
	if len(c.Items()) == 0 && p.preview {
		return e.would(ctx, c.Host)
	}
	if len(c.Items()) == 0 {
		return e.Give(doc, func() { e.Say("That is so already; nothing was changed.") })
	}
	if done, err := e.carryOut(ctx, p, c.Head, c, c.Notes); err != nil || !done {
		return err
	}
	for _, i := range c.Items() {
		doc.Done = append(doc.Done, i.Sentence)
	}
	return e.Give(doc, func() { e.Say("%s", e.Out.strong(done)) })
}
