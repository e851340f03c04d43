package screen

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/job"
)

// Commands are all commands but those of the practice hosts.
func Commands() []*Command {
	return []*Command{attachCommand(), cloneCommand(), syncCommand(), statusCommand(), visitCommand(),
		hostCommand(), accountCommand(), vaultCommand(), credentialCommand(), helpCommand(), versionCommand()}
}

// plans are the options of every command that shows a plan first.
type plans struct{ preview, yes, json bool }

func (p *plans) add(o *flag.FlagSet) {
	o.BoolVar(&p.preview, "preview", false, "show the plan and stop")
	o.BoolVar(&p.yes, "yes", false, "go ahead without asking")
	o.BoolVar(&p.json, "json", false, "one JSON document on standard output")
}

type list []string

func (l *list) String() string     { return strings.Join(*l, ",") }
func (l *list) Set(s string) error { *l = append(*l, s); return nil }

func folderOf(args []string) string {
	if len(args) == 0 {
		return "."
	}
	return args[0]
}

func attachCommand() *Command {
	return &Command{Name: "attach", Args: "[FOLDER]", Most: 1,
		Short: "hook a local project to a hosted repository and publish it",
		Long: `Looks at the folder (the current one unless named), at git and at the host, shows
the plan, asks, does it, and checks the result with the host itself. The hosted
repository is made, private unless said, or with --to one is taken that was made on
the host before and is empty. An empty folder is hooked too; its first commit can
come later.

Interrupted, or run again, it goes on where it was and makes nothing twice. When all
is done it says so and changes nothing.`,
		Examples: []string{"uncinate attach --preview", "uncinate attach --yes gauge-firmware",
			"uncinate attach --name saltmarsh/gauge-firmware --visibility members", "uncinate attach --to https://gannet.example/tern/gauge-firmware"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var a job.AttachOptions
			o.StringVar(&a.To, "to", "", "hook to the `repository` made on the host before: its name or any of its addresses")
			o.StringVar(&a.Name, "name", "", "`name` of the new repository, or OWNER/NAME; the folder's unless said")
			o.StringVar(&a.Owner, "owner", "", "whose it is to be: `owner` or group; the account's own unless said")
			o.StringVar(&a.Account, "account", "", "which `account` to use")
			o.StringVar(&a.Host, "host", "", "on which `host`, if there are accounts on several")
			o.StringVar(&a.Visibility, "visibility", "", "private, members or public; private unless said (`who` can see it)")
			o.StringVar(&a.Description, "description", "", "one `line` about the repository")
			o.StringVar(&a.Remote, "remote", "", "git's `name` for it here; origin unless said")
			o.StringVar(&a.Message, "message", "", "the first commit's `text`")
			o.StringVar(&a.FullName, "full-name", "", "whose `name` commits carry; the account's unless said")
			o.StringVar(&a.Email, "email", "", "whose `address` commits carry; the account's unless said")
			o.BoolVar(&a.Branches, "branches", false, "send all local branches, not only the one checked out")
			o.Var((*list)(&a.Let), "let", "let a `file` up that looks like a private key; may be given again")
			return func(ctx context.Context, e *Env, args []string) error {
				a.Folder = folderOf(args)
				return runAttach(ctx, e, p, a)
			}
		}}
}

func runAttach(ctx context.Context, e *Env, p plans, o job.AttachOptions) error {
	d, err := e.Desk()
	if err != nil {
		return err
	}
	a, err := d.Attach(ctx, o)
	if err != nil && e.asks && !p.preview {
		// No account yet: set one up here, then go on.
		if again, setUp := e.setUp(ctx, d, o.Host, err); setUp != nil || !again {
			return setUp
		}
		a, err = d.Attach(ctx, o)
	}
	if err != nil {
		return err
	}
	finished, err := a.Finished(ctx)
	if err != nil {
		return err
	}
	if !finished {
		if p.json && p.preview {
			return e.JSON(map[string]any{"plan": a.Items(), "notes": a.Notes})
		}
		out := e.Err
		if p.preview {
			out = e.Out
		}
		if a.Resumed && !e.quiet {
			fmt.Fprintln(out, "An earlier attach was cut off; this one goes on from there.")
		}
		e.items = a.Items()
		if p.preview || !p.yes {
			fmt.Fprintf(out, "%s\n", e.bold(a.Headline()))
			e.Plan(out, a.Items(), a.HostName())
			e.planned = true
		}
		for _, n := range a.Notes {
			if p.preview || !e.quiet {
				fmt.Fprintf(out, "  Note: %s\n", e.wrap(n, 8))
			}
		}
		if p.preview {
			return nil
		}
		if err := e.Agree(ctx, p.yes, again(os.Args[1:])); err != nil {
			return err
		}
		if e.planned {
			fmt.Fprintln(e.Err)
		}
	}
	r, err := a.Do(ctx)
	if err != nil {
		return err
	}
	if p.json {
		return e.JSON(r)
	}
	e.attached(r, a.HostName())
	return nil
}

