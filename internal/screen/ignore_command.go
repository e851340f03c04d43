package screen

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/surveying"
)

func ignoreCommand() *Command {
	return &Command{Name: "ignore",
		Short: "suggest, add and explain ignore rules; keep empty folders",
		Long: `Ignore rules say which files git leaves out. Those of this program stand in the file
.gitignore at the project's top, between two lines of its own; what else stands there
keeps its place.`,
		Subs: []*Command{
			ignoreSuggest(),
			ignoreAdd(),
			ignoreKeep(),
			ignoreExplain(),
		}}
}

func ignoreFolder(o *flag.FlagSet) *string {
	return o.String("folder", ".", "the project's `folder`; the current one unless said")
}

func ignoreSuggest() *Command {
	return &Command{Name: "suggest",
		Short:    "show the rules that fit what the project is made of",
		Long:     `Finds the kinds of the project and what in it can be made again, or is one person's. Nothing is changed.`,
		Examples: []string{"uncinate ignore suggest", "uncinate ignore suggest --folder gauge-firmware"},
		Gives:    surveying.Suggested{},
		Options: func(o *flag.FlagSet) Run {
			in := ignoreFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				r, err := surveying.IgnoreSuggest(ctx, d, *in)
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.suggested(r, *in) })
			})
		}}
}

func ignoreAdd() *Command {
	return &Command{Name: "add", Args: "[RULE...]", Most: -1,
		Short: "add rules, or paths, to the project's ignore rules",
		Long: `RULE is the path of a file or folder, from the project's top, or a pattern as git knows
them. What stands already is not repeated. What git carries already goes on being
carried in spite of any rule; with --untrack it no longer is from the next commit on,
and stays here as a file. Older commits go on holding it.`,
		Examples: []string{"uncinate ignore add config/local.toml", "uncinate ignore add '*.log' --folder tide-almanac", "uncinate ignore add --suggested", "uncinate ignore add --untrack build"},
		Takes:    []string{"file"}, Gives: surveying.Added{},
		Options: func(o *flag.FlagSet) Run {
			a := surveying.AddOptions{}
			in := ignoreFolder(o)
			o.BoolVar(&a.Suggested, "suggested", false, "add the rules that the project's kinds suggest")
			o.BoolVar(&a.Untrack, "untrack", false, "let git carry no longer what the rules hit; it stays here")
			o.BoolVar(&a.Preview, "preview", false, "say what would be done and stop")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				a.Folder, a.Rules = *in, args
				if len(args) == 0 && !a.Suggested {
					return fault.New(fault.Usage, "say which rule or path, or --suggested").Try("see what is suggested", desk.FolderCommand(*in, "ignore", "suggest"))
				}
				r, err := surveying.IgnoreAdd(ctx, d, a)
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.added(r, a) })
			})
		}}
}

func ignoreKeep() *Command {
	return &Command{Name: "keep", Args: "[FOLDER...]", Most: -1,
		Short: "put an empty file into empty folders, so that they go up",
		Long: `FOLDER is an empty folder, from the project's top. git carries no empty folders; a file
called .gitkeep in one keeps it.`,
		Examples: []string{"uncinate ignore keep logs", "uncinate ignore keep --all"},
		Takes:    []string{"file"}, Gives: surveying.Kept{},
		Options: func(o *flag.FlagSet) Run {
			in := ignoreFolder(o)
			all := o.Bool("all", false, "each empty folder that no rule leaves out")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if (len(args) == 0) != *all {
					return fault.New(fault.Usage, "say which folder, or --all").Try("see which are empty", "uncinate survey")
				}
				r, err := surveying.IgnoreKeep(ctx, d, *in, args, *all)
				if err != nil {
					return err
				}
				return e.Give(r, func() {
					if len(r.Files) == 0 {
						e.Say("There is no empty folder here.")
						return
					}
					e.Say("%s", e.Out.wrap(text.Count(len(r.Files), "folder")+" will go up, by an empty file in each: "+e.Out.visible(strings.Join(r.Files, ", ")), 2))
				})
			})
		}}
}

