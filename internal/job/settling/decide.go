package settling

import (
	"context"
	"errors"
	"slices"

	"uncinate/internal/core/clashing"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Decided is what was decided just now, and what is left.
type Decided struct {
	Folder  string           `json:"folder"`
	What    string           `json:"what" says:"what stopped: sync, join or undo"`
	Name    string           `json:"branch_joined,omitempty"`
	Decided []worktree.Ended `json:"decided"`
	Left    []string         `json:"left" says:"files that are not decided yet"`
	Stopped worktree.Stopped `json:"-"`
}

// Decide notes how clashes are to end: at some paths, or all that are not decided yet.
func Decide(ctx context.Context, d *desk.Desk, given, way string, paths []string, preview bool) (_ *Decided, err error) {
	l, end, err := alone(ctx, d, given)
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, end)
	if len(l.met.Clashes) == 0 {
		return nil, l.nothing()
	}
	which, err := l.chosen(paths)
	if err != nil {
		return nil, err
	}
	if len(paths) == 0 {
		which = slices.DeleteFunc(slices.Clone(which), func(c clashing.Clash) bool {
			_, known := l.decided.Of(c)
			return known
		})
	}
	ways := map[string]clashing.Decision{}
	for _, c := range which {
		if _, _, err := c.Outcome(clashing.Decision{Way: way}); err != nil {
			return nil, fault.New(fault.Usage, "%s", text.Visible(err.Error())).Detail("Nothing was decided.").
				Try("decide it by one side", worktree.SettleLine(given, "theirs", c.At))
		}
		ways[c.Key()] = clashing.Decision{Way: way}
	}
	if !preview {
		if err := l.note(ctx, ways); err != nil {
			return nil, err
		}
	}
	return l.came(ways), nil
}

// alone looks at a folder on which no other run of ours works meanwhile.
func alone(ctx context.Context, d *desk.Desk, given string) (*looked, func() error, error) {
	f, err := worktree.LooseAt(ctx, d, given)
	if err != nil {
		return nil, nil, err
	}
	held, err := d.Alone(ctx, f.Path)
	if err != nil {
		return nil, nil, err
	}
	l, err := look(ctx, d, f, given)
	if err != nil {
		return nil, nil, errors.Join(err, held.Release())
	}
	return l, func() error { return errors.Join(l.done(), held.Release()) }, nil
}

// note keeps decisions, with what they are about.
func (l *looked) note(ctx context.Context, ways map[string]clashing.Decision) error {
	if l.decided.Stopped().What == "" {
		if err := l.decided.Keep(ctx, worktree.Stopped{}); err != nil {
			return err
		}
	}
	return l.decided.Decide(ctx, ways)
}

// came tells what became of decisions.
func (l *looked) came(ways map[string]clashing.Decision) *Decided {
	stopped := l.decided.Stopped()
	out := &Decided{Folder: l.folder.Path, What: stopped.Job(), Name: stopped.Name, Stopped: stopped, Decided: []worktree.Ended{}, Left: []string{}}
	for _, c := range l.met.Clashes {
		if way, now := ways[c.Key()]; now {
			out.Decided = append(out.Decided, worktree.Ended{Path: c.At, Kind: string(c.Kind), Way: way.Way})
		} else if _, known := l.decided.Of(c); !known {
			out.Left = append(out.Left, c.At)
		}
	}
	return out
}

// Hand is a text that is edited by hand.
type Hand struct {
	Path  string // of the clash
	File  string // where the text is meanwhile
	Parts int
}

// ByHand puts a text with both sides' parts where it can be edited. One that was begun stays as
// it is.
func ByHand(ctx context.Context, d *desk.Desk, given, path string) (_ *Hand, err error) {
	l, end, err := alone(ctx, d, given)
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, end)
	c, err := l.one(path)
	if err != nil {
		return nil, err
	}
	s, parts, err := l.textOf(ctx, c)
	if err != nil {
		return nil, err
	}
	h := &Hand{Path: c.At, File: l.decided.Text(c), Parts: parts}
	if files.KindOf(h.File) == files.Regular {
		return h, nil
	}
	if err := l.note(ctx, nil); err != nil {
		return nil, err
	}
	return h, files.Write(h.File, []byte(s), 0o600)
}

// one gives the clash at a path that can be decided by hand.
func (l *looked) one(path string) (clashing.Clash, error) {
	which, err := l.chosen([]string{path})
	if err != nil {
		return clashing.Clash{}, err
	}
	if len(which) > 1 {
		return clashing.Clash{}, fault.New(fault.Usage, "%s names %s; by hand it is one at a time", text.Visible(path), text.Count(len(which), "clashing file")).
			Try("", worktree.SettleLine(l.given, clashing.ByHand, which[0].At))
	}
	c := which[0]
	if !slices.Contains(c.Ways(), clashing.ByHand) {
		return c, fault.New(fault.Usage, "%s cannot be made by hand: %s", text.Visible(c.At), text.Visible(c.Says(l.ends.There))).
			Try("use yours", worktree.SettleLine(l.given, joining.Mine, c.At)).
			Try("or theirs", worktree.SettleLine(l.given, joining.Theirs, c.At))
	}
	return c, nil
}

