package worktree

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Git never writes into the work tree. It lays the files that come in out in a folder of ours on
// the same file system, with an index of their own; from there each is exchanged for what stands
// in its place, which is aside then and is looked at only then: what is neither in git nor in a
// rescue copy gets one. Then the index is put in the place of the old one, and the branch moves.
// A journal in that folder says what was begun; where everything stands tells what is left.
// What is aside goes with a later run, once no program has it open.

// Laying is what a work tree is to become.
type Laying struct {
	Before string // what is done, as rescue copies say it
	From   string // the commit or tree whose files stand
	To     string // the one whose files will
	Branch string // the branch that moves to it; "" for none
	Head   string // where that stands; "" for no commit yet
	Switch string // the branch that is checked out then; "" for the same
	Hook   []string
	Fresh  bool     // nothing was written here before
	Way    []string // files in the way, of which a rescue copy is kept
	Says   string   // what the branch's log says of it; "" that commits were received
}

// laid is the journal.
type laid struct {
	Laying
	Restoring *Restoring `json:",omitempty"` // files that go back to what they were, in place of those of commits
	Kept      []int      `json:",omitempty"` // then: the rescue copies that were made of what is aside
	Ready     bool       // all is prepared: it is gone through with
	Index     string     // of the index that stood: its SHA-256
}

// gate is one writing.
type gate struct {
	desk    *desk.Desk
	folder  *project.Folder
	rescuer *Rescuer
	own     string // git's folder of this work tree
	at      string // our folder
	asides  string // where what is aside is afterwards
	said    laid
	dirs    map[string]bool // folders of the work tree that were seen to be folders
	locked  bool            // git's lock on the index is ours
	resumed bool
	fresh   bool // the index that was put in place tells how the files stand
	hasher  *hasher
	rescued []int
	bulk    int64 // bytes that are aside
	most    int64 // that may be for long
}

func gateOf(d *desk.Desk, f *project.Folder) (*gate, error) {
	own, _, err := git.Folders(f.Path)
	if err != nil {
		return nil, err
	}
	g := &gate{desk: d, folder: f, own: own, dirs: map[string]bool{}, most: mostAside}
	if g.rescuer, err = RescuerOf(d, f); err != nil {
		return nil, err
	}
	if err := project.OwnPlace(own); err != nil {
		return nil, err
	}
	base := filepath.Join(own, "uncinate")
	if same, err := files.SameDisk(own, f.Path); err != nil {
		return nil, err
	} else if !same {
		base = filepath.Join(f.Path, ".uncinate")
	}
	g.at, g.asides = filepath.Join(base, "laying"), filepath.Join(base, "asides")
	return g, nil
}

func (g *gate) journal() string { return filepath.Join(g.at, "journal.json") }
func (g *gate) lock() string    { return filepath.Join(g.own, "index.lock") }
func (g *gate) index() string   { return filepath.Join(g.at, "index") }

// refreshed is the prepared index again, once all files stand.
func (g *gate) refreshed() string { return filepath.Join(g.at, "index-refreshed") }
func (g *gate) staged(p string) string {
	return filepath.Join(g.at, "tree", filepath.FromSlash(p))
}
func (g *gate) work(p string) string { return filepath.Join(g.folder.Path, filepath.FromSlash(p)) }

// Lay brings the files of a commit into the folder, and moves the branch. Callers looked at what
// is in the way, and made rescue copies of it; what changed since is not lost, and is named. It
// gives the numbers of the rescue copies that were made on the way.
func Lay(ctx context.Context, d *desk.Desk, f *project.Folder, l Laying) ([]int, error) {
	g, err := gateOf(d, f)
	if err != nil {
		return nil, err
	}
	if !files.Missing(g.at) { // callers went through with it before they planned
		numbers, err := Heal(ctx, d, f)
		return numbers, errors.Join(err, g.meanwhile())
	}
	g.said.Laying = l
	all, err := g.changes(ctx)
	if err != nil {
		return nil, err
	}
	return g.through(ctx, all, g.stage)
}

