// Package syncing brings one project and its host into step. Plan saves if told to, asks the host,
// fetches what is needed to compare, and makes the plan; Do carries it out; JoinBranch is the same
// for a branch of one's own. What needs a decision stops it with everything as it was.
package syncing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/history"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Options are a person's wishes.
type Options struct {
	Folder  string
	Save    string // commit everything first, with this text
	By      string // "replay" or "merge": how both sides' commits are brought together; "" as git is set
	InOnly  bool   // bring in, and send nothing
	Preview bool
	Ask     func(path string) (bool, error)

	Told *project.Answer // what the host was found to hold just now
	Seen *project.Local  // what was read of the project without a process
}

// Sync is one project to be brought into step with its host.
type Sync struct {
	desk    *desk.Desk
	options Options
	held    *files.Held // the folder's lock
	folder  *project.Folder
	hook    *project.Hook
	project project.Project
	run     *desk.Runner
	rescuer *worktree.Rescuer
	stand   *project.Standing
	refs    web.Refs          // what the host holds
	tracked map[string]string // what git knew of the host before: ref → commit
	two     histories.Two
	need    histories.Need
	was     string // with a rewritten branch: what there held before
	tree    string // what the files will be, as a commit or a tree
	text    string // what a merge commit says
	joining string // the branch that is joined; "" in a sync
	steps   []desk.Step
	saved   *history.Saved
	rescued []int       // numbers of the copies that were kept
	trial   *git.Weaver // the store in which what comes was tried out
	coming  []string

	BroughtIn int // commits
	SentOut   int
	Rewritten bool
	Moved     *description.Repository // where the hosted repository lies now, if it moved
	Gone      []string                // branches that are no longer there
	Tags      []string                // tags that came in
	Open      []string                // files that a program has open and that would be replaced, each with its program
}

// Synced is what came of it.
type Synced struct {
	Folder    string            `json:"folder"`
	Address   string            `json:"address"`
	Branch    string            `json:"branch"`
	Commit    string            `json:"commit,omitempty"`
	Saved     string            `json:"saved,omitempty" says:"the commit that was made first"`
	BroughtIn int               `json:"brought_in"`
	SentOut   int               `json:"sent_out"`
	Together  string            `json:"together,omitempty" says:"replay or merge, where both sides had new commits"`
	Rewritten bool              `json:"rewritten,omitempty" says:"the host's branch was made anew there, and is followed"`
	Rescued   []int             `json:"rescued,omitempty" says:"numbers of the rescue copies that were kept"`
	Gone      []string          `json:"gone,omitempty" says:"branches that are no longer on the host"`
	Tags      []string          `json:"tags,omitempty" says:"tags that came in"`
	Changed   map[string]int    `json:"changed"` // not saved yet
	Copies    []string          `json:"copies,omitempty" says:"addresses of copies that hold the branch too now"`
	Left      []history.LeftOut `json:"left,omitempty" says:"what was not saved, and why"`
}

// Plan saves if told to, asks the host, brings in what git needs to compare, and makes the
// plan. What cannot be done without a decision stops here, with everything as it was.
func Plan(ctx context.Context, d *desk.Desk, o Options) (*Sync, error) {
	if o.By != "" && o.By != "replay" && o.By != "merge" {
		return nil, fault.New(fault.Usage, "both sides are brought together by replay or merge, not by %s", text.Quote(o.By))
	}
	f, p, err := projectSeen(ctx, d, o)
	if err != nil {
		return nil, err
	}
	s := &Sync{desk: d, folder: f, options: o, project: p}
	if s.held, err = d.Alone(ctx, f.Path); err != nil {
		return nil, err
	}
	if err := s.prepare(ctx); err != nil {
		return nil, errors.Join(err, s.held.Release())
	}
	return s, nil
}

