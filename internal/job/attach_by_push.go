package job

import (
	"context"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
)

// On some hosts a repository comes into being by the first push to its address. The
// order of the steps is another one then: the push makes it, and only afterwards it can
// be looked at and given what was asked for. So whatever it could not be given is
// refused before, and nothing is pushed where more people would see it than was wanted.

// byPush reports whether the new repository is made by pushing to it.
func (a *Attach) byPush() bool {
	return a.create && a.login.Host.Actions["repository-create"].By == "push"
}

// checkByPush makes sure that the push will make what is wanted.
func (a *Attach) checkByPush() error {
	act, name := a.login.Host.Actions["repository-create"], a.login.Host.Name
	wide := func(visibility string) int { return slices.Index(description.Visibilities, visibility) }
	switch made, wanted := act.Makes, a.target.Visibility; {
	case wide(made) > wide(wanted):
		return fault.New(fault.Refused, "%s makes repositories by the first push, and such a one is %s at first, so what is to be %s would be seen by others", name, made, wanted).
			Try("make it on the host's page, then hook to it", a.again("--to", a.target.Path())).
			Try("or let it be "+made, a.again("--visibility", made))
	case made != wanted && a.login.may("repository-change", "") != nil:
		return fault.New(fault.Refused, "%s makes repositories by the first push, and such a one is %s; it offers no way to make it %s", name, made, wanted).
			Try("let it be "+made, a.again("--visibility", made))
	case a.target.Description != "" && a.login.may("repository-change", "") != nil:
		return fault.New(fault.Refused, "%s makes repositories by the first push, and offers no way to describe them", name).
			Try("leave the description out", a.again())
	}
	return nil
}

// nothingToPush is the fault where a push has to make the repository and cannot.
func (a *Attach) nothingToPush() error {
	return fault.New(fault.Decision, "%s makes repositories by the first push, and there is nothing here to push", a.login.Host.Name).
		Try("begin with a file", "echo "+text.Quote("# "+a.target.Name)+" > "+text.Quote(a.folder.path+"/README.md"))
}

// stepComplete sees that the push made the repository, and gives it what it could not
// have from the beginning.
func (a *Attach) stepComplete() Step {
	act := a.login.Host.Actions["repository-create"]
	what := "See that this made the repository " + a.target.Path()
	if act.Makes != a.target.Visibility {
		what += ", and make it " + a.target.Visibility
		if a.target.Visibility == "members" {
			what = strings.TrimSuffix(what, "members") + "visible to members"
		}
	}
	return Step{Item: plan.Item{ID: "create", Place: plan.Host, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			there, found, err := a.login.repository(ctx, a.target.Owner, a.target.Name)
			if err != nil || !found || a.run.fact("id") == "" || a.run.fact("id") != there.ID {
				return false, err
			}
			return there.Visibility == a.target.Visibility && there.Description == a.options.Description && (there.DefaultBranch == "" || there.DefaultBranch == a.branch), nil
		},
		Do: func(ctx context.Context) error {
			there, err := a.appeared(ctx)
			if err != nil {
				return err
			}
			if who := there.Creator; who != "" && who != a.login.Account.User {
				return fault.New(fault.Decision, "%s was made by %s meanwhile; what was sent lies there", there.Path(), text.Visible(who)).
					Try("see it", text.Command("uncinate", "visit", "--print", a.folder.path))
			}
			wanted := a.target.Visibility
			if err := a.take(there); err != nil {
				return err
			}
			vars := description.Vars{"owner": there.Owner, "name": there.Name, "path": there.Path(), "id": there.ID, "version": there.Version}
			changes := false
			for key, want := range map[string][2]string{"visibility": {there.Visibility, wanted}, "description": {there.Description, a.options.Description}, "default_branch": {there.DefaultBranch, a.branch}} {
				if want[0] != want[1] && want[1] != "" && (key != "default_branch" || want[0] != "") {
					vars[key], changes = want[1], true
				}
			}
			if changes {
				if _, err := a.login.do(ctx, "repository-change", "complete "+there.Path(), vars); err != nil {
					return err
				}
			}
			return a.desk.enter(a.entry())
		}}
}

// appeared waits, not for long, until the host shows what the push made.
func (a *Attach) appeared(ctx context.Context) (description.Repository, error) {
	for tries := 0; ; tries++ {
		there, found, err := a.login.repository(ctx, a.target.Owner, a.target.Name)
		if err != nil || found {
			return there, err
		}
		if tries == 20 {
			return there, fault.New(fault.HostSaidNo, "%s took the push to %s, and shows no such repository", a.login.Host.Name, a.target.Path())
		}
		if err := a.desk.sleep(ctx, 500*time.Millisecond); err != nil {
			return there, err
		}
	}
}

// pushed reports whether a repository holds just what this attach sent, before it was
// cut off and could note what came of it.
func (a *Attach) pushed(ctx context.Context, there description.Repository) (bool, error) {
	if a.run.fact("by push") == "" {
		return false, nil
	}
	refs, err := a.refsThere(ctx, a.login.Account, there)
	if err != nil {
		return false, err
	}
	for name, id := range refs.IDs {
		if branch, is := strings.CutPrefix(name, "refs/heads/"); name != "HEAD" && (!is || a.run.fact("sent "+branch) != id) {
			return false, nil
		}
	}
	return !refs.Empty(), nil
}
