package syncing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
)

// compare decides what there is to do, and stops at what needs the person.
func (s *Sync) compare(ctx context.Context) error {
	f := s.folder
	if s.Moved != nil {
		s.steps = append(s.steps, s.stepFollow())
		return nil
	}
	var err error
	inStep := s.refs.Branch(f.Branch) == f.Head && f.Head != "" && s.saved == nil && s.tracked[s.track(f.Branch)] == f.Head
	if inStep && s.many {
		s.stand, s.unlooked = project.StandClean(f, s.project), true
	} else if inStep && s.clean() {
		s.stand = project.StandClean(f, s.project)
	} else if s.stand, err = project.StandHere(ctx, f, s.project, s.refs.Branch(f.Branch) != f.Head); err != nil {
		return err
	}
	if err := s.look(ctx); err != nil {
		return err
	}
	s.text = worktree.MergeText(s.stand.Branch, s.tie.Address.String())
	switch s.need {
	case histories.Nothing:
		return nil
	case histories.Dropped:
		return s.branchGone(ctx)
	case histories.Strange:
		return s.strange()
	case histories.Send:
		if err := s.partsFirst(ctx); err != nil {
			return err
		}
		s.steps = append(s.steps, s.stepOut())
		return nil
	}
	if s.need.Sends(s.two) {
		if err := s.partsFirst(ctx); err != nil {
			return err
		}
	}
	if err := s.planIn(ctx); err != nil {
		return err
	}
	if s.need.Sends(s.two) {
		s.steps = append(s.steps, s.stepOut())
	}
	return nil
}

// look finds out what the two sides are to each other.
func (s *Sync) look(ctx context.Context) error {
	f, st := s.folder, s.stand
	st.Theirs = s.refs.Branch(st.Branch)
	known := s.tracked[s.track(st.Branch)]
	t := histories.Two{Here: st.Ours != "", There: st.Theirs != "", Known: known != "", InOnly: s.options.InOnly || s.project.ReceivesOnly || s.tries()}
	number := func(args ...string) (int, error) {
		out, err := f.Repo.Do(ctx, append([]string{"rev-list", "--count"}, args...)...)
		if err != nil {
			return 0, git.Fault(err, "git cannot compare both sides")
		}
		return strconv.Atoi(out)
	}
	var err error
	switch {
	case t.Here && t.There && st.Ours == st.Theirs:
		t.Related = true
	case t.Here && t.There:
		if t.Ahead, t.Behind, err = project.Apart(ctx, f.Repo, st.Ours, st.Theirs); err != nil {
			return err
		}
		t.Related = t.Ahead == 0 || t.Behind == 0
		if !t.Related {
			_, err := f.Repo.Do(ctx, "merge-base", st.Ours, st.Theirs)
			if err != nil && git.Code(err) != 1 {
				return git.Fault(err, "git cannot compare both sides")
			}
			t.Related = err == nil
		}
		if t.Ahead > 0 {
			if s.was, err = s.dropped(ctx, known); err != nil {
				return err
			}
			t.Rewritten = s.was != ""
		}
		if t.Rewritten {
			if t.Own, err = number(st.Ours, "--not", s.was, st.Theirs); err != nil {
				return err
			}
		}
		if t.Ahead > 0 && (t.Behind > 0 || t.Rewritten) {
			merges, err := number("--min-parents=2", "-1", st.Ours, "--not", st.Theirs, cmp.Or(s.was, st.Theirs))
			if err != nil {
				return err
			}
			t.Merges = merges > 0
		}
		if t.Merge, err = s.merges(ctx); err != nil {
			return err
		}
	case t.Here:
		if t.Ahead, err = number(st.Ours, "--not", "--remotes="+s.tie.Remote); err != nil {
			return err
		}
	case t.There:
		if t.Behind, err = number(st.Theirs); err != nil {
			return err
		}
	}
	s.two, s.need = t, histories.Decide(t)
	s.Received, s.Sent, s.Rewritten = t.Behind, t.Ahead, t.Rewritten && s.need.BringsIn()
	if t.Rewritten {
		s.Sent = t.Own
	}
	if !s.need.Sends(t) && s.need != histories.Replay && s.need != histories.Merge {
		s.Sent = 0
	}
	return nil
}

