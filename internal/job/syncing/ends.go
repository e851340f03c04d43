package syncing

import (
	"context"

	"uncinate/internal/core/histories"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/history"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Ends are the two commits that a sync or a join brings together, as far as git knows the host.
type Ends struct {
	Mine, Theirs string
	Base         string // from which both went out, where that is not what they have in common
	Ahead        int    // commits that are only here
	Behind       int
	There        string // where the other side is: "on the host", or "on deck"
	Merge        bool   // both sides have commits, so that they can clash
	Replays      bool   // a sync would replay those that are only here
}

// EndsOf finds them for what stopped in a folder; for a sync where nothing did.
func EndsOf(ctx context.Context, d *desk.Desk, f *project.Folder, stopped worktree.Stopped) (*Ends, error) {
	if stopped.Name != "" {
		b, err := history.LookAtBranches(ctx, d, f)
		if err != nil {
			return nil, err
		}
		theirs, _, err := b.Newest(ctx, stopped.Name)
		if err != nil {
			return nil, err
		}
		e := &Ends{Mine: f.Head, Theirs: theirs, There: where(stopped.Name)}
		if theirs == "" || f.Head == "" {
			return e, nil
		}
		e.Ahead, e.Behind, err = project.Apart(ctx, f.Repo, f.Head, theirs)
		e.Merge = e.Ahead > 0 && e.Behind > 0
		return e, err
	}
	p, err := project.ProjectOf(ctx, d, f)
	if err != nil {
		return nil, err
	}
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return nil, err
	}
	s := &Sync{desk: d, folder: f, project: p, tie: &project.Tie{Remote: p.Remote}, stand: &project.Standing{Branch: f.Branch, Ours: f.Head}}
	if s.tracked, err = f.Repo.LocalRefs(ctx, common); err != nil {
		return nil, git.Fault(err, "git cannot list what it knows of the host")
	}
	s.refs = web.Refs{IDs: map[string]string{"refs/heads/" + f.Branch: s.tracked[s.track(f.Branch)]}}
	e := &Ends{Mine: f.Head, There: where("")}
	if e.Theirs = s.refs.Branch(f.Branch); e.Theirs == "" || f.Head == "" {
		return e, nil
	}
	if err := s.look(ctx); err != nil {
		return nil, err
	}
	e.Base, e.Ahead, e.Behind = s.was, s.two.Ahead, s.two.Behind
	if s.was != "" {
		e.Ahead = s.two.Own
	}
	e.Replays = s.need == histories.Replay
	e.Merge = e.Replays || s.need == histories.Merge
	return e, nil
}
