//go:build !portable && unix

package live

import (
	"os/exec"
	"syscall"
)

// apart lets a program begin a group of its own (setpgid(2)), and be ended with all of it.
func apart(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGKILL) }
}

// endGroup ends what is left of a program's group.
func endGroup(c *exec.Cmd) {
	if c.Process != nil {
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL) // nothing may be left of it
	}
}
