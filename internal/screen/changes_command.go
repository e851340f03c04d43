package screen

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"

	"golang.org/x/term"

	"uncinate/internal/core/difference"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/comparing"
)

func changesCommand() *Command {
	return &Command{Name: "changes", Takes: []string{"path"}, First: []string{"full", "here", "on-host", "branch", "commit"}, Args: "[PATH...]", Most: -1,
		Short: "show what differs from the last commit, by file and then in full",
		Long: `Without a PATH, each file that differs in a line; with one, or with --full, the differences
themselves: on a terminal with the words marked that differ, elsewhere as git writes them,
fit to be applied. --here and --on-host show what the commits change that only one side has,
as last seen: sync and status ask the host. With --branch, the other side is that branch:
what it holds that the current one does not, or with --here the reverse.`,
		Examples: []string{"uncinate changes", "uncinate changes tables/2025-03.csv", "uncinate changes --on-host", "uncinate changes --branch deck", "uncinate changes --commit 1f3a9c --full", "uncinate changes --full > today.patch"},
		Gives:    comparing.Changes{}, Apart: [][]string{{"commit", "here"}, {"commit", "on-host"}, {"commit", "branch"}, {"here", "on-host"}, {"branch", "on-host"}, {"full", "most"}},
		Options: func(o *flag.FlagSet) Run {
			var c comparing.ChangesOptions
			in := inFolder(o)
			o.BoolVar(&c.Full, "full", false, "the differences themselves")
			most := o.Int("most", mostLines, "list at most this `many` files; more are folded by folder")
			o.StringVar(&c.Commit, "commit", "", "what this `commit` changed")
			o.StringVar(&c.Branch, "branch", "", "what only this `branch` holds, compared with the current one")
			here := o.Bool("here", false, "what the commits change that are only here")
			onHost := o.Bool("on-host", false, "what the commits change that are only on the host")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				c.Folder = in.in()
				switch {
				case *here:
					c.Side = "here"
				case *onHost:
					c.Side = "host"
				}
				c.Paths, c.Full = args, c.Full || len(args) > 0
				r, err := comparing.Compare(ctx, d, c)
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.changed(ctx, r, c, *most) })
			})
		}}
}

func (e *Env) changed(ctx context.Context, r *comparing.Changes, o comparing.ChangesOptions, most int) {
	if len(r.Files) == 0 {
		words := "Nothing differs: every file is as in the last commit."
		if len(o.Paths) > 0 {
			words = "Nothing differs in " + text.Visible(strings.Join(o.Paths, ", ")) + "."
		} else if r.Commit != "" {
			words = "That commit changed no file."
		} else if r.Side != "" {
			words = "No commit is only " + text.Either(r.Side == "host", "on the host", "here") + "."
		}
		if r.With != "" && len(o.Paths) == 0 {
			words = map[string]string{"host": "Branch " + text.Visible(r.With) + " holds nothing that is not here.", "here": "All that is here is in branch " + text.Visible(r.With) + "."}[r.Side]
		}
		e.Say("%s", words)
		return
	}
	if !o.Full {
		var rows [][]string
		for _, f := range r.Files {
			path := f.Path
			if f.From != "" {
				path = f.From + " → " + f.Path
			}
			rows = append(rows, []string{f.Kind, path, extent(f)})
		}
		if len(rows) > max(most, 1) {
			e.Table([]string{"", "folder", "files"}, folded(r.Files))
			e.Say("")
			e.Say("To see all %s: %s --most %d", text.Count(len(rows), "file"), typed(withoutOption(os.Args[1:], "most")), len(rows))
		} else {
			e.Table([]string{"", text.Count(len(r.Files), "file"), "lines"}, rows)
			e.Say("")
		}
		words := []string{"uncinate", "changes"}
		if o.Folder != "." {
			words = append(words, "--folder", o.Folder)
		}
		if o.Commit != "" {
			words = append(words, "--commit", o.Commit)
		}
		if o.Branch != "" {
			words = append(words, "--branch", o.Branch)
		}
		if o.Side != "" {
			words = append(words, text.Either(o.Side == "host", "--on-host", "--here"))
		}
		e.heldBy(r.Held)
		e.Say("To see the lines: %s", text.Command(append(words, "--full")...))
		return
	}
	if !e.Out.terminal {
		_, _ = io.WriteString(e.Out.to, e.veil.over(r.Patch)) // byte for byte, for whatever applies it; a reader who is gone is not a fault
		return
	}
	var b strings.Builder
	for _, f := range r.Files {
		e.difference(&b, f)
	}
	e.page(ctx, b.String())
}

