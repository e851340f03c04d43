package project

import (
	"path/filepath"

	"uncinate/internal/desk"
	"uncinate/internal/world/files"
)

// mostUnchosen is of how many files it is remembered that they were not chosen.
const mostUnchosen = 50_000

func unchosenFile(d *desk.Desk, folder string) string {
	return filepath.Join(d.Home.State, "unchosen", files.Short(folder)+".json")
}

// Unchosen gives the files of a project that the person left out when it was attached.
func Unchosen(d *desk.Desk, folder string) (map[string]bool, error) {
	var all []string
	_, err := files.ReadJSON(unchosenFile(d, folder), &all)
	out := map[string]bool{}
	for _, p := range all {
		out[p] = true
	}
	return out, err
}

// KeepUnchosen remembers them, so that a later commit does not take them in unasked.
func KeepUnchosen(d *desk.Desk, folder string, paths []string) error {
	if len(paths) == 0 {
		return files.Remove(unchosenFile(d, folder))
	}
	return files.WriteJSON(unchosenFile(d, folder), paths[:min(len(paths), mostUnchosen)])
}
