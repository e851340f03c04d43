// Package attach is the main job: a folder and a hosted repository are tied to each other. Plan,
// PlanClone and PlanDetach look and make the plan, which is shown and then done by Do. Its parts
// are rooms of their own: target (where to, and by whom), join (two sides that become one), move
// (to another host) and contents (files that are written). Each step can be put back.
package attach

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/attach/contents"
	"uncinate/internal/job/attach/join"
	"uncinate/internal/job/attach/move"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/job/surveying"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Attach is the main job on one folder: looked at and planned, to be shown, then done.
type Attach struct {
	*target.Target
	held  *files.Held // the folder's lock
	joins *join.Join
	moves *move.Move
	own   *contents.Contents
	given target.Options  // as they were given, without what is proposed or was chosen before
	let   []surveying.Let // what the person lets through now
	there []string        // commits that the host holds and that are here too
	usual string          // what the person calls a first branch
	steps []desk.Step
}

// Begin makes an attach of which nothing is known yet: its Checks find out.
func Begin(d *desk.Desk, o target.Options) *Attach {
	t := &target.Target{Work: target.Work{Desk: d, Options: o}}
	return &Attach{Target: t, joins: &join.Join{Target: t}, moves: &move.Move{Target: t}, own: &contents.Contents{Target: t}}
}

// Attached is what came of it.
type Attached struct {
	Folder        string           `json:"folder"`
	Host          string           `json:"host,omitempty"`
	Owner         string           `json:"owner,omitempty"`
	Name          string           `json:"name,omitempty"`
	Remote        string           `json:"remote" says:"git's name for it here"`
	Transport     string           `json:"transport" says:"https, ssh, http or file"`
	Page          string           `json:"page,omitempty"`
	Address       string           `json:"address"`
	Account       string           `json:"account,omitempty"`
	Visibility    string           `json:"visibility,omitempty"`
	Branch        string           `json:"branch"`
	Default       string           `json:"default_branch,omitempty" says:"the host's default branch, as it told at the end"`
	Commit        string           `json:"commit,omitempty"` // empty: nothing to send yet
	Files         int              `json:"files"`            // in the commit
	Bytes         int64            `json:"bytes"`            //
	Stays         []surveying.Stay `json:"stays,omitempty"`
	Nested        []string         `json:"nested,omitempty"` // folders with a repository of their own
	OtherBranches []string         `json:"other_branches,omitempty"`
	OtherTags     []string         `json:"other_tags,omitempty" says:"tags that are only here"`
	Verified      bool             `json:"verified"`
	Changed       bool             `json:"changed"` // false: all was done before
	Sent          bool             `json:"sent" says:"commits were sent now"`
	Large         int              `json:"large,omitempty" says:"files in large-file storage"`
	Joined        *join.Result     `json:"joined,omitempty" says:"how the folder and the work that was there became one"`
}

// Plan looks at the folder, git and the host, and makes the plan.
func Plan(ctx context.Context, d *desk.Desk, o target.Options) (*Attach, error) {
	where, err := project.FindFolder(d, o.Folder)
	if err != nil {
		return nil, err
	}
	if o.Clash != "" && !joining.Valid(o.Clash) {
		return nil, fault.New(fault.Usage, "clashing files are decided by mine, theirs or both, not by %s", text.Quote(o.Clash))
	}
	if o.To, err = addressOfCopy(ctx, d, o.To); err != nil {
		return nil, err
	}
	a := Begin(d, o)
	a.given = o
	if !o.Preview {
		if err := project.NotAProject(d, where); err != nil {
			return nil, err
		}
		if a.held, err = d.Alone(ctx, where); err != nil {
			return nil, err
		}
	}
	failed := func(err error) (*Attach, error) { return nil, errors.Join(err, a.Release()) }
	for _, c := range a.Checks(where) {
		if err := c.Run(ctx); err != nil {
			return failed(err)
		}
	}
	if err := a.firstCommitOnly(ctx); err != nil {
		return failed(err)
	}
	if a.Create && a.ByPush() && a.Folder.Head == "" && len(a.Travel.Up) == 0 && !o.Readme && o.Licence == "" {
		return failed(a.NothingToPush())
	}
	if err := a.prepare(ctx); err != nil {
		return failed(err)
	}
	return a, nil
}

// Close takes away what was brought aside for the look.
func (a *Attach) Close() error { return a.joins.Close() }

// Release gives the plan up.
func (a *Attach) Release() error { return errors.Join(a.Close(), a.held.Release()) }

// addressOfCopy lets a copy that was cloned elsewhere name the repository it came from: a
// path that begins with a dot or a slash is one.
func addressOfCopy(ctx context.Context, d *desk.Desk, to string) (string, error) {
	if !strings.HasPrefix(to, "./") && !strings.HasPrefix(to, "../") && !filepath.IsAbs(to) {
		return to, nil
	}
	where, g, err := project.FindWithGit(ctx, d, to)
	if err != nil {
		return "", err
	}
	at, err := g.In(where).Do(ctx, "config", "--local", "--get", "remote.origin.url")
	if err != nil {
		return "", fault.New(fault.Decision, "%s is not a copy of a hosted repository: it has no remote origin", text.Visible(where))
	}
	return at, nil
}

