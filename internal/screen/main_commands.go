package screen

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"strings"

	"uncinate/internal/core/text"
	"uncinate/internal/job"
)

// Commands are all commands but those of the practice hosts.
func Commands() []*Command {
	return []*Command{readyCommand(), surveyCommand(), ignoreCommand(), attachCommand(), detachCommand(), cloneCommand(), syncCommand(), statusCommand(), visitCommand(),
		hostedCommand(), accessCommand(), hostCommand(), accountCommand(), tokenCommand(), keyCommand(), vaultCommand(), completionCommand(), credentialCommand(), helpCommand(), versionCommand()}
}

// plans are the options of every command that shows a plan first.
type plans struct{ preview, yes bool }

func (p *plans) add(o *flag.FlagSet) {
	o.BoolVar(&p.preview, "preview", false, "show the plan and stop")
	o.BoolVar(&p.yes, "yes", false, "go ahead without asking")
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

func cloneCommand() *Command {
	return &Command{Name: "clone", Args: "REPOSITORY [FOLDER]", Least: 1, Most: 2,
		Short: "bring a hosted repository onto this machine",
		Long: `REPOSITORY is a name on the account's host, OWNER/NAME, or any address of it. FOLDER
is made if it is missing and refused if it is not empty. Sign-in, name and e-mail are
set in the copy, so that plain git push and pull work in it.`,
		Examples: []string{"uncinate clone gauge-firmware", "uncinate clone saltmarsh/harbour-board board"},
		Takes:    []string{"repository", "folder"}, Gives: job.Cloned{},
		Options: func(o *flag.FlagSet) Run {
			var c job.CloneOptions
			preview := o.Bool("preview", false, "show the plan and stop")
			o.StringVar(&c.Account, "account", "", "which `account` to use")
			o.StringVar(&c.Over, "over", "", "the `transport`: https or ssh; the account's unless said")
			return func(ctx context.Context, e *Env, args []string) error {
				if c.What = args[0]; len(args) > 1 {
					c.Folder = args[1]
				}
				d, err := e.Desk()
				if err != nil {
					return err
				}
				cloning, err := d.Clone(ctx, c)
				if again, vouch := e.vouch(ctx, d, err); again {
					cloning, err = d.Clone(ctx, c)
				} else {
					err = vouch
				}
				if err != nil {
					return err
				}
				p := plans{preview: *preview, yes: true}
				if goes, err := e.propose(ctx, p, "To bring "+text.Visible(c.What)+" onto this machine:", cloning.Items(), "", cloning.Notes()); err != nil || !goes {
					return err
				}
				r, err := cloning.Do(ctx)
				if err != nil {
					return err
				}
				if e.json {
					return e.JSON(r)
				}
				e.Say("%s", e.Out.strong("Cloned."))
				holds := fmt.Sprintf("%s, %s; branch %s at %.10s", text.Count(r.Files, "file"), text.Size(r.Bytes), text.Visible(r.Branch), r.Commit)
				if r.Commit == "" {
					holds = "nothing yet: no commit was sent to it so far"
				}
				account := r.Account
				if account == "" {
					account = "none; git signs in with what it has"
				}
				e.Facts([2]string{"folder", r.Folder}, [2]string{"from", r.Address}, [2]string{"account", account}, [2]string{"holds", holds})
				if r.HandOver != nil {
					e.handedOver("What git does not bring:", r.HandOver)
				}
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
		Takes:    []string{"project"}, Gives: job.Synced{},
		Options: func(o *flag.FlagSet) Run {
			preview := o.Bool("preview", false, "show the plan and stop")
			return withDesk(func(ctx context.Context, e *Env, d *job.Desk, args []string) error {
				s, err := d.Sync(ctx, folderOf(args))
				if err != nil {
					return err
				}
				e.items, e.planned = s.Items(), true // the result says the same
				if *preview && len(s.Items()) == 0 && !e.json {
					e.Say("Nothing to do: here and there are in step.")
					return nil
				}
				if *preview {
					_, err := e.propose(ctx, plans{preview: true}, "To bring it into step:", s.Items(), "", s.Notes)
					return err
				}
				r, err := s.Do(ctx)
				if err != nil {
					return err
				}
				if e.json {
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
				for _, c := range r.Copies {
					e.Say("The copy at %s holds it too.", text.Visible(c))
				}
				if len(r.Changed) > 0 {
					e.Say("Not saved yet: %s.", changes(r.Changed))
				}
				return nil
			})
		}}
}

func changes(m map[string]int) string {
	var parts []string
	for _, k := range []string{"clashing", "changed", "deleted", "renamed", "new"} {
		switch {
		case m[k] == 0:
		case len(parts) == 0:
			parts = append(parts, text.Count(m[k], "file")+" "+k)
		default:
			parts = append(parts, text.Number(m[k])+" "+k)
		}
	}
	return strings.Join(parts, ", ")
}

func statusCommand() *Command {
	return &Command{Name: "status", Args: "[FOLDER]", Most: 1,
		Short: "tell where the work stands: here, and against the host",
		Takes: []string{"project"}, Gives: job.Standing{},
		Options: func(o *flag.FlagSet) Run {
			offline := o.Bool("offline", false, "do not ask the host; tell what git knows of it")
			return withDesk(func(ctx context.Context, e *Env, d *job.Desk, args []string) error {
				s, err := d.Status(ctx, folderOf(args), !*offline)
				if err != nil {
					return err
				}
				return e.Give(s, func() { e.standing(s) })
			})
		}}
}

func (e *Env) standing(s *job.Standing) {
	e.Say("%s on branch %s", e.Out.strong(text.Visible(filepath.Base(s.Folder))), text.Visible(s.Branch))
	files := "all saved"
	if !s.Clean() {
		files = changes(s.Changed) + "; not saved yet"
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