// through prepares a writing, and goes through with it.
func (g *gate) through(ctx context.Context, all []change, stage func(context.Context, []change) error) ([]int, error) {
	err := stage(ctx, all)
	if err != nil && files.Full(g.own) { // what is aside may give the room that is missing
		if err := errors.Join(g.giveUp(), g.sweep(ctx, 0)); err != nil {
			return nil, err
		}
		err = stage(ctx, all)
	}
	if err != nil {
		return nil, errors.Join(err, g.giveUp())
	}
	err = g.finish(context.WithoutCancel(ctx), all)
	if err == nil {
		err = g.sweep(ctx, aWhile)
	}
	return g.rescued, err
}

// aWhile is how old what is aside must be before it goes. It goes after new files were made, not
// before: some file systems look long for a place for a new file where many went just now (ext4
// gives no inode again for a minute, and steps over each).
const aWhile = time.Minute

// LayMissing brings files of the index into the folder where nothing stands; what has come to
// are in the way stays.
func LayMissing(ctx context.Context, d *desk.Desk, f *project.Folder, paths []string) error {
	g, err := gateOf(d, f)
	if err != nil {
		return err
	}
	top := filepath.Join(g.at, "tree")
	if err := files.MakeFolder(top, 0o700); err != nil {
		return err
	}
	work, err := f.Work() // the person's own filters run, as with plain git
	if err != nil {
		return err
	}
	_, err = work.Named(g.own).Run(ctx, git.Cmd{Dir: top, Env: []string{"GIT_WORK_TREE=" + top}, In: strings.NewReader(strings.Join(paths, "\x00") + "\x00"),
		Args: []string{"checkout-index", "-q", "-z", "--stdin"}})
	if err != nil {
		return errors.Join(git.Fault(err, "git cannot lay the files out"), files.RemoveAll(g.at))
	}
	for _, p := range paths {
		there, err := g.parents(p, false)
		if dir := g.inPlace(p); err == nil && !there && dir != "" {
			err = fault.New(fault.Decision, "%s is where a folder comes in", text.Visible(dir)).
				Try("give it another name, then run this again", text.Command("mv", "--", g.work(dir), g.work(dir)+"-2"))
		}
		if err == nil {
			_, err = g.parents(p, true)
		}
		if err != nil {
			return errors.Join(err, files.RemoveAll(g.at))
		}
		if err := passMissing(files.MoveNew(g.staged(p), g.work(p))); err != nil && !errors.Is(err, fs.ErrExist) {
			return fault.New(fault.Failed, "%s cannot be received: %s", text.Visible(p), files.Plain(err)).Because(err)
		}
	}
	if _, err := f.Repo.Do(ctx, "update-index", "-q", "--refresh"); err != nil && git.Code(err) != 1 {
		return git.Fault(err, "git's index cannot be brought up to date")
	}
	return files.RemoveAll(g.at)
}

// inPlace gives what is in the place of a folder above a path; "" for nothing.
func (g *gate) inPlace(p string) string {
	for i, c := range p {
		if c == '/' {
			if k := files.KindOf(g.work(p[:i])); k != files.Folder {
				return text.Either(k == files.None, "", p[:i])
			}
		}
	}
	return ""
}

// change is one path that differs (git-diff-tree documentation, "RAW OUTPUT FORMAT").
type change struct{ path, oldMode, newMode, oldID, newID string }

func (c change) goes() bool { return c.newMode == "000000" }

func (g *gate) changes(ctx context.Context) ([]change, error) {
	if g.said.Restoring != nil {
		return g.said.Restoring.changes(), nil
	}
	lines, err := g.folder.Repo.Lines(ctx, "diff-tree", "-r", "-z", "--no-renames", g.said.From, g.said.To)
	if err != nil {
		return nil, git.Fault(err, "git cannot compare the commits")
	}
	var all []change
	for i := 0; i+1 < len(lines); i += 2 {
		x := strings.Fields(strings.TrimPrefix(lines[i], ":"))
		if len(x) != 5 {
			return nil, fault.New(fault.Failed, "git diff-tree says %s", text.Excerpt(lines[i], 80))
		}
		if !filepath.IsLocal(filepath.FromSlash(lines[i+1])) {
			return nil, fault.New(fault.Refused, "a path that comes in leads out of the folder: %s", text.Visible(lines[i+1]))
		}
		all = append(all, change{lines[i+1], x[0], x[1], x[2], x[3]})
	}
	slices.SortFunc(all, func(a, b change) int { return strings.Compare(a.path, b.path) })
	return all, nil
}