// check is one look before the plan: what it is about, and which looks must have gone
// well before it.
type check struct {
	What  string
	After []string
	Run   func(ctx context.Context) error
}

// Checks are the looks in their order; attach stops at the first that fails, and
// ready tells of all.
func (a *Attach) Checks(where string) []check {
	return []check{
		{"folder", nil, func(ctx context.Context) error { return a.lookAt(ctx, where) }},
		{"repository", []string{"folder"}, a.ChooseTarget},
		{"name and e-mail", []string{"folder", "repository"}, a.ChooseSigner},
		{"files", []string{"folder"}, a.checkFiles},
		{"address", []string{"folder", "repository"}, a.CheckAddress},
		{"history", []string{"folder", "repository", "files", "address"}, a.checkHistory},
		{"commits", []string{"folder", "repository", "address", "history"}, a.checkCommits},
	}
}

// lookAt looks at the folder, and at what an interrupted run left of its choices.
func (a *Attach) lookAt(ctx context.Context, where string) error {
	err := project.NotAProject(a.Desk, where)
	if err != nil {
		return err
	}
	if a.Folder, err = project.Look(ctx, a.Desk, where); err != nil {
		return err
	}
	if err := a.ownGit(ctx); err != nil {
		return err
	}
	if a.Folder.IsRepo {
		if err := a.Folder.Sound(); err != nil {
			return err
		}
	}
	if err := a.followMove(); err != nil {
		return err
	}
	if a.held != nil {
		if _, err := worktree.Heal(ctx, a.Desk, a.Folder); err != nil {
			return err
		}
	}
	if a.Run, a.Resumed, err = a.Desk.Begin("attach", a.Folder.Path); err != nil {
		return err
	}
	if a.Options, err = a.Recall(a.Options); err != nil {
		return err
	}
	if a.let, err = a.Lets(); err != nil {
		return err
	}
	a.Project, _, err = project.EntryOf(a.Desk, a.Folder.Path, a.Options.Remote)
	if o := a.Options; err == nil && o.Second && o.Remote == "origin" {
		return fault.New(fault.Usage, "a copy needs a name of its own beside origin").Try("", a.Again("--copy", "--remote", "copy"))
	}
	return err
}

// ownGit refuses a folder whose repository is elsewhere: a linked work tree, or a
// submodule (gitrepository-layout documentation).
func (a *Attach) ownGit(ctx context.Context) error {
	if !a.Folder.IsRepo {
		return nil
	}
	if files.KindOf(filepath.Join(a.Folder.Path, ".git")) == files.Folder {
		return nil
	}
	common, err := a.Folder.Repo.Do(ctx, "rev-parse", "--path-format=absolute", "--git-common-dir")
	if err != nil {
		return git.Fault(err, "git cannot work with the repository in %s", text.Visible(a.Folder.Path))
	}
	if filepath.Base(common) == ".git" {
		return fault.New(fault.Decision, "%s is a linked work tree of another folder's repository; attach it there: that holds for both", text.Visible(a.Folder.Path)).
			Try("attach that one", text.Command("uncinate", "attach", filepath.Dir(common)))
	}
	return fault.New(fault.Decision, "%s is a part (a submodule) of another project, and its repository is in %s", text.Visible(a.Folder.Path), text.Visible(common)).
		Try("bring what it follows onto this machine by itself, and attach that", text.Command("uncinate", "clone", "ADDRESS"))
}

// mostWaits is how many seconds are waited for files that are being written.
const mostWaits = 5

// onlyChanging reports whether files that are being written are all that stops.
func onlyChanging(found []survey.Finding) bool {
	changing := false
	for _, x := range found {
		if x.Weight == survey.Stop && x.About != "changing" {
			return false
		}
		changing = changing || x.Weight == survey.Stop
	}
	return changing
}

