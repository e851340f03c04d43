package syncing

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/claims"
	"uncinate/internal/world/git"
)

// claims looks what others have claimed of what is not sent yet, and what must have been claimed. Where
// the host has no claims, and the project asks for none, it runs nothing.
func (s *Sync) claims(ctx context.Context) error {
	var b *claims.Book
	var err error
	if s.partly {
		b, err = claims.Known(s.desk, s.folder)
	} else {
		b, err = claims.Seen(ctx, s.desk, s.folder, s.tie, s.refs)
	}
	if err != nil {
		s.desk.Tell.Note("Note: who has claimed which file is not known: %s", git.Fault(err, "they cannot be read").Error())
		return ctx.Err()
	}
	taken, err := b.TakenFromMe()
	if err != nil {
		return err
	}
	for _, t := range taken {
		s.desk.Tell.Note("Note: %s", t)
	}
	if len(b.Claims) == 0 && !claims.Speaks(s.folder) || s.folder.Head == "" {
		return nil
	}
	names, err := s.folder.Repo.Lines(ctx, "log", "--no-show-signature", "--no-renames", "--format=", "--name-only", "-z", s.folder.Head, "--not", "--remotes="+s.tie.Remote)
	if err != nil {
		return git.Fault(err, "git cannot tell what is not sent")
	}
	var paths []string
	for _, p := range names {
		if p = strings.TrimPrefix(p, "\n"); p != "" {
			paths = append(paths, p)
		}
	}
	slices.Sort(paths)
	paths = slices.Compact(paths)
	for i, h := range b.Others(paths) {
		if i == desk.MostShown {
			s.claimed = append(s.claimed, "and more that others have claimed: uncinate claim list")
			break
		}
		s.claimed = append(s.claimed, h.Says()+".")
	}
	needs, err := claims.Required(ctx, s.desk, s.folder, paths)
	if len(needs) > 0 {
		s.claimed = append(s.claimed, fmt.Sprintf("%s must be claimed before %s changed, and you have not: %s", text.Count(len(needs), "file"), text.Either(len(needs) == 1, "it is", "they are"), claims.Line(s.options.Folder, needs[:min(len(needs), desk.MostShown)])))
	}
	return err
}