// stage prepares everything for files of commits.
func (g *gate) stage(ctx context.Context, all []change) error {
	return g.stageBy(ctx, all, func(ctx context.Context, index string) error {
		if err := g.readTree(ctx, index, "-u"); err != nil {
			if open := g.folder.Unmerged(ctx); len(open) > 0 {
				return g.unmerged(open)
			}
			return git.Fault(err, "git cannot bring the commits into the folder")
		}
		return g.leaveOut(ctx, index)
	})
}

// stageBy prepares everything, in our folder alone; git's lock on the index is held from here on.
// prepare lays the files out, and makes a copy of the index what it is to become.
func (g *gate) stageBy(ctx context.Context, all []change, prepare func(ctx context.Context, index string) error) error {
	if err := files.RemoveAll(g.at); err != nil {
		return err
	}
	for _, dir := range []string{"tree", "aside"} {
		if err := files.MakeFolder(filepath.Join(g.at, dir), 0o700); err != nil {
			return fault.New(fault.Failed, "the files cannot be prepared: %s", files.Plain(err)).Because(err)
		}
	}
	if strings.HasPrefix(g.at, g.folder.Path+string(filepath.Separator)+".uncinate") {
		if err := files.Write(filepath.Join(filepath.Dir(g.at), ".gitignore"), []byte("*\n"), 0o644); err != nil {
			return err
		}
	}
	if err := files.WriteUnsynced(g.journal(), g.said); err != nil { // without it, all is taken back too
		return err
	}
	if err := g.takeLock(); err != nil {
		return err
	}
	g.locked = true
	if err := g.stands(ctx); err != nil {
		return err
	}
	looked := ""
	for _, c := range all {
		dir := filepath.Dir(g.work(c.path))
		if dir == looked {
			continue
		}
		looked = dir
		if same, err := files.SameDisk(dir, g.at); err == nil && !same {
			return fault.New(fault.Decision, "%s is on another file system than the project", text.Visible(filepath.Dir(c.path))).
				Try("bring the files in with plain git", text.Command("git", "-C", g.folder.Path, "merge", g.said.To))
		}
	}
	index := g.index()
	err := files.CopyFile(filepath.Join(g.own, "index"), index)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if g.said.Index, err = sumOf(filepath.Join(g.own, "index")); err != nil {
		return err
	}
	if err := prepare(ctx, index); err != nil {
		return err
	}
	if err := g.fill(index); err != nil {
		return err
	}
	g.said.Ready = true
	return files.WriteJSON(g.journal(), g.said)
}

// unmerged says that plain git left files here that it could not merge, as a stash does that is brought
// back.
func (g *gate) unmerged(open []string) error {
	f := fault.New(fault.Decision, "%s here that plain git could not merge %s not decided yet", text.Count(len(open), "file"), desk.IsAre(len(open)))
	desk.FirstOf(f, desk.Visible(open))
	some := open[:min(len(open), desk.MostShown)]
	return f.Detail("Nothing changed.").Try("see how they stand", text.Command("git", "-C", g.folder.Path, "status")).
		Try("once they are right, tell git", text.Command(append([]string{"git", "-C", g.folder.Path, "add", "--"}, some...)...))
}

