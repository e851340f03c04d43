package surveying

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/survey"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
)

// Let is a path that a person let through although the survey would stop it, and why.
type Let struct {
	Path   string    `json:"path" says:"a file, a folder or a pattern, from the project's top"`
	Reason string    `json:"why"`
	Since  time.Time `json:"since"`
}

// LetPaths gives a test of whether a path was let through.
func LetPaths(all []Let) func(p string) bool {
	rules := make([]string, len(all))
	for i, l := range all {
		rules[i] = "/" + strings.TrimPrefix(filepath.ToSlash(l.Path), "/")
	}
	return survey.Hits(rules)
}

func letFile(d *desk.Desk, folder string) string {
	return filepath.Join(d.Home.State, "let", files.Short(folder)+".json")
}

// LetThrough gives what was let through in a project.
func LetThrough(d *desk.Desk, folder string) ([]Let, error) {
	var all []Let
	_, err := files.ReadJSON(letFile(d, folder), &all)
	return all, err
}

// DropLet takes back what was let through, where which says so of its path.
func DropLet(ctx context.Context, d *desk.Desk, folder string, which func(path string) bool) error {
	return desk.Alter(ctx, d, letFile(d, folder), func(all []Let) ([]Let, error) {
		return slices.DeleteFunc(all, func(l Let) bool { return which(l.Path) }), nil
	})
}

// KeepLet remembers what is let through, the newest reason for each path.
func KeepLet(ctx context.Context, d *desk.Desk, folder string, more []Let) error {
	if len(more) == 0 {
		return nil
	}
	return desk.Alter(ctx, d, letFile(d, folder), func(all []Let) ([]Let, error) {
		all = slices.DeleteFunc(all, func(l Let) bool {
			return slices.ContainsFunc(more, func(m Let) bool { return m.Path == l.Path })
		})
		return append(all, more...), nil
	})
}
