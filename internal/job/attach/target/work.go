package target

import (
	"context"
	"path/filepath"
	"strconv"
	"strings"

	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/surveying"
	"uncinate/internal/world/git"
)

// Work is the small value that all parts of an attach share: whose work it is, on which
// folder, and its journal.
type Work struct {
	Desk    *desk.Desk
	Options Options
	Folder  *project.Folder
	Travel  *surveying.Travel // nil when there are commits already
	Run     *desk.Runner
	Project project.Project // the register's entry, if there is one
	Resumed bool            // unfinished work was found and goes on
	Keep    bool            // putting back leaves the hosted repository there
	Notes   []string        // what the person should know before agreeing

	chosen   Options // what was chosen by itself where the person did not say: the journal keeps it
	standing string  // see choices
}

// Committed reports whether the first commit here is one that this attach made before it
// was cut off.
func (w *Work) Committed() bool {
	return w.Folder.Head != "" && FactCommit.Of(w.Run) == w.Folder.Head
}

// ToArgs are the options that name what is attached to, as they were given.
func (w *Work) ToArgs() []string {
	if w.Options.To != "" {
		return []string{"--to", project.WithoutSecret(w.Options.To)}
	}
	return nil
}

// Whose names the other side in a few words.
func (t *Target) Whose() string {
	if t.Login != nil {
		return t.Login.Host.Name
	}
	return t.Tie.Address.Host
}

// At is the path on the disk of a file of the project.
func (w *Work) At(p string) string { return filepath.Join(w.Folder.Path, filepath.FromSlash(p)) }

// Counted counts the files of the last commit; the commit is "" where there is none yet.
func (w *Work) Counted(ctx context.Context) (commit string, count int, bytes int64, err error) {
	if commit, err = w.Folder.Repo.Resolve(ctx, "HEAD^{commit}"); err != nil {
		return "", 0, 0, nil // nothing is committed yet
	}
	entries, err := w.Folder.Repo.Lines(ctx, "ls-tree", "-r", "-z", "-l", "HEAD")
	if err != nil {
		return "", 0, 0, git.Fault(err, "git cannot list the commit")
	}
	for _, e := range entries {
		meta, _, _ := strings.Cut(e, "\t")
		if fields := strings.Fields(meta); len(fields) == 4 {
			count++
			if n, err := strconv.ParseInt(fields[3], 10, 64); err == nil {
				bytes += n
			}
		}
	}
	return commit, count, bytes, nil
}

// AccountName is the account by which git signs in; "" where git does so by itself.
func (t *Target) AccountName() string {
	if t.Tie.Account == nil {
		return ""
	}
	return t.Tie.Account.Name
}