// leaveOut takes out what git was told to leave out of the folder, one by one: it knows to do so
// itself only where a whole part is left out (git-update-index documentation, "SKIP-WORKTREE BIT").
func (g *gate) leaveOut(ctx context.Context, index string) error {
	repo := *g.folder.Repo
	repo.GitDir = g.own
	out, err := repo.Run(ctx, git.Cmd{Dir: g.folder.Path, Env: []string{"GIT_INDEX_FILE=" + index, "GIT_WORK_TREE=" + g.folder.Path}, Args: []string{"ls-files", "-v", "-z"}})
	if err != nil {
		return git.Fault(err, "git's index cannot be read")
	}
	for _, line := range git.SplitNUL(out) {
		if mark, p, _ := strings.Cut(line, " "); mark == "S" || mark == "s" {
			if err := passMissing(os.Remove(g.staged(p))); err != nil {
				return err
			}
		}
	}
	return nil
}

// stands makes sure that the branch is where it was when the work was planned: a commit may have
// been made since, by plain git.
func (g *gate) stands(ctx context.Context) error {
	l := g.said
	if l.Branch == "" {
		at, err := g.folder.Repo.Resolve(ctx, "HEAD^{commit}")
		if err != nil && git.Code(err) != 1 {
			return git.Fault(err, "git cannot tell the commit")
		}
		if at != l.Head {
			return g.meanwhile()
		}
		return nil
	}
	now, err := g.folder.Repo.Do(ctx, "symbolic-ref", "-q", "HEAD")
	if err != nil && git.Code(err) != 1 {
		return git.Fault(err, "git cannot tell the branch")
	}
	at, err := g.folder.Repo.Resolve(ctx, "refs/heads/"+l.Branch)
	if err != nil && git.Code(err) != 1 {
		return git.Fault(err, "git cannot tell the commit")
	}
	if now != "refs/heads/"+l.Branch || at != l.Head {
		return g.meanwhile()
	}
	return nil
}

func (g *gate) meanwhile() error {
	return fault.New(fault.Decision, "a commit was made here meanwhile, or another branch checked out; everything stays as it is now").
		Try("look again", text.Command("uncinate", "status", g.folder.Path))
}

// readTree makes the index of the files that will be, from the one that stands, and with -u
// lays those that come in out in our folder (git-read-tree documentation, "Two Tree Merge").
// What is staged and does not differ is carried along; what would be lost stops it.
func (g *gate) readTree(ctx context.Context, index string, how string) error {
	work, err := g.folder.Work() // the person's own filters run, as with plain git
	if err != nil {
		return err
	}
	_, err = work.Named(g.own).Run(ctx, git.Cmd{Dir: filepath.Join(g.at, "tree"), Env: []string{"GIT_INDEX_FILE=" + index, "GIT_WORK_TREE=" + filepath.Join(g.at, "tree")},
		Args: []string{"read-tree", "-v", "--no-recurse-submodules", "-m", how, g.said.From, g.said.To}, Watch: project.Watch(g.desk, "Writing files", "Updating files")})
	g.desk.Tell.Progress("Writing files", 0, 0, "")
	return err
}

// takeLock takes git's own lock on the index (api-lockfile in git's technical documentation).
func (g *gate) takeLock() error {
	f, err := os.OpenFile(g.lock(), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return g.folder.Unlocked()
	}
	if err != nil {
		return err
	}
	return f.Close()
}

// fill puts the prepared index into the lock, from where it is moved to its place.
func (g *gate) fill(index string) error {
	data, err := os.ReadFile(index)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(g.lock(), os.O_WRONLY|os.O_TRUNC, 0)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Close()); err == nil {
		err = files.SameTime(index, g.lock()) // git takes files as new as its index for ones that may have changed (its racy-git documentation)
	}
	if err != nil {
		return fault.New(fault.Failed, "git's index cannot be written: %s", files.Plain(err)).Because(err)
	}
	return nil
}

// giveUp takes back what was prepared, where nothing was moved yet.
func (g *gate) giveUp() error {
	if g.locked {
		if err := files.Remove(g.lock()); err != nil {
			return err
		}
		g.locked = false
	}
	return files.RemoveAll(g.at)
}

// sumOf gives the SHA-256 of a file; of one that is not there, that of nothing.
func sumOf(path string) (string, error) {
	data, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), nil
}
