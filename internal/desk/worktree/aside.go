package worktree

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/openfiles"
)

var parts = sync.Pool{New: func() any { return new([64 << 10]byte) }}

// rawID gives the id of a file's contents, or a link's target, as they are, without the
// conversions that git may do: as many hexadecimal digits as are asked for tell which kind.
func rawID(path string, digits int) (string, error) {
	s, err := os.Lstat(path)
	if err != nil {
		return "", err
	}
	var h hash.Hash = sha1.New() // git's own kind of id; nobody's secret hangs on it
	if digits == 64 {
		h = sha256.New()
	}
	if s.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(path)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(h, "blob %d\x00%s", len(target), target)
		return hex.EncodeToString(h.Sum(nil)), nil
	}
	if !s.Mode().IsRegular() {
		return "", &fs.PathError{Op: "read", Path: path, Err: files.ErrNotRegular}
	}
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	fmt.Fprintf(h, "blob %d\x00", s.Size())
	part := parts.Get().(*[64 << 10]byte)
	defer parts.Put(part)
	if _, err := io.CopyBuffer(h, struct{ io.Reader }{f}, part[:]); err != nil { // a file by itself would make a buffer of its own
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// digits are how many an object's id has in this repository.
func (g *gate) digits() int {
	if n := max(len(g.said.To), len(g.folder.Head)); n > 0 {
		return n
	}
	return 40
}

// look finds, among what is aside, what is neither as in git nor in a rescue copy: it was changed
// since it was looked at last. It gets a copy, and is named.
func (g *gate) look(ctx context.Context, all []change) error {
	old := map[string]string{}
	for _, c := range all {
		if strings.Trim(c.oldID, "0") != "" {
			old[c.path] = c.oldID
		}
	}
	tops, err := filepath.Glob(filepath.Join(g.at, "aside*"))
	if err != nil {
		return err
	}
	for _, top := range tops {
		var odd []string // neither as in git, as it is
		ids := map[string]string{}
		err := eachFile(top, func(p string) error {
			x, err := g.hasher.at(filepath.Join(top, filepath.FromSlash(p)))
			if g.bulk += x.size; err == nil && x.id != old[p] {
				odd, ids[p] = append(odd, p), x.id
			}
			return err
		})
		if err != nil {
			return err
		}
		if odd, err = g.unlike(ctx, top, odd, old); err != nil {
			return err
		}
		if odd, err = g.uncopied(ctx, odd, ids); err != nil {
			return err
		}
		if err := g.keep(ctx, top, odd); err != nil {
			return err
		}
	}
	return nil
}

// keep makes a rescue copy of files that are aside, and names them.
func (g *gate) keep(ctx context.Context, top string, odd []string) error {
	if len(odd) == 0 {
		return nil
	}
	n, err := g.rescuer.KeepAll(ctx, Kept{Before: g.said.Before + ", of what was changed meanwhile", Root: top, Paths: odd})
	if err != nil || n == 0 {
		return err
	}
	g.rescued = append(g.rescued, n)
	names := desk.Visible(odd)
	more := ""
	if len(names) > desk.MostShown {
		names, more = names[:desk.MostShown], fmt.Sprintf(" and %d more", len(odd)-desk.MostShown)
	}
	why := text.Either(g.said.Fresh, "Lay in the folder already, other than it comes in, and is", "Changed by somebody meanwhile, and")
	g.desk.Tell.Note("%s kept as rescue copy %d as it was then: %s%s.", why, n, strings.Join(names, ", "), more)
	return nil
}

// unlike leaves out what git takes for what it has, after its conversions of line ends and by
// filters (gitattributes documentation).
func (g *gate) unlike(ctx context.Context, top string, odd []string, old map[string]string) ([]string, error) {
	var ask, out []string
	for _, p := range odd {
		if files.KindOf(filepath.Join(top, filepath.FromSlash(p))) == files.Regular && old[p] != "" && !strings.ContainsAny(p, "\n\"\\") {
			ask = append(ask, p)
		} else {
			out = append(out, p)
		}
	}
	if len(ask) == 0 {
		return out, nil
	}
	left, err := g.converted(ctx, top, ask, old)
	if err != nil || len(left) == 0 {
		return out, err
	}
	under, err := g.underAttributes(ctx, top, left)
	if err != nil || under == "" {
		return append(out, left...), err
	}
	if left, err = g.converted(ctx, under, left, old); err != nil {
		return nil, err
	}
	return append(out, left...), files.RemoveAll(under)
}

// converted gives those of some files below a folder that git does not take for what it has.
func (g *gate) converted(ctx context.Context, top string, ask []string, old map[string]string) ([]string, error) {
	repo := *g.folder.Repo
	repo.GitDir = g.own
	ids, err := git.HashPaths(ctx, repo.Run, git.Cmd{Dir: top, Env: []string{"GIT_WORK_TREE=" + top}}, ask)
	if err != nil {
		return nil, err
	}
	var out []string
	for i, p := range ask {
		if ids[i] != old[p] {
			out = append(out, p)
		}
	}
	return out, nil
}

// mostAttributes is how large a file of attributes may be, in bytes, as for git itself.
const mostAttributes = 100 << 20

// underAttributes puts files that are aside into a folder of ours with the attributes that held for
// them, which git reads from files alone (gitattributes documentation); "" where there are none.
func (g *gate) underAttributes(ctx context.Context, top string, paths []string) (string, error) {
	under := filepath.Join(g.at, "converted")
	if err := files.RemoveAll(under); err != nil {
		return "", err
	}
	lines, err := g.folder.Repo.Lines(ctx, "ls-tree", "-r", "-z", "--full-tree", g.said.From)
	if err != nil {
		return "", git.Fault(err, "git cannot list the files that were there")
	}
	at := func(p string) string { return filepath.Join(under, filepath.FromSlash(p)) }
	found := false
	for p, x := range Standings(lines) {
		if filepath.Base(filepath.FromSlash(p)) == ".gitattributes" && strings.HasPrefix(x.Mode, "100") && filepath.IsLocal(filepath.FromSlash(p)) {
			data, err := g.folder.Repo.Blob(ctx, x.ID, mostAttributes)
			if err == nil {
				err = files.Write(at(p), []byte(data), 0o600)
			}
			if err != nil {
				return "", err
			}
			found = true
		}
	}
	if !found {
		return "", nil
	}
	for _, p := range paths {
		err := files.MakeFolder(filepath.Dir(at(p)), 0o700)
		if err == nil {
			err = files.Remove(at(p)) // one of attributes that is asked about itself
		}
		if err == nil {
			err = os.Link(filepath.Join(top, filepath.FromSlash(p)), at(p))
		}
		if err != nil {
			return "", fault.New(fault.Failed, "git cannot look at what was there: %s", files.Plain(err)).Because(err)
		}
	}
	return under, nil
}

// uncopied leaves out what a rescue copy holds.
func (g *gate) uncopied(ctx context.Context, odd []string, ids map[string]string) ([]string, error) {
	if len(odd) == 0 || !g.rescuer.stands() {
		return odd, nil
	}
	var in bytes.Buffer
	for _, p := range odd {
		in.WriteString(ids[p] + "\n")
	}
	store := g.rescuer.store
	said, err := store.Run(ctx, git.Cmd{Dir: store.Dir, In: &in, Args: []string{"cat-file", "--batch-check"}})
	if err != nil {
		return nil, git.Fault(err, "the rescue copies cannot be read")
	}
	var out []string
	for i, line := range strings.Split(strings.TrimSpace(string(said)), "\n") {
		if i < len(odd) && strings.HasSuffix(line, " missing") {
			out = append(out, odd[i])
		}
	}
	return out, nil
}

// eachFile gives the files below a folder, by their paths in it, with slashes.
func eachFile(top string, see func(p string) error) error {
	return filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !e.Type().IsRegular() && e.Type()&fs.ModeSymlink == 0 {
			return err
		}
		rel, err := filepath.Rel(top, path)
		if err != nil {
			return err
		}
		return see(filepath.ToSlash(rel))
	})
}

