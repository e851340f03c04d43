package git

import (
	"bytes"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/world/files"
)

// idSizes are the sizes of ids, in bytes.
var idSizes = []int{sha1.Size, sha256.Size}

// Tracked lists the paths that the index holds, each once, in their order. An index of the plain forms is read as
// it is; for any other git is asked.
func (r *Repo) Tracked(ctx context.Context) ([]string, error) {
	if own, _, err := Folders(r.Dir); err == nil {
		data, err := files.Read(filepath.Join(own, "index"), mostIndex)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, nil // nothing was added yet
		}
		for _, size := range idSizes {
			if err != nil {
				break
			}
			if paths, ok := indexPaths(data, size); ok {
				return paths, nil
			}
		}
	}
	return r.Lines(ctx, "ls-files", "-z", "-c", "--deduplicate")
}

// indexPaths gives the paths in an index of which ids have size bytes; false for one that has parts elsewhere, or is of
// another form.
func indexPaths(data []byte, size int) ([]string, bool) {
	var out []string
	at, ok := eachEntry(data, size, func(_ []byte, _ uint16, path string) bool {
		if len(out) == 0 || out[len(out)-1] != path { // of a clash there are up to three of one path
			out = append(out, path)
		}
		return true
	})
	return out, ok && alone(data, size, at)
}

// alone reports whether an index whose entries end at a place is understood by these alone: whether none of its extensions is one
// that must be known, those in lower case.
func alone(data []byte, size, at int) bool {
	end := len(data) - size
	for at+8 <= end {
		length := int(binary.BigEndian.Uint32(data[at+4:]))
		if data[at] < 'A' || data[at] > 'Z' || length < 0 || at+8+length > end {
			return false
		}
		at += 8 + length
	}
	return at == end
}

// eachEntry goes through the entries of an index, and gives where they end; false for an index of another form than 2 or 3,
// or where told says so (gitformat-index documentation). Ids have size bytes. flags are those of an entry besides the length of
// its path, with those of form 3 above.
func eachEntry(data []byte, size int, told func(e []byte, flags uint16, path string) bool) (at int, ok bool) {
	be := binary.BigEndian
	if len(data) < 12+size || string(data[:4]) != "DIRC" || be.Uint32(data[4:]) != 2 && be.Uint32(data[4:]) != 3 {
		return 0, false
	}
	end := len(data) - size
	n := int(be.Uint32(data[8:]))
	if n > end/62 {
		return 0, false
	}
	paths := string(data[12:end]) // one copy for all of them
	at = 12
	for range n {
		head := 40 + size + 2
		if at+head+2 > end {
			return 0, false
		}
		e := data[at:]
		flags := be.Uint16(e[40+size:])
		long := int(flags & 0xfff)
		if flags&0x4000 != 0 { // form 3 has more
			head += 2
		}
		nul := bytes.IndexByte(data[at+head:end], 0)
		if nul <= 0 || min(nul, 0xfff) != long {
			return 0, false
		}
		from := at + head - 12
		if !told(e, flags>>12, paths[from:from+nul]) {
			return 0, false
		}
		if at += (head + nul + 8) / 8 * 8; at > end { // at least one NUL, up to a multiple of eight
			return 0, false
		}
	}
	return at, true
}

// MergeIndex puts the entries of some paths in one index file into another, in the place of those that it has of them; false
// where that cannot be told from the files alone, and nothing was changed then. Both are of one repository and nobody else
// writes to them. The result has the older one's time, by which git knows the files that may have changed since (git's technical
// documentation, racy-git), and none of the extensions, which git makes anew.
func MergeIndex(into, from string, paths []string) (done bool, err error) {
	a, errA := files.Read(into, mostIndex)
	b, errB := files.Read(from, mostIndex)
	sa, errC := os.Stat(into)
	sb, errD := os.Stat(from)
	if err := errors.Join(errA, errB, errC, errD); err != nil {
		return false, err
	}
	for _, size := range idSizes {
		merged, ok := mergedIndex(a, b, size, paths)
		if !ok {
			continue
		}
		if err := files.Write(into, merged, 0o600); err != nil {
			return false, err
		}
		at := sa.ModTime()
		if sb.ModTime().Before(at) {
			at = sb.ModTime()
		}
		return true, os.Chtimes(into, at, at)
	}
	return false, nil
}

// mergedIndex makes the index; false where one of them is of another form, or has a folder where the other has a file.
func mergedIndex(a, b []byte, size int, paths []string) ([]byte, bool) {
	type one struct {
		path string
		raw  []byte
	}
	theirs := make(map[string]bool, len(paths))
	for _, p := range paths {
		theirs[p] = true
	}
	var all []one
	plain := true
	take := func(data []byte, want bool) bool {
		var last *one
		end, ok := eachEntry(data, size, func(e []byte, flags uint16, path string) bool {
			if last != nil {
				last.raw = last.raw[:len(last.raw)-len(e)] // it ends where this one begins
				last = nil
			}
			plain = plain && flags == 0
			if theirs[path] == want {
				all = append(all, one{path, e})
				last = &all[len(all)-1]
			}
			return true
		})
		if ok && last != nil {
			last.raw = last.raw[:len(last.raw)-(len(data)-end)]
		}
		return ok && alone(data, size, end)
	}
	if !take(a, false) || !take(b, true) || !plain {
		return nil, false
	}
	slices.SortFunc(all, func(x, y one) int { return strings.Compare(x.path, y.path) })
	there := make(map[string]bool, len(all))
	for _, x := range all {
		if there[x.path] {
			return nil, false
		}
		there[x.path] = true
	}
	out := binary.BigEndian.AppendUint32([]byte("DIRC\x00\x00\x00\x02"), uint32(len(all)))
	for _, x := range all {
		for i := strings.LastIndexByte(x.path, '/'); i > 0; i = strings.LastIndexByte(x.path[:i], '/') {
			if there[x.path[:i]] {
				return nil, false
			}
		}
		out = append(out, x.raw...)
	}
	sum := sha1.Sum(out)
	if size == sha256.Size {
		whole := sha256.Sum256(out)
		return append(out, whole[:]...), true
	}
	return append(out, sum[:]...), true
}
