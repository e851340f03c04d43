package project

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/gitconfig"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/openfiles"
)

// A folder that takes upper and lower case for the same holds only one of two files
// whose names differ in nothing else: what was written last is there under both names, and
// git takes it for a change of the other (git-config documentation, core.ignoreCase).

// FoldsCase reports whether the folder takes upper and lower case for the same.
func (f *Folder) FoldsCase(ctx context.Context) (folds bool, err error) {
	if f.Settings == nil {
		if f.Settings, err = f.Repo.Settings(ctx); err != nil {
			return false, git.Fault(err, "git's configuration cannot be read")
		}
	}
	for _, s := range f.Settings {
		if strings.EqualFold(s.Key, "core.ignorecase") {
			folds = s.True()
		}
	}
	return folds, nil
}

// Folder is what a look at a project's folder found. Looking runs nothing that the
// Folder's own git configuration names.
type Folder struct {
	Path     string // absolute, symbolic links resolved
	Repo     *git.Repo
	IsRepo   bool
	Settings []git.Setting
	Branch   string   // the branch HEAD stands for, unborn or not; "" without repository
	Head     string   // the commit's id; "" when there is none
	Branches []string // local branches
	Remotes  map[string]string
	Dangers  []Danger // of its own configuration and hooks, what is not trusted
	mergers  []Danger // of the person's own configuration, what merges files and was not agreed to here
}

// FindFolder makes a path absolute, with symbolic links resolved, and checks that a
// folder is there.
func FindFolder(d *desk.Desk, given string) (string, error) {
	abs, err := filepath.Abs(given)
	if err != nil {
		return "", err
	}
	real, err := filepath.EvalSymlinks(abs)
	if err != nil {
		if _, e := os.Lstat(abs); e == nil {
			return "", fault.New(fault.Failed, "%s is a symbolic link that leads nowhere", text.Visible(abs))
		}
		return "", fault.New(fault.Failed, "there is no folder %s", text.Visible(abs)).Because(err)
	}
	s, err := os.Stat(real)
	if err != nil {
		return "", fault.New(fault.Failed, "%s cannot be looked at", text.Visible(real)).Because(err)
	}
	if !s.IsDir() {
		return "", fault.New(fault.Failed, "%s is a file; a project is a folder", text.Visible(real)).
			Try("the folder that holds it", "--folder "+text.Quote(filepath.Dir(real)))
	}
	return real, nil
}

