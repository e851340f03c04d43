package worktree

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Rescue copies are in a bare repository of their own beside git's, with objects of its
// own: refs of ours among the person's would travel with a mirroring push, and objects
// that are shared would go with the next tidying up. Each copy is a commit whose parents
// are the commits that were kept, with all that leads to them, and whose tree holds the files
// that were.

// CopyRefs is where the copies' refs are in their repository.
const CopyRefs = "refs/copies/"

// CopiesKept counts the rescue copies in a project's git folder without a process.
func CopiesKept(common string) int {
	refs, err := git.ReadRefs(filepath.Join(common, "uncinate", "rescue.git"))
	if err != nil {
		return 0 // none was ever made
	}
	n := 0
	for ref := range refs {
		if strings.HasPrefix(ref, CopyRefs) {
			n++
		}
	}
	return n
}

// RescueCopy is one copy that was kept before something was overwritten or dropped.
type RescueCopy struct {
	Number  int       `json:"number"`
	When    time.Time `json:"when"`
	Until   time.Time `json:"until" says:"when it goes by itself"`
	Before  string    `json:"before" says:"what was about to be done"`
	Commits []KeptRef `json:"commits,omitempty"`
	Files   []string  `json:"files,omitempty" says:"paths from the project's top"`
	Gone    []string  `json:"gone,omitempty" says:"files that were not there, and that were put back then"`
	id      string
	modes   map[string]fileMode
	files   map[string]Standing
	left    map[string]Standing // what was put in the place of files, or where none had been
}

// Standing is what stands at a path: its mode and id as git has them.
type Standing struct{ Mode, ID string }

// fileMode is what git does not keep of a file.
type fileMode struct {
	perm fs.FileMode
	time time.Time
}

// KeptRef is a branch, or another ref, as it stood.
type KeptRef struct {
	Ref    string `json:"ref"`
	Commit string `json:"commit"`
	Title  string `json:"title,omitempty" says:"the commit's first line"`
}

// Moving is a ref that is about to be overwritten, or dropped where next is empty.
type Moving struct{ Ref, ID, Next string }

// Rescuer keeps the copies of one repository.
type Rescuer struct {
	desk   *desk.Desk
	repo   *git.Repo // the project
	folder *project.Folder
	store  *git.Repo // the copies
	Common string    // the project's git folder
}

// RescuerOf gives the rescuer of a project; its store is made when the first copy is.
func RescuerOf(d *desk.Desk, f *project.Folder) (*Rescuer, error) {
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return nil, err
	}
	if err := project.OwnPlace(common); err != nil {
		return nil, err
	}
	store := f.Repo.Git.In(filepath.Join(common, "uncinate", "rescue.git"))
	store.GitDir = store.Dir
	store.Safe = []git.Set{{Key: "core.fsync", Value: "committed,reference"}, {Key: "core.bare", Value: "true"}, {Key: "core.hooksPath", Value: os.DevNull}, {Key: "protocol.version", Value: "2"}}
	config, err := git.ReadConfig(filepath.Join(store.Dir, "config"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.Failed, "the place for rescue copies cannot be read: %s", text.Visible(store.Dir)).Because(err)
	}
	if !project.LooksThrough(d, config) {
		return nil, fault.New(fault.Refused, "%s was changed by someone: it names what this program never wrote into it", text.Visible(filepath.Join(store.Dir, "config"))).
			Try("look what it says", text.Command("cat", "--", filepath.Join(store.Dir, "config"))).
			Try("lay the copies aside", text.Command("mv", "--", store.Dir, store.Dir+"-aside"))
	}
	return &Rescuer{desk: d, repo: f.Repo, folder: f, store: store, Common: common}, nil
}

// Staged is what is in the index alone.
type Staged struct{ Path, Mode, ID string }

// Kept says what a rescue copy is to hold.
type Kept struct {
	Before string // what is about to be done
	Refs   []Moving
	Paths  []string // files as they are in the folder
	Root   string   // another folder in which they are; "" for the project's
	Staged []Staged
	Left   map[string]Standing // what is put in the place of files, or where none was; git has it
}

// Keep makes a rescue copy of refs and files, before they are overwritten, and gives its
// number. Files that are no longer there are passed over; of nothing at all no copy is
// made, and the number is 0.
func (r *Rescuer) Keep(ctx context.Context, before string, refs []Moving, paths []string) (int, error) {
	return r.KeepAll(ctx, Kept{Before: before, Refs: refs, Paths: paths})
}

