package undoing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/clashing"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
)

// CommitOptions say which commits are taken back, and how.
type CommitOptions struct {
	Folder  string
	Commits []string // each a commit, or FROM..TO for those after one up to another (gitrevisions documentation); none: the last one
	Drop    bool     // of the last one, that nobody else has: its changes go too
	Parent  int      // of a merge: the parent whose side stays, from 1; 0 for the first
	Message string   // the new commit's text; "" for one that names what is taken back
	Clash   string   // mine, theirs or both: how all clashes are decided that are not decided otherwise
	Preview bool
}

// line is the command that goes on with it, without its folder.
func (o CommitOptions) line() string {
	return text.Command(append([]string{"uncinate", "undo", "commit"}, append(o.stopped().Words(), text.Either(o.Drop, "--drop", "--keep"))...)...)
}

func (o CommitOptions) stopped() worktree.Stopped {
	return worktree.Stopped{What: "undo", Commits: o.Commits, Parent: o.Parent, Text: o.Message}
}

// undoneTo is where the branch is once the undo of a commit is done.
var undoneTo = desk.NewFact[string]("undone to")

// commitUndo is the undo of commits.
type commitUndo struct {
	options  CommitOptions
	groups   []group
	decided  *worktree.Decisions
	rescuer  *worktree.Rescuer
	together *worktree.Together
	next     string // where the branch goes, where no commit is made; "" for none
	tree     string // what the files will be
	kept     worktree.Kept
	way      []string
	before   bool // it was done, and then cut off
}

// PlanCommit plans to take commits back.
func PlanCommit(ctx context.Context, d *desk.Desk, o CommitOptions) (*Undo, error) {
	if o.Clash != "" && !joining.Valid(o.Clash) {
		return nil, fault.New(fault.Usage, "a clash is decided by mine, theirs or both, not by %s", text.Quote(o.Clash))
	}
	u, err := begin(ctx, d, o.Folder, "commit")
	if err != nil {
		return nil, err
	}
	u.commit = &commitUndo{options: o}
	if err := u.planCommit(ctx); err != nil {
		return nil, errors.Join(err, u.held.Release())
	}
	return u, nil
}

func (u *Undo) planCommit(ctx context.Context) (err error) {
	c, f := u.commit, u.folder
	if f.Branch == "" {
		return project.OnNoBranch(f.Path)
	}
	if c.rescuer, err = worktree.RescuerOf(u.desk, f); err != nil {
		return err
	}
	if c.decided, err = worktree.DecisionsOf(u.desk, f); err != nil {
		return err
	}
	c.decided.Way = c.options.Clash
	if done, err := u.begun(ctx); err != nil || done {
		return err
	}
	if len(c.options.Commits) > 0 {
		if c.options.Drop {
			return fault.New(fault.Usage, "--drop is for the last commit, as long as nobody else has it; a commit that is named is taken back by a new one").
				TryWithout("", u.words("undo", "commit", c.options.Commits[0]), "drop")
		}
		return u.planReverse(ctx, c.options.Commits)
	}
	where, err := u.sentTo(ctx)
	if err != nil {
		return err
	}
	if where == "" {
		return u.planLast(ctx)
	}
	u.Notes = append(u.Notes, fmt.Sprintf("It was sent already (%s has it), so a new commit takes it back.", text.Visible(where)))
	if c.options.Drop {
		return fault.New(fault.Refused, "the last commit was sent already (%s has it), so it stays, and a new commit takes it back", text.Visible(where)).
			TryWithout("take it back so", u.words("undo", "commit"), "drop")
	}
	return u.planReverse(ctx, []string{f.Head})
}

// sentTo gives a branch of a host that is known to have the last commit; "" for none.
func (u *Undo) sentTo(ctx context.Context) (string, error) {
	out, err := u.folder.Repo.Do(ctx, "for-each-ref", "--format=%(refname)", "--contains", u.folder.Head, "refs/remotes/")
	if err != nil {
		return "", git.Fault(err, "git cannot tell whether the commit was sent")
	}
	where := ""
	for ref := range strings.Lines(out) {
		ref = strings.TrimPrefix(strings.TrimSpace(ref), "refs/remotes/")
		if where == "" || strings.HasSuffix(where, "/HEAD") {
			where = ref
		}
	}
	return where, nil
}

// words is a command about the same project.
func (u *Undo) words(words ...string) string { return desk.FolderCommand(u.given, words...) }

