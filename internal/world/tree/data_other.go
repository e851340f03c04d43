//go:build portable || !linux

package tree

import (
	"os"

	"uncinate/internal/core/survey"
)

// contents is a file that is open for reading.
type contents struct{ *os.File }

func openContents(top, path string) (*contents, error) {
	f, err := Open(top, path)
	if err != nil {
		return nil, err
	}
	return &contents{f}, nil
}

// is reports whether the file is still as it was found.
func (c *contents) is(f *survey.File) bool {
	s, err := c.Stat()
	return err == nil && s.Size() == f.Size && s.ModTime().UnixNano() == f.ModTime
}