// folded counts files by their folder at the top and what happened to them; the most first.
func folded(all []comparing.ChangedFile) [][]string {
	type group struct{ kind, folder string }
	count := map[group]int{}
	var order []group
	for _, f := range all {
		folder, _, deeper := strings.Cut(f.Path, "/")
		if folder += "/"; !deeper {
			folder = "(at the top)"
		}
		g := group{f.Kind, folder}
		if count[g]++; count[g] == 1 {
			order = append(order, g)
		}
	}
	slices.SortStableFunc(order, func(x, y group) int { return count[y] - count[x] })
	var rows [][]string
	rest := 0
	for i, g := range order {
		if i >= mostLines-1 && len(order) > mostLines {
			rest += count[g]
			continue
		}
		rows = append(rows, []string{g.kind, g.folder, text.Number(count[g])})
	}
	if rest > 0 {
		rows = append(rows, []string{"", "elsewhere", text.Number(rest)})
	}
	return rows
}

// extent tells how much of a file differs.
func extent(f comparing.ChangedFile) string {
	switch {
	case f.Large:
		return text.Size(f.Bytes) + ", too large to be shown"
	case f.Binary:
		is := "binary"
		if f.Is != "" {
			is = f.Is
		}
		switch {
		case f.Kind == "new":
			return is + ", " + text.Size(f.Bytes)
		case f.Kind == "deleted":
			return is + ", " + text.Size(f.Before)
		case f.Before == f.Bytes:
			return is + ", " + text.Size(f.Bytes) + " as before"
		}
		return is + ", " + text.Size(f.Before) + " before, " + text.Size(f.Bytes) + " now"
	}
	var parts []string
	if f.Added > 0 {
		parts = append(parts, text.Number(f.Added)+" added")
	}
	if f.Removed > 0 {
		parts = append(parts, text.Number(f.Removed)+" removed")
	}
	if f.Mode != "" {
		parts = append(parts, "mode "+f.Mode)
	}
	return strings.Join(parts, ", ")
}

// difference writes one file's differences for a terminal: the words that differ within a
// line are bold.
func (e *Env) difference(w *strings.Builder, f comparing.ChangedFile) {
	title := f.Path
	if f.From != "" {
		title = f.From + " → " + f.Path
	}
	fmt.Fprintf(w, "%s  %s, %s\n", e.Out.strong(e.Out.visible(title)), f.Kind, extent(f))
	for _, h := range f.Hunks {
		fmt.Fprintf(w, "%s\n", e.Out.faint(e.Out.visible(h.Head)))
		for _, l := range h.Lines {
			sign := map[string]string{"same": " ", "added": "+", "removed": "-", "note": `\`}[l.Kind]
			fmt.Fprintf(w, "%s%s\n", sign, e.marked(l))
		}
	}
	w.WriteByte('\n')
}

// marked is a line with the parts that differ bold.
func (e *Env) marked(l difference.Line) string {
	show := func(s string) string { return e.Out.visible(strings.ReplaceAll(s, "\t", "    ")) }
	var b strings.Builder
	at := 0
	for _, m := range l.Mark {
		b.WriteString(show(l.Text[at:m.From]) + e.Out.strong(show(l.Text[m.From:m.To])))
		at = m.To
	}
	b.WriteString(show(l.Text[at:]))
	return b.String()
}

// faint is for what is between the lines.
func (s *stream) faint(words string) string {
	if !s.bold {
		return words
	}
	return look + "2m" + words + look + "0m"
}

// page shows a long text through the person's pager (environment variable PAGER, as for
// the POSIX utilities man and more), a short one as it is.
func (e *Env) page(ctx context.Context, s string) {
	_, height, err := term.GetSize(int(os.Stdout.Fd()))
	words, odd := text.Words(os.Getenv("PAGER"))
	if odd != nil || len(words) == 0 {
		words = []string{"less", "-R"}
	}
	if path, look := exec.LookPath(words[0]); err == nil && look == nil && e.asks && strings.Count(s, "\n") >= height {
		c := exec.CommandContext(ctx, path, words[1:]...)
		c.Env = os.Environ()
		if os.Getenv("LESS") == "" {
			c.Env = append(c.Env, "LESS=R")
		}
		c.Stdin, c.Stdout, c.Stderr = strings.NewReader(drawn(e.veil.over(s))), os.Stdout, os.Stderr
		if c.Run() == nil {
			return
		}
	}
	_, _ = io.WriteString(e.Out, s) // whoever reads it may have gone
}
