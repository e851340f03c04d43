package histories

import (
	"slices"
	"strings"

	"uncinate/internal/core/text"
)

// mostLines is how many lines of descent are drawn side by side.
const mostLines = 24

// Graph draws, for each commit of a list in which children come before their parents, the
// lines of descent beside it, one row for each: = is the commit; a line that begins below
// a merge bends off at ".", one that ends at its branching point comes in at "'", and one
// that leads into a line that is there already meets it at "+".
func Graph(ids []string, parents map[string][]string) []string {
	var awaited []string // the commit that each line leads to; "" where a column is free
	rows := make([]string, len(ids))
	for i, id := range ids {
		row := map[int]byte{}
		at := -1
		for k, a := range awaited {
			switch {
			case a != id:
			case at < 0:
				at = k
			default:
				row[k] = '\'' // it ends here
			}
		}
		if at < 0 {
			at = free(&awaited, 0, nil)
		}
		row[at] = '='
		was := slices.Clone(awaited)
		for k := range row {
			awaited[k] = ""
		}
		for n, p := range parents[id] {
			switch k := slices.Index(awaited, p); {
			case n == 0:
				awaited[at] = p
			case k >= 0 && k != at:
				row[k] = '+'
			case k < 0:
				k = free(&awaited, at+1, row)
				awaited[k], row[k] = p, '.'
			}
		}
		rows[i] = draw(row, was)
		for len(awaited) > 0 && awaited[len(awaited)-1] == "" {
			awaited = awaited[:len(awaited)-1]
		}
	}
	return rows
}

// free gives a column, from a first one on, in which no line runs and that is not taken.
func free(awaited *[]string, from int, taken map[int]byte) int {
	for k := from; k < len(*awaited); k++ {
		if _, is := taken[k]; !is && (*awaited)[k] == "" {
			return k
		}
	}
	*awaited = append(*awaited, "")
	return len(*awaited) - 1
}

// draw puts a row together: what is in its columns, the lines that pass it, and the
// strokes between.
func draw(row map[int]byte, passing []string) string {
	first, last := len(passing), 0
	for k := range row {
		first, last = min(first, k), max(last, k)
	}
	var b strings.Builder
	for k := range max(len(passing), last+1) {
		if k == mostLines {
			b.WriteString("..")
			break
		}
		across := k >= first && k < last
		c, is := row[k]
		switch {
		case is:
		case k < len(passing) && passing[k] != "":
			c = '|'
		case k > first && k < last:
			c = '-'
		default:
			c = ' '
		}
		b.WriteByte(c)
		b.WriteByte(text.Either[byte](across, '-', ' '))
	}
	return strings.TrimRight(b.String(), " ")
}
