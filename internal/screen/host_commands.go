package screen

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/job/checks"
)

// KnownHost is a known host as a JSON document.
type KnownHost struct {
	Name        string            `json:"name"`
	At          string            `json:"at" says:"its address"`
	Title       string            `json:"title,omitempty"`
	Origins     []description.Use `json:"origins" says:"where its accounts' tokens are sent, and what for"`
	Accounts    int               `json:"accounts" says:"how many of them this machine knows"`
	Actions     []string          `json:"actions" says:"what its description lets the program do"`
	Later       []string          `json:"later,omitempty" says:"what is described and not carried out by this version"`
	Limits      map[string]any    `json:"limits,omitempty" says:"as they are in the description"`
	DescribedIn string            `json:"described_in" says:"path of the description"`
}

func knownHost(d *desk.Desk, h *hosts.Host, holders int) KnownHost {
	return KnownHost{h.Name, h.At, h.Title, h.Origins(), holders, append([]string{}, h.Can()...), h.Later, h.Limits, hosts.DescriptionFile(d, h.Name)}
}

// CheckedHost is what came of checking a description, as a JSON document.
type CheckedHost struct {
	File     string                `json:"file"`
	Name     string                `json:"name,omitempty"`
	Mistakes []description.Mistake `json:"mistakes"`
	Origins  []description.Use     `json:"origins,omitempty" says:"where tokens would be sent, and what for"`
	Can      []description.Ability `json:"can,omitempty" says:"what will and will not be possible with it"`
	Remarks  []string              `json:"remarks,omitempty" says:"no mistakes, and yet worth a look"`
	Later    []string              `json:"later,omitempty" says:"what is described and not carried out by this version"`
}

// checked tells of a description without mistakes: what will be possible with it, what
// will not, and what is worth a look.
func (e *Env) checked(doc CheckedHost) {
	e.Say("%s has no mistakes. With it, on %s:", text.Visible(doc.File), doc.Name)
	var rows [][]string
	for _, a := range doc.Can {
		note := "uncinate " + a.Command
		switch a.State {
		case "partly":
			note = "lacks " + strings.Join(a.Missing, ", ")
		case "by hand":
			note = a.Page
		case "no":
			note = "needs " + strings.Join(a.Missing, ", ")
		}
		rows = append(rows, []string{a.What, a.State, note})
	}
	e.Table([]string{"what", "can be done", "by"}, rows)
	for _, list := range []struct {
		head  string
		items []string
	}{{"Worth a look", doc.Remarks}, {"Valid, but not used by this version", doc.Later}} {
		if len(list.items) > 0 {
			e.Say("%s:", list.head)
		}
		for _, r := range list.items {
			e.Say("  %s", e.Out.wrap(text.Visible(r), 2))
		}
	}
}

// compared puts hosts side by side: a row for each limit.
func (e *Env) compared(all []checks.Compared) {
	head, rows := []string{""}, [][]string{}
	for _, c := range all {
		head = append(head, c.Host)
	}
	for i := range checks.CompareBy {
		row := []string{checks.CompareBy[i]}
		told := false
		for _, c := range all {
			row = append(row, c.Values[i])
			told = told || c.Values[i] != ""
		}
		if told {
			rows = append(rows, row)
		}
	}
	if len(all) == 0 {
		e.Say("No host is known yet.")
		return
	}
	e.Table(head, rows)
}

// Forgotten is what this machine forgot, as a JSON document.
type Forgotten struct {
	Name     string `json:"name"`
	Projects int    `json:"projects,omitempty" says:"how many attached projects have no sign-in now"`
}

// PinnedHost is a host's SSH key that was vouched for, as a JSON document.
type PinnedHost struct {
	Address     string `json:"address"`
	Kind        string `json:"kind"`
	Fingerprint string `json:"fingerprint"`
}

func hostCommand() *Command {
	return &Command{Name: "host", Short: "manage known hosts: list, add, show, check, try, draft, compare, pin, forget",
		Long: `A host description says how to talk to a host; docs/host-descriptions.md explains the
language. Descriptions of the practice hosts ship with the program.`,
		Subs: []*Command{
			hostList(),
			hostAdd(),
			hostShow(),
			hostCheck(),
			hostTry(),
			hostDraft(),
			hostCompare(),
			hostPin(),
			hostForget(),
		}}
}

func hostList() *Command {
	return &Command{Name: "list", Gives: []KnownHost{}, Short: "list the known hosts",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(_ context.Context, e *Env, d *desk.Desk, _ []string) error {
				known, err := hosts.All(d)
				if err != nil {
					return err
				}
				rows, docs := [][]string{}, []KnownHost{}
				for _, h := range known {
					holders, err := accounts.On(d, h.Name)
					if err != nil {
						return err
					}
					rows = append(rows, []string{h.Name, h.At, fmt.Sprint(len(holders)), h.Title})
					docs = append(docs, knownHost(d, h, len(holders)))
				}
				return e.Give(docs, func() {
					if len(rows) == 0 {
						e.Say("No host is known yet.")
						e.Aside("Add one by its description (docs/host-descriptions.md): uncinate host add FILE")
						e.Aside("Or try it with practice hosts: uncinate practice")
						return
					}
					e.Table([]string{"host", "address", "accounts", "what it is"}, rows)
				})
			})
		}}
}

