package screen

import (
	"context"
	"flag"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/machine"
)

// MachineCleared is what was taken away, as a JSON document.
type MachineCleared struct {
	Machine string            `json:"machine"`
	Done    []string          `json:"done"`
	Stays   []machine.Staying `json:"stays" says:"projects whose folders stay"`
	Notes   []string          `json:"notes,omitempty"`
}

func machineClear() *Command {
	return &Command{Name: "clear", Gives: MachineCleared{}, Short: "take away all that this program left on this machine, such as a borrowed one",
		Long: `Shows all of it first. The keys and tokens of this machine are ended on their hosts, then the vault, the keys and all
that was noted here are removed. Projects stay, without their sign-in; with --projects their folders go too, but for
those of which anything is only here. Nothing is removed that is nowhere else.`,
		Examples: []string{"uncinate machine clear --preview", "uncinate machine clear --projects"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var c machine.ClearOptions
			o.BoolVar(&c.Here, "here", false, "leave keys and tokens valid on their hosts")
			o.BoolVar(&c.Projects, "projects", false, "remove the projects' folders too, where nothing is only in them")
			o.BoolVar(&c.Ignored, "with-ignored", false, "with --projects: also where they hold files that git ignores")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				k, err := machine.PlanClear(ctx, d, c)
				if err != nil {
					return err
				}
				doc := MachineCleared{Machine: k.Name, Done: []string{}, Stays: k.Stays}
				if len(k.Items()) == 0 {
					return e.Give(doc, func() { e.Say("This program has left nothing on this machine.") })
				}
				if goes, err := e.propose(ctx, p, "To clear this machine of what this program left here:", k, append(k.Notes, staying(k, c)...)); err != nil || !goes {
					return err
				}
				before := len(k.Notes)
				if err := k.Do(ctx); err != nil {
					return err
				}
				for _, i := range k.Items() {
					doc.Done = append(doc.Done, i.Sentence)
				}
				doc.Notes = k.Notes
				return e.Give(doc, func() {
					for _, n := range k.Notes[before:] {
						e.Aside("%s", e.Err.wrap(n, 0))
					}
					e.Say("%s", e.Out.strong("Cleared."))
					if n := len(k.Stays); n > 0 {
						e.Say("%s %s, without a sign-in.", text.Count(n, "project"), text.Either(n == 1, "stays", "stay"))
					}
				})
			})
		}}
}

// staying says which folders stay, and why.
func staying(k *machine.Clearing, c machine.ClearOptions) []string {
	var notes []string
	for i, s := range k.Stays {
		if i == 3*mostLines {
			notes = append(notes, text.Count(len(k.Stays)-i, "further project")+" stay.")
			break
		}
		says := text.Visible(s.Folder) + " stays"
		if s.Says != "" {
			says += ": " + s.Says
		}
		notes = append(notes, says+".")
	}
	return notes
}
