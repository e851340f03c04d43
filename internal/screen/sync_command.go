package screen

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/many"
	"uncinate/internal/job/syncing"
)

func syncCommand() *Command {
	return &Command{Name: "sync", Args: "[FOLDER]", Most: 1,
		Short: "bring in what is new on the host and send out what is new here",
		Long: `Brings in first, then sends out. Where both sides have new commits, your own are put on
top of theirs anew, or both are merged (--by, or as git's pull.rebase is set); it is tried
out aside, and done only when it comes out clean. Changes that are not saved stay as they
are, unless they would be written over. Anything that needs you stops it, with everything
as it was. Before a branch or a file is overwritten, a rescue copy is kept.`,
		Examples: []string{"uncinate sync", `uncinate sync --save "Correct the almanac"`, "uncinate sync --all", "uncinate sync --preview"},
		Takes:    []string{"project"}, Gives: syncing.Synced{}, Also: map[string]any{"--all": []many.SyncedRow{}},
		Options: func(o *flag.FlagSet) Run {
			var s syncing.Options
			var p plans
			p.add(o)
			o.StringVar(&s.Save, "save", "", "commit all that changed first, with this `text`")
			o.StringVar(&s.By, "by", "", "how both sides' commits are brought together: `replay` or merge")
			o.BoolVar(&s.InOnly, "in", false, "bring in only, and send nothing")
			all := o.Bool("all", false, "all projects of this machine, several at once")
			jobs := o.Int("at-once", 0, "with --all: how `many` at a time; 8 unless said")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *all {
					if len(args) > 0 || p.preview {
						return fault.New(fault.Usage, "--all takes neither a folder nor --preview").Try("see where all stand", "uncinate status --all")
					}
					return e.syncAll(ctx, d, many.SyncAllOptions{Save: s.Save, By: s.By, InOnly: s.InOnly, Yes: p.yes, Jobs: *jobs})
				}
				s.Folder, s.Preview, s.Ask = folderOf(args), p.preview, e.asker(ctx)
				sync, err := syncing.Plan(ctx, d, s)
				if err != nil {
					return err
				}
				return e.sync(ctx, sync, p)
			})
		}}
}

// sync shows a plan where one is wanted or needs a yes, and carries it out.
func (e *Env) sync(ctx context.Context, s *syncing.Sync, p plans) error {
	if saved := s.Saved(); saved != nil && saved.Commit != "" {
		e.Aside("Saved first: %.10s.", saved.Commit)
	}
	e.items, e.planned = s.Items(), true // the result says the same
	asks := s.Asks()
	if p.preview && s.InStep() && !e.json {
		e.Say("Nothing to do: here and there are in step.")
		return s.Release()
	}
	if p.preview || len(asks) > 0 {
		if goes, err := e.proposeSync(ctx, p, "To bring it into step:", s); err != nil || !goes {
			return err
		}
	}
	r, err := s.Do(ctx)
	if err != nil {
		return err
	}
	return e.Give(r, func() { e.synced(r) })
}

// proposeSync shows the plan, and gives it up unless it is to be gone about.
func (e *Env) proposeSync(ctx context.Context, p plans, what string, s *syncing.Sync) (goes bool, err error) {
	p.yes = p.yes || len(s.Asks()) == 0
	return e.propose(ctx, p, what, s, s.Asks())
}

func (e *Env) synced(r *syncing.Synced) {
	switch {
	case r.Commit == "":
		e.Say("Nothing to send yet: there is no commit here, and none there.")
	case r.BroughtIn == 0 && r.SentOut == 0 && len(r.Tags) == 0:
		e.Say("In step: nothing new, here or there. Branch %s at %.10s.", text.Visible(r.Branch), r.Commit)
	default:
		e.Say("In step. %s. Branch %s at %.10s.", movedBy(r), text.Visible(r.Branch), r.Commit)
	}
	if len(r.Tags) > 0 && r.BroughtIn+r.SentOut > 0 {
		e.Say("New from the host: %s.", tagsIn(r))
	}
	for _, n := range r.Rescued {
		e.Say("What was there before is kept as rescue copy %d: uncinate rescue show %d", n, n)
	}
	if len(r.Gone) > 0 {
		e.Say("No longer on the host: %s.", e.Out.visible(strings.Join(r.Gone, ", ")))
	}
	for _, c := range r.Seconds {
		e.Say("The copy at %s holds it too.", text.Visible(c))
	}
	e.left(r.Left)
	if len(r.Changed) > 0 {
		e.Say("Not saved yet: %s.", changes(r.Changed))
	}
}

func movedBy(r *syncing.Synced) string {
	in, out := text.Count(r.BroughtIn, "commit"), text.Count(r.SentOut, "commit")
	switch {
	case r.Rewritten && r.SentOut == 0:
		return "Took the branch as the host made it anew"
	case r.Together == "replay" && r.SentOut == 0:
		return "Brought in " + in + "; your own were there already, or stay here"
	case r.Together == "replay":
		return fmt.Sprintf("Brought in %s, and sent out %s on top of them", in, out)
	case r.Together == "merge":
		return fmt.Sprintf("Brought in %s, merged them with %s of yours, and sent that out", in, out)
	case r.SentOut == 0 && r.BroughtIn == 0 && len(r.Tags) > 0:
		return "Brought in " + tagsIn(r)
	case r.SentOut == 0:
		return "Brought in " + in
	}
	return "Sent out " + out
}

// tagsIn names the tags that came in, or counts them.
func tagsIn(r *syncing.Synced) string {
	switch {
	case len(r.Tags) == 1:
		return "tag " + text.Visible(r.Tags[0])
	case len(r.Tags) > 5:
		return text.Count(len(r.Tags), "tag")
	}
	return "tags " + text.Visible(strings.Join(r.Tags, ", "))
}
