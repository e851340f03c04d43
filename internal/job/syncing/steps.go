package syncing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
)

// keepsApart stops before files come in that this folder cannot hold side by side.
func (s *Sync) keepsApart(ctx context.Context) error {
	meets, err := worktree.Alike(ctx, s.folder, s.trial, s.tree)
	if err != nil {
		return err
	}
	lines := worktree.Pairs(s.coming, meets)
	if len(lines) == 0 {
		return nil
	}
	first := s.coming[slices.IndexFunc(s.coming, func(p string) bool { return meets[p] != "" })]
	f := fault.New(fault.Decision, "what comes in has names that differ in upper and lower case alone, and this folder cannot keep them apart")
	desk.FirstOf(f, lines)
	f.Detail("Nothing changed, on either side.")
	return f.Try("on a machine that keeps them apart, give one another name and send that", text.Command("git", "mv", "--", first, first+"-2"))
}

// try finds out, aside, what the files will be. done ends the trial.
func (s *Sync) try(ctx context.Context) (done func() error, err error) {
	f, st := s.folder, s.stand
	done = func() error { return nil }
	s.trial = &git.Weaver{Repo: f.Repo}
	s.tree = st.Theirs
	if s.need == histories.Replay || s.need == histories.Merge {
		if err := s.mergers(ctx); err != nil {
			return done, err
		}
		if s.trial, done, err = f.Repo.Aside(ctx); err != nil {
			return func() error { return nil }, err
		}
		if s.tree, err = s.weave(ctx, s.trial); err != nil {
			var u *unsettled
			if errors.As(err, &u) {
				err = s.stopped(ctx, u)
			}
			return done, err
		}
	}
	from, err := s.from(ctx)
	if err != nil {
		return done, err
	}
	out, err := s.trial.Do(ctx, "", nil, "diff-tree", "-r", "-z", "--name-only", "--no-renames", from, s.tree)
	if err != nil {
		return done, git.Fault(err, "git cannot compare both sides")
	}
	s.coming = git.SplitNUL([]byte(out))
	if err := s.keepsApart(ctx); err != nil || !s.options.Preview || s.need != histories.Replay && s.need != histories.Merge {
		return done, err
	}
	s.mergedFiles, err = s.changedByBoth(ctx)
	s.mergedFiles = slices.DeleteFunc(s.mergedFiles, func(p string) bool {
		return s.together != nil && slices.ContainsFunc(s.together.Ended, func(x worktree.Ended) bool { return x.Path == p })
	})
	return done, err
}

// changedByBoth lists what both sides changed.
func (s *Sync) changedByBoth(ctx context.Context) ([]string, error) {
	repo, base := s.folder.Repo, s.was
	if base == "" {
		var err error
		if base, err = repo.Do(ctx, "merge-base", s.stand.Ours, s.stand.Theirs); err != nil {
			return nil, git.Fault(err, "git cannot compare both sides")
		}
	}
	var sides [2][]string
	for i, to := range []string{s.stand.Ours, s.stand.Theirs} {
		var err error
		if sides[i], err = repo.Lines(ctx, "diff-tree", "-r", "-z", "--name-only", "--no-renames", base, to); err != nil {
			return nil, git.Fault(err, "git cannot compare both sides")
		}
	}
	return slices.DeleteFunc(sides[0], func(p string) bool {
		_, both := slices.BinarySearch(sides[1], p) // git sorts them
		return !both
	}), nil
}

// mergers stops where a program merges files that both sides changed, and nobody has agreed to it in
// this copy.
func (s *Sync) mergers(ctx context.Context) error {
	if !s.folder.HasMergers() {
		return nil
	}
	both, err := s.changedByBoth(ctx)
	if err != nil {
		return err
	}
	which, err := s.folder.Mergers(ctx, both)
	if err != nil || len(which) == 0 {
		return err
	}
	again := s.words("sync", "--yes")
	if s.joining != "" {
		again = s.words("branch", "join", s.joining, "--yes")
	}
	return s.folder.AskAbout(which, "files that both sides changed are merged by a program of your own, which has not run in this copy yet", text.Command(again...))
}

// from is what the files come from: the commit here, or nothing.
func (s *Sync) from(ctx context.Context) (string, error) {
	if s.stand.Ours != "" {
		return s.stand.Ours, nil
	}
	return worktree.EmptyTree(ctx, s.folder)
}

// inWay stops before any file that is not saved would be written over by what comes in.
func (s *Sync) inWay(ctx context.Context) ([]string, error) {
	clash, way, err := worktree.InWay(ctx, s.folder, s.stand.Status, s.coming, s.trial, s.tree)
	if err != nil || len(clash) == 0 {
		return way, err
	}
	out := worktree.WrittenOver(clash)
	out.Detail("Nothing changed, on either side.")
	switch {
	case len(s.would) > 0:
		out.Detail("Whether both sides' changes go together is known only once yours are saved.")
		out.TryWithout("save and sync; where they do not, it stops once yours are saved", text.Command(s.words("sync")...), "preview")
	case s.options.Save != "": // it was left out of what was saved
		out.Try("save it too", text.Command(s.words("save", "--message", "What was done", "--only", clash[0])...))
	default:
		out.Try("save your changes on the way", text.Command(s.words("sync", "--save", "--message", "What was done")...))
	}
	return nil, out.Try("or stash them", text.Command("git", "-C", s.folder.Path, "stash", "--include-untracked"))
}