func hostShow() *Command {
	return &Command{Name: "show", Args: "NAME", Least: 1, Most: 1, Takes: []string{"host"}, Gives: KnownHost{}, Short: "show what a host's description says it can do",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(_ context.Context, e *Env, d *desk.Desk, args []string) error {
				h, err := hosts.Named(d, args[0])
				if err != nil {
					return err
				}
				holders, err := accounts.On(d, h.Name)
				if err != nil {
					return err
				}
				return e.Give(knownHost(d, h, len(holders)), func() {
					e.Say("%s", e.Out.strong(h.Name))
					ways := []string{"token"}
					if h.Shell != nil {
						ways = []string{"an SSH key"}
					}
					if o := h.SignIn.OAuth; o != nil {
						ways = append(ways, o.Ways...)
					}
					e.Facts([2]string{"what", h.Title}, [2]string{"address", h.At}, [2]string{"sign in by", strings.Join(ways, ", ")}, [2]string{"tokens go to", strings.Join(tokensTo(h.Description), ", ")}, [2]string{"can", strings.Join(h.Can(), ", ")},
						[2]string{"not yet", strings.Join(h.Later, "; ")}, [2]string{"described in", hosts.DescriptionFile(d, h.Name)})
				})
			})
		}}
}

func hostCheck() *Command {
	return &Command{Name: "check", Args: "NAME|FILE", Least: 1, Most: 1, Takes: []string{"description"}, Gives: CheckedHost{}, Short: "check a description: every mistake, with line and column",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(_ context.Context, e *Env, d *desk.Desk, args []string) error {
				c, err := hosts.CheckDescription(d, args[0])
				if err != nil {
					return err
				}
				doc := CheckedHost{File: c.File, Mistakes: append([]description.Mistake{}, c.Mistakes...)}
				if len(c.Mistakes) > 0 {
					if e.json {
						err = e.JSON(doc)
					}
					return errors.Join(hosts.MistakesFault(c), err)
				}
				doc.Origins = c.Description.Origins()
				doc.Name, doc.Can, doc.Remarks, doc.Later = c.Description.Name, c.Description.Abilities(), c.Description.Remarks, c.Description.Later
				return e.Give(doc, func() {
					e.checked(doc)
					e.Say("%s", e.Out.wrap(goesTo("Its accounts' tokens would go", c.Description), 0))
				})
			})
		}}
}

func hostCompare() *Command {
	return &Command{Name: "compare", Args: "[NAME]...", Most: -1, Takes: []string{"host"}, Gives: []checks.Compared{}, Short: "compare hosts by their limits",
		Long: "Compares the known hosts, or those that are named, by the limits that their descriptions tell, and by what your accounts use of them where a host tells it.",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				all, err := checks.Compare(ctx, d, args)
				if err != nil {
					return err
				}
				return e.Give(all, func() { e.compared(all) })
			})
		}}
}

func hostPin() *Command {
	return &Command{Name: "pin", Args: "ADDRESS", Least: 1, Most: 1, Gives: PinnedHost{}, Short: "accept a host's SSH key by its fingerprint",
		Long: `ADDRESS is the host's name, with :PORT if it is not 22. The host must show the very key
of the fingerprint now; compare that with what its operator publishes first.`,
		Examples: []string{"uncinate host pin skerry.example --fingerprint SHA256:..."},
		Options: func(o *flag.FlagSet) Run {
			preview := previewOption(o)
			print := o.String("fingerprint", "", "the key's `fingerprint`, as the host's operator publishes it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if !strings.HasPrefix(*print, "SHA256:") {
					return fault.New(fault.Usage, "name the key's fingerprint, which begins with SHA256:").Try("", text.Command("uncinate", "host", "pin", args[0], "--fingerprint", "SHA256:..."))
				}
				k, err := login.PinHost(ctx, d, args[0], *print, *preview)
				if err != nil {
					return err
				}
				if *preview {
					return e.would(ctx, "", here("Accept the key "+k.Fingerprint()+" of "+text.Visible(args[0])))
				}
				return e.Give(PinnedHost{args[0], k.Type, k.Fingerprint()}, func() { e.Say("From now on %s is known by its key %s.", text.Visible(args[0]), k.Fingerprint()) })
			})
		}}
}

func hostForget() *Command {
	return &Command{Name: "forget", Args: "NAME", Least: 1, Most: 1, Takes: []string{"host"}, Gives: Forgotten{}, Short: "forget a host on this machine",
		Options: func(o *flag.FlagSet) Run {
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if err := hosts.Forget(ctx, d, args[0], func(host string) ([]string, error) { return accounts.NamesOn(d, host) }, *preview); err != nil {
					return err
				}
				if *preview {
					return e.would(ctx, "", here("Forget the host "+args[0]))
				}
				return e.Give(Forgotten{Name: args[0]}, func() { e.Say("The host %s is forgotten here. Nothing was changed on it.", args[0]) })
			})
		}}
}
