package join

import (
	"context"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
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
	ours := joins.Run.Fact("commit") + " refs/heads/" + joins.Run.Fact("branch")
	brought := strings.Split(joins.Run.Fact("brought"), "\n") // tags that came in to be moved
	var lines []string
	for line := range strings.SplitSeq(refs, "\n") {
		if j := joins.Way; j != nil && j.From != "" { // the branch that was renamed and joined, as it was
			if id, found := strings.CutSuffix(line, " refs/heads/"+j.Branch); found && (id == j.From || id == joins.Run.Fact("joined")) {
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
	if err != nil || files.Short(now) == j.Run.State.Head.Wanted["standing"] {
		return err
	}
	return fault.New(fault.Decision, "work went on here since the attach was cut off: other branches, tags or commits than then stand here now, so it cannot be put back").
		Try("finish the attach instead", text.Command("uncinate", "attach", j.Folder.Path)).
		Try("or remove only the remote", text.Command("uncinate", "detach", "--remote-only", j.Folder.Path))
}
