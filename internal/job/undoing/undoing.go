// Package undoing takes back: changes that are not saved, commits, and a file or folder as it was
// once. Plan looks and says what goes; Do does it. All that is replaced or dropped is in a rescue
// copy first; what clashes with later commits is decided by settling.
package undoing

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/history"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// File is one file that is changed by an undo.
type File struct {
	Path string `json:"path"`
	From string `json:"from,omitempty" says:"of a renamed one: the path that it has again"`
	Does string `json:"does" says:"back: it is as it was then; returns: it was not there, and is again; goes: it was not there then, and is not again"`
}

// What becomes of a file.
const (
	Back    = "back"
	Returns = "returns"
	Goes    = "goes"
)

// Undone is what was taken back.
type Undone struct {
	Folder  string            `json:"folder"`
	Branch  string            `json:"branch,omitempty"`
	What    string            `json:"what" says:"changes, file or commit"`
	As      string            `json:"as,omitempty" says:"of changes and files: the commit of which they are now"`
	Taken   []Taken           `json:"commits,omitempty" says:"that were taken back"`
	Commit  string            `json:"commit,omitempty" says:"of commits: where the branch is now"`
	Made    bool              `json:"made,omitempty" says:"that is a new commit, which takes them back"`
	Stay    bool              `json:"changes_stay,omitempty" says:"what the commit changed is not saved now"`
	Files   []File            `json:"files,omitempty"`
	Left    []history.LeftOut `json:"left,omitempty" says:"what was left as it is, and why"`
	Decided []worktree.Ended  `json:"decided,omitempty" says:"the clashes, and how each was decided"`
	Rescued []int             `json:"rescued,omitempty" says:"numbers of the rescue copies that were kept"`
}

// Taken is a commit that is taken back.
type Taken struct {
	ID    string `json:"id"`
	Title string `json:"title"`
}

// Undo is one undo, planned.
type Undo struct {
	desk    *desk.Desk
	given   string
	folder  *project.Folder
	held    *files.Held
	run     *desk.Runner // of commits, as all of commit
	commit  *commitUndo
	steps   []desk.Step
	status  *git.Status
	staged  []worktree.Staged // what is in git's index alone
	alike   []worktree.Staged // what is staged, and in the folder too, as git says
	to      worktree.Restoring
	targets map[string]*target
	title   string // of the commit as of which files go back

	Out    *Undone
	Open   []string // files that a program has open and that would be replaced, each with its program
	Notes  []string
	Waited bool // it was asked about: what differs may be other by now
}

// target is a file that goes back, by its path.
type target struct {
	is, index worktree.Standing
	still     bool // only git's index is changed
	apart     bool // as git was told to leave it out of the folder
	differs   bool // what is in the folder is another, as git says
	from      string
}

// begin looks at a folder that an undo is to change.
func begin(ctx context.Context, d *desk.Desk, given, what string) (*Undo, error) {
	f, held, err := history.Quick(ctx, d, given)
	if err != nil {
		return nil, err
	}
	u := &Undo{desk: d, given: given, folder: f, held: held, targets: map[string]*target{}, Out: &Undone{Folder: f.Path, Branch: f.Branch, What: what}}
	if f.Head == "" {
		err = fault.New(fault.Decision, "there is no commit here yet to which anything could go back").Detail("Nothing changed.").
			Try("see what is here", desk.FolderCommand(given, "changes"))
	}
	if err == nil && what != "commit" {
		u.status, err = f.Repo.Status(ctx, false)
		err = git.Fault(err, "git cannot tell what changed")
	}
	if err != nil {
		return nil, errors.Join(err, held.Release())
	}
	return u, nil
}

// Items is the plan as it is shown.
func (u *Undo) Items() []plan.Item { return desk.Items(u.steps) }

// Nothing reports whether there is nothing to do.
func (u *Undo) Nothing() bool { return len(u.steps) == 0 }

// Release gives the plan up.
func (u *Undo) Release() error {
	if u.run != nil {
		return errors.Join(u.run.Journal.Close(), u.held.Release())
	}
	return u.held.Release()
}

// Title is that of the commit as of which files go back.
func (u *Undo) Title() string { return u.title }

// standing reads a mode and id as git writes them.
func standing(s string) worktree.Standing {
	mode, id, _ := strings.Cut(s, " ")
	return worktree.Standing{Mode: mode, ID: id}
}

