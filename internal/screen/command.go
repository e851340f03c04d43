// Package screen is what a person, or a script, meets: commands, options, plans,
// progress, prompts, tables and JSON. It knows no rules of the work.
//
// Its own rules: results go to standard output, everything else to standard error.
// Nothing is asked unless both ends are a terminal. Strings from outside are shown
// with their control characters made visible. Words carry the meaning; bold only
// underlines, on a terminal, and never with NO_COLOR set. A secret that is known is
// blanked wherever it would be shown.
package screen

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Run does a command's work with its arguments.
type Run func(ctx context.Context, e *Env, args []string) error

// Command is one command or sub-command as a value; help and the reference page are
// made from it.
type Command struct {
	Name     string
	Args     string // usage of the arguments, such as "[FOLDER]"
	Short    string // one line, a verb first, without full stop
	Long     string // paragraphs
	Examples []string
	First    []string            // options that help shows first, in this order
	Least    int                 // arguments
	Most     int                 // arguments; -1 for any number
	Takes    []string            // what each argument is, for completion: one of the sources; the last one holds for all that follow
	Words    []string            // what its arguments may be, where that is always the same, for completion
	Needs    map[string][]string // an option is heeded only with one of these others
	Apart    [][]string          // of these options only one is heeded
	Gives    any                 // an empty value of the document that --json prints; nil where there is no such option
	Also     map[string]any      // the same for what an option makes it print instead: "--all" → a value
	Options  func(o *flag.FlagSet) Run
	Subs     []*Command
	Falls    string            // of a family: the sub-command that takes the words that are none
	Word     string            // of a family: the sub-command that may be meant where another word follows
	Means    map[string]string // of a family: words that people type in place of its sub-commands' names
	Hidden   bool
}

// shorts are the options that have a short form, the same for every command.
var shorts = map[string]string{"message": "m", "yes": "y", "quiet": "q", "verbose": "v"}

// short adds the short forms to options.
func addShorts(o *flag.FlagSet) {
	for long, short := range shorts {
		if f := o.Lookup(long); f != nil {
			o.Var(f.Value, short, "")
		}
	}
}

// longName is an option's name, whichever form was typed.
func longName(name string) string {
	for long, short := range shorts {
		if name == short {
			return long
		}
	}
	return name
}

// fit refuses options that the command cannot heed beside or without others.
func (c *Command) fit(o *flag.FlagSet, help string) error {
	var given []string
	o.Visit(func(f *flag.Flag) { given = append(given, longName(f.Name)) })
	for _, name := range given {
		needs := c.Needs[name]
		if len(needs) > 0 && !slices.ContainsFunc(needs, func(n string) bool { return slices.Contains(given, n) }) {
			return fault.New(fault.Usage, "--%s needs --%s", name, strings.Join(needs, " or --")).Try("see its options", help)
		}
	}
	for _, apart := range c.apart() {
		var both []string
		for _, name := range apart {
			if slices.Contains(given, name) {
				both = append(both, "--"+name)
			}
		}
		if len(both) > 1 {
			return fault.New(fault.Usage, "%s cannot be used together", strings.Join(both, " and ")).Try("see its options", help)
		}
	}
	return nil
}

// apart are the options of which only one can be given, those that every command has among them.
func (c *Command) apart() [][]string {
	return append(slices.Clone(c.Apart), []string{"quiet", "verbose"}, []string{"preview", "yes"})
}

// common are the options that every command has.
type common struct{ quiet, verbose, json bool }

func (c *common) add(o *flag.FlagSet, of *Command) {
	if of.Gives != nil {
		o.BoolVar(&c.json, "json", false, "one JSON document on standard output")
	}
	o.BoolVar(&c.quiet, "quiet", false, "print less")
	o.BoolVar(&c.verbose, "verbose", false, "also print requests and runs of git (never a secret)")
}

