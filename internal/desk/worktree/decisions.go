package worktree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/clashing"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Decisions are what a person decided of the clashes of one folder, from when something stopped
// at them until it is finished or given up. They are kept in this machine's home: what comes with
// a folder decides nothing.
type Decisions struct {
	desk   *desk.Desk
	folder *project.Folder
	kept   Stopped
	Way    string // by which all that is not decided otherwise is decided; "" for none
}

// Stopped is what stopped at clashes, and what is decided of them by now.
type Stopped struct {
	What    string                       `json:"what"`              // sync, join or undo; "" where nothing did
	Name    string                       `json:"name,omitempty"`    // the branch that is joined
	Commits []string                     `json:"commits,omitempty"` // that are taken back, as they were named; none: the last one
	Parent  int                          `json:"parent,omitempty"`  // of a merge: whose side stays
	Text    string                       `json:"text,omitempty"`    // what the commit is to say that takes them back
	Ways    map[string]clashing.Decision `json:"ways,omitempty"`    // by the clash's key
}

func decisionsAt(d *desk.Desk, folder string) string {
	return filepath.Join(d.Home.State, "settling", files.Short(folder))
}

// DecisionsOf reads what is decided in a folder.
func DecisionsOf(d *desk.Desk, f *project.Folder) (*Decisions, error) {
	x := &Decisions{desk: d, folder: f}
	_, err := files.ReadJSON(x.path(), &x.kept)
	return x, err
}

func (x *Decisions) dir() string  { return decisionsAt(x.desk, x.folder.Path) }
func (x *Decisions) path() string { return filepath.Join(x.dir(), "decisions.json") }

// Stopped tells what waits to be decided: its What is "" where nothing does.
func (x *Decisions) Stopped() Stopped { return x.kept }

// Job is what goes on once all is decided: a sync, unless a join of branches or an undo stopped.
func (s Stopped) Job() string {
	if s.What == "undo" {
		return s.What
	}
	return text.Either(s.Name != "", "join", "sync")
}

// Words are the arguments and options of the command that stopped.
func (s Stopped) Words() []string {
	if s.What != "undo" {
		return nil
	}
	words := slices.Clone(s.Commits)
	if s.Parent > 0 {
		words = append(words, "--parent", strconv.Itoa(s.Parent))
	}
	if s.Text != "" {
		words = append(words, "--message", s.Text)
	}
	return words
}

// Line is the command that goes on once all is decided.
func (s Stopped) Line(given string) string {
	switch s.Job() {
	case "join":
		return desk.FolderCommand(given, "branch", "join", s.Name)
	case "undo":
		return desk.FolderCommand(given, append([]string{"undo", "commit"}, s.Words()...)...)
	}
	return desk.FolderCommand(given, "sync")
}

// Keep notes what stopped. Decisions that were made before stay.
func (x *Decisions) Keep(ctx context.Context, what Stopped) error {
	return x.change(ctx, func(s *Stopped) {
		what.What, what.Ways = what.Job(), s.Ways
		*s = what
	})
}

// SettleLine is a command that decides a path, which may look like an option.
func SettleLine(given, way, file string, options ...string) string {
	if given != "." && given != "" {
		options = append(options, "--folder", given)
	}
	return text.Command(text.WithOperand([]string{"uncinate", "settle", way}, file, options...)...)
}

func (x *Decisions) change(ctx context.Context, how func(*Stopped)) error {
	return desk.Alter(ctx, x.desk, x.path(), func(s Stopped) (Stopped, error) {
		how(&s)
		x.kept = s
		return s, nil
	})
}

// Of gives the decision of a clash, and whether there is one.
func (x *Decisions) Of(c clashing.Clash) (clashing.Decision, bool) {
	if d, decided := x.kept.Ways[c.Key()]; decided {
		return d, true
	}
	return clashing.Decision{Way: x.Way}, x.Way != ""
}

// Decide notes decisions, by the clashes' keys.
func (x *Decisions) Decide(ctx context.Context, ways map[string]clashing.Decision) error {
	return x.change(ctx, func(s *Stopped) {
		if s.Ways == nil {
			s.Ways = map[string]clashing.Decision{}
		}
		for key, way := range ways {
			s.Ways[key] = way
		}
	})
}

// Forget drops all of it: it is finished, or given up.
func (x *Decisions) Forget() error {
	x.kept = Stopped{}
	return files.RemoveAll(x.dir())
}

// CarryDecisions takes them along when a folder was moved.
func CarryDecisions(d *desk.Desk, from, to string) error {
	if files.Missing(decisionsAt(d, from)) {
		return nil
	}
	if err := files.RemoveAll(decisionsAt(d, to)); err != nil {
		return err
	}
	return files.Move(decisionsAt(d, from), decisionsAt(d, to))
}

