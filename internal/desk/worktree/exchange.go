package worktree

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// finish goes through with what was prepared, and may be called again after it was cut off:
// what is done is told by where things are.
func (g *gate) finish(ctx context.Context, all []change) error {
	resumed := g.resumed
	if err := os.WriteFile(filepath.Join(g.at, "marker"), nil, 0o600); err != nil { // what is aside and newer was written to late
		return err
	}
	keeps := g.said.Restoring != nil && g.said.Restoring.Indexes
	if !keeps {
		g.hasher = newHasher(g.digits())
	}
	err := g.exchange(ctx, all)
	if !keeps {
		g.hasher.end()
	}
	if err != nil {
		return err
	}
	var work errgroup.Group
	if !resumed {
		work.Go(func() error { return g.refresh(ctx) })
	}
	if keeps {
		err = g.keepAside(ctx)
	} else {
		err = g.look(ctx, all)
	}
	if err = errors.Join(err, work.Wait()); err != nil {
		return err
	}
	if err := g.install(ctx); err != nil {
		return err
	}
	if err := g.moveRefs(ctx); err != nil {
		return err
	}
	if err := g.putAside(); err != nil {
		return err
	}
	if err := g.thin(ctx); err != nil {
		return err
	}
	if !g.fresh {
		if _, err := g.folder.Repo.Do(ctx, "update-index", "-q", "--refresh"); err != nil && git.Code(err) != 1 {
			return git.Fault(err, "git's index cannot be brought up to date")
		}
	}
	return g.hook(ctx)
}

// exchange lays aside what goes, and exchanges what comes in for what stands.
func (g *gate) exchange(ctx context.Context, all []change) error {
	for _, p := range g.said.Way {
		if same, err := g.same(p); err != nil || same {
			if err != nil {
				return err
			}
			continue
		}
		if err := g.takeAway(p); err != nil {
			return err
		}
	}
	for _, c := range all {
		if c.goes() {
			if err := g.takeAway(c.path); err != nil {
				return err
			}
		}
	}
	for _, c := range all {
		if !c.goes() {
			if err := g.put(ctx, c); err != nil {
				return err
			}
		}
	}
	return nil
}

// refresh notes in a copy of the prepared index how the files stand that came in
// (git-update-index documentation, --refresh).
func (g *gate) refresh(ctx context.Context) error {
	to := g.refreshed() + ".new" // it gets its name once it is whole: a run that goes on takes what has it
	if err := files.CopyFile(g.index(), to); err != nil {
		return err
	}
	repo := *g.folder.Repo
	repo.GitDir = g.own
	_, err := repo.Run(ctx, git.Cmd{Dir: g.folder.Path, Env: []string{"GIT_INDEX_FILE=" + to, "GIT_WORK_TREE=" + g.folder.Path}, Args: []string{"update-index", "-q", "--refresh"}})
	if err != nil && git.Code(err) != 1 { // 1 says that some file differs
		return git.Fault(err, "git's index cannot be brought up to date")
	}
	return files.Move(to, g.refreshed())
}

// layAside moves what was at a path of the work tree to a free place of that name among what is
// aside.
func (g *gate) layAside(from, p string) error {
	for n := 0; ; n++ {
		top := "aside"
		if n > 0 {
			top += "-" + strconv.Itoa(n)
		}
		to := filepath.Join(g.at, top, filepath.FromSlash(p))
		if dir := filepath.Dir(to); !g.dirs[dir] {
			err := os.MkdirAll(dir, 0o700)
			if errors.Is(err, syscall.ENOTDIR) || errors.Is(err, fs.ErrExist) {
				continue // a file is where a folder must be
			}
			if err != nil {
				return err
			}
			g.dirs[dir] = true
		}
		err := files.MoveNew(from, to)
		if err == nil && g.hasher != nil {
			g.hasher.todo <- to
		}
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
}

// takeAway lays what is at a path aside, and the folders that are empty then go, as with
// git. A folder in its place is not touched.
func (g *gate) takeAway(p string) error {
	if there, err := g.parents(p, false); err != nil || !there {
		return err
	}
	s, err := os.Lstat(g.work(p))
	if err != nil || s.IsDir() {
		return passMissing(err)
	}
	if g.resumed && !files.Missing(filepath.Join(g.at, "aside", filepath.FromSlash(p))) {
		return nil // it was taken away, and rewritten since
	}
	if err := passMissing(g.layAside(g.work(p), p)); err != nil {
		return fault.New(fault.Failed, "%s cannot be put out of the way: %s", text.Visible(p), files.Plain(err)).Because(err)
	}
	for dir := filepath.ToSlash(filepath.Dir(filepath.FromSlash(p))); dir != "."; dir = filepath.ToSlash(filepath.Dir(filepath.FromSlash(dir))) {
		if os.Remove(g.work(dir)) != nil {
			break // it holds something still
		}
		delete(g.dirs, dir)
	}
	return nil
}

func passMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil
	}
	return err
}

