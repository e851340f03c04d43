//go:build !portable

package tree

import (
	"errors"
	"io"
	"io/fs"
	"path/filepath"

	"golang.org/x/sys/unix"

	"uncinate/internal/core/survey"
)

// contents is a file that is open for reading, by its descriptor alone: of a hundred thousand small files each call that
// is saved counts.
type contents struct {
	path string
	fd   int
	size int64
	// holes says that less is kept of it than its size: then only what was written is read (lseek(2), SEEK_DATA).
	holes    bool
	at, upTo int64 // where the next byte is, and where what is written there ends
}

// openContents opens a regular file below a folder: neither through a link nor by waiting (open(2), O_NOFOLLOW and
// O_NONBLOCK).
func openContents(top, path string) (*contents, error) {
	c := &contents{path: filepath.Join(top, filepath.FromSlash(path))}
	var err error
	c.fd, err = again(func() (int, error) {
		return unix.Open(c.path, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	})
	if err != nil {
		return nil, c.fault("open", err)
	}
	var s unix.Stat_t
	if err = unix.Fstat(c.fd, &s); err == nil && s.Mode&unix.S_IFMT != unix.S_IFREG {
		err = errors.New("not a regular file")
	}
	if err != nil {
		return nil, errors.Join(c.fault("open", err), c.Close())
	}
	c.size, c.holes, c.upTo = s.Size, s.Blocks*512 < s.Size, s.Size
	if c.holes {
		c.upTo = 0
	}
	return c, nil
}

func (c *contents) fault(what string, err error) error {
	return &fs.PathError{Op: what, Path: c.path, Err: err}
}

// Read reads on, to the size that the file had when it was opened.
func (c *contents) Read(p []byte) (int, error) {
	if c.at >= c.upTo {
		if !c.holes {
			return 0, io.EOF
		}
		from, err := unix.Seek(c.fd, c.at, unix.SEEK_DATA)
		if err != nil {
			return 0, io.EOF // only a hole is left, or nothing
		}
		if c.upTo, err = unix.Seek(c.fd, from, unix.SEEK_HOLE); err != nil {
			return 0, c.fault("read", err)
		}
		c.at = from
	}
	for {
		n, err := unix.Pread(c.fd, p[:min(int64(len(p)), c.upTo-c.at)], c.at)
		switch {
		case errors.Is(err, unix.EINTR):
		case err != nil:
			return 0, c.fault("read", err)
		case n == 0:
			return 0, io.EOF // it was cut meanwhile
		default:
			c.at += int64(n)
			return n, nil
		}
	}
}

// is reports whether the file is still as it was found.
func (c *contents) is(f *survey.File) bool {
	var s unix.Stat_t
	return unix.Fstat(c.fd, &s) == nil && s.Size == f.Size && s.Mtim.Nano() == f.ModTime
}

// Close closes the file.
func (c *contents) Close() error { return unix.Close(c.fd) }
