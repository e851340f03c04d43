//go:build !portable

package openfiles

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// All finds the files that programs have open or run from: path → the program, one of them
// where there are several. This process is left out. known is false where the system does
// not tell.
func All() (found map[string]Process, known bool) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil, false
	}
	found = map[string]Process{}
	for _, e := range entries {
		id, err := strconv.Atoi(e.Name())
		if err != nil || id == os.Getpid() {
			continue
		}
		fds := filepath.Join("/proc", e.Name(), "fd")
		list, err := os.ReadDir(fds)
		if err != nil {
			continue // it ended meanwhile, or is another person's
		}
		var links []string
		for _, fd := range list {
			links = append(links, filepath.Join(fds, fd.Name()))
		}
		for _, link := range append(links, filepath.Join("/proc", e.Name(), "exe")) {
			path, err := os.Readlink(link)
			if err == nil && strings.HasPrefix(path, "/") && found[path].ID == 0 {
				name, _ := os.ReadFile(filepath.Join("/proc", e.Name(), "comm")) // without a name its number does
				found[path] = Process{id, string(bytes.TrimSpace(name))}
			}
		}
	}
	return found, true
}

// Working finds the programs that work in a folder or below (proc(5), /proc/pid/cwd). known is
// false where the system does not tell.
func Working(folder string) (found []Process, known bool) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil, false
	}
	for _, e := range entries {
		id, err := strconv.Atoi(e.Name())
		if err != nil || id == os.Getpid() {
			continue
		}
		at, err := os.Readlink(filepath.Join("/proc", e.Name(), "cwd"))
		if err == nil && (at == folder || strings.HasPrefix(at, folder+"/")) {
			name, _ := os.ReadFile(filepath.Join("/proc", e.Name(), "comm")) // without a name its number does
			found = append(found, Process{id, string(bytes.TrimSpace(name))})
		}
	}
	return found, true
}
