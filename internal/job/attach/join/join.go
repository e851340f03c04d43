// Package join makes the folder and the work that the host holds already one, without rewriting a
// commit of either: by a commit on top of theirs, by a merge, or by going ahead. Plan tries it out
// aside; the steps do it; clashing files are decided as the person said, and both are kept.
package join

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Joining a project to a hosted repository that holds work already. Nothing is
// rewritten: without commits here the first one is made on top of what is there; with
// commits here both histories become parents of one merge commit. What only one side
// has is kept, equal files are one, ignore rules are put together, and where both sides
// hold something else the person decides.

// The ways of joining.
const (
	Onto  = "onto"  // there are no commits here
	merge = "merge" // both sides have commits that the other has not
	ahead = "ahead" // the host has all that is here, and more
)

// FactWay is how they are joined; the others are what its steps note.
var (
	FactWay      = desk.NewFact[*Way]("join")
	factTracking = desk.NewFact[bool]("tracking") // git knew nothing of the remote's branches before
	factJoined   = desk.NewFact[string]("joined") // the commit in which both meet
	factLaid     = desk.NewFact[bool]("laid")     // files that are only there are here
)

// Way is what an attach does to bring two sides together. It is kept in the journal
// from the first of its steps on.
type Way struct {
	Mode    string             `json:"mode"`
	Branch  string             `json:"branch"` // there, and here from then on
	Was     string             `json:"was"`    // the branch that is checked out here
	Tip     string             `json:"tip"`    // the commit there
	From    string             `json:"from"`   // the commit here; "" for none
	Commits int                `json:"commits"`
	Added   []joining.Entry    `json:"added"` // only there; written here
	Decided []worktree.Decided `json:"decided"`
	Rules   string             `json:"rules"` // their ignore rules at the top; "" where ours are the same, or there are none
	Same    int                `json:"same"`
	Folders []string           `json:"folders"` // that have to be made for what is written
}

// asideDir is where what the host holds is looked at, away from the project.
func (j *Join) asideDir() string {
	return filepath.Join(j.Desk.Home.State, "aside", files.Short(j.Folder.Path)+".git")
}

// Close removes what was received only to be looked at.
func (j *Join) Close() error {
	if j == nil || j.Folder == nil {
		return nil
	}
	return files.RemoveAll(j.asideDir())
}

// Plan looks at what the host holds, and decides how the two sides become one.
// Nothing in the project is touched.
func (joins *Join) Plan(ctx context.Context, refs web.Refs) error {
	j := &Way{Was: joins.Folder.Branch, From: joins.Folder.Head}
	if FactWay.Known(joins.Run) {
		j = FactWay.Of(joins.Run)
		joins.Way, joins.Branch = j, j.Branch
		if refs.Branch(j.Branch) != j.Tip && refs.Branch(j.Branch) != joins.Folder.Head {
			return fault.New(fault.Decision, "%s was pushed to since this attach was cut off", joins.Tie.Address.String()).
				Try("put back what was begun, then attach again", text.Command("uncinate", "detach", joins.Folder.Path))
		}
		return nil
	}
	if j.Branch = j.Was; refs.Branch(j.Was) == "" {
		if j.Branch = joins.mainBranch(refs); j.Branch == "" {
			return fault.New(fault.Decision, "%s has several branches and says of none that it is the main one: %s", joins.Tie.Address.String(), text.Excerpt(strings.Join(refs.Branches(), ", "), 100)).
				Try("give the branch here the name of the right one", text.Command("git", "-C", joins.Folder.Path, "branch", "-m", "NAME"))
		}
		if slices.Contains(joins.Folder.Branches, j.Branch) && joins.Folder.Head != "" {
			return fault.New(fault.Decision, "the main branch there is %s, and here is a branch of that name too, which is not the one checked out", text.Quote(j.Branch)).
				Try("join that one", text.Command("git", "-C", joins.Folder.Path, "switch", j.Branch))
		}
	}
	j.Tip = refs.Branch(j.Branch)
	aside, err := joins.bringAside(ctx)
	if err != nil {
		return err
	}
	count, err := aside.Do(ctx, "rev-list", "--count", j.Tip)
	if err != nil {
		return git.Fault(err, "what %s holds cannot be read", joins.Tie.Address.String())
	}
	if _, err := fmt.Sscan(count, &j.Commits); err != nil {
		return fault.New(fault.Failed, "git counts commits oddly: %s", text.Excerpt(count, 40))
	}
	joins.Way, joins.Branch = j, j.Branch
	if j.From == "" {
		return joins.joinFiles(ctx, aside)
	}
	return joins.joinHistories(ctx, aside)
}

// mainBranch is the branch of the hosted repository that is joined: its default one,
// else the only one.
func (j *Join) mainBranch(refs web.Refs) string {
	for _, b := range []string{refs.Head, j.Repository.DefaultBranch} {
		if b != "" && refs.Branch(b) != "" {
			return b
		}
	}
	if all := refs.Branches(); len(all) == 1 {
		return all[0]
	}
	return ""
}

