package attach

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

// byPush reports whether the new repository is made by pushing to it.
func (a *Attach) byPush() bool {
	return a.Create && a.Login.Host.Actions["repository-create"].By == "push"
}

// checkByPush makes sure that the push will make what is wanted.
func (a *Attach) checkByPush() error {
	act, name := a.Login.Host.Actions["repository-create"], a.Login.Host.Name
	wide := func(visibility string) int { return slices.Index(description.Visibilities, visibility) }
	switch made, wanted := act.Makes, a.Target.Visibility; {
	case wide(made) > wide(wanted):
		return fault.New(fault.Refused, "%s makes repositories by the first push, and such a one is %s at first, so what is to be %s would be seen by others", name, made, wanted).
			Try("make it on the host's page, then hook to it", a.Again("--to", a.Target.Path())).
			Try("or let it be "+made, a.Again("--visibility", made))
	case made != wanted && a.Login.May("repository-change", "") != nil:
		return fault.New(fault.Refused, "%s makes repositories by the first push, and such a one is %s; it offers no way to make it %s", name, made, wanted).
			Try("let it be "+made, a.Again("--visibility", made))
	case a.Target.Description != "" && a.Login.May("repository-change", "") != nil:
		return fault.New(fault.Refused, "%s makes repositories by the first push, and offers no way to describe them", name).
			Try("leave the description out", a.Again())
	}
	return nil
}

// nothingToPush is the fault where a push has to make the repository and cannot.
func (a *Attach) nothingToPush() error {
	return fault.New(fault.Decision, "%s makes repositories by the first push, and there is nothing here to push", a.Login.Host.Name).
		Try("begin with a file", "echo "+text.Quote("# "+a.Target.Name)+" > "+text.Quote(a.folder.Path+"/README.md"))
}

// stepComplete sees that the push made the repository, and gives it what it could not
// have from the beginning.
func (a *Attach) stepComplete() desk.Step {
	act := a.Login.Host.Actions["repository-create"]
	what := "See that this made the repository " + a.Target.Path()
	if act.Makes != a.Target.Visibility {
		what += ", and make it " + a.Target.Visibility
		if a.Target.Visibility == "members" {
			what = strings.TrimSuffix(what, "members") + "visible to members"
		}
	}
	return desk.Step{Item: plan.Item{ID: "create", Place: plan.Host, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			there, found, err := a.Login.Repository(ctx, a.Target.Owner, a.Target.Name)
			if err != nil || !found || a.run.Fact("id") == "" || a.run.Fact("id") != there.ID {
				return false, err
			}
			return there.Visibility == a.Target.Visibility && there.Description == a.Options.Description && (there.DefaultBranch == "" || there.DefaultBranch == a.branch), nil
		},
		Do: func(ctx context.Context) error {
			there, err := a.appeared(ctx)
			if err != nil {
				return err
			}
			if who := there.Creator; who != "" && who != a.Login.Account.User {
				return fault.New(fault.Decision, "%s was made by %s meanwhile; what was sent lies there", there.Path(), text.Visible(who)).
					Try("see it", text.Command("uncinate", "visit", "--print", a.folder.Path))
			}
			wanted := a.Target.Visibility
			if err := a.take(there); err != nil {
				return err
			}
			vars := description.Vars{"owner": there.Owner, "name": there.Name, "path": there.Path(), "id": there.ID, "version": there.Version}
			changes := false
			for key, want := range map[string][2]string{"visibility": {there.Visibility, wanted}, "description": {there.Description, a.Options.Description}, "default_branch": {there.DefaultBranch, a.branch}} {
				if want[0] != want[1] && want[1] != "" && (key != "default_branch" || want[0] != "") {
					vars[key], changes = want[1], true
				}
			}
			if changes {
				if _, err := a.Login.Do(ctx, "repository-change", "complete "+there.Path(), vars); err != nil {
					return err
				}
			}
			return project.Enter(a.Desk, a.entry())
		}}
}

// appeared waits, not for long, until the host shows what the push made.
func (a *Attach) appeared(ctx context.Context) (description.Repository, error) {
	for tries := 0; ; tries++ {
		there, found, err := a.Login.Repository(ctx, a.Target.Owner, a.Target.Name)
		if err != nil || found {
			return there, err
		}
		if tries == 20 {
			return there, fault.New(fault.HostSaidNo, "%s took the push to %s, and shows no such repository", a.Login.Host.Name, a.Target.Path())
		}
		if err := a.Desk.Pause(ctx, 500*time.Millisecond); err != nil {
			return there, err
		}
	}
}

// pushed reports whether a repository holds just what this attach sent, before it was
// cut off and could note what came of it.
func (a *Attach) pushed(ctx context.Context, there description.Repository) (bool, error) {
	if a.run.Fact("by push") == "" {
		return false, nil
	}
	refs, err := a.refsThere(ctx, a.Login.Account, there)
	if err != nil {
		return false, err
	}
	for name, id := range refs.IDs {
		if branch, is := strings.CutPrefix(name, "refs/heads/"); name != "HEAD" && (!is || a.run.Fact("sent "+branch) != id) {
			return false, nil
		}
	}
	return !refs.Empty(), nil
}
