package tree

import (
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"uncinate/internal/core/survey"
)

// listFolder gives a folder's entries, each by its name alone, in no order. They are
// asked about by way of the open folder (fstatat(2)), which saves the way there.
func listFolder(full string) ([]survey.File, error) {
	d, err := os.OpenFile(full, os.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	names, err := d.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	fd := int(d.Fd())
	out := make([]survey.File, 0, len(names))
	for _, name := range names {
		var s unix.Stat_t
		if unix.Fstatat(fd, name, &s, unix.AT_SYMLINK_NOFOLLOW) != nil {
			continue // it went away meanwhile
		}
		f := survey.File{Path: name, Size: s.Size, ModTime: s.Mtim.Nano(), Changed: s.Ctim.Nano(), Exec: s.Mode&0o100 != 0}
		switch s.Mode & unix.S_IFMT {
		case unix.S_IFREG:
		case unix.S_IFDIR:
			f.Type = folder
		case unix.S_IFLNK:
			f.Type = survey.Link
			if f.Target, err = os.Readlink(filepath.Join(full, name)); err != nil {
				continue
			}
		default:
			f.Type = survey.Special
		}
		out = append(out, f)
	}
	return out, nil
}
