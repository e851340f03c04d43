//go:build !portable && unix

package main

import (
	"os"
	"runtime"
	"syscall"
)

// memoryOf tells the most memory, in kilobytes, that an ended process had.
func memoryOf(p *os.ProcessState) int64 {
	u, ok := p.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0
	}
	if runtime.GOOS == "darwin" { // there it is told in bytes
		return u.Maxrss >> 10
	}
	return u.Maxrss
}
