package worktree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/world/git"
	"uncinate/internal/world/tree"
)

// mostAtOnce is how large a file may be, in bytes, to be kept with others by one run of git, which
// must know its size before; it is held in memory meanwhile.
const mostAtOnce = 16 << 20

// rescued is a file that goes into a copy.
type rescued struct {
	path, full string
	mode, id   string
	about      fs.FileInfo
}

// treeOf keeps files as they are, byte for byte, and what is staged, and gives a tree of them; modes
// and times that git does not keep go into the message, as does what is put in their place.
func (r *Rescuer) treeOf(ctx context.Context, k Kept, message io.Writer) (top string, n int, err error) {
	root := k.Root
	if root == "" {
		root = r.repo.Dir
	}
	all, err := r.writeAll(ctx, root, k.Paths, k.Root != "")
	for try := 0; try < 3 && errors.Is(err, fs.ErrNotExist); try++ { // one went just now
		all, err = r.writeAll(ctx, root, k.Paths, k.Root != "")
	}
	if err != nil {
		return "", 0, err
	}
	var index strings.Builder
	for _, x := range all {
		if x.mode != "120000" {
			fmt.Fprintf(message, "File: %04o %d %s\n", x.about.Mode().Perm(), x.about.ModTime().UnixNano(), strconv.Quote(x.path))
		}
		fmt.Fprintf(&index, "%s %s\t%s\x00", x.mode, x.id, x.path)
		n++
	}
	for _, x := range k.Staged {
		if err := r.repo.Objects(ctx, strings.NewReader(x.ID+"\n"), func(_ git.Object, contents io.Reader) error {
			_, err := r.store.Hash(ctx, contents, true)
			return err
		}); err != nil {
			return "", 0, err
		}
		fmt.Fprintf(&index, "%s %s\t%s\x00", x.Mode, x.ID, x.Path)
		n++
	}
	for _, p := range slices.Sorted(maps.Keys(k.Left)) {
		fmt.Fprintf(message, "Left: %s %s %s\n", k.Left[p].Mode, k.Left[p].ID, strconv.Quote(p))
	}
	top, err = r.store.TreeWith(ctx, filepath.Join(r.store.Dir, "index."+strconv.Itoa(os.Getpid())), "", index.String())
	return top, n, err
}

// writeAll keeps the contents of files; those that are no longer there are passed over. With ours, they
// are in a folder of ours, where one that may not be read is made so.
func (r *Rescuer) writeAll(ctx context.Context, root string, paths []string, ours bool) ([]rescued, error) {
	var all []rescued
	var small []int // which of them go together
	for _, p := range paths {
		x := rescued{path: p, full: filepath.Join(root, filepath.FromSlash(p))}
		var err error
		if x.about, err = os.Lstat(x.full); errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return nil, err
		}
		switch m := x.about.Mode(); {
		case m&fs.ModeSymlink != 0:
			x.mode = "120000"
		case !m.IsRegular():
			continue // a folder holds nothing of its own; a device or pipe is not contents
		case m&0o100 != 0:
			x.mode = "100755"
		default:
			x.mode = "100644"
		}
		if all = append(all, x); x.about.Size() <= mostAtOnce {
			small = append(small, len(all)-1)
		}
	}
	ids, err := r.store.HashAll(ctx, len(small), func(i int) ([]byte, error) {
		x := all[small[i]]
		if x.mode == "120000" {
			target, err := os.Readlink(x.full)
			return []byte(target), err
		}
		f, err := x.open(root, ours)
		if err != nil {
			return nil, err
		}
		data, err := io.ReadAll(f)
		return data, errors.Join(err, f.Close())
	})
	if err != nil {
		return nil, err
	}
	for i, at := range small {
		all[at].id = ids[i]
	}
	for i := range all {
		if x := &all[i]; x.id == "" {
			f, err := x.open(root, ours)
			if err == nil {
				x.id, err = r.store.Hash(ctx, f, true)
				err = errors.Join(err, f.Close())
			}
			if err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

func (x rescued) open(root string, ours bool) (*os.File, error) {
	f, err := tree.Open(root, x.path)
	if errors.Is(err, fs.ErrPermission) && ours && os.Chmod(x.full, 0o600) == nil {
		return tree.Open(root, x.path)
	}
	return f, err
}

// noteLeft takes what was put in the place of a file from a copy's message.
func (c *RescueCopy) noteLeft(line string) {
	x := strings.SplitN(line, " ", 3)
	if len(x) != 3 || !git.IsID(x[1]) {
		return
	}
	path, err := strconv.Unquote(x[2])
	if err != nil {
		return
	}
	if c.left == nil {
		c.left = map[string]Standing{}
	}
	c.left[path] = Standing{x[0], x[1]}
}
