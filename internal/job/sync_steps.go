package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/git"
	"uncinate/internal/world/openfiles"
)

// try finds out, aside, what the files will be. done ends the trial.
func (s *Sync) try(ctx context.Context) (done func() error, err error) {
	f, st := s.folder, s.stand
	done = func() error { return nil }
	s.trial = &weaver{repo: f.repo}
	s.tree = st.theirs
	if s.need == histories.Replay || s.need == histories.Merge {
		if s.trial, done, err = f.aside(ctx); err != nil {
			return func() error { return nil }, err
		}
		if s.tree, err = s.weave(ctx, s.trial); err != nil {
			var c *clashes
			if errors.As(err, &c) {
				err = s.clashed(ctx, c)
			}
			return done, err
		}
	}
	from, err := s.from(ctx)
	if err != nil {
		return done, err
	}
	out, err := s.trial.do(ctx, "", nil, "diff-tree", "-r", "-z", "--name-only", "--no-renames", from, s.tree)
	if err != nil {
		return done, gitFault(err, "git cannot compare here and there")
	}
	s.coming = git.SplitNUL([]byte(out))
	return done, s.keepsApart(ctx)
}

// from is what the files come from: the commit here, or nothing.
func (s *Sync) from(ctx context.Context) (string, error) {
	if s.stand.ours != "" {
		return s.stand.ours, nil
	}
	return s.folder.emptyTree(ctx)
}

// weave brings both sides together, and gives the commit that holds them.
func (s *Sync) weave(ctx context.Context, w *weaver) (string, error) {
	st := s.stand
	if s.need == histories.Merge {
		tree, err := w.merge(ctx, st.ours, st.theirs)
		if err != nil {
			return "", err
		}
		return w.commit(ctx, tree, []string{st.ours, st.theirs}, &commitRead{text: s.text})
	}
	args := []string{"rev-list", "--reverse", "--topo-order", st.ours, "--not", st.theirs}
	if s.was != "" {
		args = append(args, s.was)
	}
	list, err := s.folder.repo.Do(ctx, args...)
	if err != nil {
		return "", gitFault(err, "git cannot list the commits that are only here")
	}
	commits := strings.Fields(list)
	end, made, err := w.replay(ctx, commits, st.theirs, func(done int) {
		s.desk.Tell.Progress("Replaying", int64(done), int64(len(commits)), "")
	})
	s.desk.Tell.Progress("Replaying", 0, 0, "")
	if err == nil {
		s.SentOut = made
	}
	return end, err
}

// inWay stops before any file that is not saved would be written over by what comes in.
func (s *Sync) inWay(ctx context.Context) ([]string, error) {
	clash, way, err := s.folder.inWay(ctx, s.stand.status, s.coming, s.trial, s.tree)
	if err != nil || len(clash) == 0 {
		return way, err
	}
	out := writtenOver(clash)
	out.Detail("Everything is as it was, here and there.")
	return nil, out.Try("save your changes on the way", text.Command(s.words("sync", "--save", "TEXT")...)).
		Try("or lay them aside", text.Command("git", "-C", s.folder.path, "stash", "--include-untracked"))
}

// inWay sorts the files that lie where others are to come, of which tree holds the contents:
// clash are those that hold work that is not saved. The others do not stop it: files that git
// was told to ignore, and new ones that are the same already. They are given back as way, and
// a rescue copy of them is kept first.
func (f *folder) inWay(ctx context.Context, st *git.Status, coming []string, w *weaver, tree string) (clash, way []string, err error) {
	as := func(p string) string { return p }
	folds, err := f.foldsCase(ctx)
	if err != nil {
		return nil, nil, err
	}
	if folds {
		as = naming.Fold
	}
	comes := map[string]bool{} // paths, and the folders above them
	for _, p := range coming {
		p = as(p)
		for comes[p] = true; ; {
			i := strings.LastIndexByte(p, '/')
			if i < 0 {
				break
			}
			p = p[:i]
			comes[p+"/"] = true
		}
	}
	meets := func(p string) bool {
		p = as(strings.TrimSuffix(p, "/"))
		if comes[p+"/"] {
			return true
		}
		for {
			if comes[p] {
				return true
			}
			i := strings.LastIndexByte(p, '/')
			if i < 0 {
				return false
			}
			p = p[:i]
		}
	}
	for _, e := range st.Entries {
		switch {
		case e.Inner: // what lies in a repository inside is not touched
		case !meets(e.Path) && (e.From == "" || !meets(e.From)):
		case e.Untracked() && f.holds(ctx, w, tree, e.Path):
			way = append(way, e.Path)
		default:
			clash = append(clash, e.Path)
		}
	}
	for _, p := range st.Ignored {
		switch {
		case !meets(p):
		case strings.HasSuffix(p, "/"):
			clash = append(clash, p) // a repository of its own
		default:
			way = append(way, p)
		}
	}
	slices.Sort(clash)
	return clash, way, nil
}

