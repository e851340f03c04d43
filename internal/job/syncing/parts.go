package syncing

import (
	"context"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// modules sees to repositories inside this one that are to be at another commit now: it
// says so, or moves those in which nothing is lost where git is set to (git-config
// documentation, submodule.recurse). Those that are not here yet are brought where that was asked for.
func (s *Sync) modules(ctx context.Context) error {
	f := s.folder
	parts, err := project.Parts(ctx, f, "")
	if err != nil || len(parts) == 0 {
		return err
	}
	set := s.options.Submodules
	for _, x := range f.Settings {
		if strings.EqualFold(x.Key, "submodule.recurse") {
			set = set || x.True()
		}
	}
	fill := project.Filling{Desk: s.desk, Account: s.tie.Account}
	if s.options.Submodules {
		err := fill.Fill(ctx, f, s.tie.Address)
		s.Filled = fill.Filled
		if err != nil {
			return err
		}
	}
	for _, p := range parts {
		stands := ""
		if p.Here(f) {
			if stands, err = f.Repo.Git.In(filepath.Join(f.Path, filepath.FromSlash(p.Path))).Resolve(ctx, "HEAD"); err != nil {
				stands = "unborn"
			}
		}
		if stands == p.Commit || stands == "" && s.options.Submodules {
			continue
		}
		update := []string{"-C", f.Path, "submodule", "update", "--init", "--", p.Path}
		if stands != "" && set && movable(ctx, s.desk, f, p.Path) {
			if err := fill.Move(ctx, f, s.tie.Address, p); err == nil {
				continue
			}
		}
		if stands == "" {
			s.desk.Tell.Note("Note: the submodule %s was not brought here yet. To bring it: %s", text.Visible(p.Path), text.Command("uncinate", "sync", "--submodules", f.Path))
			continue
		}
		s.desk.Tell.Note("Note: the repository %s inside this one is at another commit than is asked for. To move it: %s", text.Visible(p.Path), text.Command(append([]string{"git"}, update...)...))
	}
	return ctx.Err()
}

// modulesAsked is modules in the end, where that was asked for.
func (s *Sync) modulesAsked(ctx context.Context) error {
	if !s.options.Submodules {
		return nil
	}
	return s.modules(ctx)
}

// partsFirst stops where what is to be sent asks for commits of repositories inside that are only here: whoever received
// it could not get them.
func (s *Sync) partsFirst(ctx context.Context) error {
	f := s.folder
	parts, err := project.Parts(ctx, f, s.stand.Ours)
	if err != nil || len(parts) == 0 {
		return err
	}
	was := map[string]string{}
	if s.stand.Theirs != "" {
		if _, err := f.Repo.Do(ctx, "cat-file", "-e", s.stand.Theirs); err == nil {
			there, err := project.Parts(ctx, f, s.stand.Theirs)
			if err != nil {
				return err
			}
			for _, p := range there {
				was[p.Path] = p.Commit
			}
		}
	}
	for _, p := range parts {
		if was[p.Path] == p.Commit || !p.Here(f) {
			continue
		}
		at := filepath.Join(f.Path, filepath.FromSlash(p.Path))
		sub, err := project.LookLoosely(ctx, s.desk, at)
		if err != nil {
			return err
		}
		if _, err := sub.Repo.Do(ctx, "cat-file", "-e", p.Commit+"^{commit}"); err != nil {
			continue // it is not here
		}
		only, err := sub.Repo.Do(ctx, "rev-list", "-n", "1", p.Commit, "--not", "--remotes")
		if err != nil {
			return git.Fault(err, "git cannot tell whether the commit of %s was sent", text.Visible(p.Path))
		}
		if only == "" {
			continue
		}
		out := fault.New(fault.Decision, "what is to be sent asks for commit %.10s of the submodule %s, which is only here: nobody else could get it", p.Commit, text.Visible(p.Path)).
			Detail("Nothing was sent.")
		if branch, err := sub.Repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD"); err != nil || branch == "" {
			out.Try("no branch is checked out in it; make one", text.Command("uncinate", "branch", "make", "NAME", "--switch", "--folder", at))
		}
		return out.Try("send its commits first", text.Command("uncinate", "sync", at)).Try("then this", text.Command(s.words("sync")...))
	}
	return nil
}

// movable reports whether nothing is lost when a repository inside is moved: all is saved,
// and its commit is in one of its branches. One whose own configuration nobody has looked through stays.
func movable(ctx context.Context, d *desk.Desk, f *project.Folder, path string) bool {
	in, err := project.LookLoosely(ctx, d, filepath.Join(f.Path, filepath.FromSlash(path)))
	if err != nil || len(in.Dangers) > 0 {
		return false
	}
	changed, err := in.Repo.Do(ctx, "status", "--porcelain")
	if err != nil || changed != "" {
		return false
	}
	holds, err := in.Repo.Do(ctx, "for-each-ref", "--count=1", "--contains", "HEAD")
	return err == nil && holds != ""
}