// checkFiles decides what travels with a first commit, and refuses what must not.
func (a *Attach) checkFiles(ctx context.Context) (err error) {
	if a.Folder.Head != "" {
		return nil
	}
	if inside := project.ProjectsIn(a.Folder.Path); len(inside) > 1 && !a.Resumed {
		return fault.New(fault.Decision, "%s holds %s and no file of its own: one of them may be meant", text.Visible(a.Folder.Path), text.Count(len(inside), "repository")).
			Try("attach that one", text.Command("uncinate", "attach", filepath.Join(a.Folder.Path, inside[0]))).
			Try("if the whole folder is meant, make it a repository first", text.Command("git", "-C", a.Folder.Path, "init"))
	}
	var limits survey.Limits
	if a.Login != nil {
		limits = hosts.LimitsOf(a.Login.Host)
	}
	choice := survey.Choice{Only: a.Options.Only, Except: a.Options.Except}
	for tries := 0; ; tries++ {
		if a.Travel, err = surveying.Travels(ctx, a.Desk, a.Folder, choice, limits, a.let); err != nil {
			return err
		}
		if a.Options.Preview || tries == mostWaits || !onlyChanging(a.Travel.Findings) {
			break
		}
		if tries == 0 {
			a.Desk.Tell.Note("Note: files here are being written; waiting for the program that writes them.")
		}
		if err := a.Desk.Pause(ctx, time.Second); err != nil {
			return err
		}
	}
	if stored := survey.Hits(a.Options.Large); len(a.Options.Large) > 0 {
		a.Travel.Findings = slices.DeleteFunc(a.Travel.Findings, func(x survey.Finding) bool { return x.About == "large" && x.Path != "" && stored(x.Path) })
	}
	if err := surveying.CheckFindings(a.Travel.Findings, a.Options.Folder, a.Again); err != nil {
		return err
	}
	for _, x := range a.Travel.Findings {
		if x.Weight == survey.Look {
			a.Notes = append(a.Notes, surveying.Sentence(x)+".")
		}
	}
	if more := len(a.Notes) - 6; more > 0 {
		a.Notes = append(a.Notes[:6], fmt.Sprintf("There are %d more things to look at: %s", more, surveying.SurveyCommand(a.Options.Folder)))
	}
	return nil
}

// prepare makes the plan.
func (a *Attach) prepare(ctx context.Context) error {
	if err := a.own.PlanFirstFiles(); err != nil {
		return err
	}
	if a.Former != "" {
		if err := a.CheckMove(); err != nil {
			return err
		}
	}
	if err := a.own.PlanLarge(ctx, a.joins.Way.Holds); err != nil {
		return err
	}
	if err := a.own.NotePublic(ctx); err != nil {
		return err
	}
	if !a.Options.Preview {
		if err := surveying.KeepLet(ctx, a.Desk, a.Folder.Path, a.let); err != nil {
			return err
		}
	}
	a.usual = a.usualBranch(ctx)
	a.steps = a.plan()
	if a.Resumed {
		return nil
	}
	stands, err := a.joins.Standing(ctx)
	if err != nil {
		return err
	}
	return a.Stands(stands)
}

// followMove finds the journal of an attach that was cut off in this very project when
// it lay elsewhere: the old folder is gone, and the commit that it made is this one.
func (a *Attach) followMove() error {
	if a.Folder.Head == "" || a.held == nil {
		return nil
	}
	orphans, err := a.Desk.Home.Orphans("attach")
	if err != nil {
		return err
	}
	for _, o := range orphans {
		if target.FactCommit.In(o.State) == a.Folder.Head {
			return a.Desk.Home.Adopt(o, a.Folder.Path)
		}
	}
	return nil
}

// Items is the plan as it is shown.
func (a *Attach) Items() []plan.Item { return desk.Items(a.steps) }

// checkHistory makes sure that what the hosted repository holds is nothing, or a
// part of what is here.
func (a *Attach) checkHistory(ctx context.Context) error {
	a.Branch = a.Folder.Branch
	if a.Create {
		return nil
	}
	refs, err := a.RemoteRefs(ctx)
	if err != nil {
		return err
	}
	a.Branch = a.Folder.Branch
	format := refs.Format
	if refs.Empty() {
		a.Vacant = true
		a.Unborn, format = project.Vacant(ctx, a.Desk, a.Tie, refs, a.OwnFormat() == "sha256")
	}
	if err := a.CheckFormat(format); err != nil {
		return err
	}
	if refs.Empty() {
		if a.Unborn != "" && a.Folder.Branch != "" && a.Folder.Branch != a.Unborn && a.Login == nil {
			a.Notes = append(a.Notes, "The first branch there is to be called "+text.Visible(a.Unborn)+", and yours is "+text.Visible(a.Folder.Branch)+": whoever clones it gets an empty folder, until the default branch there is "+text.Visible(a.Folder.Branch)+
				". To call yours so first: "+text.Command("uncinate", "branch", "rename", a.Folder.Branch, a.Unborn, "--here", "--folder", a.Folder.Path))
		}
		return nil
	}
	for i, b := range refs.Branches() {
		if a.Folder.Head == "" || i == 100 { // the others are only not left out of what is looked into
			break
		}
		if _, err := a.Folder.Repo.Do(ctx, "cat-file", "-e", refs.Branch(b)+"^{commit}"); err == nil {
			a.there = append(a.there, refs.Branch(b))
		}
	}
	if join.FactWay.Known(a.Run) {
		return a.joins.Plan(ctx, refs)
	}
	tip := refs.Branch(a.Branch)
	if a.Folder.Head != "" {
		for _, id := range []string{tip, refs.IDs["HEAD"]} {
			if id == "" {
				continue
			}
			if _, err := a.Folder.Repo.Do(ctx, "merge-base", "--is-ancestor", id, a.Folder.Head); err == nil {
				return nil
			}
		}
	}
	return a.joins.Plan(ctx, refs)
}
