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
)

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