// cutOff is what the journal of an undo keeps of it.
type cutOff struct{ Line, From string }

// begun opens the journal; where the same undo was done and then cut off, it says so and is finished.
func (u *Undo) begun(ctx context.Context) (done bool, err error) {
	c := u.commit
	var found bool
	if u.run, found, err = u.desk.Begin("undo", u.folder.Path); err != nil {
		return false, err
	}
	u.run.AsWas = "Nothing changed."
	var was cutOff
	if found {
		if _, err := u.run.Wanted(&was); err != nil {
			return false, err
		}
		if undoneTo.Known(u.run) && undoneTo.Of(u.run) == u.folder.Head && was.Line == c.options.line() {
			c.before, u.Out.Commit = true, u.folder.Head
			u.Notes = append(u.Notes, "It was taken back before that was cut off, and is not taken back twice.")
			return true, nil
		}
		if err := u.run.Journal.Close(); err != nil {
			return false, err
		}
		if u.run, _, err = u.desk.Begin("undo", u.folder.Path); err != nil {
			return false, err
		}
		u.run.AsWas = "Nothing changed."
	}
	return false, u.run.Wants(cutOff{c.options.line(), u.folder.Head})
}

// about gives a commit's parents and title.
func (u *Undo) about(ctx context.Context, commit string) (parents []string, title string, err error) {
	out, err := u.folder.Repo.Do(ctx, "log", "-1", "--no-show-signature", "--format=%P%n%s", commit)
	if err != nil {
		return nil, "", git.Fault(err, "git cannot read commit %.10s", commit)
	}
	first, title, _ := strings.Cut(out, "\n")
	if parents = strings.Fields(first); len(parents) == 0 {
		err = u.cutHere(commit)
	}
	return parents, title, err
}

// cutHere refuses a commit from which this clone has nothing older: what it changed is not known here
// (gitrepository-layout documentation, "shallow").
func (u *Undo) cutHere(commit string) error {
	cut, err := worktree.IsCut(u.folder, commit)
	if err != nil || !cut {
		return err
	}
	return fault.New(fault.Decision, "this clone holds nothing older than commit %.10s, so what that changed is not known here", commit).Detail("Nothing changed.").
		Try("receive the older commits", text.Command("git", "-C", u.folder.Path, "fetch", "--unshallow"))
}

// planLast takes the last commit, which nobody else has, off the branch.
func (u *Undo) planLast(ctx context.Context) error {
	c, f := u.commit, u.folder
	switch {
	case c.options.Message != "":
		return fault.New(fault.Usage, "nobody else has the last commit, so it is taken off the branch, and no commit is made that could have a message").
			TryWithout("", u.words("undo", "commit"), "message")
	case c.options.Clash != "":
		return fault.New(fault.Usage, "nobody else has the last commit, so it is taken off the branch, and nothing can clash").TryWithout("", u.words("undo", "commit"), "clash")
	case c.options.Parent > 1:
		return fault.New(fault.Usage, "nobody else has the last commit, so it is taken off the branch, which goes back to its first parent").TryWithout("", u.words("undo", "commit"), "parent")
	}
	parents, title, err := u.about(ctx, f.Head)
	if err != nil {
		return err
	}
	u.Out.Taken = []Taken{{f.Head, title}}
	if len(parents) > 0 {
		c.next = parents[0]
	} else if c.options.Drop {
		return fault.New(fault.Decision, "the last commit is the first one, and without its files nothing would be left here").
			TryWithout("take it back, and leave its files as they are", u.words("undo", "commit"), "drop")
	}
	u.Notes = append(u.Notes, "As far as is known here, no host has it.")
	c.kept = worktree.Kept{Before: "undo commit", Refs: []worktree.Moving{{Ref: "refs/heads/" + f.Branch, ID: f.Head, Next: c.next}}}
	before, err := u.treeBefore(ctx, c.next)
	if err != nil {
		return err
	}
	if u.Out.Files, err = u.filesBetween(ctx, &git.Weaver{Repo: f.Repo}, f.Head, before); err != nil {
		return err
	}
	named := fmt.Sprintf("commit %.10s (%s)", f.Head, text.Excerpt(title, 60))
	if !c.options.Drop {
		u.Out.Stay = true
		n := len(u.Out.Files)
		stay := fmt.Sprintf("; the %s that it changed %s as %s now, not saved", text.Count(n, "file"), text.Either(n == 1, "stays", "stay"), text.Either(n == 1, "it is", "they are"))
		u.Out.Files = nil
		u.steps = []desk.Step{u.stepKeep("of " + text.Visible(f.Branch) + " as it is"), {Item: plan.Item{ID: "undo", Place: plan.Here,
			Sentence: "Take " + named + " off " + text.Visible(f.Branch) + text.Either(n > 0, stay, "")}, Do: u.takeOff}}
		return nil
	}
	c.tree = c.next
	if err := u.looksInWay(ctx, &git.Weaver{Repo: f.Repo}); err != nil {
		return err
	}
	u.steps = []desk.Step{u.stepKeep("of " + text.Visible(f.Branch) + " and of the files as they are"), {Item: plan.Item{ID: "undo", Place: plan.Here,
		Sentence: fmt.Sprintf("Take %s off %s, with its changes in %s", named, text.Visible(f.Branch), text.Count(len(u.Out.Files), "file"))}, Do: func(ctx context.Context) error {
		return u.lay(ctx, c.next)
	}}}
	return nil
}