// parents makes sure that the folders above a path are folders, not links; with make, those that
// are missing are made, and what is in their place is put aside.
func (g *gate) parents(p string, make bool) (bool, error) {
	dirs := strings.Split(p, "/")
	for i := 1; i < len(dirs); i++ {
		dir := strings.Join(dirs[:i], "/")
		if g.dirs[dir] {
			continue
		}
		s, err := os.Lstat(g.work(dir))
		switch {
		case err == nil && s.IsDir():
		case !make:
			return false, passMissing(err)
		case err == nil:
			if err := g.layAside(g.work(dir), dir); err != nil {
				return false, err
			}
			fallthrough
		default:
			if err := os.Mkdir(g.work(dir), 0o777); err != nil && !errors.Is(err, fs.ErrExist) {
				return false, fault.New(fault.Failed, "the folder %s cannot be made: %s", text.Visible(dir), files.Plain(err)).Because(err)
			}
		}
		g.dirs[dir] = true
	}
	return true, nil
}

// put exchanges a file that comes in for what is in its place.
func (g *gate) put(ctx context.Context, c change) error {
	s, err := os.Lstat(g.staged(c.path))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil // it is in its place, or is left out here (git-sparse-checkout documentation)
	}
	if err != nil {
		return err
	}
	if _, err := g.parents(c.path, true); err != nil {
		return err
	}
	if g.resumed {
		g.resumed = false // only where it was cut off can it be open which of two is which
		if there, err := g.isThere(ctx, c, s); err != nil || there {
			return errors.Join(err, g.stagedAside(c.path))
		}
	}
	for range 20 {
		now, err := os.Lstat(g.work(c.path))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			err = files.MoveNew(g.staged(c.path), g.work(c.path))
			if errors.Is(err, fs.ErrExist) {
				continue // something came to be there just now
			}
			return err
		case err != nil:
			return err
		case now.IsDir() && c.newMode == "160000":
			return os.Remove(g.staged(c.path)) // a repository inside; its commit is moved by its own means
		case now.IsDir():
			if err := os.Remove(g.work(c.path)); err != nil {
				return fault.New(fault.Decision, "%s comes in as a file, and there is a folder with something in it", text.Visible(c.path)).
					Try("give the folder another name, then run this again", text.Command("mv", "--", g.work(c.path), g.work(c.path)+"-2"))
			}
			continue
		}
		if strings.Trim(c.oldID, "0") == "" {
			same, err := g.same(c.path)
			if err == nil && same {
				err = os.Remove(g.staged(c.path)) // it is there already, just as it comes in
			}
			if err != nil || same {
				return err
			}
		}
		if err := files.Exchange(g.staged(c.path), g.work(c.path)); errors.Is(err, fs.ErrNotExist) {
			continue // it went just now
		} else if err != nil {
			return fault.New(fault.Failed, "%s cannot be received: %s", text.Visible(c.path), files.Plain(err)).Because(err)
		}
		return g.stagedAside(c.path)
	}
	return fault.New(fault.Failed, "%s is made and removed all the time, so it cannot be received", text.Visible(c.path))
}

// same reports whether a file stands just as it comes in.
func (g *gate) same(p string) (bool, error) {
	a, err := os.Lstat(g.staged(p))
	if err != nil {
		return false, passMissing(err)
	}
	b, err := os.Lstat(g.work(p))
	if err != nil || !a.Mode().IsRegular() || !b.Mode().IsRegular() || a.Size() != b.Size() || a.Mode()&0o100 != b.Mode()&0o100 {
		return false, passMissing(err)
	}
	x, err := rawID(g.staged(p), g.digits())
	if err != nil {
		return false, err
	}
	y, err := rawID(g.work(p), g.digits())
	if errors.Is(err, fs.ErrPermission) {
		return false, nil
	}
	return x == y, passMissing(err)
}

// stagedAside lays what came out of the work tree aside.
func (g *gate) stagedAside(p string) error { return g.layAside(g.staged(p), p) }

