package worktree

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// stands reports whether the store is there, whole enough for git to take it for one
// (gitrepository-layout documentation). One that is not is never given to git, which would look
// for a repository further up and find the project's.
func (r *Rescuer) stands() bool {
	for name, kind := range map[string]files.Kind{"HEAD": files.Regular, "config": files.Regular, "objects": files.Folder, "refs": files.Folder} {
		if files.KindOf(filepath.Join(r.store.Dir, name)) != kind {
			return false
		}
	}
	return files.KindOf(r.store.Dir) == files.Folder
}

// hold takes the store for one run: several work trees of one repository share it, and what
// one has only begun to keep another's tidying up would take away.
func (r *Rescuer) hold(ctx context.Context) (*files.Held, error) {
	return r.desk.WaitAt(ctx, filepath.Join(filepath.Dir(r.store.Dir), "rescue.held"), "the rescue copies")
}

// ready makes the copies' repository: elsewhere, and it gets its name once it is whole.
func (r *Rescuer) ready(ctx context.Context) error {
	if r.stands() {
		return r.sweep()
	}
	form, err := r.repo.Do(ctx, "rev-parse", "--show-object-format")
	if err != nil {
		return git.Fault(err, "git cannot tell how it keeps its objects")
	}
	top := filepath.Dir(r.store.Dir)
	if err := files.MakeFolder(top, 0o700); err != nil {
		return err
	}
	fresh, done, err := files.ScratchIn(top, "rescue-new-")
	if err != nil {
		return fault.New(fault.Failed, "the place for rescue copies cannot be made").Because(err)
	}
	made := *r.store
	made.GitDir = ""
	_, err = made.Run(ctx, git.Cmd{Dir: fresh, Args: []string{"init", "-q", "--bare", "--template=", "--object-format=" + form, "--", filepath.Join(fresh, "it")}})
	if err = git.Fault(err, "the place for rescue copies cannot be made"); err == nil && !files.Missing(r.store.Dir) {
		// Half of one, as a run that was killed may have left it, is kept beside.
		err = files.Move(r.store.Dir, r.store.Dir+".half-"+strconv.FormatInt(r.desk.Now().UnixNano(), 10))
	}
	if err == nil {
		err = files.Move(filepath.Join(fresh, "it"), r.store.Dir)
	}
	if err = errors.Join(err, done()); err == nil {
		err = files.Settle(top)
	}
	return err
}

// sweep takes away what runs that were killed left in the store: nobody else is at work in it.
func (r *Rescuer) sweep() error {
	for _, left := range []string{"objects/pack/*.keep" /* as git calls them while it finishes a pack */, CopyRefs + "*.lock", "packed-refs.lock", "packed-refs.new", "shallow.lock", "HEAD.lock"} {
		kept, err := filepath.Glob(filepath.Join(r.store.Dir, filepath.FromSlash(left)))
		if err != nil {
			return err
		}
		for _, path := range kept {
			if err := files.Remove(path); err != nil {
				return err
			}
		}
	}
	names, err := files.Names(r.store.Dir)
	if err != nil {
		return err
	}
	for _, n := range names {
		rest, is := strings.CutPrefix(n, "index.")
		if !is { // what git writes where it was cut off while it took files in (git-fast-import documentation, "CRASH REPORTS")
			rest, is = strings.CutPrefix(n, "fast_import_crash_")
		}
		id, err := strconv.Atoi(strings.TrimSuffix(rest, ".lock"))
		if is && err == nil && id != os.Getpid() && !files.Runs(id) {
			if err := files.Remove(filepath.Join(r.store.Dir, n)); err != nil {
				return err
			}
		}
	}
	return nil
}