// sweep takes away what earlier runs put aside, where no program has it open. What
// was written to it since, by a program that had it open, gets a rescue copy first. What is younger
// than least stays.
func (g *gate) sweep(ctx context.Context, least time.Duration) error {
	names, err := files.Names(g.asides)
	names = slices.DeleteFunc(names, func(name string) bool {
		at, err := strconv.ParseInt(name, 10, 64) // as putAside calls it
		return err == nil && time.Since(time.Unix(0, at)) < least
	})
	if err != nil || len(names) == 0 {
		return err
	}
	open, _ := openfiles.Below(g.asides) // where the system does not tell, nothing is known to be open
	for _, n := range names {
		top := filepath.Join(g.asides, n)
		if holdsOpen(open, top) {
			continue
		}
		marker, err := os.Lstat(filepath.Join(top, "marker"))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		asides, err := filepath.Glob(filepath.Join(top, "aside*"))
		if err != nil {
			return err
		}
		for _, aside := range asides {
			late, err := writtenLate(aside, marker)
			if err == nil {
				err = g.keepLate(ctx, aside, late, filepath.Join(top, filepath.Base(g.journal())))
			}
			if err != nil {
				return err
			}
		}
		if err := files.RemoveAll(top); err != nil {
			return err
		}
	}
	return nil
}

