package screen

import (
	"context"
	"flag"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/many"
)

func projectCommand() *Command {
	return &Command{Name: "project", Short: "manage the projects attached on this machine: list, find, forget", Subs: []*Command{
		projectList(),
		projectFind(),
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
				if err := many.Forget(d, which); err != nil {
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
