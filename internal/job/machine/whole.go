package machine

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// onlyIn says what of a project is nowhere but in its folder, its files, commits and rescue copies; "" for nothing.
// The host is asked. With ignored, ignored files do not count.
func onlyIn(ctx context.Context, d *desk.Desk, f *project.Folder, ignored bool) (string, error) {
	p, err := project.MainOf(ctx, d, f)
	if err != nil {
		return "", err
	}
	own, common, err := git.Folders(f.Path)
	if err != nil {
		return "", err
	}
	for _, x := range []struct{ at, what string }{{"modules", "submodules"}, {"worktrees", "further work trees"}, {"lfs", "large files outside of git"}} {
		names, err := files.Names(filepath.Join(common, x.at))
		if err != nil {
			return "", err
		}
		if len(names) > 0 {
			return "it has " + x.what, nil
		}
	}
	if own != common {
		return "it is a work tree of another folder's repository", nil
	}
	if x := git.InMiddle(own); x != nil {
		return x.What + " is not finished", nil
	}
	if n := worktree.CopiesKept(common); n > 0 {
		return text.Count(n, "rescue copy"), nil
	}
	if why, err := unsaved(ctx, f, p, ignored); why != "" || err != nil {
		return why, err
	}
	return unsent(ctx, d, f, p, common)
}

// unsaved says which files are not as a commit has them.
func unsaved(ctx context.Context, f *project.Folder, p project.Project, ignored bool) (string, error) {
	s, err := project.StandHere(ctx, f, p, true)
	if err != nil {
		return "", err
	}
	if n := len(s.Status.Entries); n > 0 {
		return text.Count(n, "file") + " " + desk.IsAre(n) + " not saved", nil
	}
	if n := len(s.Status.Ignored); n > 0 && !ignored {
		return fmt.Sprintf("%s, such as %s", text.Count(n, "ignored file"), text.Visible(s.Status.Ignored[0])), nil
	}
	flags, err := f.Repo.Lines(ctx, "ls-files", "-v", "-z")
	if err != nil {
		return "", git.Fault(err, "git cannot list the files")
	}
	for _, line := range flags {
		if !strings.HasPrefix(line, "H ") {
			return "git was told not to look at some files, such as " + text.Visible(line[min(2, len(line)):]), nil
		}
	}
	return "", nil
}

// unsent says what the host, as it tells just now, does not have: a commit that any ref leads to, or a tag.
func unsent(ctx context.Context, d *desk.Desk, f *project.Folder, p project.Project, common string) (string, error) {
	told, there, err := has(ctx, d, f, p)
	if err != nil {
		return "", err
	}
	refs, err := f.Repo.LocalRefs(ctx, common)
	if err != nil {
		return "", git.Fault(err, "git cannot list the branches")
	}
	names := append(slices.Sorted(maps.Keys(refs)), "HEAD") // which no branch may hold
	refs["HEAD"] = f.Head
	for _, name := range names {
		id := refs[name]
		switch {
		case strings.HasPrefix(name, "refs/remotes/") || id == "":
			continue
		case name == "refs/stash":
			return "a stash", nil
		case strings.HasPrefix(name, "refs/tags/") && told.IDs[name] != id:
			return "the tag " + text.Visible(strings.TrimPrefix(name, "refs/tags/")) + " is only here", nil
		}
		out, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, In: strings.NewReader(id + "\n" + there), Args: []string{"rev-list", "--count", "--objects", "--stdin"}})
		if err != nil {
			return "", git.Fault(err, "git cannot tell what the host lacks")
		}
		if strings.TrimSpace(string(out)) != "0" {
			return text.Visible(strings.TrimPrefix(name, "refs/heads/")) + " has commits that the host does not have", nil
		}
	}
	return "", nil
}

// has asks the hosts of all remotes of a project: what its own tells, and what any has of what is here, as lines for
// git rev-list that leave it out.
func has(ctx context.Context, d *desk.Desk, f *project.Folder, main project.Project) (told web.Refs, out string, err error) {
	all, err := project.Register(d)
	if err != nil {
		return told, "", err
	}
	var there strings.Builder
	for _, p := range all {
		if p.Folder != f.Path {
			continue
		}
		tie, err := project.TieOf(ctx, d, f, p)
		if err != nil {
			return told, "", err
		}
		now, err := project.Refs(ctx, d, tie, "")
		if err != nil {
			return told, "", err
		}
		for _, id := range now.IDs {
			if _, err := f.Repo.Resolve(ctx, id+"^{object}"); err == nil {
				there.WriteString("^" + id + "\n")
			}
		}
		if p.Remote == main.Remote {
			told = now
		}
	}
	return told, there.String(), nil
}
