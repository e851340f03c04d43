//go:build unix

package files

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// Runs reports whether a process of that number runs (kill(2), signal 0).
func Runs(id int) bool {
	err := unix.Kill(id, 0)
	return err == nil || errors.Is(err, unix.EPERM)
}

// SameDisk reports whether two paths are on one file system, so that a file can be renamed from
// one to the other. Of what is not there nothing is known, and that is an error.
func SameDisk(a, b string) (bool, error) {
	var x, y unix.Stat_t
	if err := unix.Stat(a, &x); err != nil {
		return false, &os.PathError{Op: "stat", Path: a, Err: err}
	}
	if err := unix.Stat(b, &y); err != nil {
		return false, &os.PathError{Op: "stat", Path: b, Err: err}
	}
	return x.Dev == y.Dev, nil
}

// Full reports whether a file system has less than a megabyte of room for this person.
func Full(path string) bool {
	var s unix.Statfs_t
	return unix.Statfs(path, &s) == nil && uint64(s.Bavail)*uint64(s.Bsize) < 1<<20
}

// Mine reports whether a file is this person's; a link is not followed.
func Mine(path string) bool {
	var s unix.Stat_t
	return unix.Lstat(path, &s) == nil && int(s.Uid) == os.Getuid()
}
