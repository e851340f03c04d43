//go:build !portable && unix

package main

import (
	"errors"
	"io/fs"
	"os"
	"runtime"
	"runtime/debug"
	"syscall"
)

// forgetPeak lets the most memory that this process had begin anew: on Linux a program that it starts is counted from there
// (proc_pid_clear_refs(5), the value 5).
func forgetPeak() error {
	debug.FreeOSMemory()
	if err := os.WriteFile("/proc/self/clear_refs", []byte("5"), 0); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

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
