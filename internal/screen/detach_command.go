package screen

import (
	"context"
	"flag"

	"uncinate/internal/core/plan"
	"uncinate/internal/desk"
	"uncinate/internal/job/attach"
)

func detachCommand() *Command {
	return &Command{Name: "detach", Args: "[FOLDER]", Most: 1,
		Short: "untie a project from its repository; after an unfinished attach, put everything back",
		Long: `After a finished attach it removes the remote and its sign-in from git's configuration
here; files, commits and the repository on the host stay as they are.

After an attach that was interrupted it puts back what that attach did: here, and on the
host the repository that it created, if nothing else was sent to it since. The plan says
so first; a deletion on the host cannot be undone.`,
		Examples: []string{"uncinate detach --preview", "uncinate detach --keep-repository gauge-firmware"},
		Takes:    []string{"project"}, Gives: Detached{}, Apart: [][]string{{"remote-only", "keep-repository"}},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var t attach.DetachOptions
			in := inFolder(o)
			o.StringVar(&t.Remote, "remote", "", "git's `name` for it here (default: the attached one)")
			o.BoolVar(&t.RemoteOnly, "remote-only", false, "remove only the remote and its sign-in, also after an unfinished attach")
			o.BoolVar(&t.KeepRepository, "keep-repository", false, "leave the repository that the unfinished attach created on the host")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) (err error) {
				if t.Folder, err = in.of(args...); err != nil {
					return err
				}
				t.Preview = p.preview
				return runDetach(ctx, e, d, p, t)
			})
		}}
}

// Detached is what detach did, as a JSON document.
type Detached struct {
	Done       []plan.Item `json:"done"`
	Unfinished bool        `json:"unfinished" says:"an attach was interrupted here, and it was put back"`
	Notes      []string    `json:"notes,omitempty"`
}

func runDetach(ctx context.Context, e *Env, d *desk.Desk, p plans, o attach.DetachOptions) error {
	t, err := attach.PlanDetach(ctx, d, o)
	if err != nil {
		return err
	}
	head := "To detach it:"
	if t.Unfinished && !o.RemoteOnly {
		head = "An attach was interrupted here. To put everything back:"
	}
	if done, err := e.carryOut(ctx, p, head, t, t.Notes); err != nil || !done {
		return err
	}
	return e.Give(Detached{append([]plan.Item{}, t.Items()...), t.Unfinished, t.Notes}, func() { e.Say("%s", e.Out.strong("Detached.")) })
}
