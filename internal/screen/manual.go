package screen

import (
	"fmt"
	"path/filepath"
	"strings"

	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// manuals writes the manual pages into a folder: one for the program and one for each
// command, its sub-commands within (man(7)).
func (e *Env) manuals(folder string) error {
	pages := map[string]string{"uncinate.1": manual(e.commands)}
	for _, c := range e.commands {
		if !c.Hidden {
			pages["uncinate-"+c.Name+".1"] = manualOf(c)
		}
	}
	for name, page := range pages {
		if err := files.Write(filepath.Join(folder, name), []byte(page), 0o644); err != nil {
			return err
		}
	}
	e.Say("%s in %s.", text.Count(len(pages), "manual page"), text.Visible(folder))
	return nil
}

// roff makes a line of text harmless to a formatter: no escapes, no requests.
func roff(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(s)
	if strings.HasPrefix(s, ".") || strings.HasPrefix(s, "'") {
		s = `\&` + s
	}
	return s
}

func title(name, short string) string {
	return fmt.Sprintf(".TH %s 1 \"\" \"uncinate %s\"\n.SH NAME\n%s \\- %s\n", strings.ToUpper(name), Version, roff(name), roff(short))
}

func paragraphs(b *strings.Builder, long string) {
	for p := range strings.SplitSeq(strings.TrimSpace(long), "\n\n") {
		if p != "" {
			fmt.Fprintf(b, "%s\n.PP\n", roff(strings.ReplaceAll(p, "\n", " ")))
		}
	}
}

func manual(commands []*Command) string {
	var b strings.Builder
	b.WriteString(title("uncinate", "attach local projects to repositories on hosts, and keep both in step"))
	b.WriteString(".SH SYNOPSIS\n.B uncinate\n.I COMMAND\n[options] [arguments]\n.SH COMMANDS\n")
	for _, g := range groups {
		for _, name := range g.names {
			if c, _, _ := find(commands, []string{name}); c != nil {
				fmt.Fprintf(&b, ".TP\n.BR uncinate\\-%s (1)\n%s\n", name, roff(c.Short))
			}
		}
	}
	b.WriteString(".SH EXIT STATUS\n")
	for _, x := range exitCodes {
		fmt.Fprintf(&b, ".TP\n.B %d\n%s\n", x.code, x.means)
	}
	b.WriteString(".SH ENVIRONMENT\n.TP\n.B UNCINATE_HOME\none folder for configuration, state and vault, in place of the XDG folders\n" +
		".TP\n.B NO_COLOR\nno bold on a terminal\n")
	return b.String()
}

func manualOf(c *Command) string {
	var b strings.Builder
	b.WriteString(title("uncinate-"+c.Name, c.Short))
	b.WriteString(".SH SYNOPSIS\n")
	var visit func(c *Command, path string, tell func(c *Command, full string))
	visit = func(c *Command, path string, tell func(c *Command, full string)) {
		full := path + " " + c.Name
		if !c.Hidden && c.Options != nil {
			tell(c, full)
		}
		for _, s := range c.Subs {
			visit(s, full, tell)
		}
	}
	first := true
	visit(c, "uncinate", func(c *Command, full string) {
		if !first {
			b.WriteString(".br\n")
		}
		first = false
		fmt.Fprintf(&b, ".B %s\n[options] %s\n", roff(full), roff(c.Args))
	})
	b.WriteString(".SH DESCRIPTION\n")
	if c.Long == "" {
		b.WriteString(roff(strings.ToUpper(c.Short[:1])+c.Short[1:]) + ".\n.PP\n")
	}
	paragraphs(&b, c.Long)
	visit(c, "uncinate", func(s *Command, full string) {
		if s != c {
			fmt.Fprintf(&b, ".SH %s\n%s.\n.PP\n", strings.ToUpper(roff(s.Name)), roff(strings.ToUpper(s.Short[:1])+s.Short[1:]))
			paragraphs(&b, s.Long)
		} else {
			b.WriteString(".SH OPTIONS\n")
		}
		eachOption(s, func(name, value, use string) {
			fmt.Fprintf(&b, ".TP\n.B \\-\\-%s %s\n%s\n", roff(name), roff(value), roff(use))
		})
	})
	var examples []string
	visit(c, "uncinate", func(c *Command, _ string) { examples = append(examples, c.Examples...) })
	if len(examples) > 0 {
		b.WriteString(".SH EXAMPLES\n.nf\n")
		for _, x := range examples {
			b.WriteString(roff(x) + "\n")
		}
		b.WriteString(".fi\n")
	}
	b.WriteString(".SH SEE ALSO\n.BR uncinate (1)\n")
	return b.String()
}
