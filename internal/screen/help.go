package screen

import (
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"uncinate/internal/core/text"
)

// groups is the order in which the overview names the commands.
var groups = []struct {
	title string
	names []string
}{
	{"The main job", []string{"ready", "survey", "ignore", "attach", "detach", "clone"}},
	{"Every day", []string{"status", "changes", "save", "sync", "settle", "undo", "rescue", "history", "branch", "tag", "claim", "project", "machine", "visit"}},
	{"On the host", []string{"repository", "offer", "access", "invitation"}},
	{"On a server", []string{"deploy"}},
	{"Hosts, accounts, secrets", []string{"host", "account", "token", "key", "vault", "settings"}},
	{"To try it", []string{"tour", "practice"}},
	{"More", []string{"completion", "credential", "help", "version"}},
}

// exitCodes are what the program ends with; see package fault.
var exitCodes = []struct {
	code  int
	means string
}{{0, "done"}, {1, "failed"}, {2, "wrong usage"}, {3, "you have to decide; apart from what is listed, nothing was changed"}, {4, "refused to protect you"},
	{5, "the host said no"}, {6, "the host cannot be reached"}, {130, "interrupted"}}

func (e *Env) overview(w *stream) {
	fmt.Fprintf(w, "Uncinate attaches local projects to repositories on hosts, and keeps both in step.\n\n")
	for _, g := range groups {
		fmt.Fprintln(w, w.strong(g.title))
		for _, name := range g.names {
			if c, _, _ := find(e.commands, []string{name}); c != nil {
				fmt.Fprintf(w, "  %-11s %s\n", c.Name, wrapTo(c.Short, 14, w.page()))
			}
		}
		fmt.Fprintln(w)
	}
	fmt.Fprintln(w, "To try it, with nothing of yours touched:   uncinate tour")
	fmt.Fprintln(w, "About one command:                          uncinate help COMMAND")
}

// page is how wide help is written: as the stream, and never too wide to be read well.
func (s *stream) page() int {
	if s.width > 0 {
		return min(s.width, 88)
	}
	return 88
}

func (e *Env) help(w *stream, c *Command, path []string) {
	full := "uncinate " + strings.Join(path, " ")
	width := w.page()
	fmt.Fprintf(w, "%s: %s\n\n", w.strong(full), wrapTo(c.Short, 2, width-len(full)))
	if len(c.Subs) > 0 {
		for _, s := range c.Subs {
			if !s.Hidden {
				fmt.Fprintf(w, "  %-34s %s\n", strings.TrimSpace(full+" "+s.Name+" "+s.Args), wrapTo(s.Short, 37, width))
			}
		}
		fmt.Fprintln(w)
	} else {
		fmt.Fprintf(w, "  %s\n\n", strings.TrimSpace(full+" [options] "+c.Args))
	}
	if c.Long != "" {
		for paragraph := range strings.SplitSeq(strings.TrimSpace(c.Long), "\n\n") {
			fmt.Fprintf(w, "%s\n\n", wrapTo(paragraph, 0, width))
		}
	}
	if c.Options != nil {
		fmt.Fprintln(w, "Options")
		eachOption(c, func(name, value, use string) {
			fmt.Fprintf(w, "  %-24s %s\n", optionName(name, value), wrapTo(use, 27, width))
		})
		fmt.Fprintln(w)
	}
	if len(c.Examples) > 0 {
		fmt.Fprintln(w, "For example")
		for _, x := range c.Examples {
			fmt.Fprintf(w, "  %s\n", x)
		}
	}
}

// optionName is an option as help shows it, with its short form.
func optionName(name, value string) string {
	out := strings.TrimSpace("--" + name + " " + value)
	if short := shorts[name]; short != "" {
		out += ", -" + short
	}
	return out
}

// eachOption tells of a command's options: its own first, then the common ones.
func eachOption(c *Command, tell func(name, value, use string)) {
	own := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	c.Options(own)
	all := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	new(common).add(all, c)
	for _, set := range []*flag.FlagSet{own, all} {
		for _, f := range c.inOrder(set) {
			value, use := flag.UnquoteUsage(f)
			if b, ok := f.Value.(interface{ IsBoolFlag() bool }); ok && b.IsBoolFlag() {
				value = ""
			} else {
				value = strings.ToUpper(value)
				if f.DefValue != "" && f.DefValue != "0" {
					use += " (default: " + strings.TrimSuffix(f.DefValue, "0m0s") + ")"
				}
			}
			tell(f.Name, value, use)
		}
	}
}

// inOrder gives options in the order in which a person meets them: those that the command puts first,
// the others by name, then what every such command has.
func (c *Command) inOrder(set *flag.FlagSet) []*flag.Flag {
	last := []string{"preview", "yes", "folder", "json", "quiet", "verbose"}
	place := func(f *flag.Flag) int {
		if i := slices.Index(c.First, longName(f.Name)); i >= 0 {
			return i - len(c.First)
		}
		return slices.Index(last, longName(f.Name)) + 1
	}
	var out []*flag.Flag
	set.VisitAll(func(f *flag.Flag) { out = append(out, f) })
	slices.SortStableFunc(out, func(a, b *flag.Flag) int { return place(a) - place(b) })
	return out
}

// Reference writes the reference page from the commands themselves.
func Reference(w io.Writer, commands []*Command) {
	fmt.Fprint(w, "# Commands\n\nThis page is made from the commands themselves (`uncinate help --reference`); `uncinate help COMMAND` says the same.\n\n"+
		"Options may be before or after the arguments; with two dashes or one.\n\n"+
		"With `--json` a command prints one document on standard output, also when it fails; [json.md](json.md) tells of them.\n\nExit codes: ")
	for i, x := range exitCodes {
		fmt.Fprintf(w, "%s%d %s", text.Either(i > 0, " · ", ""), x.code, x.means)
	}
	fmt.Fprintln(w, ".")
	var write func(c *Command, path string, level int)
	write = func(c *Command, path string, level int) {
		if c.Hidden {
			return
		}
		full := strings.TrimSpace(path + " " + c.Name)
		fmt.Fprintf(w, "\n%s %s\n\n%s.\n", strings.Repeat("#", level), full, strings.ToUpper(c.Short[:1])+c.Short[1:])
		if c.Options != nil {
			fmt.Fprintf(w, "\n    %s\n", strings.TrimSpace("uncinate "+full+" [options] "+c.Args))
		}
		if c.Long != "" {
			fmt.Fprintf(w, "\n%s\n", strings.TrimSpace(c.Long))
		}
		if c.Options != nil {
			fmt.Fprint(w, "\n| option | meaning |\n|---|---|\n")
			eachOption(c, func(name, value, use string) {
				fmt.Fprintf(w, "| `%s` | %s |\n", optionName(name, value), strings.ReplaceAll(use, "|", "\\|"))
			})
		}
		if len(c.Examples) > 0 {
			fmt.Fprintf(w, "\nFor example:\n\n")
			for _, x := range c.Examples {
				fmt.Fprintf(w, "    %s\n", x)
			}
		}
		for _, s := range c.Subs {
			write(s, full, level+1)
		}
	}
	for _, g := range groups {
		for _, name := range g.names {
			if c, _, _ := find(commands, []string{name}); c != nil {
				write(c, "", 2)
			}
		}
	}
}