// holds reports whether a tree has a file just as it lies here.
func (f *folder) holds(ctx context.Context, w *weaver, tree, p string) bool {
	id, err := f.repo.Do(ctx, "hash-object", "--", p)
	if err != nil {
		return false
	}
	entry, err := w.do(ctx, "", []string{"GIT_LITERAL_PATHSPECS=1"}, "ls-tree", tree, "--", p)
	return err == nil && strings.Contains(entry, " blob "+id+"\t")
}

// writtenOver is the fault about files that hold work of the person's that is not saved.
func writtenOver(paths []string) *fault.Fault {
	f := fault.New(fault.Decision, "%s here would be written over by what comes in, and %s not saved", text.Count(len(paths), "file"), isAre(len(paths)))
	firstOf(f, visible(paths))
	return f
}

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// heldOpen lists the files that would be replaced under a running program.
func (s *Sync) heldOpen() []string {
	open := s.desk.openFiles()
	var out []string
	for _, p := range s.coming {
		if x, held := open[filepath.Join(s.folder.path, filepath.FromSlash(p))]; held {
			out = append(out, fmt.Sprintf("%s, by %s (process %d)", text.Visible(p), text.Visible(x.Name), x.ID))
		}
	}
	return out
}

// openFiles lists what programs have open; for many projects side by side it is looked at
// once in a while.
func (d *Desk) openFiles() map[string]openfiles.Process {
	if !d.among {
		all, _ := openfiles.All() // where the system does not tell, nothing is known to be open
		return all
	}
	s := d.common()
	s.mu.Lock()
	defer s.mu.Unlock()
	if now := time.Now(); now.Sub(s.openSince) > 500*time.Millisecond {
		s.open, _ = openfiles.All()
		s.openSince = now
	}
	return s.open
}

func (s *Sync) stepFollow() Step {
	return Step{Item: plan.Item{ID: "follow", Place: plan.Here, Sentence: fmt.Sprintf("Lead the project to %s, where its repository lies now", text.Visible(s.Moved.Path()))},
		Do: func(ctx context.Context) error { return s.desk.follow(ctx, []Project{s.project}, *s.Moved) }}
}

func (s *Sync) stepRescue(refs []moving, way []string) Step {
	var what []string
	for range refs {
		what = append(what, "of branch "+text.Visible(s.stand.Branch)+" as it is here")
	}
	if len(way) > 0 {
		what = append(what, "of "+text.Count(len(way), "file")+" in the way")
	}
	return Step{Item: plan.Item{ID: "rescue", Place: plan.Here, Sentence: "Keep a rescue copy " + strings.Join(what, " and ")},
		Do: func(ctx context.Context) error {
			n, err := s.rescuer.keep(ctx, "sync", refs, way)
			if err == nil && n > 0 {
				s.rescued = append(s.rescued, n)
			}
			return err
		}}
}

func (s *Sync) stepIn(way []string) Step {
	branch := text.Visible(s.stand.Branch)
	sentence := fmt.Sprintf("Bring in %s on %s", text.Count(s.BroughtIn, "commit"), branch)
	switch {
	case s.need == histories.Take:
		sentence = fmt.Sprintf("Take %s as the host made it anew", branch)
	case s.need == histories.Replay:
		sentence += fmt.Sprintf(", and put your own %s on top anew", text.Count(s.SentOut, "commit"))
	case s.need == histories.Merge:
		sentence += fmt.Sprintf(", and merge it with your own %s", text.Count(s.SentOut, "commit"))
	}
	return Step{Item: plan.Item{ID: "bring-in", Place: plan.Here, Sentence: sentence},
		Do: func(ctx context.Context) error {
			to := s.stand.theirs
			if s.need == histories.Replay || s.need == histories.Merge {
				w, err := s.folder.weaver(ctx)
				if err != nil {
					return err
				}
				if to, err = s.weave(ctx, w); err != nil {
					return err
				}
			}
			from, err := s.from(ctx)
			if err != nil {
				return err
			}
			if err := s.run.notes(map[string]string{"branch": s.stand.Branch, "from": from, "head": s.stand.ours, "to": to}); err != nil {
				return err
			}
			if err := s.folder.layOut(ctx, s.stand.Branch, from, s.stand.ours, to, way); err != nil {
				return err
			}
			s.run.asWas = "What was brought in stays; only the sending is left, and the same command does it."
			return s.modules(ctx)
		}}
}

