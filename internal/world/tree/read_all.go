package tree

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/world/files"
)

// readers is how many files are read side by side.
const readers = 4

// ReadAll hands every plain file below a folder, but not those below skip, to see, several at
// once. It counts what could not be read: files of more than most bytes too, and folders.
func ReadAll(ctx context.Context, top, skip string, most int64, see func(path string, data []byte)) (unread int, err error) {
	var missed atomic.Int64
	skip = filepath.Clean(skip)
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(readers)
	err = filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && path == top:
			return err
		case err != nil:
			missed.Add(1)
		case e.IsDir() && filepath.Clean(path) == skip:
			return fs.SkipDir
		case e.Type().IsRegular():
			group.Go(func() error {
				data, err := files.Read(path, most)
				if err != nil {
					missed.Add(1)
					return nil // it is told of by the count
				}
				see(path, data)
				return nil
			})
		}
		return nil
	})
	err = errors.Join(err, group.Wait())
	return int(missed.Load()), err
}
