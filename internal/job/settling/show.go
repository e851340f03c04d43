// Package settling is where both sides changed the same and a sync or a join stopped: it shows
// what clashes, takes what the person decides, file by file or for all, also by hand, and says
// when nothing is left. Finishing is what stopped, run again with the decisions.
package settling

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/clashing"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/syncing"
	"uncinate/internal/job/undoing"
	"uncinate/internal/world/git"
)

// Settling is what clashes in a folder, and what is decided of it.
type Settling struct {
	Folder  string  `json:"folder"`
	What    string  `json:"what" says:"sync, join or undo"`
	Name    string  `json:"branch_joined,omitempty"`
	Undoes  string  `json:"commit_undone,omitempty" says:"the newest of the commits that the undo takes back"`
	Branch  string  `json:"branch"`
	Ahead   int     `json:"ahead" says:"commits that are only here"`
	Behind  int     `json:"behind" says:"commits that only the other side has"`
	Clashes []Clash `json:"clashes"`
	Left    int     `json:"left" says:"how many are not decided yet"`
	Replays bool    `json:"replays,omitempty" says:"once decided, your commits can be replayed on top of theirs too, in place of a merge"`
	There   string  `json:"-"` // where the other side is, in words
	Line    string  `json:"-"` // the command that goes on once all is decided
}

// Clash is one clash as it is shown.
type Clash struct {
	Path    string   `json:"path"`
	Paths   []string `json:"paths" says:"all files that it is about"`
	Kind    string   `json:"kind"`
	Says    string   `json:"says"`
	Mine    Side     `json:"mine"`
	Theirs  Side     `json:"theirs"`
	Ways    []string `json:"ways" says:"how it can be decided"`
	Decided string   `json:"decided,omitempty"`
	Parts   int      `json:"parts,omitempty" says:"of texts: how many parts of it clash"`
	Text    string   `json:"text,omitempty" says:"of texts: those parts, with both sides marked"`
	is      clashing.Clash
}

// Side is what one side has where it clashes.
type Side struct {
	Paths  []string  `json:"paths"` // of its files; none where it has none
	Bytes  int64     `json:"bytes"` // of all of them
	Commit string    `json:"commit,omitempty" says:"the newest commit that changed it"`
	By     string    `json:"by,omitempty"`
	When   time.Time `json:"when,omitzero"`
	Title  string    `json:"title,omitempty"`
}

// mostText is how large a text may be, in bytes, to be shown and edited.
const mostText = 1 << 20

// Show tells what clashes; with paths, only those.
func Show(ctx context.Context, d *desk.Desk, given string, paths []string) (_ *Settling, err error) {
	f, err := worktree.LooseAt(ctx, d, given)
	if err != nil {
		return nil, err
	}
	l, err := look(ctx, d, f, given)
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, l.done)
	s := l.settling()
	if len(paths) > 0 {
		chosen, err := l.chosen(paths)
		if err != nil {
			return nil, err
		}
		wanted := map[string]bool{}
		for _, c := range chosen {
			wanted[c.At] = true
		}
		s.Clashes = slices.DeleteFunc(s.Clashes, func(c Clash) bool { return !wanted[c.Path] })
	}
	if err := l.sides(ctx, s.Clashes); err != nil {
		return nil, err
	}
	return s, l.texts(ctx, s.Clashes)
}

// looked is a folder with what clashes in it.
type looked struct {
	given   string
	folder  *project.Folder
	decided *worktree.Decisions
	ends    *syncing.Ends
	trial   *git.Weaver
	done    func() error
	met     *worktree.Meeting
	undoes  string      // the newest of the commits that an undo takes back
	since   [2][]string // the commits that changed each side, as git log takes them
}

func look(ctx context.Context, d *desk.Desk, f *project.Folder, given string) (_ *looked, err error) {
	l := &looked{given: given, folder: f, met: &worktree.Meeting{}, done: func() error { return nil }}
	if l.decided, err = worktree.DecisionsOf(d, f); err != nil {
		return nil, err
	}
	if l.decided.Stopped().What == "undo" {
		return l, l.lookUndo(ctx, d)
	}
	if l.ends, err = syncing.EndsOf(ctx, d, f, l.decided.Stopped()); err != nil || !l.ends.Merge {
		return l, err
	}
	l.since = [2][]string{{l.ends.Mine, "^" + l.ends.Theirs}, {l.ends.Theirs, "^" + l.ends.Mine}}
	if l.trial, l.done, err = f.Repo.Aside(ctx); err != nil {
		return nil, err
	}
	l.met, err = worktree.Meet(ctx, f, l.trial, l.ends.Base, l.ends.Mine, l.ends.Theirs)
	if err != nil {
		return nil, errors.Join(err, l.done())
	}
	return l, nil
}

