package undoing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/clashing"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/history"
	"uncinate/internal/world/git"
)

// A commit is taken back by merging: from it, one side went on to what is here now, and the other
// back to what stood before it. Several are taken back one after the other, the newest first; a run
// of them at once.

// group is a commit, or a run of them, that is taken back at once.
type group struct {
	newest, before string  // the last of them, and the commit or tree that stood before the first
	ids            []Taken // the newest first
	parent         string  // of a merge: the one whose side stays
	branch         string  // of a merge: what it brought in, in words
}

func (g group) says() string {
	if len(g.ids) > 1 {
		return fmt.Sprintf("%s up to %.10s", text.Count(len(g.ids), "commit"), g.newest)
	}
	return fmt.Sprintf("commit %.10s (%s)", g.newest, text.Excerpt(text.Visible(g.ids[0].Title), 60))
}

// mostTaken is how many commits are taken back at once.
const mostTaken = 1000

// find finds the commits that are named.
func (u *Undo) find(ctx context.Context, named []string) error {
	c, f := u.commit, u.folder
	for _, n := range named {
		from, to, run := strings.Cut(n, "..")
		if strings.HasPrefix(to, ".") {
			return fault.New(fault.Usage, "%s names what two sides have apart; a run of commits is FROM..TO, with two dots", text.Quote(n)).Try("see the commits", u.words("history"))
		}
		if !run {
			to = from
		}
		g := group{}
		var err error
		if to == "" {
			to = f.Head
		}
		if g.newest, err = history.CommitNamed(ctx, f, to); err != nil {
			return err
		}
		if err := u.isHere(ctx, g.newest); err != nil {
			return err
		}
		if run {
			err = u.runOf(ctx, &g, from)
		} else {
			err = u.oneOf(ctx, &g)
		}
		if err != nil {
			return err
		}
		c.groups = append(c.groups, g)
	}
	return u.order(ctx)
}

// isHere refuses a commit that is not in the branch.
func (u *Undo) isHere(ctx context.Context, id string) error {
	_, err := u.folder.Repo.Do(ctx, "merge-base", "--is-ancestor", id, u.folder.Head)
	if git.Code(err) == 1 {
		return fault.New(fault.Usage, "commit %.10s is not in %s, so there is nothing of it to be taken back", id, text.Visible(u.folder.Branch)).Try("see the commits of this branch", u.words("history"))
	}
	return git.Fault(err, "git cannot compare the commits")
}

// runOf makes a group of the commits after one up to another.
func (u *Undo) runOf(ctx context.Context, g *group, from string) error {
	var err error
	if g.before, err = history.CommitNamed(ctx, u.folder, from); err != nil {
		return err
	}
	if _, err := u.folder.Repo.Do(ctx, "merge-base", "--is-ancestor", g.before, g.newest); err != nil || g.before == g.newest {
		return fault.New(fault.Usage, "there is no commit after %.10s up to %.10s: the older one comes first", g.before, g.newest).Try("see the commits", u.words("history"))
	}
	out, err := u.folder.Repo.Do(ctx, "log", "--no-show-signature", "--first-parent", "-n", fmt.Sprint(mostTaken+1), "--format=%H %s", g.newest, "^"+g.before)
	if err != nil {
		return git.Fault(err, "git cannot list the commits")
	}
	for line := range strings.Lines(out) {
		id, title, _ := strings.Cut(strings.TrimSpace(line), " ")
		g.ids = append(g.ids, Taken{id, title})
	}
	if len(g.ids) > mostTaken {
		return fault.New(fault.Usage, "that is more than %s commits; at most so many are taken back at once", text.Number(mostTaken)).
			Try("bring everything back as it was instead", u.words("undo", "file", ".", "--to", g.before[:10]))
	}
	if u.commit.options.Parent > 0 {
		return fault.New(fault.Usage, "--parent is about a merge, and a run of commits is taken back as a whole").TryWithout("", u.words("undo", "commit", u.commit.options.Commits[0]), "parent")
	}
	return nil
}