// KeepAll makes a rescue copy as Keep does.
func (r *Rescuer) KeepAll(ctx context.Context, k Kept) (_ int, err error) {
	if len(k.Refs)+len(k.Paths)+len(k.Staged)+len(k.Left) == 0 {
		return 0, nil
	}
	held, err := r.hold(ctx)
	if err != nil {
		return 0, err
	}
	defer fault.Also(&err, held.Release)
	if err := r.ready(ctx); err != nil {
		return 0, err
	}
	set, err := r.desk.Settings()
	if err != nil {
		return 0, err
	}
	var message strings.Builder
	until := r.desk.Now().UTC().AddDate(0, 0, set.Kept()).Truncate(time.Second)
	fmt.Fprintf(&message, "Before: %s\nUntil: %s\n", strings.Join(strings.Fields(text.Visible(k.Before)), " "), until.Format(time.RFC3339))
	args := []string{}
	for _, m := range k.Refs {
		if err := r.bringIn(ctx, m); err != nil {
			return 0, err
		}
		fmt.Fprintf(&message, "Ref: %s %s\n", m.ID, m.Ref)
		if !slices.Contains(args, m.ID) {
			args = append(args, "-p", m.ID)
		}
	}
	top, n, err := r.treeOf(ctx, k, &message)
	if err != nil {
		return 0, git.Fault(err, "a rescue copy of the files cannot be made, so nothing was overwritten")
	}
	if len(k.Refs)+len(k.Left) == 0 && n == 0 {
		return 0, nil
	}
	when := r.desk.Now().UTC().Format(time.RFC3339)
	out, err := r.store.Run(ctx, git.Cmd{Dir: r.store.Dir, Args: append([]string{"commit-tree", top, "-F", "-"}, args...), In: strings.NewReader(message.String()),
		Env: []string{"GIT_AUTHOR_NAME=uncinate", "GIT_AUTHOR_EMAIL=uncinate@localhost", "GIT_COMMITTER_NAME=uncinate", "GIT_COMMITTER_EMAIL=uncinate@localhost", "GIT_AUTHOR_DATE=" + when, "GIT_COMMITTER_DATE=" + when}})
	if err != nil {
		return 0, git.Fault(err, "a rescue copy cannot be made, so nothing was overwritten")
	}
	return r.number(ctx, strings.TrimSpace(string(out)))
}

// number makes sure that a copy holds all that leads to it, and gives it the next number.
func (r *Rescuer) number(ctx context.Context, id string) (int, error) {
	if _, err := r.store.Do(ctx, "rev-list", "--objects", "--quiet", id, "--not", "--glob="+CopyRefs+"*"); err != nil {
		return 0, git.Fault(err, "the rescue copy is not whole, so nothing was overwritten")
	}
	for try := 0; ; try++ {
		all, err := r.list(ctx)
		if err != nil {
			return 0, err
		}
		number := 1
		for _, c := range all {
			number = max(number, c.Number+1)
		}
		_, err = r.store.Do(ctx, "update-ref", CopyRefs+strconv.Itoa(number), id, strings.Repeat("0", len(id)))
		if err != nil && try < 3 && ctx.Err() == nil {
			continue // another work tree of the repository may have taken the number
		}
		if err != nil {
			return 0, git.Fault(err, "a rescue copy cannot be made, so nothing was overwritten")
		}
		over := slices.DeleteFunc(all, func(c RescueCopy) bool { return !c.Until.Before(r.desk.Now()) })
		return number, r.drop(ctx, over)
	}
}

// bringIn brings a ref's whole history into the copies' repository: what leads to it from
// elsewhere in the project may go too one day.
func (r *Rescuer) bringIn(ctx context.Context, m Moving) error {
	args := []string{"fetch", "-q", "--no-tags", "--no-write-fetch-head", "--no-auto-maintenance", "--recurse-submodules=no"}
	partly, err := filepath.Glob(filepath.Join(r.Common, "objects", "pack", "*.promisor"))
	if err != nil {
		return err
	}
	switch {
	case len(partly) > 0:
		// Of a history that was received in part the rest is with the host: what it does not
		// have is kept, with all that is in it (partial-clone documentation).
		depth, err := r.depth(ctx, m)
		if err != nil {
			return err
		}
		args = append(args, depth)
	case !files.Missing(filepath.Join(r.Common, "shallow")):
		args = append(args, "--update-shallow") // the project itself has no more than that
	case !files.Missing(filepath.Join(r.store.Dir, "shallow")):
		args = append(args, "--unshallow")
	}
	if _, err := r.folder.Work(); err != nil { // git runs in the project too as it hands them over
		return err
	}
	_, err = r.store.Works().Do(ctx, append(args, "--", r.Common, m.ID)...)
	return git.Fault(err, "a rescue copy of %s cannot be made, so nothing was overwritten", text.Visible(m.Ref))
}

