package worktree

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Files that go back to what they were go through the same gate as those of commits that come in.
// What stood there is aside then, and all of it goes into one rescue copy, which knows what was put
// in its place.

// Restored is a path of the folder, and what it becomes.
type Restored struct {
	Path    string
	Is      Standing // what is to stand there; without an id nothing
	Index   Standing // what git's index is to hold there, where that is changed at all
	Was     Standing // what stands, where git is known to have it
	Still   bool     // the folder is left as it is there: only the index is changed
	Differs bool     // git says that what stands is another: they are not compared again
	Apart   bool     // then: git was told to leave it out of the folder, and is again
}

// Restoring is what is done to a folder.
type Restoring struct {
	Before  string // what is done, as rescue copies say it
	Files   []Restored
	Indexes bool // git's index is changed too, and what stood is kept as a rescue copy
}

// Restore makes files of the folder what they were, and gives the numbers of the rescue copies in
// which what stood is kept. What was staged and is not in the folder callers kept before.
func Restore(ctx context.Context, d *desk.Desk, f *project.Folder, to Restoring) ([]int, error) {
	return restore(ctx, d, f, to, func(g *gate) error { return g.checkOut(ctx) })
}

func restore(ctx context.Context, d *desk.Desk, f *project.Folder, to Restoring, lay func(*gate) error) ([]int, error) {
	g, err := gateOf(d, f)
	if err != nil {
		return nil, err
	}
	if !files.Missing(g.at) {
		numbers, err := Heal(ctx, d, f)
		return numbers, errors.Join(err, g.meanwhile())
	}
	head := f.Head
	if head == "" {
		if head, err = EmptyTree(ctx, f); err != nil {
			return nil, err
		}
	}
	g.said.Laying = Laying{Before: to.Before, From: head, To: head, Branch: f.Branch, Head: f.Head}
	g.said.Restoring = &to
	return g.through(ctx, to.changes(), func(ctx context.Context, all []change) error {
		return g.stageBy(ctx, all, func(ctx context.Context, index string) error {
			if to.Indexes {
				if err := g.reindex(ctx, index); err != nil {
					return err
				}
			}
			return lay(g)
		})
	})
}

// changes are those of the files.
func (to *Restoring) changes() []change {
	var all []change
	for _, x := range to.Files {
		if x.Still {
			continue
		}
		c := change{path: x.Path, oldMode: x.Was.Mode, newMode: x.Is.Mode, oldID: x.Was.ID, newID: x.Is.ID}
		if x.Is.ID == "" {
			c.newMode = "000000"
		}
		if x.Differs && c.oldID == "" {
			c.oldID = differs
		}
		all = append(all, c)
	}
	slices.SortFunc(all, func(a, b change) int { return strings.Compare(a.path, b.path) })
	return all
}

// differs stands for the id of a file of which only this is known.
const differs = "differs"

// check refuses what no run of ours wrote.
func (to *Restoring) check() bool {
	fits := func(x Standing) bool {
		return x == Standing{} || git.IsID(x.ID) && slices.Contains([]string{"100644", "100755", "120000", "160000"}, x.Mode)
	}
	for _, x := range to.Files {
		if !inFolder(x.Path) || !fits(x.Is) || !fits(x.Index) || !fits(x.Was) {
			return false
		}
	}
	return true
}

// inFolder reports whether a path is of the work tree: below its top, and not in git's own folder.
func inFolder(p string) bool {
	name := filepath.FromSlash(p)
	return filepath.IsLocal(name) && name != "." && !slices.ContainsFunc(strings.Split(p, "/"), func(part string) bool { return strings.EqualFold(part, ".git") })
}

// Below lists the files below a folder of the project; inner is a repository of its own among them, if
// there is one.
func Below(f *project.Folder, p string) (all []string, inner string, err error) {
	top := at(f, p)
	err = filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(f.Path, path)
		switch {
		case err != nil:
			return err
		case e.Name() == ".git":
			inner = filepath.ToSlash(filepath.Dir(rel))
			return fs.SkipAll
		case !e.IsDir():
			all = append(all, filepath.ToSlash(rel))
		}
		return nil
	})
	if err != nil {
		err = fault.New(fault.Failed, "the folder %s cannot be read: %s", text.Visible(p), files.Plain(err)).Because(err)
	}
	return all, inner, err
}