func (s *Sync) stepFollow() desk.Step {
	return desk.Step{Item: plan.Item{ID: "follow", Place: plan.Here, Sentence: fmt.Sprintf("Point the project at %s, its new place", text.Visible(s.Moved.Path()))},
		Do: func(ctx context.Context) error {
			return project.Follow(ctx, s.desk, []project.Project{s.project}, *s.Moved)
		}}
}

// mostStaged is of how many files a rescue copy is kept one by one; of more, of the whole branch.
const mostStaged = 200

func (s *Sync) stepRescue(refs []worktree.Moving, way []string) desk.Step {
	var aside []worktree.Staged
	for _, b := range s.beside() {
		aside = append(aside, worktree.Staged{Path: b.Path, Mode: b.Mode, ID: b.ID})
	}
	if len(aside) > mostStaged {
		aside = nil
		if len(refs) == 0 {
			refs = []worktree.Moving{{Ref: "refs/heads/" + s.stand.Branch, ID: s.stand.Ours, Next: s.stand.Theirs}}
		}
	}
	var what []string
	for range refs {
		what = append(what, "of branch "+text.Visible(s.stand.Branch)+" as it is here")
	}
	if len(way) > 0 {
		what = append(what, "of "+text.Count(len(way), "file")+" in the way")
	}
	if len(aside) > 0 {
		what = append(what, "of your "+text.Count(len(aside), "file")+" that "+text.Either(len(aside) == 1, "clashes", "clash"))
	}
	return desk.Step{Item: plan.Item{ID: "rescue", Place: plan.Here, Sentence: "Keep a rescue copy " + strings.Join(what, " and ")},
		Do: func(ctx context.Context) error {
			n, err := s.rescuer.KeepAll(ctx, worktree.Kept{Before: text.Either(s.joining == "", "sync", "branch join"), Refs: refs, Paths: way, Staged: aside})
			if err == nil && n > 0 {
				s.rescued = append(s.rescued, n)
			}
			return err
		}}
}

func (s *Sync) stepBeside() desk.Step {
	var names []string
	for _, b := range s.beside() {
		names = append(names, text.Visible(b.At))
	}
	return desk.Step{Item: plan.Item{ID: "beside", Place: plan.Here, Sentence: "Put yours beside theirs: " + text.Excerpt(strings.Join(names[:min(len(names), 20)], ", "), 200)},
		Do: func(ctx context.Context) error { return worktree.PutBeside(ctx, s.desk, s.folder, s.beside()) }}
}

func (s *Sync) stepIn(way []string) desk.Step {
	branch := text.Visible(s.stand.Branch)
	sentence := fmt.Sprintf("Receive %s on %s", text.Count(s.Received, "commit"), branch)
	switch {
	case s.need == histories.Take:
		sentence = fmt.Sprintf("Take %s as rewritten on the host", branch)
	case s.whole:
		sentence += ", and put your own commits on top again, as one"
	case s.need == histories.Replay:
		sentence += fmt.Sprintf(", and put your own %s on top again", text.Count(s.Sent, "commit"))
	case s.need == histories.Merge:
		sentence += fmt.Sprintf(", and merge %s with your own %s", desk.ItThem(s.Received), text.Count(s.Sent, "commit"))
	}
	if ends := s.ended(); len(ends) > 0 {
		sentence += ": " + strings.Join(ends, ", ")
	}
	return desk.Step{Item: plan.Item{ID: "bring-in", Place: plan.Here, Sentence: sentence},
		Do: func(ctx context.Context) error {
			to := s.stand.Theirs
			if s.need == histories.Replay || s.need == histories.Merge {
				w, err := s.folder.Repo.Weaver(ctx)
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
			n, err := worktree.Lay(ctx, s.desk, s.folder, worktree.Laying{Before: "sync", From: from, To: to, Branch: s.stand.Branch, Head: s.stand.Ours, Hook: []string{"post-merge", "0"}, Way: way})
			s.rescued = append(s.rescued, n...)
			if err != nil {
				return err
			}
			s.run.AsWas = "What was received stays; only the sending is left, and the same command does it."
			if s.options.Submodules {
				return nil // in the end
			}
			return s.modules(ctx)
		}}
}

func (s *Sync) stepOut() desk.Step {
	branch := text.Visible(s.stand.Branch)
	ref := "refs/heads/" + s.stand.Branch
	s.run.AsWas = "Nothing was sent, and what is here is as it was."
	sentence := fmt.Sprintf("Send %s on %s", text.Count(s.Sent+len(s.would), "commit"), branch)
	if s.Sent+len(s.would) == 0 {
		sentence = "Send the branch " + branch + ", which is not on the host yet"
	}
	return desk.Step{Item: plan.Item{ID: "send-out", Place: plan.Host, Sentence: sentence},
		Done: func(ctx context.Context) (bool, error) {
			id, err := s.folder.Repo.Resolve(ctx, ref)
			return id == s.stand.Theirs, git.Fault(err, "git cannot tell the commit")
		},
		Do: func(ctx context.Context) error {
			err := project.Push(ctx, s.desk, s.tie, project.Sending{Refs: []project.Sent{project.SendBranch(s.stand.Branch)}, Follows: true})
			if err == nil || ctx.Err() != nil || fault.Is(err, fault.Unreachable) {
				return err
			}
			if now, look := project.Refs(ctx, s.desk, s.tie, ""); look == nil && now.Branch(s.stand.Branch) != s.stand.Theirs {
				return fault.New(fault.Decision, "%s was pushed to by someone else meanwhile", s.tie.Address.String()).Because(err).Try("bring that in first", text.Command(s.words("sync")...))
			}
			return err
		}}
}
