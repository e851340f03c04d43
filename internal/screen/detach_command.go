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
		Short: "take the hook off; after an unfinished attach, put everything back",
		Long: `From a finished attach it takes the remote and its sign-in out of git's configuration
here; files, commits and the hosted repository stay as they are.

After an attach that was cut off it puts back what that attach did: here, and on the
host the repository that it made, if nothing else was sent to it since. The plan says
so before; a deletion on the host cannot be taken back.`,
		Examples: []string{"uncinate detach --preview", "uncinate detach --keep-hosted gauge-firmware"},
		Takes:    []string{"project"}, Gives: Detached{},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var t attach.DetachOptions
			o.StringVar(&t.Remote, "remote", "", "git's `name` for it here; the hooked one unless said")
			o.BoolVar(&t.HookOnly, "hook-only", false, "take only the hook off, also after an unfinished attach")
			o.BoolVar(&t.KeepHosted, "keep-hosted", false, "leave the hosted repository that the unfinished attach made")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				t.Folder, t.Preview = folderOf(args), p.preview
				return runDetach(ctx, e, d, p, t)
			})
		}}
}

// Detached is what detach did, as a JSON document.
type Detached struct {
	Done       []plan.Item `json:"done"`
	Unfinished bool        `json:"unfinished" says:"an attach was cut off here, and it was put back"`
	Notes      []string    `json:"notes,omitempty"`
}

func runDetach(ctx context.Context, e *Env, d *desk.Desk, p plans, o attach.DetachOptions) error {
	t, err := attach.PlanDetach(ctx, d, o)
	if err != nil {
		return err
	}
	head := "To take the hook off:"
	if t.Unfinished && !o.HookOnly {
		head = "An attach was cut off here. To put everything back:"
	}
	if done, err := e.carryOut(ctx, p, head, t, t.Notes); err != nil || !done {
		return err
	}
	return e.Give(Detached{append([]plan.Item{}, t.Items()...), t.Unfinished, t.Notes}, func() { e.Say("%s", e.Out.strong("Detached.")) })
}
