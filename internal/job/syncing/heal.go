package syncing

import (
	"context"

	"uncinate/internal/desk/worktree"
)

// heal finishes what a run that was killed left half-way: files of the new commits that are laid
// out, and the branch that is not there yet. What that run noted of its steps is then of no use
// any more: what is left to do is seen by looking again.
func (s *Sync) heal(ctx context.Context) error {
	n, err := worktree.Heal(ctx, s.desk, s.folder)
	s.rescued = append(s.rescued, n...)
	if err != nil {
		return err
	}
	r, resumed, err := s.desk.Begin("sync", s.folder.Path)
	if err != nil || !resumed {
		return err
	}
	return r.Journal.Close()
}
