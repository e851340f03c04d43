package screen

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"uncinate/internal/core/text"
	"uncinate/internal/job"
)

func hostCommand() *Command {
	return &Command{Name: "host", Short: "know hosts: add, list, show, check a description, forget",
		Long: `A host description says how to talk to a host; docs/host-descriptions.md explains the
language. Descriptions of the practice hosts ship with the program.`,
		Subs: []*Command{
			{Name: "add", Args: "NAME|FILE", Least: 1, Most: 1, Short: "make a host known by its description",
				Long:     "NAME is a description that ships with the program; FILE is one of your own, given with its path, such as ./petrel.toml.",
				Examples: []string{"uncinate host add gannet --at http://127.0.0.1:8765", "uncinate host add ./petrel.toml"},
				Options: func(o *flag.FlagSet) Run {
					at := o.String("at", "", "the host's `address`, if it is another than the description's")
					as := o.String("as", "", "know it under another `name`")
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, args []string) error {
						h, err := d.AddHost(args[0], *at, *as)
						if err != nil {
							return err
						}
						e.Say("%s is known, at %s.", h.Name, h.At)
						e.Aside("Next: uncinate account add --host %s", h.Name)
						return nil
					})
				}},
			{Name: "list", Short: "list the known hosts",
				Options: func(o *flag.FlagSet) Run {
					asJSON := o.Bool("json", false, "one JSON document on standard output")
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, _ []string) error {
						hosts, err := d.Hosts()
						if err != nil {
							return err
						}
						rows, docs := [][]string{}, []map[string]any{}
						for _, h := range hosts {
							accounts, err := d.AccountsOn(h.Name)
							if err != nil {
								return err
							}
							rows = append(rows, []string{h.Name, h.At, fmt.Sprint(len(accounts)), h.Title})
							docs = append(docs, map[string]any{"name": h.Name, "at": h.At, "accounts": len(accounts), "title": h.Title})
						}
						if *asJSON {
							return e.JSON(docs)
						}
						if len(rows) == 0 {
							e.Say("No host is known yet.")
							e.Aside("Next: uncinate host add FILE   (docs/host-descriptions.md), or to try it: uncinate practice")
							return nil
						}
						e.Table([]string{"host", "at", "accounts", "what it is"}, rows)
						return nil
					})
				}},
			{Name: "show", Args: "NAME", Least: 1, Most: 1, Short: "show what a host's description says it can do",
				Options: func(o *flag.FlagSet) Run {
					asJSON := o.Bool("json", false, "one JSON document on standard output")
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, args []string) error {
						h, err := d.Host(args[0])
						if err != nil {
							return err
						}
						if *asJSON {
							return e.JSON(map[string]any{"name": h.Name, "at": h.At, "title": h.Title, "actions": h.Can(), "later": h.Later, "limits": h.Limits})
						}
						e.Say("%s", e.bold(h.Name))
						e.Facts([2]string{"what", h.Title}, [2]string{"at", h.At}, [2]string{"can", strings.Join(h.Can(), ", ")},
							[2]string{"not yet", strings.Join(h.Later, "; ")}, [2]string{"described in", d.DescriptionFile(h.Name)})
						return nil
					})
				}},
			{Name: "check", Args: "NAME|FILE", Least: 1, Most: 1, Short: "check a description: every mistake with line and column",
				Options: func(*flag.FlagSet) Run {
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, args []string) error {
						c, err := d.CheckDescription(args[0])
						if err != nil {
							return err
						}
						if len(c.Mistakes) > 0 {
							return job.MistakesFault(c)
						}
						e.Say("%s has no mistakes.", text.Visible(c.File))
						e.Facts([2]string{"host", c.Description.Name}, [2]string{"can", strings.Join(c.Description.Can(), ", ")},
							[2]string{"not yet", strings.Join(c.Description.Later, "; ")})
						if len(c.Description.Later) > 0 {
							e.Aside("What stands under \"not yet\" is described rightly; this version does not carry it out.")
						}
						return nil
					})
				}},
			{Name: "forget", Args: "NAME", Least: 1, Most: 1, Short: "make this machine forget a host",
				Options: func(*flag.FlagSet) Run {
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, args []string) error {
						if err := d.ForgetHost(args[0]); err != nil {
							return err
						}
						e.Say("%s is forgotten here. Nothing was changed on the host.", args[0])
						return nil
					})
				}},
		}}
}
