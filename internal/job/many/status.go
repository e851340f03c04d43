package many

import (
	"context"
	"slices"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/desk"
	"uncinate/internal/desk/foreseeing"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/claims"
	"uncinate/internal/world/web"
)

// Status tells the state of one project. With ask, the host is asked too; one that cannot be asked
// is told of, and is not an error.
func Status(ctx context.Context, d *desk.Desk, given string, ask bool) (*project.Standing, error) {
	s, err := status(ctx, d, given, ask)
	if err != nil {
		return nil, err
	}
	s.Offer = offering.SaysOf(d, s.Folder, s.Branch)
	f := board.Facts{Unfinished: s.Unfinished, Detached: s.Branch == "", NowAt: s.NowAt, Refused: s.WhyNot, Reply: s.Reply, Empty: s.Commit == "", Unsent: s.Unsent, Gone: s.Gone, Follows: s.Follows, HeldBy: s.HeldBy, Others: s.Others, Ahead: s.Ahead, Behind: s.Behind, Moved: s.Moved,
		Changed: s.Changed, Branches: s.Branches, Stashes: s.Stashes, CutOff: s.CutOff, Clash: s.Clashing, Meets: paths(s.Meets)}
	s.State, _, _ = f.Word()
	if s.Stopped != nil {
		s.Remedies = desk.Commands(s.Stopped)
		return s, nil
	}
	if s.State != s.Reply || len(s.Remedies) == 0 {
		s.Remedies = remediesFor(f, s.Folder)
	}
	return s, nil
}

func status(ctx context.Context, d *desk.Desk, given string, ask bool) (*project.Standing, error) {
	f, p, err := project.ProjectLoosely(ctx, d, given)
	if err != nil {
		return nil, err
	}
	s, err := stand(ctx, d, f, p)
	if err != nil {
		return nil, err
	}
	l, err := project.Glance(d, p)
	if err == nil { // in another form than files only git reads them: it is told less then
		s.CutOff = l.CutOff
		s.Branches, s.Rescues = project.OnlyHere(ctx, d, f.Repo, l, s.Status), worktree.CopiesKept(l.Common)
		s.Others = project.NotReceived(ctx, f.Repo, l, s.Branch, web.Refs{})
	} else {
		l = nil
	}
	s.Stashes, s.Redo = s.Status.Stashes, worktree.ToRedo(f)
	if x, err := f.Middle(); err == nil && x != nil { // otherwise it is told below
		s.Unfinished = x.What
	}
	if err := f.Finished(ctx); err != nil {
		s.Stopped = fault.Of(err)
	} else if s.Branch == "" {
		s.Stopped = project.OnNoBranch(f.Path)
	}
	if !ask {
		claims.Stand(ctx, d, f, s, nil, web.Refs{})
		foresee(ctx, d, f, s, foreseeing.Options{Remote: p.Remote, Status: s.Status})
		return s, nil
	}
	h, err := project.TieOf(ctx, d, f, p)
	if err != nil {
		notTold(s, err)
		return s, ctx.Err()
	}
	refs, err := project.Refs(ctx, d, h, "")
	if err != nil {
		notTold(s, err)
		if fault.Is(err, fault.HostSaidNo) {
			if there, found := project.WentTo(ctx, d, []project.Project{p})[p.Folder]; found {
				s.NowAt = there.Path()
			}
		}
		return s, ctx.Err()
	}
	s.Asked = true
	claims.Stand(ctx, d, f, s, h, refs)
	if l != nil {
		s.Others = project.NotReceived(ctx, f.Repo, l, s.Branch, refs)
		if err := project.Touch(l.Common, project.TagsSeen(l.Common)); err != nil {
			return nil, err
		}
	}
	if s.Branch == "" {
		return s, nil
	}
	there := refs.Branch(s.Branch)
	s.Moved = there != "" && there != s.Theirs && there != s.Ours
	s.Gone = s.Commit != "" && there == "" && s.Theirs != ""
	s.Unsent = s.Commit != "" && there == "" && !s.Gone
	if s.Gone && l != nil {
		s.HeldBy = project.HeldOnHost(ctx, f.Repo, l, s.Commit, refs)
	}
	if there != "" && there == s.Ours {
		s.Ahead, s.Behind = 0, 0
	}
	foresee(ctx, d, f, s, foreseeing.Options{Remote: h.Remote, Tie: h, Heads: heads(refs), Status: s.Status})
	return s, ctx.Err()
}

// heads are the branches that a host told of.
func heads(refs web.Refs) map[string]string {
	out := map[string]string{}
	for _, b := range refs.Branches() {
		out[b] = refs.Branch(b)
	}
	return out
}

// foresee adds what was changed on both sides. What keeps it from being seen is told, and is not
// an error: nothing depends on it.
func foresee(ctx context.Context, d *desk.Desk, f *project.Folder, s *project.Standing, o foreseeing.Options) {
	seen, err := foreseeing.Look(ctx, d, f, o)
	s.Meets, s.Clashing, s.NotAll = seen.Files, seen.Clash, seen.NotAll
	if err != nil && ctx.Err() == nil {
		s.NotAll = "What is new on the host could not be looked through: " + fault.Of(err).Says
	}
}

// paths are those of files that were changed on both sides, each once.
func paths(all []project.Meets) []string {
	var out []string
	for _, m := range all {
		if !slices.Contains(out, m.Path) {
			out = append(out, m.Path)
		}
	}
	return out
}

// notTold notes why the host told nothing.
func notTold(s *project.Standing, err error) {
	f := fault.Of(err)
	s.WhyNot, s.Reply, s.Remedies = f.Says, replyOf(err), desk.Commands(f)
}

// replyOf tells what a host made of being asked, where it told nothing.
func replyOf(err error) string {
	switch {
	case fault.Is(err, fault.HostSaidNo):
		return "refused"
	case fault.Is(err, fault.Decision), fault.Is(err, fault.Refused), fault.Is(err, fault.Usage):
		return "not asked" // something here keeps it from being asked
	}
	return "no answer"
}

// stand reads the work tree and what git knows of the host, without asking it.
func stand(ctx context.Context, d *desk.Desk, f *project.Folder, p project.Project) (*project.Standing, error) {
	s, err := project.StandHere(ctx, f, p, false)
	if err != nil {
		return nil, err
	}
	if f.Branch == "" {
		return s, nil
	}
	if id, err := f.Repo.Resolve(ctx, "refs/remotes/"+p.Remote+"/"+f.Branch+"^{commit}"); err == nil {
		s.Theirs = id
		if s.Status.Upstream != p.Remote+"/"+f.Branch && s.Commit != "" { // git compared it with another branch, or with none
			if s.Ahead, s.Behind, err = project.Apart(ctx, f.Repo, s.Commit, id); err != nil {
				return nil, err
			}
		}
	} else if s.Commit != "" {
		s.Unsent = true
	}
	return s, nil
}
