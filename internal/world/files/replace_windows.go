package files

import (
	"io/fs"
	"os"
	"path/filepath"
)

// replace renames over the old file, which this system does not promise to do at once.
func replace(path string, data []byte, mode fs.FileMode) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(f.Name()) }() // it has its name by then, unless this failed
	if _, err = f.Write(data); err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Chmod(f.Name(), mode)
	}
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