// parse reads options before, between and after the arguments, up to "--".
func parse(o *flag.FlagSet, args []string) ([]string, error) {
	var out []string
	for {
		if err := o.Parse(args); err != nil {
			return nil, err
		}
		rest := o.Args()
		if len(rest) == 0 {
			return out, nil
		}
		// flag stops behind "--", or before the first argument.
		if used := len(args) - len(rest); used > 0 && args[used-1] == "--" {
			return append(out, rest...), nil
		}
		out = append(out, rest[0])
		args = rest[1:]
	}
}

// find follows the words to a command. path is what was typed up to it.
func find(all []*Command, words []string) (c *Command, path []string, rest []string) {
	for len(words) > 0 {
		i := slices.IndexFunc(all, func(x *Command) bool { return x.Name == words[0] })
		if i < 0 {
			break
		}
		c, path, words = all[i], append(path, words[0]), words[1:]
		all = c.Subs
	}
	return c, path, words
}

// Main runs the program and gives its exit code.
func Main(ctx context.Context, e *Env, commands []*Command, args []string) int {
	e.commands, e.ctx = commands, ctx
	if slices.Contains(args, "--json") || slices.Contains(args, "-json") {
		e.json = true // also a wrong command line is told as it was asked for
	}
	err := dispatch(ctx, e, args)
	if err == nil {
		return 0
	}
	e.Fault(err)
	return fault.ExitCode(err)
}

// meant finds the command that is meant; nil where its family's help was shown instead.
func (e *Env) meant(args []string) (c *Command, path, rest []string, err error) {
	c, path, rest = find(e.commands, args)
	if c == nil {
		if err := tradeWord(args); err != nil {
			return nil, nil, nil, err
		}
		return nil, nil, nil, unknown("there is no command "+text.Quote(args[0]), args[0], shown(e.commands), "uncinate help")
	}
	if c.Options != nil {
		return c, path, rest, nil
	}
	help := "uncinate help " + strings.Join(path, " ")
	switch {
	case len(rest) > 0 && slices.Contains([]string{"-h", "-help", "--help"}, rest[0]):
		e.help(e.Out, c, path)
		return nil, nil, nil, nil
	case len(rest) == 0 || strings.HasPrefix(rest[0], "-"):
		return c.Subs[0], append(path, c.Subs[0].Name), rest, nil // a family's name alone does what its first one does
	case c.Falls != "" && c.Means[rest[0]] == "" && text.Nearest(rest[0], shown(c.Subs)) == "":
		for _, sub := range c.Subs {
			if sub.Name == c.Falls {
				return sub, append(path, sub.Name), rest, nil
			}
		}
	case c.Means[rest[0]] != "", c.Word != "" && text.Nearest(rest[0], shown(c.Subs)) == "":
		f := fault.New(fault.Usage, "%s has no sub-command %s", strings.Join(path, " "), text.Quote(rest[0]))
		words := append(append([]string{"uncinate"}, path...), append([]string{c.Word}, rest...)...)
		if meant := c.Means[rest[0]]; meant != "" {
			words = append(append([]string{"uncinate"}, path...), append([]string{meant}, rest[1:]...)...)
		}
		return nil, nil, nil, f.Try("did you mean", text.Command(words...)).Try("or see its sub-commands", help)
	}
	return nil, nil, nil, unknown(fmt.Sprintf("%s has no sub-command %s", strings.Join(path, " "), text.Quote(rest[0])), rest[0], shown(c.Subs), help)
}

