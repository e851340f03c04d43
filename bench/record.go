package main

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
)

// row is what was measured of one thing.
type row struct {
	What    string  `json:"what"`
	Ours    float64 `json:"ours"` // seconds, median
	Hand    float64 `json:"by_hand"`
	Ratio   float64 `json:"ratio"`
	Bound   string  `json:"bound"`
	Pairs   int     `json:"pairs"`
	When    string  `json:"when"`    // the day
	Machine string  `json:"machine"` // processors and git's version
}

// over reports whether it is over its bound.
func (r row) over() bool {
	bound, err := strconv.ParseFloat(r.Bound, 64)
	return err == nil && r.Ratio > bound
}

// rows are those of this run.
var rows []row

const (
	latest = "bench/latest.json"
	page   = "docs/benchmarks.md"
	from   = "<!-- the table: made by make bench -->"
	upTo   = "<!-- the end of the table -->"
)

// keep notes a row.
func keep(what, bound string, pairs int, ours, hand, ratio float64) {
	rows = append(rows, row{What: what, Ours: ours, Hand: hand, Ratio: ratio, Bound: bound, Pairs: pairs})
}

// record compares what was measured with the last run, says what got worse, and puts it into the file of the last
// measurements and the page made of it. A thing that was not measured stays as it was.
func record() error {
	if len(rows) == 0 {
		return nil
	}
	out, err := exec.Command("git", "--version").Output()
	if err != nil {
		return err
	}
	machine := fmt.Sprintf("%d processors, %s", runtime.NumCPU(), strings.TrimSpace(string(out)))
	all, err := recorded()
	if err != nil {
		return err
	}
	var says []string
	for _, r := range rows {
		r.When, r.Machine = time.Now().Format(time.DateOnly), machine
		i := slices.IndexFunc(all, func(was row) bool { return was.What == r.What })
		switch {
		case i < 0:
			all = append(all, r)
		default:
			if was := all[i]; r.Ratio > was.Ratio*1.1 && r.Ratio > was.Ratio+0.02 {
				says = append(says, fmt.Sprintf("worse than on %s: %s, %.3f, was %.3f", was.When, r.What, r.Ratio, was.Ratio))
			}
			all[i] = r
		}
		if r.over() {
			says = append(says, fmt.Sprintf("over its bound of %s: %s, %.3f", r.Bound, r.What, r.Ratio))
		}
	}
	slices.Sort(says)
	for _, s := range says {
		fmt.Fprintln(os.Stderr, s)
	}
	if len(says) == 0 {
		fmt.Fprintln(os.Stderr, "nothing got worse, and nothing is over its bound")
	}
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(latest, append(data, '\n'), 0o644); err != nil {
		return err
	}
	return publish(all)
}

// recorded gives the last measurements; none where there was no run yet.
func recorded() (all []row, err error) {
	data, err := os.ReadFile(latest)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &all)
	}
	return all, err
}

// publish puts the table into the page.
func publish(all []row) error {
	data, err := os.ReadFile(page)
	if err != nil {
		return err
	}
	before, rest, found := strings.Cut(string(data), from)
	_, after, ends := strings.Cut(rest, upTo)
	if !found || !ends {
		return fmt.Errorf("%s has no place for the table: %s ... %s", page, from, upTo)
	}
	var b strings.Builder
	b.WriteString(before + from + "\n\n| what | ours, median | by hand, median | ratio | bound | pairs, day |\n|---|---|---|---|---|---|\n")
	for _, r := range all {
		ratio := fmt.Sprintf("%.3f", r.Ratio)
		if r.over() {
			ratio = "**" + ratio + "**"
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s | %d, %s |\n", r.What, seconds(r.Ours), seconds(r.Hand), ratio, r.Bound, r.Pairs, r.When)
	}
	machines := []string{}
	for _, r := range all {
		if !slices.Contains(machines, r.Machine) {
			machines = append(machines, r.Machine)
		}
	}
	fmt.Fprintf(&b, "\nMeasured on: %s. A ratio over its bound is bold.\n\n", strings.Join(machines, "; "))
	return os.WriteFile(page, []byte(b.String()+upTo+after), 0o644)
}

func seconds(s float64) string {
	return strconv.FormatFloat(s, 'f', cmp.Or(map[bool]int{true: 4}[s < 0.1], map[bool]int{true: 2}[s < 10], 1), 64) + " s"
}
