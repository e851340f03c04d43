package screen

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"
	"golang.org/x/term"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/job"
	"uncinate/internal/world/files"
	"uncinate/internal/world/vault"
	"uncinate/internal/world/web"
)

// Version is the program's version.
const Version = "0.1.0"

// Env is the program's surroundings: its three streams, and what it can ask of them.
type Env struct {
	In  *os.File
	Out io.Writer
	Err io.Writer

	Shipped fs.FS  // descriptions that come with the program
	Gone    func() // called when standard output cannot be written any more

	commands []*Command
	ctx      context.Context // of the whole run; prompts end with it
	quiet    bool
	verbose  bool
	home     string // where the program's own things lie, if said
	asks     bool   // standard input and standard error are terminals
	shows    bool   // standard error is a terminal: progress may be redrawn
	colour   bool
	width    int
	reader   *bufio.Reader
	bar      bool // a progress line is on the screen
	lastBar  time.Time
	items    []plan.Item // the plan that is being done
	planned  bool        // it was shown already
}

// NewEnv looks at the process's streams.
func NewEnv(shipped fs.FS) *Env {
	e := &Env{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Shipped: shipped, width: 80}
	e.shows = term.IsTerminal(int(os.Stderr.Fd()))
	e.asks = e.shows && term.IsTerminal(int(os.Stdin.Fd()))
	e.colour = term.IsTerminal(int(os.Stdout.Fd())) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	if w, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil && w >= 40 {
		e.width = w
	}
	e.reader = bufio.NewReader(io.LimitReader(os.Stdin, 1<<20))
	return e
}

func (e *Env) bold(s string) string {
	if !e.colour {
		return s
	}
	return "\x1b[1m" + s + "\x1b[0m"
}

// Desk lays out what jobs work with.
func (e *Env) Desk() (*job.Desk, error) {
	home, err := files.FindHome(e.home)
	if err != nil {
		return nil, fault.New(fault.Failed, "the program's own folders cannot be found").Because(err)
	}
	program, err := os.Executable()
	if err != nil {
		return nil, fault.New(fault.Failed, "the program's own path cannot be found").Because(err)
	}
	if real, err := filepath.EvalSymlinks(program); err == nil {
		program = real
	}
	userHome, err := os.UserHomeDir()
	if err != nil {
		return nil, fault.New(fault.Failed, "your home folder is not known: the variable HOME is not set").Because(err)
	}
	level := slog.LevelWarn
	if e.verbose {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(e.Err, &slog.HandlerOptions{Level: level}))
	v := vault.At(home.Vault, home.Run)
	if e.asks {
		v.AskWith(func() (string, error) { return e.secret("Passphrase of the vault: ") })
	}
	return &job.Desk{Home: home, Vault: v, Web: web.New(30*time.Second, "uncinate/"+Version, log), Shipped: e.Shipped, Program: program,
		UserHome: userHome, Now: time.Now, Tell: e, Log: log}, nil
}

// withDesk makes a Run of work that needs the desk.
func withDesk(work func(ctx context.Context, e *Env, d *job.Desk, args []string) error) Run {
	return func(ctx context.Context, e *Env, args []string) error {
		d, err := e.Desk()
		if err != nil {
			return err
		}
		return work(ctx, e, d, args)
	}
}

// Fault shows an error: the cause, what belongs to it, and what to do next.
func (e *Env) Fault(err error) {
	e.clearBar()
	f := fault.Of(err)
	if f.Kind == fault.Interrupted {
		fmt.Fprintln(e.Err, "uncinate: stopped.")
		for _, d := range f.Details {
			fmt.Fprintf(e.Err, "  %s\n", text.Visible(d))
		}
		return
	}
	fmt.Fprintf(e.Err, "uncinate: %s.\n", strings.TrimSuffix(text.Visible(f.Says), "."))
	for _, d := range f.Details {
		fmt.Fprintf(e.Err, "  %s\n", text.Visible(d))
	}
	for _, r := range f.Remedies {
		if r.Why != "" {
			fmt.Fprintf(e.Err, "  %s:\n", strings.ToUpper(r.Why[:1])+r.Why[1:])
		}
		fmt.Fprintf(e.Err, "      %s\n", text.Visible(r.Command))
	}
	if e.verbose {
		for cause := errors.Unwrap(err); cause != nil; cause = errors.Unwrap(cause) {
			fmt.Fprintf(e.Err, "  because: %s\n", text.Excerpt(cause.Error(), 400))
		}
	}
}

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
func (e *Env) Note(format string, args ...any) { e.Aside(format, args...) }

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
	e.Aside("%s%s  %s", number, state, text.Visible(item.Sentence))
}

// Progress implements job.Teller: one line, drawn over itself, on a terminal only.
func (e *Env) Progress(what string, done, total int64, speed string) {
	if e.quiet || !e.shows {
		return
	}
	if total <= 0 {
		e.clearBar()
		return
	}
	if e.bar && done < total && time.Since(e.lastBar) < 60*time.Millisecond {
		return
	}
	e.lastBar = time.Now()
	const cells = 24
	full := int(done * cells / total)
	line := fmt.Sprintf("    %s [%s%s] %3d%%", what, strings.Repeat("=", full), strings.Repeat(" ", cells-full), done*100/total)
	if speed != "" {
		line += "  " + text.Visible(speed)
	}
	fmt.Fprintf(e.Err, "\r%s\x1b[K", line)
	e.bar = true
}

