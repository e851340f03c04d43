package screen

import (
	"context"
	"flag"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/packing"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/job/machine"
	"uncinate/internal/world/files"
	"uncinate/internal/world/oauth"
	"uncinate/internal/world/sealed"
)

// MachineShown is this machine, as a JSON document.
type MachineShown struct {
	Name string `json:"name" says:"as its keys carry it"`
}

// MachinePacked is what was packed, as a JSON document.
type MachinePacked struct {
	File     string     `json:"file"`
	For      string     `json:"for" says:"who can open it"`
	Hosts    int        `json:"hosts"`
	Accounts int        `json:"accounts"`
	Projects int        `json:"projects"`
	OnlyHere []OnlyHere `json:"only_here" says:"projects of which something was only on this machine, as it was looked at first"`
	Notes    []string   `json:"notes,omitempty"`
}

// OnlyHere is a project of which something is only on this machine.
type OnlyHere struct {
	Folder string `json:"folder"`
	Says   string `json:"says"`
}

// MachineUnpacked is what was unpacked, as a JSON document.
type MachineUnpacked struct {
	From     string        `json:"from" says:"the machine on which it was packed"`
	Done     []string      `json:"done"`
	Projects []machine.Row `json:"projects"`
	Notes    []string      `json:"notes,omitempty"`
}

func machineCommand() *Command {
	return &Command{Name: "machine", Short: "carry your set-up to another machine, or clear this one: show, pack, unpack, clear",
		Subs: []*Command{
			machineShow(),
			machinePack(),
			machineUnpack(),
			machineClear(),
		}}
}

func machineShow() *Command {
	return &Command{Name: "show", Gives: MachineShown{}, Short: "show this machine's name, as its keys carry it",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(_ context.Context, e *Env, d *desk.Desk, _ []string) error {
				name, err := d.Machine()
				if err != nil {
					return err
				}
				return e.Give(MachineShown{name}, func() {
					e.Say("%s", text.Visible(name))
					e.Aside("To give it another name: uncinate settings set machine NAME")
				})
			})
		}}
}

func machinePack() *Command {
	return &Command{Name: "pack", Args: "FILE", Least: 1, Most: 1, Takes: []string{"file"}, Gives: MachinePacked{}, Short: "write hosts, accounts, settings and projects into a sealed file, without any secret",
		Long: `Says first what is only on this machine, and would stay behind; what can be sent is sent, on your yes. The file is
opened by a passphrase that you type, or by the key of whom --to names: a recipient of age (age1...), or an SSH
public key (ed25519 or rsa) of the new machine, given as it is or by its file. Tokens and private keys are never in it.`,
		Examples: []string{"uncinate machine pack set-up.age", "uncinate machine pack set-up.age --to ~/.ssh/id_ed25519.pub"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var m machine.PackOptions
			to := o.String("to", "", "who opens it: a `recipient` of age, or an SSH public key or its file")
			o.StringVar(&m.Root, "root", "", "the `folder` below which your projects are (default: your home folder)")
			o.BoolVar(&m.NoSync, "no-sync", false, "send nothing first")
			o.BoolVar(&m.Again, "again", false, "replace the file")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				m.File = args[0]
				who, err := recipient(*to)
				if err != nil {
					return err
				}
				k, err := machine.PlanPack(ctx, d, m)
				if err != nil {
					return err
				}
				doc := e.onlyHere(k, m.File)
				if goes, err := e.propose(ctx, p, "To pack the set-up of this machine:", k, k.Notes); err != nil || !goes {
					return err
				}
				if who == nil {
					if who, err = e.newPassphrase(); err != nil {
						return err
					}
				}
				k.Sealed(*who)
				if err := k.Do(ctx); err != nil {
					return err
				}
				doc.For = who.Says
				doc.Hosts, doc.Accounts, doc.Projects = k.Counts()
				return e.Give(doc, func() {
					for _, r := range k.Sent {
						if r.Says != "" {
							e.Aside("%s was not sent: %s", text.Visible(r.Name), text.Visible(r.Says))
						}
					}
					e.Say("%s", e.Out.strong("Packed, for "+who.Says+"."))
					words := []string{"uncinate", "machine", "unpack", filepath.Base(m.File)}
					if *to != "" {
						words = append(words, "--key", "FILE")
					}
					e.Say("On the new machine: %s", text.Command(words...))
				})
			})
		}}
}

