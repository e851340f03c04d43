package screen

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/surveying"
)

func ignoreCommand() *Command {
	return &Command{Name: "ignore",
		Short: "suggest, add and explain ignore rules; keep empty folders",
		Long: `Ignore rules say which files git leaves out. Those of this program are in the file
.gitignore at the project's top, between two lines of its own; everything else there
keeps its place.`,
		Subs: []*Command{
			ignoreSuggest(),
			ignoreAdd(),
			ignoreKeep(),
			ignoreExplain(),
		}}
}

func ignoreSuggest() *Command {
	return &Command{Name: "suggest", Args: "[FOLDER]", Most: 1,
		Short:    "show the rules that fit what the project is made of",
		Long:     `Finds what the project is made of, and what in it is generated or is one person's. Nothing is changed.`,
		Examples: []string{"uncinate ignore suggest", "uncinate ignore suggest gauge-firmware"},
		Takes:    []string{"folder"}, Gives: surveying.Suggested{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				folder, err := in.of(args...)
				if err != nil {
					return err
				}
				r, err := surveying.IgnoreSuggest(ctx, d, folder)
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.suggested(r, folder) })
			})
		}}
}

func ignoreAdd() *Command {
	return &Command{Name: "add", Args: "[RULE...]", Most: -1,
		Short: "add rules, or paths, to the project's ignore rules",
		Long: `RULE is the path of a file or folder, from the project's top, or a pattern as git knows
them. A rule that is there already is not repeated. What git tracks stays tracked in spite of
any rule; with --untrack it is not from the next commit on, and stays here as a file. Older
commits still hold it.`,
		Examples: []string{"uncinate ignore add config/local.toml", "uncinate ignore add '*.log' --folder tide-almanac", "uncinate ignore add --suggested", "uncinate ignore add --untrack build"},
		Takes:    []string{"file"}, Gives: surveying.Added{},
		Options: func(o *flag.FlagSet) Run {
			a := surveying.AddOptions{}
			in := inFolder(o)
			o.BoolVar(&a.Suggested, "suggested", false, "add the rules that the project's kinds suggest")
			o.BoolVar(&a.Untrack, "untrack", false, "stop tracking what the rules match; it stays here")
			o.BoolVar(&a.Preview, "preview", false, "show what would be done and stop")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				a.Folder, a.Rules = in.in(), args
				if len(args) == 0 && !a.Suggested {
					return fault.New(fault.Usage, "say which rule or path, or --suggested").Try("see what is suggested", desk.FolderCommand(in.in(), "ignore", "suggest"))
				}
				r, err := surveying.IgnoreAdd(ctx, d, a)
				if err != nil {
					return err
				}
				if a.Preview && e.json {
					var items []plan.Item
					for _, rule := range r.Added {
						items = append(items, here("Add to .gitignore: "+text.Visible(rule)))
					}
					for _, path := range r.Untracked {
						items = append(items, here("Stop tracking "+text.Visible(path)))
					}
					return e.would(ctx, "", items...)
				}
				return e.Give(r, func() { e.added(r, a) })
			})
		}}
}

func ignoreKeep() *Command {
	return &Command{Name: "keep", Args: "[FOLDER...]", Most: -1,
		Short: "keep empty folders, by an empty file in each",
		Long: `FOLDER is an empty folder, from the project's top; without one, all that no rule leaves out
are meant. git does not track empty folders; a file called .gitkeep in one keeps it.`,
		Examples: []string{"uncinate ignore keep logs", "uncinate ignore keep --preview"},
		Takes:    []string{"file"}, Gives: surveying.Kept{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				r, err := surveying.IgnoreKeep(ctx, d, in.in(), args, *preview)
				if err != nil {
					return err
				}
				if *preview {
					var items []plan.Item
					for _, f := range r.Files {
						items = append(items, here("Put the empty file "+text.Visible(f)+" into its folder"))
					}
					return e.would(ctx, "", items...)
				}
				return e.Give(r, func() {
					if len(r.Files) == 0 {
						e.Say("There is no empty folder here.")
						return
					}
					e.Say("%s", e.Out.wrap(text.Count(len(r.Files), "empty folder")+text.Either(len(r.Files) == 1, " is now kept by a file in it: ", " are now kept by a file in each: ")+e.Out.visible(strings.Join(r.Files, ", ")), 2))
				})
			})
		}}
}

