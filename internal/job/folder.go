package job

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/git"
)

// folder is what a look at a project's folder found. Looking runs nothing that the
// folder's own git configuration names.
type folder struct {
	path     string // absolute, symbolic links resolved
	repo     *git.Repo
	isRepo   bool
	settings []git.Setting
	branch   string   // the branch HEAD stands for, unborn or not; "" without repository
	head     string   // the commit's id; "" when there is none
	branches []string // local branches
	remotes  map[string]string
}

// findFolder makes a path absolute, with symbolic links resolved, and checks that a
// folder is there.
func (d *Desk) findFolder(given string) (string, error) {
	abs, err := filepath.Abs(given)
	if err != nil {
		return "", err
	}
	real, err := filepath.EvalSymlinks(abs)
	if err != nil {
		if _, e := os.Lstat(abs); e == nil {
			return "", fault.New(fault.Failed, "%s is a symbolic link that leads nowhere", text.Visible(abs))
		}
		return "", fault.New(fault.Failed, "there is no folder %s here", text.Visible(abs)).Because(err)
	}
	s, err := os.Stat(real)
	if err != nil {
		return "", fault.New(fault.Failed, "%s cannot be looked at", text.Visible(real)).Because(err)
	}
	if !s.IsDir() {
		return "", fault.New(fault.Failed, "%s is a file; a project is a folder", text.Visible(real)).
			Try("the folder that holds it", text.Command("uncinate", "attach", filepath.Dir(real)))
	}
	return real, nil
}

// notAProject refuses folders that nobody means to publish whole: the home folder
// and a file system's top.
func (d *Desk) notAProject(path string) error {
	home, err := filepath.EvalSymlinks(d.UserHome)
	if err == nil && home == path {
		return fault.New(fault.Refused, "%s is your home folder: everything in it would go up", text.Visible(path)).
			Try("name the project's folder", "uncinate attach FOLDER")
	}
	if filepath.Dir(path) == path {
		return fault.New(fault.Refused, "%s is the top of the file system, not a project", path)
	}
	return nil
}

func (d *Desk) findWithGit(ctx context.Context, given string) (string, *git.Git, error) {
	where, err := d.findFolder(given)
	if err != nil {
		return "", nil, err
	}
	g, err := d.Git(ctx)
	return where, g, err
}

// findTop finds a folder, and the top of the repository that holds it; "" where none does.
func (d *Desk) findTop(ctx context.Context, given string) (where, top string, err error) {
	where, g, err := d.findWithGit(ctx, given)
	if err == nil && isBare(where) {
		err = bare(where)
	}
	if err == nil {
		top, err = g.In(where).Top(ctx)
	}
	return where, top, err
}

// bare says that a folder is a repository's own, without files.
func bare(where string) error {
	if top := filepath.Dir(where); filepath.Base(where) == ".git" {
		return fault.New(fault.Refused, "%s is git's own folder of the project above it", text.Visible(where)).Try("", text.Command("uncinate", "status", top))
	}
	return fault.New(fault.Refused, "%s is a bare repository, without the files of a project", text.Visible(where))
}

// lookAround looks at the repository that holds a folder, from its top.
func (d *Desk) lookAround(ctx context.Context, given string) (*folder, error) {
	where, top, err := d.findTop(ctx, given)
	if err != nil {
		return nil, err
	}
	if top == "" {
		f := fault.New(fault.Decision, "%s is not hooked to a repository yet", text.Visible(where))
		if d.notAProject(where) != nil {
			return nil, f.Try("name the project's folder", "uncinate attach FOLDER")
		}
		return nil, f.Try("hook it", text.Command("uncinate", "attach", where))
	}
	f, err := d.look(ctx, top)
	if err != nil {
		return nil, err
	}
	if _, hooked, err := d.ProjectAt(f.path); err != nil || hooked {
		f.repo.Safe = nil // the person hooked it: its configuration is their own
		return f, err
	}
	return f, nil
}

