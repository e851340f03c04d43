//go:build unix

package vault

import (
	"os/exec"
	"syscall"
)

// newSession lets a process begin as the leader of a session (setsid(2)).
func newSession(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }
