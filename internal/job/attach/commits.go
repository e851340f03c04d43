package attach

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/secrets"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/job/surveying"
	"uncinate/internal/world/git"
)

// inHistory is something in a commit that would be published and must not be.
type inHistory struct {
	survey.Finding
	blob string
}

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
	found = perBlob(found)
	lines := make([]string, len(found))
	for i, x := range found[:min(len(found), desk.MostShown)] {
		since, err := a.broughtBy(ctx, x.blob)
		if err != nil {
			return err
		}
		lines[i] = surveying.Sentence(x.Finding) + ", since commit " + since
	}
	desk.FirstOf(f, lines)
	f.Detail("A rule or a later commit does not take it out of these commits. Taking it out rewrites them, with other ids.")
	f.Detail("A secret that anybody else has had is to be replaced where it is used.")
	first := found[0].Path
	return f.Try("see which commits hold it", text.Command("git", "-C", a.Folder.Path, "log", "--stat", "--", first)).
		Try("if nobody has these commits yet, publish what is there now, without them", text.Command("git", "-C", a.Folder.Path, "checkout", "--orphan", "NEW-NAME")).
		Try("or let it up, with the reason", a.Again(append(a.ToArgs(), "--let", first, "--reason", "TEXT")...))
}

// perBlob puts together what says the same of one file's contents.
func perBlob(all []inHistory) []inHistory {
	var out []inHistory
	for _, x := range all {
		if k := len(out) - 1; k >= 0 && out[k].blob == x.blob && out[k].Says == x.Says {
			out[k].More++
		} else {
			out = append(out, x)
		}
	}
	return out
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
func (a *Attach) lookIntoCommits(ctx context.Context, let func(string) bool) ([]inHistory, error) {
	args := []string{"rev-list", "--objects"}
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
	list, err := a.Folder.Repo.Do(ctx, args...)
	if err != nil {
		return nil, git.Fault(err, "git cannot list the commits that would be published")
	}
	if list == "" {
		return nil, nil
	}
	finder, _, err := surveying.Finder(a.Desk, a.Folder.Path)
	if err != nil {
		return nil, err
	}
	var limits survey.Limits
	if a.Login != nil {
		limits = hosts.LimitsOf(a.Login.Host)
	}
	var out []inHistory
	buf := secrets.Buffer()
	total, done := int64(strings.Count(list, "\n")+1), int64(0)
	err = a.Folder.Repo.Objects(ctx, strings.NewReader(list+"\n"), func(o git.Object, contents io.Reader) error {
		if done++; done%256 == 0 {
			a.Desk.Tell.Progress("Looking into commits", done, total, "")
		}
		if o.Type != "blob" || let(o.Name) {
			return nil
		}
		if limits.File > 0 && o.Size > limits.File {
			out = append(out, inHistory{survey.Finding{Path: o.Name, Says: limits.TooLarge(o.Size)}, o.ID})
		}
		c, err := finder.Read(o.Name, contents, buf)
		for _, x := range c.Findings {
			if x.Kind != secrets.HerePath { // such a path in an old commit is not a secret
				out = append(out, inHistory{survey.Secret(o.Name, x), o.ID})
			}
		}
		return err
	})
	a.Desk.Tell.Progress("Looking into commits", 0, 0, "")
	if err != nil {
		return nil, git.Fault(err, "git cannot read the commits that would be published")
	}
	slices.SortFunc(out, func(x, y inHistory) int {
		return strings.Compare(fmt.Sprintf("%s\x00%08d%s", x.Path, x.Line, x.blob), fmt.Sprintf("%s\x00%08d%s", y.Path, y.Line, y.blob))
	})
	return out, nil
}

// broughtBy names the oldest commit that holds an object.
func (a *Attach) broughtBy(ctx context.Context, blob string) (string, error) {
	out, err := a.Folder.Repo.Do(ctx, "log", "--all", "--no-textconv", "--no-ext-diff", "--reverse", "--date=short", "--format=%h of %ad (%s)", "--find-object="+blob)
	if err != nil {
		return "", git.Fault(err, "git cannot find the commit")
	}
	return text.Excerpt(desk.FirstLine(out), 80), nil
}
