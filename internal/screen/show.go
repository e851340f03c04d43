package screen

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"

	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
)

// Say prints a line of the result.
func (e *Env) Say(format string, args ...any) {
	if _, err := fmt.Fprintf(e.Out, format+"\n", args...); err != nil && e.Gone != nil {
		e.Gone() // whoever read the output is gone, so the work ends as by Ctrl-C
	}
}

// Aside prints a line that is no result; not with --quiet.
func (e *Env) Aside(format string, args ...any) {
	if !e.quiet {
		e.clearBar()
		fmt.Fprintf(e.Err, format+"\n", args...)
	}
}

// Note implements job.Teller.
func (e *Env) Note(format string, args ...any) {
	e.Aside("%s", e.Err.wrap(fmt.Sprintf(format, args...), 0))
}

// Give prints the result: the document with --json, else what show says.
func (e *Env) Give(doc any, show func()) error {
	if e.json {
		return e.JSON(doc)
	}
	show()
	return nil
}

// JSON prints one document.
func (e *Env) JSON(v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	e.gave = true
	e.Say("%s", data)
	return nil
}

// Step implements job.Teller: a line for each step, under the number it has in the plan.
func (e *Env) Step(item plan.Item, already bool) {
	if e.planned && !e.verbose {
		return
	}
	state := "done"
	if already {
		state = "kept"
	}
	number := ""
	for i, x := range e.items {
		if x.ID == item.ID {
			number = fmt.Sprintf("%2d. ", i+1)
		}
	}
	e.Aside("%s%s  %s", number, state, e.Err.wrap(text.Visible(item.Sentence), len(number)+6))
}

// Progress implements job.Teller: one line, drawn over itself, on a terminal; a plain
// line now and then elsewhere, so that long work is not silent there.
func (e *Env) Progress(what string, done, total int64, more string) {
	now := time.Now()
	switch {
	case e.quiet:
		return
	case total <= 0:
		e.clearBar()
		e.began = time.Time{}
		return
	case e.began.IsZero():
		e.began, e.lastBar = now, time.Time{}
	}
	if more != "" {
		more = "  " + e.Err.visible(more)
	}
	if !e.Err.terminal {
		since := e.lastBar
		if since.IsZero() {
			since = e.began
		}
		if now.Sub(since) >= e.every {
			e.lastBar = now
			e.Aside("    %s: %d%%%s", what, done*100/total, more)
		}
		return
	}
	if e.bar && done < total && now.Sub(e.lastBar) < 60*time.Millisecond {
		return
	}
	e.lastBar = now
	cells := int64(24)
	if e.Err.width > 0 && e.Err.width < 60 {
		cells = 10
	}
	if room := e.Err.width - len("    ") - len(what) - len(" [] 100%") - int(cells) - 1; e.Err.width > 0 {
		more = text.Excerpt(more, max(room, 3))
	}
	full := int(done * cells / total)
	fmt.Fprintf(e.Err, "\r    %s [%s%s] %3d%%%s\x1b[K", what, strings.Repeat("=", full), strings.Repeat(" ", int(cells)-full), done*100/total, more)
	e.bar = true
}

func (e *Env) clearBar() {
	if e.bar {
		fmt.Fprint(e.Err, "\r\x1b[K")
		e.bar = false
	}
}

// strong underlines a heading on a stream that can show it.
func (s *stream) strong(words string) string {
	if !s.bold {
		return words
	}
	return "\x1b[1m" + words + "\x1b[0m"
}

// visible makes a string from outside fit for the stream, so that columns fit too.
func (s *stream) visible(words string) string {
	words = text.Visible(words)
	if s.ascii {
		words = ascii(words)
	}
	return words
}

// mostSteps is how many steps of a plan are shown.
const mostSteps = 40

// withoutWords leaves words out of what was typed.
func withoutWords(args []string, words ...string) []string {
	return slices.DeleteFunc(slices.Clone(args), func(w string) bool { return slices.Contains(words, w) })
}

// Plan shows numbered sentences, grouped by place.
func (e *Env) Plan(w *stream, items []plan.Item, host string) {
	e.items = items
	place := plan.Place("")
	for i, item := range items {
		if i == mostSteps && len(items) > mostSteps+1 {
			fmt.Fprintf(w, "  and %s more steps; to see all: %s --preview --json\n", text.Number(len(items)-i), typed(withoutWords(os.Args[1:], "--preview", "--yes")))
			break
		}
		if item.Place != place {
			place = item.Place
			name := map[plan.Place]string{plan.Here: "here", plan.Host: "on the host", plan.Vault: "in the vault"}[place]
			if place == plan.Host && host != "" {
				name = "on " + host
			}
			fmt.Fprintf(w, "  %s\n", w.strong(name))
		}
		fmt.Fprintf(w, "  %2d. %s\n", i+1, w.wrap(w.visible(item.Sentence), 6))
	}
}