// oneOf makes a group of one commit.
func (u *Undo) oneOf(ctx context.Context, g *group) error {
	parents, title, err := u.about(ctx, g.newest)
	if err != nil {
		return err
	}
	g.ids = []Taken{{g.newest, title}}
	n := max(1, u.commit.options.Parent)
	switch {
	case len(parents) <= 1 && u.commit.options.Parent > 0:
		return fault.New(fault.Usage, "commit %.10s is not a merge, so it has no sides to choose from", g.newest).TryWithout("", u.words("undo", "commit", g.newest[:10]), "parent")
	case n > max(1, len(parents)):
		return fault.New(fault.Usage, "the merge %.10s has %d parents", g.newest, len(parents)).TryWithout("", u.words("undo", "commit", g.newest[:10], "--parent", "2"), "parent")
	case len(parents) == 0:
		g.before, err = worktree.EmptyTree(ctx, u.folder)
		return err
	}
	g.before = parents[n-1]
	if len(parents) == 1 {
		return nil
	}
	g.parent = g.before
	came, err := u.folder.Repo.Do(ctx, "rev-list", "--count", g.newest+"^@", "--not", g.before)
	if err != nil {
		return git.Fault(err, "git cannot tell what came with the merge")
	}
	_, stays, err := u.about(ctx, g.before)
	if err != nil {
		return err
	}
	g.branch = fmt.Sprintf("It is a merge: what came with it from the other side (%s) is taken back; what was there before, up to %.10s (%s), stays.",
		text.Either(came == "1", "1 commit", came+" commits"), g.before, text.Excerpt(text.Visible(stays), 60))
	return nil
}

// order puts the groups in order, the newest first.
func (u *Undo) order(ctx context.Context) error {
	c := u.commit
	if len(c.groups) < 2 {
		return nil
	}
	list, err := u.folder.Repo.Do(ctx, "rev-list", "--topo-order", u.folder.Head)
	if err != nil {
		return git.Fault(err, "git cannot list the commits")
	}
	at := map[string]int{}
	for i, id := range strings.Fields(list) {
		at[id] = i
	}
	slices.SortStableFunc(c.groups, func(a, b group) int { return at[a.newest] - at[b.newest] })
	c.groups = slices.CompactFunc(c.groups, func(a, b group) bool { return a.newest == b.newest && a.before == b.before })
	return nil
}

// undecided says that an undo clashes, and that not all of it is decided.
type undecided struct {
	group group
	met   *worktree.Meeting
	left  []clashing.Clash
}

func (u *undecided) Error() string { return "later commits changed " + u.left[0].At }

// weave gives the tree that comes of taking back the groups, and the last meeting that clashed.
func (u *Undo) weave(ctx context.Context, w *git.Weaver) (tree string, last *undecided, err error) {
	c := u.commit
	tree, c.together = u.folder.Head, &worktree.Together{}
	for _, g := range c.groups {
		met, err := worktree.Meet(ctx, u.folder, w, g.newest, tree, g.before)
		if err != nil {
			return "", nil, err
		}
		t, err := met.Decide(ctx, u.desk, u.folder, w, c.decided)
		if err != nil {
			return "", nil, err
		}
		if len(met.Clashes) > 0 {
			last = &undecided{g, met, t.Left}
		}
		if len(t.Left) > 0 {
			return "", last, last
		}
		c.together.Beside, c.together.Ended = append(c.together.Beside, t.Beside...), append(c.together.Ended, t.Ended...)
		tree = t.Tree
	}
	return tree, last, nil
}

// planReverse plans a new commit that takes commits back.
func (u *Undo) planReverse(ctx context.Context, named []string) (err error) {
	c, f := u.commit, u.folder
	if err := u.find(ctx, named); err != nil {
		return err
	}
	if err := project.Signed(f); err != nil {
		return err
	}
	if err := u.mergers(ctx); err != nil {
		return err
	}
	trial, done, err := f.Repo.Aside(ctx)
	if err != nil {
		return err
	}
	defer fault.Also(&err, done)
	if c.tree, _, err = u.weave(ctx, trial); err != nil {
		var x *undecided
		if errors.As(err, &x) {
			return u.clashed(ctx, x.group, x.left)
		}
		return err
	}
	for _, g := range c.groups {
		u.Out.Taken = append(u.Out.Taken, g.ids...)
		if g.branch != "" {
			u.Notes = append(u.Notes, g.branch, "Joining that branch again does not receive it again; undoing this undo does.")
		}
	}
	if u.Out.Files, err = u.filesBetween(ctx, trial, f.Head, c.tree); err != nil {
		return err
	}
	if len(u.Out.Files) == 0 {
		return u.already(ctx)
	}
	if err := u.looksInWay(ctx, trial); err != nil {
		return err
	}
	what := c.groups[0].says()
	if len(c.groups) > 1 {
		what = text.Count(len(u.Out.Taken), "commit")
	}
	u.Out.Made = true
	u.steps = []desk.Step{u.stepKeep("of " + text.Count(len(c.kept.Paths), "file") + " as " + text.Either(len(c.kept.Paths) == 1, "it is", "they are") + " now")}
	if len(c.together.Beside) > 0 {
		u.steps = append(u.steps, u.stepBeside())
	}
	u.steps = append(u.steps, desk.Step{Item: plan.Item{ID: "undo", Place: plan.Here,
		Sentence: fmt.Sprintf("Make a commit on %s that takes back %s, in %s", text.Visible(f.Branch), what, text.Count(len(u.Out.Files), "file"))}, Do: u.reverse})
	return nil
}

