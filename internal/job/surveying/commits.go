package surveying

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"uncinate/internal/core/secrets"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/git"
)

// InCommit is something in a commit that would be seen and must not be.
type InCommit struct {
	survey.Finding
	blob string
}

// InCommits reads every file of the commits that revs name (gitrevisions documentation), for secrets and
// for files beyond the limits, but for the paths that are let through.
func InCommits(ctx context.Context, d *desk.Desk, repo *git.Repo, folder string, revs []string, limits survey.Limits, let func(string) bool) ([]InCommit, error) {
	list, err := repo.Do(ctx, append([]string{"rev-list", "--objects"}, revs...)...)
	if err != nil {
		return nil, git.Fault(err, "git cannot list the commits that would be published")
	}
	if list == "" {
		return nil, nil
	}
	finder, _, err := Finder(d, folder)
	if err != nil {
		return nil, err
	}
	var out []InCommit
	buf := secrets.Buffer()
	total, done := int64(strings.Count(list, "\n")+1), int64(0)
	err = repo.Objects(ctx, strings.NewReader(list+"\n"), func(o git.Object, contents io.Reader) error {
		if done++; done%256 == 0 {
			d.Tell.Progress("Looking into commits", done, total, "")
		}
		if o.Type != "blob" || let(o.Name) {
			return nil
		}
		if limits.File > 0 && o.Size > limits.File {
			out = append(out, InCommit{survey.Finding{Path: o.Name, Says: limits.TooLarge(o.Size)}, o.ID})
		}
		c, err := finder.Read(o.Name, contents, buf)
		for _, x := range c.Findings {
			if x.Kind != secrets.HerePath { // such a path in an old commit is not a secret
				out = append(out, InCommit{survey.Secret(o.Name, x), o.ID})
			}
		}
		return err
	})
	d.Tell.Progress("Looking into commits", 0, 0, "")
	if err != nil {
		return nil, git.Fault(err, "git cannot read the commits that would be published")
	}
	slices.SortFunc(out, func(x, y InCommit) int {
		return strings.Compare(fmt.Sprintf("%s\x00%08d%s", x.Path, x.Line, x.blob), fmt.Sprintf("%s\x00%08d%s", y.Path, y.Line, y.blob))
	})
	return out, nil
}

// SayInCommits puts what was found into sentences, what says the same of one file's contents into one.
// The first of them, as many as are shown, name the commit that brought it.
func SayInCommits(ctx context.Context, repo *git.Repo, found []InCommit) ([]string, error) {
	var all []InCommit
	for _, x := range found {
		if k := len(all) - 1; k >= 0 && all[k].blob == x.blob && all[k].Says == x.Says {
			all[k].More++
		} else {
			all = append(all, x)
		}
	}
	lines := make([]string, len(all))
	for i, x := range all[:min(len(all), desk.MostShown)] {
		since, err := repo.Do(ctx, "log", "--all", "--no-textconv", "--no-ext-diff", "--reverse", "--date=short", "--format=%h of %ad (%s)", "--find-object="+x.blob)
		if err != nil {
			return nil, git.Fault(err, "git cannot find the commit")
		}
		lines[i] = Sentence(x.Finding) + ", since commit " + text.Excerpt(desk.FirstLine(since), 80)
	}
	return lines, nil
}
