package many

import (
	"context"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
)

// Status tells the state of one project. With ask, the host is asked too; one that cannot be asked
// is told of, and is no error.
func Status(ctx context.Context, d *desk.Desk, given string, ask bool) (*project.Standing, error) {
	s, err := status(ctx, d, given, ask)
	if err != nil {
		return nil, err
	}
	f := board.Facts{NowAt: s.NowAt, Refused: s.WhyNot, Empty: s.Commit == "", Unsent: s.Unsent, Ahead: s.Ahead, Behind: s.Behind, Moved: s.Moved,
		Changed: s.Changed, Branches: s.Branches, Stashes: s.Stashes, CutOff: s.CutOff}
	s.State, _, _ = f.Word()
	s.Remedies = remediesFor(s.State, s.Folder)
	if s.CutOff {
		s.Remedies = remediesFor("behind", s.Folder)
	}
	return s, nil
}

func status(ctx context.Context, d *desk.Desk, given string, ask bool) (*project.Standing, error) {
	f, p, err := project.ProjectFor(ctx, d, given)
	if err != nil {
		return nil, err
	}
	s, err := stand(ctx, d, f, p)
	if err != nil {
		return nil, err
	}
	if l, err := project.Glance(d, p); err == nil { // in another form than files only git reads them: it is told less then
		s.CutOff = l.CutOff
		s.Branches, s.Rescues = project.OnlyHere(ctx, d, f.Repo, l, s.Status), copiesKept(l.Common)
	}
	s.Stashes = s.Status.Stashes
	if !ask {
		return s, nil
	}
	h, err := project.TieOf(ctx, d, f, p)
	if err != nil {
		s.WhyNot = fault.Of(err).Says
		return s, ctx.Err()
	}
	refs, err := project.Refs(ctx, d, h, "")
	if err != nil {
		s.WhyNot = fault.Of(err).Says
		if fault.Is(err, fault.HostSaidNo) {
			if there, found := project.WentTo(ctx, d, []project.Project{p})[p.Folder]; found {
				s.NowAt = there.Path()
			}
		}
		return s, ctx.Err()
	}
	s.Asked = true
	if l, err := project.Glance(d, p); err == nil {
		if err := project.Touch(l.Common, project.TagsSeen(l.Common)); err != nil {
			return nil, err
		}
	}
	there := refs.Branch(s.Branch)
	s.Moved = there != "" && there != s.Theirs && there != s.Ours
	s.Unsent = s.Commit != "" && there == ""
	if there != "" && there == s.Ours {
		s.Ahead, s.Behind = 0, 0
	}
	return s, nil
}

// stand reads the work tree and what git knows of the host, without asking it.
func stand(ctx context.Context, d *desk.Desk, f *project.Folder, p project.Project) (*project.Standing, error) {
	s, err := project.StandHere(ctx, f, p, false)
	if err != nil {
		return nil, err
	}
	if id, err := f.Repo.Resolve(ctx, "refs/remotes/"+p.Remote+"/"+f.Branch+"^{commit}"); err == nil {
		s.Theirs = id
	} else if s.Commit != "" {
		s.Unsent = true
	}
	return s, nil
}
