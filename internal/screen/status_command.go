package screen

import (
	"context"
	"flag"
	"slices"
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
					return fault.New(fault.Usage, "--all takes no folder").Try("one project", text.Command("uncinate", "status", args[0])).Try("all of them", "uncinate status --all")
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
		age := "never"
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
	sum := text.Count(len(rows), "project") + ", " + text.Number(in) + " in step"
	if in == len(rows) {
		sum = text.Count(len(rows), "project") + ", " + text.Either(in == 1, "in step", "all in step")
	}
	e.Say("%s.", sum)
	e.nextFor(rows)
}

// nextFor says what can be done for the projects on the board.
func (e *Env) nextFor(rows []many.Row) {
	const sync = "To sync them all:       uncinate sync --all"
	next := map[string][]string{"missing": {"To find moved folders:  uncinate project find FOLDER", "To forget missing ones: uncinate project forget --missing"},
		"elsewhere": {"To follow a moved one:  uncinate sync FOLDER"}, "both": {sync}, "behind": {sync}, "unsent": {sync},
		"changed": {"To see what changed:    uncinate changes --folder FOLDER"}}
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

// give is a column that gives way where a line is too long, and how narrow it may become.
type give struct{ column, least int }

// lines shows rows as one line each: where the stream has a width, columns give way in the order that
// is given, and what is too long is shortened at a word. A row may have one cell more than the head:
// it follows the others where it fits whole.
func (e *Env) lines(cells [][]string, gives ...give) {
	columns := len(cells[0])
	tails := make([]string, len(cells))
	for i, row := range cells {
		if len(row) > columns {
			tails[i], cells[i] = e.Out.visible(row[columns]), row[:columns]
		}
	}
	cells, gives = without(cells, gives)
	widths := make([]int, len(cells[0]))
	for _, row := range cells {
		for i, c := range row {
			row[i] = e.Out.visible(c)
			widths[i] = max(widths[i], runewidth.StringWidth(row[i]))
		}
	}
	for _, g := range gives {
		over := 2*(len(widths)-1) - e.Out.width
		for _, w := range widths {
			over += w
		}
		if over > 0 && e.Out.width > 0 {
			widths[g.column] = min(widths[g.column], max(g.least, widths[g.column]-over))
		}
	}
	right := numeric(cells)
	for i, row := range cells {
		var b strings.Builder
		for c, cell := range row {
			cell = shortened(cell, widths[c])
			if right[c] {
				cell = runewidth.FillLeft(cell, widths[c])
			}
			b.WriteString(runewidth.FillRight(cell, widths[c]+2))
		}
		line := strings.TrimRight(b.String(), " ")
		if t := tails[i]; t != "" && (e.Out.width == 0 || runewidth.StringWidth(line)+2+runewidth.StringWidth(t) <= e.Out.width) {
			line += "  " + t
		}
		if i == 0 {
			line = e.Out.strong(line)
		}
		e.Say("%s", line)
	}
}

// without leaves out the columns that are empty in every row but the first, and what was said of them.
func without(cells [][]string, gives []give) ([][]string, []give) {
	var kept []give
	for _, g := range gives {
		at := g.column
		for c := range g.column + 1 {
			empty := !slices.ContainsFunc(cells[1:], func(row []string) bool { return row[c] != "" })
			if empty && c == g.column {
				at = -1
			} else if empty {
				at--
			}
		}
		if at >= 0 {
			kept = append(kept, give{at, g.least})
		}
	}
	return filled(cells), kept
}

// shortened cuts a text to a width, at a blank where there is one near.
func shortened(s string, width int) string {
	if runewidth.StringWidth(s) <= width {
		return s
	}
	cut := runewidth.Truncate(s, width-3, "")
	if at := strings.LastIndexByte(cut, ' '); at > len(cut)/2 {
		cut = strings.TrimRight(cut[:at], " ,;:")
	}
	return cut + "..."
}
