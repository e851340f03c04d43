package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/licences"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// firstFile is a file that an attach writes before the first commit.
type firstFile struct{ name, contents string }

// planFirstFiles decides which of the asked-for first files are to be written: those
// of which the project has none yet, under any of their usual names.
func (a *Attach) planFirstFiles() error {
	o := a.options
	if !o.Readme && o.Licence == "" {
		return nil
	}
	licence := ""
	if o.Licence != "" {
		var err error
		if licence, err = licences.Text(o.Licence, a.desk.Now().Format("2006"), a.name); err != nil {
			return err
		}
	}
	if a.committed() || a.project.Folder != "" && !a.create {
		return nil // by the run that was cut off, or that came to its end
	}
	if !a.create || a.folder.head != "" {
		return fault.New(fault.Usage, "a readme and a licence are written with a first commit to a new repository only")
	}
	has := func(names ...string) bool {
		return slices.ContainsFunc(a.travel.up, func(p string) bool {
			stem, _, _ := strings.Cut(strings.ToLower(p), ".")
			return slices.Contains(names, stem)
		})
	}
	if o.Readme && !has("readme") {
		s := "# " + a.target.Name + "\n"
		if o.Description != "" {
			s += "\n" + o.Description + "\n"
		}
		a.first = append(a.first, firstFile{"README.md", s})
	}
	if licence != "" && !has("license", "licence", "copying") {
		a.first = append(a.first, firstFile{"LICENSE", licence})
	}
	for _, f := range a.first {
		if !missing(a.at(f.name)) && a.run.fact("first files") == "" {
			return fault.New(fault.Decision, "%s is here already, and would not go up", f.name)
		}
	}
	return nil
}

// committed reports whether the first commit here is one that this attach made before it
// was cut off.
func (a *Attach) committed() bool {
	return a.folder.head != "" && a.run.fact("commit") == a.folder.head
}

func (a *Attach) stepFirstFiles() Step {
	var names []string
	for _, f := range a.first {
		names = append(names, f.name)
	}
	said := strings.Join(names, " and ")
	if a.options.Licence != "" && slices.Contains(names, "LICENSE") {
		said += " (" + a.options.Licence + ")"
	}
	return Step{Item: plan.Item{ID: "first-files", Place: plan.Here, Sentence: "Write " + said},
		Done: func(context.Context) (bool, error) {
			for _, f := range a.first {
				if missing(a.at(f.name)) {
					return false, nil
				}
			}
			return true, nil
		},
		Do: func(context.Context) error {
			if err := a.run.note("first files", strings.Join(names, "\n")); err != nil {
				return err
			}
			for _, f := range a.first {
				if missing(a.at(f.name)) {
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
	for name := range strings.SplitSeq(a.run.fact("first files"), "\n") {
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
	if !a.create || a.target.Visibility != "public" {
		return nil
	}
	what := "every file"
	licensed := len(a.first) > 0 && a.options.Licence != ""
	var top []string
	if a.folder.head != "" {
		out, err := a.folder.repo.Do(ctx, "log", "--format=%ae%n%ce", "--no-show-signature", "HEAD")
		if err != nil {
			return gitFault(err, "git cannot list the commits")
		}
		people := strings.Split(out, "\n")
		slices.Sort(people)
		what = fmt.Sprintf("every file in every commit, with the names and e-mail addresses of %s", text.Count(len(slices.Compact(people)), "author"))
		if top, err = a.folder.repo.Lines(ctx, "ls-tree", "-z", "--name-only", "HEAD"); err != nil {
			return gitFault(err, "git cannot list the files")
		}
	} else {
		what += ", and the e-mail address " + text.Visible(a.email)
		top = a.travel.up
	}
	a.Notes = append(a.Notes, "Public lets everybody see "+what+", for ever: what was public once may have been copied. To share it with some people it need not be public.")
	for _, p := range top {
		stem, _, _ := strings.Cut(strings.ToLower(filepath.Base(p)), ".")
		licensed = licensed || !strings.Contains(p, "/") && slices.Contains([]string{"license", "licence", "copying"}, stem)
	}
	if !licensed {
		a.Notes = append(a.Notes, "Without a licence nobody may use what they see. --licence adds one: "+strings.Join(licences.Known(), ", ")+".")
	}
	return nil
}

// checkOwner makes sure, where the host tells, that the account may make repositories
// for an owner, and lists the owners it may choose otherwise.
func (a *Attach) checkOwner(ctx context.Context, owner, name string) error {
	if owner == a.login.Account.User || a.login.may("owner-list", "") != nil {
		return nil
	}
	items, err := a.login.list(ctx, "owner-list", "list owners", nil)
	if err != nil {
		return err
	}
	owners := []string{a.login.Account.User}
	for _, i := range items {
		if o, ok := i["owner"].(string); ok && !slices.Contains(owners, o) {
			owners = append(owners, o)
		}
	}
	if slices.Contains(owners, owner) {
		return nil
	}
	f := fault.New(fault.HostSaidNo, "on %s the account %s cannot make repositories for %s", a.login.Host.Name, a.login.Account.Name, text.Quote(owner))
	names := a.desk.whoCreates(ctx, a.login.Host.Name, a.login.Account, owner)
	if len(names) > 0 {
		return others(f, names, "make repositories for "+owner, func(account string) string { return a.again("--account", account, "--name", owner+"/"+name) })
	}
	f.Detail("The owners to choose from are %s.", text.Excerpt(strings.Join(owners, ", "), 300))
	if near := text.Nearest(owner, owners); near != "" {
		owners = []string{near}
	}
	for _, o := range owners[:min(len(owners), 4)] {
		f.Try("for "+o, a.again("--name", o+"/"+name))
	}
	return f
}
