package syncing

import (
	"context"
	"errors"
	"fmt"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/history"
	"uncinate/internal/world/git"
)

// JoinOptions say which branch is joined, and how.
type JoinOptions struct {
	Folder  string
	Name    string
	Clash   string // as in Options
	Preview bool
}

// JoinBranch merges a branch into the one that is checked out, tried out aside first.
func JoinBranch(ctx context.Context, d *desk.Desk, o JoinOptions) (*Sync, error) {
	if err := checkClash(o.Clash); err != nil {
		return nil, err
	}
	f, held, err := history.Quick(ctx, d, o.Folder)
	if err != nil {
		return nil, err
	}
	s := &Sync{desk: d, folder: f, held: held, options: Options{Folder: o.Folder, Clash: o.Clash, Preview: o.Preview}, joining: o.Name}
	if err := s.joins(ctx, o.Name); err != nil {
		return nil, errors.Join(err, held.Release())
	}
	return s, nil
}

func (s *Sync) joins(ctx context.Context, name string) error {
	d, f := s.desk, s.folder
	b, err := history.LookAtBranches(ctx, d, f)
	if err != nil {
		return err
	}
	theirs, more, err := b.Newest(ctx, name)
	if err != nil {
		return err
	}
	s.unjoined = more
	switch {
	case theirs == "":
		return b.NoBranch(name)
	case f.Branch == "" || f.Head == "":
		return fault.New(fault.Decision, "no branch with a commit is checked out here, into which it could be joined")
	}
	if s.rescuer, err = worktree.RescuerOf(d, f); err != nil {
		return err
	}
	if err := s.heal(ctx); err != nil {
		return err
	}
	if s.decided, err = worktree.DecisionsOf(d, f); err != nil {
		return err
	}
	s.decided.Way = s.options.Clash
	if s.run, _, err = d.Begin("sync", f.Path); err != nil {
		return err
	}
	st, err := f.Repo.Status(ctx, true)
	if err != nil {
		return git.Fault(err, "git cannot tell what changed")
	}
	s.stand = &project.Standing{Folder: f.Path, Branch: f.Branch, Commit: f.Head, Changed: st.Counts(), Status: st, Ours: f.Head, Theirs: theirs}
	if s.Sent, s.Received, err = project.Apart(ctx, f.Repo, f.Head, theirs); err != nil {
		return err
	}
	if s.takenBack, err = worktree.TakenBack(ctx, f, theirs); err != nil {
		return err
	}
	if s.takenBack != "" && s.Received == 0 {
		return fault.New(fault.Decision, "%s was joined before, and commit %.10s took that back: joining it again brings nothing in", text.Visible(name), s.takenBack).
			Detail("Nothing changed.").Try("undo that, which brings it in again", text.Command(s.words("undo", "commit", s.takenBack[:10])...))
	}
	s.text = fmt.Sprintf("Merge branch '%s'\n", name)
	switch {
	case s.Received == 0:
		return nil
	case s.Sent == 0:
		s.need = histories.FastForward
	default:
		s.need = histories.Merge
		if err := project.Signed(f); err != nil {
			return err
		}
	}
	return s.planIn(ctx)
}

// Join carries a join out.
func (s *Sync) Join(ctx context.Context) (*Synced, error) {
	err := s.run.Journal.Close()
	if err == nil && len(s.steps) > 0 {
		err = s.run.Run(ctx, s.steps)
	}
	out := &Synced{Folder: s.folder.Path, Branch: s.stand.Branch, Commit: s.folder.Head, Received: s.Received, Changed: s.stand.Changed, Rescued: s.rescued, Unjoined: s.unjoined, TakenBack: s.takenBack}
	if s.need == histories.Merge {
		out.Together = "merge"
	}
	if s.together != nil {
		out.Decided = s.together.Ended
	}
	if err == nil {
		err = s.settled()
	}
	return out, errors.Join(err, s.held.Release())
}
