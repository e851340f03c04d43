package job

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Sync is one project to be brought into step with its host.
type Sync struct {
	desk   *Desk
	held   *files.Held // the folder's lock
	folder *folder
	hook   *hook
	run    *runner
	stand  *Standing
	steps  []Step

	BroughtIn int // commits
	SentOut   int
	Notes     []string
}

// Synced is what came of it.
type Synced struct {
	Folder    string         `json:"folder"`
	Address   string         `json:"address"`
	Branch    string         `json:"branch"`
	Commit    string         `json:"commit,omitempty"`
	BroughtIn int            `json:"brought_in"`
	SentOut   int            `json:"sent_out"`
	Changed   map[string]int `json:"changed"` // not saved yet
	Copies    []string       `json:"copies,omitempty" says:"addresses of copies that hold the branch too now"`
}

// Sync fetches, compares and makes the plan. Fetching changes nothing but what git
// knows of the host. What needs more than a fast-forward stops here.
func (d *Desk) Sync(ctx context.Context, given string) (*Sync, error) {
	f, p, err := d.projectFor(ctx, given)
	if err != nil {
		return nil, err
	}
	s := &Sync{desk: d, folder: f}
	if s.held, err = d.alone(ctx, f.path); err != nil {
		return nil, err
	}
	if err := s.prepare(ctx, p); err != nil {
		return nil, errors.Join(err, s.held.Release())
	}
	return s, nil
}

func (s *Sync) prepare(ctx context.Context, p Project) error {
	d, f := s.desk, s.folder
	var err error
	if s.hook, err = d.hookOf(ctx, f, p); err != nil {
		return err
	}
	for _, name := range []string{"MERGE_HEAD", "rebase-merge", "rebase-apply", "CHERRY_PICK_HEAD"} {
		if path, err := f.repo.Do(ctx, "rev-parse", "--git-path", name); err == nil && there(f.path, path) {
			return fault.New(fault.Decision, "a merge or rebase, begun by plain git, is not finished here").
				Try("see where it stands", text.Command("git", "-C", f.path, "status"))
		}
	}
	if s.run, _, err = d.begin("sync", f.path); err != nil {
		return err
	}
	if err := s.fetch(ctx); err != nil {
		return err
	}
	if s.stand, err = d.stand(ctx, f, p); err != nil {
		return err
	}
	if err := s.compare(ctx); err != nil {
		return err
	}
	return nil
}

func there(top, path string) bool {
	if !filepath.IsAbs(path) {
		path = filepath.Join(top, path)
	}
	_, err := filepath.EvalSymlinks(path)
	return err == nil
}

func (s *Sync) fetch(ctx context.Context) error {
	f := s.folder
	_, err := f.repo.Run(ctx, git.Cmd{Dir: f.path, Config: f.repo.Safe, Args: []string{"fetch", "--progress", "--no-auto-maintenance", "--", s.hook.remote},
		Watch: s.desk.watch("Bringing in", "Receiving objects")})
	s.desk.Tell.Progress("Bringing in", 0, 0, "")
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if _, look := s.desk.refs(ctx, s.hook, ""); look != nil {
		return look
	}
	return gitFault(err, "git could not bring in from %s", s.hook.address.String())
}

// compare decides what there is to do, and stops at what is harder.
func (s *Sync) compare(ctx context.Context) error {
	f, st := s.folder, s.stand
	count := func(spec string) (int, error) {
		out, err := f.repo.Do(ctx, "rev-list", "--count", spec)
		if err != nil {
			return 0, gitFault(err, "git cannot compare here and there")
		}
		return strconv.Atoi(out)
	}
	var err error
	switch {
	case st.theirs == "" && st.ours == "":
		return nil // nothing here, nothing there
	case st.theirs == "":
		if s.SentOut, err = count(st.ours); err != nil {
			return err
		}
	case st.ours == "":
		if s.BroughtIn, err = count(st.theirs); err != nil {
			return err
		}
	default:
		if s.SentOut, err = count(st.theirs + ".." + st.ours); err != nil {
			return err
		}
		if s.BroughtIn, err = count(st.ours + ".." + st.theirs); err != nil {
			return err
		}
	}
	if s.BroughtIn > 0 && s.SentOut > 0 {
		return s.bothMoved(ctx)
	}
	if s.BroughtIn > 0 {
		if err := s.overlaps(ctx); err != nil {
			return err
		}
		s.steps = append(s.steps, s.stepIn())
	}
	if s.SentOut > 0 {
		s.steps = append(s.steps, s.stepOut())
	}
	return nil
}

func (s *Sync) bothMoved(ctx context.Context) error {
	f := fault.New(fault.Decision, "both sides have new commits on %s: %s only here, %s only there, and bringing them together is not something this version does",
		text.Visible(s.stand.Branch), text.Number(s.SentOut), text.Number(s.BroughtIn))
	if log, err := s.folder.repo.Lines(ctx, "log", "-z", "--format=%h %an: %s", "-5", s.stand.ours+".."+s.stand.theirs); err == nil {
		for _, line := range log {
			f.Detail("there: %s", text.Excerpt(line, 100))
		}
	}
	f.Detail("Everything is as it was, here and there.")
	return f.Try("bring them together with plain git, then sync again", text.Command("git", "-C", s.folder.path, "pull", "--rebase"))
}

