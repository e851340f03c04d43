package attach

import (
	"context"
	"maps"
	"slices"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/job/surveying"
	"uncinate/internal/world/git"
)

// checkCommits looks into the commits that would be published: for secrets, and for
// files beyond the host's limits. A file that was taken away since is there all the same.
func (a *Attach) checkCommits(ctx context.Context) error {
	if a.Folder.Head == "" {
		return nil
	}
	if err := a.checkShallow(ctx); err != nil {
		return err
	}
	let, err := surveying.LetThrough(a.Desk, a.Folder.Path)
	if err != nil {
		return err
	}
	found, err := a.lookIntoCommits(ctx, surveying.LetPaths(append(let, a.let...)))
	if err != nil || len(found) == 0 {
		return err
	}
	paths := map[string]bool{}
	for _, x := range found {
		paths[x.Path] = true
	}
	f := fault.New(fault.Refused, "%s in commits that would be published must not go up", text.Count(len(paths), "file"))
	lines, err := surveying.SayInCommits(ctx, a.Folder.Repo, found)
	if err != nil {
		return err
	}
	desk.FirstOf(f, lines)
	f.Detail("A rule or a later commit does not take it out of these commits. Taking it out rewrites them, with other ids.")
	f.Detail("A secret that anybody else has had is to be replaced where it is used.")
	first := found[0].Path
	return f.Try("see which commits hold it", text.Command("git", "-C", a.Folder.Path, "log", "--stat", "--", first)).
		Try("if nobody has these commits yet, publish what is there now, without them", text.Command("git", "-C", a.Folder.Path, "checkout", "--orphan", "NEW-NAME")).
		Try("or let it up, with the reason", a.Again(append(a.ToArgs(), "--let", first, "--reason", "TEXT")...))
}

// checkShallow refuses a history that is cut off: no host takes one that lacks its
// beginning (git-push documentation; shallow documentation).
func (a *Attach) checkShallow(ctx context.Context) error {
	if out, err := a.Folder.Repo.Do(ctx, "rev-parse", "--is-shallow-repository"); err != nil || out != "true" {
		return git.Fault(err, "git cannot work with the repository in %s", text.Visible(a.Folder.Path))
	}
	f := fault.New(fault.Decision, "the history here is shallow: its older commits were never received, and a host takes no history without its beginning")
	for _, remote := range slices.Sorted(maps.Keys(a.Folder.Remotes)) {
		return f.Try("bring them in", text.Command("git", "-C", a.Folder.Path, "fetch", "--unshallow", remote))
	}
	return f.Try("begin with what is there now", text.Command("git", "-C", a.Folder.Path, "checkout", "--orphan", "NEW-NAME"))
}

// lookIntoCommits reads every file of the commits that the host has not.
func (a *Attach) lookIntoCommits(ctx context.Context, let func(string) bool) ([]surveying.InCommit, error) {
	var args []string
	for _, b := range a.sent() {
		ref := "refs/heads/" + b
		if j := a.joins.Way; j != nil && b == j.Branch {
			ref = a.Folder.Head
		}
		args = append(args, ref)
	}
	if len(a.there) > 0 {
		args = append(append(args, "--not"), a.there...)
	}
	var limits survey.Limits
	if a.Login != nil {
		limits = hosts.LimitsOf(a.Login.Host)
	}
	return surveying.InCommits(ctx, a.Desk, a.Folder.Repo, a.Folder.Path, args, limits, let)
}