// treeBefore is what stands before a commit without parents: nothing.
func (u *Undo) treeBefore(ctx context.Context, commit string) (string, error) {
	if commit != "" {
		return commit, nil
	}
	return worktree.EmptyTree(ctx, u.folder)
}

// stepKeep keeps the rescue copy.
func (u *Undo) stepKeep(of string) desk.Step {
	return desk.Step{Item: plan.Item{ID: "rescue", Place: plan.Here, Sentence: "Keep a rescue copy " + of},
		Do: func(ctx context.Context) error {
			n, err := u.commit.rescuer.KeepAll(ctx, u.commit.kept)
			if err == nil && n > 0 {
				u.Out.Rescued = append(u.Out.Rescued, n)
			}
			return err
		}}
}

// takeOff moves the branch alone: the files and git's index stay.
func (u *Undo) takeOff(ctx context.Context) error {
	f, ref := u.folder, "refs/heads/"+u.folder.Branch
	if err := undoneTo.Note(u.run, u.commit.next); err != nil {
		return err
	}
	args := []string{"update-ref", "-m", "uncinate: undo commit", ref, u.commit.next, f.Head}
	if u.commit.next == "" {
		args = []string{"update-ref", "-m", "uncinate: undo commit", "-d", ref, f.Head}
	}
	if _, err := f.Repo.Do(ctx, args...); err != nil {
		if now, look := f.Repo.Resolve(ctx, ref); look == nil && now != f.Head {
			return fault.New(fault.Decision, "a commit was made here meanwhile; nothing was taken back").Try("see the commits", u.words("history"))
		}
		return git.Fault(err, "the branch cannot be moved")
	}
	u.Out.Commit = u.commit.next
	return nil
}

// lay brings the files of a commit in and moves the branch to it.
func (u *Undo) lay(ctx context.Context, to string) error {
	f := u.folder
	if err := undoneTo.Note(u.run, to); err != nil {
		return err
	}
	n, err := worktree.Lay(ctx, u.desk, f, worktree.Laying{Before: "undo commit", From: f.Head, To: to, Branch: f.Branch, Head: f.Head, Way: u.commit.way, Says: "uncinate: undo commit"})
	u.Out.Rescued = append(u.Out.Rescued, n...)
	if err == nil {
		u.Out.Commit = to
	}
	return err
}

// filesBetween tells what becomes of files that differ between two trees.
func (u *Undo) filesBetween(ctx context.Context, w *git.Weaver, from, to string) ([]File, error) {
	out, err := w.Do(ctx, "", nil, "diff-tree", "-r", "-z", "--name-status", "--no-renames", from, to)
	if err != nil {
		return nil, git.Fault(err, "git cannot compare the commits")
	}
	items := git.SplitNUL([]byte(out))
	var all []File
	for i := 0; i+1 < len(items); i += 2 {
		does := Back
		switch items[i] {
		case "A":
			does = Returns
		case "D":
			does = Goes
		}
		all = append(all, File{Path: items[i+1], Does: does})
	}
	return all, nil
}

