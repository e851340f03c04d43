//go:build portable || !linux

package tree

import (
	"io/fs"
	"os"
	"path/filepath"

	"uncinate/internal/core/survey"
)

// listFolder gives a folder's entries, each by its name alone.
func listFolder(full string) ([]survey.File, error) {
	list, err := os.ReadDir(full)
	if err != nil {
		return nil, err
	}
	out := make([]survey.File, 0, len(list))
	for _, e := range list {
		info, err := e.Info()
		if err != nil {
			continue // it went away meanwhile
		}
		f := survey.File{Path: e.Name(), Size: info.Size(), ModTime: info.ModTime().UnixNano(), Exec: info.Mode()&0o100 != 0}
		switch t := info.Mode().Type(); {
		case t&fs.ModeSymlink != 0:
			f.Type = survey.Link
			if f.Target, err = os.Readlink(filepath.Join(full, e.Name())); err != nil {
				continue
			}
		case t.IsDir():
			f.Type = folder
		case t != 0:
			f.Type = survey.Special
		}
		out = append(out, f)
	}
	return out, nil
}
