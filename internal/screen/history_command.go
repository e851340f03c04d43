package screen

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/history"
)

func historyCommand() *Command {
	return &Command{Name: "history", Takes: []string{"path"}, First: []string{"here", "on-host", "branch", "full", "graph", "most"}, Args: "[PATH]", Most: 1,
		Short: "list the commits, each marked: here, on the host, or both",
		Long: `The newest first, of this branch and of its counterpart on the host as last seen. With a
PATH, only those that touched this file or folder. With --full, the files that each touched;
with --graph, the lines of descent beside them: "=" is a commit, "." where a line begins below a
merge, "'" where it ends, "+" where it meets another.`,
		Examples: []string{"uncinate history", "uncinate history --on-host", "uncinate history src/level.c", "uncinate history --graph --most 100"}, Gives: history.History{}, Apart: [][]string{{"here", "on-host"}},
		Options: func(o *flag.FlagSet) Run {
			var h history.HistoryOptions
			in := inFolder(o)
			o.StringVar(&h.Branch, "branch", "", "another `branch`, a tag or a commit")
			o.IntVar(&h.Most, "most", mostLines, "at most this `many`")
			o.BoolVar(&h.Full, "full", false, "the files that each touched")
			o.BoolVar(&h.Graph, "graph", false, "the lines of descent")
			here := o.Bool("here", false, "only those that are not on the host")
			onHost := o.Bool("on-host", false, "only those that this branch has not received")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				h.Folder = in.in()
				switch {
				case *here:
					h.Side = "here"
				case *onHost:
					h.Side = "host"
				}
				if len(args) > 0 {
					h.Path = args[0]
				}
				if h.Path != "" && h.Graph {
					return fault.New(fault.Usage, "--graph shows how all commits lead to each other, so it takes no file").
						TryWithout("the commits that touched it", text.Command("uncinate", "history", h.Path), "graph").Try("the graph of all", "uncinate history --graph")
				}
				r, err := history.Read(ctx, d, h)
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.history(ctx, r, h) })
			})
		}}
}

func (e *Env) history(ctx context.Context, r *history.History, o history.HistoryOptions) {
	if len(r.Commits) == 0 {
		words := "There is no commit here yet."
		if o.Path != "" {
			words = "No commit touched " + text.Visible(o.Path) + "."
		} else if o.Side != "" {
			words = "No commit is only " + text.Either(o.Side == "host", "on the host", "here") + "."
		}
		e.Say("%s", words)
		return
	}
	cells := [][]string{{"where", "commit", "when", "who", "what"}}
	widest := 0
	for _, c := range r.Commits {
		widest = max(widest, len(c.Lead))
	}
	for _, c := range r.Commits {
		lead := c.Where
		if widest > 0 {
			lead = fmt.Sprintf("%-*s  %s", widest, c.Lead, lead)
		}
		what := c.Title
		var names []string
		for _, n := range c.Names {
			names = append(names, short(n))
		}
		at := "2006-01-02 15:04"
		if e.Out.width > 0 && e.Out.width < 100 && !o.Full {
			at = time.DateOnly
		}
		named := ""
		if len(names) > 0 {
			named = "[" + strings.Join(names, ", ") + "]"
		}
		cells = append(cells, []string{lead, c.ID[:min(10, len(c.ID))], c.When.Local().Format(at), c.Who, what, named})
	}
	switch {
	case !o.Full && o.Path != "":
		e.historyOf(r, o, cells)
	case !o.Full:
		e.lines(cells, give{3, 8}, give{4, 20})
	default:
		e.historyInFull(r, cells)
	}
	e.Say("")
	e.Say("To see one commit: uncinate changes --commit COMMIT --full")
	if r.More {
		e.Say("Older ones: %s", desk.FolderCommand(o.Folder, append(historyWords(o), "--most", fmt.Sprint(3*len(r.Commits)))...))
	}
}

// historyWords are the words of the same list.
func historyWords(o history.HistoryOptions) []string {
	words := []string{"history"}
	if o.Path != "" {
		words = append(words, o.Path)
	}
	if o.Branch != "" {
		words = append(words, "--branch", o.Branch)
	}
	if o.Side != "" {
		words = append(words, text.Either(o.Side == "host", "--on-host", "--here"))
	}
	if o.Full {
		words = append(words, "--full")
	}
	if o.Graph {
		words = append(words, "--graph")
	}
	return words
}

// historyOf shows the commits that touched a path, each with the command that brings it back as it was.
func (e *Env) historyOf(r *history.History, o history.HistoryOptions, cells [][]string) {
	for i, c := range r.Commits {
		row := cells[i+1]
		e.Say("%s  %s  %s  %s  %s", e.Out.strong(row[1]), row[2], e.Out.visible(row[3]), row[0], e.Out.visible(row[4]))
		e.Say("    to have it so: %s", desk.FolderCommand(o.Folder, text.WithOperand([]string{"undo", "file"}, o.Path, "--to", c.ID[:10])...))
	}
}

// historyInFull shows the files that each commit touched.
func (e *Env) historyInFull(r *history.History, cells [][]string) {
	for i, c := range r.Commits {
		row := cells[i+1]
		e.Say("%s  %s  %s  %s", e.Out.strong(row[1]), row[2], e.Out.visible(row[3]), row[0])
		e.Say("  %s", e.Out.wrap(strings.TrimSpace(e.Out.visible(row[4])+"  "+e.Out.visible(row[5])), 2))
		for _, f := range c.Files {
			extent := fmt.Sprintf("%d added, %d removed", f.Added, f.Removed)
			if f.Added < 0 {
				extent = "binary"
			}
			e.Say("    %s  %s", e.Out.visible(f.Path), extent)
		}
	}
}
