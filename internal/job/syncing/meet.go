package syncing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/clashing"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
)

// Where both sides changed the same, that is found by one merge of the two ends, and decided once;
// what comes of it is a merge commit. A replay would ask at each commit again: it is done only
// where nothing clashes, or where the person wants it and what was decided is enough.

// unsettled says that both sides clash and that not all of it is decided.
type unsettled struct {
	met  *worktree.Meeting
	left []clashing.Clash
}

func (u *unsettled) Error() string { return "both sides clash in " + u.left[0].At }

// weave brings both sides together, and gives the commit that holds them.
func (s *Sync) weave(ctx context.Context, w *git.Weaver) (string, error) {
	if s.need == histories.Replay && !s.whole {
		end, err := s.replay(ctx, w)
		if err == nil {
			return end, nil
		}
		var c *git.Clashes
		if !errors.As(err, &c) {
			return "", err
		}
		switch {
		case s.was != "":
			s.whole = true
		case s.options.By != "replay":
			s.need, s.apart = histories.Merge, c.Paths[0]
		}
	}
	st := s.stand
	met, err := worktree.Meet(ctx, s.folder, w, s.was, st.Ours, st.Theirs)
	if err != nil {
		return "", err
	}
	t, err := met.Decide(ctx, s.desk, s.folder, w, s.decided)
	if err != nil {
		return "", err
	}
	if len(t.Left) > 0 {
		return "", &unsettled{met, t.Left}
	}
	s.together = t
	switch {
	case s.whole:
		return s.asOne(ctx, w, t.Tree)
	case s.need == histories.Replay:
		return "", fault.New(fault.Decision, "replayed one by one, your commits clash in other ways than those that are decided").
			TryWithout("merge both sides instead", text.Command(s.words("sync")...), "by")
	}
	return w.Commit(ctx, t.Tree, []string{st.Ours, st.Theirs}, &git.CommitRead{Text: s.text})
}

// own lists the commits that are only here, the oldest first.
func (s *Sync) own(ctx context.Context) ([]string, error) {
	args := []string{"rev-list", "--reverse", "--topo-order", s.stand.Ours, "--not", s.stand.Theirs}
	if s.was != "" {
		args = append(args, s.was)
	}
	list, err := s.folder.Repo.Do(ctx, args...)
	return strings.Fields(list), git.Fault(err, "git cannot list the commits that are only here")
}

// replay makes one's own commits again on top of theirs.
func (s *Sync) replay(ctx context.Context, w *git.Weaver) (string, error) {
	commits, err := s.own(ctx)
	if err != nil {
		return "", err
	}
	s.together = nil
	if s.options.By == "replay" || s.was != "" {
		w.Decide = func(ctx context.Context, c *git.Clashes) (string, error) {
			met, err := worktree.Met(ctx, s.folder, w, c)
			if err != nil {
				return "", err
			}
			t, err := met.Decide(ctx, s.desk, s.folder, w, s.decided)
			if err == nil && len(t.Left) > 0 {
				err = c
			}
			if err != nil {
				return "", err
			}
			s.together = also(s.together, t)
			return t.Tree, nil
		}
		defer func() { w.Decide = nil }()
	}
	end, made, err := w.Replay(ctx, commits, s.stand.Theirs, func(done int) {
		s.desk.Tell.Progress("Replaying", int64(done), int64(len(commits)), "")
	})
	s.desk.Tell.Progress("Replaying", 0, 0, "")
	if err != nil {
		s.together = nil
		return "", err
	}
	folds, err := s.folder.FoldsCase(ctx)
	if err == nil && folds && s.together == nil { // names that meet in this folder alone
		err = s.alike(ctx, w)
	}
	if err == nil {
		s.Sent = made
	}
	return end, err
}

// also adds what came of a later commit to what came of earlier ones; of one file, the last counts.
func also(all, more *worktree.Together) *worktree.Together {
	if all == nil {
		return more
	}
	for _, b := range more.Beside {
		all.Beside = append(slices.DeleteFunc(all.Beside, func(x worktree.Beside) bool { return x.Path == b.Path }), b)
	}
	for _, e := range more.Ended {
		all.Ended = append(slices.DeleteFunc(all.Ended, func(x worktree.Ended) bool { return x.Path == e.Path }), e)
	}
	return all
}

// alike gives a *git.Clashes error where a name of each side differs in case alone.
func (s *Sync) alike(ctx context.Context, w *git.Weaver) error {
	met, err := worktree.Meet(ctx, s.folder, w, s.was, s.stand.Ours, s.stand.Theirs)
	if err == nil && len(met.Clashes) > 0 {
		err = &git.Clashes{Paths: []string{met.Clashes[0].At}}
	}
	return err
}

