//go:build !portable && unix

package tree

import (
	"os"

	"golang.org/x/sys/unix"
)

// openPlain opens neither through a link nor by waiting (open(2), O_NOFOLLOW and
// O_NONBLOCK).
func openPlain(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
}
