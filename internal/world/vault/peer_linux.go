//go:build !portable

package vault

import (
	"net"

	"golang.org/x/sys/unix"
)

// peer gives the user id of the process at the other end (unix(7), SO_PEERCRED).
func peer(c *net.UnixConn) (int, error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return -1, err
	}
	var cred *unix.Ucred
	var inner error
	if err := raw.Control(func(fd uintptr) { cred, inner = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) }); err != nil {
		return -1, err
	}
	if inner != nil {
		return -1, inner
	}
	return int(cred.Uid), nil
}
