package worktree

import (
	"context"
	"fmt"
	"strings"

	"uncinate/internal/core/clashing"
	"uncinate/internal/core/fault"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Meeting is two commits that are to become one, and where they clash.
type Meeting struct {
	Base, Mine, Theirs string // the commits; Base is "" where they have none in common
	Tree               string // git's, with what clashes in some form
	Clashes            []clashing.Clash
	met                clashing.Met
}

// Meet tries out what two commits become. base is the commit from which both went out; "" for the
// one that they have in common.
func Meet(ctx context.Context, f *project.Folder, w *git.Weaver, base, mine, theirs string) (*Meeting, error) {
	m := &Meeting{Base: base, Mine: mine, Theirs: theirs}
	var err error
	if base != "" {
		m.Base, mine, theirs, err = w.Based(ctx, base, mine, theirs)
	} else if m.Base, err = w.Do(ctx, "", nil, "merge-base", mine, theirs); git.Code(err) == 1 {
		err = nil // begun apart
	}
	if err != nil {
		return nil, git.Fault(err, "git cannot tell what both sides have in common")
	}
	met, err := w.Meet(ctx, mine, theirs)
	if err != nil {
		return nil, err
	}
	return m, m.find(ctx, f, w, met)
}

// Met is the meeting in which git found that two commits clash.
func Met(ctx context.Context, f *project.Folder, w *git.Weaver, c *git.Clashes) (*Meeting, error) {
	m := &Meeting{Base: c.Base, Mine: c.Mine, Theirs: c.Theirs}
	return m, m.find(ctx, f, w, c.Met)
}

// find reads what git made of it.
func (m *Meeting) find(ctx context.Context, f *project.Folder, w *git.Weaver, met *git.Met) (err error) {
	m.Tree = met.Tree
	m.met = clashing.Met{Told: met.Told}
	if m.met.Folds, err = f.FoldsCase(ctx); err != nil || len(met.Told) == 0 && !m.met.Folds {
		return err
	}
	if m.Base == "" {
		if m.Base, err = EmptyTree(ctx, f); err != nil {
			return err
		}
	}
	for _, side := range []struct {
		id string
		to *clashing.Tree
	}{{m.Base, &m.met.Base}, {m.Mine, &m.met.Mine}, {m.Theirs, &m.met.Theirs}, {m.Tree, &m.met.Merged}} {
		if *side.to, err = filesOf(ctx, w, side.id); err != nil {
			return err
		}
	}
	if len(met.Told) > 0 {
		for _, side := range []string{m.Mine, m.Theirs} {
			more, err := w.Renames(ctx, m.Base, side)
			if err != nil {
				return err
			}
			m.met.Renames = append(m.met.Renames, more...)
		}
	}
	m.Clashes, err = clashing.Find(m.met)
	if err != nil {
		return fault.New(fault.Failed, "%s", err.Error())
	}
	return nil
}

// filesOf lists the files of a commit or tree, by path.
func filesOf(ctx context.Context, w *git.Weaver, id string) (clashing.Tree, error) {
	out, err := w.Do(ctx, "", nil, "ls-tree", "-r", "-z", "--full-tree", id)
	if err != nil {
		return nil, git.Fault(err, "git cannot list the files of %.10s", id)
	}
	t := clashing.Tree{}
	for _, e := range entries(git.SplitNUL([]byte(out))) {
		t[e.Path] = e
	}
	return t, nil
}

// Beside is a file of ours that is put beside theirs.
type Beside = project.Beside

// Ended is a clash and how it ends.
type Ended struct {
	Path   string   `json:"path"`
	Kind   string   `json:"kind"`
	Way    string   `json:"way" says:"mine, theirs, both or by-hand"`
	Beside []string `json:"beside,omitempty" says:"where yours is put, outside of what git tracks"`
}

// Together is what two commits become once their clashes are decided.
type Together struct {
	Tree   string
	Beside []Beside
	Ended  []Ended
	Left   []clashing.Clash // that are not decided; then there is no tree
}

// Decide gives the tree that comes of decisions, and what is put beside. by-hand files are written
// into the weaver's store.
func (m *Meeting) Decide(ctx context.Context, d *desk.Desk, f *project.Folder, w *git.Weaver, decided *Decisions) (*Together, error) {
	out := &Together{Tree: m.Tree}
	if len(m.Clashes) == 0 {
		return out, nil
	}
	var gone []string
	var put, beside []clashing.Entry
	for _, c := range m.Clashes {
		way, known := decided.Of(c)
		if !known {
			out.Left = append(out.Left, c)
			continue
		}
		if way.Way == clashing.ByHand {
			id, err := decided.write(ctx, w, c)
			if err != nil {
				return nil, err
			}
			way.Made = clashing.Entry{Mode: way.Mode, ID: id}
		}
		stays, aside, err := c.Outcome(way)
		if err != nil {
			return nil, fault.New(fault.Decision, "%s", err.Error()).Try("decide it by one side", SettleLine(f.Path, "theirs", c.At))
		}
		gone, put, beside = append(gone, c.Gone()...), append(put, stays...), append(beside, aside...)
		out.Ended = append(out.Ended, Ended{Path: c.At, Kind: string(c.Kind), Way: way.Way})
	}
	if len(out.Left) > 0 {
		return out, nil
	}
	for _, p := range gone {
		delete(m.met.Merged, p)
	}
	for _, e := range put {
		m.met.Merged[e.Path] = e
	}
	var err error
	if out.Tree, err = m.write(ctx, w, gone, put); err != nil {
		return nil, err
	}
	return out, m.place(d, f, out, beside)
}

// write makes the tree.
func (m *Meeting) write(ctx context.Context, w *git.Weaver, gone []string, put []clashing.Entry) (string, error) {
	var lines strings.Builder
	for _, p := range gone {
		fmt.Fprintf(&lines, "0 %s\t%s\x00", strings.Repeat("0", len(m.Tree)), p)
	}
	for _, e := range put {
		fmt.Fprintf(&lines, "%s %s\t%s\x00", e.Mode, e.ID, e.Path)
	}
	index, done, err := files.Scratch("uncinate-index-")
	if err != nil {
		return "", err
	}
	tree, err := w.TreeWith(ctx, index+"/index", m.Tree, lines.String())
	if e := done(); err == nil {
		err = e
	}
	return tree, git.Fault(err, "git cannot put the decided files together")
}

// place finds names for what is put beside.
func (m *Meeting) place(d *desk.Desk, f *project.Folder, out *Together, beside []clashing.Entry) error {
	if len(beside) == 0 {
		return nil
	}
	machine, err := d.Machine()
	if err != nil {
		machine = "here"
	}
	before, err := Besides(f)
	if err != nil {
		return err
	}
	known := map[Beside]string{} // by a run that was cut off
	for _, b := range before {
		known[Beside{Path: b.Path, ID: b.ID, Mode: b.Mode}] = b.At
	}
	ends := map[string]int{} // of each path, which of the clashes it belongs to
	for i, c := range m.Clashes {
		for _, p := range c.Paths {
			ends[p] = i
		}
	}
	named := map[string]bool{}
	file := func(p string) bool { return m.met.Merged[p].ID != "" }
	taken := func(p string) bool { return named[p] || !files.Missing(at(f, p)) }
	for _, e := range beside {
		b := Beside{Path: e.Path, ID: e.ID, Mode: e.Mode}
		if b.At = known[b]; b.At == "" {
			b.At = clashing.BesideName(e.Path, machine, file, taken)
		}
		named[b.At] = true
		out.Beside = append(out.Beside, b)
		end := &out.Ended[ends[e.Path]]
		end.Beside = append(end.Beside, b.At)
	}
	return nil
}
