package worktree

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/git"
)

// BringOptions say what of a copy is wanted, and where to.
type BringOptions struct {
	Folder string
	Number int
	Paths  []string // "" for all files
	As     string   // the branch for its commits
	Into   string   // another folder for its files

	Preview bool // only say what would be brought
}

// Brought is what was brought back.
type Brought struct {
	Number   int      `json:"number"`
	Branches []string `json:"branches,omitempty" says:"new branches at the commits that were kept"`
	Files    []string `json:"files,omitempty"`
	Gone     []string `json:"gone,omitempty" says:"files that were not there when the copy was kept, and are not again"`
	Folder   string   `json:"folder" says:"where the files are now"`
}

// BringRescue brings commits back as branches and files to their places. Nothing that
// stands is written over, but what was put in the place of the files when they were kept: git has
// that. Where something else stands, it is told before anything is done.
func BringRescue(ctx context.Context, d *desk.Desk, o BringOptions) (_ *Brought, err error) {
	r, err := rescuesAt(ctx, d, o.Folder)
	if err != nil {
		return nil, err
	}
	held, err := d.Alone(ctx, r.repo.Dir)
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, held.Release)
	if _, err := Heal(ctx, d, r.folder); err != nil {
		return nil, err
	}
	c, err := r.one(ctx, o.Number)
	if err != nil {
		return nil, err
	}
	b := &bringing{r: r, copied: c, folder: r.repo.Dir, own: o.Into == ""}
	if !b.own {
		if b.folder, err = filepath.Abs(o.Into); err != nil {
			return nil, err
		}
	}
	if err := b.sort(ctx, o.Paths); err != nil {
		return nil, err
	}
	out := &Brought{Number: c.Number, Folder: b.folder, Files: b.puts, Gone: b.goes}
	if len(o.Paths) == 0 {
		if out.Branches, err = r.branches(ctx, c, o.As, o.Preview); err != nil {
			return nil, err
		}
	}
	if o.Preview {
		return out, nil
	}
	return out, b.do(ctx)
}

// bringing is what a copy changes in a folder.
type bringing struct {
	r      *Rescuer
	copied RescueCopy
	folder string
	own    bool     // it is the project's folder
	puts   []string // files that are laid
	goes   []string // files that were not there when the copy was kept, and stand as was left then
}

// sort finds what is to be done; what is in the way is a fault.
func (b *bringing) sort(ctx context.Context, paths []string) error {
	c := b.copied
	wanted, number := c.Files, strconv.Itoa(c.Number)
	given := func(p string) bool { return len(paths) == 0 || slices.Contains(paths, p) }
	if len(paths) > 0 {
		wanted = nil
		for _, p := range paths {
			if _, was := c.left[p]; c.files[p].ID == "" && !was {
				return fault.New(fault.Failed, "the rescue copy %d holds no file %s", c.Number, text.Visible(p)).
					Try("see what it holds", text.Command("uncinate", "rescue", "show", number))
			} else if c.files[p].ID != "" {
				wanted = append(wanted, p)
			}
		}
	}
	stands, err := b.standing(ctx)
	if err != nil {
		return err
	}
	gives := map[string]bool{}
	for _, p := range c.Gone {
		if stands[p] && given(p) {
			gives[p], b.goes = true, append(b.goes, p)
		}
	}
	var inWay []string
	for _, p := range wanted {
		switch same, free, err := b.compare(p, gives); {
		case err != nil:
			return err
		case same:
		case free || stands[p]:
			b.puts = append(b.puts, p)
		default:
			inWay = append(inWay, p)
		}
	}
	if len(inWay) == 0 {
		return nil
	}
	f := fault.New(fault.Decision, "%s of the copy would overwrite what is there now", text.Count(len(inWay), "file"))
	desk.FirstOf(f, desk.Visible(inWay))
	return f.Try("bring them into another folder", text.Command("uncinate", "rescue", "bring", number, "--into", "rescued-"+number))
}

// standing tells of the paths at which something was put when the copy was kept whether just that
// stands there now.
func (b *bringing) standing(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	if !b.own {
		return out, nil
	}
	var ask []string
	for p, was := range b.copied.left {
		s, err := os.Lstat(b.at(p))
		if err != nil || !filepath.IsLocal(filepath.FromSlash(p)) || modeOf(s) != was.Mode {
			continue
		}
		id, err := rawID(b.at(p), len(was.ID))
		switch {
		case err == nil && id == was.ID:
			out[p] = true
		case err == nil && s.Mode().IsRegular() && !strings.ContainsAny(p, "\n\"\\"):
			ask = append(ask, p)
		}
	}
	if len(ask) == 0 {
		return out, nil
	}
	hash := b.r.repo.Run
	if work, err := b.r.folder.Work(); err == nil { // the person's own filters run, as when it was put there
		hash = work.Run
	}
	ids, err := git.HashPaths(ctx, hash, git.Cmd{}, ask)
	if err != nil {
		return nil, err
	}
	for i, id := range ids {
		if id == b.copied.left[ask[i]].ID {
			out[ask[i]] = true
		}
	}
	return out, nil
}