// onlyHere tells what is only on this machine.
func (e *Env) onlyHere(k *machine.Packing, file string) MachinePacked {
	doc := MachinePacked{File: file, OnlyHere: []OnlyHere{}, Notes: k.Notes}
	for _, r := range k.Rows {
		doc.OnlyHere = append(doc.OnlyHere, OnlyHere{r.Folder, r.Says})
	}
	if len(k.Rows) > 0 && !e.json {
		e.Aside("Only on this machine, of %s:", text.Count(len(k.Rows), "project"))
		for i, r := range k.Rows {
			if i == 3*mostLines {
				e.Aside("  and %d more; to see all: uncinate status --all", len(k.Rows)-i)
				break
			}
			e.Aside("  %s: %s", text.Visible(r.Name), text.Visible(strings.TrimSpace(r.State+" "+r.Says)))
		}
	}
	return doc
}

// recipient reads who opens a file; nil where nobody is named.
func recipient(given string) (*sealed.To, error) {
	if given == "" {
		return nil, nil
	}
	line := given
	if !strings.HasPrefix(given, "age1") && !strings.Contains(given, " ") {
		data, err := files.ReadNamed(given, 64<<10)
		if err != nil {
			return nil, fault.New(fault.Usage, "%s is neither a recipient of age (age1...) nor the file of an SSH public key", text.Quote(text.Excerpt(given, 80))).Because(err)
		}
		line = string(data)
	}
	to, err := sealed.For(line)
	return &to, err
}

// leastPassphrase is how long a passphrase is at least.
const leastPassphrase = 8

// newPassphrase asks for a passphrase for a file, twice on a terminal.
func (e *Env) newPassphrase() (*sealed.To, error) {
	says, err := e.secret("Passphrase of the file (8 characters or more): ")
	if err != nil {
		return nil, err
	}
	if len(says) < leastPassphrase {
		return nil, fault.New(fault.Usage, "the passphrase is too short: 8 characters at least")
	}
	if e.asks {
		again, err := e.secret("Repeat it: ")
		if err != nil {
			return nil, err
		}
		if again != says {
			return nil, fault.New(fault.Usage, "the two are not the same")
		}
	}
	to, err := sealed.ByPassphrase(says)
	return &to, err
}

func machineUnpack() *Command {
	return &Command{Name: "unpack", Args: "FILE", Least: 1, Most: 1, Takes: []string{"file"}, Gives: MachineUnpacked{}, Short: "make what another machine packed stand on this one",
		Long: `Shows the plan first: the hosts, and where what you sign in with goes; then signs in to each account (its token is
pasted, or --by device or browser where the host has that), makes this machine's own keys and puts them on their hosts,
and clones all projects, each on the branch that it was on. Cut off, the same command goes on, and asks nothing twice.`,
		Examples: []string{"uncinate machine unpack set-up.age", "uncinate machine unpack set-up.age --into ~/work --key ~/.ssh/id_ed25519"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			into := o.String("into", "", "the `folder` into which the projects are put (default: your home folder)")
			key := o.String("key", "", "the private `file` of the key that opens it: age's own, or an SSH key")
			by := o.String("by", "token", "`how` to sign in: token (pasted), device or browser")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if !slices.Contains([]string{"token", oauth.ByDevice, oauth.ByBrowser}, *by) {
					return fault.New(fault.Usage, "sign in by token, device or browser, not by %s", text.Quote(*by)).Try("", "uncinate help machine unpack")
				}
				pack, err := e.unseal(args[0], *key)
				if err != nil {
					return err
				}
				u, err := machine.PlanUnpack(ctx, d, pack, *into)
				if err != nil {
					return err
				}
				doc := MachineUnpacked{From: u.Machine(), Done: []string{}, Projects: []machine.Row{}, Notes: u.Notes}
				if len(u.Items()) == 0 {
					if err := u.Release(); err != nil {
						return err
					}
					return e.Give(doc, func() { e.Say("All of it is here already.") })
				}
				notes := u.Notes
				for _, a := range u.Hosts {
					notes = append(notes, replaces(a)...)
				}
				if goes, err := e.propose(ctx, p, "To set this machine up as "+text.Visible(u.Machine())+" was:", u, notes); err != nil || !goes {
					return err
				}
				return e.unpack(ctx, d, u, *by, doc)
			})
		}}
}

