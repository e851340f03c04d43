package surveying

import (
	"cmp"
	"context"
	"errors"
	"path"
	"slices"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
)

// keeper is the name of an empty file that is put into an empty folder, so that git tracks
// the folder: git knows files alone (gitglossary(7), "tree object").
const keeper = ".gitkeep"

// Kept is what came of keeping empty folders.
type Kept struct {
	Folder string   `json:"folder"`
	Files  []string `json:"files" says:"the empty files that were put into them"`
}

// IgnoreKeep puts an empty file into empty folders, so that they go up: into those that are
// named, from the project's top, or into all that no rule leaves out. With preview it only says
// which.
func IgnoreKeep(ctx context.Context, d *desk.Desk, given string, which []string, preview bool) (*Kept, error) {
	f, err := topOf(ctx, d, given)
	if err != nil {
		return nil, err
	}
	held, err := d.Alone(ctx, f.Path)
	if err != nil {
		return nil, err
	}
	out, err := keepEmpty(ctx, d, f, given, which, preview)
	return out, errors.Join(err, held.Release())
}

func keepEmpty(ctx context.Context, d *desk.Desk, f *project.Folder, given string, which []string, preview bool) (*Kept, error) {
	s := &Surveying{Folder: f}
	if err := s.Sort(ctx, d, survey.Choice{}); err != nil {
		return nil, err
	}
	empty := map[string]survey.File{}
	out := &Kept{Folder: f.Path, Files: []string{}}
	for _, x := range s.Sorted.Files {
		if x.Type == survey.EmptyFolder {
			empty[x.Path] = x
			if len(which) == 0 && x.Rule == nil {
				out.Files = append(out.Files, x.Path+"/"+keeper)
			}
		}
	}
	for _, w := range which {
		_, inside, err := ruleFrom(f.Path, w)
		if err != nil {
			return nil, err
		}
		x, is := empty[path.Clean(inside)]
		switch {
		case is && x.Rule != nil:
			return nil, fault.New(fault.Decision, "%s is left out by the rule %s (%s, line %d), and so would be a file in it", text.Visible(x.Path), text.Visible(x.Rule.Pattern), text.Visible(x.Rule.Source), x.Rule.Line).
				Try("see what the rule does", desk.FolderCommand(given, "ignore", "explain", x.Path))
		case !is:
			return nil, fault.New(fault.Failed, "%s is not an empty folder of the project %s", text.Quote(w), text.Visible(f.Path)).
				Try("see what is there", text.Command("uncinate", "survey", f.Path))
		case !slices.Contains(out.Files, x.Path+"/"+keeper):
			out.Files = append(out.Files, x.Path+"/"+keeper)
		}
	}
	if preview {
		return out, nil
	}
	if p, err := files.CreateEmpty(f.Path, out.Files); err != nil {
		return nil, fault.New(fault.Failed, "%s cannot be written", text.Visible(cmp.Or(p, f.Path))).Because(err)
	}
	return out, nil
}
