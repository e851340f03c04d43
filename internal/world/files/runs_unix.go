//go:build unix

package files

import (
	"errors"

	"golang.org/x/sys/unix"
)

// Runs reports whether a process of that number runs (kill(2), signal 0).
func Runs(id int) bool {
	err := unix.Kill(id, 0)
	return err == nil || errors.Is(err, unix.EPERM)
}