// writtenLate gives the files below a folder that are as new as the marker, or newer; all of them
// where there is none.
func writtenLate(top string, marker fs.FileInfo) (late []string, err error) {
	err = eachFile(top, func(p string) error {
		s, err := os.Lstat(filepath.Join(top, filepath.FromSlash(p)))
		if err == nil && (marker == nil || !s.ModTime().Before(marker.ModTime())) {
			late = append(late, p)
		}
		return err
	})
	return late, err
}

// What stays aside until the next run, and how long more than that does.
const (
	mostAside = 1 << 30 // bytes
	atLeast   = 10 * time.Second
)

// thin makes room where very much is aside: after a while the largest files go first, unless a
// program has them open or wrote to them.
func (g *gate) thin(ctx context.Context) error {
	if g.bulk <= g.most {
		return nil
	}
	g.desk.Tell.Note("%s of files that were replaced are aside; most of them are removed in ten seconds.", text.Size(g.bulk))
	if err := g.desk.Pause(ctx, atLeast); err != nil {
		return nil // the next run does it
	}
	type large struct {
		path string
		size int64
	}
	var all []large
	open, _ := openfiles.Below(g.asides)
	err := eachFile(g.asides, func(p string) error {
		full := filepath.Join(g.asides, filepath.FromSlash(p))
		size, changed, err := files.Stamp(full)
		run, rest, _ := strings.Cut(p, "/")
		_, marked, e := files.Stamp(filepath.Join(g.asides, run, "marker"))
		if _, held := open[full]; err == nil && e == nil && !held && changed < marked && strings.HasPrefix(rest, "aside") {
			all = append(all, large{full, size})
		}
		return err
	})
	if err != nil {
		return err
	}
	slices.SortFunc(all, func(a, b large) int { return cmp.Compare(b.size, a.size) })
	for _, x := range all {
		if g.bulk <= g.most {
			break
		}
		if err := files.Remove(x.path); err != nil {
			return err
		}
		g.bulk -= x.size
	}
	return nil
}

// stood gives the ids of the files that stood before a run, by its journal; none where that cannot be told.
func (g *gate) stood(ctx context.Context, journal string) map[string]Standing {
	var said laid
	if found, err := files.ReadJSON(journal, &said); err != nil || !found || !git.IsID(said.From) {
		return nil
	}
	lines, err := g.folder.Repo.Lines(ctx, "ls-tree", "-r", "-z", "--full-tree", said.From)
	if err != nil {
		return nil // it is not here any more
	}
	return Standings(lines)
}

// keepLate keeps what was written late, unless it is what stood before, as in a copy of the whole folder, in which all is new, or
// a copy holds it.
func (g *gate) keepLate(ctx context.Context, top string, late []string, journal string) error {
	if len(late) == 0 {
		return nil
	}
	ids, stood := map[string]string{}, g.stood(ctx, journal)
	for _, p := range late {
		id, err := rawID(filepath.Join(top, filepath.FromSlash(p)), g.digits())
		if err != nil {
			return err
		}
		ids[p] = id
	}
	late = slices.DeleteFunc(late, func(p string) bool { return stood[p].ID == ids[p] })
	late, err := g.uncopied(ctx, late, ids)
	if err != nil || len(late) == 0 {
		return err
	}
	n, err := g.rescuer.KeepAll(ctx, Kept{Before: "the files were replaced, of what a program wrote to them meanwhile", Root: top, Paths: late})
	if err == nil && n > 0 {
		g.desk.Tell.Note("A program wrote to %s while it was replaced: %s kept as rescue copy %d.", text.Excerpt(strings.Join(desk.Visible(late), ", "), 120), text.Either(len(late) == 1, "it is", "they are"), n)
	}
	return err
}

func holdsOpen(open map[string]openfiles.Process, top string) bool {
	for name := range open {
		if strings.HasPrefix(name, top+string(filepath.Separator)) {
			return true
		}
	}
	return false
}
