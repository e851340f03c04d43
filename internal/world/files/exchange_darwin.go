package files

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// exchange is renamex_np(2), RENAME_SWAP.
func exchange(a, b string) error { return renamex(a, b, unix.RENAME_SWAP) }

// moveNew is renamex_np(2), RENAME_EXCL.
func moveNew(from, to string) error { return renamex(from, to, unix.RENAME_EXCL) }

func renamex(a, b string, flags uint32) error {
	err := unix.RenamexNp(a, b, flags)
	if errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EINVAL) {
		return errors.ErrUnsupported
	}
	if err != nil {
		return &os.LinkError{Op: "rename", Old: a, New: b, Err: err}
	}
	return nil
}
