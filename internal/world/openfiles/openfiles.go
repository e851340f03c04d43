// Package openfiles tells which running programs have files open, where the system tells
// (proc(5), /proc/pid/fd): on Linux, for the processes that this person may look at.
package openfiles

import (
	"path/filepath"
	"strings"
)

// Process is a running program that has a file open.
type Process struct {
	ID   int
	Name string // as the system calls it
}

// Below finds those below a folder.
func Below(folder string) (found map[string]Process, known bool) {
	all, known := All()
	found = map[string]Process{}
	for path, p := range all {
		if strings.HasPrefix(path, folder+string(filepath.Separator)) {
			found[path] = p
		}
	}
	return found, known
}
