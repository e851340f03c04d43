package git

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/world/files"
)

// mostIndex is how much of an index is copied, in bytes: that of ten million files.
const mostIndex = 2 << 30

// TreeWith makes a tree of another ("" for an empty one) with entries put in, each as
// update-index takes them with -z --index-info (git-update-index's page), and gives its id.
// index is the path of the temporary index, which is removed.
func (r *Repo) TreeWith(ctx context.Context, index, tree, entries string) (string, error) {
	return r.treeWith(ctx, index, tree, entries, nil)
}

func (r *Repo) treeWith(ctx context.Context, index, tree, entries string, env []string) (_ string, err error) {
	defer fault.Also(&err, func() error { // git has ended, so nobody reads it
		if gone := os.Remove(index); !errors.Is(gone, fs.ErrNotExist) {
			return gone
		}
		return nil
	})
	env = append(slices.Clone(env), "GIT_INDEX_FILE="+index)
	if tree != "" {
		if _, err := r.Run(ctx, Cmd{Dir: r.Dir, Env: env, Args: []string{"read-tree", tree}}); err != nil {
			return "", err
		}
	}
	if _, err := r.Run(ctx, Cmd{Dir: r.Dir, Env: env, In: strings.NewReader(entries), Args: []string{"update-index", "-z", "--index-info"}}); err != nil {
		return "", err
	}
	out, err := r.Run(ctx, Cmd{Dir: r.Dir, Env: env, Args: []string{"write-tree"}})
	return strings.TrimSpace(string(out)), err
}

// IndexCopy copies the work tree's index to a temporary file; done removes it. The copy has the
// time of the original, by which git knows the files that may have changed since without
// looking otherwise (git's technical documentation, racy-git). Where there is no index yet,
// nothing is at the path.
func (r *Repo) IndexCopy() (path string, done func() error, err error) {
	own, _, err := Folders(r.Dir)
	if err != nil {
		return "", func() error { return nil }, err
	}
	copied, err := os.CreateTemp("", "uncinate-index-")
	if err != nil {
		return "", func() error { return nil }, files.NoTemporary(err)
	}
	path = copied.Name()
	done = func() error {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	was, err := files.Open(filepath.Join(own, "index"))
	if errors.Is(err, fs.ErrNotExist) {
		return path, done, errors.Join(copied.Close(), os.Remove(path)) // an empty file is not an index; git makes one
	}
	if err != nil {
		return path, done, errors.Join(err, copied.Close())
	}
	n, err := io.Copy(copied, io.LimitReader(was, mostIndex))
	if err == nil && n == mostIndex {
		err = fmt.Errorf("the index has more than %d bytes", mostIndex)
	}
	s, e := was.Stat()
	if closed := copied.Close(); closed != nil || err != nil && n < mostIndex {
		err = files.NoTemporary(cmp.Or(err, closed))
	}
	if err = errors.Join(err, e, was.Close()); err == nil {
		err = os.Chtimes(path, s.ModTime(), s.ModTime())
	}
	return path, done, err
}

// Store makes a bare repository for ourselves in a folder, in the place of one that is there;
// with objects, it borrows from that folder of objects (gitrepository-layout's page,
// objects/info/alternates). format is how its objects are named; "" for SHA-1.
func (g *Git) Store(ctx context.Context, dir, objects, format string) (*Repo, error) {
	if err := os.RemoveAll(dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return nil, err
	}
	if _, err := g.Run(ctx, Cmd{Args: []string{"init", "-q", "--bare", "--template=", "--", dir}, Env: []string{"GIT_DEFAULT_HASH=" + cmp.Or(format, "sha1")}}); err != nil {
		return nil, err
	}
	if objects != "" {
		if err := os.WriteFile(filepath.Join(dir, "objects/info/alternates"), []byte(objects+"\n"), 0o600); err != nil {
			return nil, err
		}
	}
	store := g.In(dir)
	store.GitDir = dir
	return store, nil
}

// IndexCount is how many files the index of a work tree has (gitformat-index documentation); 0 where it does not say.
func IndexCount(top string) int {
	own, _, err := Folders(top)
	if err != nil {
		return 0
	}
	f, err := files.Open(filepath.Join(own, "index"))
	if err != nil {
		return 0
	}
	defer f.Close()
	head := make([]byte, 12)
	if _, err := io.ReadFull(f, head); err != nil || string(head[:4]) != "DIRC" {
		return 0
	}
	return int(binary.BigEndian.Uint32(head[8:]))
}

// Same tells one state of a work tree's index from another.
type Same struct {
	size int64
	time int64 // in nanoseconds
}

// IndexStamp stamps a work tree's index; false where there is none.
func (r *Repo) IndexStamp() (Same, bool) {
	own, _, err := Folders(r.Dir)
	if err != nil {
		return Same{}, false
	}
	size, modified, err := files.Stamp(filepath.Join(own, "index"))
	return Same{size, modified}, err == nil
}

// PutIndex puts a copy of another index in the place of a work tree's, under git's lock on it (gitformat-index and git-update-index
// documentation), if that is still as it was stamped; false where it is not, or another program holds the lock. The copy keeps
// its time, by which git knows the files that may have changed since.
func (r *Repo) PutIndex(from string, was Same) (done bool, err error) {
	own, _, err := Folders(r.Dir)
	if err != nil {
		return false, err
	}
	index, lock := filepath.Join(own, "index"), filepath.Join(own, "index.lock")
	s, err := os.Lstat(index)
	if err != nil || !s.Mode().IsRegular() {
		return false, nil // git is to say what is wrong
	}
	ready, err := os.CreateTemp(own, "index.uncinate-")
	if err != nil {
		return false, err
	}
	defer fault.Also(&err, func() error {
		if gone := os.Remove(ready.Name()); !errors.Is(gone, fs.ErrNotExist) {
			return gone
		}
		return nil
	})
	err = copyIndex(ready, from)
	if err = errors.Join(err, ready.Chmod(s.Mode().Perm()), ready.Sync(), ready.Close()); err != nil {
		return false, err
	}
	t, err := os.Stat(from)
	if err == nil {
		err = os.Chtimes(ready.Name(), t.ModTime(), t.ModTime())
	}
	if err != nil {
		return false, err
	}
	if os.Link(ready.Name(), lock) != nil {
		return false, nil // held, or a file system without links
	}
	if now, ok := r.IndexStamp(); !ok || now != was {
		return false, os.Remove(lock)
	}
	if err := os.Rename(lock, index); err != nil {
		return false, errors.Join(err, os.Remove(lock))
	}
	return true, nil
}

func copyIndex(to io.Writer, from string) error {
	f, err := files.Open(from)
	if err != nil {
		return err
	}
	n, err := io.Copy(to, io.LimitReader(f, mostIndex))
	if err == nil && n == mostIndex {
		err = fmt.Errorf("the index has more than %d bytes", mostIndex)
	}
	return errors.Join(err, f.Close())
}
