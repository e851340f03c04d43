package repositories

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Loose is a commit of few files that is made without a folder, as the newest of a branch on the host.
type Loose struct {
	Branch string
	On     string // the branch, of those before it, whose commit it follows; "" for a first one
	Says   string
	Files  map[string]string
}

// SendLoose makes commits aside, by the given author, and sends their branches to a repository
// (git-fast-import(1)).
func SendLoose(ctx context.Context, d *desk.Desk, l *login.Login, there description.Repository, name, email string, all ...Loose) (err error) {
	g, err := d.Git(ctx)
	if err != nil {
		return err
	}
	h, err := TieTo(d, l, there)
	if err != nil {
		return err
	}
	h.Repo = g.In(d.Home.State)
	dir, done, err := files.ScratchIn(d.Home.State, "first-")
	if err != nil {
		return err
	}
	defer fault.Also(&err, done)
	at := filepath.Join(dir, "it.git")
	if err := project.MakeStore(at, 40, ""); err != nil {
		return err
	}
	store := project.Store(g, at)
	var in strings.Builder
	push := []string{"push", "-q", "--porcelain", "--", h.Address.String()}
	for _, c := range all {
		ref := "refs/heads/" + c.Branch
		fmt.Fprintf(&in, "commit %s\ncommitter %s <%s> %d +0000\ndata %d\n%s\n", ref, git.PersonName(name), git.PersonName(email), d.Now().Unix(), len(c.Says), c.Says)
		if c.On != "" {
			fmt.Fprintf(&in, "from refs/heads/%s\n", c.On)
		}
		for _, n := range slices.Sorted(maps.Keys(c.Files)) {
			fmt.Fprintf(&in, "M 100644 inline %s\ndata %d\n%s\n", n, len(c.Files[n]), c.Files[n])
		}
		push = append(push, ref+":"+ref)
	}
	in.WriteString("done\n")
	if _, err := store.Run(ctx, git.Cmd{Dir: at, In: strings.NewReader(in.String()), Args: []string{"fast-import", "--quiet", "--done"}}); err != nil {
		return git.Fault(err, "the first files cannot be written")
	}
	if err := h.WriteInclude(ctx); err != nil {
		return err
	}
	_, err = store.Works().Run(ctx, git.Cmd{Config: h.Config(), Stall: git.Stall, Args: push})
	if err == nil {
		return nil
	}
	if told, look := project.Refs(ctx, d, h, ""); look == nil && !slices.ContainsFunc(all, func(c Loose) bool { return told.IDs["refs/heads/"+c.Branch] == "" }) {
		return nil // it came there all the same
	}
	return git.Fault(err, "the first files cannot be sent to %s", there.Path())
}
