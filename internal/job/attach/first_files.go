package attach

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/licences"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
)

// firstFile is a file that an attach writes before the first commit.
type firstFile struct{ name, contents string }

// planFirstFiles decides which of the asked-for first files are to be written: those
// of which the project has none yet, under any of their usual names.
func (a *Attach) planFirstFiles() error {
	o := a.Options
	if !o.Readme && o.Licence == "" {
		return nil
	}
	licence := ""
	if o.Licence != "" {
		var err error
		if licence, err = licences.Text(o.Licence, a.Desk.Now().Format("2006"), a.name); err != nil {
			return err
		}
	}
	if a.committed() || a.project.Folder != "" && !a.Create {
		return nil // by the run that was cut off, or that came to its end
	}
	if !a.Create || a.folder.Head != "" {
		return fault.New(fault.Usage, "a readme and a licence are written with a first commit to a new repository only")
	}
	if o.Readme && !named(a.travel.Up, "readme") {
		s := "# " + a.Target.Name + "\n"
		if o.Description != "" {
			s += "\n" + o.Description + "\n"
		}
		a.first = append(a.first, firstFile{"README.md", s})
	}
	if licence != "" && !licensed(a.travel.Up) {
		a.first = append(a.first, firstFile{"LICENSE", licence})
	}
	for _, f := range a.first {
		if !worktree.Missing(a.at(f.name)) && a.run.Fact("first files") == "" {
			return fault.New(fault.Decision, "%s is here already, and would not go up", f.name)
		}
	}
	return nil
}

// named reports whether one of the paths is a file at the top that is called so, whatever
// its ending.
func named(paths []string, names ...string) bool {
	return slices.ContainsFunc(paths, func(p string) bool {
		stem, _, _ := strings.Cut(strings.ToLower(p), ".")
		return slices.Contains(names, stem)
	})
}

// licensed reports whether there is a licence, under one of its usual names.
func licensed(paths []string) bool { return named(paths, "license", "licence", "copying") }

// committed reports whether the first commit here is one that this attach made before it
// was cut off.
func (a *Attach) committed() bool {
	return a.folder.Head != "" && a.run.Fact("commit") == a.folder.Head
}

func (a *Attach) stepFirstFiles() desk.Step {
	var names []string
	for _, f := range a.first {
		names = append(names, f.name)
	}
	said := strings.Join(names, " and ")
	if a.Options.Licence != "" && slices.Contains(names, "LICENSE") {
		said += " (" + a.Options.Licence + ")"
	}
	return desk.Step{Item: plan.Item{ID: "first-files", Place: plan.Here, Sentence: "Write " + said},
		Done: func(context.Context) (bool, error) {
			for _, f := range a.first {
				if worktree.Missing(a.at(f.name)) {
					return false, nil
				}
			}
			return true, nil
		},
		Do: func(context.Context) error {
			if err := a.run.Note("first files", strings.Join(names, "\n")); err != nil {
				return err
			}
			for _, f := range a.first {
				if worktree.Missing(a.at(f.name)) {
					if err := files.WriteBy(a.at(f.name), a.besideGit(f.name+".new"), []byte(f.contents), 0o644); err != nil {
						return err
					}
					if err := a.wrote(a.at(f.name), f.name); err != nil {
						return err
					}
				}
			}
			return nil
		},
		Undo: a.undoFirstFiles}
}

func (a *Attach) undoFirstFiles(context.Context) error {
	for name := range strings.SplitSeq(a.run.Fact("first files"), "\n") {
		touched, err := a.touched(a.at(name), name)
		if err != nil {
			return err
		}
		if name == "" || touched {
			continue // what the person wrote in it since stays
		}
		if err := os.Remove(a.at(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// notePublic says what "public" means before it is agreed to.
func (a *Attach) notePublic(ctx context.Context) error {
	if !a.Create || a.Target.Visibility != "public" {
		return nil
	}
	what := "every file"
	var top []string
	if a.folder.Head != "" {
		out, err := a.folder.Repo.Do(ctx, "log", "--format=%ae%n%ce", "--no-show-signature", "HEAD")
		if err != nil {
			return desk.GitFault(err, "git cannot list the commits")
		}
		people := strings.Split(out, "\n")
		slices.Sort(people)
		what = fmt.Sprintf("every file in every commit, with the names and e-mail addresses of %s", text.Count(len(slices.Compact(people)), "author"))
		if top, err = a.folder.Repo.Lines(ctx, "ls-tree", "-z", "--name-only", "HEAD"); err != nil {
			return desk.GitFault(err, "git cannot list the files")
		}
	} else {
		what += ", and the e-mail address " + text.Visible(a.email)
		top = slices.Clone(a.travel.Up)
	}
	a.Notes = append(a.Notes, "Public lets everybody see "+what+", for ever: what was public once may have been copied. To share it with some people it need not be public.")
	for _, f := range a.first {
		top = append(top, f.name)
	}
	if !licensed(top) {
		a.Notes = append(a.Notes, "Without a licence nobody may use what they see. --licence adds one: "+strings.Join(licences.Known(), ", ")+".")
	}
	return nil
}