// layOut moves a branch, the one that is checked out, and the files with it. Files that are
// not saved and not among those that change stay as they are; those in the way go first.
// The person's own filters and hooks run, as with plain git.
func (f *folder) layOut(ctx context.Context, branch, from, head, to string, way []string) error {
	if err := f.clear(way); err != nil {
		return err
	}
	plain := f.repo.Git.In(f.path)
	if _, err := plain.Do(ctx, "read-tree", "--no-recurse-submodules", "-m", "-u", from, to); err != nil {
		return gitFault(err, "git cannot bring the commits into the folder")
	}
	return f.moveBranch(ctx, branch, head, to)
}

// clear takes files out of the way, of which a rescue copy was kept.
func (f *folder) clear(way []string) error {
	root, err := os.OpenRoot(f.path)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, p := range way {
		if err := root.Remove(filepath.FromSlash(p)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fault.New(fault.Failed, "%s cannot be put out of the way", text.Visible(p)).Because(err)
		}
	}
	return nil
}

// moveBranch moves the branch that is checked out, once its files stand.
func (f *folder) moveBranch(ctx context.Context, branch, head, to string) error {
	if head == "" {
		head = strings.Repeat("0", len(to))
	}
	if _, err := f.repo.Do(ctx, "update-ref", "-m", "uncinate: bring in", "refs/heads/"+branch, to, head); err != nil {
		return gitFault(err, "the branch cannot be moved")
	}
	f.head = to
	if f.repo.Safe != nil || !f.hasHook("post-merge") {
		return nil
	}
	if _, err := f.repo.Do(ctx, "hook", "run", "--ignore-missing", "post-merge", "--", "0"); err != nil && ctx.Err() != nil {
		return ctx.Err() // how the hook itself ends changes nothing any more (githooks documentation, post-merge)
	}
	return nil
}

// hasHook reports whether a hook of the person's may stand; where a configuration leads to
// other folders, git tells.
func (f *folder) hasHook(name string) bool {
	for _, s := range f.settings {
		if strings.EqualFold(s.Key, "core.hooksPath") {
			return true
		}
	}
	_, common, err := git.Folders(f.path)
	if err != nil {
		return true
	}
	_, err = os.Stat(filepath.Join(common, "hooks", name))
	return err == nil
}

// heal finishes what a run that was killed left half-way: files of the new commits that
// are laid out, and the branch that is not there yet. What is neither the old nor the new
// content, such as a file that was half written, is kept as a rescue copy first.
func (s *Sync) heal(ctx context.Context) error {
	r, resumed, err := s.desk.begin("sync", s.folder.path)
	if err != nil || !resumed {
		return err
	}
	f := s.folder
	branch, from, head, to := r.fact("branch"), r.fact("from"), r.fact("head"), r.fact("to")
	if r.state.Marks["bring-in"] != plan.Begun || to == "" || branch != f.branch || f.head != head {
		return r.journal.Close()
	}
	if err := f.takeLock(); err != nil {
		return err
	}
	all, err := f.repo.Lines(ctx, "diff-tree", "-r", "-z", "--no-renames", from, to)
	if err != nil {
		return gitFault(err, "git cannot compare here and there")
	}
	var put, drop, odd []string
	for i := 0; i+1 < len(all); i += 2 {
		fields, p := strings.Fields(all[i]), all[i+1]
		if len(fields) != 5 {
			return fault.New(fault.Failed, "git diff-tree says %s", text.Excerpt(all[i], 80))
		}
		if fields[4] == "D" {
			drop = append(drop, p)
		} else {
			put = append(put, p)
		}
		if f.differs(ctx, p, fields[2], fields[3]) {
			odd = append(odd, p)
		}
	}
	n, err := s.rescuer.keep(ctx, "sync, going on after it was cut off", nil, odd)
	if err != nil {
		return err
	}
	if n > 0 {
		s.rescued = append(s.rescued, n)
	}
	plain := f.repo.Git.In(f.path)
	if _, err := plain.Do(ctx, "read-tree", "--no-recurse-submodules", "-m", "-i", from, to); err != nil {
		return gitFault(err, "git cannot bring the commits into the folder")
	}
	root, err := os.OpenRoot(f.path)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, p := range drop {
		if err := root.Remove(filepath.FromSlash(p)); err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR) {
			return fault.New(fault.Failed, "%s cannot be put out of the way", text.Visible(p)).Because(err)
		}
		for dir := filepath.Dir(filepath.FromSlash(p)); dir != "."; dir = filepath.Dir(dir) {
			if root.Remove(dir) != nil { // as git does: a folder goes with its last file
				break
			}
		}
	}
	in := bytes.NewReader([]byte(strings.Join(put, "\x00") + "\x00"))
	if len(put) > 0 {
		if _, err := plain.Run(ctx, git.Cmd{Dir: f.path, In: in, Args: []string{"checkout-index", "-f", "-u", "-q", "-z", "--stdin"}}); err != nil {
			return gitFault(err, "git cannot bring the commits into the folder")
		}
	}
	if err := f.moveBranch(ctx, branch, head, to); err != nil {
		return err
	}
	s.desk.Tell.Note("Went on from where it was cut off: %s is brought in.", text.Visible(branch))
	return r.journal.Close()
}

