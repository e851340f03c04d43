//go:build !portable && unix

package files

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// hold takes a lock that belongs to the open file (flock(2)): a child that inherits
// the descriptor keeps it, even if its parent is killed.
func hold(path string) (*os.File, bool, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, false, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			return nil, false, nil
		}
		return nil, false, err
	}
	return f, true, nil
}

// whoHolds is where the number of the process is that holds a lock: in it.
func whoHolds(path string) string { return path }

func letGo(f *os.File) error { return f.Close() }