// bringAside brings what the host holds into a repository of its own, which borrows
// the project's objects, so that both can be held together.
func (j *Join) bringAside(ctx context.Context) (*git.Repo, error) {
	dir, objects := j.asideDir(), ""
	if j.Folder.IsRepo {
		var err error
		if objects, err = j.Folder.Repo.Do(ctx, "rev-parse", "--git-path", "objects"); err != nil {
			return nil, git.Fault(err, "git cannot work with the repository in %s", text.Visible(j.Folder.Path))
		}
		if !filepath.IsAbs(objects) {
			objects = filepath.Join(j.Folder.Path, objects)
		}
	}
	g := j.Folder.Repo.Git
	aside, err := g.Store(ctx, dir, objects, j.Format)
	if err != nil {
		return nil, git.Fault(err, "git cannot make a repository in %s", text.Visible(dir))
	}
	if err := j.Tie.WriteInclude(ctx); err != nil {
		return nil, err
	}
	_, err = aside.Works().Run(ctx, git.Cmd{Args: []string{"fetch", "--progress", "--no-tags", "--no-auto-maintenance", "--no-write-fetch-head", "--", j.Tie.Address.String(), "+refs/heads/*:refs/heads/*"},
		Config: j.Tie.Config(), Stall: git.Stall, Watch: project.Watch(j.Desk, "Looking at what the host holds", "Receiving objects")})
	j.Desk.Tell.Progress("Looking at what the host holds", 0, 0, "")
	if err != nil {
		return nil, project.Diagnose(ctx, j.Desk, j.Tie.Address, err)
	}
	return aside, nil
}

// joinFiles plans the first commit on top of what is there: the union of the files
// that would go up and those that are there.
func (joins *Join) joinFiles(ctx context.Context, aside *git.Repo) error {
	j := joins.Way
	j.Mode = Onto
	theirs, err := worktree.TreeOf(ctx, aside, j.Tip)
	if err != nil {
		return err
	}
	mine, err := joins.entriesOf(ctx, theirs)
	if err != nil {
		return err
	}
	u := joining.Union(mine, theirs)
	if err := joins.blocked(u.Blocked); err != nil {
		return err
	}
	j.Added, j.Same = u.Added, u.Same
	for _, c := range u.Clashes {
		if c.Path == ".gitignore" {
			j.Rules, err = worktree.RulesOf(ctx, aside, c.Theirs.ID)
		}
	}
	if i := slices.IndexFunc(j.Added, func(e joining.Entry) bool { return e.Path == ".gitignore" }); i >= 0 && len(joins.Travel.Rules) > 0 {
		// Ours is only about to be written.
		j.Rules, err = worktree.RulesOf(ctx, aside, j.Added[i].ID)
		j.Added = slices.Delete(slices.Clone(j.Added), i, i+1)
	}
	if err != nil {
		return err
	}
	if err := joins.decide(slices.DeleteFunc(u.Clashes, func(c joining.Clash) bool { return c.Path == ".gitignore" })); err != nil {
		return err
	}
	met := map[string]bool{}
	for _, e := range j.Added {
		for i := range e.Path {
			if f := e.Path[:i]; e.Path[i] == '/' && !met[f] {
				if met[f] = true; files.Missing(joins.At(f)) {
					j.Folders = append(j.Folders, f)
				}
			}
		}
	}
	return nil
}

// entriesOf gives the files that would go up as a tree's entries. Only those are
// hashed whose path is there too: of the others it is enough that they are here.
func (j *Join) entriesOf(ctx context.Context, theirs []joining.Entry) ([]joining.Entry, error) {
	there := map[string]bool{}
	for _, t := range theirs {
		there[t.Path] = true
	}
	var out []joining.Entry
	var hash []string
	var places []int // of those in out
	for _, f := range j.Travel.Files {
		e := joining.Entry{Mode: "100644", Path: f.Path}
		switch {
		case f.Target != "":
			e.Mode = "120000"
		case f.Exec:
			e.Mode = "100755"
		}
		if there[f.Path] {
			if f.Target != "" {
				var err error
				if e.ID, err = j.Folder.Repo.Hash(ctx, strings.NewReader(f.Target), false); err != nil {
					return nil, git.Fault(err, "git cannot hash a link")
				}
			} else {
				hash, places = append(hash, f.Path), append(places, len(out))
			}
		}
		out = append(out, e)
	}
	if len(hash) == 0 {
		return out, nil
	}
	for _, p := range hash {
		if strings.ContainsAny(p, "\n\"") { // hash-object reads a path a line
			return nil, fault.New(fault.Refused, "%s has a line end or a quote in its name, so that it cannot be held against the one there", text.Quote(p))
		}
	}
	list, err := git.HashPaths(ctx, j.Folder.Repo.Run, git.Cmd{Dir: j.Folder.Path}, hash)
	if err != nil {
		return nil, err
	}
	for n, i := range places {
		out[i].ID = list[n]
	}
	return out, nil
}

func (j *Join) blocked(paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	return fault.New(fault.Decision, "where one side has a file the other has a folder: %s", text.Excerpt(strings.Join(paths, ", "), 120)).
		Detail("Nothing was changed, on either side.").
		Try("give yours another name", text.Command("mv", "--", filepath.Join(j.Folder.Path, firstPart(paths[0])), filepath.Join(j.Folder.Path, firstPart(paths[0])+"-2")))
}

