package deploy

import (
	"errors"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/openfiles"
)

// youngest is how old a state has to be at least before it is removed: somebody may still read in it.
const youngest = 10 * time.Minute

// sweep removes the states that nobody needs: not the one in use, the one before, a younger one, or one in which a
// process has something open.
func (u *update) sweep() error {
	names, err := files.Names(u.x.Beside())
	if err != nil {
		return err
	}
	now := u.desk.Now()
	var old []string
	for _, n := range names {
		built, whole := u.state.Built[n]
		age := now.Sub(built.Made)
		if !built.Left.IsZero() {
			age = min(age, now.Sub(built.Left))
		}
		switch {
		case strings.HasPrefix(n, "new-"):
			old = append(old, n) // of a run that was cut off: no other is at work
		case !isCommit(n), n == u.x.InUse(), n == u.state.Before:
		case !whole:
			old = append(old, n)
		case age > youngest && age > time.Duration(u.x.Days)*24*time.Hour:
			old = append(old, n)
		}
	}
	if len(old) == 0 {
		return nil
	}
	open, _ := openfiles.All()
	for _, n := range old {
		at := u.x.at(n)
		if busy(open, at) {
			continue
		}
		if _, whole := u.state.Built[n]; whole { // it is not whole from here on
			delete(u.state.Built, n)
			if err := u.x.write(u.state); err != nil {
				return err
			}
		}
		if err := files.RemoveAll(at); err != nil {
			return fault.New(fault.Failed, "the old state %s cannot be removed: %s", text.Visible(at), files.Plain(err)).Because(err)
		}
	}
	return u.outputs()
}

// outputs removes what tasks said of states that are gone.
func (u *update) outputs() error {
	names, err := files.Names(u.x.at("output"))
	for _, n := range names {
		commit, _, _ := strings.Cut(n, "-")
		kept := slices.ContainsFunc(append([]string{u.state.Head, u.x.InUse(), u.state.Before}, slices.Collect(maps.Keys(u.state.Built))...), func(c string) bool { return strings.HasPrefix(c, commit) })
		if !kept {
			err = errors.Join(err, files.Remove(u.x.at("output", n)))
		}
	}
	return err
}

// busy reports whether a process works in a folder, or has something in it open.
func busy(open map[string]openfiles.Process, folder string) bool {
	for path := range open {
		if strings.HasPrefix(path, folder+string(filepath.Separator)) {
			return true
		}
	}
	working, _ := openfiles.Working(folder)
	return len(working) > 0
}
