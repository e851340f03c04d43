// Package tree walks a folder in parallel, matches git's ignore rules on the way, and
// reads files without following what leads out of it. Nothing in the folder is run.
package tree

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"uncinate/internal/core/ignore"
	"uncinate/internal/core/survey"
)

// MostEntries is how many entries are taken in.
const MostEntries = 5_000_000

// ErrTooMany is the fault of a folder with more entries than MostEntries.
var ErrTooMany = errors.New("too many files")

// walker is one walk under way.
type walker struct {
	top string

	mu    sync.Mutex
	ready *sync.Cond
	todo  []work
	busy  int
	out   map[string][]survey.File // by the folder; folders among them stand for what they hold
	count int
	err   error
}

type work struct {
	path  string         // from the top; "" for the top itself
	lists []*ignore.List // that hold above it
	rule  *ignore.Rule   // that leaves the whole folder out
}

// Walk lists what is in a folder, sorted by path. outer are the rules that stand
// outside the work tree, the weightiest last. A link is not followed, a nested
// repository is not entered, and the folder's own .git is not listed.
func Walk(ctx context.Context, top string, outer []*ignore.List) ([]survey.File, error) {
	w := &walker{top: top, todo: []work{{lists: outer}}, out: map[string][]survey.File{}}
	w.ready = sync.NewCond(&w.mu)
	stop := context.AfterFunc(ctx, func() {
		w.mu.Lock()
		w.err = ctx.Err()
		w.mu.Unlock()
		w.ready.Broadcast()
	})
	defer stop()
	var all sync.WaitGroup
	for range max(2, runtime.GOMAXPROCS(0)) {
		all.Go(w.run)
	}
	all.Wait()
	if w.err != nil {
		return nil, w.err
	}
	return w.inOrder(make([]survey.File, 0, w.count), ""), nil
}

// inOrder puts together what the folders hold, in the order of the paths: each folder's
// own list is in that order already, a folder counting as its name and a slash.
func (w *walker) inOrder(all []survey.File, path string) []survey.File {
	for _, f := range w.out[path] {
		if f.Type == folder {
			all = w.inOrder(all, f.Path)
		} else {
			all = append(all, f)
		}
	}
	return all
}

// byPath compares two entries of one folder.
func byPath(a, b survey.File) int {
	if a.Type != folder && b.Type != folder {
		return strings.Compare(a.Path, b.Path)
	}
	key := func(f survey.File) string {
		if f.Type == folder {
			return f.Path + "/"
		}
		return f.Path
	}
	return strings.Compare(key(a), key(b))
}

func (w *walker) run() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for {
		for len(w.todo) == 0 && w.busy > 0 && w.err == nil {
			w.ready.Wait()
		}
		if len(w.todo) == 0 || w.err != nil {
			w.ready.Broadcast()
			return
		}
		job := w.todo[len(w.todo)-1]
		w.todo = w.todo[:len(w.todo)-1]
		w.busy++
		w.mu.Unlock()
		entries, more, err := w.folder(job)
		w.mu.Lock()
		w.busy--
		w.out[job.path] = entries
		w.count += len(entries)
		w.todo = append(w.todo, more...)
		if w.err == nil {
			w.err = err
		}
		if w.count > MostEntries {
			w.err = ErrTooMany
		}
		w.ready.Broadcast()
	}
}