// NotAProject refuses folders that nobody means to publish whole: the home folder
// and a file system's top.
func NotAProject(d *desk.Desk, path string) error {
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

// FindWithGit finds the folder that a person means, and git.
func FindWithGit(ctx context.Context, d *desk.Desk, given string) (string, *git.Git, error) {
	where, err := FindFolder(d, given)
	if err != nil {
		return "", nil, err
	}
	g, err := d.Git(ctx)
	return where, g, err
}

// FindTop finds a folder, and the top of the repository that holds it; "" where none does.
func FindTop(ctx context.Context, d *desk.Desk, given string) (where, top string, err error) {
	where, g, err := FindWithGit(ctx, d, given)
	if err == nil && git.IsBare(where) {
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
func lookAround(ctx context.Context, d *desk.Desk, given string) (*Folder, error) {
	where, top, err := FindTop(ctx, d, given)
	if err != nil {
		return nil, err
	}
	if top == "" {
		if files.KindOf(filepath.Join(where, ".git")) != files.None { // and git cannot read it
			if _, err := LookLoosely(ctx, d, where); err != nil {
				return nil, err
			}
		}
		if NotAProject(d, where) != nil {
			return nil, fault.New(fault.Decision, "%s is not attached to a repository yet", text.Visible(where)).Try("name the project's folder", "uncinate attach FOLDER")
		}
		return nil, notAttached(d, where)
	}
	return Look(ctx, d, top)
}

// lazy lets looks receive what a partial clone lacks, where nothing in its configuration is
// strange and its remote is the one to which it was attached (git-clone documentation, --filter).
func (f *Folder) lazy(d *desk.Desk) error {
	var from []string
	for _, s := range f.Settings {
		section, sub, name := gitconfig.Split(s.Key)
		if section == "remote" && name == "promisor" && s.True() {
			from = append(from, sub)
		} else if section == "extensions" && name == "partialclone" {
			from = append(from, s.Value)
		}
	}
	if len(from) == 0 || len(f.Dangers) > 0 {
		return nil
	}
	p, attached, err := ProjectAt(d, f.Path)
	others := slices.ContainsFunc(from, func(name string) bool { return name != p.Remote })
	f.ReadRemotes(d)
	f.Repo.Fetches = attached && !others && KeyOf(f.Remotes[p.Remote]) == KeyOf(p.Address)
	return err
}

// LookTop looks at the repository that holds a folder, from its top.
func LookTop(ctx context.Context, d *desk.Desk, given string) (*Folder, error) {
	where, top, err := FindTop(ctx, d, given)
	if err == nil && top == "" {
		err = fault.New(fault.Decision, "%s is not a git repository", text.Visible(where)).Try("", text.Command("uncinate", "attach", where))
	}
	if err != nil {
		return nil, err
	}
	return LookLoosely(ctx, d, top)
}

// Look looks at a folder through git, and refuses what cannot be attached as it is.
func Look(ctx context.Context, d *desk.Desk, given string) (*Folder, error) {
	where, err := FindFolder(d, given)
	if err != nil {
		return nil, err
	}
	f, err := LookLoosely(ctx, d, where)
	if err != nil || !f.IsRepo {
		return f, err
	}
	f.ReadRemotes(d)
	if f.Branch, err = f.branch(ctx); err != nil {
		return nil, err
	}
	if f.Branch == "" {
		if err := f.Finished(ctx); err != nil {
			return nil, err
		}
		return nil, OnNoBranch(where)
	}
	list, err := f.Repo.Do(ctx, "for-each-ref", "--format=%(refname:short)", "refs/heads/")
	if err != nil {
		return nil, git.Fault(err, "git cannot list the branches")
	}
	f.Branches = strings.Fields(list)
	return f, nil
}

// branch gives the branch that is checked out; "" for none.
func (f *Folder) branch(ctx context.Context) (string, error) {
	if own, _, err := git.Folders(f.Path); err == nil { // without a run of git, where its refs are files
		if b, err := git.ReadHead(own); err == nil && b != "" && b != ".invalid" {
			return b, nil
		}
	}
	out, err := f.Repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD")
	if git.Code(err) == 1 { // a commit is checked out (git-symbolic-ref documentation, -q)
		return "", nil
	}
	return out, git.Fault(err, "git cannot tell which branch is checked out")
}

// OnNoBranch says that a commit is checked out and no branch.
func OnNoBranch(where string) *fault.Fault {
	return fault.New(fault.Decision, "no branch is checked out in %s (a detached HEAD)", text.Visible(where)).
		Try("make a branch of what is there", text.Command("uncinate", "branch", "make", "NAME", "--switch", "--folder", where)).
		Try("or see the branches, and switch to one", text.Command("uncinate", "branch", "list", where))
}

// ReadRemotes finds the remotes among the settings.
func (f *Folder) ReadRemotes(d *desk.Desk) {
	for _, s := range f.Settings {
		if name, ok := strings.CutPrefix(s.Key, "remote."); ok && strings.HasSuffix(name, ".url") {
			f.Remotes[strings.TrimSuffix(name, ".url")] = Leads(d, f.Settings, s.Value)
		}
	}
}

// Leads is where git goes that is given an address: to what the person's settings put in its place. The address of a
// known host stays as it is, since ours for it is kept so; see Rewrites.
func Leads(d *desk.Desk, settings []git.Setting, to string) string {
	other := gitconfig.Instead(settings, to)
	if other == to {
		return to
	}
	if h, _, _, err := hosts.Recognise(d, to); err != nil || h != nil {
		return to
	}
	return other
}

// LeadsOutside is Leads outside of any repository.
func LeadsOutside(ctx context.Context, d *desk.Desk, to string) (string, error) {
	if !strings.Contains(to, ":") {
		return to, nil
	}
	g, err := d.Git(ctx)
	if err != nil {
		return "", err
	}
	settings, err := g.Outside(ctx)
	if err != nil {
		return "", git.Fault(err, "git's configuration cannot be read")
	}
	return Leads(d, settings, to), nil
}

// LookLoosely looks at a folder through git as far as it takes to read its files: at
// a repository's top, or at a folder without one.
func LookLoosely(ctx context.Context, d *desk.Desk, where string) (*Folder, error) {
	g, err := d.Git(ctx)
	if err != nil {
		return nil, err
	}
	f := &Folder{Path: where, Repo: g.In(where), Remotes: map[string]string{}}
	if git.IsBare(where) {
		return nil, bare(where)
	}
	top, err := f.Repo.Top(ctx)
	if err != nil {
		return nil, err
	}
	if top == "" {
		if files.KindOf(filepath.Join(where, ".git")) != files.None {
			_, err := f.Repo.Do(ctx, "rev-parse", "--git-dir")
			return nil, broken(where, git.Fault(err, "git cannot work with the repository in %s", text.Visible(where)))
		}
		return f, nil
	}
	if top != where {
		return nil, fault.New(fault.Decision, "%s is inside another repository, whose top is %s", text.Visible(where), text.Visible(top)).
			Try("attach the whole of it", text.Command("uncinate", "attach", top)).
			Try("or make this folder a repository of its own first", text.Command("git", "-C", where, "init"))
	}
	f.IsRepo = true
	if err := f.ReadSettings(ctx, d); err != nil {
		return nil, err
	}
	if err := f.lazy(d); err != nil {
		return nil, err
	}
	if f.Head, err = f.Repo.Resolve(ctx, "HEAD^{commit}"); err != nil {
		f.Head = ""
	}
	return f, nil
}

// broken names the cause where a linked work tree's repository is no longer there
// (git-worktree documentation, repair).
func broken(where string, err error) error {
	own, _, e := git.Folders(where)
	all := filepath.Dir(own) // .git/worktrees, of .git/worktrees/NAME
	if err == nil || e != nil || filepath.Base(all) != "worktrees" || files.KindOf(own) != files.None {
		return err
	}
	main := filepath.Dir(filepath.Dir(all))
	return fault.New(fault.Decision, "%s is a linked work tree, and the repository that it belongs to is no longer in %s", text.Visible(where), text.Visible(main)).Because(err).
		Detail("Its files are all here.").
		Try("where that folder has only moved, tell git so, with its new place", text.Command("git", "-C", "NEW-PLACE", "worktree", "repair", where))
}

// GitCmd is a run of git in a folder, with standard input.
func GitCmd(f *Folder, in io.Reader, args ...string) git.Cmd {
	return git.Cmd{Dir: f.Path, Args: args, In: in}
}

// mostClashing is how many clashing files a remedy names.
const mostClashing = 4

// Unmerged lists the files that plain git could not merge by itself.
func (f *Folder) Unmerged(ctx context.Context) []string {
	list, err := f.Repo.Lines(ctx, "diff", "--name-only", "--diff-filter=U", "-z")
	if err != nil {
		return nil // the remedies do without
	}
	return list
}

// Middle tells what plain git has begun here and not finished; nil for nothing.
func (f *Folder) Middle() (*git.Middle, error) {
	own, _, err := git.Folders(f.Path)
	if err != nil {
		return nil, err
	}
	return git.InMiddle(own), nil
}

// Finished refuses to go on while plain git is in the middle of something.
func (f *Folder) Finished(ctx context.Context) error {
	x, err := f.Middle()
	if err != nil {
		return err
	}
	if x != nil {
		command := func(words string) string {
			return text.Command(append([]string{"git", "-C", f.Path}, strings.Fields(words)...)...)
		}
		out := fault.New(fault.Decision, "%s, begun by plain git, is not finished here", x.What).Try("see how far it is", command("status"))
		on := command(x.GoOn)
		if clashing := f.Unmerged(ctx); len(clashing) > 0 && !x.Search() {
			marked := append([]string{"git", "-C", f.Path, "add", "--"}, clashing...)
			if len(clashing) > mostClashing {
				marked = []string{"git", "-C", f.Path, "add", "--update"}
			}
			on = text.Command(marked...) + " && " + on
		}
		why := text.Either(x.Search(), "see what was tried", "go on with it, once its files are right")
		return out.Try(why, on).Try("or give it up", command(x.GiveUp))
	}
	return nil
}

// Unlocked refuses to go on where git's lock stands, and says whether anybody holds it.
func (f *Folder) Unlocked() error {
	own, _, err := git.Folders(f.Path)
	if err != nil {
		return err
	}
	path, since := git.IndexLock(own)
	if path == "" {
		return nil
	}
	if open, known := openfiles.Below(own); known {
		if p, held := open[path]; held {
			return fault.New(fault.Failed, "git is at work in %s just now (process %d, %s)", text.Visible(f.Path), p.ID, text.Visible(p.Name)).
				Try("wait for it to end, then look", text.Command("uncinate", "status", f.Path))
		}
		return fault.New(fault.Failed, "a run of git that was ended on %s left its lock in %s; no program has it open", since.Format("2006-01-02 15:04"), text.Visible(f.Path)).
			Try("take it away", text.Command("rm", "--", path))
	}
	return fault.New(fault.Failed, "git's lock is in %s, since %s", text.Visible(f.Path), since.Format("2006-01-02 15:04")).
		Try("if no git is at work there, take it away", text.Command("rm", "--", path))
}

// Contains reports whether a commit, and all before it, is in another's history.
func (f *Folder) Contains(ctx context.Context, whole, part string) bool {
	_, err := f.Repo.Do(ctx, "merge-base", "--is-ancestor", part, whole)
	return err == nil
}
