// Package syncing brings one project and its host into step. Plan saves if told to, asks the host,
// fetches what is needed to compare, and makes the plan; Do carries it out; JoinBranch is the same
// for a branch of one's own. What needs a decision stops it with everything as it was.
package syncing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/board"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/joining"
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
	Folder string
	Save   string // commit everything first, with this text
	By     string // "replay" or "merge": how both sides' commits are brought together; "" as git is set
	Many   bool   // with Save: very many new files are meant
	InOnly bool   // receive, and send nothing

	Submodules bool // repositories inside this one are brought too, and moved

	Clash   string // mine, theirs or both: how all clashes are decided that are not decided otherwise; "" to stop at them
	Preview bool
	Ask     func(path string) (bool, error)

	Told *project.Answer // what the host was found to hold just now
	Seen *project.Local  // what was read of the project without a process
}

// Sync is one project to be brought into step with its host.
type Sync struct {
	desk        *desk.Desk
	options     Options
	held        *files.Held // the folder's lock
	folder      *project.Folder
	tie         *project.Tie
	project     project.Project
	run         *desk.Runner
	rescuer     *worktree.Rescuer
	stand       *project.Standing
	Filled      []string          // folders of submodules that were brought
	many        bool              // there are so many files that they are not looked at where nothing is to be done
	unlooked    bool              // nothing was to be done, and the files were not looked at
	clean       func() bool       // whether nothing at all is changed here, as far as that is surely known
	refs        web.Refs          // what the host holds
	tracked     map[string]string // what git knew of the host before: ref → commit
	two         histories.Two
	need        histories.Need
	was         string   // with a rewritten branch: what there held before
	lost        int      // how many commits of it are no longer there
	tree        string   // what the files will be, as a commit or a tree
	text        string   // what a merge commit says
	joining     string   // the branch that is joined; "" in a sync
	partly      bool     // the host told of branches, and not of all refs
	claimed     []string // what others have claimed of what is sent, and what should have been claimed
	takenBack   string   // the commit that took back what was joined of it before
	unjoined    int      // commits of the host's branch of that name which are not joined, since the one here has others
	decided     *worktree.Decisions
	together    *worktree.Together // what both sides become, where they are merged
	whole       bool               // with a rewritten branch: one's own commits clash one by one, and become one
	apart       string             // why they are merged and not replayed; "" where that was wanted
	steps       []desk.Step
	saved       *history.Saved
	would       []plan.Item // of a preview: the commit that would be made first
	rescued     []int       // numbers of the copies that were kept
	mergedFiles []string    // of a preview: files that both sides changed and that merge by themselves
	over        *Over       // the offer of the branch that is over
	trial       *git.Weaver // the store in which what comes was tried out
	coming      []string

	Received  int // commits
	Sent      int
	Rewritten bool
	Moved     *description.Repository // where the hosted repository is now, if it moved
	Gone      []string                // branches that are no longer there
	Tags      []string                // tags that came in
	Open      []string                // files that a program has open and that would be replaced, each with its program
}

// Synced is what came of it.
type Synced struct {
	Folder      string            `json:"folder"`
	Address     string            `json:"address"`
	Branch      string            `json:"branch"`
	Commit      string            `json:"commit,omitempty"`
	Saved       string            `json:"saved,omitempty" says:"the commit that was made first"`
	Received    int               `json:"received" says:"commits"`
	Sent        int               `json:"sent" says:"commits"`
	Together    string            `json:"together,omitempty" says:"replay or merge, where both sides had new commits"`
	Decided     []worktree.Ended  `json:"decided,omitempty" says:"the clashes, and how each was decided"`
	Rewritten   bool              `json:"rewritten,omitempty" says:"the host's branch was rewritten there, and is followed"`
	Unpublished bool              `json:"never_sent,omitempty" says:"the branch is not on the host, since nothing was to be sent"`
	Unsent      int               `json:"not_sent,omitempty" says:"commits that are only here, since nothing was to be sent"`
	Unjoined    int               `json:"not_joined,omitempty" says:"of a join: commits of the host's branch of that name that are not in what was joined"`
	TakenBack   string            `json:"taken_back_by,omitempty" says:"of a join: the commit that took back what was joined of that branch before; that does not come in again"`
	Others      []string          `json:"branches_not_received,omitempty" says:"other branches of which the host has commits that are not here"`
	Follows     bool              `json:"receives_only,omitempty" says:"the project never sends"`
	Rescued     []int             `json:"rescued,omitempty" says:"numbers of the rescue copies that were kept"`
	Gone        []string          `json:"gone,omitempty" says:"branches that were found to be no longer on the host"`
	Tags        []string          `json:"tags,omitempty" says:"tags that came in"`
	Submodules  []string          `json:"submodules,omitempty" says:"folders of submodules that were brought"`
	Changed     map[string]int    `json:"changed"` // not saved yet
	Unlooked    bool              `json:"not_looked_at,omitempty" says:"nothing was to be done, and whether files are changed was not looked at, since there are very many"`
	Seconds     []string          `json:"second_remotes,omitempty" says:"addresses of second remotes that have the branch too now"`
	Copy        string            `json:"copy_in_step,omitempty" says:"the branch that was sent to the copy of one's own, as the original has it"`
	Over        *Over             `json:"offer,omitempty" says:"what became of an offer of the branch"`
	Tried       bool              `json:"tried,omitempty" says:"the branch is that of somebody's offer, and is not sent"`
	Left        []history.LeftOut `json:"left,omitempty" says:"what was not saved, and why"`
}

