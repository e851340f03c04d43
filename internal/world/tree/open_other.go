//go:build portable || !unix

package tree

import (
	"errors"
	"io/fs"
	"os"
)

func openPlain(path string) (*os.File, error) {
	s, err := os.Lstat(path)
	if err != nil {
		return nil, err
	}
	if !s.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "open", Path: path, Err: errors.New("not a regular file")}
	}
	return os.Open(path)
}