func ignoreExplain() *Command {
	return &Command{Name: "explain", Args: "PATH", Least: 1, Most: 1,
		Short:    "show which rule leaves a path out, where it is, and what else it matches",
		Long:     `PATH is a file or folder, from the project's top.`,
		Examples: []string{"uncinate ignore explain build/gauge.map"},
		Takes:    []string{"file"}, Gives: surveying.Explained{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				r, err := surveying.IgnoreExplain(ctx, d, in.in(), args[0])
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.explained(r, in.in()) })
			})
		}}
}

func (e *Env) suggested(r *surveying.Suggested, folder string) {
	name := text.Visible(filepath.Base(r.Folder))
	if len(r.Kinds) > 0 {
		e.Say("%s", e.Out.wrap(name+" is made of "+strings.Join(r.Kinds, ", ")+".", 0))
	}
	if len(r.Rules) == 0 {
		e.Say("All that should be ignored is ignored already.")
		return
	}
	var rows [][]string
	for _, s := range r.Rules {
		takes := "nothing yet"
		if s.Files > 0 {
			takes = text.Count(s.Files, "file") + ", " + text.Size(s.Bytes)
		}
		rows = append(rows, []string{s.Pattern, takes, s.Why, s.Bring})
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
		e.Say("is there already: %s", text.Visible(s))
	}
	if len(r.Added)+len(r.Stood) == 0 {
		e.Say("Nothing is to be added.")
	}
	for _, t := range r.Untracked {
		e.Say("%sno longer tracked by git from the next commit on, and still here: %s", would, text.Visible(t))
	}
	if r.Rescued > 0 {
		e.Say("What was staged of it, and is not in the folder, is kept as rescue copy %d: uncinate rescue show %d", r.Rescued, r.Rescued)
	}
	if len(r.Untracked) > 0 && !o.Preview {
		e.Aside("%s", e.Err.wrap("Commits made before still hold it. If it is a secret, replace it where it is used: whoever has those commits has it.", 0))
	}
	if n := len(r.Tracked); n > 0 {
		e.Aside("%s", e.Err.wrap(fmt.Sprintf("git still tracks %s (%s). To stop that and keep the file here:", text.Count(n, "such file"), text.Visible(r.Tracked[0])), 0))
		e.Aside("    %s", desk.FolderCommand(o.Folder, append([]string{"ignore", "add", "--untrack"}, o.Rules...)...))
	}
}

func (e *Env) explained(r *surveying.Explained, folder string) {
	p := text.Visible(r.Path)
	where := fmt.Sprintf("%s in %s, line %d", text.Visible(r.Rule), text.Visible(r.File), r.Line)
	switch {
	case r.Missing && r.LeftOut:
		e.Say("%s", e.Out.wrap("There is no "+p+" in the project. It would be ignored: "+where+".", 0))
		return
	case r.Missing:
		e.Say("%s", e.Out.wrap("There is no "+p+" in the project. No rule would leave it out.", 0))
		return
	case r.Tracked && r.Rule != "" && !r.LeftOut:
		e.Say("%s", e.Out.wrap(p+" goes up: git tracks it already, so the rule "+where+" does nothing for it.", 0))
		e.Aside("To stop that and keep it here: %s", desk.FolderCommand(folder, "ignore", "add", "--untrack", r.Path))
	case r.LeftOut && r.At != r.Path:
		e.Say("%s", e.Out.wrap(p+" is ignored, like all of "+text.Visible(r.At)+": "+where+".", 0))
	case r.LeftOut:
		e.Say("%s", e.Out.wrap(p+" is ignored: "+where+".", 0))
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
		e.Say("%s", e.Out.wrap(fmt.Sprintf("The same rule matches %s: %s%s", text.Count(r.Also, "more file"), strings.Join(names, ", "), more), 0))
	}
}
