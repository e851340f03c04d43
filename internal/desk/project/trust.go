package project

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Work gives the folder for runs of git that reach a host or run hooks. It refuses where the
// folder's own configuration could do something that nobody has agreed to.
func (f *Folder) Work() (*git.Work, error) {
	if len(f.Dangers) == 0 {
		return f.Repo.Works(), nil
	}
	leads := slices.ContainsFunc(f.Dangers, func(x Danger) bool { return x.Leads })
	out := fault.New(fault.Decision, "git's own configuration in %s names %s, and you have not said that you trust it", text.Visible(f.Path),
		text.Either(leads, "programs to run, or ways that lead elsewhere", "programs to run"))
	for i, x := range f.Dangers {
		if i == 6 {
			out.Detail("and %d more", len(f.Dangers)-i)
			break
		}
		out.Detail("%s", x.Sentence())
	}
	out.Try("if you know what it does, trust it as it is now", text.Command("uncinate", "project", "trust", f.Path))
	return nil, &Strange{out, f, leads}
}

// Strange is the fault where a folder's own configuration could do something that nobody has
// agreed to.
type Strange struct {
	*fault.Fault
	Folder *Folder
	Leads  bool // it could lead elsewhere, beyond running programs
}

// Unwrap gives the fault to errors.As.
func (s *Strange) Unwrap() error { return s.Fault }

// Trusts remembers that dangers are trusted, as they are now.
func (f *Folder) Trusts(ctx context.Context, d *desk.Desk, which []Danger) error {
	err := desk.Alter(ctx, d, trustFile(d, f.Path), func(all []string) ([]string, error) {
		for _, x := range which {
			if !slices.Contains(all, x.digest) {
				all = append(all, x.digest)
			}
		}
		return all, nil
	})
	if err != nil {
		return err
	}
	return f.judge(d)
}

// TrustOwn does something that may bring settings and hooks of the person's own into the folder,
// such as those of their template, and trusts what is new there.
func (f *Folder) TrustOwn(ctx context.Context, d *desk.Desk, do func() error) error {
	before, err := f.dangers(d)
	if err == nil {
		err = do()
	}
	if err != nil {
		return err
	}
	if err := f.ReadSettings(ctx, d); err != nil {
		return err
	}
	all, err := f.dangers(d)
	if err != nil {
		return err
	}
	fresh := slices.DeleteFunc(all, func(x Danger) bool {
		return slices.ContainsFunc(before, func(y Danger) bool { return x.digest == y.digest })
	})
	if len(fresh) == 0 {
		return nil
	}
	return f.Trusts(ctx, d, fresh)
}

// CarryTrust takes what is trusted along when a folder was moved.
func CarryTrust(d *desk.Desk, from, to string) error {
	all, err := trusted(d, from)
	if err != nil || len(all) == 0 {
		return err
	}
	return files.WriteJSON(trustFile(d, to), all)
}

// put is a setting that was put aside, and the file of git's configuration in which it stood.
type put struct{ File, Key, Value string }

func asideFile(d *desk.Desk, folder string) string {
	return filepath.Join(d.Home.State, "put-aside", files.Short(folder)+".json")
}

// PutAside takes what leads elsewhere out of the repository's own configuration, and keeps it to
// be brought back by BringBack. Where it comes from an included file, the include goes.
func (f *Folder) PutAside(ctx context.Context, d *desk.Desk) error {
	own, common, err := git.Folders(f.Path)
	if err != nil {
		return err
	}
	mains := []string{filepath.Join(common, "config"), filepath.Join(own, "config.worktree")}
	var gone []put
	included := false
	for _, x := range f.Dangers {
		if !x.Leads {
			continue
		}
		if at := f.origin(x.setting); slices.Contains(mains, at) {
			gone = append(gone, put{at, x.setting.Key, x.setting.Value})
		} else {
			included = true
		}
	}
	for _, s := range f.Settings {
		at := f.origin(s)
		if included && s.Own() && strings.EqualFold(s.Key, "include.path") && slices.Contains(mains, at) && !isOurs(d, s.Value) {
			gone = append(gone, put{at, s.Key, s.Value})
		}
	}
	var kept []put
	if _, err := files.ReadJSON(asideFile(d, f.Path), &kept); err != nil {
		return err
	}
	if err := files.WriteJSON(asideFile(d, f.Path), append(kept, gone...)); err != nil {
		return err
	}
	for _, x := range gone {
		args := []string{"config", "--file", x.File, "--fixed-value", "--unset-all", x.Key, x.Value}
		if _, err := f.Repo.Do(ctx, args...); err != nil && git.Code(err) != 5 { // 5: it is no longer there
			return git.Fault(err, "%s cannot be put aside", text.Visible(x.Key))
		}
	}
	if err := f.ReadSettings(ctx, d); err != nil {
		return err
	}
	for _, x := range f.Dangers {
		if x.Leads {
			return fault.New(fault.Decision, "what leads elsewhere cannot be put aside").Detail("%s", x.Sentence()).
				Try("take it out by hand, or trust it", text.Command("uncinate", "attach", "--trust", f.Path))
		}
	}
	return nil
}

// BringBack puts settings back that were put aside.
func (f *Folder) BringBack(ctx context.Context, d *desk.Desk) error {
	var kept []put
	if found, err := files.ReadJSON(asideFile(d, f.Path), &kept); err != nil || !found {
		return err
	}
	for _, x := range kept {
		there, err := f.Repo.Lines(ctx, "config", "--file", x.File, "-z", "--get-all", x.Key)
		if err != nil && git.Code(err) != 1 {
			return git.Fault(err, "git's configuration cannot be read")
		}
		if slices.Contains(there, x.Value) {
			continue
		}
		if _, err := f.Repo.Do(ctx, "config", "--file", x.File, "--add", x.Key, x.Value); err != nil {
			return git.Fault(err, "%s cannot be brought back into %s", text.Visible(x.Key), text.Visible(x.File))
		}
	}
	return files.Remove(asideFile(d, f.Path))
}

// HasAside reports whether settings of the folder were put aside.
func HasAside(d *desk.Desk, folder string) bool {
	return !files.Missing(asideFile(d, folder))
}
