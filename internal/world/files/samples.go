package files

import (
	"io"
	"os"
)

// Samples reads size bytes of a file at each of some offsets, and never waits for one that is a pipe; fewer where the file
// ends there.
func Samples(path string, at []int64, size int) ([][]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := make([][]byte, 0, len(at))
	for _, offset := range at {
		sample := make([]byte, size)
		n, err := f.ReadAt(sample, offset)
		if err != nil && err != io.EOF {
			return nil, err
		}
		out = append(out, sample[:n])
	}
	return out, nil
}

// Size is a file's size, in bytes, of an ordinary file that is not a link; -1 for none.
func Size(path string) int64 {
	s, err := os.Lstat(path)
	if err != nil || !s.Mode().IsRegular() {
		return -1
	}
	return s.Size()
}
