package files

import (
	"errors"
	"io/fs"
	"os"
)

// Exchange gives two files, on one file system, each the other's name. Where the system can, in
// one step; otherwise the name b is missing for a moment.
func Exchange(a, b string) error {
	err := exchange(a, b)
	if !errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	aside := a + ".was"
	if err := os.Rename(b, aside); err != nil {
		return err
	}
	if err := os.Rename(a, b); err != nil {
		return errors.Join(err, os.Rename(aside, b))
	}
	return os.Rename(aside, a)
}

// MoveNew gives a file, not a folder, another name that nothing has; fs.ErrExist where something
// has it.
func MoveNew(from, to string) error {
	err := moveNew(from, to)
	if !errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	if err := os.Link(from, to); err == nil || errors.Is(err, fs.ErrExist) {
		if err == nil {
			err = os.Remove(from)
		}
		return err
	}
	if !Missing(to) { // a file system without links; something may come between
		return fs.ErrExist
	}
	return os.Rename(from, to)
}
