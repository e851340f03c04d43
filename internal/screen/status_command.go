package screen

import (
	"context"
	"flag"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/many"
)

func statusCommand() *Command {
	return &Command{Name: "status", Args: "[FOLDER]", Most: 1,
		Short: "tell where the work stands, of one project or of all",
		Long: `For one project: its branch, its files, what is only here or only there, and what is
nowhere but on this machine. With --all, a board of all hooked projects, the one that needs
you most at the top. With --find, copies that lie below a folder already are taken in, and
folders that were moved are found again.`,
		Examples: []string{"uncinate status", "uncinate status --all", "uncinate status --find ~/work"},
		Takes:    []string{"project"}, Gives: project.Standing{}, Also: map[string]any{"--all": []many.Row{}, "--find": []many.Found{}},
		Options: func(o *flag.FlagSet) Run {
			offline := o.Bool("offline", false, "do not ask the host; tell what git knows of it")
			all := o.Bool("all", false, "all projects of this machine")
			find := o.String("find", "", "look below this `folder` for copies, and take them in")
			forget := o.Bool("forget-lost", false, "take out of the list the projects whose folders are not there any more")
			var p plans
			p.add(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *forget {
					lost, err := many.ForgetLost(d)
					if err != nil {
						return err
					}
					for _, p := range lost {
						e.Aside("Forgotten: %s, a copy of %s.", text.Visible(p.Folder), text.Visible(p.Address))
					}
					*all = *all || len(args) == 0
				}
				switch {
				case *find != "":
					return e.find(ctx, d, *find, p)
				case *all && len(args) > 0:
					return fault.New(fault.Usage, "one project, or --all of them").Try("", "uncinate status --all")
				case *all:
					rows, err := many.Overview(ctx, d, !*offline)
					if err != nil {
						return err
					}
					return e.Give(rows, func() { e.board(rows, time.Now()) })
				}
				s, err := many.Status(ctx, d, folderOf(args), !*offline)
				if err != nil {
					return err
				}
				return e.Give(s, func() { e.standing(s) })
			})
		}}
}

// board shows one line for each project.
func (e *Env) board(rows []many.Row, now time.Time) {
	in := 0
	cells := [][]string{{"", "project", "branch", "what", "asked"}}
	for _, r := range rows {
		if r.State == "in step" {
			in++
		}
		age := "never"
		if !r.Contact.IsZero() {
			age = board.Age(now.Sub(r.Contact))
		}
		if r.State == "lost" {
			age = ""
		}
		says := r.Says
		if r.Rescues > 0 {
			says = strings.TrimPrefix(says+"; "+text.Count(r.Rescues, "rescue copy"), "; ")
		}
		cells = append(cells, []string{r.State, r.Name, r.Branch, says, age})
	}
	e.lines(cells, 3)
	e.Say("")
	e.Say("%s, %s in step.", text.Count(len(rows), "project"), text.Number(in))
	const sync = "Bring all into step:   uncinate sync --all"
	next := map[string][]string{"lost": {"Find moved folders:    uncinate status --find FOLDER", "Or forget lost ones:   uncinate status --forget-lost"}, "elsewhere": {"Follow one there:      uncinate sync FOLDER"}, "both": {sync}, "behind": {sync}, "unsent": {sync},
		"changed": {"See what changed:      uncinate changes --folder FOLDER"}}
	told := map[string]bool{}
	for _, r := range rows {
		for _, words := range next[r.State] {
			if !told[words] {
				told[words] = true
				e.Say("%s", words)
			}
		}
	}
}

// lines shows rows as one line each: where the stream has a width, one column gives way,
// and after it the second.
func (e *Env) lines(cells [][]string, gives int) {
	widths := make([]int, len(cells[0]))
	for _, row := range cells {
		for i, c := range row {
			row[i] = e.Out.visible(c)
			widths[i] = max(widths[i], runewidth.StringWidth(row[i]))
		}
	}
	if e.Out.width > 0 {
		for _, shrinks := range []struct{ column, least int }{{gives, 20}, {1, 12}, {2, 6}, {gives, 8}} {
			over := 2*(len(widths)-1) - e.Out.width
			for _, w := range widths {
				over += w
			}
			if over > 0 {
				widths[shrinks.column] = min(widths[shrinks.column], max(shrinks.least, widths[shrinks.column]-over))
			}
		}
	}
	for i, row := range cells {
		var b strings.Builder
		for c, cell := range row {
			b.WriteString(runewidth.FillRight(runewidth.Truncate(cell, widths[c], "..."), widths[c]+2))
		}
		line := strings.TrimRight(b.String(), " ")
		if i == 0 {
			line = e.Out.strong(line)
		}
		e.Say("%s", line)
	}
}

func (e *Env) find(ctx context.Context, d *desk.Desk, folder string, p plans) error {
	f, err := many.Find(ctx, d, folder)
	if err != nil {
		return err
	}
	known := len(f.Found) - len(f.Items())
	if len(f.Items()) == 0 {
		return e.Give(f.Found, func() {
			e.Say("Nothing new: %s there, all known already.", text.Count(known, "copy"))
		})
	}
	var notes []string
	if known > 0 {
		notes = append(notes, text.Count(known, "copy")+" there known already.")
	}
	if done, err := e.carryOut(ctx, p, "To take in what lies there:", f, notes); err != nil || !done {
		return err
	}
	return e.Give(f.Found, func() { e.Say("Taken in: %s. See them all: uncinate status --all", text.Count(len(f.Items()), "copy")) })
}
