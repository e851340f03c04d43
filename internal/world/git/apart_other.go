//go:build portable || !unix

package git

import "os/exec"

// apart does nothing on this system.
func apart(*exec.Cmd) {}
