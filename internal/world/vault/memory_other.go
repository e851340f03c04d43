//go:build unix && !linux

package vault

// keepToItself is not supported on this system: a debugger of the same user can read the memory.
func keepToItself() {}
