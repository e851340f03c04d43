package project

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// FolderExists reports whether a project's folder is there.
func FolderExists(p Project) bool {
	s, err := os.Stat(filepath.Clean(p.Folder))
	return err == nil && s.IsDir()
}

// Project is one entry of the register: a folder that is attached to a repository.
type Project struct {
	Folder       string    `json:"folder"` // absolute, symbolic links resolved
	Remote       string    `json:"remote"` // git's name for it, such as "origin"
	Address      string    `json:"address"`
	Account      string    `json:"account,omitempty"` // none: the sign-in that git has by itself
	Host         string    `json:"host,omitempty"`    // a known host, or none
	KeyFile      string    `json:"key_file,omitempty" says:"the SSH key by which git signs in, where there is no account"`
	ID           string    `json:"id,omitempty"` // the host's stable id
	Page         string    `json:"page,omitempty"`
	Attached     time.Time `json:"attached"`
	Second       bool      `json:"second,omitempty" says:"a second remote, which only receives"`
	Own          bool      `json:"own_copy,omitempty" says:"a copy of one's own on the host, from which branches are offered"`
	ReceivesOnly bool      `json:"receives_only,omitempty" says:"nothing is ever sent"`
}

func registerFile(d *desk.Desk) string { return filepath.Join(d.Home.State, "register.json") }

// Register lists the attached projects. It is an index only: what counts is in
// each repository's own configuration.
func Register(d *desk.Desk) ([]Project, error) {
	var all []Project
	_, err := files.ReadJSON(registerFile(d), &all)
	return all, err
}

// Alter changes the register, alone: several projects may be at work at once, in this
// process and in others.
func Alter(ctx context.Context, d *desk.Desk, how func([]Project) []Project) error {
	return desk.Alter(ctx, d, registerFile(d), func(all []Project) ([]Project, error) { return how(all), nil })
}

// Enter puts a project into the register, in the place of one with the same folder and remote.
func Enter(ctx context.Context, d *desk.Desk, p Project) error {
	return Alter(ctx, d, func(all []Project) []Project {
		return append(slices.DeleteFunc(all, func(q Project) bool { return q.Folder == p.Folder && q.Remote == p.Remote }), p)
	})
}

// Bind adds a further remote of a folder with its sign-in to git's configuration, and to the register.
func Bind(ctx context.Context, d *desk.Desk, f *Folder, p Project) (*Tie, error) {
	h, err := TieOf(ctx, d, f, p)
	if err == nil {
		err = h.Set(ctx)
	}
	if err == nil {
		err = Enter(ctx, d, p)
	}
	return h, err
}

// Strike takes a project out of the register.
func Strike(ctx context.Context, d *desk.Desk, folder, remote string) error {
	return Alter(ctx, d, func(all []Project) []Project {
		return slices.DeleteFunc(all, func(q Project) bool { return q.Folder == folder && q.Remote == remote })
	})
}

// RenameRemote tells the register that a project's remote is called otherwise.
func RenameRemote(ctx context.Context, d *desk.Desk, folder, from, to string) error {
	return Alter(ctx, d, func(all []Project) []Project {
		for i := range all {
			if all[i].Folder == folder && all[i].Remote == from {
				all[i].Remote = to
				break
			}
		}
		return all
	})
}

// ProjectAt finds the register's entry for a folder; false when it is not attached. Of
// several it is the newest that is not a copy; a copy of one's own is never it.
func ProjectAt(d *desk.Desk, folder string) (Project, bool, error) {
	all, err := Register(d)
	if err != nil {
		return Project{}, false, err
	}
	for _, copies := range []bool{false, true} {
		for _, p := range slices.Backward(all) {
			if p.Folder == folder && p.Second == copies && !p.Own {
				return p, true, nil
			}
		}
	}
	return Project{}, false, nil
}

// OwnCopy finds the copy of one's own from which a folder's branches are offered; false where it has none.
func OwnCopy(d *desk.Desk, folder string) (Project, bool, error) {
	all, err := Register(d)
	if err != nil {
		return Project{}, false, err
	}
	i := slices.IndexFunc(all, func(p Project) bool { return p.Folder == folder && p.Own })
	if i < 0 {
		return Project{}, false, nil
	}
	return all[i], true, nil
}

// where gives of each project the copy of one's own, where its branch that is checked out goes there.
func where(d *desk.Desk, all []Project) ([]Project, error) {
	every, err := Register(d)
	for _, own := range every {
		if i := slices.IndexFunc(all, func(p Project) bool { return own.Own && p.Folder == own.Folder }); i >= 0 && goesTo(own) {
			all[i] = own
		}
	}
	return all, err
}

// goesTo reports whether the branch that is checked out in a copy's folder goes to it.
func goesTo(own Project) bool {
	at, common, err := git.Folders(own.Folder)
	if err != nil {
		return false // what is wrong with it is told where it is looked at
	}
	branch, err := git.ReadHead(at)
	if err != nil || branch == "" {
		return false
	}
	config, err := git.ReadConfig(filepath.Join(common, "config"))
	return err == nil && slices.Equal(config["branch."+branch+".remote"], []string{own.Remote})
}

// EntryOf finds the register's entry for one remote of a folder.
func EntryOf(d *desk.Desk, folder, remote string) (Project, bool, error) {
	all, err := Register(d)
	if err != nil {
		return Project{}, false, err
	}
	i := slices.IndexFunc(all, func(p Project) bool { return p.Folder == folder && p.Remote == remote })
	if i < 0 {
		return Project{}, false, nil
	}
	return all[i], true, nil
}

// Mains are the register's projects, without the places that only receive.
func Mains(d *desk.Desk) ([]Project, error) {
	all, err := Register(d)
	seen := map[string]bool{}
	var out []Project
	for _, p := range slices.Backward(all) { // the newest entry of a folder counts
		if !p.Second && !seen[p.Folder] {
			seen[p.Folder] = true
			out = append(out, p)
		}
	}
	slices.Reverse(out)
	return out, err
}

// AttachedHere gives the projects that are worked on together; it is a fault when there is none.
func AttachedHere(ctx context.Context, d *desk.Desk) ([]Project, error) {
	all, err := Mains(d)
	if err == nil {
		all, err = where(d, all)
	}
	if err == nil && len(all) == 0 {
		err = fault.New(fault.Decision, "no project is attached on this machine yet").
			Try("attach one", "uncinate attach FOLDER").Try("bring one here", "uncinate clone REPOSITORY").Try("register clones that are there already", "uncinate project find FOLDER")
	}
	if err == nil {
		_, err = d.Git(ctx)
	}
	return all, err
}
