package attach

import (
	"context"
	"strconv"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/surveying"
)

// Work is the small value that all parts of an attach share: whose work it is, on which
// folder, and its journal.
type Work struct {
	Desk    *desk.Desk
	Options Options
	folder  *project.Folder
	travel  *surveying.Travel // nil when there are commits already
	run     *desk.Runner
	project project.Project // the register's entry, if there is one
	Resumed bool            // unfinished work was found and goes on
	Notes   []string        // what the person should know before agreeing
}

// Target is where a folder is attached to, and by whom.
type Target struct {
	Work
	Login      *login.Login // nil for an address that no description covers
	Hook       *project.Hook
	Repository description.Repository // what is hooked to, or what is to be made
	Create     bool
	vacant     bool   // what is hooked to was made before, and holds nothing yet
	clones     bool   // it is a clone's, which may do without an account
	move       string // a secret that stood in an address, to be moved into the vault
	moveFor    accounts.Account
	branch     string
	name       string   // who signs commits
	email      string   //
	former     string   // what the old remote is called from then on; "" where nothing moves
	Went       bool     // commits were sent now
	others     []string // other accounts that can see what this one cannot
}

// Join makes the folder and what the host holds already one.
type Join struct {
	*Target
	way *way // nil where the host holds nothing that is not here
}

// Move takes a project to another host, with all branches and tags.
type Move struct{ *Target }

// Contents are files that an attach writes before the first commit, or keeps in large-file
// storage.
type Contents struct {
	*Target
	large *largeFiles // nil where no large-file storage is used
	first []firstFile // written before the first commit
}

// counted counts the files of the last commit; the commit is "" where there is none yet.
func (w *Work) counted(ctx context.Context) (commit string, count int, bytes int64, err error) {
	if commit, err = w.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}"); err != nil {
		return "", 0, 0, nil // nothing is committed yet
	}
	entries, err := w.folder.Repo.Lines(ctx, "ls-tree", "-r", "-z", "-l", "HEAD")
	if err != nil {
		return "", 0, 0, desk.GitFault(err, "git cannot list the commit")
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

// accountName is the account by which git signs in; "" where git does so by itself.
func (t *Target) accountName() string {
	if t.Hook.Account == nil {
		return ""
	}
	return t.Hook.Account.Name
}
