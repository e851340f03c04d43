package attach

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/attach/contents"
	"uncinate/internal/world/git"
)

// An option that would be passed over is refused, with the command that does what it asks for.

// saveInstead is the command that commits in a project that has commits already.
func (a *Attach) saveInstead(words ...string) string {
	return desk.FolderCommand(a.Options.Folder, append([]string{"save", "--message", cmp.Or(a.given.Message, "What was done")}, words...)...)
}

// tracked lists the files of the last commit.
func (a *Attach) tracked(ctx context.Context) ([]string, error) {
	if a.Folder.Head == "" {
		return nil, nil
	}
	out, err := a.Folder.Repo.Lines(ctx, "ls-tree", "-r", "-z", "--name-only", a.Folder.Head)
	return out, git.Fault(err, "git cannot list the files of the last commit")
}

// soAlready reports whether the commits that are here are as the options of a first commit say: the
// same command was run before.
func (a *Attach) soAlready(ctx context.Context) (message, chosen bool, err error) {
	repo := a.Folder.Repo
	said, err := repo.Do(ctx, "log", "--max-parents=0", "--format=%B", a.Folder.Head)
	if err != nil {
		return false, false, git.Fault(err, "git cannot read the first commit's message")
	}
	tracked, err := a.tracked(ctx)
	if err != nil {
		return false, false, err
	}
	in, out := survey.Hits(a.given.Only), survey.Hits(a.given.Except)
	chosen = !slices.ContainsFunc(tracked, func(p string) bool { return len(a.given.Only) > 0 && !in(p) || out(p) })
	return strings.TrimSpace(said) == strings.TrimSpace(a.given.Message), chosen, nil
}

// ofFirst are the options that are about a first commit.
var ofFirst = []string{"only", "except", "message", "branch"}

// ChoosesFirst says that an option chooses files of a first commit, where there are commits already.
func ChoosesFirst(option, where string) *fault.Fault {
	return fault.New(fault.Usage, "%s chooses files of a first commit, and %s has commits already, which are sent whole", option, text.Visible(where))
}

// firstCommitOnly refuses the options that are about a first commit, where there is one already that
// is not as they say.
func (a *Attach) firstCommitOnly(ctx context.Context) error {
	o := a.given
	if a.Folder.Head == "" || a.Resumed || len(o.Only)+len(o.Except) == 0 && o.Message == "" && o.Branch == "" {
		return nil
	}
	message, chosen, err := a.soAlready(ctx)
	if err != nil {
		return err
	}
	var only []string
	for _, p := range o.Only {
		only = append(only, "--only", p)
	}
	for _, p := range o.Except {
		only = append(only, "--except", p)
	}
	switch {
	case len(only) > 0 && !chosen:
		f := ChoosesFirst(only[0], a.Folder.Path)
		if len(o.Only) > 0 {
			f.Try("commit what you choose", a.saveInstead(only...))
		}
		return f.TryWithout("attach what is committed", a.Again(), ofFirst...)
	case o.Message != "" && !message:
		return fault.New(fault.Usage, "--message is for a first commit, and %s has commits already", text.Visible(a.Folder.Path)).
			Try("commit what changed", a.saveInstead()).TryWithout("attach what is committed", a.Again(), ofFirst...)
	case o.Branch != "" && o.Branch != a.Folder.Branch && a.Folder.Branch != "":
		return fault.New(fault.Usage, "--branch names the branch of a first commit, and here it is called %s already", text.Visible(a.Folder.Branch)).
			Try("rename it", desk.FolderCommand(o.Folder, "branch", "rename", a.Folder.Branch, o.Branch)).TryWithout("attach with the name that it has", a.Again(), ofFirst...)
	}
	return nil
}

// Unheeded refuses options that a finished attach does not heed.
func (a *Attach) Unheeded(ctx context.Context) error {
	o, r := a.given, a.Repository
	is := func(what string, args ...any) *fault.Fault {
		return fault.New(fault.Usage, "the project is attached already, and %s", fmt.Sprintf(what, args...))
	}
	change := func(f *fault.Fault, args ...string) error {
		return f.Try("change it on the host", text.Command(append([]string{"uncinate", "repository", "change", r.Path()}, args...)...))
	}
	_, name := naming.Split(o.Name)
	tracked, err := a.tracked(ctx)
	if err != nil {
		return err
	}
	switch {
	case o.Host != "" && o.Host != a.HostName():
		return is("its host is %s", text.Either(a.HostName() == "", "not a known one", a.HostName())).Try("move it", a.Again("--move", "--host", o.Host))
	case o.Readme && !contents.Named(tracked, "readme"):
		return is("a readme is written with a first commit only").Try("write one and commit it", a.saveInstead())
	case o.Licence != "" && !contents.Licensed(tracked):
		return is("a licence is written with a first commit only").Try("write one and commit it", a.saveInstead())
	case r.Name == "":
		return nil // what is at the address was not described
	case o.Visibility != "" && r.Visibility != "" && o.Visibility != r.Visibility:
		return change(is("its visibility is %s", r.Visibility), "--visibility", o.Visibility)
	case o.Description != "" && o.Description != r.Description:
		return change(is("its description is %s", text.Quote(r.Description)), "--description", o.Description)
	case name != "" && !strings.EqualFold(name, r.Name):
		return change(is("its repository is called %s", r.Path()), "--name", name)
	case o.Owner != "" && o.Owner != r.Owner:
		return is("its repository belongs to %s", r.Owner).Try("move it to another owner", a.Again("--move", "--owner", o.Owner))
	}
	return nil
}