// stage notes what is staged of a file and would be dropped: what is in the folder is another.
func (u *Undo) stage(e git.Entry) {
	if e.Untracked() || e.Submodule || e.Kind == "clashing" || strings.Contains(".D", e.XY[:1]) {
		return
	}
	s := standing(e.Staged)
	if s.ID == "" || strings.Trim(s.ID, "0") == "" {
		return
	}
	if one := (worktree.Staged{Path: e.Path, Mode: s.Mode, ID: s.ID}); e.XY[1] == '.' && !u.missing(e.Path) {
		u.alike = append(u.alike, one)
	} else {
		u.staged = append(u.staged, one)
	}
}

// unlike finds which files differ from what is staged of them although git says that they do not: it may
// have been told not to look (git-update-index documentation, "--assume-unchanged").
func (u *Undo) unlike(ctx context.Context) error {
	var ask []worktree.Staged
	var paths []string
	for _, s := range u.alike {
		if files.KindOf(u.at(s.Path)) != files.Regular || strings.ContainsAny(s.Path, "\n\"\\") {
			u.staged = append(u.staged, s)
			continue
		}
		ask = append(ask, s)
		paths = append(paths, s.Path)
	}
	if len(ask) == 0 {
		return nil
	}
	ids, err := git.HashPaths(ctx, u.folder.Repo.Run, git.Cmd{}, paths)
	if err != nil {
		return err
	}
	for i, s := range ask {
		if ids[i] != s.ID {
			u.staged = append(u.staged, s)
		}
	}
	return nil
}

func (u *Undo) at(p string) string { return filepath.Join(u.folder.Path, filepath.FromSlash(p)) }

func (u *Undo) missing(p string) bool { return files.KindOf(u.at(p)) == files.None }

// unmerged notes both sides of files that plain git could not merge: the index alone may have them.
func (u *Undo) unmerged(ctx context.Context, wanted func(string) bool) error {
	lines, err := u.folder.Repo.Lines(ctx, "ls-files", "-u", "-z")
	if err != nil {
		return git.Fault(err, "git's index cannot be read")
	}
	for _, line := range lines {
		about, p, _ := strings.Cut(line, "\t")
		x := strings.Fields(about) // mode, id and stage
		if len(x) != 3 || x[2] == "1" || x[0] == "160000" || !wanted(p) {
			continue
		}
		u.staged = append(u.staged, worktree.Staged{Path: p + "." + map[string]string{"2": "ours", "3": "theirs"}[x[2]], Mode: x[0], ID: x[1]})
	}
	return nil
}

// clear finds what is in the place of files that come back, and of the folders above them.
func (u *Undo) clear() error {
	var back []string
	for p, t := range u.targets {
		if t.is.ID != "" && !t.still {
			back = append(back, p)
		}
	}
	slices.Sort(back)
	seen := map[string]bool{}
	for _, p := range back {
		for i, c := range p {
			if c != '/' || seen[p[:i]] {
				continue
			}
			seen[p[:i]] = true
			if k := files.KindOf(u.at(p[:i])); k != files.Folder && k != files.None {
				u.gives(p[:i])
				break
			}
		}
		if files.KindOf(u.at(p)) != files.Folder {
			continue
		}
		below, inner, err := worktree.Below(u.folder, p)
		if err != nil {
			return err
		}
		if inner != "" {
			return fault.New(fault.Decision, "%s is a repository of its own, and is where %s was", text.Visible(inner), text.Visible(p)).Detail("Nothing changed.").
				Try("give it another name, then run this again", text.Command("mv", "--", u.at(p), u.at(p)+"-2"))
		}
		for _, q := range below {
			u.gives(q)
		}
	}
	return nil
}

// gives makes a file one that goes, unless it is known already.
func (u *Undo) gives(p string) {
	if u.targets[p] == nil {
		u.targets[p] = &target{}
	}
}