// again gives the very command that was typed, with --yes, and without what secret
// may stand in an address.
func again(args []string) string {
	words := []string{"uncinate"}
	for _, w := range args {
		if a, err := address.Parse(w); err == nil && a.Secret != "" {
			w = a.Bare().String()
		}
		words = append(words, w)
	}
	return text.Command(append(words, "--yes")...)
}

func (e *Env) attached(r *job.Attached, host string) {
	if host == "" {
		host = "the address"
	}
	head := "Attached."
	if !r.Changed {
		head = "Already attached; nothing was changed."
	}
	e.Say("%s", e.bold(head))
	up, went := "", "went up"
	if !r.Changed {
		went = "holds"
	}
	checked := host + " holds the same commit"
	if r.Commit == "" {
		checked = host + " has it, and it is empty"
		up = "nothing yet: the folder is empty"
	} else {
		up = fmt.Sprintf("%s, %s; branch %s at %.10s", text.Count(r.Files, "file"), text.Size(r.Bytes), text.Visible(r.Branch), r.Commit)
	}
	if r.Visibility != "" {
		checked += ", " + map[bool]string{true: "visible to members", false: r.Visibility}[r.Visibility == "members"]
		if r.Commit != "" {
			checked += ", default branch " + r.Branch
		}
	}
	var stays []string
	total := 0
	for _, s := range r.Stays {
		total += s.Files
		name := s.Pattern
		if name != "" {
			name += " (" + s.Why + ")"
		} else {
			name = s.Why
		}
		stays = append(stays, fmt.Sprintf("%s %s", text.Number(s.Files), name))
	}
	stay := strings.Join(stays, ", ")
	if len(r.Stays) > 1 {
		stay = text.Count(total, "file") + ": " + stay
	} else if len(r.Stays) == 1 {
		stay = text.Count(total, "file") + ": " + strings.TrimPrefix(stay, text.Number(total)+" ")
	}
	nested := ""
	if len(r.Nested) > 0 {
		nested = strings.Join(r.Nested, ", ") + " (a repository of its own)"
	}
	others := ""
	if len(r.OtherBranches) > 0 {
		others = text.Count(len(r.OtherBranches), "branch") + ": " + strings.Join(r.OtherBranches, ", ") + " (--branches sends them)"
	}
	e.Facts([2]string{"page", r.Page}, [2]string{"clone", r.Address}, [2]string{went, up}, [2]string{"stayed", stay},
		[2]string{"stayed", nested}, [2]string{"stayed", others}, [2]string{"checked", checked})
	if r.Commit == "" {
		e.Aside("Next: write something, git add and commit it, then: uncinate sync")
	}
}

func cloneCommand() *Command {
	return &Command{Name: "clone", Args: "REPOSITORY [FOLDER]", Least: 1, Most: 2,
		Short: "bring a hosted repository onto this machine",
		Long: `REPOSITORY is a name on the account's host, OWNER/NAME, or any address of it. FOLDER
is made if it is missing and refused if it is not empty. Sign-in, name and e-mail are
set in the copy, so that plain git push and pull work in it.`,
		Examples: []string{"uncinate clone gauge-firmware", "uncinate clone saltmarsh/harbour-board board"},
		Options: func(o *flag.FlagSet) Run {
			var c job.CloneOptions
			preview := o.Bool("preview", false, "show the plan and stop")
			asJSON := o.Bool("json", false, "one JSON document on standard output")
			o.StringVar(&c.Account, "account", "", "which `account` to use")
			return func(ctx context.Context, e *Env, args []string) error {
				if c.What = args[0]; len(args) > 1 {
					c.Folder = args[1]
				}
				d, err := e.Desk()
				if err != nil {
					return err
				}
				job, err := d.Clone(ctx, c)
				if err != nil {
					return err
				}
				e.items = job.Items()
				for _, n := range job.Notes() {
					e.Aside("Note: %s", n)
				}
				if *preview {
					e.Plan(e.Out, job.Items(), "")
					return nil
				}
				r, err := job.Do(ctx)
				if err != nil {
					return err
				}
				if *asJSON {
					return e.JSON(r)
				}
				e.Say("%s", e.bold("Cloned."))
				holds := fmt.Sprintf("%s, %s; branch %s at %.10s", text.Count(r.Files, "file"), text.Size(r.Bytes), text.Visible(r.Branch), r.Commit)
				if r.Commit == "" {
					holds = "nothing yet: no commit was sent to it so far"
				}
				account := r.Account
				if account == "" {
					account = "none; git signs in with what it has"
				}
				e.Facts([2]string{"folder", r.Folder}, [2]string{"from", r.Address}, [2]string{"account", account}, [2]string{"holds", holds})
				return nil
			}
		}}
}