func firstPart(p string) string {
	first, _, _ := strings.Cut(p, "/")
	return first
}

// decide settles clashes as the person said, or asks.
func (j *Join) decide(clashes []joining.Clash) error {
	way := j.Options.Clash
	if len(clashes) > 0 && way == "" {
		f := fault.New(fault.Decision, "%s between both sides", text.Either(len(clashes) == 1, "1 file differs", text.Count(len(clashes), "file")+" differ"))
		u := &worktree.Undecided{Fault: f}
		for _, c := range clashes {
			u.Paths = append(u.Paths, c.Path)
		}
		desk.FirstOf(f, desk.Visible(u.Paths))
		f.Detail("Nothing was changed, on either side.")
		args := append(j.ToArgs(), "--clash")
		f.Try("use yours; theirs stays in the history", j.Again(append(args, "mine")...))
		f.Try("or use theirs; yours is put beside it or stays in the history", j.Again(append(args, "theirs")...))
		f.Try("or use theirs, and put yours beside it", j.Again(append(args, "both")...))
		return u
	}
	machine, err := j.Desk.Machine()
	if err != nil {
		machine = "here"
	}
	for _, c := range clashes {
		d := worktree.Decided{Path: c.Path, Mine: c.Mine, Theirs: c.Theirs, Way: way}
		taken := func(p string) bool { return !files.Missing(j.At(p)) }
		switch {
		case joining.TakesTheirs(way, c.Theirs) && j.Way.Mode == Onto, way == joining.Both && c.Theirs.ID != "" && c.Mine.ID != "":
			d.Beside = joining.Beside(c.Path, machine, taken)
		}
		j.Way.Decided = append(j.Way.Decided, d)
	}
	return nil
}

// joinHistories plans how two histories become one, with a merge tried out aside.
func (joins *Join) joinHistories(ctx context.Context, aside *git.Repo) error {
	j := joins.Way
	if _, err := aside.Do(ctx, "merge-base", "--is-ancestor", j.From, j.Tip); err == nil {
		j.Mode = ahead
		return joins.joinChanges(ctx, aside, j.Tip)
	}
	j.Mode = merge
	tree, clashes, err := worktree.MergeTrees(ctx, aside, j.From, j.Tip)
	if err != nil {
		return err
	}
	var rest []joining.Clash
	for _, c := range clashes {
		if c.Path == ".gitignore" && c.Mine.ID != "" && c.Theirs.ID != "" {
			if j.Rules, err = worktree.RulesOf(ctx, aside, c.Theirs.ID); err != nil {
				return err
			}
			continue
		}
		rest = append(rest, c)
	}
	if err := joins.decide(rest); err != nil {
		return err
	}
	theirs, err := worktree.TreeOf(ctx, aside, j.Tip)
	if err != nil {
		return err
	}
	mine, err := worktree.TreeOf(ctx, aside, j.From)
	if err != nil {
		return err
	}
	u := joining.Union(mine, theirs)
	j.Added, j.Same = u.Added, u.Same
	return joins.joinChanges(ctx, aside, tree)
}

// joinChanges makes sure that what changes in the folder meets no work that is not
// saved.
func (j *Join) joinChanges(ctx context.Context, aside *git.Repo, tree string) error {
	coming, err := aside.Lines(ctx, "diff-tree", "-r", "-z", "--name-only", "--no-renames", j.Way.From+"^{tree}", tree+"^{tree}")
	if err != nil {
		return git.Fault(err, "git cannot compare the two sides")
	}
	changes := map[string]bool{}
	for _, p := range coming {
		changes[p] = true
	}
	for _, d := range j.Way.Decided {
		changes[d.Path] = joining.TakesTheirs(d.Way, d.Theirs)
	}
	if j.Way.Rules != "" {
		changes[".gitignore"] = true
	}
	unsaved, err := j.Folder.Repo.Lines(ctx, "diff-index", "--ignore-submodules=dirty", "-z", "--name-only", "HEAD")
	if err != nil {
		return git.Fault(err, "git cannot tell what is changed here")
	}
	tracked, err := j.Folder.Repo.Tracked(ctx)
	if err != nil {
		return git.Fault(err, "git cannot list the files")
	}
	known := map[string]bool{}
	for _, p := range tracked {
		known[p] = true
	}
	bad := []string{}
	for _, p := range unsaved {
		if changes[p] {
			bad = append(bad, p)
		}
	}
	for _, p := range coming {
		if !known[p] && !files.Missing(j.At(p)) {
			bad = append(bad, p)
		}
	}
	if len(bad) == 0 {
		return nil
	}
	return worktree.WrittenOver(bad).Detail("Nothing was changed, on either side.").
		Try("save your changes first", desk.FolderCommand(j.Options.Folder, "save", "--message", "What was done"))
}

// Join makes the folder and what the host holds already one.
type Join struct {
	*target.Target
	Way *Way // nil where the host holds nothing that is not here
}
