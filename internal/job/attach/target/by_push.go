package target

import (
	"context"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
)

// On some hosts a repository comes into being by the first push to its address. The
// order of the steps is another one then: the push makes it, and only afterwards it can
// be looked at and given what was asked for. So whatever it could not be given is
// refused before, and nothing is pushed where more people would see it than was wanted.

// ByPush reports whether the new repository is made by pushing to it.
func (t *Target) ByPush() bool {
	return t.Create && t.Login.Host.Actions["repository-create"].By == "push"
}

// checkByPush makes sure that the push will make what is wanted.
func (t *Target) checkByPush() error {
	act, name := t.Login.Host.Actions["repository-create"], t.Login.Host.Name
	wide := func(visibility string) int { return slices.Index(description.Visibilities, visibility) }
	switch made, wanted := act.Makes, t.Repository.Visibility; {
	case wide(made) > wide(wanted):
		return fault.New(fault.Refused, "%s makes repositories by the first push, and such a one is %s at first, so what is to be %s would be seen by others", name, made, wanted).
			Try("make it on the host's page, then attach to it", t.Again("--to", t.Repository.Path())).
			Try("or let it be "+made, t.Again("--visibility", made))
	case made != wanted && t.Login.May("repository-change", "") != nil:
		return fault.New(fault.Refused, "%s makes repositories by the first push, and such a one is %s; it offers no way to make it %s", name, made, wanted).
			Try("let it be "+made, t.Again("--visibility", made))
	case t.Repository.Description != "" && t.Login.May("repository-change", "") != nil:
		return fault.New(fault.Refused, "%s makes repositories by the first push, and offers no way to describe them", name).
			Try("leave the description out", t.Again())
	}
	return nil
}

// NothingToPush is the fault where a push has to make the repository and cannot.
func (t *Target) NothingToPush() error {
	return fault.New(fault.Decision, "%s makes repositories by the first push, and there is nothing here to push", t.Login.Host.Name).
		Try("begin with a file", "echo "+text.Quote("# "+t.Repository.Name)+" > "+text.Quote(t.Folder.Path+"/README.md"))
}

// StepComplete sees that the push made the repository, and gives it what it could not
// have from the beginning.
func (t *Target) StepComplete() desk.Step {
	act := t.Login.Host.Actions["repository-create"]
	what := "See that this made the repository " + t.Repository.Path()
	if act.Makes != t.Repository.Visibility {
		what += ", and make it " + t.Repository.Visibility
		if t.Repository.Visibility == "members" {
			what = strings.TrimSuffix(what, "members") + "visible to members"
		}
	}
	return t.bareCreate().Planned(plan.Host, what,
		func(ctx context.Context) (bool, error) {
			there, found, err := t.Login.Repository(ctx, t.Repository.Owner, t.Repository.Name)
			if err != nil || !found || FactID.Of(t.Run) == "" || FactID.Of(t.Run) != there.ID {
				return false, err
			}
			return there.Visibility == t.Repository.Visibility && there.Description == t.Options.Description && (there.DefaultBranch == "" || there.DefaultBranch == t.Branch), nil
		},
		func(ctx context.Context) error {
			there, err := t.appeared(ctx)
			if err != nil {
				return err
			}
			if who := there.Creator; who != "" && who != t.Login.Account.User {
				return fault.New(fault.Decision, "%s was made by %s meanwhile; what was sent is there", there.Path(), text.Visible(who)).
					Try("see it", text.Command("uncinate", "visit", "--print", t.Folder.Path))
			}
			wanted := t.Repository.Visibility
			if err := t.take(there); err != nil {
				return err
			}
			change := description.Vars{}
			for key, want := range map[string][2]string{"visibility": {there.Visibility, wanted}, "description": {there.Description, t.Options.Description}, "default_branch": {there.DefaultBranch, t.Branch}} {
				if want[0] != want[1] && want[1] != "" && (key != "default_branch" || want[0] != "") {
					change[key] = want[1]
				}
			}
			if len(change) > 0 {
				if _, err := t.Login.ChangeLatest(ctx, "complete", there, change); err != nil {
					return err
				}
			}
			return project.Enter(ctx, t.Desk, t.entry())
		})
}

// appeared waits, not for long, until the host shows what the push made.
func (t *Target) appeared(ctx context.Context) (description.Repository, error) {
	for tries := 0; ; tries++ {
		there, found, err := t.Login.Repository(ctx, t.Repository.Owner, t.Repository.Name)
		if err != nil || found {
			return there, err
		}
		if tries == 20 {
			return there, fault.New(fault.HostSaidNo, "%s took the push to %s, and shows no such repository", t.Login.Host.Name, t.Repository.Path())
		}
		if err := t.Desk.Pause(ctx, 500*time.Millisecond); err != nil {
			return there, err
		}
	}
}

// pushed reports whether a repository holds just what this attach sent, before it was
// cut off and could note what came of it.
func (t *Target) pushed(ctx context.Context, there description.Repository) (bool, error) {
	if !FactByPush.Of(t.Run) {
		return false, nil
	}
	refs, err := t.RefsThere(ctx, t.Login.Account, there)
	if err != nil {
		return false, err
	}
	for name, id := range refs.IDs {
		if branch, is := strings.CutPrefix(name, "refs/heads/"); name != "HEAD" && (!is || FactSent.About(branch).Of(t.Run) != id) {
			return false, nil
		}
	}
	return !refs.Empty(), nil
}
