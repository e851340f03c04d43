//go:build !portable

package screen

import "golang.org/x/sys/unix"

// forgetTyped throws away what was typed and not read (termios(3), tcflush), so that
// half a secret does not end up on the shell's command line.
func forgetTyped(fd int) error { return unix.IoctlSetInt(fd, unix.TCFLSH, unix.TCIFLUSH) }
