package undoing

import (
	"context"
	"errors"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/history"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// PlanChanges plans to take back what is not saved: at paths from the project's top, which are files,
// folders or patterns, or all. Ignored files stay.
func PlanChanges(ctx context.Context, d *desk.Desk, given string, paths []string) (*Undo, error) {
	u, err := begin(ctx, d, given, "changes")
	if err != nil {
		return nil, err
	}
	if err := u.planChanges(ctx, paths); err != nil {
		return nil, errors.Join(err, u.held.Release())
	}
	return u, nil
}

func (u *Undo) planChanges(ctx context.Context, paths []string) error {
	u.Out.As = u.folder.Head
	named, hit := make([]func(string) bool, len(paths)), make([]bool, len(paths))
	for i, p := range paths {
		named[i] = namedBy(p, u.status)
	}
	wanted := func(p string) bool {
		any := len(paths) == 0
		for i := range paths {
			if named[i](p) {
				any, hit[i] = true, true
			}
		}
		return any
	}
	var clashing []string
	for _, e := range u.status.Entries {
		if at, from := wanted(e.Path), e.From != "" && wanted(e.From); !at && !from {
			continue
		}
		if e.Kind == "clashing" {
			clashing = append(clashing, e.Path)
			continue
		}
		u.take(e)
	}
	if err := u.clashing(ctx, clashing); err != nil {
		return err
	}
	for i, p := range paths {
		if !hit[i] {
			return u.unchanged(ctx, p)
		}
	}
	title, err := u.folder.Repo.Do(ctx, "log", "-1", "--no-show-signature", "--format=%s", u.folder.Head)
	if err != nil {
		return git.Fault(err, "git cannot read the last commit")
	}
	u.title = title
	return u.settle(ctx, "undo changes")
}

// namedBy gives a test of whether a path is meant by one that a person named; one that is a file's
// name just so is no pattern.
func namedBy(p string, st *git.Status) func(string) bool {
	clean := path.Clean(filepath.ToSlash(p))
	if slices.ContainsFunc(st.Entries, func(e git.Entry) bool { return e.Path == clean || e.From == clean }) {
		return func(q string) bool { return q == clean || strings.HasPrefix(q, clean+"/") }
	}
	return survey.Named([]string{p})
}

// take makes what differs a target.
func (u *Undo) take(e git.Entry) {
	leave := func(why string) { u.Out.Left = append(u.Out.Left, history.LeftOut{Path: e.Path, Why: why}) }
	switch {
	case e.Inner:
		leave("it is a repository of its own, and the changes in it are undone there")
		return
	case e.Untracked() && strings.HasSuffix(e.Path, "/"):
		leave("it is a repository of its own")
		return
	case e.Submodule && e.XY[0] == '.':
		leave("it is a repository of its own, at another commit")
		return
	}
	last := standing(e.Last)
	switch {
	case e.Untracked():
		u.gives(e.Path) // one that was only taken out of git's index comes back
		return
	case e.Submodule:
		u.targets[e.Path] = &target{is: last, index: last, still: true}
		return
	case e.From != "":
		u.targets[e.Path] = &target{}
		if strings.Contains(e.XY, "R") {
			u.targets[e.Path].from = e.From
			u.targets[e.From] = &target{is: last, index: last}
		}
	default:
		apart := e.XY[1] == '.' && u.missing(e.Path) && e.XY[0] != 'D'
		u.targets[e.Path] = &target{is: last, index: last, still: apart, apart: apart && last.ID != "", differs: e.XY == ".M" || e.XY == ".T"}
	}
	u.stage(e)
}

// clashing makes targets of files that plain git could not merge.
func (u *Undo) clashing(ctx context.Context, paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	last, err := u.holds(ctx, u.folder.Head, "")
	if err != nil {
		return err
	}
	for _, p := range paths {
		u.targets[p] = &target{is: last[p], index: last[p]}
	}
	return u.unmerged(ctx, func(p string) bool { return slices.Contains(paths, p) })
}

// holds lists what a commit holds at a path, a file or a folder; "" is its top.
func (u *Undo) holds(ctx context.Context, commit, p string) (map[string]worktree.Standing, error) {
	args := []string{"--literal-pathspecs", "ls-tree", "-r", "-z", "--full-tree", commit}
	if p != "" {
		args = append(args, "--", p)
	}
	lines, err := u.folder.Repo.Lines(ctx, args...)
	if err != nil {
		return nil, git.Fault(err, "git cannot list the files of %.10s", commit)
	}
	return worktree.Standings(lines), nil
}

// unchanged says why nothing is to be undone at a path that was named.
func (u *Undo) unchanged(ctx context.Context, p string) error {
	clean := path.Clean(filepath.ToSlash(p))
	if !filepath.IsLocal(filepath.FromSlash(clean)) {
		return fault.New(fault.Usage, "%s is not a path below the project's top, %s", text.Visible(p), text.Visible(u.folder.Path)).Detail("Nothing changed.").
			Try("see what differs", desk.FolderCommand(u.given, "changes"))
	}
	var f *fault.Fault
	ignored, err := u.folder.Repo.Do(ctx, "check-ignore", "-q", "--", clean)
	last, e := u.holds(ctx, u.folder.Head, clean)
	switch {
	case e != nil:
		return e
	case len(last) > 0 && len(u.status.Entries) == 0:
		f = fault.New(fault.Failed, "%s is as in the last commit, and so is everything else", text.Visible(clean))
	case len(last) > 0:
		f = fault.New(fault.Failed, "%s is as in the last commit", text.Visible(clean))
	case err == nil && ignored == "" && !u.missing(clean):
		return fault.New(fault.Failed, "%s is not undone: git was told to ignore it, so it knows no other state of it", text.Visible(clean)).Detail("Nothing changed.").
			Try("see which rule it is", desk.FolderCommand(u.given, "ignore", "explain", clean))
	default:
		f = fault.New(fault.Failed, "nothing that differs is called %s", text.Visible(p))
	}
	f.Detail("Nothing changed.")
	var names []string
	for _, e := range u.status.Entries {
		names = append(names, e.Path)
		if strings.HasSuffix(e.Path, "/"+clean) {
			f.Try("paths begin at the project's top; there is", desk.FolderCommand(u.given, "undo", "changes", e.Path))
			return f
		}
	}
	if near := text.Nearest(clean, names); near != "" && len(last) == 0 {
		f.Try("there is one of a like name", desk.FolderCommand(u.given, "undo", "changes", near))
	}
	if len(last) > 0 {
		return f.Try("to have it as it was in an older commit, choose one", desk.FolderCommand(u.given, "history", clean))
	}
	return f.Try("see what differs", desk.FolderCommand(u.given, "changes"))
}

// PlanFile plans to bring a file or folder back as it was in a commit, as a change that is not saved;
// "" is the last commit. Files of a folder that git does not know stay.
func PlanFile(ctx context.Context, d *desk.Desk, given, name, to string) (*Undo, error) {
	u, err := begin(ctx, d, given, "file")
	if err != nil {
		return nil, err
	}
	if err := u.planFile(ctx, name, to); err != nil {
		return nil, errors.Join(err, u.held.Release())
	}
	return u, nil
}

func (u *Undo) planFile(ctx context.Context, name, to string) error {
	f := u.folder
	commit := f.Head
	if to != "" {
		var err error
		if commit, err = history.CommitNamed(ctx, f, to); err != nil {
			return err
		}
	}
	u.Out.As = commit
	title, err := f.Repo.Do(ctx, "log", "-1", "--no-show-signature", "--format=%s", commit)
	if err != nil {
		return git.Fault(err, "git cannot read the commit")
	}
	u.title = title
	clean := path.Clean(filepath.ToSlash(name))
	if !filepath.IsLocal(filepath.FromSlash(clean)) {
		return fault.New(fault.Usage, "%s is not a path below the project's top, %s", text.Visible(name), text.Visible(f.Path)).
			Try("see which commits touched what", desk.FolderCommand(u.given, "history", "--full"))
	}
	if clean == "." {
		clean = ""
	}
	then, err := u.holds(ctx, commit, clean)
	if err != nil {
		return err
	}
	now, err := u.holds(ctx, f.Head, clean)
	if err != nil {
		return err
	}
	if len(then) == 0 && len(now) == 0 {
		return u.never(ctx, commit, clean)
	}
	if len(then) == 0 {
		u.Notes = append(u.Notes, text.Visible(clean)+" was not there in that commit.")
	}
	u.differing(clean, then, now)
	return u.settle(ctx, "undo file")
}

// differing makes targets of what is not as it was then.
func (u *Undo) differing(below string, then, now map[string]worktree.Standing) {
	differs := map[string]git.Entry{}
	in := func(p string) bool { return below == "" || p == below || strings.HasPrefix(p, below+"/") }
	for _, e := range u.status.Entries {
		if in(e.Path) {
			differs[e.Path] = e
		}
		if e.From != "" && in(e.From) {
			differs[e.From] = git.Entry{Path: e.From, XY: "??"} // it is not there
		}
	}
	add := func(p string) {
		is, index := then[p], now[p]
		e, changed := differs[p]
		if is == index && !changed || is.ID == "" && index.ID == "" {
			return
		}
		if is.Mode == "160000" || index.Mode == "160000" || e.Inner {
			u.Out.Left = append(u.Out.Left, history.LeftOut{Path: p, Why: "it is a repository of its own"})
			return
		}
		u.targets[p] = &target{is: is, index: index}
		if changed {
			u.stage(e)
		}
	}
	for _, p := range slices.Sorted(maps.Keys(now)) {
		add(p)
	}
	for _, p := range slices.Sorted(maps.Keys(then)) {
		if _, known := now[p]; !known {
			add(p)
		}
	}
}

// never says that a commit, and the last one, has no such file.
func (u *Undo) never(ctx context.Context, commit, p string) error {
	f := fault.New(fault.Failed, "there is no %s in commit %.10s, nor in the last one", text.Visible(p), commit).Detail("Nothing changed.")
	all, err := u.holds(ctx, commit, "")
	if err != nil {
		return err
	}
	names := slices.Sorted(maps.Keys(all))
	for _, q := range names {
		if strings.HasSuffix(q, "/"+p) {
			return f.Try("paths begin at the project's top; there is", u.fileLine(q, commit))
		}
	}
	if near := text.Nearest(p, names); near != "" {
		return f.Try("there is one of a like name", u.fileLine(near, commit))
	}
	if files.Missing(u.at(p)) {
		return f.Try("see which commits touched it", desk.FolderCommand(u.given, "history", p))
	}
	return f.Try("git does not know it yet; see what differs", desk.FolderCommand(u.given, "changes"))
}

// fileLine is the command that brings a file back as it was in a commit.
func (u *Undo) fileLine(p, commit string) string {
	options := []string{}
	if commit != u.folder.Head {
		options = []string{"--to", commit[:10]}
	}
	if u.given != "." && u.given != "" {
		options = append(options, "--folder", u.given)
	}
	return text.Command(text.WithOperand([]string{"uncinate", "undo", "file"}, p, options...)...)
}