// textOf gives the text that holds both sides.
func (l *looked) textOf(ctx context.Context, c clashing.Clash) (string, int, error) {
	base, mine, theirs, _ := c.Texts()
	if mine.ID == "" || theirs.ID == "" { // only one side has it
		base = clashing.Entry{}
	}
	s, parts, is, err := l.marked(ctx, base, mine, theirs)
	if err == nil && !is {
		return "", 0, fault.New(fault.Usage, "%s is not a text of at most %s that could be edited here", text.Visible(c.At), text.Size(mostText)).
			Try("use theirs, and put yours beside it to do your work again", worktree.SettleLine(l.given, joining.Both, c.At)).
			Try("or use a file that you made of both", worktree.SettleLine(l.given, clashing.ByHand, c.At, "--with", "FILE"))
	}
	return s, parts, err
}

// Take takes what was edited, or a file that was made elsewhere, as what is to stand at a path.
func Take(ctx context.Context, d *desk.Desk, given, path, file string) (_ *Decided, err error) {
	l, end, err := alone(ctx, d, given)
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, end)
	c, err := l.one(path)
	if err != nil {
		return nil, err
	}
	edited := file == ""
	if edited {
		file = l.decided.Text(c)
	}
	if err := l.unmarked(ctx, c, file, edited); err != nil {
		return nil, err
	}
	in, err := files.Open(file)
	if err != nil {
		return nil, fault.New(fault.Usage, "%s cannot be read: %s", text.Visible(file), files.Plain(err)).Because(err)
	}
	defer fault.Also(&err, in.Close)
	if err := l.note(ctx, nil); err != nil {
		return nil, err
	}
	if err := l.decided.Take(ctx, c, in); err != nil {
		return nil, err
	}
	return l.came(map[string]clashing.Decision{c.Key(): {Way: clashing.ByHand}}), nil
}

// unmarked refuses a text in which a mark is left.
func (l *looked) unmarked(ctx context.Context, c clashing.Clash, file string, edited bool) error {
	size, _, err := files.Stamp(file)
	if err != nil {
		return fault.New(fault.Usage, "%s cannot be read: %s", text.Visible(file), files.Plain(err)).Because(err)
	}
	if size > 4*mostText {
		return nil
	}
	made, err := files.Read(file, 4*mostText)
	if err != nil {
		return err
	}
	base, mine, theirs, _ := c.Texts()
	var sides []string
	for _, e := range []clashing.Entry{base, mine, theirs} {
		one, _, err := l.contents(ctx, e)
		if err != nil {
			return err
		}
		sides = append(sides, one)
	}
	begin, middle, end := worktree.Marks(sides...)
	number, says := worktree.MarkIn(string(made), begin, middle, end)
	if number == 0 {
		return nil
	}
	f := fault.New(fault.Decision, "line %d of %s still has a mark: %s", number, text.Visible(text.Either(edited, c.At, file)), text.Excerpt(says, 60))
	f.Detail("Where both sides differ, leave the lines that are to stay, and take the three marks out. What you wrote is kept.")
	var with []string
	if !edited {
		with = []string{"--with", file}
	}
	return f.Try("go on with it", worktree.SettleLine(l.given, clashing.ByHand, c.At, with...))
}

// Cancelled is what was given up.
type Cancelled struct {
	Folder  string `json:"folder"`
	What    string `json:"what" says:"what stopped: sync, join or undo"`
	Decided int    `json:"decided" says:"how many decisions were dropped"`
	Line    string `json:"-"` // the command that begins again
}

// Cancel drops what was decided; with preview it only tells.
func Cancel(ctx context.Context, d *desk.Desk, given string, preview bool) (_ *Cancelled, err error) {
	f, err := worktree.LooseAt(ctx, d, given)
	if err != nil {
		return nil, err
	}
	held, err := d.Alone(ctx, f.Path)
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, held.Release)
	x, err := worktree.DecisionsOf(d, f)
	if err != nil {
		return nil, err
	}
	out := &Cancelled{Folder: f.Path, What: x.Stopped().What, Decided: len(x.Stopped().Ways), Line: x.Stopped().Line(given)}
	if preview {
		return out, nil
	}
	return out, x.Forget()
}

// Edits gives the command by which a person edits texts, as git knows it (git-var documentation,
// GIT_EDITOR).
func Edits(ctx context.Context, d *desk.Desk, given string) ([]string, error) {
	said := git.Editor()
	if said == "" {
		f, err := worktree.LooseAt(ctx, d, given)
		if err != nil {
			return nil, err
		}
		if _, err := f.Work(); err != nil { // it may be one that the folder's own configuration names
			return nil, err
		}
		if said, err = f.Repo.Do(ctx, "var", "GIT_EDITOR"); err != nil {
			return nil, noEditor("git knows no editor for this terminal")
		}
	}
	words, err := text.Words(said)
	if err != nil || len(words) == 0 {
		return nil, noEditor("the editor is not a plain command: " + text.Excerpt(said, 80))
	}
	return words, nil
}

func noEditor(says string) error {
	return fault.New(fault.Decision, "%s", says).Try("name one", "git config --global core.editor nano")
}