func (e *Env) clearBar() {
	if e.bar {
		fmt.Fprint(e.Err, "\r\x1b[K")
		e.bar = false
	}
}

// Plan shows numbered sentences, grouped by place.
func (e *Env) Plan(w io.Writer, items []plan.Item, host string) {
	e.items = items
	place := plan.Place("")
	for i, item := range items {
		if item.Place != place {
			place = item.Place
			name := map[plan.Place]string{plan.Here: "here", plan.Host: "on the host", plan.Vault: "in the vault"}[place]
			if place == plan.Host && host != "" {
				name = "on " + host
			}
			fmt.Fprintf(w, "  %s\n", e.bold(name))
		}
		fmt.Fprintf(w, "  %2d. %s\n", i+1, e.wrap(text.Visible(item.Sentence), 6))
	}
}

// propose shows a plan and asks whether to go ahead; false for a preview, after which
// nothing is done.
func (e *Env) propose(ctx context.Context, p plans, head string, items []plan.Item, host string, notes []string) (bool, error) {
	out := e.Err
	if p.preview {
		out = e.Out
	}
	e.items = items
	if p.preview || !p.yes {
		fmt.Fprintln(out, e.bold(head))
		e.Plan(out, items, host)
		e.planned = true
	}
	for _, n := range notes {
		if p.preview || !e.quiet {
			fmt.Fprintf(out, "  Note: %s\n", e.wrap(text.Visible(n), 8))
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

// wrap breaks a sentence at blanks to the screen's width, later lines indented.
func (e *Env) wrap(s string, indent int) string {
	var b strings.Builder
	column := indent
	for i, word := range strings.Fields(s) {
		w := runewidth.StringWidth(word)
		switch {
		case i == 0:
		case column+1+w > e.width:
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
			e.Say("  %s  %s", runewidth.FillRight(p[0], widest), e.wrap(text.Visible(p[1]), widest+4))
		}
	}
}

// Table prints rows in columns, under a head.
func (e *Env) Table(head []string, rows [][]string) {
	widths := make([]int, len(head))
	for _, row := range append([][]string{head}, rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], runewidth.StringWidth(text.Visible(cell)))
		}
	}
	line := func(row []string, style func(string) string) {
		var b strings.Builder
		for i, cell := range row {
			cell = text.Visible(cell)
			if i < len(row)-1 {
				cell = runewidth.FillRight(cell, widths[i]+2)
			}
			b.WriteString(cell)
		}
		e.Say("%s", style(strings.TrimRight(b.String(), " ")))
	}
	line(head, e.bold)
	for _, row := range rows {
		line(row, func(s string) string { return s })
	}
}

// JSON prints one document.
func (e *Env) JSON(v any) error {
	out := json.NewEncoder(e.Out)
	out.SetIndent("", "  ")
	return out.Encode(v)
}

// Agree asks whether to go ahead.
func (e *Env) Agree(ctx context.Context, yes bool, again string) error {
	if yes {
		return nil
	}
	if !e.asks {
		return fault.New(fault.Decision, "nobody can be asked here whether to go ahead; nothing was changed").Try("go ahead without asking", again)
	}
	answer, err := e.ask(ctx, "Go ahead? (yes or no) ")
	if err != nil {
		return err
	}
	if a := strings.ToLower(answer); a == "yes" || a == "y" {
		return nil
	}
	return fault.New(fault.Decision, "nothing was changed, as you wished")
}

// ask asks for one line. Giving up the wait by Ctrl-C ends it.
func (e *Env) ask(ctx context.Context, question string) (string, error) {
	e.clearBar()
	fmt.Fprint(e.Err, question)
	type result struct {
		line string
		err  error
	}
	got := make(chan result, 1)
	go func() {
		line, err := e.reader.ReadString('\n')
		got <- result{line, err}
	}()
	select {
	case <-ctx.Done():
		fmt.Fprintln(e.Err)
		return "", ctx.Err()
	case r := <-got:
		if r.err != nil && r.line == "" {
			return "", fault.New(fault.Decision, "the answer did not come: standard input ended")
		}
		return strings.TrimSpace(r.line), nil
	}
}

// secret reads a secret without showing it: from the terminal, or one line of
// standard input where that is none.
func (e *Env) secret(question string) (string, error) {
	if e.asks {
		return e.unseen(question)
	}
	line, err := e.reader.ReadString('\n')
	if err != nil && line == "" {
		return "", fault.New(fault.Usage, "a secret was expected on standard input, and nothing came")
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// unseen reads a line from the terminal with the echo off; Ctrl-C puts it on again.
func (e *Env) unseen(question string) (string, error) {
	e.clearBar()
	fmt.Fprint(e.Err, question)
	defer fmt.Fprintln(e.Err)
	fd := int(e.In.Fd())
	before, err := term.GetState(fd)
	if err != nil {
		return "", fault.New(fault.Failed, "the terminal cannot be read").Because(err)
	}
	type result struct {
		line []byte
		err  error
	}
	got := make(chan result, 1)
	go func() {
		line, err := term.ReadPassword(fd)
		got <- result{line, err}
	}()
	select {
	case <-e.ctx.Done():
		return "", errors.Join(e.ctx.Err(), forgetTyped(fd), term.Restore(fd, before))
	case r := <-got:
		if r.err != nil {
			return "", fault.New(fault.Failed, "the terminal cannot be read").Because(r.err)
		}
		return string(r.line), nil
	}
}