func (u *Undo) stepBeside() desk.Step {
	var names []string
	for _, b := range u.commit.together.Beside {
		names = append(names, text.Visible(b.At))
	}
	return desk.Step{Item: plan.Item{ID: "beside", Place: plan.Here, Sentence: "Put what is there now beside it: " + text.Excerpt(strings.Join(names[:min(len(names), 20)], ", "), 200)},
		Do: func(ctx context.Context) error {
			return worktree.PutBeside(ctx, u.desk, u.folder, u.commit.together.Beside)
		}}
}

// already says that nothing of commits is left that could be taken back.
func (u *Undo) already(ctx context.Context) error {
	g := u.commit.groups[0]
	f := fault.New(fault.Failed, "nothing of %s is left that could be taken back", g.says()).Detail("Nothing changed.")
	taken, err := worktree.Reverts(ctx, u.folder.Repo, u.folder.Head, "^"+g.newest)
	if err != nil {
		return err
	}
	if by := taken[g.newest]; by != "" {
		return f.Detail("Commit %.10s took it back already.", by).Try("bring it in again", u.words("undo", "commit", by[:10]))
	}
	return f.Try("see what it changed", u.words("changes", "--commit", g.newest[:10]))
}

// reverse makes the commit.
func (u *Undo) reverse(ctx context.Context) error {
	f := u.folder
	w, err := f.Repo.Weaver(ctx)
	if err != nil {
		return err
	}
	tree, _, err := u.weave(ctx, w)
	if err != nil {
		return err
	}
	commit, err := w.Commit(ctx, tree, []string{f.Head}, &git.CommitRead{Text: u.text()})
	if err != nil {
		return err
	}
	return u.lay(ctx, commit)
}

// mostTold is how many commits a text names.
const mostTold = 100

// text is what the new commit says: as git says it, so that it is known for what it is
// (git-revert documentation).
func (u *Undo) text() string {
	c := u.commit
	var b strings.Builder
	switch {
	case c.options.Message != "":
		b.WriteString(strings.TrimSpace(c.options.Message))
	case len(u.Out.Taken) == 1:
		fmt.Fprintf(&b, "Revert \"%s\"", u.Out.Taken[0].Title)
	default:
		fmt.Fprintf(&b, "Revert %s", text.Count(len(u.Out.Taken), "commit"))
	}
	b.WriteString("\n")
	told := 0
	for _, g := range c.groups {
		for _, x := range g.ids {
			if told++; told > mostTold {
				continue
			}
			b.WriteString("\nThis reverts commit " + x.ID)
			if g.parent != "" {
				b.WriteString(", reversing\nchanges made to " + g.parent)
			}
			b.WriteString(".")
		}
	}
	b.WriteString("\n")
	return b.String()
}

// mergers stops where a program of the person's merges files that were changed since, and nobody has
// agreed to it in this copy.
func (u *Undo) mergers(ctx context.Context) error {
	if !u.folder.HasMergers() {
		return nil
	}
	var both []string
	for _, g := range u.commit.groups {
		var sides [2][]string
		for i, x := range [2][2]string{{g.newest, u.folder.Head}, {g.newest, g.before}} {
			var err error
			if sides[i], err = u.folder.Repo.Lines(ctx, "diff-tree", "-r", "-z", "--name-only", "--no-renames", x[0], x[1]); err != nil {
				return git.Fault(err, "git cannot compare the commits")
			}
		}
		for _, p := range sides[0] {
			if _, found := slices.BinarySearch(sides[1], p); found {
				both = append(both, p)
			}
		}
	}
	which, err := u.folder.Mergers(ctx, both)
	if err != nil || len(which) == 0 {
		return err
	}
	return u.folder.AskAbout(which, "files that later commits changed are merged by a program of your own, which has not run in this copy yet",
		u.words(append([]string{"undo", "commit"}, append(u.commit.options.stopped().Words(), "--yes")...)...))
}

// Meeting finds what clashes of an undo that stopped: the commits that are taken back where it does,
// and the meeting. There is none where all goes together by now.
func Meeting(ctx context.Context, d *desk.Desk, f *project.Folder, x *worktree.Decisions, w *git.Weaver) (newest, before string, met *worktree.Meeting, err error) {
	s := x.Stopped()
	u := &Undo{desk: d, folder: f, Out: &Undone{}, commit: &commitUndo{decided: x, options: CommitOptions{Commits: s.Commits, Parent: s.Parent, Message: s.Text}}}
	named := s.Commits
	if len(named) == 0 {
		named = []string{f.Head}
	}
	if err := u.find(ctx, named); err != nil {
		return "", "", nil, err
	}
	_, last, err := u.weave(ctx, w)
	var left *undecided
	if err != nil && !errors.As(err, &left) || last == nil {
		return "", "", nil, err
	}
	return last.group.newest, last.group.before, last.met, nil
}
