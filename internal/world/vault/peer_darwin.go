package vault

import (
	"net"

	"golang.org/x/sys/unix"
)

// peer gives the user id of the process at the other end (unix(4), LOCAL_PEERCRED).
func peer(c *net.UnixConn) (int, error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return -1, err
	}
	var cred *unix.Xucred
	var inner error
	if err := raw.Control(func(fd uintptr) { cred, inner = unix.GetsockoptXucred(int(fd), unix.SOL_LOCAL, unix.LOCAL_PEERCRED) }); err != nil {
		return -1, err
	}
	if inner != nil {
		return -1, inner
	}
	return int(cred.Uid), nil
}