// CheckBy refuses a way to bring both sides together that is none.
func CheckBy(by string) error {
	if by != "" && by != "replay" && by != "merge" {
		return fault.New(fault.Usage, "both sides are brought together by replay or merge, not by %s", text.Quote(by))
	}
	return nil
}

func checkClash(way string) error {
	if way != "" && !joining.Valid(way) {
		return fault.New(fault.Usage, "a clash is decided by mine, theirs or both, not by %s", text.Quote(way))
	}
	return nil
}

// Plan saves if told to, asks the host, receives what git needs to compare, and makes the
// plan. What cannot be done without a decision stops here, with everything as it was.
func Plan(ctx context.Context, d *desk.Desk, o Options) (*Sync, error) {
	if err := errors.Join(CheckBy(o.By), checkClash(o.Clash)); err != nil {
		return nil, err
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
	_, err := f.Work()
	if err != nil {
		return err
	}
	if err := f.Finished(ctx); err != nil {
		return err
	}
	if s.rescuer, err = worktree.RescuerOf(d, f); err != nil {
		return err
	}
	if err := s.heal(ctx); err != nil {
		return err
	}
	if s.decided, err = worktree.DecisionsOf(d, f); err != nil {
		return err
	}
	s.decided.Way = s.options.Clash
	if err := f.Unlocked(); err != nil {
		return err
	}
	if o := s.options; o.Save != "" {
		save := history.SaveOptions{Folder: o.Folder, Text: o.Save, Ask: o.Ask, Many: o.Many, Quiet: true, Preview: o.Preview}
		if save.Preview {
			save.Ask = nil // nothing is decided yet
		}
		saved, err := history.SaveLocked(ctx, d, f, save)
		if err != nil {
			return err
		}
		if !o.Preview {
			s.saved = saved
		} else if len(saved.Files) > 0 {
			s.would = []plan.Item{{ID: "save", Place: plan.Here, Sentence: fmt.Sprintf("Commit %s on %s", board.Changes(saved.Files), text.Visible(f.Branch))}}
		}
	}
	s.clean = s.cleanMeanwhile(ctx)
	if s.tie, err = project.TieOf(ctx, d, f, s.project); err != nil {
		return s.afterSaving(err)
	}
	if t := s.options.Told; t != nil && t.Err == nil && (s.saved == nil || s.saved.Commit == "") {
		s.refs, s.partly = t.Refs, !t.Whole
	} else if s.refs, err = project.Refs(ctx, d, s.tie, ""); err != nil {
		if err = s.moved(ctx, err); err != nil {
			return s.afterSaving(err)
		}
	}
	if err := errors.Join(s.claims(ctx), s.offered(ctx)); err != nil {
		return s.afterSaving(err)
	}
	if s.run, _, err = d.Begin("sync", f.Path); err != nil {
		return err
	}
	s.run.AsWas = "Nothing changed, on either side."
	if s.Moved == nil {
		if err := s.fetch(ctx); err != nil {
			return s.afterSaving(err)
		}
	}
	if err := s.compare(ctx); err != nil || len(s.would) == 0 {
		return s.afterSaving(err)
	}
	if s.steps = append([]desk.Step{{Item: s.would[0]}}, s.steps...); !s.two.InOnly && !s.need.Sends(s.two) { // there is something to send then
		s.steps = append(s.steps, s.stepOut())
	}
	return nil
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
	if err := f.ReadSettings(ctx, d); err != nil {
		return nil, project.Project{}, err
	}
	f.ReadRemotes(d)
	p, err := project.ProjectOf(ctx, d, f)
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
		f.Detail("Saved before that: commit %.10s, here only.", s.saved.Commit)
	}
	for _, n := range s.rescued {
		f.Detail("Kept before that: rescue copy %d.", n)
	}
	return &f
}