// lookUndo finds what clashes of an undo: mine is what is here now, theirs what stood before the commits
// that are taken back.
func (l *looked) lookUndo(ctx context.Context, d *desk.Desk) (err error) {
	l.ends = &syncing.Ends{Mine: l.folder.Head, There: undoing.There}
	if l.trial, l.done, err = l.folder.Repo.Aside(ctx); err != nil {
		return err
	}
	newest, before, met, err := undoing.Meeting(ctx, d, l.folder, l.decided, l.trial)
	if err != nil {
		return errors.Join(err, l.done())
	}
	if met == nil {
		return nil
	}
	l.met, l.undoes = met, newest
	l.since = [2][]string{{l.folder.Head, "^" + newest}, {newest}}
	if _, err := l.folder.Repo.Resolve(ctx, before+"^{commit}"); err == nil {
		l.since[1] = append(l.since[1], "^"+before)
	}
	return nil
}

// settling is what was looked at, without what each side did.
func (l *looked) settling() *Settling {
	stopped := l.decided.Stopped()
	s := &Settling{Folder: l.folder.Path, What: stopped.Job(), Name: stopped.Name, Branch: l.folder.Branch, Undoes: l.undoes, Line: stopped.Line(l.given),
		Ahead: l.ends.Ahead, Behind: l.ends.Behind, There: l.ends.There, Clashes: []Clash{}}
	for _, c := range l.met.Clashes {
		way, known := l.decided.Of(c)
		if !known {
			s.Left++
		}
		says := c.Says(l.ends.There)
		if l.undoes != "" && (c.Kind == clashing.Changed || c.Kind == clashing.Added) {
			says = "changed again since"
		}
		s.Clashes = append(s.Clashes, Clash{Path: c.At, Paths: c.Paths, Kind: string(c.Kind), Says: says, Ways: c.Ways(), Decided: way.Way, is: c})
	}
	s.Replays = l.ends.Replays && l.ends.Ahead == 1 && l.ends.Base == "" // one commit asks but once
	return s
}

// chosen are the clashes at paths that a person named.
func (l *looked) chosen(paths []string) ([]clashing.Clash, error) {
	if len(paths) == 0 {
		return l.met.Clashes, nil
	}
	var out []clashing.Clash
	for _, p := range paths {
		hit, found := survey.Named([]string{p}), false
		if slices.ContainsFunc(l.met.Clashes, func(c clashing.Clash) bool { return c.At == p || slices.Contains(c.Paths, p) }) {
			hit = func(q string) bool { return q == p } // it is a name, whatever is in it
		}
		for _, c := range l.met.Clashes {
			if slices.ContainsFunc(append([]string{c.At}, c.Paths...), hit) {
				found = true
				if !slices.ContainsFunc(out, func(x clashing.Clash) bool { return x.At == c.At }) {
					out = append(out, c)
				}
			}
		}
		if !found {
			f := fault.New(fault.Usage, "nothing clashes at %s", text.Visible(p))
			if len(l.met.Clashes) == 0 {
				f = l.nothing()
			}
			return nil, f.Try("see what clashes", desk.FolderCommand(l.given, "settle"))
		}
	}
	return out, nil
}

// nothing says that nothing clashes.
func (l *looked) nothing() *fault.Fault {
	if s := l.decided.Stopped(); s.What == "undo" {
		return fault.New(fault.Failed, "nothing clashes in %s", text.Visible(l.folder.Path)).Try("go on with the undo", s.Line(l.given))
	}
	return fault.New(fault.Failed, "nothing clashes in %s, as far as the host is known", text.Visible(l.folder.Path)).
		Try("ask the host", desk.FolderCommand(l.given, "sync"))
}

