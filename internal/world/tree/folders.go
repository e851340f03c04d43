package tree

import (
	"context"
	"io/fs"
	"path/filepath"
	"strings"
)

// Folders gives a folder and those below it to visit, each before what is in it, so many
// levels deep; hidden ones, and links, are passed over. visit says whether a folder is
// enough, so that nothing in it is looked at. closed are those that could not be looked into.
func Folders(ctx context.Context, top string, levels int, visit func(path string) (enough bool, err error)) (closed []string, err error) {
	err = filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			closed = append(closed, path)
			return nil
		case !e.IsDir():
			return nil
		case path != top && strings.HasPrefix(e.Name(), "."):
			return fs.SkipDir
		}
		rel, err := filepath.Rel(top, path)
		if err != nil {
			return err
		}
		if strings.Count(rel, string(filepath.Separator)) >= levels {
			return fs.SkipDir
		}
		enough, err := visit(path)
		if err == nil && enough {
			return fs.SkipDir
		}
		return err
	})
	return closed, err
}
