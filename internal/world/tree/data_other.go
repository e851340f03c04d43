//go:build !linux

package tree

import (
	"io"
	"os"
)

// Data gives a reader of a file's contents.
func Data(f *os.File) io.Reader { return f }
