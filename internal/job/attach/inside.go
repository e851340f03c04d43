package attach

import (
	"context"
	"path/filepath"
	"strings"

	"uncinate/internal/core/plan"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/attach/contents"
	"uncinate/internal/job/surveying"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// notePointers tells when a copy's large files are only pointers.
func notePointers(ctx context.Context, d *desk.Desk, repo *git.Repo) (bool, error) {
	data, err := files.Read(filepath.Join(repo.Dir, contents.Attributes), 1<<20)
	if err != nil || !strings.Contains(string(data), "filter=lfs") {
		return false, nil // most have none
	}
	if _, err := repo.Git.In(repo.Dir).Do(ctx, "config", "--get", "filter.lfs.smudge"); err == nil {
		return false, nil
	}
	d.Tell.Note("Note: the large files of this project are still only pointers. To get them: %s && %s", text.Command("git", "-C", repo.Dir, "lfs", "install", "--local"), text.Command("git", "-C", repo.Dir, "lfs", "pull"))
	return true, ctx.Err()
}

// stepSubmodules brings the repositories inside too.
func (c *Clone) stepSubmodules() desk.Step {
	t := c.target
	return desk.Step{Item: plan.Item{ID: "submodules", Place: plan.Here, Sentence: "Bring its submodules, each from its own address"},
		Do: func(ctx context.Context) error {
			fill := project.Filling{Desk: c.desk, Account: t.Tie.Account}
			f, err := project.LookLoosely(ctx, c.desk, c.folder)
			if err != nil {
				return err
			}
			return fill.Fill(ctx, f, t.Tie.Address)
		}, Stays: desk.Always}
}

// noteParts lists the submodules that were brought, and those whose folders are empty; it tells of these by which line
// they are filled, unless that was tried just now.
func noteParts(ctx context.Context, d *desk.Desk, f *project.Folder, tried bool) (brought, empty []string, err error) {
	parts, err := project.Parts(ctx, f, "")
	for _, p := range parts {
		if p.Here(f) {
			brought = append(brought, p.Path)
		} else {
			empty = append(empty, p.Path)
		}
	}
	if len(empty) > 0 && !tried {
		d.Tell.Note("Note: %s of this project %s empty: %s. To bring what belongs there: %s", text.Count(len(empty), "submodule"), desk.IsAre(len(empty)), text.Excerpt(strings.Join(empty, ", "), 200),
			text.Command("uncinate", "sync", "--submodules", f.Path))
	}
	return brought, empty, err
}

// inside tells what the projects in a folder are made of.
func inside(ctx context.Context, d *desk.Desk, f *project.Folder) ([]Inside, error) {
	s := &surveying.Surveying{Folder: f}
	if err := s.Sort(ctx, d, survey.Choice{}); err != nil {
		return nil, err
	}
	var out []Inside
	for _, k := range s.Sorted.Kinds {
		if k.Kind.Markers[0] == "*" || k.Kind.Spread { // what is about in every folder is not a project
			continue
		}
		one := Inside{Kind: k.Kind.Name}
		for _, root := range k.Roots {
			if root == "" {
				root = "."
			}
			one.Folders = append(one.Folders, root)
		}
		out = append(out, one)
	}
	return out, nil
}
