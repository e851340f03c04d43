package screen

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"

	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
)

// Say prints a line of the result.
func (e *Env) Say(format string, args ...any) {
	said := fmt.Sprintf(format, args...)
	if !e.json {
		said = e.Out.fold(e.said(said))
	}
	if _, err := fmt.Fprintln(e.Out, said); err != nil && e.Gone != nil {
		e.Gone() // whoever read the output is gone, so the work ends as by Ctrl-C
	}
}

// Aside prints a line that is not a result; not with --quiet.
func (e *Env) Aside(format string, args ...any) {
	if !e.quiet {
		e.meter.Lock()
		defer e.meter.Unlock()
		e.unbar()
		fmt.Fprintln(e.Err, e.Err.fold(e.said(fmt.Sprintf(format, args...))))
	}
}

// Note implements job.Teller.
func (e *Env) Note(format string, args ...any) {
	e.Aside("%s", e.Err.fold(fmt.Sprintf(format, args...)))
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

// fold breaks a sentence that is too long for the stream at a blank. What is in columns, and a command
// to paste, stays as it is.
func (s *stream) fold(line string) string {
	if s.width == 0 || strings.Contains(line, "\n") || strings.Contains(line, "  ") || runewidth.StringWidth(line) <= s.width {
		return line
	}
	if m := lastCommand.FindStringSubmatch(line); m != nil {
		return s.wrap(m[1], 2) + "\n      " + m[2]
	}
	return s.wrap(line, 2)
}

// lastCommand is a command of ours that ends a sentence: it goes into a line of its own where both
// have no room in one.
var lastCommand = regexp.MustCompile(`^(.*:) (uncinate [a-z].*)$`)

// strong underlines a heading on a stream that can show it.
func (s *stream) strong(words string) string {
	if !s.bold {
		return words
	}
	return look + "1m" + words + look + "0m"
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
	err := e.agreeTo(ctx, p, again(os.Args[1:]))
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
