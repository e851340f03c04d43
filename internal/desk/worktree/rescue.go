package worktree

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
	"uncinate/internal/world/tree"
)

// Rescue copies lie in a bare repository of their own beside git's, with objects of its
// own: refs of ours among the person's would travel with a mirroring push, and objects
// that are shared would go with the next tidying up. Each copy is a commit whose parents
// are the commits that were kept and whose tree holds the files that were.

// keptFor is how long a rescue copy is kept unless said otherwise.
const keptFor = 90 * 24 * time.Hour

// CopyRefs is where the copies' refs stand in their repository.
const CopyRefs = "refs/copies/"

// RescueCopy is one copy that was kept before something was overwritten or dropped.
type RescueCopy struct {
	Number  int       `json:"number"`
	When    time.Time `json:"when"`
	Until   time.Time `json:"until" says:"when it goes by itself"`
	Before  string    `json:"before" says:"what was about to be done"`
	Commits []KeptRef `json:"commits,omitempty"`
	Files   []string  `json:"files,omitempty" says:"paths from the project's top"`
	id      string
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
	store  *git.Repo // the copies
	Common string    // the project's git folder
}

// RescuerOf gives the rescuer of a project; its store is made when the first copy is.
func RescuerOf(d *desk.Desk, f *project.Folder) (*Rescuer, error) {
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return nil, err
	}
	store := f.Repo.Git.In(filepath.Join(common, "uncinate", "rescue.git"))
	store.Safe = append(git.Harmless(nil), "core.fsync=committed,reference", "core.bare=true", "protocol.version=2")
	return &Rescuer{desk: d, repo: f.Repo, store: store, Common: common}, nil
}

func (r *Rescuer) stands() bool {
	_, err := os.Stat(filepath.Join(r.store.Dir, "refs"))
	return err == nil
}

// ready makes the copies' repository.
func (r *Rescuer) ready(ctx context.Context) error {
	if r.stands() {
		return nil
	}
	form, err := r.repo.Do(ctx, "rev-parse", "--show-object-format")
	if err != nil {
		return git.Fault(err, "git cannot tell how it keeps its objects")
	}
	if err := os.MkdirAll(filepath.Dir(r.store.Dir), 0o700); err != nil {
		return err
	}
	_, err = r.store.Run(ctx, git.Cmd{Dir: r.Common, Config: r.store.Safe, Args: []string{"init", "-q", "--bare", "--template=", "--object-format=" + form, "--", r.store.Dir}})
	return git.Fault(err, "the place for rescue copies cannot be made")
}

// Keep makes a rescue copy of refs and files, before they are overwritten, and gives its
// number. Files that are not there any more are passed over; of nothing at all no copy is
// made, and the number is 0.
func (r *Rescuer) Keep(ctx context.Context, before string, refs []Moving, paths []string) (int, error) {
	if err := r.ready(ctx); err != nil {
		return 0, err
	}
	long, err := keepFor(r.desk)
	if err != nil {
		return 0, err
	}
	var message strings.Builder
	until := r.desk.Now().UTC().Add(long).Truncate(time.Second)
	fmt.Fprintf(&message, "Before: %s\nUntil: %s\n", strings.Join(strings.Fields(text.Visible(before)), " "), until.Format(time.RFC3339))
	parents := []string{}
	for _, m := range refs {
		if err := r.bringIn(ctx, m); err != nil {
			return 0, err
		}
		fmt.Fprintf(&message, "Ref: %s %s\n", m.ID, m.Ref)
		if !slices.Contains(parents, m.ID) {
			parents = append(parents, m.ID)
		}
	}
	top, files, err := r.treeOf(ctx, paths)
	if err != nil {
		return 0, git.Fault(err, "a rescue copy of the files cannot be made, so nothing was overwritten")
	}
	if len(refs) == 0 && files == 0 {
		return 0, nil
	}
	args := []string{"commit-tree", top, "-F", "-"}
	for _, p := range parents {
		args = append(args, "-p", p)
	}
	when := r.desk.Now().UTC().Format(time.RFC3339)
	id, err := r.store.Run(ctx, git.Cmd{Dir: r.store.Dir, Config: r.store.Safe, Args: args, In: strings.NewReader(message.String()),
		Env: []string{"GIT_AUTHOR_NAME=uncinate", "GIT_AUTHOR_EMAIL=uncinate@localhost", "GIT_COMMITTER_NAME=uncinate", "GIT_COMMITTER_EMAIL=uncinate@localhost", "GIT_AUTHOR_DATE=" + when, "GIT_COMMITTER_DATE=" + when}})
	if err != nil {
		return 0, git.Fault(err, "a rescue copy cannot be made, so nothing was overwritten")
	}
	all, err := r.list(ctx)
	if err != nil {
		return 0, err
	}
	number := 1
	for _, c := range all {
		number = max(number, c.Number+1)
	}
	if _, err := r.store.Do(ctx, "update-ref", CopyRefs+strconv.Itoa(number), strings.TrimSpace(string(id)), strings.Repeat("0", len(strings.TrimSpace(string(id))))); err != nil {
		return 0, git.Fault(err, "a rescue copy cannot be made, so nothing was overwritten")
	}
	var over []RescueCopy
	for _, c := range all {
		if c.Until.Before(r.desk.Now()) {
			over = append(over, c)
		}
	}
	return number, r.drop(ctx, over)
}

