package screen

import (
	"context"
	"flag"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/credentials"
)

// Visited is a page's address as a JSON document.
type Visited struct {
	Address string `json:"address"`
	Opened  bool   `json:"opened"`
}

func visitCommand() *Command {
	return &Command{Name: "visit", Args: "[PART]", Most: 1,
		Short: "open the repository's page on the host, or a part of it",
		Takes: []string{"part"}, Gives: Visited{},
		Long: "PART is settings, people or history, where the host's description names such a page. Without a display, or with --print, the address is printed.",
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
				page, err := project.Visit(ctx, d, *folder, part)
				if err != nil {
					return err
				}
				opened := false
				if opener := opener(); !*printed && opener != nil {
					opened = exec.CommandContext(ctx, opener[0], append(opener[1:], page)...).Run() == nil
				}
				return e.Give(Visited{page, opened}, func() {
					if opened {
						e.Aside("Opened %s", page)
					} else {
						e.Say("%s", page)
					}
				})
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
			return func(ctx context.Context, e *Env, args []string) error {
				e.home = *home
				d, err := e.Desk()
				if err != nil {
					return err
				}
				if *account == "" || *target == "" {
					return fault.New(fault.Usage, "both --account and --for are needed; git is told them by attach and clone")
				}
				return credentials.Credential(ctx, d, args[0], *account, *target, e.reader, e.answers)
			}
		}}
}

func helpCommand() *Command {
	return &Command{Name: "help", Args: "[COMMAND]", Most: -1, Short: "tell what there is, or one command in full",
		Takes: []string{"command"}, Gives: Helped{},
		Options: func(o *flag.FlagSet) Run {
			reference := o.Bool("reference", false, "print the reference page of all commands")
			schema := o.Bool("schema", false, "print the JSON Schema of all that --json prints")
			man := o.String("man", "", "write the manual pages, one for each command, into this `folder`")
			return func(_ context.Context, e *Env, args []string) error {
				switch {
				case *reference:
					Reference(e.Out, e.commands)
					return nil
				case *schema:
					return e.JSON(Schema(e.commands))
				case *man != "":
					return e.manuals(*man)
				case e.json && len(args) == 0:
					return e.JSON(Helped{Commands: helped(e.commands)})
				case len(args) == 0:
					e.overview(e.Out)
					return nil
				}
				c, path, rest := find(e.commands, args)
				if c == nil || len(rest) > 0 {
					return unknown("there is no command "+text.Quote(strings.Join(args, " ")), args[0], names(e.commands), "uncinate help")
				}
				return e.Give(Helped{Commands: helped([]*Command{c})}, func() { e.help(e.Out, c, path) })
			}
		}}
}

// Helped is what there is, as a JSON document.
type Helped struct {
	Commands []HelpedCommand `json:"commands"`
}

// HelpedCommand is one command of it.
type HelpedCommand struct {
	Name      string          `json:"name"`
	Arguments string          `json:"arguments,omitempty"`
	Does      string          `json:"does"`
	Options   []HelpedOption  `json:"options,omitempty"`
	Commands  []HelpedCommand `json:"commands,omitempty"`
}

// HelpedOption is one option of a command.
type HelpedOption struct {
	Name  string `json:"name"`
	Value string `json:"value,omitempty"`
	Does  string `json:"does"`
}

func helped(all []*Command) []HelpedCommand {
	out := []HelpedCommand{}
	for _, c := range all {
		if c.Hidden {
			continue
		}
		h := HelpedCommand{Name: c.Name, Arguments: c.Args, Does: c.Short}
		if c.Options != nil {
			eachOption(c, func(name, value, use string) { h.Options = append(h.Options, HelpedOption{name, value, use}) })
		}
		if len(c.Subs) > 0 {
			h.Commands = helped(c.Subs)
		}
		out = append(out, h)
	}
	return out
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

// Versioned is the program's version as a JSON document.
type Versioned struct {
	Version string `json:"version"`
}

func versionCommand() *Command {
	return &Command{Name: "version", Short: "tell the program's version", Gives: Versioned{},
		Options: func(*flag.FlagSet) Run {
			return func(_ context.Context, e *Env, _ []string) error {
				return e.Give(Versioned{Version}, func() { e.Say("uncinate %s", Version) })
			}
		}}
}
