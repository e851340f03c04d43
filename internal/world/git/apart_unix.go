//go:build !portable && unix

package git

import (
	"os/exec"
	"syscall"
)

// apart keeps the terminal's Ctrl-C from a child: it is sent to the foreground's group.
func apart(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }
