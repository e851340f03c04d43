package job

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
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

// lookAround looks at the repository that holds a folder, from its top.
func (d *Desk) lookAround(ctx context.Context, given string) (*folder, error) {
	where, g, err := d.findWithGit(ctx, given)
	if err != nil {
		return nil, err
	}
	top, err := g.In(where).Top(ctx)
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

// look looks at a folder through git.
func (d *Desk) look(ctx context.Context, given string) (*folder, error) {
	where, g, err := d.findWithGit(ctx, given)
	if err != nil {
		return nil, err
	}
	f := &folder{path: where, repo: g.In(where), remotes: map[string]string{}}
	if isBare(where) {
		return nil, fault.New(fault.Refused, "%s is a bare repository, without the files of a project", text.Visible(where))
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
	for _, s := range f.settings {
		if name, ok := strings.CutPrefix(s.Key, "remote."); ok && strings.HasSuffix(name, ".url") {
			f.remotes[strings.TrimSuffix(name, ".url")] = s.Value
		}
	}
	f.branch, err = f.repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD")
	if err != nil {
		return nil, fault.New(fault.Decision, "no branch is checked out in %s (a detached HEAD)", text.Visible(where)).Because(err).
			Try("make a branch of what is there", text.Command("git", "-C", where, "switch", "-c", "NAME"))
	}
	if f.head, err = f.repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}"); err != nil {
		f.head = ""
	}
	list, err := f.repo.Do(ctx, "for-each-ref", "--format=%(refname:short)", "refs/heads/")
	if err != nil {
		return nil, gitFault(err, "git cannot list the branches")
	}
	f.branches = strings.Fields(list)
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

// Stay is a group of files that do not go up.
type Stay struct {
	Pattern string `json:"pattern"` // the ignore rule; "" for the person's own rules
	Why     string `json:"why"`
	Files   int    `json:"files"`
	Bytes   int64  `json:"bytes"`
}

// travel is what would go up, and what would not.
type travel struct {
	up     []string // paths from the top, with slashes
	gone   []string // staged, and deleted since
	bytes  int64
	stays  []Stay
	rules  []kinds.Rule // to be added to the ignore rules
	nested []string     // folders with a repository of their own
	keys   []string     // files that hold a private key
}

// travels sorts the folder's files by git's own rules and by what is plainly
// remakeable. Without a repository, an empty one elsewhere lends git's eyes.
func (d *Desk) travels(ctx context.Context, f *folder) (*travel, error) {
	list := func(args ...string) ([]string, error) { return f.repo.Lines(ctx, args...) }
	if !f.isRepo {
		tmp, err := os.MkdirTemp("", "uncinate-look-")
		if err != nil {
			return nil, err
		}
		defer os.RemoveAll(tmp)
		lent := filepath.Join(tmp, "git")
		if _, err := f.repo.Run(ctx, git.Cmd{Args: []string{"init", "-q", "--bare", "--template=", lent}}); err != nil {
			return nil, gitFault(err, "git cannot make an empty repository in %s", text.Visible(tmp))
		}
		list = func(args ...string) ([]string, error) {
			return f.repo.Lines(ctx, append([]string{"--git-dir=" + lent, "--work-tree=" + f.path}, args...)...)
		}
	}
	t := &travel{}
	all, err := list("ls-files", "-z", "-c", "-o", "--exclude-standard", "--deduplicate")
	if err != nil {
		return nil, gitFault(err, "git cannot list the files of %s", text.Visible(f.path))
	}
	all = slices.DeleteFunc(all, func(p string) bool {
		if strings.HasSuffix(p, "/") {
			t.nested = append(t.nested, strings.TrimSuffix(p, "/"))
			return true
		}
		return false
	})
	catalogue, err := kinds.Catalogue()
	if err != nil {
		return nil, err
	}
	t.rules = kinds.Suggest(catalogue, all)
	if len(t.rules) > 0 {
		rules, err := os.CreateTemp("", "uncinate-rules-")
		if err != nil {
			return nil, err
		}
		defer os.Remove(rules.Name())
		if _, err := rules.WriteString(kinds.Merge("", t.rules)); err != nil {
			return nil, err
		}
		if err := rules.Close(); err != nil {
			return nil, err
		}
		if t.up, err = list("ls-files", "-z", "-c", "-o", "--exclude-standard", "--exclude-from="+rules.Name(), "--deduplicate"); err != nil {
			return nil, gitFault(err, "git cannot list the files of %s", text.Visible(f.path))
		}
		t.up = slices.DeleteFunc(t.up, func(p string) bool { return strings.HasSuffix(p, "/") })
	} else {
		t.up = all
	}
	own, err := list("ls-files", "-z", "-o", "-i", "--exclude-standard")
	if err != nil {
		return nil, gitFault(err, "git cannot list the files of %s", text.Visible(f.path))
	}
	t.count(f.path, all, own)
	return t, nil
}

func (t *travel) count(top string, all, own []string) {
	size := func(p string) int64 {
		if s, err := os.Lstat(filepath.Join(top, filepath.FromSlash(p))); err == nil {
			return s.Size()
		}
		return 0
	}
	goes := make(map[string]bool, len(t.up))
	t.up = slices.DeleteFunc(slices.Clone(t.up), func(p string) bool {
		_, err := os.Lstat(filepath.Join(top, filepath.FromSlash(p)))
		if errors.Is(err, fs.ErrNotExist) {
			t.gone = append(t.gone, p)
			goes[p] = true // it neither goes nor stays
			return true
		}
		return false
	})
	for _, p := range t.up {
		goes[p] = true
		n := size(p)
		t.bytes += n
		if n > 0 && n < 64<<10 && holdsKey(filepath.Join(top, filepath.FromSlash(p))) {
			t.keys = append(t.keys, p)
		}
	}
	groups := map[string]*Stay{}
	var order []string
	add := func(pattern, why, p string) {
		g := groups[pattern]
		if g == nil {
			g = &Stay{Pattern: pattern, Why: why}
			groups[pattern] = g
			order = append(order, pattern)
		}
		g.Files++
		g.Bytes += size(p)
	}
	for _, p := range all {
		if !goes[p] {
			r := ruleFor(t.rules, p)
			add(r.Pattern, r.Why, p)
		}
	}
	for _, p := range own {
		add("", "left out by your own ignore rules", p)
	}
	for _, p := range order {
		t.stays = append(t.stays, *groups[p])
	}
	slices.SortStableFunc(t.stays, func(a, b Stay) int { return b.Files - a.Files })
}

// ruleFor finds which of our rules hits a path.
func ruleFor(rules []kinds.Rule, p string) kinds.Rule {
	for _, r := range rules {
		folder, isFolder := strings.CutSuffix(strings.TrimPrefix(r.Pattern, "/"), "/")
		if isFolder && strings.HasPrefix(p, kinds.Unescape(folder)+"/") {
			return r
		}
		if ok, _ := path.Match(r.Pattern, path.Base(p)); ok && !isFolder {
			return r
		}
	}
	return kinds.Rule{}
}

func (t *travel) staying() int {
	n := 0
	for _, s := range t.stays {
		n += s.Files
	}
	return n
}

// holdsKey reports whether a file begins as a private key does (RFC 7468, section
// 10 and 11; OpenSSH's PROTOCOL.key).
func holdsKey(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 64)
	n, err := io.ReadFull(f, head)
	if err != nil && n < 16 {
		return false
	}
	head = head[:n]
	return bytes.HasPrefix(head, []byte("-----BEGIN ")) && bytes.Contains(head, []byte("PRIVATE KEY-----"))
}
