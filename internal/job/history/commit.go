package history

import (
	"bytes"
	"context"
	"errors"
	"maps"
	pathOf "path" // its own name is that of what it is about here
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// A commit is made of an index of its own: the last commit's files, with those that were chosen
// put in as they are in the folder, and those that are gone, or were taken out of git on purpose,
// taken out. What else is in the project's index keeps its place.

// puts is what a commit changes.
type puts struct {
	in, out bytes.Buffer // paths, each ended by NUL
	staged  bytes.Buffer // those that are in the index and, being outside of a sparse checkout, not in the folder
	said    map[string]bool
	above   map[string]bool // the folders that lead to them
}

// putsOf sorts what was chosen. A file that was taken out of the index, and is here still, goes
// from the commit and stays here.
func putsOf(f *project.Folder, chosen []git.Entry) *puts {
	p := &puts{said: map[string]bool{}, above: map[string]bool{}}
	put := func(b *bytes.Buffer, path string) {
		b.WriteString(path + "\x00")
		p.said[path] = true
		for dir := pathOf.Dir(path); dir != "." && !p.above[dir]; dir = pathOf.Dir(dir) {
			p.above[dir] = true
		}
	}
	named := map[string]bool{}
	for _, e := range chosen {
		named[e.Path] = true
	}
	for _, e := range chosen {
		if e.From != "" {
			put(&p.out, e.From)
		}
		if e.Kind == "deleted" || e.XY[1] == 'D' {
			put(&p.out, e.Path)
		} else if e.XY[1] == '.' && files.KindOf(filepath.Join(f.Path, filepath.FromSlash(e.Path))) == files.None {
			if beneath(e.Path, named) {
				continue // what is in the folder now is where its folder would be
			}
			p.said[e.Path] = true
			p.staged.WriteString(e.Staged + "\t" + e.Path + "\x00")
		} else {
			put(&p.in, e.Path)
		}
	}
	return p
}

// beneath reports whether one of some paths is a folder above another.
func beneath(path string, of map[string]bool) bool {
	for dir := pathOf.Dir(path); dir != "."; dir = pathOf.Dir(dir) {
		if of[dir] {
			return true
		}
	}
	return false
}

// into puts it all into an index; "" is the project's own.
func (p *puts) into(ctx context.Context, d *desk.Desk, f *project.Folder, index string) error {
	var env []string
	if index != "" {
		env = []string{"GIT_INDEX_FILE=" + index}
	}
	for _, x := range []struct {
		paths []byte
		args  []string
	}{{p.out.Bytes(), []string{"--force-remove"}}, {p.in.Bytes(), []string{"--add", "--replace"}}} {
		if len(x.paths) == 0 {
			continue
		}
		if x.args[0] == "--add" && index != "" {
			take := project.Taking{Desk: d, Run: f.Repo.Run, Env: env, How: x.args}
			if err := take.Into(ctx, f, git.SplitNUL(x.paths)); err != nil {
				return git.Fault(err, "git does not take the files")
			}
			continue
		}
		args := append(append([]string{"update-index"}, x.args...), "-z", "--stdin")
		if _, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, Env: env, In: bytes.NewReader(x.paths), Args: args}); err != nil {
			return git.Fault(err, "git does not take the files")
		}
	}
	if p.staged.Len() == 0 || index == "" {
		return nil
	}
	_, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, Env: env, In: bytes.NewReader(p.staged.Bytes()), Args: []string{"update-index", "-z", "--index-info"}})
	return git.Fault(err, "git does not take the files")
}

// mostTwice is how many bytes git is let read a second time, for the project's own index.
const mostTwice = 8 << 20

// intoOwn puts it all into the project's own index. Where that holds nothing else of its own than the last commit does, and the
// files are large, the index that was prepared takes its place, so that they are not read again.
func (p *puts) intoOwn(ctx context.Context, d *desk.Desk, f *project.Folder, st *git.Status, index string, stamped bool, stamp git.Same) error {
	plain := stamped && p.staged.Len() == 0 && p.out.Len() == 0
	for _, e := range st.Entries {
		plain = plain && (e.Untracked() || p.said[e.Path] || e.XY[0] == '.' && e.XY[1] != 'A') && e.Kind != "clashing"
	}
	for _, s := range f.Settings {
		switch strings.ToLower(s.Key) {
		case "core.splitindex", "core.fsmonitor", "core.sparsecheckout", "index.sparse", "core.untrackedcache":
			plain = false
		}
	}
	if plain {
		sum := int64(0)
		for _, path := range git.SplitNUL(p.in.Bytes()) {
			sum += max(files.Size(filepath.Join(f.Path, filepath.FromSlash(path))), 0)
		}
		if sum >= mostTwice {
			if done, err := f.Repo.PutIndex(index, stamp); done || err != nil {
				return err
			}
		}
	}
	return p.into(ctx, d, f, "")
}

