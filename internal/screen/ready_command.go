package screen

import (
	"context"
	"flag"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/checks"
)

// Readiness is what ready saw, as a JSON document.
type Readiness struct {
	Ready bool        `json:"ready" says:"no line is bad"`
	Lines []desk.Line `json:"lines"`
}

func readyCommand() *Command {
	return &Command{Name: "ready", Args: "[FOLDER]", Most: 1,
		Short: "check whether you can work: this machine, your accounts, a project",
		Long: `Looks at git, the SSH client and agent, the program's own folders and the vault; asks
each account's host whether the token is good, what it may do, when it expires, and what
time it is there; and, with FOLDER, checks all that could stop attach in it. Each line
is good, doubtful or bad, with what to do. Nothing is changed. The exit code is 1 if a
line is bad.`,
		Examples: []string{"uncinate ready", "uncinate ready gauge-firmware"},
		Takes:    []string{"folder"}, Gives: Readiness{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				folder, err := in.given(args)
				if err != nil {
					return err
				}
				lines := checks.Ready(ctx, d, folder)
				if err := ctx.Err(); err != nil {
					return err
				}
				bad := 0
				for _, l := range lines {
					if l.State == desk.Bad {
						bad++
					}
				}
				if err := e.Give(Readiness{bad == 0, lines}, func() { e.ready(lines) }); err != nil {
					return err
				}
				if bad > 0 {
					return fault.New(fault.Failed, "not ready: %s bad", strings.Replace(text.Count(bad, "line")+" is", "lines is", "lines are", 1))
				}
				return nil
			})
		}}
}

// ready shows the lines, grouped by what they are about, the remedy below each.
func (e *Env) ready(lines []desk.Line) {
	about := ""
	widest := 0
	for _, l := range lines {
		widest = max(widest, len(l.What))
	}
	for _, l := range lines {
		if l.About != about {
			about = l.About
			e.Say("%s", e.Out.strong(text.Visible(about)))
		}
		indent := 14 + widest
		e.Say("  %-8s  %-*s  %s", l.State, widest, l.What, e.Out.wrap(text.Visible(l.Says), indent))
		pad := strings.Repeat(" ", indent)
		for _, d := range l.Details {
			e.Say("%s%s", pad, e.Out.wrap(text.Visible(d), indent))
		}
		for _, r := range l.Remedies {
			e.Say("%s    %s", pad, text.Visible(r))
		}
	}
}
