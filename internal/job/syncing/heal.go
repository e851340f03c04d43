package syncing

import (
	"bytes"
	"context"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// heal finishes what a run that was killed left half-way: files of the new commits that
// are laid out, and the branch that is not there yet. What is neither the old nor the new
// content, such as a file that was half written, is kept as a rescue copy first.
func (s *Sync) heal(ctx context.Context) error {
	r, resumed, err := s.desk.Begin("sync", s.folder.Path)
	if err != nil || !resumed {
		return err
	}
	f := s.folder
	branch, from, head, to := r.Fact("branch"), r.Fact("from"), r.Fact("head"), r.Fact("to")
	if r.State.Marks["bring-in"] != plan.Begun || to == "" || branch != f.Branch || f.Head != head {
		return r.Journal.Close()
	}
	if err := worktree.TakeLock(f); err != nil {
		return err
	}
	all, err := f.Repo.Lines(ctx, "diff-tree", "-r", "-z", "--no-renames", from, to)
	if err != nil {
		return git.Fault(err, "git cannot compare here and there")
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
		if worktree.Differs(ctx, f, p, fields[2], fields[3]) {
			odd = append(odd, p)
		}
	}
	n, err := s.rescuer.Keep(ctx, "sync, going on after it was cut off", nil, odd)
	if err != nil {
		return err
	}
	if n > 0 {
		s.rescued = append(s.rescued, n)
	}
	plain := f.Repo.Git.In(f.Path)
	if _, err := plain.Do(ctx, "read-tree", "--no-recurse-submodules", "-m", "-i", from, to); err != nil {
		return git.Fault(err, "git cannot bring the commits into the folder")
	}
	if p, err := files.RemoveWithin(f.Path, drop); err != nil {
		return fault.New(fault.Failed, "%s cannot be put out of the way", text.Visible(p)).Because(err)
	}
	in := bytes.NewReader([]byte(strings.Join(put, "\x00") + "\x00"))
	if len(put) > 0 {
		if _, err := plain.Run(ctx, git.Cmd{Dir: f.Path, In: in, Args: []string{"checkout-index", "-f", "-u", "-q", "-z", "--stdin"}}); err != nil {
			return git.Fault(err, "git cannot bring the commits into the folder")
		}
	}
	if err := worktree.MoveBranch(ctx, f, branch, head, to); err != nil {
		return err
	}
	s.desk.Tell.Note("Went on from where it was cut off: %s is brought in.", text.Visible(branch))
	return r.Journal.Close()
}