// commit commits exactly the files that were chosen. The person's own hooks run, as with plain
// git. The project's index gets the files first: cut off there, they are staged, and the next
// save takes them. Where the commit is refused it is put back.
func commit(ctx context.Context, d *desk.Desk, f *project.Folder, st *git.Status, chosen []git.Entry, message string, out *Saved) (err error) {
	p := putsOf(f, chosen)
	stamp, stamped := f.Repo.IndexStamp()
	index, done, err := f.Repo.IndexCopy()
	defer fault.Also(&err, done)
	if err != nil {
		return err
	}
	env := []string{"GIT_INDEX_FILE=" + index}
	base := []string{"read-tree", "-m", "-i", "HEAD"}
	if f.Head == "" {
		base = []string{"read-tree", "--empty"}
	}
	if _, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, Env: env, Args: base}); err != nil {
		return git.Fault(err, "git cannot read the last commit")
	}
	if err := p.into(ctx, d, f, index); err != nil {
		return err
	}
	if len(takenOut(st)) > 0 { // by that alone nothing would change
		if same, err := asBefore(ctx, f, env); err != nil {
			return err
		} else if same {
			return forgotten(f, chosen)
		}
	}
	was, err := stood(ctx, f, p)
	if err != nil {
		return err
	}
	if out.Rescued, err = keepStaged(ctx, d, f, st, p, was); err != nil {
		return err
	}
	says, gone, err := files.Temporary("uncinate-text-", strings.TrimSpace(message)+"\n")
	defer fault.Also(&err, gone)
	if err == nil {
		err = p.intoOwn(ctx, d, f, st, index, stamped, stamp)
	}
	if err == nil {
		err = hooked(ctx, f, func(hooks []string) error {
			work, err := f.Work()
			if err != nil {
				return err
			}
			_, err = work.Run(ctx, git.Cmd{Env: append(hooks, env...), Args: []string{"commit", "-q", "--cleanup=whitespace", "-F", says}})
			return err
		})
	}
	if err != nil {
		return errors.Join(err, putBack(context.WithoutCancel(ctx), f, p, was))
	}
	before := f.Head
	if out.Commit, err = f.Repo.Do(ctx, "rev-parse", "HEAD"); err != nil {
		return git.Fault(err, "the commit cannot be found")
	}
	f.Head = out.Commit
	return p.check(ctx, d, f, before)
}

// asBefore reports whether an index holds just what the last commit does.
func asBefore(ctx context.Context, f *project.Folder, env []string) (bool, error) {
	if f.Head == "" {
		return false, nil
	}
	out, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, Env: env, Args: []string{"write-tree"}})
	if err != nil {
		return false, git.Fault(err, "git cannot write the tree")
	}
	was, err := f.Repo.Resolve(ctx, "HEAD^{tree}")
	return strings.TrimSpace(string(out)) == was, git.Fault(err, "git cannot read the last commit")
}

// forgotten says why there is nothing to save of files of which git told that they differ: they were
// only taken out of its index, and are here unchanged.
func forgotten(f *project.Folder, chosen []git.Entry) error {
	paths := make([]string, len(chosen))
	for i, e := range chosen {
		paths[i] = e.Path
	}
	slices.Sort(paths)
	paths = slices.Compact(paths)
	out := fault.New(fault.Decision, "there is nothing to save: what you chose is as in the last commit").
		Detail("git was told to forget %s, and would take it up again just as it was.", text.Excerpt(strings.Join(desk.Visible(paths), ", "), 200))
	return out.Try("let it stay as it was", text.Command(append([]string{"git", "-C", f.Path, "add", "--"}, paths...)...)).
		Try("or take it out of the next commit and keep it here", text.Command("uncinate", "ignore", "add", "--folder", f.Path, "/"+paths[0], "--untrack"))
}