// dropped gives a commit that the host's branch held and holds no more, by which it shows
// that its history was rewritten: what git knew of it, or, where that was looked at since, the
// commit from which those here went out, of which git's own notes tell (git-merge-base
// documentation, "DISCUSSION ON FORK-POINT MODE"). It gives "" where nothing was dropped.
func (s *Sync) dropped(ctx context.Context, known string) (string, error) {
	repo, st := s.folder.Repo, s.stand
	if known == "" {
		return "", nil
	}
	fork, err := repo.Do(ctx, "merge-base", "--fork-point", s.track(st.Branch), st.Ours)
	if err != nil && git.Code(err) != 1 {
		return "", git.Fault(err, "git cannot compare both sides")
	}
	for _, held := range []string{known, fork} {
		if held == "" || held == st.Theirs {
			continue
		}
		gone, err := repo.Do(ctx, "rev-list", "--count", "-1", held, "--not", st.Theirs)
		if err != nil {
			return "", git.Fault(err, "git cannot compare both sides")
		}
		if gone != "0" {
			return held, nil
		}
	}
	return "", nil
}

// merges tells whether the two sides are to be merged: as asked for, or as git is set
// (git-config documentation, branch.<name>.rebase and pull.rebase).
func (s *Sync) merges(ctx context.Context) (bool, error) {
	if s.options.By != "" {
		return s.options.By == "merge", nil
	}
	set := map[string]string{}
	for _, x := range s.folder.Settings {
		set[x.Key] = x.Value
	}
	for _, key := range []string{"branch." + s.stand.Branch + ".rebase", "pull.rebase"} {
		if v, found := set[key]; found {
			return slices.Contains([]string{"false", "no", "off", "0"}, strings.ToLower(v)), nil
		}
	}
	return false, nil
}

// branchGone says that the branch is no longer there, and whether another one took its place.
func (s *Sync) branchGone(ctx context.Context) error {
	st := s.stand
	branch := text.Visible(st.Branch)
	if f := s.goneOver(); f != nil {
		return errors.Join(project.NoteGone(s.rescuer.Common, s.Gone), f)
	}
	f := fault.New(fault.Decision, "the branch %s is no longer on the host; it was there when it was last looked at", branch)
	f.Detail("All that you have of it is still here.")
	if err := project.NoteGone(s.rescuer.Common, s.Gone); err != nil {
		return err
	}
	if head := s.refs.Head; head != "" && head != st.Branch {
		if there := s.refs.Branch(head); there != "" && s.folder.Contains(ctx, there, s.tracked[s.track(st.Branch)]) {
			f.Says = fmt.Sprintf("the branch %s is no longer on the host, where %s holds what it held", branch, text.Visible(head))
			if _, here := s.tracked["refs/heads/"+head]; here {
				f.Try("switch to that one", text.Command(s.words("branch", "switch", head)...))
			} else {
				f.Try("give yours the same name", text.Command(s.words("branch", "rename", st.Branch, head, "--here")...))
			}
		}
	}
	return f.Try("if it is to be there again, send it", text.Command(s.words("branch", "make", st.Branch, "--publish")...))
}

// strange says that the two have nothing in common.
func (s *Sync) strange() error {
	if s.two.Rewritten {
		f := fault.New(fault.Decision, "the host's branch %s was rewritten there, and your commits on top of it hold merges, which cannot be replayed by themselves", text.Visible(s.stand.Branch))
		f.Detail("Nothing changed, on either side.")
		return f.Try("keep yours under another name", text.Command(s.words("branch", "make", s.stand.Branch+"-before", "--from", s.stand.Branch)...))
	}
	f := fault.New(fault.Decision, "branch %s here and the one on the host have no commit in common: they were begun apart", text.Visible(s.stand.Branch))
	f.Detail("Nothing changed, on either side.")
	return f.Try("join the two", text.Command("uncinate", "attach", "--to", s.tie.Address.String(), s.folder.Path)).
		Try("or look at theirs first", text.Command(s.words("history", "--on-host", "--full")...))
}

// mostLooked is how many files are looked at where nothing is to be done: more of them take longer than asking the host.
const mostLooked = 20_000

// cleanMeanwhile finds out beside other work whether the files are all as in the last commit; the answer is waited for.
func (s *Sync) cleanMeanwhile(ctx context.Context) func() bool {
	done, f := make(chan bool, 1), s.folder
	s.many = git.IndexCount(f.Path) > mostLooked
	if s.options.Told != nil || s.many { // of many, no more programs run at a time than were asked for
		done <- false
		return sync.OnceValue(func() bool { return <-done })
	}
	go func() {
		tree, err := f.Repo.Resolve(ctx, "HEAD^{tree}")
		done <- err == nil && f.Repo.SurelyClean(ctx, f.Settings, tree)
	}()
	return sync.OnceValue(func() bool { return <-done })
}
