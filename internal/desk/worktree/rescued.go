package worktree

import (
	"context"
	"errors"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// LooseAt looks at the repository that holds a folder, attached or not, on a branch or not.
func LooseAt(ctx context.Context, d *desk.Desk, given string) (*project.Folder, error) {
	where, top, err := project.FindTop(ctx, d, given)
	if err != nil {
		return nil, err
	}
	if top == "" {
		f := fault.New(fault.Decision, "%s is not in a git repository", text.Visible(where))
		return nil, f.Try("make it one and attach it", text.Command("uncinate", "attach", where))
	}
	f, err := project.LookLoosely(ctx, d, top)
	if err != nil {
		return nil, err
	}
	f.Branch, err = f.Repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD")
	if err != nil && git.Code(err) != 1 {
		return nil, git.Fault(err, "git cannot tell the branch")
	}
	f.ReadRemotes(d)
	return f, nil
}

// Rescues lists a project's rescue copies, the newest first.
func Rescues(ctx context.Context, d *desk.Desk, given string) ([]RescueCopy, error) {
	r, err := rescuesAt(ctx, d, given)
	if err != nil {
		return nil, err
	}
	all, err := r.list(ctx)
	for i := range all {
		if err := r.fill(ctx, &all[i]); err != nil {
			return nil, err
		}
	}
	return all, err
}

func rescuesAt(ctx context.Context, d *desk.Desk, given string) (*Rescuer, error) {
	f, err := LooseAt(ctx, d, given)
	if err != nil {
		return nil, err
	}
	return RescuerOf(d, f)
}

// one finds a copy by its number.
func (r *Rescuer) one(ctx context.Context, number int) (RescueCopy, error) {
	all, err := r.list(ctx)
	if err != nil {
		return RescueCopy{}, err
	}
	i := slices.IndexFunc(all, func(c RescueCopy) bool { return c.Number == number })
	if i < 0 {
		return RescueCopy{}, fault.New(fault.Failed, "there is no rescue copy %d here", number).Try("see the copies", "uncinate rescue list")
	}
	return all[i], r.fill(ctx, &all[i])
}

// Rescue tells of one copy.
func Rescue(ctx context.Context, d *desk.Desk, given string, number int) (RescueCopy, error) {
	r, err := rescuesAt(ctx, d, given)
	if err != nil {
		return RescueCopy{}, err
	}
	return r.one(ctx, number)
}

// RescuedFile writes the contents of one file of a copy.
func RescuedFile(ctx context.Context, d *desk.Desk, given string, number int, path string, to io.Writer) error {
	r, err := rescuesAt(ctx, d, given)
	if err != nil {
		return err
	}
	c, err := r.one(ctx, number)
	if err != nil {
		return err
	}
	if !slices.Contains(c.Files, path) {
		f := fault.New(fault.Failed, "the rescue copy %d holds no file %s", number, text.Visible(path))
		if near := text.Nearest(path, c.Files); near != "" {
			f.Detail("Did you mean %s?", text.Visible(near))
		}
		return f.Try("see what it holds", text.Command("uncinate", "rescue", "show", strconv.Itoa(number)))
	}
	return r.contents(ctx, c.files[path].ID, to)
}

func (r *Rescuer) contents(ctx context.Context, id string, to io.Writer) error {
	err := r.store.Objects(ctx, strings.NewReader(id+"\n"), func(o git.Object, contents io.Reader) error {
		_, err := io.Copy(to, contents)
		return err
	})
	return git.Fault(err, "the rescue copy cannot be read")
}

// branches makes a branch for each of the commits that a copy holds.
func (r *Rescuer) branches(ctx context.Context, c RescueCopy, as string, preview bool) ([]string, error) {
	var names []string
	for i, k := range c.Commits {
		name := as
		if name == "" {
			name = "rescued-" + strconv.Itoa(c.Number)
		}
		if i > 0 {
			name += "-" + strconv.Itoa(i+1)
		}
		if _, err := r.repo.Do(ctx, "check-ref-format", "--branch", name); err != nil {
			return nil, fault.New(fault.Usage, "%s is not a name for a branch", text.Quote(name)).Because(err)
		}
		stands, err := r.repo.Resolve(ctx, "refs/heads/"+name)
		if err == nil && stands != k.Commit {
			return nil, fault.New(fault.Decision, "there is a branch %s already, at another commit", text.Visible(name)).
				Try("bring it under another name", text.Command("uncinate", "rescue", "bring", strconv.Itoa(c.Number), "--as", name+"-again"))
		}
		names = append(names, name)
	}
	if preview {
		return names, nil
	}
	for i, k := range c.Commits {
		if err := r.handBack(ctx, k.Commit, "refs/heads/"+names[i]); err != nil {
			return nil, err
		}
	}
	return names, nil
}

// handBack brings a commit with all that leads to it from the copies into the project, and makes
// a ref of it. It does without a transport, which the project's own configuration would have a
// say in: what was kept can be brought back also where nobody trusts that. Only of a shallow
// history git has to be told how deep it is.
func (r *Rescuer) handBack(ctx context.Context, commit, ref string) error {
	failed := func(err error) error {
		return git.Fault(err, "the commits of the rescue copy cannot be brought back")
	}
	if !files.Missing(filepath.Join(r.store.Dir, "shallow")) {
		work, err := r.folder.Work()
		if err != nil {
			return err
		}
		_, err = work.Do(ctx, "fetch", "-q", "--no-tags", "--no-write-fetch-head", "--update-shallow", "--no-auto-maintenance", "--recurse-submodules=no", "--", r.store.Dir, commit+":"+ref)
		return failed(err)
	}
	dir, done, err := files.ScratchIn(filepath.Dir(r.store.Dir), "rescue-new-") // git renames it into place, so it is on the store's own file system
	if err != nil {
		return err
	}
	defer done() // what stays is swept with the next copy
	name, err := r.store.Run(ctx, git.Cmd{Args: []string{"pack-objects", "-q", "--revs", "--delta-base-offset", filepath.Join(dir, "copy")}, In: strings.NewReader(commit + "\n")})
	if err != nil {
		return failed(err)
	}
	pack, err := files.Open(filepath.Join(dir, "copy-"+strings.TrimSpace(string(name))+".pack"))
	if err != nil {
		return failed(err)
	}
	_, err = r.repo.Run(ctx, git.Cmd{Args: []string{"index-pack", "--stdin"}, In: pack})
	if err = errors.Join(err, pack.Close()); err != nil {
		return failed(err)
	}
	if _, err := r.repo.Resolve(ctx, ref); err == nil {
		return nil // it is there already
	}
	_, err = r.repo.Do(ctx, "update-ref", "-m", "rescue bring", ref, commit, strings.Repeat("0", len(commit)))
	return failed(err)
}

// DropRescues gives up copies: those with the numbers, or all that are older than a time.
func DropRescues(ctx context.Context, d *desk.Desk, given string, numbers []int, older time.Duration) ([]RescueCopy, func() error, error) {
	r, err := rescuesAt(ctx, d, given)
	if err != nil {
		return nil, nil, err
	}
	var which []RescueCopy
	for _, n := range numbers {
		c, err := r.one(ctx, n)
		if err != nil {
			return nil, nil, err
		}
		which = append(which, c)
	}
	if older > 0 {
		all, err := r.list(ctx)
		if err != nil {
			return nil, nil, err
		}
		for _, c := range all {
			if r.desk.Now().Sub(c.When) > older {
				which = append(which, c)
			}
		}
	}
	return which, func() error {
		held, err := d.Alone(ctx, r.repo.Dir)
		if err != nil {
			return err
		}
		store, err := r.hold(ctx)
		if err == nil {
			err = errors.Join(r.drop(ctx, which), store.Release())
		}
		return errors.Join(err, held.Release())
	}, nil
}