func ignoreExplain() *Command {
	return &Command{Name: "explain", Args: "PATH", Least: 1, Most: 1,
		Short:    "tell which rule leaves a path out, where it stands, and what else it hits",
		Long:     `PATH is a file or folder, from the project's top.`,
		Examples: []string{"uncinate ignore explain build/gauge.map"},
		Takes:    []string{"file"}, Gives: surveying.Explained{},
		Options: func(o *flag.FlagSet) Run {
			in := ignoreFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				r, err := surveying.IgnoreExplain(ctx, d, *in, args[0])
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.explained(r, *in) })
			})
		}}
}

func (e *Env) suggested(r *surveying.Suggested, folder string) {
	name := text.Visible(filepath.Base(r.Folder))
	if len(r.Kinds) > 0 {
		e.Say("%s", e.Out.wrap(name+" is made of "+strings.Join(r.Kinds, ", ")+".", 0))
	}
	if len(r.Rules) == 0 {
		e.Say("Nothing is to be left out that is not left out already.")
		return
	}
	var rows [][]string
	for _, s := range r.Rules {
		rows = append(rows, []string{s.Pattern, text.Count(s.Files, "file") + ", " + text.Size(s.Bytes), s.Why, s.Bring})
	}
	e.Table([]string{"rule", "leaves out", "because it is", "to get it back"}, rows)
	e.Aside("To add them: %s", desk.FolderCommand(folder, "ignore", "add", "--suggested"))
}

func (e *Env) added(r *surveying.Added, o surveying.AddOptions) {
	would := ""
	if o.Preview {
		would = "would be "
	}
	for _, a := range r.Added {
		e.Say("%sadded to %s: %s", would, text.Visible(filepath.Base(r.File)), text.Visible(a))
	}
	for _, s := range r.Stood {
		e.Say("stands already: %s", text.Visible(s))
	}
	if len(r.Added)+len(r.Stood) == 0 {
		e.Say("Nothing is to be added.")
	}
	for _, t := range r.Untracked {
		e.Say("%sno longer carried by git from the next commit on, and kept here: %s", would, text.Visible(t))
	}
	if len(r.Untracked) > 0 && !o.Preview {
		e.Aside("%s", e.Err.wrap("Commits that were made before go on holding it. If it is a secret, replace it where it is used: whoever has those commits has it.", 0))
	}
	if n := len(r.Tracked); n > 0 {
		e.Aside("%s", e.Err.wrap(fmt.Sprintf("git carries %s already and goes on doing so (%s). To end that and keep the file here:", text.Count(n, "such file"), text.Visible(r.Tracked[0])), 0))
		e.Aside("    %s", desk.FolderCommand(o.Folder, append([]string{"ignore", "add", "--untrack"}, o.Rules...)...))
	}
}

func (e *Env) explained(r *surveying.Explained, folder string) {
	p := text.Visible(r.Path)
	where := fmt.Sprintf("%s in %s, line %d", text.Visible(r.Rule), text.Visible(r.File), r.Line)
	switch {
	case r.Tracked && r.Rule != "" && !r.LeftOut:
		e.Say("%s", e.Out.wrap(p+" goes up: git carries it already, so the rule "+where+" does nothing for it.", 0))
		e.Aside("To end that and keep it here: %s", desk.FolderCommand(folder, "ignore", "add", "--untrack", r.Path))
	case r.LeftOut && r.At != r.Path:
		e.Say("%s", e.Out.wrap(p+" stays, since all of "+text.Visible(r.At)+" does: "+where+".", 0))
	case r.LeftOut:
		e.Say("%s", e.Out.wrap(p+" stays: "+where+".", 0))
	case r.Rule != "":
		e.Say("%s", e.Out.wrap(p+" goes up: "+where+" takes back what an earlier rule leaves out.", 0))
	case r.Kind != "":
		e.Say("%s", e.Out.wrap("No rule leaves "+p+" out yet; the first attach adds one, since it is "+r.Kind+".", 0))
	default:
		e.Say("%s goes up: no rule leaves it out.", p)
	}
	if r.Also > 0 {
		var names []string
		for _, s := range r.Such {
			names = append(names, text.Visible(s))
		}
		more := ""
		if r.Also > len(names) {
			more = ", ..."
		}
		e.Say("%s", e.Out.wrap(fmt.Sprintf("The same rule hits %s more: %s%s", text.Count(r.Also, "file"), strings.Join(names, ", "), more), 0))
	}
}
