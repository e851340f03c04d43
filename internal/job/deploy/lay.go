package deploy

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"uncinate/internal/core/deploying"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/live"
)

// lay writes the files of a commit into a new folder. Nothing that the repository or the person has set for git runs.
func (u *update) lay(ctx context.Context, commit, fresh string, t *tasksOf) error {
	if err := files.MakeFolder(fresh, 0o755); err != nil {
		return fault.New(fault.Failed, "the folder %s cannot be made: %s", text.Visible(fresh), files.Plain(err)).Because(err)
	}
	index := u.x.at("index")
	for _, left := range []string{index, index + ".lock"} {
		if err := files.Remove(left); err != nil {
			return err
		}
	}
	alone := []string{"GIT_INDEX_FILE=" + index, "GIT_CONFIG_GLOBAL=" + filepath.Join(u.x.Beside(), "none"), "GIT_CONFIG_NOSYSTEM=1"}
	for _, args := range [][]string{{"read-tree", commit}, {"--work-tree=" + fresh, "checkout-index", "-a", "-q"}} {
		if _, err := u.repo.Run(ctx, git.Cmd{Dir: fresh, Env: alone, Args: args, Config: []git.Set{{Key: "core.bare", Value: "false"}, {Key: "core.symlinks", Value: "true"}}}); err != nil {
			return git.Fault(err, "git cannot write the files of %.10s", commit)
		}
	}
	if err := files.Remove(index); err != nil {
		return err
	}
	u.out.Files = len(t.tree)
	if err := u.linksInside(fresh, t.tree); err != nil {
		return err
	}
	if says, err := files.Read(filepath.Join(fresh, ".gitattributes"), 1<<20); err == nil && strings.Contains(string(says), "filter=lfs") {
		u.out.Pointers = true
	}
	for _, p := range t.Lasting {
		folder, clean := strings.HasSuffix(p, "/"), strings.TrimSuffix(p, "/")
		to := u.x.at("lasting", filepath.FromSlash(clean))
		if folder {
			if err := files.MakeFolder(to, 0o755); err != nil {
				return err
			}
		} else if err := files.MakeFolder(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		at := filepath.Join(fresh, filepath.FromSlash(clean))
		back, err := filepath.Rel(filepath.Dir(filepath.Join(u.x.at(commit), filepath.FromSlash(clean))), to)
		if err == nil {
			err = u.within(fresh, filepath.Dir(filepath.FromSlash(clean)))
		}
		if err == nil {
			err = live.Link(at, back)
		}
		if err != nil {
			return fault.New(fault.Failed, "the link for the lasting %s cannot be made", text.Visible(p)).Because(err)
		}
		if files.Reached(to) == files.None {
			u.out.Missing = append(u.out.Missing, to)
		}
	}
	return nil
}

// linksInside refuses links that lead out of the files of a commit: what reads these would read the server's.
func (u *update) linksInside(fresh string, all deploying.Tree) error {
	for p, e := range all {
		if e.Mode != deploying.Link {
			continue
		}
		to := filepath.FromSlash(live.LeadsTo(filepath.Join(fresh, filepath.FromSlash(p))))
		if at := filepath.Join(filepath.Dir(filepath.FromSlash(p)), to); filepath.IsAbs(to) || !filepath.IsLocal(at) {
			return fault.New(fault.Refused, "%s is a link that leads out of the repository, to %s", text.Visible(p), text.Quote(text.Excerpt(to, 100)))
		}
	}
	return nil
}

// within refuses a folder on whose way a link of the repository stands: what is put into it would be elsewhere.
func (u *update) within(top, folder string) error {
	for dir := folder; dir != "."; dir = filepath.Dir(dir) {
		if k := files.KindOf(filepath.Join(top, dir)); k != files.None && k != files.Folder {
			return fmt.Errorf("%s is not a folder in the repository", text.Visible(dir))
		}
	}
	return nil
}