func (s *Sync) prepare(ctx context.Context) error {
	d, f := s.desk, s.folder
	var err error
	if err := f.Finished(); err != nil {
		return err
	}
	if s.rescuer, err = worktree.RescuerOf(d, f); err != nil {
		return err
	}
	if err := s.heal(ctx); err != nil {
		return err
	}
	if err := f.Unlocked(); err != nil {
		return err
	}
	if s.options.Save != "" && !s.options.Preview {
		if s.saved, err = history.SaveLocked(ctx, d, f, history.SaveOptions{Folder: s.options.Folder, Text: s.options.Save, Ask: s.options.Ask, Quiet: true}); err != nil {
			return err
		}
	}
	if s.hook, err = project.HookOf(ctx, d, f, s.project); err != nil {
		return s.afterSaving(err)
	}
	if t := s.options.Told; t != nil && t.Err == nil && (s.saved == nil || s.saved.Commit == "") {
		s.refs = t.Refs
	} else if s.refs, err = project.Refs(ctx, d, s.hook, ""); err != nil {
		if err = s.moved(ctx, err); err != nil {
			return s.afterSaving(err)
		}
	}
	if s.run, _, err = d.Begin("sync", f.Path); err != nil {
		return err
	}
	s.run.AsWas = "Everything is as it was, here and there."
	if s.Moved == nil {
		if err := s.fetch(ctx); err != nil {
			return s.afterSaving(err)
		}
	}
	return s.afterSaving(s.compare(ctx))
}

// projectSeen looks at the project; where its refs were read already, with one run of git.
func projectSeen(ctx context.Context, d *desk.Desk, o Options) (*project.Folder, project.Project, error) {
	l := o.Seen
	if l == nil || l.Branch == "" || l.Unfinished != "" {
		return project.ProjectFor(ctx, d, o.Folder)
	}
	g, err := d.Git(ctx)
	if err != nil {
		return nil, project.Project{}, err
	}
	f := &project.Folder{Path: o.Folder, Repo: g.In(o.Folder), IsRepo: true, Branch: l.Branch, Head: l.Refs["refs/heads/"+l.Branch], Remotes: map[string]string{}}
	if f.Settings, err = f.Repo.Settings(ctx); err != nil {
		return nil, project.Project{}, git.Fault(err, "git's configuration cannot be read")
	}
	f.ReadRemotes()
	p, err := project.ProjectOf(d, f)
	return f, p, err
}

// afterSaving says with a fault that the work was saved before it.
func (s *Sync) afterSaving(err error) error {
	saved := s.saved != nil && s.saved.Commit != ""
	if err == nil || !saved && len(s.rescued) == 0 {
		return err
	}
	f := *fault.Of(err)
	f.Details = slices.Clone(f.Details)
	if saved {
		f.Detail("Saved before that: commit %.10s, here only so far.", s.saved.Commit)
	}
	for _, n := range s.rescued {
		f.Detail("Kept before that: rescue copy %d.", n)
	}
	return &f
}

// moved looks where the repository lies now, when the host has none where it was.
func (s *Sync) moved(ctx context.Context, refused error) error {
	if !fault.Is(refused, fault.HostSaidNo) || s.hook.Account == nil {
		return refused
	}
	there, found := project.WentTo(ctx, s.desk, []project.Project{s.project})[s.project.Folder]
	if !found {
		return refused
	}
	s.Moved = &there
	return nil
}

// compare decides what there is to do, and stops at what needs the person.
func (s *Sync) compare(ctx context.Context) error {
	f := s.folder
	if s.Moved != nil {
		s.steps = append(s.steps, s.stepFollow())
		return nil
	}
	var err error
	if s.stand, err = project.StandHere(ctx, f, s.project, s.refs.Branch(f.Branch) != f.Head); err != nil {
		return err
	}
	if err := s.look(ctx); err != nil {
		return err
	}
	s.text = worktree.MergeText(s.stand.Branch, s.hook.Address.String())
	switch s.need {
	case histories.Nothing:
		return nil
	case histories.Dropped:
		return s.branchGone(ctx)
	case histories.Strange:
		return s.strange()
	case histories.Send:
		s.steps = append(s.steps, s.stepOut())
		return nil
	}
	if err := s.planIn(ctx); err != nil {
		return err
	}
	if s.need.Sends(s.two) {
		s.steps = append(s.steps, s.stepOut())
	}
	return nil
}

