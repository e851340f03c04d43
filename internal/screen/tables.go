package screen

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"

	"uncinate/internal/core/text"
)

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
	e.Say("%s more. To see all:", text.Number(all-shown))
	e.Say("    %s", typed(withoutOption(os.Args[1:], "most"))+" --most "+fmt.Sprint(all))
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
	right, last := numeric(cells), len(widths)-1
	for i, row := range cells {
		var b strings.Builder
		var rest []string // of the last cell, where the stream is narrow
		for c, cell := range row {
			if c == last && i > 0 && e.Out.width < 80 && widths[c] >= 20 && !right[c] {
				rest = broken(cell, widths[c])
				cell, rest = rest[0], rest[1:]
			}
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
		before := 0
		for _, w := range widths[:last] {
			before += w + 2
		}
		for _, more := range rest {
			e.Say("%s%s", strings.Repeat(" ", before), more)
		}
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
