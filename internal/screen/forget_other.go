//go:build portable || !linux

package screen

// forgetTyped is not done on this system: what was typed stays for the shell.
func forgetTyped(int) error { return nil }