// Text is where the text of a clash is that is edited by hand.
func (x *Decisions) Text(c clashing.Clash) string {
	name := path.Base(c.At) // which the editor shows
	if len(name) > 100 {
		name = "text" + path.Ext(name[len(name)-20:])
	}
	return filepath.Join(x.dir(), "text-"+c.Key(), name)
}

// made is where what was taken of it is.
func (x *Decisions) made(c clashing.Clash) string { return filepath.Join(x.dir(), "made-"+c.Key()) }

// Take keeps a file as what is to stand where a clash is. It is copied, so that it stays what it
// is until all is decided.
func (x *Decisions) Take(ctx context.Context, c clashing.Clash, from io.Reader) (err error) {
	if err := files.MakeFolder(x.dir(), 0o700); err != nil {
		return err
	}
	fresh := x.made(c) + ".new"
	out, err := os.OpenFile(fresh, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, from)
	if err = errors.Join(err, out.Sync(), out.Close()); err == nil {
		err = files.Move(fresh, x.made(c))
	}
	if err != nil {
		return fault.New(fault.Failed, "what was made by hand cannot be kept: %s", files.Plain(err)).Because(err)
	}
	return x.Decide(ctx, map[string]clashing.Decision{c.Key(): {Way: clashing.ByHand, Mode: c.HandMode()}})
}

// write puts what was made by hand into the weaver's store, as a file of its path is put there
// (git-hash-object documentation, --path).
func (x *Decisions) write(ctx context.Context, w *git.Weaver, c clashing.Clash) (id string, err error) {
	in, err := files.Open(x.made(c))
	if err != nil {
		return "", fault.New(fault.Failed, "what was made by hand for %s cannot be read: %s", text.Visible(c.At), files.Plain(err)).Because(err).
			Try("make it again", SettleLine(x.folder.Path, clashing.ByHand, c.At))
	}
	defer fault.Also(&err, in.Close)
	id, err = w.Hash(ctx, in, c.At)
	return id, git.Fault(err, "git cannot keep what was made by hand for %s", text.Visible(c.At))
}

// Marks are the lines that part the sides of a text: so many of each sign that neither side has a
// line that begins with them.
func Marks(sides ...string) (begin, middle, end string) {
	for n := 7; ; n++ {
		begin, middle, end = strings.Repeat("<", n), strings.Repeat("=", n), strings.Repeat(">", n)
		clear := true
		for _, s := range sides {
			for line := range strings.Lines(s) {
				if strings.HasPrefix(line, begin) || strings.HasPrefix(line, middle) || strings.HasPrefix(line, end) {
					clear = false
				}
			}
		}
		if clear {
			return begin, middle, end
		}
	}
}

// MarkIn gives the first line of a text that is still a mark, and its number; 0 for none.
func MarkIn(s, begin, middle, end string) (line int, says string) {
	n := 0
	for l := range strings.Lines(s) {
		n++
		if strings.HasPrefix(l, begin+" ") || strings.TrimRight(l, "\r\n") == middle || strings.HasPrefix(l, end+" ") {
			return n, strings.TrimRight(l, "\r\n")
		}
	}
	return 0, ""
}

// Marked gives the text of both sides of a clash, with what clashes marked, as git merges a file
// (git-merge-file documentation), and how many parts of it clash.
func Marked(ctx context.Context, w *git.Weaver, base, mine, theirs string, named [2]string) (s string, parts int, err error) {
	dir, done, err := files.Scratch("uncinate-text-")
	if err != nil {
		return "", 0, err
	}
	defer fault.Also(&err, done)
	for name, s := range map[string]string{"base": base, "mine": mine, "theirs": theirs} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(s), 0o600); err != nil {
			return "", 0, err
		}
	}
	begin, _, _ := Marks(base, mine, theirs)
	at := func(name string) string { return filepath.Join(dir, name) }
	out, err := w.Repo.Run(ctx, git.Cmd{Dir: dir, Env: []string{"GIT_CEILING_DIRECTORIES=" + filepath.Dir(dir)},
		Args: []string{"merge-file", "-p", "-q", fmt.Sprintf("--marker-size=%d", len(begin)), "-L", named[0], "-L", "before", "-L", named[1], at("mine"), at("base"), at("theirs")}})
	if parts = git.Code(err); parts > 0 && parts < 128 {
		err = nil
	}
	return string(out), max(parts, 0), git.Fault(err, "git cannot merge the texts")
}