// planIn tries the bringing in out, aside, and makes its steps.
func (s *Sync) planIn(ctx context.Context) (err error) {
	done, err := s.try(ctx)
	defer func() { err = errors.Join(err, done()) }()
	if err != nil {
		return err
	}
	way, err := s.inWay(ctx)
	if err != nil {
		return err
	}
	s.Open = s.heldOpen()
	if refs := s.overwritten(); len(refs) > 0 || len(way) > 0 {
		s.steps = append(s.steps, s.stepRescue(refs, way))
	}
	s.steps = append(s.steps, s.stepIn(way))
	return nil
}

// look finds out what the two sides are to each other.
func (s *Sync) look(ctx context.Context) error {
	f, st := s.folder, s.stand
	st.Theirs = s.refs.Branch(st.Branch)
	known := s.tracked[s.track(st.Branch)]
	t := histories.Two{Here: st.Ours != "", There: st.Theirs != "", Known: known != "", InOnly: s.options.InOnly || s.project.Follows}
	number := func(args ...string) (int, error) {
		out, err := f.Repo.Do(ctx, append([]string{"rev-list", "--count"}, args...)...)
		if err != nil {
			return 0, git.Fault(err, "git cannot compare here and there")
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
				return git.Fault(err, "git cannot compare here and there")
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
		if t.Ahead, err = number(st.Ours, "--not", "--remotes="+s.hook.Remote); err != nil {
			return err
		}
	case t.There:
		if t.Behind, err = number(st.Theirs); err != nil {
			return err
		}
	}
	s.two, s.need = t, histories.Decide(t)
	s.BroughtIn, s.SentOut, s.Rewritten = t.Behind, t.Ahead, t.Rewritten && s.need.BringsIn()
	if t.Rewritten {
		s.SentOut = t.Own
	}
	if !s.need.Sends(t) && s.need != histories.Replay && s.need != histories.Merge {
		s.SentOut = 0
	}
	return nil
}

// dropped gives a commit that the host's branch held and holds no more, by which it shows
// that its history was made anew: what git knew of it, or, where that was looked at since, the
// commit from which those here went out, of which git's own notes tell (git-merge-base
// documentation, "DISCUSSION ON FORK-POINT MODE"). It gives "" where nothing was dropped.
func (s *Sync) dropped(ctx context.Context, known string) (string, error) {
	repo, st := s.folder.Repo, s.stand
	if known == "" {
		return "", nil
	}
	fork, err := repo.Do(ctx, "merge-base", "--fork-point", s.track(st.Branch), st.Ours)
	if err != nil && git.Code(err) != 1 {
		return "", git.Fault(err, "git cannot compare here and there")
	}
	for _, held := range []string{known, fork} {
		if held == "" || held == st.Theirs {
			continue
		}
		gone, err := repo.Do(ctx, "rev-list", "--count", "-1", held, "--not", st.Theirs)
		if err != nil {
			return "", git.Fault(err, "git cannot compare here and there")
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
	f := fault.New(fault.Decision, "the branch %s is no longer on the host; it was there when it was last looked at", branch)
	f.Detail("What you have of it is all here still.")
	at := func(words ...string) string {
		return text.Command(append([]string{"git", "-C", s.folder.Path}, words...)...)
	}
	if head := s.refs.Head; head != "" && head != st.Branch {
		if there := s.refs.Branch(head); there != "" && s.folder.Contains(ctx, there, s.tracked[s.track(st.Branch)]) {
			f.Says = fmt.Sprintf("the branch %s is no longer on the host: its default branch is %s now, and holds what %s held", branch, text.Visible(head), branch)
			if _, here := s.tracked["refs/heads/"+head]; here {
				f.Try("go to it", text.Command(s.words("branch", "switch", head)...))
			} else {
				f.Try("call yours the same", text.Command(s.words("branch", "rename", st.Branch, head, "--here")...))
			}
		}
	}
	return f.Try("if it is to be there again, send it", at("push", "-u", s.hook.Remote, st.Branch))
}

// strange says that the two have nothing in common.
func (s *Sync) strange() error {
	if s.two.Rewritten {
		f := fault.New(fault.Decision, "the host's branch %s was made anew there, and your commits on top of it hold merges, which cannot be replayed by themselves", text.Visible(s.stand.Branch))
		f.Detail("Everything is as it was, here and there.")
		return f.Try("keep yours under another name", text.Command("git", "-C", s.folder.Path, "branch", s.stand.Branch+"-before", s.stand.Branch))
	}
	f := fault.New(fault.Decision, "branch %s here and the one on the host have no commit in common: they were begun apart", text.Visible(s.stand.Branch))
	f.Detail("Everything is as it was, here and there.")
	return f.Try("join the two", text.Command("uncinate", "attach", "--to", s.hook.Address.String(), s.folder.Path)).
		Try("or look at theirs first", text.Command("git", "-C", s.folder.Path, "log", "--stat", s.hook.Remote+"/"+s.stand.Branch))
}

// Asks tells why the plan is not gone about without a yes; empty when it is.
func (s *Sync) Asks() []string {
	var why []string
	if s.Moved != nil {
		why = append(why, fmt.Sprintf("The repository is called %s now.", s.Moved.Path()))
	}
	if s.Rewritten {
		why = append(why, fmt.Sprintf("The history of %s was made anew on the host: %s that it held before is not in it any more. What you have is kept as a rescue copy.", text.Visible(s.stand.Branch), s.lost()))
	}
	if len(s.Open) > 0 {
		why = append(why, "A running program has files open that would be replaced under it:")
		why = append(why, s.Open...)
	}
	return why
}

func (s *Sync) lost() string {
	out, err := s.folder.Repo.Do(context.Background(), "rev-list", "--count", s.was, "--not", s.stand.Theirs)
	n, e := strconv.Atoi(out)
	if err != nil || e != nil {
		return "something"
	}
	return text.Count(n, "commit")
}

// Items is the plan as it is shown; empty when here and there are in step.
func (s *Sync) Items() []plan.Item { return desk.Items(s.steps) }

// InStep reports whether there is nothing to do.
func (s *Sync) InStep() bool { return len(s.steps) == 0 }

// Saved is what was saved first, nil for nothing.
func (s *Sync) Saved() *history.Saved { return s.saved }

// Release gives a plan up that is not gone about.
func (s *Sync) Release() error {
	return errors.Join(s.run.Journal.Close(), s.held.Release())
}

// Do carries the plan out.
func (s *Sync) Do(ctx context.Context) (*Synced, error) {
	r, err := s.do(ctx)
	return r, errors.Join(s.afterSaving(err), s.held.Release())
}

func (s *Sync) do(ctx context.Context) (*Synced, error) {
	err := s.run.Journal.Close()
	if len(s.steps) > 0 {
		err = s.run.Run(ctx, s.steps)
	}
	if err != nil {
		return nil, err
	}
	if s.Moved != nil { // it is followed now; what is new there comes next
		s.Moved = nil
		s.steps = nil
		f, p, err := project.ProjectFor(ctx, s.desk, s.folder.Path)
		if err != nil {
			return nil, err
		}
		s.folder, s.project, s.options.Save = f, p, ""
		if err := s.prepare(ctx); err != nil {
			return nil, err
		}
		if len(s.Asks()) > 0 {
			return nil, fault.New(fault.Decision, "the project follows the repository to its new place; what it holds there needs a look first").Try("go on", text.Command(s.words("sync")...))
		}
		return s.do(ctx)
	}
	st := s.stand
	out := &Synced{Folder: s.folder.Path, Address: s.hook.Address.String(), Branch: st.Branch, BroughtIn: s.BroughtIn, SentOut: s.SentOut, Changed: st.Changed, Rewritten: s.Rewritten, Gone: s.Gone, Tags: s.Tags}
	if s.saved != nil {
		out.Saved, out.Left = s.saved.Commit, s.saved.Left
	}
	if s.need == histories.Replay || s.need == histories.Merge {
		out.Together = string(s.need)
	}
	out.Rescued = s.rescued
	out.Commit = s.folder.Head
	if s.need.BringsIn() && len(out.Changed) > 0 {
		after, err := s.folder.Repo.Status(ctx, false)
		if err != nil {
			return nil, git.Fault(err, "git cannot tell what changed")
		}
		out.Changed = after.Counts()
	}
	if s.need.Sends(s.two) {
		refs, err := project.Refs(ctx, s.desk, s.hook, "")
		if err != nil {
			return nil, err
		}
		if refs.Branch(st.Branch) != out.Commit {
			return nil, fault.New(fault.Failed, "the check with the host failed: it does not hold the commits that were sent")
		}
	}
	if err := project.NoteContact(s.desk, s.folder, s.refs); err != nil {
		return nil, err
	}
	if !s.two.InOnly {
		out.Copies, err = s.sendCopies(ctx)
	}
	return out, err
}

// sendCopies sends the branch to the places that only receive.
func (s *Sync) sendCopies(ctx context.Context) ([]string, error) {
	all, err := project.Register(s.desk)
	if err != nil {
		return nil, err
	}
	var sent []string
	for _, p := range all {
		if p.Folder != s.folder.Path || !p.Copy || p.Remote == s.hook.Remote {
			continue
		}
		h, err := project.HookOf(ctx, s.desk, s.folder, p)
		if err == nil {
			ref := "refs/heads/" + s.stand.Branch
			err = project.Push(ctx, s.desk, h, []string{"push", "--progress", "--porcelain", "--", h.Remote, ref + ":" + ref})
		}
		if err != nil {
			f := *fault.Of(err)
			f.Details = append(slices.Clone(f.Details), fmt.Sprintf("The branch is in step with %s; only the copy %s at %s did not get it.", s.hook.Address.String(), text.Visible(p.Remote), text.Visible(p.Address)))
			return sent, &f
		}
		sent = append(sent, p.Address)
	}
	return sent, nil
}

// clashed tells which files clash, and who changed them there.
func (s *Sync) clashed(ctx context.Context, c *git.Clashes) error {
	st := s.stand
	f := fault.New(fault.Decision, "both sides changed the same %s on %s: %s only here, %s only there",
		text.Either(len(c.Paths) == 1, "file", "files"), text.Visible(st.Branch), text.Count(s.SentOut, "commit"), text.Count(s.BroughtIn, "commit"))
	var lines []string
	for i, p := range c.Paths {
		line := text.Visible(p)
		if i < desk.MostShown {
			log, err := s.folder.Repo.Do(ctx, "log", "--no-show-signature", "--no-textconv", "--no-ext-diff", "--date=short", "--format=%an on %ad (%s)", "-1", st.Ours+".."+st.Theirs, "--", p)
			if err != nil {
				return git.Fault(err, "git cannot tell who changed %s", text.Visible(p))
			}
			if log != "" {
				line += ", there by " + text.Excerpt(log, 100)
			}
		}
		lines = append(lines, line)
	}
	desk.FirstOf(f, lines)
	f.Detail("It was tried out aside: everything is as it was, here and there.")
	some := c.Paths[:min(len(c.Paths), 3)]
	if s.joining != "" {
		return f.Try("see what changed there", text.Command(append(s.words("changes", "--branch", s.joining, "--full"), some...)...)).
			Try("decide it with plain git", text.Command("git", "-C", s.folder.Path, "merge", s.joining))
	}
	return f.Try("see what changed there", text.Command(append(s.words("changes", "--there", "--full"), some...)...)).
		Try("decide it with plain git, then sync again", text.Command("git", "-C", s.folder.Path, "pull", "--rebase"))
}

// words is another command about the same project.
func (s *Sync) words(words ...string) []string {
	words = append([]string{"uncinate"}, words...)
	if g := s.options.Folder; g != "." && g != "" {
		words = append(words, "--folder", g)
	}
	return words
}