// reindex puts into an index what it is to hold (git-update-index documentation, --index-info).
func (g *gate) reindex(ctx context.Context, index string) error {
	var gone, in, out strings.Builder
	for _, x := range g.said.Restoring.Files {
		if x.Index.ID == "" {
			gone.WriteString("0 " + strings.Repeat("0", len(g.said.To)) + "\t" + x.Path + "\x00")
		} else {
			in.WriteString(x.Index.Mode + " " + x.Index.ID + "\t" + x.Path + "\x00")
		}
		if x.Apart && x.Index.ID != "" {
			out.WriteString(x.Path + "\x00")
		}
	}
	if err := g.updateIndex(ctx, index, gone.String()+in.String(), "--index-info"); err != nil || out.Len() == 0 {
		return err
	}
	return g.updateIndex(ctx, index, out.String(), "--skip-worktree", "--stdin")
}

func (g *gate) updateIndex(ctx context.Context, index, in string, how ...string) error {
	repo := *g.folder.Repo
	repo.GitDir = g.own
	_, err := repo.Run(ctx, git.Cmd{Dir: g.folder.Path, Env: []string{"GIT_INDEX_FILE=" + index, "GIT_WORK_TREE=" + g.folder.Path}, In: strings.NewReader(in),
		Args: append([]string{"update-index", "-z"}, how...)})
	return git.Fault(err, "git's index cannot be prepared")
}

// checkOut lays the files that are to stand out in our folder (git-checkout-index documentation).
func (g *gate) checkOut(ctx context.Context) error {
	var paths, other strings.Builder
	for _, x := range g.said.Restoring.Files {
		if x.Still || x.Is.ID == "" {
			continue
		}
		paths.WriteString(x.Path + "\x00")
		if x.Is != x.Index {
			other.WriteString(x.Is.Mode + " " + x.Is.ID + "\t" + x.Path + "\x00")
		}
	}
	if paths.Len() == 0 {
		return nil
	}
	index, top := g.index(), filepath.Join(g.at, "tree")
	if other.Len() > 0 { // they are of another commit
		from := filepath.Join(g.at, "index-from")
		if err := files.CopyFile(index, from); err != nil {
			return err
		}
		if err := g.updateIndex(ctx, from, other.String(), "--index-info"); err != nil {
			return err
		}
		index = from
	}
	work, err := g.folder.Work() // the person's own filters run, as with plain git
	if err != nil {
		return err
	}
	_, err = work.Named(g.own).Run(ctx, git.Cmd{Dir: top, Env: []string{"GIT_INDEX_FILE=" + index, "GIT_WORK_TREE=" + top}, In: strings.NewReader(paths.String()),
		Args: []string{"checkout-index", "-q", "-z", "--stdin"}})
	return git.Fault(err, "git cannot lay the files out")
}

// isBack reports whether a file that goes back is in its place, and what was there is where it was
// prepared.
func (g *gate) isBack(ctx context.Context, c change, staged os.FileInfo) (bool, error) {
	at, err := rawID(g.staged(c.path), g.digits())
	if err == nil && at != c.newID && g.said.Restoring.Indexes && staged.Mode().IsRegular() { // git may convert it
		var work *git.Work
		if work, err = g.folder.Work(); err == nil {
			at, err = work.HashAs(ctx, g.staged(c.path), c.path)
		}
	}
	if err != nil {
		return false, git.Fault(err, "%s cannot be read", text.Visible(c.path))
	}
	return at != c.newID || modeOf(staged) != c.newMode, nil
}

// keepAside makes a rescue copy of all that is aside, once.
func (g *gate) keepAside(ctx context.Context) error {
	tops, err := filepath.Glob(filepath.Join(g.at, "aside*"))
	if err != nil {
		return err
	}
	left := map[string]Standing{}
	for _, x := range g.said.Restoring.Files {
		if x.Is.ID != "" && !x.Still {
			left[x.Path] = x.Is
		}
	}
	for i, top := range tops {
		if i < len(g.said.Kept) {
			continue // before this was cut off
		}
		var all []string
		if err := eachFile(top, func(p string) error {
			size, _, err := files.Stamp(filepath.Join(top, filepath.FromSlash(p)))
			g.bulk, all = g.bulk+size, append(all, p)
			return err
		}); err != nil {
			return err
		}
		n, err := g.rescuer.KeepAll(ctx, Kept{Before: g.said.Before, Root: top, Paths: all, Left: left})
		if err != nil {
			return err
		}
		left = nil
		g.said.Kept = append(g.said.Kept, n)
		if err := files.WriteJSON(g.journal(), g.said); err != nil {
			return fault.New(fault.Failed, "what was done cannot be noted: %s", files.Plain(err)).Because(err)
		}
	}
	for _, n := range g.said.Kept {
		if n > 0 {
			g.rescued = append(g.rescued, n)
		}
	}
	return nil
}