func syncCommand() *Command {
	return &Command{Name: "sync", Args: "[FOLDER]", Most: 1,
		Short: "bring in what is new on the host and send out what is new here",
		Long: `Brings in first, then sends out; both only where one side alone has new commits.
Anything harder (both sides have new commits, or a file that is not saved would be
written over) stops it with everything as it was, and says what it met.`,
		Examples: []string{"uncinate sync", "uncinate sync --preview"},
		Options: func(o *flag.FlagSet) Run {
			preview := o.Bool("preview", false, "show the plan and stop")
			asJSON := o.Bool("json", false, "one JSON document on standard output")
			return func(ctx context.Context, e *Env, args []string) error {
				d, err := e.Desk()
				if err != nil {
					return err
				}
				s, err := d.Sync(ctx, folderOf(args))
				if err != nil {
					return err
				}
				e.items, e.planned = s.Items(), true // the result says the same
				if *preview {
					if len(s.Items()) == 0 {
						e.Say("Nothing to do: here and there are in step.")
					}
					e.Plan(e.Out, s.Items(), "")
					return nil
				}
				r, err := s.Do(ctx)
				if err != nil {
					return err
				}
				if *asJSON {
					return e.JSON(r)
				}
				switch {
				case r.Commit == "":
					e.Say("Nothing to send yet: there is no commit here, and none there.")
				case r.BroughtIn == 0 && r.SentOut == 0:
					e.Say("In step: nothing new, here or there. Branch %s at %.10s.", text.Visible(r.Branch), r.Commit)
				default:
					moved := "Brought in " + text.Count(r.BroughtIn, "commit")
					if r.SentOut > 0 {
						moved = "Sent out " + text.Count(r.SentOut, "commit")
					}
					e.Say("In step. %s. Branch %s at %.10s.", moved, text.Visible(r.Branch), r.Commit)
				}
				if len(r.Changed) > 0 {
					e.Say("Not saved yet: %s.", changes(r.Changed))
				}
				return nil
			}
		}}
}

func changes(m map[string]int) string {
	var parts []string
	for _, k := range []string{"clashing", "changed", "deleted", "renamed", "new"} {
		if m[k] > 0 {
			parts = append(parts, fmt.Sprintf("%s %s", text.Count(m[k], "file"), k))
		}
	}
	return strings.Join(parts, ", ")
}

func statusCommand() *Command {
	return &Command{Name: "status", Args: "[FOLDER]", Most: 1,
		Short: "tell where the work stands: here, and against the host",
		Options: func(o *flag.FlagSet) Run {
			asJSON := o.Bool("json", false, "one JSON document on standard output")
			offline := o.Bool("offline", false, "do not ask the host; tell what git knows of it")
			return func(ctx context.Context, e *Env, args []string) error {
				d, err := e.Desk()
				if err != nil {
					return err
				}
				s, err := d.Status(ctx, folderOf(args), !*offline)
				if err != nil {
					return err
				}
				if *asJSON {
					return e.JSON(s)
				}
				e.standing(s)
				return nil
			}
		}}
}

