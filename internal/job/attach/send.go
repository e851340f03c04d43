package attach

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/world/git"
)

// sent names the branches that go up.
func (a *Attach) sent() []string {
	if a.Options.Branches && len(a.Folder.Branches) > 0 {
		all := slices.Clone(a.Folder.Branches)
		if j := a.joins.Way; j != nil {
			if i := slices.Index(all, j.Was); i >= 0 {
				all[i] = j.Branch // it is called so by then
			}
		}
		return all
	}
	return []string{a.Branch}
}

// stayed lists the branches of which the host does not hold what is here.
func (a *Attach) stayed(ctx context.Context) (branches, tags []string, err error) {
	var out []string
	named, err := a.Folder.Repo.Do(ctx, "for-each-ref", "--format=%(refname:lstrip=2)", "refs/tags/")
	if err != nil {
		return nil, nil, git.Fault(err, "git cannot list the tags")
	}
	for _, b := range a.Folder.Branches {
		if !slices.Contains(a.sent(), b) && (a.joins.Way == nil || b != a.joins.Way.Was) {
			out = append(out, b)
		}
	}
	if len(out) == 0 && named == "" {
		return nil, nil, nil
	}
	there, err := project.Refs(ctx, a.Desk, a.Tie, "")
	if err != nil {
		return nil, nil, err
	}
	for tag := range strings.FieldsSeq(named) {
		if there.IDs["refs/tags/"+tag] == "" {
			tags = append(tags, tag)
		}
	}
	return slices.DeleteFunc(out, func(b string) bool {
		held := there.Branch(b)
		return held != "" && a.Folder.Contains(ctx, held, "refs/heads/"+b)
	}), tags, nil
}

func (a *Attach) stepSend() desk.Step {
	branches := a.sent()
	what := "Send branch " + text.Visible(branches[0])
	if len(branches) > 1 {
		what = fmt.Sprintf("Send %s: %s", text.Count(len(branches), "branch"), text.Excerpt(strings.Join(branches, ", "), 60))
	}
	if a.Create && a.ByPush() {
		what += "; the first push makes the repository there, " + a.Login.Host.Actions["repository-create"].Makes
	}
	return a.BareSend().Planned(plan.Here, what,
		func(ctx context.Context) (bool, error) { return a.sentBefore(ctx, branches) },
		func(ctx context.Context) error { return a.send(ctx, branches) })
}

// sentBefore reports whether the host holds the branches, and git here knows of it.
func (a *Attach) sentBefore(ctx context.Context, branches []string) (bool, error) {
	if a.Create && target.FactID.Of(a.Run) == "" && !a.ByPush() {
		return false, nil
	}
	all, err := a.arrived(ctx)
	if a.ByPush() && fault.Is(err, fault.HostSaidNo) {
		return false, nil // the push is what makes it
	}
	if err != nil || !all {
		return false, err
	}
	usual := "+refs/heads/*:refs/remotes/" + a.Options.Remote + "/*"
	if fetch, err := a.Folder.Repo.OwnAll("remote." + a.Options.Remote + ".fetch"); err != nil || !slices.Equal(fetch, []string{usual}) {
		return true, nil
	}
	for _, b := range branches { // git itself must know of it; it does not where the answer was lost
		here, err := a.Folder.Repo.Resolve(ctx, "refs/heads/"+b)
		if err != nil {
			return false, git.Fault(err, "the branch %s cannot be read", text.Visible(b))
		}
		if known, err := a.Folder.Repo.Resolve(ctx, "refs/remotes/"+a.Options.Remote+"/"+b); err != nil || known != here {
			return false, nil
		}
	}
	return true, nil
}

// send pushes the branches, and journals before what it sends and what was there.
func (a *Attach) send(ctx context.Context, branches []string) error {
	all := project.Sending{Follows: true}
	for _, b := range branches {
		all.Refs = append(all.Refs, project.SendBranch(b))
		id, err := a.Folder.Repo.Resolve(ctx, "refs/heads/"+b)
		if err != nil {
			return git.Fault(err, "the branch %s cannot be read", text.Visible(b))
		}
		if err := target.FactSent.About(b).Note(a.Run, id); err != nil {
			return err
		}
	}
	if j := a.joins.Way; j != nil {
		if err := target.FactThere.About(j.Branch).Note(a.Run, j.Tip); err != nil {
			return err
		}
	}
	if a.Vacant {
		if err := target.FactVacant.Note(a.Run, true); err != nil {
			return err
		}
	}
	if a.ByPush() {
		if err := target.FactByPush.Note(a.Run, true); err != nil {
			return err
		}
	}
	err := project.Push(ctx, a.Desk, a.Tie, all)
	a.Went = err == nil
	return err
}

// arrived compares the branches that were to be sent with what the host holds.
func (a *Attach) arrived(ctx context.Context) (bool, error) {
	refs, err := a.RemoteRefs(ctx)
	if err != nil {
		return false, err
	}
	if a.Unborn == "" && a.Login == nil {
		project.NoteHeadless(a.Desk, a.Tie.Address, refs, a.Branch)
	}
	for _, b := range a.sent() {
		id, err := a.Folder.Repo.Resolve(ctx, "refs/heads/"+b)
		if err != nil || refs.Branch(b) != id {
			return false, nil
		}
	}
	return true, nil
}

func (a *Attach) stepVerify(something bool) desk.Step {
	where := "the address itself"
	if a.Login != nil {
		where = a.Login.Host.Name
	}
	what := "Check with " + where + " that everything arrived"
	if !something {
		what = "Check with " + where + " that it is there; there is nothing to send yet"
	}
	return a.BareVerify().Planned(plan.Host, what, nil, func(ctx context.Context) error { return a.verify(ctx, something) })
}

// verify asks the host itself: same commit, same default branch, visibility as asked.
func (a *Attach) verify(ctx context.Context, something bool) error {
	wrong := func(format string, args ...any) error {
		return fault.New(fault.Failed, "the check with the host failed: "+format, args...)
	}
	if something {
		arrived := a.arrived
		if a.Former != "" {
			arrived = a.moves.MovedAll
		}
		all, err := arrived(ctx)
		if err != nil {
			return err
		}
		if !all {
			return wrong("%s does not hold the commit that was sent", a.Tie.Address.String())
		}
	}
	if a.Login == nil {
		return nil
	}
	there, found, err := a.Login.Repository(ctx, a.Repository.Owner, a.Repository.Name)
	switch {
	case err != nil:
		return err
	case !found:
		return wrong("%s no longer shows %s", a.Login.Host.Name, a.Repository.Path())
	case a.Repository.ID != "" && there.ID != a.Repository.ID:
		return wrong("%s shows another repository under the name %s", a.Login.Host.Name, a.Repository.Path())
	case a.Create && there.Visibility != a.Repository.Visibility:
		return wrong("%s shows %s as %s, and %s was asked for", a.Login.Host.Name, a.Repository.Path(), there.Visibility, a.Repository.Visibility)
	case something && a.Create && there.DefaultBranch != "" && there.DefaultBranch != a.Branch:
		return wrong("%s has %s as its default branch, and %s was sent", a.Repository.Path(), there.DefaultBranch, a.Branch)
	}
	a.Repository = there
	return nil
}