// settle makes the lists and the step out of the targets.
func (u *Undo) settle(ctx context.Context, before string) error {
	if err := errors.Join(u.clear(), u.unlike(ctx)); err != nil {
		return err
	}
	var paths, replaced []string
	for p := range u.targets {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	renamed := map[string]bool{}
	for _, t := range u.targets {
		renamed[t.from] = true
	}
	for _, p := range paths {
		t := u.targets[p]
		u.to.Files = append(u.to.Files, worktree.Restored{Path: p, Is: t.is, Index: t.index, Still: t.still, Apart: t.apart, Differs: t.differs})
		file := File{Path: p, From: t.from, Does: Back}
		kind := files.KindOf(u.at(p))
		there := kind != files.None && kind != files.Folder
		switch {
		case t.is.ID == "" && !t.still:
			file.Does = Goes
		case !there && !t.still:
			file.Does = Returns
		}
		if there {
			if !t.still {
				replaced = append(replaced, p)
			}
		} else if file.Does == Goes && t.from == "" {
			continue // it is gone already; only git's index has it
		}
		if !renamed[p] || t.is.ID == "" {
			u.Out.Files = append(u.Out.Files, file)
		}
	}
	u.Open = worktree.HeldOpen(u.desk, u.folder, replaced)
	if len(u.to.Files) == 0 {
		return nil
	}
	u.to.Before, u.to.Indexes = before, true
	for _, said := range u.sentences() {
		u.steps = append(u.steps, desk.Step{Item: plan.Item{ID: said.id, Place: plan.Here, Sentence: said.words}})
	}
	return nil
}

// mostNamed is how many files a step of a plan names.
const mostNamed = 12

type said struct{ id, words string }

// sentences say what is done to files.
func (u *Undo) sentences() []said {
	names := map[string][]string{}
	n := 0
	for _, f := range u.Out.Files {
		name := text.Visible(f.Path)
		if f.From != "" {
			names["renamed"] = append(names["renamed"], name+" to "+text.Visible(f.From))
		} else {
			names[f.Does] = append(names[f.Does], name)
		}
		if f.Does != Returns {
			n++
		}
	}
	now := text.Either(n == 1, "it is", "they are")
	out := []said{{"keep", fmt.Sprintf("Keep a rescue copy of %s as %s now", text.Count(n, "file"), now)}}
	if n == 0 {
		out[0].words = "Keep a rescue copy, which knows what was not there"
	}
	for _, x := range []said{{Back, "Put %s back as in the commit"}, {"renamed", "Rename %s back"}, {Returns, "Bring back %s that " + text.Either(len(names[Returns]) == 1, "was", "were") + " deleted"}, {Goes, "Take away %s that the commit does not have"}} {
		all := names[x.id]
		if len(all) == 0 {
			continue
		}
		shown := strings.Join(all[:min(mostNamed, len(all))], ", ")
		if len(all) > mostNamed {
			shown += fmt.Sprintf(" and %s more", text.Number(len(all)-mostNamed))
		}
		out = append(out, said{x.id, fmt.Sprintf(x.words, text.Count(len(all), "file")) + ": " + shown})
	}
	if len(out) == 1 {
		out = []said{{"index", fmt.Sprintf("Take out of git's index what is staged of %s and not in the folder", text.Count(len(u.to.Files), "file"))}}
	}
	return out
}

// restore does it.
func (u *Undo) restore(ctx context.Context) error {
	if u.Waited {
		now, err := u.folder.Repo.Status(ctx, false)
		if err != nil {
			return git.Fault(err, "git cannot tell what changed")
		}
		if !reflect.DeepEqual(now.Entries, u.status.Entries) {
			return fault.New(fault.Decision, "other files differ now than when the plan was shown; nothing was undone").
				Try("see what differs", desk.FolderCommand(u.given, "changes"))
		}
	}
	if len(u.staged) > 0 {
		r, err := worktree.RescuerOf(u.desk, u.folder)
		if err != nil {
			return err
		}
		n, err := r.KeepAll(ctx, worktree.Kept{Before: u.to.Before + ", of what is staged and not in the folder", Staged: u.staged})
		if err != nil {
			return err
		}
		u.Out.Rescued = append(u.Out.Rescued, n)
	}
	n, err := worktree.Restore(ctx, u.desk, u.folder, u.to)
	u.Out.Rescued = append(n, u.Out.Rescued...)
	return err
}

// Do carries the plan out.
func (u *Undo) Do(ctx context.Context) (*Undone, error) {
	if u.run != nil {
		err := u.commits(ctx)
		return u.Out, errors.Join(err, u.held.Release())
	}
	if len(u.steps) > 0 {
		if err := u.restore(ctx); err != nil {
			return nil, errors.Join(err, u.held.Release())
		}
	}
	for _, s := range u.steps {
		u.desk.Tell.Step(s.Item, false)
	}
	return u.Out, u.held.Release()
}
