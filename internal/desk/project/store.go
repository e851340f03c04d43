package project

import (
	"errors"
	"os"
	"path/filepath"

	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Store gives a bare repository of our own in a folder, which nothing runs in that its configuration may
// name.
func Store(g *git.Git, dir string) *git.Repo {
	s := g.In(dir)
	s.GitDir = dir
	s.Safe = []git.Set{{Key: "core.bare", Value: "true"}, {Key: "core.hooksPath", Value: os.DevNull}}
	return s
}

// MakeStore makes a bare repository of our own, whole before it gets its name, for ids of so many
// digits; with borrow, it reads that folder of objects too (gitrepository-layout documentation).
func MakeStore(dir string, digits int, borrow string) (err error) {
	top := filepath.Dir(dir)
	if err := files.MakeFolder(top, 0o700); err != nil {
		return err
	}
	fresh, done, err := files.ScratchIn(top, filepath.Base(dir)+"-new-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, done()) }()
	it := filepath.Join(fresh, "it")
	for _, sub := range []string{"refs", "objects"} {
		if err := files.MakeFolder(filepath.Join(it, sub), 0o700); err != nil {
			return err
		}
	}
	form := "[core]\n\trepositoryformatversion = 0\n\tbare = true\n"
	if digits == 64 { // git-config documentation, extensions.objectFormat
		form = "[core]\n\trepositoryformatversion = 1\n\tbare = true\n[extensions]\n\tobjectformat = sha256\n"
	}
	says := map[string]string{"HEAD": "ref: refs/heads/main\n", "config": form}
	if borrow != "" {
		says["objects/info/alternates"] = borrow + "\n"
	}
	for name, contents := range says {
		if err := files.Dump(filepath.Join(it, filepath.FromSlash(name)), []byte(contents)); err != nil {
			return err
		}
	}
	return files.Move(it, dir)
}