// folder lists one folder.
func (w *walker) folder(job work) (out []survey.File, more []work, err error) {
	list, err := listFolder(filepath.Join(w.top, filepath.FromSlash(job.path)))
	if err != nil {
		if job.path == "" {
			return nil, nil, err
		}
		if errors.Is(err, fs.ErrNotExist) {
			return nil, nil, nil // it went away meanwhile
		}
		return []survey.File{{Path: job.path, Type: survey.Unreadable, Rule: job.rule}}, nil, nil
	}
	lists := job.lists
	if job.rule == nil {
		if l := rulesIn(w.top, job.path, list); l != nil {
			lists = append(slices.Clip(lists), l)
		}
	}
	prefix := job.path
	if prefix != "" {
		prefix += "/"
	}
	if slices.ContainsFunc(list, func(f survey.File) bool { return f.Type == folder }) {
		slices.SortFunc(list, byPath) // by their names alone, which is quicker
	}
	out = make([]survey.File, 0, len(list))
	seen := 0
	for i := range list {
		name, f := list[i].Path, list[i]
		if strings.EqualFold(name, ".git") {
			continue
		}
		seen++
		f.Path = prefix + name
		isFolder := f.Type == folder
		f.Rule = job.rule
		if f.Rule == nil {
			if r := ignore.Decide(lists, f.Path, isFolder); r != nil && !r.Negated {
				f.Rule = r
			}
		}
		if !isFolder {
			out = append(out, f)
			continue
		}
		if _, err := os.Lstat(filepath.Join(w.top, filepath.FromSlash(f.Path), ".git")); err == nil {
			out = append(out, survey.File{Path: f.Path, Type: survey.Nested, Rule: f.Rule})
			continue
		}
		out = append(out, survey.File{Path: f.Path, Type: folder})
		more = append(more, work{f.Path, lists, f.Rule})
	}
	if seen == 0 && job.path != "" {
		out = append(out, survey.File{Path: job.path, Type: survey.EmptyFolder, Rule: job.rule})
	}
	return out, more, nil
}

// rulesIn reads the ignore file of a folder that holds list.
func rulesIn(top, base string, list []survey.File) *ignore.List {
	if !slices.ContainsFunc(list, func(f survey.File) bool { return strings.EqualFold(f.Path, ".gitignore") }) {
		return nil
	}
	return IgnoreFile(top, base)
}

// folder is the type of a folder that is to be entered.
const folder = survey.Type(255)

// mostRules is how many bytes of an ignore file are read. git reads 100 MB; nobody
// writes so many rules.
const mostRules = 4 << 20

// IgnoreFile reads the ignore file of a folder, "" for the top; nil where there is none.
// git reads no ignore file through a link (gitignore documentation, "NOTES").
func IgnoreFile(top, base string) *ignore.List {
	source := ".gitignore"
	if base != "" {
		source = base + "/.gitignore"
	}
	f, err := Open(top, source)
	if err != nil {
		return nil
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, mostRules))
	if err != nil {
		return nil
	}
	return ignore.Parse(string(data), source, base)
}

// RulesOf reads an ignore file that is outside a work tree; nil where there is none.
func RulesOf(path string) *ignore.List {
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	if s, err := f.Stat(); err != nil || !s.Mode().IsRegular() {
		return nil
	}
	data, err := io.ReadAll(io.LimitReader(f, mostRules))
	if err != nil {
		return nil
	}
	return ignore.Parse(string(data), path, "")
}

// Open opens a regular file below a folder for reading: neither a link in its place nor
// a pipe or device, on which a read would wait.
func Open(top, path string) (*os.File, error) {
	full := filepath.Join(top, filepath.FromSlash(path))
	f, err := openPlain(full)
	if err != nil {
		return nil, err
	}
	s, err := f.Stat()
	if err == nil && !s.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: full, Err: errors.New("not a regular file")}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Copy copies a file from below one folder to below another: its contents, or a link as
// it is; whether it may be run; and its time.
func Copy(from, to string, f survey.File) error {
	target := filepath.Join(to, filepath.FromSlash(f.Path))
	if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
		return err
	}
	if f.Type == survey.Link {
		return os.Symlink(f.Target, target)
	}
	in, err := Open(from, f.Path)
	if err != nil {
		return err
	}
	defer in.Close()
	mode := fs.FileMode(0o644)
	if f.Exec {
		mode = 0o755
	}
	out, err := os.OpenFile(target, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close(), os.Chtimes(target, time.Time{}, time.Unix(0, f.ModTime)))
}
