package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Kind is what is at a path.
type Kind int

// What can be at a path.
const (
	None    Kind = iota // nothing, or it cannot be looked at
	Regular             // a plain file
	Folder
	Link // a symbolic link
	Other
)

// KindOf tells what is at a path; a link is not followed.
func KindOf(path string) Kind { return kindOf(os.Lstat(path)) }

// Reached tells what is at the end of a path, links followed.
func Reached(path string) Kind { return kindOf(os.Stat(path)) }

func kindOf(s fs.FileInfo, err error) Kind {
	switch {
	case err != nil:
		return None
	case s.Mode().IsRegular():
		return Regular
	case s.IsDir():
		return Folder
	case s.Mode()&fs.ModeSymlink != 0:
		return Link
	}
	return Other
}

// Missing reports whether nothing is at a path; what cannot be looked at is not missing, and
// a link that leads nowhere is something.
func Missing(path string) bool {
	_, err := os.Lstat(path)
	return errors.Is(err, fs.ErrNotExist)
}

// Stamp gives the size in bytes and the time of the last change, in nanoseconds since 1970,
// of what is at a path; a link is not followed.
func Stamp(path string) (size, modified int64, err error) {
	s, err := os.Lstat(path)
	if err != nil {
		return 0, 0, err
	}
	return s.Size(), s.ModTime().UnixNano(), nil
}

// Names lists what is in a folder, in order; nothing where there is no folder.
func Names(folder string) ([]string, error) {
	entries, err := os.ReadDir(folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names, nil
}

// Remove removes a file or an empty folder; one that is gone already is not an error.
func Remove(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// RemoveAll removes a folder with all that is in it.
func RemoveAll(path string) error { return os.RemoveAll(path) }

// Clear removes from a folder what has one of the names (as path.Match reads them), or was begun to be written under
// it, and the folder where nothing else is in it; it gives the paths of what stays. A folder that is not there is no error.
func Clear(folder string, names ...string) (left []string, err error) {
	there, err := Names(folder)
	if err != nil {
		return nil, err
	}
	for _, n := range there {
		if !slices.ContainsFunc(names, func(pattern string) bool {
			is, err := filepath.Match(pattern, n)
			begun, _ := filepath.Match("."+pattern+"*", n)
			return err == nil && (is || begun)
		}) {
			left = append(left, filepath.Join(folder, n))
			continue
		}
		if err := os.RemoveAll(filepath.Join(folder, n)); err != nil {
			return left, err
		}
	}
	if len(left) == 0 {
		err = os.Remove(folder)
	}
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return left, err
}

// MakeFolder makes a folder and those above it that are missing.
func MakeFolder(path string, mode fs.FileMode) error { return os.MkdirAll(path, mode) }

// Move gives a file another name; what has that name is replaced.
func Move(from, to string) error { return os.Rename(from, to) }

// ErrNotRegular says that a device, a pipe or a socket is where a file should be.
var ErrNotRegular = errors.New("it is not an ordinary file")

// Open opens an ordinary file to be read, also by way of a link; it never waits for one that
// is a pipe (open's page in POSIX, O_NONBLOCK).
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	s, err := f.Stat()
	if err == nil && !s.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: path, Err: ErrNotRegular}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Touch sets a file's time to now; one that is not there is made so that everybody may do the same.
func Touch(path string) error {
	if Missing(path) {
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			return err
		}
		if err := os.Chmod(path, 0o666); err != nil {
			return err
		}
	}
	now := time.Now()
	return os.Chtimes(path, now, now)
}

// CopyFile copies a file, with its time, to a new one or over another.
func CopyFile(from, to string) error {
	in, err := Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	s, err := in.Stat()
	if err != nil {
		return err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, s.Mode().Perm())
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Close()); err != nil {
		return err
	}
	return os.Chtimes(to, s.ModTime(), s.ModTime())
}

// SameTime gives a file the time of the last change that another has.
func SameTime(from, to string) error {
	s, err := os.Stat(from)
	if err != nil {
		return err
	}
	return os.Chtimes(to, s.ModTime(), s.ModTime())
}

// NoTemporary says of an error of making a temporary file or folder which folder that was to be in, and why it is that
// one (tmpnam(3), TMPDIR).
func NoTemporary(err error) error {
	if err == nil {
		return nil
	}
	f := fault.New(fault.Failed, "nothing temporary can be written into %s: %s", text.Visible(os.TempDir()), Plain(err)).Because(err)
	if os.Getenv("TMPDIR") != "" {
		f.Detail("The variable TMPDIR names that folder.")
	}
	return f
}