// look looks at a folder through git, and refuses what cannot be hooked as it is.
func (d *Desk) look(ctx context.Context, given string) (*folder, error) {
	where, err := d.findFolder(given)
	if err != nil {
		return nil, err
	}
	f, err := d.lookLoosely(ctx, where)
	if err != nil || !f.isRepo {
		return f, err
	}
	f.readRemotes()
	f.branch, err = f.repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD")
	if err != nil {
		if err := f.finished(); err != nil {
			return nil, err
		}
		return nil, onNoBranch(where).Because(err)
	}
	list, err := f.repo.Do(ctx, "for-each-ref", "--format=%(refname:short)", "refs/heads/")
	if err != nil {
		return nil, gitFault(err, "git cannot list the branches")
	}
	f.branches = strings.Fields(list)
	return f, nil
}

// onNoBranch says that a commit is checked out and no branch.
func onNoBranch(where string) *fault.Fault {
	return fault.New(fault.Decision, "no branch is checked out in %s (a detached HEAD)", text.Visible(where)).
		Try("make a branch of what is there", text.Command("git", "-C", where, "switch", "-c", "NAME"))
}

// readRemotes finds the remotes among the settings.
func (f *folder) readRemotes() {
	for _, s := range f.settings {
		if name, ok := strings.CutPrefix(s.Key, "remote."); ok && strings.HasSuffix(name, ".url") {
			f.remotes[strings.TrimSuffix(name, ".url")] = s.Value
		}
	}
}

// lookLoosely looks at a folder through git as far as it takes to read its files: at
// a repository's top, or at a folder without one.
func (d *Desk) lookLoosely(ctx context.Context, where string) (*folder, error) {
	g, err := d.Git(ctx)
	if err != nil {
		return nil, err
	}
	f := &folder{path: where, repo: g.In(where), remotes: map[string]string{}}
	if isBare(where) {
		return nil, bare(where)
	}
	top, err := f.repo.Top(ctx)
	if err != nil {
		return nil, err
	}
	if top == "" {
		if _, err := os.Lstat(filepath.Join(where, ".git")); err == nil {
			_, err := f.repo.Do(ctx, "rev-parse", "--git-dir")
			return nil, gitFault(err, "git cannot work with the repository in %s", text.Visible(where))
		}
		f.repo.Safe = git.Harmless(nil)
		return f, nil
	}
	if top != where {
		return nil, fault.New(fault.Decision, "%s lies inside another repository, whose top is %s", text.Visible(where), text.Visible(top)).
			Try("hook the whole of it", text.Command("uncinate", "attach", top)).
			Try("or make this folder a repository of its own first", text.Command("git", "-C", where, "init"))
	}
	f.isRepo = true
	if f.settings, err = f.repo.Settings(ctx); err != nil {
		return nil, gitFault(err, "git's configuration cannot be read")
	}
	f.repo.Safe = git.Harmless(f.settings)
	if f.head, err = f.repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}"); err != nil {
		f.head = ""
	}
	return f, nil
}

func isBare(where string) bool {
	for _, name := range []string{"HEAD", "objects", "refs"} {
		if _, err := os.Stat(filepath.Join(where, name)); err != nil {
			return false
		}
	}
	return true
}

// gitFault turns a failed run of git into a fault with git's own words.
func gitFault(err error, format string, args ...any) error {
	if err == nil {
		return nil
	}
	var e *git.Error
	f := fault.New(fault.Failed, format, args...).Because(err)
	if errors.As(err, &e) {
		for _, line := range e.Lines(6) {
			f.Detail("git says: %s", line)
		}
		return f
	}
	return err
}

// gitCmd is a run of git in a folder, with standard input.
func gitCmd(f *folder, in io.Reader, args ...string) git.Cmd {
	return git.Cmd{Dir: f.path, Args: args, Config: f.repo.Safe, In: in}
}
