package screen

import (
	"context"
	"errors"
	"flag"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/many"
)

func projectCommand() *Command {
	return &Command{Name: "project", Short: "manage the projects attached on this machine: list, find, trust, forget", Subs: []*Command{
		projectList(),
		projectFind(),
		projectTrust(),
		projectForget(),
	}}
}

func projectList() *Command {
	return &Command{Name: "list", Gives: []project.Project{}, Short: "list the attached projects and where they are",
		Long: "What this machine has on record, without asking a host; status --all shows their state.",
		Options: func(o *flag.FlagSet) Run {
			most := mostOption(o)
			return withDesk(func(_ context.Context, e *Env, d *desk.Desk, _ []string) error {
				all, err := project.Register(d)
				if err != nil {
					return err
				}
				return e.Give(append([]project.Project{}, all...), func() { e.projects(all, *most) })
			})
		}}
}

func (e *Env) projects(all []project.Project, most int) {
	if len(all) == 0 {
		e.Say("No project is attached on this machine yet.")
		e.Aside("Next: uncinate attach, or to find clones: uncinate project find FOLDER")
		return
	}
	var rows [][]string
	lost := 0
	for _, p := range all {
		state := ""
		switch {
		case !project.FolderExists(p):
			state = "folder missing"
			lost++
		case p.Second:
			state = "second remote"
		case p.ReceivesOnly:
			state = "receives only"
		}
		rows = append(rows, []string{p.Folder, p.Address, p.Account, p.Attached.Local().Format(time.DateOnly), state})
	}
	e.List([]string{"folder", "address", "account", "attached", "note"}, rows, most)
	if lost > 0 {
		e.Say("")
		e.Say("Find moved folders:     uncinate project find FOLDER")
		e.Say("Forget missing ones:    uncinate project forget --missing")
	}
}

func projectFind() *Command {
	return &Command{Name: "find", Args: "FOLDER", Least: 1, Most: 1, Takes: []string{"folder"}, Gives: []many.Found{},
		Short: "find clones and moved projects below a folder, and register them",
		Long: `Clones that are there already are registered, and projects whose folders were moved are found
again. Nothing in them is changed but git's sign-in.`,
		Examples: []string{"uncinate project find ~/work"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				return e.find(ctx, d, args[0], p)
			})
		}}
}

func projectTrust() *Command {
	return &Command{Name: "trust", Args: "[FOLDER]", Most: 1, Takes: []string{"folder"}, Gives: []project.Danger{},
		Short: "trust the programs and settings that a project's own git configuration names",
		Long: `A folder brings git's configuration along, and with it hooks, filters and other programs that git
runs, and settings that can lead traffic or a token elsewhere. None of them is used for this
program until you have seen and trusted it; what changes later is asked about again. Commands that
only look never run any of it. Plain git obeys all of it at any time.`,
		Examples: []string{"uncinate project trust --preview gauge-firmware", "uncinate project trust"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				folder, err := in.of(args...)
				if err != nil {
					return err
				}
				return e.trust(ctx, d, folder, p)
			})
		}}
}

func (e *Env) trust(ctx context.Context, d *desk.Desk, folder string, p plans) error {
	f, err := project.LookTop(ctx, d, folder)
	if err != nil {
		return err
	}
	which := f.Dangers
	if len(which) == 0 && p.preview {
		return e.would(ctx, "")
	}
	if len(which) == 0 {
		return e.Give([]project.Danger{}, func() {
			e.Say("Nothing in git's configuration of %s is left to trust.", text.Visible(f.Path))
		})
	}
	var items []plan.Item
	var notes []string
	for _, x := range which {
		items = append(items, here("Trust "+x.Sentence()))
		if x.Leads && len(notes) == 0 {
			notes = append(notes, "What leads elsewhere can take your work or your token there. Trust it only if you know why it is there.")
		}
	}
	if goes, err := e.show(ctx, p, "To trust what git's configuration of "+text.Visible(f.Path)+" names, as it is now:", items, "", notes); err != nil || !goes {
		return err
	}
	if err := f.Trusts(ctx, d, which); err != nil {
		return err
	}
	return e.Give(which, func() { e.Say("Trusted, until it changes.") })
}

// meetStrange asks whether the programs that stopped a command are trusted. A yes that was given
// beforehand is enough for those, and never for what leads elsewhere.
func (e *Env) meetStrange(ctx context.Context, d *desk.Desk, err error) (again bool, _ error) {
	var strange *project.Strange
	if !errors.As(err, &strange) || !e.yes && !e.asks || e.yes && strange.Leads {
		return false, err
	}
	f := strange.Folder
	e.Aside("%s:", strings.ToUpper(strange.Says[:1])+strange.Says[1:])
	for _, x := range f.Dangers {
		e.Aside("  %s", x.Sentence())
	}
	if !e.yes {
		answer, asked := e.ask(ctx, "Trust it, as it is now? (yes or no) ")
		if asked != nil {
			return false, asked
		}
		if a := strings.ToLower(answer); a != "yes" && a != "y" {
			return false, err
		}
	}
	return true, f.Trusts(ctx, d, f.Dangers)
}

func projectForget() *Command {
	return &Command{Name: "forget", Args: "[FOLDER...]", Most: -1, Takes: []string{"project"}, Gives: []project.Project{},
		Short: "take projects off this machine's list",
		Long: `The folders and git's configuration in them stay as they are: to untie one, use detach. With
--missing, all whose folders are no longer there.`,
		Examples: []string{"uncinate project forget --missing"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			missing := o.Bool("missing", false, "all whose folders are no longer there")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *missing == (len(args) > 0) {
					return fault.New(fault.Usage, "name the projects' folders, or use --missing").Try("see the projects", "uncinate project list").Try("", "uncinate project forget --missing")
				}
				which, err := many.ToForget(d, args, *missing)
				if err != nil {
					return err
				}
				if len(which) == 0 && p.preview {
					return e.would(ctx, "")
				}
				if len(which) == 0 {
					return e.Give([]project.Project{}, func() { e.Say("Every folder is there; nothing was forgotten.") })
				}
				var items []plan.Item
				for _, x := range which {
					items = append(items, here("Forget "+text.Visible(x.Folder)+", attached to "+text.Visible(x.Address)))
				}
				if goes, err := e.show(ctx, p, "To take projects off the list:", items, "", nil); err != nil || !goes {
					return err
				}
				if err := many.Forget(ctx, d, which); err != nil {
					return err
				}
				return e.Give(which, func() { e.Say("%s forgotten; the folders are as they were.", text.Count(len(which), "project")) })
			})
		}}
}

func (e *Env) find(ctx context.Context, d *desk.Desk, folder string, p plans) error {
	f, err := many.Find(ctx, d, folder)
	if err != nil {
		return err
	}
	known := len(f.Found) - len(f.Items())
	if len(f.Items()) == 0 && p.preview && e.json {
		return e.would(ctx, "")
	}
	if len(f.Items()) == 0 {
		return e.Give(f.Found, func() {
			e.Say("Nothing new: %s found, all registered already.", text.Count(known, "clone"))
		})
	}
	var notes []string
	if known > 0 {
		notes = append(notes, text.Count(known, "clone")+" registered already.")
	}
	if done, err := e.carryOut(ctx, p, "To register what was found:", f, notes); err != nil || !done {
		return err
	}
	return e.Give(f.Found, func() { e.Say("%s. To see all: uncinate status --all", f.Sum()) })
}