// check compares the commit with what was said of it: a check of the person's own may have put
// in more. What it changed of the files that were chosen the project's index gets too.
func (p *puts) check(ctx context.Context, d *desk.Desk, f *project.Folder, before string) error {
	var err error
	if before == "" {
		if before, err = worktree.EmptyTree(ctx, f); err != nil {
			return err
		}
	}
	lines, err := f.Repo.Lines(ctx, "diff-tree", "-r", "-z", "--no-renames", before, f.Head)
	if err != nil {
		return git.Fault(err, "the commit cannot be read")
	}
	var more []string
	var index strings.Builder
	for i := 0; i+1 < len(lines); i += 2 {
		x, path := strings.Fields(lines[i]), lines[i+1]
		if len(x) != 5 {
			continue
		}
		if !p.said[path] && !p.below(path) {
			more = append(more, text.Visible(path))
		} else if x[4] != "D" {
			index.WriteString(x[1] + " " + x[3] + "\t" + path + "\x00")
		}
	}
	if len(more) > 0 {
		d.Tell.Note("Note: a check of your own put more into the commit: %s.", text.Excerpt(strings.Join(more, ", "), 200))
	}
	changed, err := f.Repo.Lines(ctx, "diff-index", "--cached", "-z", "--name-only", "HEAD")
	if err != nil {
		return git.Fault(err, "the commit cannot be read")
	}
	if !slices.ContainsFunc(changed, func(c string) bool { return p.said[c] }) || index.Len() == 0 {
		return nil
	}
	_, err = f.Repo.Run(ctx, git.Cmd{Dir: f.Path, In: strings.NewReader(index.String()), Args: []string{"update-index", "-z", "--index-info"}})
	return git.Fault(err, "git does not take the files")
}

// below reports whether a path is below one that was taken in, such as a file that became a
// folder.
func (p *puts) below(path string) bool { return beneath(path, p.said) || p.above[path] }

// stood gives the entries of the index that taking the files in changes: those of the files, and
// those that cannot be beside them.
func stood(ctx context.Context, f *project.Folder, p *puts) (map[string]worktree.Staged, error) {
	all, err := worktree.IndexOf(ctx, f)
	maps.DeleteFunc(all, func(path string, _ worktree.Staged) bool { return !p.said[path] && !p.below(path) })
	return all, err
}

// keepStaged keeps a rescue copy of what is staged alone and would be dropped: files that are
// gone from the folder, or that cannot be beside one that is taken in.
func keepStaged(ctx context.Context, d *desk.Desk, f *project.Folder, st *git.Status, p *puts, was map[string]worktree.Staged) (int, error) {
	k := worktree.Kept{Before: "save"}
	for _, e := range st.Entries {
		entry, stands := was[e.Path]
		if !stands || e.Untracked() || e.XY[0] == '.' || e.XY[0] == 'D' || p.said[e.Path] && e.XY[1] != 'D' {
			continue
		}
		k.Staged = append(k.Staged, entry)
	}
	if len(k.Staged) == 0 {
		return 0, nil
	}
	r, err := worktree.RescuerOf(d, f)
	if err != nil {
		return 0, err
	}
	return r.KeepAll(ctx, k)
}

// putBack puts the project's index back where the commit was refused.
func putBack(ctx context.Context, f *project.Folder, p *puts, was map[string]worktree.Staged) error {
	var in, gone strings.Builder
	for path := range p.said {
		if _, stands := was[path]; !stands {
			gone.WriteString(path + "\x00")
		}
	}
	for path, entry := range was {
		in.WriteString(entry.Mode + " " + entry.ID + "\t" + path + "\x00")
	}
	for _, x := range []struct{ in, how string }{{gone.String(), "--force-remove"}, {in.String(), "--index-info"}} {
		args := []string{"update-index", "-z", x.how}
		if x.how != "--index-info" {
			args = append(args, "--stdin")
		}
		if _, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, In: strings.NewReader(x.in), Args: args}); err != nil {
			return git.Fault(err, "git's index cannot be put back as it was")
		}
	}
	_, err := f.Repo.Do(ctx, "update-index", "-q", "--refresh") // it ends with 1 where files differ, as they do
	if err != nil && git.Code(err) != 1 {
		return git.Fault(err, "git's index cannot be put back as it was")
	}
	return nil
}
