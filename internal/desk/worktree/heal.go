package worktree

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/openfiles"
)

// Heal goes through with the writing that a run which was cut off had begun, or takes back
// what it had only prepared. It gives the numbers of the rescue copies that were made.
func Heal(ctx context.Context, d *desk.Desk, f *project.Folder) ([]int, error) {
	if !f.IsRepo {
		return nil, nil
	}
	g, err := gateOf(d, f)
	if err != nil || files.Missing(g.at) {
		return nil, err
	}
	found, err := files.ReadJSON(g.journal(), &g.said)
	if err != nil || !found || !g.said.Ready {
		return nil, errors.Join(err, g.undone())
	}
	if err := g.said.check(); err != nil {
		return nil, err
	}
	begun, err := g.stillThere(ctx)
	if err != nil {
		return nil, err
	}
	if !begun {
		d.Tell.Note("Note: files were being received when that was cut off, and the branch has moved since. What is there now stays; to see it: %s", text.Command("uncinate", "changes", f.Path))
		return nil, errors.Join(g.unlock(), g.putAside())
	}
	all, err := g.changes(ctx)
	if err != nil {
		return nil, err
	}
	g.resumed = true
	if err := g.finish(context.WithoutCancel(ctx), all); err != nil {
		return g.rescued, err
	}
	if g.said.Restoring != nil {
		kept := ""
		if len(g.rescued) > 0 {
			kept = fmt.Sprintf("; what stood there is kept as rescue copy %d", g.rescued[0])
		}
		d.Tell.Note("Went on from where it was cut off: %s is done%s.", text.Visible(g.said.Before), kept)
		return g.rescued, nil
	}
	name := g.said.Branch
	if g.said.Switch != "" {
		name = g.said.Switch
	}
	d.Tell.Note("Went on from where it was cut off: %s is received.", text.Visible(name))
	return g.rescued, nil
}

// check refuses a journal that no run of ours wrote.
func (l *laid) check() error {
	bad := !git.IsID(l.To) || !git.IsID(l.From) || l.Head != "" && !git.IsID(l.Head) || strings.HasPrefix(l.Branch, "-") || strings.HasPrefix(l.Switch, "-")
	for _, p := range l.Way {
		bad = bad || !filepath.IsLocal(filepath.FromSlash(p)) || filepath.FromSlash(p) == "."
	}
	if bad || l.Restoring != nil && !l.Restoring.check() {
		return fault.New(fault.Refused, "what tells of files that were being received here was not written by this program")
	}
	return nil
}

// undone takes back what was only prepared.
func (g *gate) undone() error {
	if err := g.unlock(); err != nil {
		return err
	}
	return files.RemoveAll(g.at)
}

// unlock takes git's lock on the index away where it is ours: it holds what we prepared, or
// nothing yet.
func (g *gate) unlock() error {
	if files.Missing(g.lock()) {
		return nil
	}
	size, _, err := files.Stamp(g.lock())
	if err != nil {
		return err
	}
	now, err := sumOf(g.lock())
	if err != nil {
		return err
	}
	ours, err := sumOf(g.index())
	if err != nil {
		return err
	}
	fresh, err := sumOf(g.refreshed())
	open, _ := openfiles.Below(g.own) // where the system does not tell, nothing is known to be open
	if _, held := open[g.lock()]; err == nil && !held && (size == 0 || now == ours || now == fresh) {
		return files.Remove(g.lock())
	}
	return err
}

// stillThere reports whether the branches stand as they did, or as they will.
func (g *gate) stillThere(ctx context.Context) (bool, error) {
	l, repo := g.said, g.folder.Repo
	now, err := repo.Do(ctx, "symbolic-ref", "-q", "HEAD")
	if err != nil && git.Code(err) != 1 {
		return false, git.Fault(err, "git cannot tell the branch")
	}
	if l.Switch != "" {
		at, err := repo.Resolve(ctx, "refs/heads/"+l.Switch)
		if err != nil && git.Code(err) != 1 {
			return false, git.Fault(err, "git cannot tell the commit")
		}
		was, err := repo.Resolve(ctx, "HEAD^{commit}")
		if err != nil && git.Code(err) != 1 {
			return false, git.Fault(err, "git cannot tell the commit")
		}
		return at == l.To && (now == "refs/heads/"+l.Switch || was == l.Head), nil
	}
	if l.Restoring != nil && l.Branch == "" {
		at, err := repo.Resolve(ctx, "HEAD^{commit}")
		if err != nil && git.Code(err) != 1 {
			return false, git.Fault(err, "git cannot tell the commit")
		}
		return now == "" && at == l.Head, nil
	}
	at, err := repo.Resolve(ctx, "refs/heads/"+l.Branch)
	if err != nil && git.Code(err) != 1 {
		return false, git.Fault(err, "git cannot tell the commit")
	}
	return now == "refs/heads/"+l.Branch && (at == l.Head || at == l.To), nil
}
