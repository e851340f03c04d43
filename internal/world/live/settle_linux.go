//go:build !portable

package live

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// Settle makes sure that all files and folders below a folder are on the disk (syncfs(2)).
func Settle(folder string) error {
	f, err := os.Open(folder)
	if err != nil {
		return err
	}
	err = unix.Syncfs(int(f.Fd()))
	if e := f.Close(); err == nil && e != nil {
		err = e
	}
	if errors.Is(err, unix.ENOSYS) {
		return settleEach(folder)
	}
	return err
}