// differs reports whether a file stands that is neither of two contents.
func (f *folder) differs(ctx context.Context, p, old, fresh string) bool {
	s, err := os.Lstat(filepath.Join(f.path, filepath.FromSlash(p)))
	if err != nil || s.IsDir() {
		return false
	}
	var id string
	if s.Mode()&fs.ModeSymlink != 0 {
		target, e := os.Readlink(filepath.Join(f.path, filepath.FromSlash(p)))
		out, e2 := f.repo.Run(ctx, gitCmd(f, strings.NewReader(target), "hash-object", "--stdin"))
		id, err = strings.TrimSpace(string(out)), errors.Join(e, e2)
	} else {
		id, err = f.repo.Do(ctx, "hash-object", "--", p)
	}
	return err != nil || id != old && id != fresh
}

// takeLock takes away the lock that a run of git of ours left when it was killed: ours
// have all ended, since we hold what they keep, and no other program has it open.
func (f *folder) takeLock() error {
	own, _, err := git.Folders(f.path)
	if err != nil {
		return err
	}
	path := filepath.Join(own, "index.lock")
	if _, err := os.Lstat(path); err != nil {
		return nil
	}
	open, known := openfiles.Below(own)
	if _, held := open[path]; held || !known {
		return f.unlocked()
	}
	return os.Remove(path)
}

func (s *Sync) stepOut() Step {
	branch := text.Visible(s.stand.Branch)
	ref := "refs/heads/" + s.stand.Branch
	s.run.asWas = "Nothing was sent, and what is here is as it was."
	return Step{Item: plan.Item{ID: "send-out", Place: plan.Host, Sentence: fmt.Sprintf("Send out %s on %s", text.Count(s.SentOut, "commit"), branch)},
		Done: func(ctx context.Context) (bool, error) {
			id, err := s.folder.repo.Do(ctx, "rev-parse", "-q", "--verify", ref)
			return id == s.stand.theirs, gitFault(err, "git cannot tell the commit")
		},
		Do: func(ctx context.Context) error {
			err := s.desk.push(ctx, s.hook, []string{"push", "--progress", "--porcelain", "--set-upstream", "--", s.hook.remote, ref + ":" + ref})
			if err == nil || ctx.Err() != nil || fault.Is(err, fault.Unreachable) {
				return err
			}
			if now, look := s.desk.refs(ctx, s.hook, ""); look == nil && now.Branch(s.stand.Branch) != s.stand.theirs {
				return fault.New(fault.Decision, "%s was pushed to by someone else meanwhile", s.hook.address.String()).Because(err).Try("bring that in first", text.Command(s.words("sync")...))
			}
			return err
		}}
}

// modules sees to repositories inside this one that are to stand at another commit now: it
// says so, or moves those in which nothing is lost where git is set to (git-config
// documentation, submodule.recurse).
func (s *Sync) modules(ctx context.Context) error {
	f := s.folder
	if _, err := os.Lstat(filepath.Join(f.path, ".gitmodules")); err != nil {
		return nil
	}
	out, err := f.repo.Do(ctx, "submodule", "status")
	if err != nil {
		s.desk.Tell.Note("Note: git cannot tell how the repositories inside this one stand. To see why: %s", text.Command("git", "-C", f.path, "submodule", "status"))
		return ctx.Err()
	}
	set, err := f.repo.Do(ctx, "config", "--type=bool", "--get", "submodule.recurse")
	if err != nil && git.Code(err) != 1 {
		return gitFault(err, "git's configuration cannot be read")
	}
	for line := range strings.Lines(out) {
		fields := strings.Fields(line)
		if len(fields) < 2 || line[0] != '+' && line[0] != '-' {
			continue
		}
		path := fields[1]
		update := []string{"-C", f.path, "submodule", "update", "--init", "--", path}
		if line[0] == '+' && set == "true" && f.movable(ctx, path) {
			if _, err := f.repo.Do(ctx, update[2:]...); err == nil {
				continue
			}
		}
		s.desk.Tell.Note("Note: the repository %s inside this one stands at another commit than is asked for. To move it: %s", text.Visible(path), text.Command(append([]string{"git"}, update...)...))
	}
	return nil
}

// movable reports whether nothing is lost when a repository inside is moved: all is saved,
// and its commit is in one of its branches.
func (f *folder) movable(ctx context.Context, path string) bool {
	in := f.repo.Git.In(filepath.Join(f.path, filepath.FromSlash(path)))
	changed, err := in.Do(ctx, "status", "--porcelain")
	if err != nil || changed != "" {
		return false
	}
	holds, err := in.Do(ctx, "for-each-ref", "--count=1", "--contains", "HEAD")
	return err == nil && holds != ""
}