// overlaps stops before any file that is not saved, not tracked or ignored would
// be written over by what comes in.
func (s *Sync) overlaps(ctx context.Context) error {
	f := s.folder
	base := s.stand.ours
	if base == "" {
		var err error
		if base, err = f.repo.Do(ctx, "hash-object", "-t", "tree", "--stdin"); err != nil {
			return gitFault(err, "git cannot compare here and there")
		}
	}
	coming, err := f.repo.Lines(ctx, "diff-tree", "-r", "-z", "--name-only", "--no-renames", base, s.stand.theirs)
	if err != nil {
		return gitFault(err, "git cannot compare here and there")
	}
	touched := map[string]bool{}
	for _, args := range [][]string{{"diff-index", "-z", "--name-only", "--no-renames", base}, {"ls-files", "-z", "-o"}} {
		list, err := f.repo.Lines(ctx, args...)
		if err != nil {
			return gitFault(err, "git cannot tell what changed")
		}
		for _, p := range list {
			touched[strings.TrimSuffix(p, "/")] = true
		}
	}
	var clash []string
	for _, p := range coming {
		if touched[p] || s.inWay(p, touched) {
			clash = append(clash, p)
		}
	}
	if len(clash) == 0 {
		return nil
	}
	out := writtenOver(clash)
	out.Detail("Everything is as it was, here and there.")
	return out.Try("save your changes, then sync again", text.Command("git", "-C", f.path, "commit", "-a")).
		Try("or lay them aside", text.Command("git", "-C", f.path, "stash", "--include-untracked"))
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

// inWay reports whether a file stands where a folder of p must be, or a folder where
// p must be.
func (s *Sync) inWay(p string, touched map[string]bool) bool {
	for i, c := range p {
		if c == '/' && touched[p[:i]] {
			return true
		}
	}
	for t := range touched {
		if strings.HasPrefix(t, p+"/") {
			return true
		}
	}
	return false
}

func (s *Sync) stepIn() Step {
	return Step{Item: plan.Item{ID: "bring-in", Place: plan.Here, Sentence: fmt.Sprintf("Bring in %s on %s", text.Count(s.BroughtIn, "commit"), text.Visible(s.stand.Branch))},
		Done: func(ctx context.Context) (bool, error) {
			id, err := s.folder.repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}")
			return err == nil && id == s.stand.theirs, nil
		},
		Do: func(ctx context.Context) error {
			// The person's own filters and hooks run, as with plain git.
			plain := s.folder.repo.Git.In(s.folder.path)
			_, err := plain.Do(ctx, "merge", "--ff-only", "--no-overwrite-ignore", "-q", s.stand.theirs)
			return gitFault(err, "git cannot bring the commits into the folder")
		}}
}

func (s *Sync) stepOut() Step {
	ref := "refs/heads/" + s.stand.Branch
	return Step{Item: plan.Item{ID: "send-out", Place: plan.Here, Sentence: fmt.Sprintf("Send out %s on %s", text.Count(s.SentOut, "commit"), text.Visible(s.stand.Branch))},
		Do: func(ctx context.Context) error {
			return s.desk.push(ctx, s.hook, []string{"push", "--progress", "--porcelain", "--set-upstream", "--", s.hook.remote, ref + ":" + ref})
		}}
}

// Items is the plan as it is shown; empty when here and there are in step.
func (s *Sync) Items() []plan.Item { return Items(s.steps) }

// Do carries the plan out.
func (s *Sync) Do(ctx context.Context) (*Synced, error) {
	defer s.held.Release()
	var err error
	if len(s.steps) > 0 {
		err = s.run.run(ctx, s.steps)
	} else {
		err = s.run.journal.Close()
	}
	if err != nil {
		return nil, err
	}
	out := &Synced{Folder: s.folder.path, Address: s.hook.address.String(), Branch: s.stand.Branch, BroughtIn: s.BroughtIn, SentOut: s.SentOut, Changed: s.stand.Changed}
	out.Commit = s.stand.ours
	if s.BroughtIn > 0 {
		out.Commit = s.stand.theirs
	}
	if s.SentOut > 0 {
		refs, err := s.desk.refs(ctx, s.hook, "")
		if err != nil {
			return nil, err
		}
		if refs.Branch(s.stand.Branch) != s.stand.ours {
			return nil, fault.New(fault.Failed, "the check with the host failed: it does not hold the commits that were sent")
		}
	}
	out.Copies, err = s.sendCopies(ctx)
	return out, err
}

// sendCopies sends the branch to the places that only receive.
func (s *Sync) sendCopies(ctx context.Context) ([]string, error) {
	all, err := s.desk.Register()
	if err != nil {
		return nil, err
	}
	var sent []string
	for _, p := range all {
		if p.Folder != s.folder.path || !p.Copy || p.Remote == s.hook.remote {
			continue
		}
		h, err := s.desk.hookOf(ctx, s.folder, p)
		if err == nil {
			ref := "refs/heads/" + s.stand.Branch
			err = s.desk.push(ctx, h, []string{"push", "--progress", "--porcelain", "--", h.remote, ref + ":" + ref})
		}
		if err != nil {
			f := *fault.Of(err)
			f.Details = append(slices.Clone(f.Details), fmt.Sprintf("The branch is in step with %s; only the copy %s at %s did not get it.", s.hook.address.String(), text.Visible(p.Remote), text.Visible(p.Address)))
			return sent, &f
		}
		sent = append(sent, p.Address)
	}
	return sent, nil
}
