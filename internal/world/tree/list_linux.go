//go:build !portable

package tree

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/sys/unix"

	"uncinate/internal/core/survey"
)

// listFolder gives a folder's entries, each by its name alone, in the order of their names. They are
// asked about by way of the open folder (fstatat(2)), which saves the way there.
func listFolder(full string) ([]survey.File, error) {
	fd, err := again(func() (int, error) {
		return unix.Open(full, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: full, Err: err}
	}
	defer unix.Close(fd)
	var names []string
	buf := make([]byte, 16<<10)
	for {
		n, err := again(func() (int, error) { return unix.ReadDirent(fd, buf) })
		if err != nil {
			return nil, &fs.PathError{Op: "readdirent", Path: full, Err: err}
		}
		if n <= 0 {
			break
		}
		_, _, names = unix.ParseDirent(buf[:n], -1, names)
	}
	slices.Sort(names) // quicker than what is told of them
	out := make([]survey.File, 0, len(names))
	for _, name := range names {
		var s unix.Stat_t
		if unix.Fstatat(fd, name, &s, unix.AT_SYMLINK_NOFOLLOW) != nil {
			continue // it went away meanwhile
		}
		f := survey.File{Path: name, Size: s.Size, ModTime: s.Mtim.Nano(), Changed: s.Ctim.Nano(), Exec: s.Mode&0o100 != 0}
		switch s.Mode & unix.S_IFMT {
		case unix.S_IFREG:
		case unix.S_IFDIR:
			f.Type = folder
		case unix.S_IFLNK:
			f.Type = survey.Link
			if f.Target, err = os.Readlink(filepath.Join(full, name)); err != nil {
				continue
			}
		default:
			f.Type = survey.Special
		}
		out = append(out, f)
	}
	return out, nil
}

// again calls what a signal interrupted once more (signal(7), EINTR).
func again(call func() (int, error)) (n int, err error) {
	for {
		if n, err = call(); !errors.Is(err, unix.EINTR) {
			return n, err
		}
	}
}