// Scratch makes a folder for work that nobody keeps; done removes it.
func Scratch(pattern string) (dir string, done func() error, err error) {
	dir, err = os.MkdirTemp("", pattern)
	return dir, func() error { return os.RemoveAll(dir) }, NoTemporary(err)
}

// ScratchIn makes a folder for work that nobody keeps, in another; done removes it. Those of
// the same beginning that are left of processes that ended are removed first.
func ScratchIn(folder, beginning string) (dir string, done func() error, err error) {
	names, err := Names(folder)
	if err != nil {
		return "", nil, err
	}
	for _, n := range names {
		rest, is := strings.CutPrefix(n, beginning)
		if id, err := strconv.Atoi(rest); is && err == nil && !Runs(id) {
			if err := os.RemoveAll(filepath.Join(folder, n)); err != nil {
				return "", nil, err
			}
		}
	}
	dir = filepath.Join(folder, beginning+strconv.Itoa(os.Getpid()))
	if err := os.RemoveAll(dir); err != nil {
		return "", nil, err
	}
	return dir, func() error { return os.RemoveAll(dir) }, os.Mkdir(dir, 0o700)
}

// Settle makes sure that the names in a folder outlive a loss of power, where the system can
// (fsync(2)).
func Settle(folder string) error {
	d, err := os.Open(folder)
	if err != nil {
		return err
	}
	if err := d.Sync(); err != nil && !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, syscall.EINVAL) && runtime.GOOS != "windows" {
		return errors.Join(err, d.Close())
	}
	return d.Close()
}

// Temporary makes a file, only for the person, with these contents; done removes it.
func Temporary(pattern, contents string) (path string, done func() error, err error) {
	f, err := os.CreateTemp("", pattern)
	if err != nil {
		return "", func() error { return nil }, NoTemporary(err)
	}
	_, err = f.WriteString(contents)
	return f.Name(), func() error { return os.Remove(f.Name()) }, NoTemporary(errors.Join(err, f.Close()))
}

// Append adds a line to a log, which is made if it is missing, only for the person.
func Append(path, line string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(line + "\n")
	return errors.Join(err, f.Close())
}

// CreateEmpty makes empty files below a folder, where nothing is yet: all, or none. It names
// the one that could not be made. Links on the way lead nowhere outside of the folder.
func CreateEmpty(top string, paths []string) (failed string, err error) {
	root, err := os.OpenRoot(top)
	if err != nil {
		return "", fmt.Errorf("the folder cannot be opened: %w", err)
	}
	defer root.Close()
	for i, p := range paths {
		f, err := root.OpenFile(filepath.FromSlash(p), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if err == nil {
			err = f.Close()
		}
		if err != nil {
			for _, before := range paths[:i] {
				err = errors.Join(err, root.Remove(filepath.FromSlash(before)))
			}
			return p, err
		}
	}
	return "", nil
}

// SetAside keeps a copy of a file, with its mode, at another path; false where there is no
// file.
func SetAside(path, to string) (kept bool, err error) {
	old, err := Read(path, MostAside)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	s, err := os.Stat(path)
	if err != nil {
		return false, err
	}
	return true, WriteBy(to, to+".new", old, s.Mode().Perm())
}

// MostAside is the largest file, in bytes, that is set aside.
const MostAside = 512 << 20

// CanWrite tries whether files can be made in a folder; kept says that one was made, and
// could not be removed again.
func CanWrite(folder string) (kept bool, err error) {
	f, err := os.CreateTemp(folder, ".ready-*")
	if err != nil {
		return false, err
	}
	err = errors.Join(f.Close(), os.Remove(f.Name()))
	return err != nil, err
}

// OthersMayWrite reports whether a path's mode lets its group or others write.
func OthersMayWrite(path string) (bool, error) {
	s, err := os.Stat(path)
	if err != nil {
		return false, err
	}
	return s.Mode().Perm()&0o022 != 0, nil
}

// Self stamps the program that is running: its size in bytes and when it was written, in nanoseconds.
func Self() (size, modified int64, err error) {
	path, err := os.Executable()
	if err != nil {
		return 0, 0, err
	}
	return Stamp(path)
}
