package screen

import (
	"context"
	"flag"
	"os"
	"os/exec"
	"runtime"
	"strings"

	"uncinate/internal/desk/project"
)

// Visited is a page's address as a JSON document.
type Visited struct {
	Address string `json:"address"`
	Opened  bool   `json:"opened"`
}

func visitCommand() *Command {
	return &Command{Name: "visit", Args: "[PART [NAME]]", Most: 2,
		Short: "open the repository's page on the host, or a part of it",
		Takes: []string{"part"}, Gives: Visited{},
		Long: `PART is settings, people, history, "branch NAME" or "file PATH", where the host's description names such
a page. Without a display, or with --print, the address is printed.`,
		Examples: []string{"uncinate visit", "uncinate visit people", "uncinate visit file src/level.c"},
		Options: func(o *flag.FlagSet) Run {
			printed := o.Bool("print", false, "print the address")
			in := inFolder(o)
			return func(ctx context.Context, e *Env, args []string) error {
				part, name := "", ""
				if len(args) > 0 {
					part = args[0]
				}
				if len(args) > 1 {
					name = args[1]
				}
				d, err := e.Desk()
				if err != nil {
					return err
				}
				page, err := project.Visit(ctx, d, in.in(), part, name)
				if err != nil {
					return err
				}
				opened := false
				if opener := opener(); !*printed && opener != nil && (strings.HasPrefix(page, "https://") || strings.HasPrefix(page, "http://")) {
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
