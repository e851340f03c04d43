package screen

import (
	"context"
	"flag"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/many"
)

func statusCommand() *Command {
	return &Command{Name: "status", First: []string{"all", "full", "offline"}, Args: "[FOLDER]", Most: 1,
		Short: "show the state of one project, or of all",
		Long: `For one project: its branch, its files, what is only here or only on the host, and what is
nowhere but on this machine. With --all, a board of all attached projects, the one that needs
you most at the top.`,
		Examples: []string{"uncinate status", "uncinate status --all"}, Apart: [][]string{{"all", "folder"}}, Needs: map[string][]string{"full": {"all"}},
		Takes: []string{"project"}, Gives: project.Standing{}, Also: map[string]any{"--all": []many.Row{}},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			offline := o.Bool("offline", false, "do not ask the host; use what git knows of it")
			all := o.Bool("all", false, "all projects of this machine")
			full := o.Bool("full", false, "with --all: show those in step too")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *all && len(args) > 0 {
					return fault.New(fault.Usage, "--all takes no folder").TryWithout("one project", text.Command("uncinate", "status", args[0]), "all").TryWithout("all of them", "uncinate status --all", "folder")
				}
				if *all {
					rows, err := many.Overview(ctx, d, !*offline)
					if err != nil {
						return err
					}
					return e.Give(rows, func() { e.board(rows, time.Now(), *full) })
				}
				folder, err := in.of(args...)
				if err != nil {
					return err
				}
				s, err := many.Status(ctx, d, folder, !*offline)
				if err != nil {
					return err
				}
				return e.Give(s, func() { e.standing(s) })
			})
		}}
}

// mostLines is how many lines of a list are shown unless more are asked for: a window's.
const mostLines = 20

// board shows one line for each project that needs somebody, and counts the rest.
func (e *Env) board(rows []many.Row, now time.Time, full bool) {
	in, cells := 0, [][]string{{"state", "project", "branch", "asked", "what"}}
	left := 0
	for _, r := range rows {
		calm := r.State == "in step" && r.Says == "" && r.Rescues == 0
		if r.State == "in step" {
			in++
		}
		if !full && (calm || len(cells) > mostLines) {
			if !calm {
				left++
			}
			continue
		}
		age := "" // an attach or a clone asked, and did not note it
		if !r.Contact.IsZero() {
			age = board.Age(now.Sub(r.Contact))
		}
		if r.State == "missing" {
			age = ""
		}
		says := r.Says
		if r.Rescues > 0 {
			says = strings.TrimPrefix(says+"; "+text.Count(r.Rescues, "rescue copy"), "; ")
		}
		cells = append(cells, []string{r.State, r.Name, r.Branch, age, says})
	}
	if len(cells) > 1 {
		e.lines(cells, give{4, 30}, give{1, 12}, give{2, 6}, give{4, 12})
		e.Say("")
	}
	if left > 0 {
		e.Say("%s more that %s somebody: uncinate status --all --full", text.Number(left), text.Either(left == 1, "needs", "need"))
	}
	sum := text.Count(len(rows), "project") + ", " + text.Either(in == 0, text.Either(len(rows) == 1, "not", "none"), text.Number(in)) + " in step"
	if in == len(rows) {
		sum = text.Count(len(rows), "project") + ", " + text.Either(in == 1, "in step", "all in step")
	}
	e.Say("%s.", sum)
	e.nextFor(rows)
}

// nextFor says what can be done for the projects on the board.
func (e *Env) nextFor(rows []many.Row) {
	const sync = "To sync them all:       uncinate sync --all"
	const other = "To switch branches:     uncinate branch switch BRANCH --folder FOLDER"
	next := map[string][]string{"missing": {"To find moved folders:  uncinate project find FOLDER", "To forget missing ones: uncinate project forget --missing"},
		"elsewhere": {"To follow a moved one:  uncinate sync FOLDER"}, "clash": {sync, "To decide a clash:      uncinate settle --folder FOLDER"}, "overlap": {sync}, "both": {sync}, "behind": {sync}, "unsent": {sync},
		"gone": {other}, "others": {other},
		"changed": {"To see what changed:    uncinate changes --folder FOLDER"}}
	told := map[string]bool{}
	for _, r := range rows {
		state := r.State
		switch {
		case state == "behind" && r.Behind == 0 && !r.Moved:
			state = "others"
		case state == "unsent" && len(r.Remedies) == 0: // it never sends
			state = ""
		}
		lines := next[state]
		if slices.Contains([]string{"no answer", "refused", "not asked"}, state) && len(r.Remedies) > 0 {
			lines = []string{"Next:                   " + text.Visible(r.Remedies[0])}
		}
		for _, words := range lines {
			if !told[words] {
				told[words] = true
				e.Say("%s", words)
			}
		}
	}
}
