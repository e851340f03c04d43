package job

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/world/files"
)

// Let is a path that a person let through although the survey would stop it, and why.
type Let struct {
	Path   string    `json:"path" says:"a file, a folder or a pattern, from the project's top"`
	Reason string    `json:"reason"`
	Since  time.Time `json:"since"`
}

// lets are what the person lets through now; each needs a reason.
func (a *Attach) lets() ([]Let, error) {
	var let []Let
	for _, p := range a.options.Let {
		let = append(let, Let{Path: p, Reason: a.options.Reason, Since: a.desk.Now().UTC().Truncate(time.Second)})
	}
	if len(let) > 0 && strings.TrimSpace(a.options.Reason) == "" {
		return nil, fault.New(fault.Usage, "a file that is let up needs a reason, to be read later").
			Try("", a.again("--let", a.options.Let[0], "--reason", "TEXT"))
	}
	return let, nil
}

// letPaths gives a test of whether a path was let through.
func letPaths(all []Let) func(p string) bool {
	rules := make([]string, len(all))
	for i, l := range all {
		rules[i] = "/" + strings.TrimPrefix(filepath.ToSlash(l.Path), "/")
	}
	return survey.Hits(rules)
}

func (d *Desk) letFile(folder string) string {
	return filepath.Join(d.Home.State, "let", files.Short(folder)+".json")
}

// letThrough gives what was let through in a project.
func (d *Desk) letThrough(folder string) ([]Let, error) {
	var all []Let
	_, err := files.ReadJSON(d.letFile(folder), &all)
	return all, err
}

// keepLet remembers what is let through, the newest reason for each path.
func (d *Desk) keepLet(folder string, more []Let) error {
	all, err := d.letThrough(folder)
	if err != nil || len(more) == 0 {
		return err
	}
	all = slices.DeleteFunc(all, func(l Let) bool {
		return slices.ContainsFunc(more, func(m Let) bool { return m.Path == l.Path })
	})
	return files.WriteJSON(d.letFile(folder), append(all, more...))
}
