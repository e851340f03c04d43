package syncing

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// Do carries the plan out.
func (s *Sync) Do(ctx context.Context) (*Synced, error) {
	r, err := s.do(ctx)
	return r, errors.Join(s.afterSaving(err), s.held.Release())
}

// synced is what came of it, as far as it is known without looking again.
func (s *Sync) synced() *Synced {
	out := &Synced{Folder: s.folder.Path, Address: s.tie.Address.String(), Branch: s.stand.Branch, Commit: s.folder.Head, Received: s.Received, Sent: s.Sent, Changed: s.stand.Changed,
		Rewritten: s.Rewritten, Gone: s.newlyGone(), Tags: s.Tags, Rescued: s.rescued}
	out.Unlooked = s.unlooked
	if s.saved != nil {
		out.Saved, out.Left = s.saved.Commit, s.saved.Left
	}
	if s.need == histories.Replay || s.need == histories.Merge {
		out.Together = string(s.need)
	}
	if s.together != nil {
		out.Decided = s.together.Ended
	}
	return out
}

func (s *Sync) do(ctx context.Context) (*Synced, error) {
	err := s.run.Journal.Close()
	if err == nil && len(s.steps) > 0 {
		err = s.run.Run(ctx, s.steps)
	}
	if err != nil {
		return nil, err
	}
	if s.Moved != nil { // it is followed now; what is new there comes next
		s.Moved = nil
		s.steps = nil
		f, p, err := project.ProjectFor(ctx, s.desk, s.folder.Path)
		if err != nil {
			return nil, err
		}
		s.folder, s.project, s.options.Save = f, p, ""
		if err := s.prepare(ctx); err != nil {
			return nil, err
		}
		if len(s.Asks()) > 0 {
			return nil, fault.New(fault.Decision, "the project follows the repository to its new place; what it holds there needs a look first").Try("go on", text.Command(s.words("sync")...))
		}
		return s.do(ctx)
	}
	st, out := s.stand, s.synced()
	if s.need.BringsIn() && len(out.Changed) > 0 {
		after, err := s.folder.Repo.Status(ctx, false)
		if err != nil {
			return nil, git.Fault(err, "git cannot tell what changed")
		}
		out.Changed = after.Counts()
	}
	if err := s.checkSent(ctx, out.Commit); err != nil {
		return nil, err
	}
	if err := project.NoteContact(s.desk, s.folder, s.refs); err != nil {
		return nil, err
	}
	if err := project.NoteGone(s.rescuer.Common, s.Gone); err != nil {
		return nil, err
	}
	l := &project.Local{Remote: s.tie.Remote, Refs: s.tracked}
	out.Others = project.NotReceived(ctx, s.folder.Repo, l, st.Branch, s.refs)
	if err := s.settled(); err != nil {
		return nil, err
	}
	if err := s.modulesAsked(ctx); err != nil {
		return nil, err
	}
	out.Submodules = s.Filled
	if s.two.InOnly {
		out.Unpublished = s.two.Here && !s.two.There
		if out.Unsent, out.Follows = s.two.Ahead, s.project.ReceivesOnly; s.two.Rewritten {
			out.Unsent = s.two.Own
		}
	} else {
		out.Seconds, err = s.sendToSeconds(ctx)
	}
	out.Tried = s.tries()
	if out.Over = s.toldOver(ctx, out.Commit); err == nil {
		err = s.copyInStep(ctx, out)
	}
	return out, err
}

// checkSent asks the host for what was sent.
func (s *Sync) checkSent(ctx context.Context, commit string) error {
	if !s.need.Sends(s.two) {
		return nil
	}
	refs, err := project.Refs(ctx, s.desk, s.tie, "")
	if err != nil {
		return err
	}
	if refs.Branch(s.stand.Branch) != commit {
		return fault.New(fault.Failed, "the check with the host failed: it does not hold the commits that were sent")
	}
	if !s.two.There { // it was the first of that branch
		project.NoteHeadless(s.desk, s.tie.Address, refs, s.stand.Branch)
	}
	return nil
}

// newlyGone lists the branches of which it was not told yet that the host has them no longer.
func (s *Sync) newlyGone() []string {
	told := project.Gone(s.rescuer.Common)
	return slices.DeleteFunc(slices.Clone(s.Gone), func(b string) bool { return slices.Contains(told, b) })
}

// sendToSeconds sends the branch to the places that only receive.
func (s *Sync) sendToSeconds(ctx context.Context) ([]string, error) {
	all, err := project.Register(s.desk)
	if err != nil {
		return nil, err
	}
	var sent []string
	for _, p := range all {
		if p.Folder != s.folder.Path || !p.Second || p.Remote == s.tie.Remote {
			continue
		}
		h, err := project.TieOf(ctx, s.desk, s.folder, p)
		if err == nil {
			err = project.Push(ctx, s.desk, h, project.Sending{Refs: []project.Sent{project.SendBranch(s.stand.Branch)}})
		}
		if err != nil {
			f := *fault.Of(err)
			f.Details = append(slices.Clone(f.Details), fmt.Sprintf("The branch is in step with %s; only the copy %s at %s did not get it.", s.tie.Address.String(), text.Visible(p.Remote), text.Visible(p.Address)))
			return sent, &f
		}
		sent = append(sent, p.Address)
	}
	return sent, nil
}
