package target

import (
	"context"
	"strconv"
	"strings"

	"uncinate/internal/world/git"
)

// Commit makes a commit of a tree by plumbing, at the time that the journal says, so that
// making it again makes the same. It is signed where the person signs.
func (t *Target) Commit(ctx context.Context, tree, message string, parents ...string) (string, error) {
	repo := t.Folder.Repo
	when := factWhen.Of(t.Run)
	if when == "" {
		now := t.Desk.Now()
		when = strconv.FormatInt(now.Unix(), 10) + " " + now.Format("-0700")
		if err := factWhen.Note(t.Run, when); err != nil {
			return "", err
		}
	}
	args := []string{"commit-tree", "-F", message}
	for _, p := range parents {
		args = append(args, "-p", p)
	}
	var config []git.Set
	if t.Tie.Key != nil && t.Tie.Key.Signs { // the account signs, also before the tie stands
		if err := t.Tie.WriteInclude(ctx); err != nil {
			return "", err
		}
		config = t.Tie.Config()
	}
	if signs, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: []string{"config", "--type=bool", "--get", "commit.gpgSign"}, Config: config}); err == nil && strings.TrimSpace(string(signs)) == "true" {
		args = append(args, "-S")
	}
	out, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Config: config, Args: append(args, tree), Env: []string{"GIT_AUTHOR_DATE=" + when, "GIT_COMMITTER_DATE=" + when}})
	if err != nil {
		return "", git.Fault(err, "git cannot make the commit")
	}
	return strings.TrimSpace(string(out)), nil
}