// isThere reports whether the file that comes in is in its place already, and what was there
// is where it was prepared.
func (g *gate) isThere(ctx context.Context, c change, staged fs.FileInfo) (bool, error) {
	if g.said.Restoring != nil {
		return g.isBack(ctx, c, staged)
	}
	now, err := os.Lstat(g.work(c.path))
	if err != nil || now.IsDir() {
		return false, passMissing(err)
	}
	if c.newID == c.oldID { // only its mode differs
		return now.Mode()&0o100 != 0 == (c.newMode == "100755") && staged.Mode()&0o100 != 0 != (c.newMode == "100755"), nil
	}
	id, err := g.folder.Repo.HashFile(ctx, c.path)
	if err != nil {
		return false, git.Fault(err, "%s cannot be read", text.Visible(c.path))
	}
	at, err := rawID(g.staged(c.path), g.digits())
	return id == c.newID && at != c.newID, err
}

// install puts the prepared index in the place of the old one.
func (g *gate) install(ctx context.Context) error {
	index := g.index()
	for _, left := range []string{g.refreshed() + ".new.lock", g.refreshed() + ".new", index + ".lock"} { // where this was killed, or the disk was full
		if err := files.Remove(left); err != nil {
			return err
		}
	}
	now, err := sumOf(filepath.Join(g.own, "index"))
	if err != nil {
		return err
	}
	done := false
	for _, prepared := range []string{g.refreshed(), g.index()} {
		sum, err := sumOf(prepared)
		if err != nil {
			return err
		}
		done = done || now == sum && !files.Missing(prepared)
	}
	if done && files.Missing(g.lock()) {
		return nil
	}
	if files.Missing(g.lock()) {
		if err := g.takeLock(); err != nil {
			return err
		}
	}
	g.fresh = now == g.said.Index && !files.Missing(g.refreshed())
	switch {
	case g.fresh:
		index = g.refreshed()
	case now != g.said.Index && !done:
		// Something was staged since this was cut off: it is carried along.
		if err := files.CopyFile(filepath.Join(g.own, "index"), index); err != nil {
			return err
		}
		var err error
		if g.said.Restoring == nil {
			err = g.readTree(ctx, index, "-i")
		} else if g.said.Restoring.Indexes {
			err = g.reindex(ctx, index)
		}
		if err != nil {
			return git.Fault(err, "what was staged meanwhile cannot be carried along")
		}
	}
	if err := g.fill(index); err != nil {
		return err
	}
	if err := files.Move(g.lock(), filepath.Join(g.own, "index")); err != nil {
		return fault.New(fault.Failed, "git's index cannot be written: %s", files.Plain(err)).Because(err)
	}
	return nil
}

// moveRefs moves the branch, or checks the other one out.
func (g *gate) moveRefs(ctx context.Context) error {
	l, repo := g.said, g.folder.Repo
	if l.Restoring != nil {
		return nil
	}
	if l.Switch != "" {
		was := g.folder.Branch
		if was == "" {
			was = l.Head
		}
		// In git's own words, by which it finds the branch before (git-rev-parse documentation, @{-<n>}).
		if _, err := repo.Do(ctx, "symbolic-ref", "-m", "checkout: moving from "+was+" to "+l.Switch, "HEAD", "refs/heads/"+l.Switch); err != nil {
			return git.Fault(err, "the branch %s cannot be checked out", text.Visible(l.Switch))
		}
		g.folder.Branch = l.Switch
	} else if l.Branch != "" {
		head := l.Head
		if head == "" {
			head = strings.Repeat("0", len(l.To))
		}
		if at, err := repo.Resolve(ctx, "refs/heads/"+l.Branch); err != nil || at != l.To {
			if _, err := repo.Do(ctx, "update-ref", "-m", cmp.Or(l.Says, "uncinate: receive"), "refs/heads/"+l.Branch, l.To, head); err != nil {
				return git.Fault(err, "the branch cannot be moved")
			}
		}
	}
	g.folder.Head = l.To
	return nil
}

// putAside moves our folder to where what is aside waits until nobody needs it.
func (g *gate) putAside() error {
	if err := files.MakeFolder(g.asides, 0o700); err != nil {
		return err
	}
	return files.Move(g.at, filepath.Join(g.asides, strconv.FormatInt(time.Now().UnixNano(), 10)))
}

// hook runs the hook of the person's that git runs after such work; how it ends changes nothing
// any more (githooks documentation, post-merge and post-checkout).
func (g *gate) hook(ctx context.Context) error {
	h := g.said.Hook
	if len(h) == 0 || len(g.folder.Dangers) > 0 || !hasHook(g.folder, h[0]) {
		return nil
	}
	work, err := g.folder.Work()
	if err != nil {
		return err
	}
	args := append([]string{"hook", "run", "--ignore-missing", h[0], "--"}, h[1:]...)
	if _, err := work.Do(ctx, args...); err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return nil
}