// moved looks where the repository is now, when the host has none where it was.
func (s *Sync) moved(ctx context.Context, refused error) error {
	if !fault.Is(refused, fault.HostSaidNo) || s.tie.Account == nil {
		return refused
	}
	there, found := project.WentTo(ctx, s.desk, []project.Project{s.project})[s.project.Folder]
	if !found {
		return refused
	}
	s.Moved = &there
	return nil
}

// planIn tries the receiving out, aside, and makes its steps.
func (s *Sync) planIn(ctx context.Context) (err error) {
	done, err := s.try(ctx)
	defer func() { err = errors.Join(err, done()) }()
	if err != nil {
		return err
	}
	if s.Rewritten {
		out, err := s.folder.Repo.Do(ctx, "rev-list", "--count", s.was, "--not", s.stand.Theirs)
		if err == nil {
			s.lost, err = strconv.Atoi(out)
		}
		if err != nil {
			return git.Fault(err, "git cannot compare both sides")
		}
	}
	if s.apart != "" && len(s.ended()) == 0 {
		s.desk.Tell.Note("Note: replayed one by one, your commits clash in %s; both sides are merged instead.", text.Visible(s.apart))
	}
	way, err := s.inWay(ctx)
	if err != nil {
		return err
	}
	s.Open = worktree.HeldOpen(s.desk, s.folder, s.coming)
	if refs := s.overwritten(); len(refs) > 0 || len(way) > 0 || len(s.beside()) > 0 {
		s.steps = append(s.steps, s.stepRescue(refs, way))
	}
	if len(s.beside()) > 0 {
		s.steps = append(s.steps, s.stepBeside())
	}
	s.steps = append(s.steps, s.stepIn(way))
	return nil
}

// Asks tells why the plan is not done without a yes; empty when it is.
func (s *Sync) Asks() []string {
	var why []string
	if s.Moved != nil {
		why = append(why, fmt.Sprintf("The repository is called %s now.", s.Moved.Path()))
	}
	if s.Rewritten {
		why = append(why, fmt.Sprintf("The history of %s was rewritten on the host: %s that it held before %s no longer in it. What you have is kept as a rescue copy.", text.Visible(s.stand.Branch), text.Count(s.lost, "commit"), desk.IsAre(s.lost)))
	}
	if len(s.claimed) > 0 && s.need.Sends(s.two) && !s.two.InOnly {
		why = append(why, s.claimed...)
	}
	if len(s.Open) > 0 {
		why = append(why, "A running program has files open that would be replaced under it:")
		why = append(why, s.Open...)
	}
	return why
}

// Notes tell of a preview what both sides changed and what merges by itself.
func (s *Sync) Notes() []string {
	var notes []string
	if s.takenBack != "" {
		notes = append(notes, fmt.Sprintf("What was joined of %s before was taken back by commit %.10s, and does not come in again. To bring it in: %s", text.Visible(s.joining), s.takenBack, text.Command(s.words("undo", "commit", s.takenBack[:10])...)))
	}
	if len(s.mergedFiles) == 0 {
		return notes
	}
	return append(notes, "Both sides changed "+text.Excerpt(strings.Join(s.mergedFiles, ", "), 120)+"; "+text.Either(len(s.mergedFiles) == 1, "it merges by itself.", "they merge by themselves."))
}

// Items is the plan as it is shown; empty when both sides are in step.
func (s *Sync) Items() []plan.Item { return desk.Items(s.steps) }

// InStep reports whether there is nothing to do.
func (s *Sync) InStep() bool { return len(s.steps) == 0 }

// Saved is what was saved first, nil for nothing.
func (s *Sync) Saved() *history.Saved { return s.saved }

// Release gives a plan up that is not gone about.
func (s *Sync) Release() error {
	return errors.Join(s.run.Journal.Close(), s.held.Release())
}

// words is another command about the same project.
func (s *Sync) words(words ...string) []string {
	words = append([]string{"uncinate"}, words...)
	if g := s.options.Folder; g != "." && g != "" {
		words = append(words, "--folder", g)
	}
	return words
}