// Planned is a plan as a JSON document.
type Planned struct {
	Plan  []plan.Item `json:"plan"`
	Notes []string    `json:"notes,omitempty"`
}

// here is a step on this machine, for --preview.
func here(sentence string) plan.Item { return plan.Item{Place: plan.Here, Sentence: sentence} }

// would shows what a command does that asks nothing, for --preview.
func (e *Env) would(ctx context.Context, host string, items ...plan.Item) error {
	if len(items) == 0 {
		return e.Give(Planned{Plan: []plan.Item{}}, func() { e.Say("Nothing would be changed.") })
	}
	for i := range items {
		items[i].ID = cmp.Or(items[i].ID, fmt.Sprint(i+1))
	}
	_, err := e.show(ctx, plans{preview: true}, "This would be done:", items, host, nil)
	return err
}

// carryOut shows a plan, asks and does it; false where it was only shown.
func (e *Env) carryOut(ctx context.Context, p plans, head string, w desk.Plan, notes []string) (bool, error) {
	if goes, err := e.propose(ctx, p, head, w, notes); err != nil || !goes {
		return false, err
	}
	return true, w.Do(ctx)
}

// propose shows a plan and asks whether to go ahead; false for a preview, after which
// nothing is done. A plan that is not gone about is given up.
func (e *Env) propose(ctx context.Context, p plans, head string, w desk.Planned, notes []string) (bool, error) {
	host := ""
	if x, acts := w.(interface{ HostName() string }); acts {
		host = x.HostName()
	}
	goes, err := e.show(ctx, p, head, w.Items(), host, notes)
	if err == nil && goes {
		return true, nil
	}
	if end := w.Release(); err == nil {
		err = end
	}
	return false, err
}

// show shows the items of a plan, and asks whether to go ahead.
func (e *Env) show(ctx context.Context, p plans, head string, items []plan.Item, host string, notes []string) (bool, error) {
	if p.preview && e.json {
		return false, e.JSON(Planned{append([]plan.Item{}, items...), notes})
	}
	out := e.Err
	if p.preview {
		out = e.Out
	}
	e.items = items
	if p.preview || !p.yes {
		fmt.Fprintln(out, out.strong(out.wrap(head, 2)))
		e.Plan(out, items, host)
		e.planned = true
	}
	for _, n := range notes {
		if p.preview || !e.quiet {
			fmt.Fprintf(out, "  Note: %s\n", out.wrap(out.visible(n), 8))
		}
	}
	if p.preview {
		return false, nil
	}
	err := e.Agree(ctx, p.yes, again(os.Args[1:]))
	if err == nil && e.planned {
		fmt.Fprintln(e.Err)
	}
	return err == nil, err
}

// wrap breaks a sentence at blanks to the stream's width, later lines indented. A
// stream without a width gets it as it is.
func (s *stream) wrap(words string, indent int) string {
	if s.width == 0 {
		return words
	}
	return wrapTo(words, indent, s.width)
}

