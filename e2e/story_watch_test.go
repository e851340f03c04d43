//go:build linux

package e2e

import (
	"encoding/binary"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// watch waits for a moment in what a run does to a project's folder: reached is closed at
// it. With held the run stands still at that moment, until release.
type watch struct {
	file    *os.File
	reached chan struct{}
	resume  chan struct{}
	seen    atomic.Int64
}

// count is how many events there were.
func (w *watch) count() int {
	if w == nil {
		return 0
	}
	return int(w.seen.Load())
}

// close lets the run go on, and ends the watching.
func (w *watch) close() {
	if w == nil {
		return
	}
	close(w.resume)
	_ = w.file.Close() // its reader ends with it
}

// countChanges watches a folder and all below it, and reaches its moment at the n-th change
// (inotify(7)), counted from when something of the name from is made, where one is given.
func countChanges(top, from string, n int) (*watch, error) {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		return nil, err
	}
	w := &watch{file: os.NewFile(uintptr(fd), "changes"), reached: make(chan struct{}), resume: make(chan struct{})}
	folders := map[int32]string{}
	add := func(dir string) {
		_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				if at, err := unix.InotifyAddWatch(fd, path, unix.IN_CREATE|unix.IN_MODIFY|unix.IN_MOVED_TO|unix.IN_DELETE); err == nil {
					folders[int32(at)] = path
				}
			}
			return nil // what went meanwhile is not watched
		})
	}
	add(top)
	go func() {
		part := make([]byte, 1<<16)
		for left := n; ; {
			size, err := w.file.Read(part)
			if err != nil || size <= 0 {
				return
			}
			for at := 0; at+unix.SizeofInotifyEvent <= size; {
				event := part[at:]
				folder, mask, long := int32(binary.NativeEndian.Uint32(event)), binary.NativeEndian.Uint32(event[4:]), int(binary.NativeEndian.Uint32(event[12:]))
				name := strings.TrimRight(string(event[unix.SizeofInotifyEvent:unix.SizeofInotifyEvent+long]), "\x00")
				at += unix.SizeofInotifyEvent + long
				if name == from {
					from = ""
				}
				if from == "" {
					w.seen.Add(1)
					if left--; left == 0 {
						close(w.reached)
					}
				}
				if mask&unix.IN_ISDIR != 0 && mask&unix.IN_CREATE != 0 {
					add(filepath.Join(folders[folder], name))
				}
			}
		}
	}()
	return w, nil
}

// holdAtOpen lets a run stand still where it opens a file below a folder for the n-th time
// (fanotify(7)); with in, only files whose paths hold that are counted. A process that is
// killed then has done what was before, and nothing after.
func holdAtOpen(mount, top, in string, n int) (*watch, error) {
	fd, err := unix.FanotifyInit(unix.FAN_CLASS_CONTENT|unix.FAN_CLOEXEC|unix.FAN_NONBLOCK, unix.O_RDONLY|unix.O_LARGEFILE)
	if err == nil {
		err = unix.FanotifyMark(fd, unix.FAN_MARK_ADD|unix.FAN_MARK_MOUNT, unix.FAN_OPEN_PERM, unix.AT_FDCWD, mount)
	}
	if err != nil {
		return nil, fmt.Errorf("opens cannot be watched: %w", err)
	}
	w := &watch{file: os.NewFile(uintptr(fd), "opens"), reached: make(chan struct{}), resume: make(chan struct{})}
	answer := func(file int32) {
		var said [8]byte
		binary.NativeEndian.PutUint32(said[:], uint32(file))
		binary.NativeEndian.PutUint32(said[4:], unix.FAN_ALLOW)
		_, _ = unix.Write(fd, said[:]) // who asked may be gone
		_ = unix.Close(int(file))
	}
	go func() {
		part := make([]byte, 1<<16)
		const long = 24 // of struct fanotify_event_metadata
		for left := n; ; {
			size, err := w.file.Read(part)
			if err != nil || size <= 0 {
				return
			}
			var waiting []int32
			for at := 0; at+long <= size; at += int(binary.NativeEndian.Uint32(part[at:])) {
				file := int32(binary.NativeEndian.Uint32(part[at+16:]))
				path, _ := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", file))
				if left > 0 && strings.HasPrefix(path, top+"/") && strings.Contains(path, in) {
					w.seen.Add(1)
					if left--; left == 0 {
						close(w.reached)
						waiting = append(waiting, file)
						continue
					}
				}
				answer(file)
			}
			if waiting != nil {
				<-w.resume
				for _, file := range waiting {
					answer(file)
				}
				return
			}
		}
	}()
	return w, nil
}