// unseal opens a packed file.
func (e *Env) unseal(file, key string) (*packing.Pack, error) {
	data, err := files.ReadNamed(file, packing.MostBytes+1<<20)
	if err != nil {
		return nil, fault.New(fault.Failed, "%s cannot be read: %s", text.Visible(file), files.Plain(err)).Because(err)
	}
	byPassphrase, err := sealed.NeedsPassphrase(data)
	if err != nil {
		return nil, err
	}
	var plain []byte
	switch {
	case byPassphrase:
		says, err := e.secret("Passphrase of the file: ")
		if err != nil {
			return nil, err
		}
		plain, err = sealed.OpenByPassphrase(data, says, packing.MostBytes)
		if err != nil {
			return nil, err
		}
	case key == "":
		return nil, fault.New(fault.Usage, "%s is sealed for the owner of a key", text.Visible(file)).Try("name the private key's file", text.Command("uncinate", "machine", "unpack", file, "--key", "FILE"))
	default:
		private, err := files.ReadNamed(key, 64<<10)
		if err != nil {
			return nil, fault.New(fault.Failed, "%s cannot be read: %s", text.Visible(key), files.Plain(err)).Because(err)
		}
		if plain, err = sealed.OpenByKey(data, private, func() (string, error) { return e.secret("Passphrase of the key: ") }, packing.MostBytes); err != nil {
			return nil, err
		}
	}
	return packing.Read(plain)
}

// unpack carries the plan out.
func (e *Env) unpack(ctx context.Context, d *desk.Desk, u *machine.Unpacking, by string, doc MachineUnpacked) error {
	if err := u.Prepare(ctx); err != nil {
		return err
	}
	for _, a := range u.Missing {
		way := by
		if h, err := hosts.Named(d, a.Host); by != "token" && (err != nil || h.SignInWay(by) != nil) {
			way = "token" // this host has no other
		}
		if err := e.addAccount(ctx, d, a, way, true); err != nil {
			f := *fault.Of(err)
			f.Details = append(f.Details, "The account is "+a.Name+". What was unpacked before that stays; the same command goes on from here.")
			return &f
		}
		u.SignedIn(a.Name)
	}
	if err := u.Keys(ctx); err != nil {
		return err
	}
	rows, err := u.Projects(ctx, func(r machine.Row) {
		if r.Says != "" && !e.json {
			e.Aside("%s %s: %s", text.Visible(r.Name), r.State, text.Visible(r.Says))
		}
	})
	if err != nil {
		return err
	}
	for _, i := range u.Items() {
		doc.Done = append(doc.Done, i.Sentence)
	}
	doc.Projects = append(doc.Projects, rows...)
	failed, worst := 0, fault.Kind(0)
	for _, r := range rows {
		if r.State == "failed" {
			failed, worst = failed+1, max(worst, r.Exit)
		}
	}
	if failed > 0 {
		f := fault.New(worst, "%s could not be cloned", text.Count(failed, "project"))
		for _, r := range rows {
			if r.State == "failed" {
				f.Detail("%s: %s", text.Visible(r.Name), r.Says)
			}
		}
		return f.Detail("All else stands; the same command goes on from here.")
	}
	return e.Give(doc, func() {
		e.Say("%s", e.Out.strong("All of it stands on this machine."))
		e.Say("To see the projects: uncinate status --all")
	})
}