func dispatch(ctx context.Context, e *Env, args []string) error {
	if len(args) == 0 {
		return e.here(ctx)
	}
	switch strings.TrimLeft(args[0], "-") {
	case "h", "help":
		if strings.HasPrefix(args[0], "-") {
			args[0] = "help"
		}
	case "version":
		args[0] = "version"
	}
	c, path, rest, err := e.meant(args)
	if err != nil || c == nil {
		return err
	}
	help := "uncinate help " + strings.Join(path, " ")
	o := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	o.SetOutput(io.Discard)
	run := c.Options(o)
	var all common
	all.add(o, c)
	addShorts(o)
	words, err := parse(o, rest)
	e.json = all.json || err != nil && e.json
	if errors.Is(err, flag.ErrHelp) {
		e.help(e.Out, c, path)
		return nil
	}
	if err != nil {
		return c.optionFault(o, err, path, rest, help)
	}
	e.typed.note(c, path, o, words)
	if err := c.fit(o, help); err != nil {
		return err
	}
	if len(words) < c.Least || c.Most >= 0 && len(words) > c.Most {
		f := fault.New(fault.Usage, "usage: %s", strings.TrimSpace("uncinate "+strings.Join(path, " ")+" [options] "+c.Args))
		if len(words) > c.Most && c.Most >= 0 {
			f.Says = fmt.Sprintf("one argument too many: %s", text.Quote(words[c.Most]))
		}
		return f.Try("", help)
	}
	e.quiet, e.verbose = all.quiet, all.verbose
	if agreed := o.Lookup("yes"); agreed != nil {
		e.yes = agreed.Value.String() == "true"
	}
	return run(ctx, e, words)
}

// shown are the names of the commands that help shows.
func shown(all []*Command) []string {
	var names []string
	for _, x := range all {
		if !x.Hidden {
			names = append(names, x.Name)
		}
	}
	return names
}

func unknown(says, word string, names []string, help string) error {
	f := fault.New(fault.Usage, "%s", says)
	if near := text.Nearest(word, names); near != "" {
		f.Detail("Did you mean %s?", near)
	}
	return f.Try("see the commands", help)
}

// badValue is how package flag refuses a value.
var badValue = regexp.MustCompile(`^invalid (?:boolean )?value "(.*)" for (?:flag )?-(\S+): (.*)$`)

// optionFault puts flag's error into our words, with the option that was meant.
func (c *Command) optionFault(o *flag.FlagSet, err error, path, rest []string, help string) error {
	says := err.Error()
	name, found := strings.CutPrefix(says, "flag provided but not defined: -")
	if !found {
		if name, missing := strings.CutPrefix(says, "flag needs an argument: -"); missing {
			f := fault.New(fault.Usage, "a value is missing for --%s", longName(name))
			if longName(name) == "message" {
				f.Try("for example", "uncinate "+strings.TrimPrefix(help, "uncinate help ")+` --message "What was done"`)
			}
			for _, x := range c.Examples {
				if len(f.Remedies) == 0 && strings.Contains(x, " --"+longName(name)+" ") {
					f.Try("for example", x)
					break
				}
			}
			return f.Try("see its options", help)
		}
		f := fault.New(fault.Usage, "%s", text.Excerpt(says, 200))
		if m := badValue.FindStringSubmatch(says); m != nil { // as package flag says it
			f.Says = fmt.Sprintf("not a value for --%s: %s", longName(m[2]), text.Excerpt(m[1], 80))
			if why := strings.TrimPrefix(m[3], "parse error"); why != "" {
				f.Detail("%s", text.Excerpt(why, 200))
			}
		}
		return f.Try("see its options", help)
	}
	if longName(name) == "yes" { // agreed to before anything was asked
		without := slices.DeleteFunc(slices.Clone(rest), func(w string) bool { return strings.TrimLeft(w, "-") == name && w != name })
		return fault.New(fault.Usage, "%s has no option %s%s: it asks nothing", strings.Join(path, " "), text.Either(len(name) == 1, "-", "--"), name).Try("leave it out", typed(append(slices.Clone(path), without...))).Try("or see its options", help)
	}
	var names []string
	o.VisitAll(func(f *flag.Flag) {
		if len(f.Name) > 1 {
			names = append(names, f.Name)
		}
	})
	f := fault.New(fault.Usage, "this command has no option %s%s", text.Either(len(name) == 1, "-", "--"), text.Visible(name))
	if near := text.Nearest(name, names); near != "" {
		f.Detail("Did you mean --%s?", near)
	}
	return f.Try("see its options", help)
}