func (e *Env) standing(s *job.Standing) {
	e.Say("%s on branch %s", e.bold(text.Visible(filepath.Base(s.Folder))), text.Visible(s.Branch))
	files := "all saved"
	if !s.Clean() {
		files = changes(s.Changed) + ", not saved yet"
	}
	host := ""
	next := ""
	switch {
	case s.Commit == "":
		host, next = "nothing sent yet: there is no commit here", "write something, git add and commit it, then: uncinate sync"
	case s.Unsent:
		host, next = "this branch was never sent", "uncinate sync"
	case s.Moved && s.Ahead > 0:
		host, next = fmt.Sprintf("new commits there, and %s only here", text.Count(s.Ahead, "commit")), "uncinate sync"
	case s.Moved:
		host, next = "new commits there that are not here", "uncinate sync"
	case s.Ahead > 0 && s.Behind > 0:
		host, next = fmt.Sprintf("%s only here, %s only there", text.Count(s.Ahead, "commit"), text.Count(s.Behind, "commit")), "uncinate sync"
	case s.Ahead > 0:
		host, next = text.Count(s.Ahead, "commit")+" only here", "uncinate sync"
	case s.Behind > 0:
		host, next = text.Count(s.Behind, "commit")+" only there", "uncinate sync"
	default:
		host = "in step"
	}
	if !s.Asked && s.WhyNot != "" {
		host += ", as far as known; the host was not asked: " + s.WhyNot
	} else if !s.Asked {
		host += ", as far as known; the host was not asked"
	}
	account := s.Account
	if account == "" {
		account = "none; git signs in with what it has"
	}
	e.Facts([2]string{"files", files}, [2]string{"host", host}, [2]string{"address", s.Address}, [2]string{"account", account})
	if next != "" {
		e.Say("Next: %s", next)
	}
}

func visitCommand() *Command {
	return &Command{Name: "visit", Args: "[PART]", Most: 1,
		Short: "open the repository's page on the host, or a part of it",
		Long:  "PART is settings, people or history, where the host's description names such a page. Without a display, or with --print, the address is printed.",
		Options: func(o *flag.FlagSet) Run {
			printed := o.Bool("print", false, "print the address")
			folder := o.String("folder", ".", "the project's `folder`")
			return func(ctx context.Context, e *Env, args []string) error {
				part := ""
				if len(args) > 0 {
					part = args[0]
				}
				d, err := e.Desk()
				if err != nil {
					return err
				}
				page, err := d.Visit(ctx, *folder, part)
				if err != nil {
					return err
				}
				if opener := opener(); !*printed && opener != nil {
					if err := exec.CommandContext(ctx, opener[0], append(opener[1:], page)...).Run(); err == nil {
						e.Aside("Opened %s", page)
						return nil
					}
				}
				e.Say("%s", page)
				return nil
			}
		}}
}

// opener is the program that opens a page on this desktop; nil without a display.
func opener() []string {
	switch runtime.GOOS {
	case "darwin":
		return []string{"open"}
	case "windows":
		return []string{"rundll32", "url.dll,FileProtocolHandler"}
	}
	if os.Getenv("DISPLAY") == "" && os.Getenv("WAYLAND_DISPLAY") == "" {
		return nil
	}
	if path, err := exec.LookPath("xdg-open"); err == nil {
		return []string{path}
	}
	return nil
}

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
			return func(_ context.Context, e *Env, args []string) error {
				e.home = *home
				d, err := e.Desk()
				if err != nil {
					return err
				}
				if *account == "" || *target == "" {
					return fault.New(fault.Usage, "both --account and --for are needed; git is told them by attach and clone")
				}
				return d.Credential(args[0], *account, *target, e.reader, e.Out)
			}
		}}
}

func helpCommand() *Command {
	return &Command{Name: "help", Args: "[COMMAND]", Most: -1, Short: "tell what there is, or one command in full",
		Options: func(o *flag.FlagSet) Run {
			reference := o.Bool("reference", false, "print the reference page of all commands")
			return func(_ context.Context, e *Env, args []string) error {
				if *reference {
					Reference(e.Out, e.commands)
					return nil
				}
				if len(args) == 0 {
					e.overview(e.Out)
					return nil
				}
				c, path, rest := find(e.commands, args)
				if c == nil || len(rest) > 0 {
					return unknown("there is no command "+text.Quote(strings.Join(args, " ")), args[0], names(e.commands), "uncinate help")
				}
				e.help(e.Out, c, path)
				return nil
			}
		}}
}

func names(all []*Command) []string {
	var out []string
	for _, c := range all {
		if !c.Hidden {
			out = append(out, c.Name)
		}
	}
	slices.Sort(out)
	return out
}

func versionCommand() *Command {
	return &Command{Name: "version", Short: "tell the program's version",
		Options: func(*flag.FlagSet) Run {
			return func(_ context.Context, e *Env, _ []string) error {
				e.Say("uncinate %s", Version)
				return nil
			}
		}}
}
