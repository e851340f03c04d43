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
	return &Command{Name: "sync", First: []string{"save", "message", "in", "all", "by", "submodules"}, Args: "[FOLDER]", Most: 1,
		Short: "receive what is new on the host, and send what is new here",
		Long: `Receives first, then sends. Where both sides have new commits, yours are replayed on top of
theirs, or both are merged (--by, or as git's pull.rebase is set); that is tried in a scratch
copy first. Files that both sides changed are decided by settle, or all at once by --clash. Unsaved changes stay as they are, unless they
would be overwritten. Anything that needs you stops it, with everything as it was. Before a
branch or a file is overwritten, a rescue copy is kept.`,
		Examples: []string{"uncinate sync", `uncinate sync --save --message "Correct the almanac"`, "uncinate sync --all", "uncinate sync --preview"},
		Needs:    map[string][]string{"message": {"save"}, "many": {"save"}, "at-once": {"all"}}, Apart: [][]string{{"all", "folder"}, {"all", "preview"}, {"all", "clash"}, {"all", "submodules"}},
		Takes: []string{"project"}, Gives: syncing.Synced{}, Also: map[string]any{"--all": []many.SyncedRow{}},
		Options: func(o *flag.FlagSet) Run {
			var s syncing.Options
			var p plans
			p.add(o)
			in := inFolder(o)
			save := o.Bool("save", false, "commit all that changed first (with --message)")
			o.StringVar(&s.Save, "message", "", "with --save: the commit's message, a `text`")
			o.BoolVar(&s.Many, "many", false, "with --save: save more than 1,000 new files, or 100 MB of them, too")
			o.StringVar(&s.By, "by", "", "`how` both sides' commits are brought together: replay or merge")
			clashOption(o, &s.Clash)
			o.BoolVar(&s.InOnly, "in", false, "receive only, and send nothing")
			o.BoolVar(&s.Submodules, "submodules", false, "bring the submodules that are not here yet too, and move the others where nothing in them is lost")
			all := o.Bool("all", false, "all projects of this machine, several at once")
			jobs := o.Int("at-once", 0, "with --all: how `many` at a time (default: 8)")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *save && s.Save == "" && e.asks && !p.preview {
					var err error
					if s.Save, err = e.ask(ctx, "What was done, in one line? "); err != nil {
						return err
					}
				}
				if *save && strings.TrimSpace(s.Save) == "" {
					return fault.New(fault.Usage, "a commit needs a message").Try("", `uncinate sync --save --message "What was done"`)
				}
				if *all {
					if len(args) > 0 {
						return fault.New(fault.Usage, "--all takes no folder").TryWithout("one project", text.Command("uncinate", "sync", args[0]), "all").TryWithout("all of them", "uncinate sync --all", "folder")
					}
					return e.syncAll(ctx, d, many.SyncAllOptions{Save: s.Save, By: s.By, InOnly: s.InOnly, Many: s.Many, Yes: p.yes, Jobs: *jobs})
				}
				folder, err := in.of(args...)
				if err != nil {
					return err
				}
				s.Folder, s.Preview, s.Ask = folder, p.preview, e.asker(ctx)
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
		e.Say("Nothing to do: both sides are in step.")
		return s.Release()
	}
	if p.preview || len(asks) > 0 {
		if goes, err := e.proposeSync(ctx, p, "To get both sides in step:", s); err != nil || !goes {
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
	return e.propose(ctx, p, what, s, append(s.Asks(), s.Notes()...))
}

func (e *Env) synced(r *syncing.Synced) {
	switch {
	case r.Commit == "":
		e.Say("Nothing to send yet: there is no commit, neither here nor on the host.")
	case r.Received+r.Sent+len(r.Tags) == 0 && r.Unsent == 0 && r.Unpublished:
		e.Say("Nothing new on the host, which does not have the branch %s yet. Here it is at %.10s.", text.Visible(r.Branch), r.Commit)
	case r.Received+r.Sent+len(r.Tags) == 0 && r.Unsent > 0:
		e.Say("Nothing new on the host. Branch %s at %.10s.", text.Visible(r.Branch), r.Commit)
	case r.Unsent > 0:
		e.Say("%s. Branch %s at %.10s.", movedBy(r), text.Visible(r.Branch), r.Commit)
	case r.Received == 0 && r.Sent == 0 && len(r.Tags) == 0:
		e.Say("In step: nothing new on either side. Branch %s at %.10s.", text.Visible(r.Branch), r.Commit)
	default:
		e.Say("In step. %s. Branch %s at %.10s.", movedBy(r), text.Visible(r.Branch), r.Commit)
	}
	switch {
	case r.Unsent > 0 && r.Follows:
		e.Say("%s only here: this copy of the project never sends.", text.Either(r.Unsent == 1, "1 commit is", text.Count(r.Unsent, "commit")+" are"))
	case r.Tried:
		e.Say("It is a branch of somebody's offer, which sync does not send.")
	case r.Unpublished && r.Unsent == 0 && !r.Follows:
		e.Say("To send it: uncinate sync")
	case r.Unsent > 0:
		e.Say("%s not sent. To send: uncinate sync", text.Count(r.Unsent, "commit"))
	}
	if len(r.Others) > 0 {
		e.Say("New commits on the host for %s. To receive them: uncinate branch switch %s && uncinate sync", e.Out.visible(strings.Join(r.Others, ", ")), text.Quote(r.Others[0]))
	}
	if len(r.Submodules) > 0 {
		e.Say("%s", e.Out.wrap("Brought: "+broughtParts(e, r.Submodules)+".", 2))
	}
	if len(r.Tags) > 0 && r.Received+r.Sent > 0 {
		e.Say("New from the host: %s.", tagsIn(r))
	}
	e.ended(r)
	if len(r.Gone) > 0 {
		e.Say("No longer on the host: %s.", e.Out.visible(strings.Join(r.Gone, ", ")))
	}
	if r.Copy != "" {
		e.Say("Your copy on the host has %s as the original has it now.", text.Visible(r.Copy))
	}
	if r.Over != nil {
		e.over(r)
	}
	for _, c := range r.Seconds {
		e.Say("The second remote %s has it too.", text.Visible(c))
	}
	e.left(r.Left)
	if r.Unlooked {
		e.Say("Whether files here are changed was not looked at, since there are so many: uncinate status")
	}
	if len(r.Changed) > 0 {
		e.Say("Not saved yet: %s.", changes(r.Changed))
	}
}

// over tells what became of an offer of the branch.
func (e *Env) over(r *syncing.Synced) {
	e.Say("%s.", strings.ToUpper(r.Over.Says()[:1])+r.Over.Says()[1:])
	switch {
	case r.Over.Newer > 0:
		e.Say("%s not in it. To offer %s: uncinate offer create", text.Either(r.Over.Newer == 1, "1 commit since was", text.Count(r.Over.Newer, "commit")+" since were"), desk.ItThem(r.Over.Newer))
	case r.Over.State == "accepted":
		e.Say("To go on from %s, and remove %s on both sides: uncinate branch remove %s && uncinate sync", text.Visible(r.Over.Target), text.Visible(r.Over.Branch), text.Quote(r.Over.Branch))
	}
}

func movedBy(r *syncing.Synced) string {
	in, out := text.Count(r.Received, "commit"), text.Count(r.Sent, "commit")
	switch {
	case r.Rewritten && r.Sent == 0:
		return "Took the branch as rewritten on the host"
	case r.Together == "replay" && r.Sent == 0:
		return "Received " + in + "; yours were there already, or stay here"
	case r.Together == "replay":
		return fmt.Sprintf("Received %s, and sent %s on top of %s", in, out, desk.ItThem(r.Received))
	case r.Together == "merge":
		return fmt.Sprintf("Received %s, merged %s with %s of yours, and sent that", in, desk.ItThem(r.Received), out)
	case r.Sent == 0 && r.Received == 0 && len(r.Tags) > 0:
		return "Received " + tagsIn(r)
	case r.Sent == 0:
		return "Received " + in
	}
	return "Sent " + out
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