// sides fills in who changed what, and how large it is.
func (l *looked) sides(ctx context.Context, all []Clash) error {
	var ids []string
	for i := range all {
		c := &all[i]
		for _, x := range []struct {
			to   *Side
			from []clashing.Entry
		}{{&c.Mine, c.is.Mine}, {&c.Theirs, c.is.Theirs}} {
			x.to.Paths = []string{}
			for _, e := range x.from {
				x.to.Paths = append(x.to.Paths, e.Path)
				ids = append(ids, e.ID)
			}
		}
	}
	if len(ids) == 0 {
		return nil
	}
	sizes, err := l.folder.Repo.Sizes(ctx, ids)
	if err != nil {
		return err
	}
	mine, err := l.changes(ctx, l.since[0], all)
	if err != nil {
		return err
	}
	theirs, err := l.changes(ctx, l.since[1], all)
	if err != nil {
		return err
	}
	for i := range all {
		c := &all[i]
		for _, e := range c.is.Mine {
			c.Mine.Bytes += sizes[e.ID]
		}
		for _, e := range c.is.Theirs {
			c.Theirs.Bytes += sizes[e.ID]
		}
		for _, p := range c.Paths {
			c.Mine.by(mine[p])
			c.Theirs.by(theirs[p])
		}
	}
	return nil
}

// by takes who changed a path, where that is newer.
func (s *Side) by(x *Side) {
	if x != nil && x.When.After(s.When) {
		s.Commit, s.By, s.When, s.Title = x.Commit, x.By, x.When, x.Title
	}
}

// changes gives the newest change of each path among some commits.
func (l *looked) changes(ctx context.Context, commits []string, all []Clash) (map[string]*Side, error) {
	var paths []string
	for _, c := range all {
		paths = append(paths, c.Paths...)
	}
	out := map[string]*Side{}
	err := l.folder.Repo.Changed(ctx, nil, commits, paths, func(p string, c git.Change) {
		if out[p] == nil {
			out[p] = &Side{Commit: c.Commit, By: c.By, When: c.When, Title: c.Title}
		}
	})
	return out, err
}

// texts fills in the parts of texts that clash.
func (l *looked) texts(ctx context.Context, all []Clash) error {
	for i := range all {
		if i == desk.MostShown {
			return nil
		}
		c := &all[i]
		base, mine, theirs, fit := c.is.Texts()
		if !fit || mine.ID == "" || theirs.ID == "" || mine.ID == theirs.ID {
			continue
		}
		s, parts, is, err := l.marked(ctx, base, mine, theirs)
		if err != nil {
			return err
		}
		if is {
			c.Parts, c.Text = parts, onlyParts(s)
		}
	}
	return nil
}

// marked gives the text that holds both sides; false where one of them is not a text.
func (l *looked) marked(ctx context.Context, base, mine, theirs clashing.Entry) (s string, parts int, is bool, err error) {
	var texts [3]string
	for i, e := range []clashing.Entry{base, mine, theirs} {
		if texts[i], is, err = l.contents(ctx, e); err != nil || !is {
			return "", 0, false, err
		}
	}
	s, parts, err = worktree.Marked(ctx, l.trial, texts[0], texts[1], texts[2], l.named())
	return s, parts, err == nil, err
}

// named are the sides, as they are marked in a text.
func (l *looked) named() [2]string {
	if l.undoes != "" {
		return [2]string{"yours, as it is now", "theirs, as it was before"}
	}
	return [2]string{"yours", "theirs, " + l.ends.There}
}

// contents gives the text of a file; of one that a side does not have it is empty, and false where it
// is not a text or a large one.
func (l *looked) contents(ctx context.Context, e clashing.Entry) (s string, is bool, err error) {
	if e.ID == "" {
		return "", true, nil
	}
	sizes, err := l.folder.Repo.Sizes(ctx, []string{e.ID})
	if err != nil || sizes[e.ID] > mostText {
		return "", false, err
	}
	if s, err = l.folder.Repo.Blob(ctx, e.ID, mostText); err != nil || strings.ContainsRune(s, 0) {
		return "", false, err
	}
	return s, true, nil
}

// onlyParts leaves of a text what is between its marks, and three lines around.
func onlyParts(s string) string {
	lines := strings.SplitAfter(s, "\n")
	keep := make([]bool, len(lines))
	inside := false
	for i, line := range lines {
		begins, ends := strings.HasPrefix(line, "<<<<<<<") && strings.Contains(line, " yours"), strings.HasPrefix(line, ">>>>>>>") && strings.Contains(line, " theirs, ")
		if inside = inside || begins; inside {
			for j := max(0, i-2); j <= min(len(lines)-1, i+2); j++ {
				keep[j] = true
			}
		}
		if ends {
			inside = false
		}
	}
	var b strings.Builder
	for i, line := range lines {
		switch {
		case keep[i]:
			b.WriteString(line)
		case i > 0 && keep[i-1] && slices.Contains(keep[i:], true):
			b.WriteString("...\n")
		}
	}
	return b.String()
}