// depth tells a fetch to bring the commits of a ref that the host is not known to have, and one
// more.
func (r *Rescuer) depth(ctx context.Context, m Moving) (string, error) {
	args := []string{"rev-list", "--count", m.ID, "--not"}
	if m.Next != "" {
		args = append(args, m.Next)
	}
	out, err := r.repo.Do(ctx, append(args, "--exclude="+m.Ref, "--remotes")...)
	if err != nil {
		return "", git.Fault(err, "git cannot tell what would be lost with %s", text.Visible(m.Ref))
	}
	n, err := strconv.Atoi(out)
	return "--depth=" + strconv.Itoa(n+1), err
}

// list gives the copies, the newest first.
func (r *Rescuer) list(ctx context.Context) ([]RescueCopy, error) {
	if !r.stands() {
		return nil, nil
	}
	out, err := r.store.Do(ctx, "for-each-ref", "--format=%(refname) %(objectname) %(committerdate:unix)%0a%(contents)%00", CopyRefs)
	if err != nil {
		return nil, git.Fault(err, "the rescue copies cannot be listed")
	}
	var all []RescueCopy
	for item := range strings.SplitSeq(out, "\x00") {
		head, body, _ := strings.Cut(strings.TrimSpace(item), "\n")
		fields := strings.Fields(head)
		if len(fields) != 3 {
			continue
		}
		c := RescueCopy{id: fields[1]}
		c.Number, _ = strconv.Atoi(strings.TrimPrefix(fields[0], CopyRefs))
		seconds, _ := strconv.ParseInt(fields[2], 10, 64)
		c.When = time.Unix(seconds, 0).UTC()
		for line := range strings.Lines(body) {
			key, value, _ := strings.Cut(strings.TrimSpace(line), ": ")
			switch key {
			case "Before":
				c.Before = value
			case "Until":
				c.Until, _ = time.Parse(time.RFC3339, value)
			case "Ref":
				id, ref, _ := strings.Cut(value, " ")
				c.Commits = append(c.Commits, KeptRef{Ref: ref, Commit: id})
			case "File":
				c.note(value)
			case "Left":
				c.noteLeft(value)
			}
		}
		all = append(all, c)
	}
	slices.SortFunc(all, func(a, b RescueCopy) int { return b.Number - a.Number })
	return all, nil
}

// note takes the mode and time of a file from a copy's message.
func (c *RescueCopy) note(line string) {
	x := strings.SplitN(line, " ", 3)
	if len(x) != 3 {
		return
	}
	perm, e1 := strconv.ParseUint(x[0], 8, 32)
	nano, e2 := strconv.ParseInt(x[1], 10, 64)
	path, e3 := strconv.Unquote(x[2])
	if errors.Join(e1, e2, e3) != nil {
		return
	}
	if c.modes == nil {
		c.modes = map[string]fileMode{}
	}
	c.modes[path] = fileMode{fs.FileMode(perm).Perm(), time.Unix(0, nano)}
}

// fill adds what a copy holds.
func (r *Rescuer) fill(ctx context.Context, c *RescueCopy) (err error) {
	lines, err := r.store.Lines(ctx, "ls-tree", "-r", "-z", c.id)
	if err != nil {
		return git.Fault(err, "the rescue copy cannot be read")
	}
	c.files = Standings(lines)
	c.Files = append(c.Files, slices.Sorted(maps.Keys(c.files))...)
	for p := range c.left {
		if c.files[p].ID == "" {
			c.Gone = append(c.Gone, p)
		}
	}
	slices.Sort(c.Gone)
	for i, k := range c.Commits {
		if c.Commits[i].Title, err = r.store.Do(ctx, "log", "-1", "--no-show-signature", "--format=%s", k.Commit); err != nil {
			return git.Fault(err, "the rescue copy cannot be read")
		}
	}
	return nil
}

func (r *Rescuer) drop(ctx context.Context, which []RescueCopy) error {
	if len(which) == 0 {
		return nil
	}
	for _, c := range which {
		if _, err := r.store.Do(ctx, "update-ref", "-d", CopyRefs+strconv.Itoa(c.Number), c.id); err != nil {
			return git.Fault(err, "the rescue copy %d cannot be dropped", c.Number)
		}
	}
	_, err := r.store.Do(ctx, "gc", "-q", "--prune=now")
	return git.Fault(err, "the place for rescue copies cannot be tidied up")
}