// bringIn brings the commits that would be lost into the copies' repository, with all that
// is in them. What lies before them is in the project anyway.
func (r *Rescuer) bringIn(ctx context.Context, m Moving) error {
	args := []string{"rev-list", "--count", m.ID, "--not"}
	if m.Next != "" {
		args = append(args, m.Next)
	}
	count, err := r.repo.Do(ctx, append(args, "--exclude="+m.Ref, "--glob=refs/*")...)
	if err != nil {
		return git.Fault(err, "git cannot tell what would be lost with %s", text.Visible(m.Ref))
	}
	n, err := strconv.Atoi(count)
	if err != nil {
		return err
	}
	_, err = r.store.Do(ctx, "fetch", "-q", "--no-tags", "--no-write-fetch-head", "--no-auto-maintenance", "--recurse-submodules=no", "--depth="+strconv.Itoa(n+1), "--", r.Common, m.ID)
	return git.Fault(err, "a rescue copy of %s cannot be made, so nothing was overwritten", text.Visible(m.Ref))
}

// treeOf writes files as they lie in the folder, byte for byte, and gives a tree of them.
func (r *Rescuer) treeOf(ctx context.Context, paths []string) (top string, n int, err error) {
	var index bytes.Buffer
	for _, p := range paths {
		mode, id, err := r.write(ctx, p)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return "", 0, err
		}
		fmt.Fprintf(&index, "%s %s\t%s\x00", mode, id, p)
		n++
	}
	top, err = r.store.TreeWith(ctx, filepath.Join(r.store.Dir, "index."+strconv.Itoa(os.Getpid())), "", index.String())
	return top, n, err
}

// write keeps one file's contents.
func (r *Rescuer) write(ctx context.Context, p string) (mode, id string, err error) {
	full := filepath.Join(r.repo.Dir, filepath.FromSlash(p))
	s, err := os.Lstat(full)
	if err != nil {
		return "", "", err
	}
	var in io.Reader
	switch {
	case s.Mode()&fs.ModeSymlink != 0:
		target, err := os.Readlink(full)
		if err != nil {
			return "", "", err
		}
		mode, in = "120000", strings.NewReader(target)
	case s.Mode().IsRegular():
		f, err := tree.Open(r.repo.Dir, p)
		if err != nil {
			return "", "", err
		}
		defer f.Close()
		if mode, in = "100644", f; s.Mode()&0o100 != 0 {
			mode = "100755"
		}
	default:
		return "", "", fs.ErrNotExist // a folder holds nothing of its own; a device or pipe is no contents
	}
	id, err = r.store.Hash(ctx, in, true)
	return mode, id, err
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
			}
		}
		all = append(all, c)
	}
	slices.SortFunc(all, func(a, b RescueCopy) int { return b.Number - a.Number })
	return all, nil
}

// fill adds what a copy holds.
func (r *Rescuer) fill(ctx context.Context, c *RescueCopy) (err error) {
	if c.Files, err = r.store.Lines(ctx, "ls-tree", "-r", "-z", "--name-only", c.id); err != nil {
		return git.Fault(err, "the rescue copy cannot be read")
	}
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

// keepFor is how long new copies are kept.
func keepFor(d *desk.Desk) (time.Duration, error) {
	s, err := d.Settings()
	if err == nil && s.RescueDays > 0 {
		return time.Duration(s.RescueDays) * 24 * time.Hour, nil
	}
	return keptFor, err
}
