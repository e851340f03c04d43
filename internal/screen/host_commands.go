package screen

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/text"
	"uncinate/internal/job"
)

// Hosted is a known host as a JSON document.
type Hosted struct {
	Name        string         `json:"name"`
	At          string         `json:"at" says:"its address"`
	Title       string         `json:"title,omitempty"`
	Accounts    int            `json:"accounts" says:"how many of them this machine knows"`
	Actions     []string       `json:"actions" says:"what its description lets the program do"`
	Later       []string       `json:"later,omitempty" says:"what is described and not carried out by this version"`
	Limits      map[string]any `json:"limits,omitempty" says:"as they stand in the description"`
	DescribedIn string         `json:"described_in" says:"path of the description"`
}

func hosted(d *job.Desk, h *job.Host, accounts int) Hosted {
	return Hosted{h.Name, h.At, h.Title, accounts, append([]string{}, h.Can()...), h.Later, h.Limits, d.DescriptionFile(h.Name)}
}

// CheckedHost is what came of checking a description, as a JSON document.
type CheckedHost struct {
	File     string                `json:"file"`
	Name     string                `json:"name,omitempty"`
	Mistakes []description.Mistake `json:"mistakes"`
	Actions  []string              `json:"actions,omitempty"`
	Later    []string              `json:"later,omitempty" says:"what is described and not carried out by this version"`
}

// Forgotten is what this machine forgot, as a JSON document.
type Forgotten struct {
	Name     string `json:"name"`
	Projects int    `json:"projects,omitempty" says:"how many hooked projects have no sign-in any more"`
}

func hostCommand() *Command {
	return &Command{Name: "host", Short: "know hosts: add, list, show, check a description, forget",
		Long: `A host description says how to talk to a host; docs/host-descriptions.md explains the
language. Descriptions of the practice hosts ship with the program.`,
		Subs: []*Command{
			{Name: "add", Args: "NAME|FILE", Least: 1, Most: 1, Takes: []string{"description"}, Gives: Hosted{}, Short: "make a host known by its description",
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
						return e.Give(hosted(d, h, 0), func() {
							e.Say("%s is known, at %s.", h.Name, h.At)
							e.Aside("Next: uncinate account add --host %s", h.Name)
						})
					})
				}},
			{Name: "list", Gives: []Hosted{}, Short: "list the known hosts",
				Options: func(*flag.FlagSet) Run {
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, _ []string) error {
						hosts, err := d.Hosts()
						if err != nil {
							return err
						}
						rows, docs := [][]string{}, []Hosted{}
						for _, h := range hosts {
							accounts, err := d.AccountsOn(h.Name)
							if err != nil {
								return err
							}
							rows = append(rows, []string{h.Name, h.At, fmt.Sprint(len(accounts)), h.Title})
							docs = append(docs, hosted(d, h, len(accounts)))
						}
						return e.Give(docs, func() {
							if len(rows) == 0 {
								e.Say("No host is known yet.")
								e.Aside("Next: uncinate host add FILE   (docs/host-descriptions.md), or to try it: uncinate practice")
								return
							}
							e.Table([]string{"host", "at", "accounts", "what it is"}, rows)
						})
					})
				}},
			{Name: "show", Args: "NAME", Least: 1, Most: 1, Takes: []string{"host"}, Gives: Hosted{}, Short: "show what a host's description says it can do",
				Options: func(*flag.FlagSet) Run {
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, args []string) error {
						h, err := d.Host(args[0])
						if err != nil {
							return err
						}
						accounts, err := d.AccountsOn(h.Name)
						if err != nil {
							return err
						}
						return e.Give(hosted(d, h, len(accounts)), func() {
							e.Say("%s", e.Out.strong(h.Name))
							e.Facts([2]string{"what", h.Title}, [2]string{"at", h.At}, [2]string{"can", strings.Join(h.Can(), ", ")},
								[2]string{"not yet", strings.Join(h.Later, "; ")}, [2]string{"described in", d.DescriptionFile(h.Name)})
						})
					})
				}},
			{Name: "check", Args: "NAME|FILE", Least: 1, Most: 1, Takes: []string{"description"}, Gives: CheckedHost{}, Short: "check a description: every mistake with line and column",
				Options: func(*flag.FlagSet) Run {
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, args []string) error {
						c, err := d.CheckDescription(args[0])
						if err != nil {
							return err
						}
						doc := CheckedHost{File: c.File, Mistakes: append([]description.Mistake{}, c.Mistakes...)}
						if len(c.Mistakes) > 0 {
							if e.json {
								err = e.JSON(doc)
							}
							return errors.Join(job.MistakesFault(c), err)
						}
						doc.Name, doc.Actions, doc.Later = c.Description.Name, c.Description.Can(), c.Description.Later
						return e.Give(doc, func() {
							e.Say("%s has no mistakes.", text.Visible(c.File))
							e.Facts([2]string{"host", doc.Name}, [2]string{"can", strings.Join(doc.Actions, ", ")}, [2]string{"not yet", strings.Join(doc.Later, "; ")})
							if len(doc.Later) > 0 {
								e.Aside("What stands under \"not yet\" is described rightly; this version does not carry it out.")
							}
						})
					})
				}},
			{Name: "forget", Args: "NAME", Least: 1, Most: 1, Takes: []string{"host"}, Gives: Forgotten{}, Short: "make this machine forget a host",
				Options: func(*flag.FlagSet) Run {
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, args []string) error {
						if err := d.ForgetHost(args[0]); err != nil {
							return err
						}
						return e.Give(Forgotten{Name: args[0]}, func() { e.Say("%s is forgotten here. Nothing was changed on the host.", args[0]) })
					})
				}},
		}}
}
