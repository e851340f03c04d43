package join

import (
	"context"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/world/git"
)

// Standing lists the branches, tags and stash, but for the one branch that this
// attach itself made.
func (joins *Join) Standing(ctx context.Context) (string, error) {
	if !joins.Folder.IsRepo {
		return "", nil
	}
	refs, err := joins.Folder.Repo.Do(ctx, "for-each-ref", "--format=%(objectname) %(refname)", "refs/heads/", "refs/tags/", "refs/stash")
	if err != nil {
		return "", git.Fault(err, "git cannot list the branches")
	}
	ours := target.FactCommit.Of(joins.Run) + " refs/heads/" + target.FactBranch.Of(joins.Run)
	brought := target.FactBrought.Of(joins.Run) // tags that came in to be moved
	var lines []string
	for line := range strings.SplitSeq(refs, "\n") {
		if j := joins.Way; j != nil && j.From != "" { // the branch that was renamed and joined, as it was
			if id, found := strings.CutSuffix(line, " refs/heads/"+j.Branch); found && (id == j.From || id == factJoined.Of(joins.Run)) {
				line = j.From + " refs/heads/" + j.Was
			}
		}
		if line != "" && line != ours && !slices.Contains(brought, line) {
			lines = append(lines, line)
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n"), nil
}

// UntouchedSince refuses to put back a repository in which the person went on working.
func (j *Join) UntouchedSince(ctx context.Context) error {
	now, err := j.Standing(ctx)
	if err != nil || j.StoodSo(now) {
		return err
	}
	return fault.New(fault.Decision, "work went on here since the attach was cut off: other branches, tags or commits than then are here now, so it cannot be put back").
		Try("finish the attach instead", text.Command("uncinate", "attach", j.Folder.Path)).
		Try("or remove only the remote", text.Command("uncinate", "detach", "--remote-only", j.Folder.Path))
}

// BareSteps are what can be said of the steps of this room without a plan.
func (j *Join) BareSteps() []desk.Step {
	return []desk.Step{j.bareBranchName(), j.bareBringIn(), j.bareJoin(), j.bareLay()}
}

func (j *Join) bareBranchName() desk.Step {
	return desk.Bare("branch-name", plan.Here, "Give the branch its former name again", j.undoBranchName)
}

func (j *Join) bareBringIn() desk.Step {
	return desk.Bare("bring-in", plan.Here, "Forget the commits that were received", j.undoBringIn)
}

func (j *Join) bareJoin() desk.Step {
	return desk.Bare("join", plan.Here, "Bring the folder back to your own last commit", j.undoJoin)
}

func (j *Join) bareLay() desk.Step {
	return desk.Bare("lay", plan.Here, "Take out again what was written, and bring back what made way for it", j.undoLay)
}
