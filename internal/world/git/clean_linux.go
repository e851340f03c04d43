//go:build !portable

package git

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"uncinate/internal/world/files"
)

// SurelyClean reports whether the files are all as in the index, and the index as in a tree, by what the index notes of
// them and without a run of git (gitformat-index documentation): false also where git would have to look closer. settings
// are those that hold in the repository.
func (r *Repo) SurelyClean(ctx context.Context, settings []Setting, tree string) bool {
	for _, s := range settings {
		switch strings.ToLower(s.Key) {
		case "core.filemode", "core.trustctime", "core.symlinks":
			if !s.True() {
				return false
			}
		case "core.checkstat", "core.fsmonitor", "core.worktree", "core.splitindex", "core.sparsecheckout":
			return false
		}
	}
	own, _, err := Folders(r.Dir)
	if err != nil {
		return false
	}
	path := filepath.Join(own, "index")
	s, err := os.Stat(path)
	if err != nil {
		return false
	}
	data, err := files.Read(path, mostIndex)
	if err != nil {
		return false
	}
	entries, ok := indexEntries(data, len(tree)/2, tree)
	if !ok {
		return false
	}
	return asNoted(ctx, r.Dir, entries, s.ModTime())
}

// entry is what the index notes of a file.
type entry struct {
	ctime, mtime  unix.Timespec
	ino, mode     uint32
	uid, gid, len uint32
	path          string
}

// indexEntries reads an index whose tree is known to be one; false for one of another form. Ids have size bytes.
func indexEntries(data []byte, size int, tree string) ([]entry, bool) {
	be := binary.BigEndian
	var out []entry
	at, ok := eachEntry(data, size, func(e []byte, flags uint16, path string) bool {
		if flags != 0 { // not plainly noted: assumed, of a clash, skipped, or only meant
			return false
		}
		out = append(out, entry{ctime: unix.Timespec{Sec: int64(be.Uint32(e)), Nsec: int64(be.Uint32(e[4:]))}, mtime: unix.Timespec{Sec: int64(be.Uint32(e[8:])), Nsec: int64(be.Uint32(e[12:]))},
			ino: be.Uint32(e[20:]), mode: be.Uint32(e[24:]), uid: be.Uint32(e[28:]), gid: be.Uint32(e[32:]), len: be.Uint32(e[36:]), path: path})
		return true
	})
	if !ok {
		return nil, false
	}
	end := len(data) - size
	// The extensions: which tree the whole is, and those without which it cannot be understood.
	for at+8 <= end {
		name, length := string(data[at:at+4]), int(be.Uint32(data[at+4:]))
		if at += 8; length < 0 || at+length > end || name[0] < 'A' || name[0] > 'Z' {
			return nil, false
		}
		if name == "TREE" {
			head, rest, found := bytes.Cut(data[at:at+length], []byte("\n")) // "NUL count blank subtrees"
			return out, found && len(rest) >= size && len(head) > 1 && head[0] == 0 && head[1] != '-' && hex.EncodeToString(rest[:size]) == tree
		}
		at += length
	}
	return nil, false
}

// asNoted compares what is noted with the files, and finds whether there is any other.
func asNoted(ctx context.Context, top string, entries []entry, written time.Time) bool {
	root, err := os.Open(top)
	if err != nil {
		return false
	}
	defer root.Close()
	holds := map[string]int{"": 1} // by folder, how many names are in it; git's own folder counts at the top
	above := func(path string) string { return path[:max(0, strings.LastIndexByte(path, '/'))] }
	met := map[string]bool{"": true}
	var meet func(dir string)
	meet = func(dir string) {
		if !met[dir] {
			met[dir] = true
			holds[above(dir)]++
			meet(above(dir))
		}
	}
	last := ""
	for _, e := range entries {
		dir := above(e.path)
		if holds[dir]++; dir != last {
			meet(dir)
			last = dir
		}
	}
	var differs atomic.Bool
	var work sync.WaitGroup
	parts := 2 * runtime.GOMAXPROCS(0)
	for i := range parts {
		some := entries[i*len(entries)/parts : (i+1)*len(entries)/parts]
		work.Go(func() {
			for k := range some {
				if k%256 == 0 && (differs.Load() || ctx.Err() != nil) {
					return
				}
				if !some[k].holds(int(root.Fd()), written) {
					differs.Store(true)
					return
				}
			}
		})
	}
	work.Go(func() {
		for dir, n := range holds {
			if differs.Load() {
				return
			}
			names, err := files.Names(filepath.Join(top, filepath.FromSlash(dir)))
			if err != nil || len(names) != n {
				differs.Store(true)
			}
		}
	})
	work.Wait()
	return !differs.Load() && ctx.Err() == nil
}

// holds reports whether a file is as it is noted, and was so before the index was written (git's technical documentation,
// racy-git).
func (e *entry) holds(root int, written time.Time) bool {
	var s unix.Stat_t
	if err := unix.Fstatat(root, e.path, &s, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return false
	}
	mode := uint32(0o100644)
	switch fs.FileMode(s.Mode) & unix.S_IFMT {
	case unix.S_IFLNK:
		mode = 0o120000
	case unix.S_IFREG:
		if s.Mode&0o100 != 0 {
			mode = 0o100755
		}
	default:
		return false
	}
	m := time.Unix(s.Mtim.Sec, s.Mtim.Nsec)
	return mode == e.mode && uint32(s.Size) == e.len && s.Mtim == e.mtime && s.Ctim == e.ctime && uint32(s.Ino) == e.ino && s.Uid == e.uid && s.Gid == e.gid && m.Before(written)
}
