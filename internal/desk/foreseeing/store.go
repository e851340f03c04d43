package foreseeing

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// What the host has new is brought into a store of our own beside git's, which borrows the
// project's objects: the project's refs, and what plain git knows of the host, stay as they are.
// The store can be thrown away at any time.

// usualMost is how much is brought to foresee clashes, in megabytes, unless set otherwise.
const usualMost = 50

// theirs is where the host's branches are in the store.
const theirs = "refs/theirs/"

// store is that of one repository.
type store struct {
	desk   *desk.Desk
	repo   *git.Repo
	common string // the project's git folder
	most   int64  // bytes
	digits int    // of an object's id
}

func storeOf(d *desk.Desk, f *project.Folder) (*store, error) {
	_, common, err := git.Folders(f.Path)
	if err == nil {
		err = project.OwnPlace(common)
	}
	if err != nil {
		return nil, err
	}
	set, err := d.Settings()
	if err != nil {
		return nil, err
	}
	s := &store{desk: d, repo: project.Store(f.Repo.Git, filepath.Join(common, "uncinate", "seen.git")), common: common, most: usualMost << 20, digits: len(f.Head)}
	if set.Foresee != 0 {
		s.most = int64(max(set.Foresee, 0)) << 20
	}
	return s, nil
}

// objects is the store's folder of objects; "" where there is none.
func (s *store) objects() string {
	dir := filepath.Join(s.repo.Dir, "objects")
	if files.KindOf(s.repo.Dir) != files.Folder || files.KindOf(dir) != files.Folder {
		return ""
	}
	return dir
}

// heads are the host's branches as they were when they were last brought.
func (s *store) heads() map[string]string {
	out := map[string]string{}
	if s.objects() == "" {
		return out
	}
	refs, err := git.ReadRefs(s.repo.Dir)
	if err != nil {
		return out // it is brought again then
	}
	for ref, id := range refs {
		if b, is := strings.CutPrefix(ref, theirs); is {
			out[b] = id
		}
	}
	return out
}

func (s *store) drop() error { return files.RemoveAll(s.repo.Dir) }

// ready makes the store, or one in the place of one that is not as ours are: it may have come with
// the folder.
func (s *store) ready(ctx context.Context) error {
	config, err := git.ReadConfig(filepath.Join(s.repo.Dir, "config"))
	fit := err == nil && project.LooksThrough(s.desk, config) && s.objects() != "" && files.KindOf(filepath.Join(s.repo.Dir, "HEAD")) == files.Regular
	if fit && sizeOf(s.repo.Dir) < s.most/2 {
		return s.shallow()
	}
	if err := s.drop(); err != nil {
		return err
	}
	if err := project.MakeStore(s.repo.Dir, s.digits, filepath.Join(s.common, "objects")); err != nil {
		return git.Fault(err, "the place to look at the host's commits cannot be made")
	}
	return s.shallow()
}

// shallow takes over where the project's history is cut (gitrepository-layout documentation).
func (s *store) shallow() error {
	to := filepath.Join(s.repo.Dir, "shallow")
	data, err := files.Read(filepath.Join(s.common, "shallow"), 16<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return files.Remove(to)
	}
	if err != nil {
		return err
	}
	return files.Dump(to, data)
}

// errTooMuch says that the host has more than is brought for a look.
var errTooMuch = errors.New("too much")

// held keeps other runs away from the store.
func (s *store) held(ctx context.Context) (*files.Held, error) {
	return s.desk.WaitAt(ctx, filepath.Join(filepath.Dir(s.repo.Dir), "seen.held"), "what is new on the host")
}

// bring receives branches of the host, at most as much as is set.
func (s *store) bring(ctx context.Context, h *project.Tie, branches []string) (err error) {
	if s.most == 0 {
		return errTooMuch
	}
	held, err := s.held(ctx)
	if err != nil {
		return err
	}
	defer fault.Also(&err, held.Release)
	if err := s.ready(ctx); err != nil {
		return err
	}
	if err := h.WriteInclude(ctx); err != nil {
		return err
	}
	var specs []string
	for _, b := range branches {
		specs = append(specs, "+refs/heads/"+b+":"+theirs+b)
	}
	return s.fetch(ctx, h, specs)
}

// fetch receives refs of the host, under the names that are given, at most as much as is set.
func (s *store) fetch(ctx context.Context, h *project.Tie, specs []string) error {
	args := []string{"fetch", "--progress", "--no-tags", "--no-write-fetch-head", "--no-auto-maintenance", "--recurse-submodules=no", "--refmap=", "--", h.Address.String()}
	args = append(args, specs...)
	within, stop := context.WithCancel(ctx)
	defer stop()
	much := s.watch(within, stop)
	_, err := s.repo.Works().Run(within, git.Cmd{Config: h.Config(), Args: args, Stall: git.Stall, Watch: project.Watch(s.desk, "Looking at what is new", "Receiving objects")})
	s.desk.Tell.Progress("Looking at what is new", 0, 0, "")
	stop()
	if much() {
		return errors.Join(errTooMuch, s.drop())
	}
	return git.Fault(err, "git could not look at what is new on %s", h.Address.String())
}

// watch ends a run once the store has grown by more than is set; the result tells whether it did.
func (s *store) watch(ctx context.Context, stop func()) func() bool {
	before, over := sizeOf(s.repo.Dir), make(chan bool, 1)
	go func() {
		much := false
		for ctx.Err() == nil && !much {
			if much = sizeOf(s.repo.Dir)-before > s.most; much {
				stop()
				break
			}
			if err := s.desk.Pause(ctx, 50*time.Millisecond); err != nil {
				break // the run has ended
			}
		}
		over <- much || sizeOf(s.repo.Dir)-before > s.most
	}()
	return func() bool { return <-over }
}

// sizeOf is how much is in a folder, in bytes; what goes meanwhile is not counted.
func sizeOf(dir string) int64 {
	var sum int64
	_ = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error { // what cannot be read any more is gone
		if err != nil || e.IsDir() {
			return nil
		}
		if s, err := e.Info(); err == nil {
			sum += s.Size()
		}
		return nil
	})
	return sum
}

// tooMuch says so, with what helps.
func (s *store) tooMuch() string {
	if s.most == 0 {
		return "What is new on the host was not looked through (setting foresee.megabytes)."
	}
	return "More than " + text.Size(s.most) + " is new on the host, so it was not looked through: uncinate sync"
}
