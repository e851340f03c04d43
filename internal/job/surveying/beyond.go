package surveying

import (
	"context"
	"errors"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/ignore"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/made"
	"uncinate/internal/core/survey"
	"uncinate/internal/desk"
	"uncinate/internal/world/tree"
)

// beyond tells the kinds what files hold, where they ask for it.
func (s *Surveying) beyond(all []survey.File) kinds.Look {
	read := func(i, most int) []byte {
		if all[i].Type != survey.Regular {
			return nil
		}
		r, err := tree.Open(s.Folder.Path, all[i].Path)
		if err != nil {
			return nil // it tells nothing then
		}
		data, err := io.ReadAll(io.LimitReader(r, int64(most)))
		if err = errors.Join(err, r.Close()); err != nil {
			return nil
		}
		return data
	}
	return kinds.Look{
		Name:  filepath.Base(s.Folder.Path),
		Begin: func(i int) []byte { return read(i, made.Beginning) },
		Whole: func(i int) []byte {
			if all[i].Size > kinds.MostWhole {
				return nil
			}
			return read(i, kinds.MostWhole)
		},
	}
}

// dropStanding leaves of the rules for what is not there yet those that no rule of the person's
// does the work of.
func (s *Surveying) dropStanding(ctx context.Context, d *desk.Desk) error {
	if len(s.Sorted.Ahead) == 0 {
		return nil
	}
	lists, err := standingRules(ctx, d, s.Folder, s.Sorted.Files)
	if err != nil {
		return err
	}
	s.Sorted.Ahead = slices.DeleteFunc(s.Sorted.Ahead, func(r kinds.Rule) bool {
		sample := strings.NewReplacer("*", "x", `\`, "").Replace(strings.Trim(r.Pattern, "/"))
		hit, _ := ignore.Explain(lists, sample, strings.HasSuffix(r.Pattern, "/"))
		return hit != nil
	})
	return nil
}