// looksInWay finds what is not saved where the files change, and notes what is kept of them.
func (u *Undo) looksInWay(ctx context.Context, w *git.Weaver) error {
	c, f := u.commit, u.folder
	st, err := f.Repo.Status(ctx, true)
	if err != nil {
		return git.Fault(err, "git cannot tell what changed")
	}
	meets, err := worktree.Alike(ctx, f, w, c.tree)
	if err != nil {
		return err
	}
	var coming []string
	for _, x := range u.Out.Files {
		coming = append(coming, x.Path)
	}
	u.Open = append(u.Open, worktree.HeldOpen(u.desk, f, coming)...)
	if lines := worktree.Pairs(coming, meets); len(lines) > 0 {
		out := fault.New(fault.Decision, "what comes back has names that differ in upper and lower case alone, and this folder cannot keep them apart")
		desk.FirstOf(out, lines)
		return out.Detail("Nothing changed.").Try("do it on a machine that keeps them apart; here, see what each commit changed", u.words("history", "--full"))
	}
	clash, way, err := worktree.InWay(ctx, f, st, coming, w, c.tree)
	if err != nil {
		return err
	}
	if len(clash) > 0 {
		out := fault.New(fault.Decision, "%s here that the undo changes %s not saved", text.Count(len(clash), "file"), desk.IsAre(len(clash)))
		desk.FirstOf(out, desk.Visible(clash))
		return out.Detail("Nothing changed.").Try("save them first", u.words("save", "--message", "What was done")).
			Try("or take back what is not saved there", u.words("undo", "changes", clash[0]))
	}
	c.way = way
	c.kept.Before, c.kept.Paths, c.kept.Left = "undo commit", append(coming, way...), map[string]worktree.Standing{}
	slices.Sort(c.kept.Paths)
	c.kept.Paths = slices.Compact(c.kept.Paths)
	return u.leaves(ctx, w, coming)
}

// leaves notes what will stand at paths.
func (u *Undo) leaves(ctx context.Context, w *git.Weaver, coming []string) error {
	out, err := w.Do(ctx, "", nil, "ls-tree", "-r", "-z", "--full-tree", u.commit.tree)
	if err != nil {
		return git.Fault(err, "git cannot list the files")
	}
	all := worktree.Standings(git.SplitNUL([]byte(out)))
	for _, p := range coming {
		if x := all[p]; x.ID != "" && x.Mode != "160000" {
			u.commit.kept.Left[p] = x
		}
	}
	return nil
}

// commits carries an undo of commits out.
func (u *Undo) commits(ctx context.Context) error {
	c := u.commit
	if c.before {
		return u.run.Journal.Close()
	}
	if err := u.run.Run(ctx, u.steps); err != nil {
		return err
	}
	if c.together != nil {
		u.Out.Decided = c.together.Ended
	}
	if x := c.decided.Stopped(); x.What == "undo" {
		return c.decided.Forget()
	}
	return nil
}

// clashed says that an undo clashes with later commits, and keeps what stopped.
func (u *Undo) clashed(ctx context.Context, g group, left []clashing.Clash) error {
	c := u.commit
	if !c.options.Preview {
		if err := c.decided.Keep(ctx, c.options.stopped()); err != nil {
			return err
		}
	}
	f := fault.New(fault.Decision, "%s cannot be taken back by %s: later commits changed the same in %s", g.says(), text.Either(len(g.ids) == 1, "itself", "themselves"), text.Count(len(left), "file"))
	var lines []string
	for i, x := range left {
		line := text.Visible(x.At)
		if x.Kind != clashing.Changed && x.Kind != clashing.Added {
			line += ": " + text.Visible(x.Says(There))
		}
		if i < desk.MostShown {
			log, err := u.folder.Repo.Do(ctx, append([]string{"--literal-pathspecs", "log", "--no-show-signature", "--no-textconv", "--no-ext-diff", "--format=%h (%s)", "-" + strconv.Itoa(mostLater), u.folder.Head, "^" + g.newest, "--"}, x.Paths[:min(len(x.Paths), 200)]...)...)
			if err != nil {
				return git.Fault(err, "git cannot tell which commits changed %s", text.Visible(x.At))
			}
			if log != "" {
				line += ", changed later by " + text.Excerpt(strings.ReplaceAll(log, "\n", ", "), 160)
			}
		}
		lines = append(lines, line)
	}
	desk.FirstOf(f, lines)
	f.Detail("It was tried in a scratch copy first: nothing changed.")
	return f.TryWithout("see what clashes, and decide", u.words("settle"), "preview", "clash")
}

// mostLater is how many later commits are named of a file.
const mostLater = 3

// There is where the other side of a clash is, in words.
const There = "by the undo"
