//go:build !portable

package files

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// exchange is rename(2), RENAME_EXCHANGE.
func exchange(a, b string) error { return renameat2(a, b, unix.RENAME_EXCHANGE) }

// moveNew is rename(2), RENAME_NOREPLACE.
func moveNew(from, to string) error { return renameat2(from, to, unix.RENAME_NOREPLACE) }

func renameat2(a, b string, flags uint) error {
	for {
		err := unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, flags)
		switch {
		case err == nil:
			return nil
		case errors.Is(err, unix.EINTR):
			continue
		case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOSYS): // this file system cannot
			return errors.ErrUnsupported
		}
		return &os.LinkError{Op: "rename", Old: a, New: b, Err: err}
	}
}