// asOne makes a commit on top of theirs that holds all of one's own.
func (s *Sync) asOne(ctx context.Context, w *git.Weaver, tree string) (string, error) {
	commits, err := s.own(ctx)
	if err != nil {
		return "", err
	}
	var texts []string
	for _, c := range commits {
		said, err := s.folder.Repo.Do(ctx, "log", "-1", "--no-show-signature", "--format=%B", c)
		if err != nil {
			return "", git.Fault(err, "git cannot read commit %.10s", c)
		}
		texts = append(texts, strings.TrimSpace(said))
	}
	s.Sent = 1
	return w.Commit(ctx, tree, []string{s.stand.Theirs}, &git.CommitRead{Text: strings.Join(texts, "\n\n") + "\n"})
}

// beside are the files of one's own that give their names to theirs.
func (s *Sync) beside() []worktree.Beside {
	if s.together == nil {
		return nil
	}
	return s.together.Beside
}

// ended tells how the clashes end, in a few words each.
func (s *Sync) ended() []string {
	if s.together == nil {
		return nil
	}
	var out []string
	for i, x := range s.together.Ended {
		if i == 6 {
			return append(out, fmt.Sprintf("and %d more", len(s.together.Ended)-i))
		}
		out = append(out, text.Visible(x.Path)+" "+Words(x.Way))
	}
	return out
}

// Words say how a clash was decided.
func Words(way string) string {
	switch way {
	case joining.Mine:
		return "stays yours"
	case joining.Theirs:
		return "becomes theirs"
	case joining.Both:
		return "becomes theirs, with yours beside it"
	}
	return "as you made it by hand"
}

// there is where the other side is, in words.
func (s *Sync) there() string {
	return where(s.joining)
}

// where is that of a branch that is joined; "" stands for a sync.
func where(branch string) string {
	if branch != "" {
		return "on " + text.Visible(branch)
	}
	return "on the host"
}

// mostNamed is how many paths of one clash are named to git.
const mostNamed = 200

// stopped keeps what was found, and tells which files clash, and who changed them there.
func (s *Sync) stopped(ctx context.Context, u *unsettled) error {
	st, there := s.stand, s.there()
	if !s.options.Preview {
		if err := s.decided.Keep(ctx, worktree.Stopped{Name: s.joining}); err != nil {
			return err
		}
	}
	all, plain := u.met.Clashes, true
	for _, c := range u.left {
		plain = plain && (c.Kind == clashing.Changed || c.Kind == clashing.Added)
	}
	says := "both sides changed the same " + text.Either(len(u.left) == 1, "file", "files")
	if !plain {
		says = "both sides clash in " + text.Count(len(u.left), "file")
	}
	f := fault.New(fault.Decision, "%s on %s: %s only here, %s only %s", says, text.Visible(st.Branch), text.Count(s.Sent, "commit"), text.Count(s.Received, "commit"), there)
	var lines []string
	for i, c := range u.left {
		line := text.Visible(c.At)
		if c.Kind != clashing.Changed && c.Kind != clashing.Added {
			line += ": " + text.Visible(c.Says(there))
		}
		if i < desk.MostShown {
			log, err := s.folder.Repo.Do(ctx, append([]string{"--literal-pathspecs", "log", "--no-show-signature", "--no-textconv", "--no-ext-diff", "--date=short", "--format=%an on %ad (%s)", "-1", st.Ours + ".." + st.Theirs, "--"}, c.Paths[:min(len(c.Paths), mostNamed)]...)...)
			if err != nil {
				return git.Fault(err, "git cannot tell who changed %s", text.Visible(c.At))
			}
			if log != "" {
				line += ", changed " + there + " by " + text.Excerpt(log, 100)
			}
		}
		lines = append(lines, line)
	}
	desk.FirstOf(f, lines)
	if n := len(all) - len(u.left); n > 0 {
		f.Detail("%s as you decided before.", text.Either(n == 1, "1 more ends", text.Count(n, "more")+" end"))
	}
	f.Detail("It was tried in a scratch copy first: nothing changed, on either side.")
	return f.TryWithout("see what clashes, and decide", text.Command(s.words("settle")...), "preview", "save", "message", "by", "in")
}

// settled forgets what was decided, once what stopped at it is done.
func (s *Sync) settled() error {
	if x := s.decided.Stopped(); x.What == "" || x.What == "undo" || x.Name != s.joining {
		return nil
	}
	return s.decided.Forget()
}
