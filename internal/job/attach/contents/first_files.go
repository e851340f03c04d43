package contents

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/licences"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

var factFirst = desk.NewFact[[]string]("first-files") // those that this attach writes

// firstFile is a file that an attach writes before the first commit.
type firstFile struct{ Name, Contents string }

// PlanFirstFiles decides which of the asked-for first files are to be written: those
// of which the project has none yet, under any of their usual names.
func (c *Contents) PlanFirstFiles() error {
	o := c.Options
	if !o.Readme && o.Licence == "" {
		return nil
	}
	licence := ""
	if o.Licence != "" {
		var err error
		if licence, err = licences.Text(o.Licence, c.Desk.Now().Format("2006"), c.Name); err != nil {
			return err
		}
	}
	if c.Committed() || c.Project.Folder != "" && !c.Create {
		return nil // by the run that was cut off, or that came to its end
	}
	if !c.Create || c.Folder.Head != "" {
		return fault.New(fault.Usage, "a readme and a licence are written with a first commit to a new repository only")
	}
	if o.Readme && !Named(c.Travel.Up, "readme") {
		s := "# " + c.Repository.Name + "\n"
		if o.Description != "" {
			s += "\n" + o.Description + "\n"
		}
		c.First = append(c.First, firstFile{"README.md", s})
	}
	if licence != "" && !Licensed(c.Travel.Up) {
		c.First = append(c.First, firstFile{"LICENSE", licence})
	}
	for _, f := range c.First {
		if !files.Missing(c.At(f.Name)) && len(factFirst.Of(c.Run)) == 0 {
			return fault.New(fault.Decision, "%s is here already, and would not go up", f.Name)
		}
	}
	return nil
}

// Named reports whether one of the paths is a file at the top that is called so, whatever
// its ending.
func Named(paths []string, names ...string) bool {
	return slices.ContainsFunc(paths, func(p string) bool {
		stem, _, _ := strings.Cut(strings.ToLower(p), ".")
		return slices.Contains(names, stem)
	})
}

// Licensed reports whether there is a licence, under one of its usual names.
func Licensed(paths []string) bool { return Named(paths, "license", "licence", "copying") }

// StepFirstFiles writes them where nothing is yet.
func (c *Contents) StepFirstFiles() desk.Step {
	var names []string
	for _, f := range c.First {
		names = append(names, f.Name)
	}
	said := strings.Join(names, " and ")
	if c.Options.Licence != "" && slices.Contains(names, "LICENSE") {
		said += " (" + c.Options.Licence + ")"
	}
	return c.bareFirst().Planned(plan.Here, "Write "+said,
		func(context.Context) (bool, error) {
			for _, f := range c.First {
				if files.Missing(c.At(f.Name)) {
					return false, nil
				}
			}
			return true, nil
		},
		func(context.Context) error {
			if err := factFirst.Note(c.Run, names); err != nil {
				return err
			}
			for _, f := range c.First {
				if files.Missing(c.At(f.Name)) {
					if err := files.WriteBy(c.At(f.Name), c.BesideGit(f.Name+".new"), []byte(f.Contents), 0o644); err != nil {
						return err
					}
					if err := c.Wrote(c.At(f.Name), f.Name); err != nil {
						return err
					}
				}
			}
			return nil
		})
}

// undoFirstFiles removes those that nobody changed since.
func (c *Contents) undoFirstFiles(context.Context) error {
	for name := range slices.Values(factFirst.Of(c.Run)) {
		touched, err := c.Touched(c.At(name), name)
		if err != nil {
			return err
		}
		if touched {
			continue // what the person wrote in it since stays
		}
		if err := files.Remove(c.At(name)); err != nil {
			return err
		}
	}
	return nil
}

// NotePublic says what "public" means before it is agreed to.
func (c *Contents) NotePublic(ctx context.Context) error {
	if !c.Create || c.Repository.Visibility != "public" {
		return nil
	}
	what := "every file"
	var top []string
	if c.Folder.Head != "" {
		out, err := c.Folder.Repo.Do(ctx, "log", "--format=%ae%n%ce", "--no-show-signature", "HEAD")
		if err != nil {
			return git.Fault(err, "git cannot list the commits")
		}
		people := strings.Split(out, "\n")
		slices.Sort(people)
		what = fmt.Sprintf("every file in every commit, with the names and e-mail addresses of %s", text.Count(len(slices.Compact(people)), "author"))
		if top, err = c.Folder.Repo.Lines(ctx, "ls-tree", "-z", "--name-only", "HEAD"); err != nil {
			return git.Fault(err, "git cannot list the files")
		}
	} else {
		what += ", and the e-mail address " + text.Visible(c.Email)
		top = slices.Clone(c.Travel.Up)
	}
	c.Notes = append(c.Notes, "Public lets everybody see "+what+", for ever: what was public once may have been copied. To share it with some people it need not be public.")
	for _, f := range c.First {
		top = append(top, f.Name)
	}
	switch {
	case Licensed(top):
	case c.Create && c.Folder.Head == "":
		c.Notes = append(c.Notes, "Without a licence nobody may use what they see. --licence adds one: "+strings.Join(licences.Known(), ", ")+".")
	default:
		c.Notes = append(c.Notes, "Without a licence, a file LICENSE in the project, nobody may use what they see.")
	}
	return nil
}

func (c *Contents) bareFirst() desk.Step {
	return desk.Bare("first-files", plan.Here, "Remove the first files that were written", c.undoFirstFiles)
}
