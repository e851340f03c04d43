package surveying

import (
	"context"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/handover"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/tree"
	"uncinate/internal/world/trial"
)

// Proved is what came of building a fresh copy of only what would go up.
type Proved struct {
	Command string   `json:"command"`
	Exit    int      `json:"exit" says:"how the command ended"`
	Took    string   `json:"took"`
	Copied  int      `json:"copied" says:"files that were in the copy"`
	Made    int      `json:"generated" says:"files that stay and that the command made again"`
	Missing []string `json:"missing" says:"files that stay and that it did not make"`
	Asked   []string `json:"asked" says:"files that stay and that the command spoke of when it failed"`
	Output  []string `json:"output" says:"its last lines"`
}

// prove copies what would go up into a fresh folder and runs the person's own command
// there, without a shell.
func prove(ctx context.Context, d *desk.Desk, s *Surveying, command string) (_ *Proved, err error) {
	words, err := text.Words(command)
	if err != nil {
		return nil, fault.New(fault.Usage, "%s", err)
	}
	top, done, err := files.Scratch("uncinate-prove-")
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, done)
	copied := filepath.Join(top, filepath.Base(s.Folder.Path))
	p := &Proved{Command: command, Missing: []string{}, Asked: []string{}, Output: []string{}}
	for i, f := range s.Sorted.Files {
		if s.Sorted.Class[i] != survey.Work || f.Type > survey.Link {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := tree.Copy(s.Folder.Path, copied, f); err != nil {
			return nil, fault.New(fault.Failed, "%s cannot be copied for the proof", text.Visible(f.Path)).Because(err)
		}
		p.Copied++
		d.Tell.Progress("Copying", int64(p.Copied), int64(len(s.Sorted.Files)), "")
	}
	d.Tell.Progress("Copying", 0, 0, "")
	if err := files.MakeFolder(copied, 0o755); err != nil {
		return nil, err
	}
	began := d.Now()
	p.Exit, p.Output, err = trial.Run(ctx, copied, words)
	p.Took = d.Now().Sub(began).Round(100 * time.Millisecond).String()
	if err != nil {
		return nil, err
	}
	said := strings.Join(p.Output, "\n")
	for i, f := range s.Sorted.Files {
		if c := s.Sorted.Class[i]; c == survey.Work || c == survey.Uncarried {
			continue
		}
		if files.KindOf(filepath.Join(copied, filepath.FromSlash(f.Path))) != files.None {
			p.Made++
		} else if s.Sorted.Class[i] == survey.Remakeable {
			p.Missing = append(p.Missing, f.Path)
		}
		if p.Exit != 0 && len(path.Base(f.Path)) > 3 && (strings.Contains(said, f.Path) || strings.Contains(said, path.Base(f.Path))) && s.Sorted.Class[i] != survey.Remakeable {
			p.Asked = append(p.Asked, f.Path)
		}
	}
	return p, nil
}

// handOver gathers what a clone needs besides what git brings: from the kinds, from what
// was proved, and from the files that a rule leaves out one by one.
func (s *Surveying) handOver(proved *Proved) handover.Note {
	var n handover.Note
	seen, bare := map[string]bool{}, s.withoutRules()
	for i, f := range s.Sorted.Files {
		class := bare.Class[i]
		if class == survey.Work {
			class = s.Sorted.Class[i]
		}
		switch class {
		case survey.Remakeable, survey.Personal:
			r := bare.Rules[bare.ByRule[i]]
			what := strings.TrimPrefix(r.Pattern, "/")
			if seen[what] {
				continue
			}
			seen[what] = true
			switch {
			case r.Supply:
				n.Supply = append(n.Supply, handover.Need{What: f.Path, How: "bring your own: " + r.Why})
			case proved != nil && proved.Exit == 0 && class == survey.Remakeable && !slices.Contains(proved.Missing, f.Path):
				n.Make = append(n.Make, handover.Need{What: what, How: proved.Command})
			case r.Bring != "":
				n.Make = append(n.Make, handover.Need{What: what, How: r.Bring})
			}
		case survey.Ignored:
			if f.Type == survey.Regular && strings.HasPrefix(f.Rule.Pattern, "/") && strings.TrimPrefix(f.Rule.Pattern, "/") == f.Path {
				n.Supply = append(n.Supply, handover.Need{What: f.Path, How: "bring your own: it does not travel"})
			}
		}
	}
	return n
}

// withoutRules sorts the files as if no ignore rule were written yet: what is generated is told by
// what the project is made of, also where a rule leaves it out already.
func (s *Surveying) withoutRules() *survey.Sorted {
	all := slices.Clone(s.Sorted.Files)
	for i := range all {
		all[i].Rule = nil
	}
	return survey.Sort(all, s.known, caches(s.Folder.Path, all), survey.Choice{}, s.beyond(all))
}

// writeHandOver writes the note into the project, where there is something to say.
func (s *Surveying) writeHandOver(n handover.Note) error {
	file := filepath.Join(s.Folder.Path, handover.File)
	if k := files.KindOf(file); k != files.None && k != files.Regular {
		return fault.New(fault.Decision, "%s is not a plain file", text.Visible(file))
	}
	old, err := files.Read(file, handover.Most)
	if err == nil && string(old) == n.Format() {
		return nil
	}
	return writeBeside(s.Folder, file, []byte(n.Format()))
}

// HandedOver reads the note that a project carries; nil where it carries none. One that
// cannot be read is told of as what it is.
func HandedOver(folder string) (*handover.Note, error) {
	f, err := tree.Open(folder, handover.File)
	if err != nil {
		return nil, nil // most carry none
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, handover.Most+1))
	if err != nil {
		return nil, err
	}
	n, err := handover.Parse(data)
	if err != nil || n.Empty() {
		return nil, err
	}
	return &n, nil
}