func (b *bringing) at(p string) string { return filepath.Join(b.folder, filepath.FromSlash(p)) }

// modeOf is a file's mode as git writes it; "" for what git does not keep.
func modeOf(s fs.FileInfo) string {
	switch m := s.Mode(); {
	case m&fs.ModeSymlink != 0:
		return "120000"
	case !m.IsRegular():
		return ""
	case m&0o100 != 0:
		return "100755"
	}
	return "100644"
}

// compare reports whether a file is there already as it was kept, or nothing is in its place, but for
// what gives way.
func (b *bringing) compare(p string, gives map[string]bool) (same, free bool, err error) {
	if !filepath.IsLocal(filepath.FromSlash(p)) {
		return false, false, fault.New(fault.Refused, "the rescue copy %d holds a path that leads out of the folder: %s", b.copied.Number, text.Visible(p))
	}
	for i, c := range p {
		if c == '/' {
			if s, err := os.Lstat(b.at(p[:i])); err == nil && !s.IsDir() {
				return false, gives[p[:i]], nil
			}
		}
	}
	s, err := os.Lstat(b.at(p))
	if errors.Is(err, fs.ErrNotExist) {
		return false, true, nil
	}
	if err != nil {
		return false, false, nil // something is where a folder must be
	}
	if s.IsDir() { // free where all that is in it gives way
		free = true
		err := eachFile(b.at(p), func(below string) error {
			free = free && gives[p+"/"+below]
			return nil
		})
		return false, free && len(gives) > 0, err
	}
	was := b.copied.files[p]
	if modeOf(s) != was.Mode {
		return false, false, nil
	}
	if x, noted := b.copied.modes[p]; noted && x.perm != s.Mode().Perm() {
		return false, false, nil
	}
	id, err := rawID(b.at(p), len(was.ID))
	if errors.Is(err, fs.ErrPermission) {
		return false, false, nil
	}
	return id == was.ID, false, err
}

// do lays the files out.
func (b *bringing) do(ctx context.Context) error {
	if !b.own {
		if err := os.MkdirAll(b.folder, 0o777); err != nil {
			return fault.New(fault.Failed, "the folder %s cannot be made", text.Visible(b.folder)).Because(err)
		}
		return b.r.layOut(ctx, b.copied, b.puts, b.folder)
	}
	if len(b.puts)+len(b.goes) == 0 {
		return nil
	}
	var all []Restored
	for _, p := range b.goes {
		all = append(all, Restored{Path: p, Was: b.copied.left[p]})
	}
	for _, p := range b.puts {
		all = append(all, Restored{Path: p, Is: b.copied.files[p], Was: b.copied.left[p]})
	}
	_, err := restore(ctx, b.r.desk, b.r.folder, Restoring{Before: "rescue bring", Files: all}, func(g *gate) error {
		return b.r.layOut(ctx, b.copied, b.puts, filepath.Join(g.at, "tree"))
	})
	return err
}

// layOut writes files of a copy where nothing stands.
func (r *Rescuer) layOut(ctx context.Context, c RescueCopy, paths []string, folder string) error {
	root, err := os.OpenRoot(folder) // links on the way lead nowhere outside of it
	if err != nil {
		return err
	}
	defer root.Close()
	var ids strings.Builder
	for _, p := range paths {
		ids.WriteString(c.files[p].ID + "\n")
	}
	i := 0
	return r.store.Objects(ctx, strings.NewReader(ids.String()), func(_ git.Object, contents io.Reader) error {
		p := paths[i]
		i++
		if err := lay(root, c, p, contents); err != nil {
			return fault.New(fault.Failed, "the file %s cannot be brought back", text.Visible(p)).Because(err)
		}
		return nil
	})
}

// lay writes one of them.
func lay(root *os.Root, c RescueCopy, p string, contents io.Reader) error {
	kind, name := c.files[p].Mode, filepath.FromSlash(p)
	if err := root.MkdirAll(filepath.Dir(name), 0o777); err != nil {
		return err
	}
	if kind == "120000" {
		target, err := io.ReadAll(io.LimitReader(contents, mostTarget))
		if err != nil {
			return err
		}
		return root.Symlink(string(target), name)
	}
	mode := fs.FileMode(0o666)
	if kind == "100755" {
		mode = 0o777
	}
	was, noted := c.modes[p]
	if noted {
		mode = was.perm | 0o200 // it is written first
	}
	f, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, contents)
	if err = errors.Join(err, f.Close()); err == nil && noted {
		err = errors.Join(root.Chmod(name, was.perm), root.Chtimes(name, was.time, was.time))
	}
	return err
}

// mostTarget is how long the name is to which a link leads, in bytes.
const mostTarget = 64 << 10