func wrapTo(words string, indent, width int) string {
	var b strings.Builder
	column := indent
	for i, word := range strings.Fields(words) {
		w := runewidth.StringWidth(word)
		switch {
		case i == 0:
		case column+1+w > width:
			b.WriteString("\n" + strings.Repeat(" ", indent))
			column = indent
		default:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += w
	}
	return b.String()
}

// Facts prints names and values in two columns, empty values left out.
func (e *Env) Facts(pairs ...[2]string) {
	widest := 0
	for _, p := range pairs {
		if p[1] != "" {
			widest = max(widest, runewidth.StringWidth(p[0]))
		}
	}
	for _, p := range pairs {
		if p[1] != "" {
			e.Say("  %s  %s", runewidth.FillRight(p[0], widest), e.Out.wrap(e.Out.visible(p[1]), widest+4))
		}
	}
}

// Table prints rows in columns, under a head. On a stream with a width the widest
// columns become narrower, and their cells take several lines; what cannot fit so is shown as one
// record for each row.
func (e *Env) Table(head []string, rows [][]string) {
	all := filled(append([][]string{head}, rows...))
	widths := make([]int, len(all[0]))
	shown := [][]string{}
	for _, row := range all {
		cells := make([]string, len(row))
		for i, cell := range row {
			cells[i] = e.Out.visible(cell)
			widths[i] = max(widths[i], runewidth.StringWidth(cells[i]))
		}
		shown = append(shown, cells)
	}
	if !e.Out.squeeze(widths, shown) {
		e.records(shown)
		return
	}
	right := numeric(all)
	for i, row := range shown {
		lines := make([][]string, len(row))
		most := 1
		for c, cell := range row {
			lines[c] = broken(cell, widths[c])
			most = max(most, len(lines[c]))
		}
		for n := range most {
			var b strings.Builder
			for c := range row {
				part := ""
				if n < len(lines[c]) {
					part = lines[c][n]
				}
				if right[c] {
					part = runewidth.FillLeft(part, widths[c])
				}
				b.WriteString(runewidth.FillRight(part, widths[c]+2))
			}
			line := strings.TrimRight(b.String(), " ")
			if i == 0 {
				line = e.Out.strong(line)
			}
			e.Say("%s", line)
		}
	}
}

// List is a table of which at most so many rows are shown; the rest is counted, with the command
// that shows all.
func (e *Env) List(head []string, rows [][]string, most int) {
	if most <= 0 || len(rows) <= most {
		e.Table(head, rows)
		return
	}
	e.Table(head, rows[:most])
	e.more(len(rows), most)
}

// more says how many were not shown.
func (e *Env) more(all, shown int) {
	e.Say("")
	e.Say("%s more. To see all: %s", text.Number(all-shown), typed(withoutOption(os.Args[1:], "most"))+" --most "+fmt.Sprint(all))
}

// withoutOption leaves an option with a value out of what was typed.
func withoutOption(args []string, name string) []string {
	var out []string
	for i := 0; i < len(args); i++ {
		word := strings.TrimLeft(args[i], "-")
		if strings.HasPrefix(args[i], "-") && (word == name || strings.HasPrefix(word, name+"=")) {
			if word == name {
				i++
			}
			continue
		}
		out = append(out, args[i])
	}
	return out
}

// mostOption bounds a list.
func mostOption(o *flag.FlagSet) *int { return o.Int("most", mostLines, "at most this `many`") }

// filled leaves out the columns that are empty in every row but the first.
func filled(cells [][]string) [][]string {
	if len(cells) < 2 {
		return cells
	}
	var keep []int
	for c := range cells[0] {
		if slices.ContainsFunc(cells[1:], func(row []string) bool { return row[c] != "" }) {
			keep = append(keep, c)
		}
	}
	out := make([][]string, len(cells))
	for i, row := range cells {
		for _, c := range keep {
			out[i] = append(out[i], row[c])
		}
	}
	return out
}

// numeric says of each column whether it holds numbers alone, which are put to the right.
func numeric(cells [][]string) []bool {
	out := make([]bool, len(cells[0]))
	for c := range out {
		out[c] = len(cells) > 1
		for _, row := range cells[1:] {
			if strings.Trim(row[c], "0123456789,") != "" {
				out[c] = false
			}
		}
	}
	return out
}

// squeeze makes the widest columns narrower until all fit, no column narrower than its longest word;
// false where they cannot fit so.
func (s *stream) squeeze(widths []int, rows [][]string) bool {
	if s.width == 0 {
		return true
	}
	least := make([]int, len(widths))
	for _, row := range rows {
		for i, cell := range row {
			for word := range strings.FieldsSeq(cell) {
				least[i] = max(least[i], runewidth.StringWidth(word))
			}
		}
	}
	for {
		total, widest := 2*(len(widths)-1), -1
		for i, w := range widths {
			total += w
			if w > least[i] && (widest < 0 || w > widths[widest]) {
				widest = i
			}
		}
		if total <= s.width {
			return true
		}
		if widest < 0 {
			return false
		}
		widths[widest]--
	}
}

// records shows the rows of a table that is too wide one below the other.
func (e *Env) records(rows [][]string) {
	for _, row := range rows[1:] {
		e.Say("%s", e.Out.strong(row[0]))
		pairs := make([][2]string, 0, len(row))
		for i, cell := range row[1:] {
			pairs = append(pairs, [2]string{rows[0][i+1], cell})
		}
		e.Facts(pairs...)
	}
}

// broken breaks a cell into lines, at blanks where there are any.
func broken(cell string, width int) []string {
	var lines []string
	for line := range strings.SplitSeq(wrapTo(cell, 0, width), "\n") {
		for runewidth.StringWidth(line) > width {
			part := runewidth.Truncate(line, width, "")
			if part == "" {
				break
			}
			lines = append(lines, part)
			line = line[len(part):]
		}
		lines = append(lines, line)
	}
	return lines
}
