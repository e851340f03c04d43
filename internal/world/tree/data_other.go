//go:build !linux

package tree

import (
	"io"
	"io/fs"
	"os"
)

// Data gives a reader of a file's contents.
func Data(f *os.File) io.Reader { return f }

// changed is not told everywhere; the time of the contents has to do.
func changed(fs.FileInfo) int64 { return 0 }
