// Package foreseeing tells which files that were changed here others changed too, on the host,
// before anything is brought in. Look asks nothing but git; what the host has new is brought into
// a store of our own, of which a bound is set.
package foreseeing

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Options say what is known.
type Options struct {
	Remote  string            // its name here
	Tie     *project.Tie      // by which what is new is brought; nil to look only at what is here already
	Heads   map[string]string // the host's branches, as it told just now; nil: as last seen
	Tracked map[string]string // the refs here; nil: they are read
	Status  *git.Status
}

// Seen is what was foreseen.
type Seen struct {
	Files  []project.Meets
	Clash  []string // files that clash between what is committed here and on the host
	NotAll string   // why not all that is new was looked through; "" where it was
}

// Look tells what was changed on both sides.
func Look(ctx context.Context, d *desk.Desk, f *project.Folder, o Options) (*Seen, error) {
	l := &looking{desk: d, folder: f, Options: o, seen: &Seen{}}
	if f.Head == "" || f.Branch == "" || o.Remote == "" {
		return l.seen, nil
	}
	if l.Tracked == nil {
		_, common, err := git.Folders(f.Path)
		if err == nil {
			l.Tracked, err = f.Repo.LocalRefs(ctx, common)
		}
		if err != nil {
			return l.seen, git.Fault(err, "git cannot list what it knows of the host")
		}
	}
	mine, unsent, err := l.mine(ctx)
	if err != nil || len(mine) == 0 {
		return l.seen, err
	}
	if l.store, err = storeOf(d, f); err != nil {
		return l.seen, err
	}
	if l.Heads == nil {
		l.Heads = l.tracked()
		for b, id := range l.store.heads() {
			if o.Tie == nil && l.Heads[b] != "" && !l.older(ctx, id, l.Heads[b]) {
				l.Heads[b] = id // newer than plain git knows
			}
		}
	}
	for again := false; ; again = true {
		if err := l.bring(ctx); err != nil {
			return l.seen, err
		}
		err := l.meet(ctx, mine, unsent)
		if err == nil || again || ctx.Err() != nil || l.store.objects() == "" {
			return l.seen, err
		}
		l.seen = &Seen{}
		if err := l.store.drop(); err != nil { // it lacks something: what it borrowed may be gone
			return l.seen, err
		}
	}
}

// Unsent lists what is committed up to a commit and not sent, and was changed on the host too, as far
// as that is known here. It is a hint: what cannot be found out is left out.
func Unsent(ctx context.Context, d *desk.Desk, f *project.Folder, head string) []project.Meets {
	p, err := project.ProjectOf(ctx, d, f)
	if err != nil {
		return nil
	}
	now := *f
	now.Head = head
	seen, err := Look(ctx, d, &now, Options{Remote: p.Remote, Status: &git.Status{}})
	if err != nil {
		return nil
	}
	return seen.Files
}

type looking struct {
	Options
	desk   *desk.Desk
	folder *project.Folder
	store  *store
	seen   *Seen
	unseen map[string]bool // heads that are not looked through
}

// mine are the paths that differ here from what the host is known to hold; unsent tells whether
// commits are among that.
func (l *looking) mine(ctx context.Context) (paths map[string]bool, unsent bool, err error) {
	paths = map[string]bool{}
	for _, e := range l.Status.Entries {
		if !e.Inner {
			paths[e.Path] = true
			if e.From != "" {
				paths[e.From] = true
			}
		}
	}
	known := l.Tracked["refs/remotes/"+l.Remote+"/"+l.folder.Branch]
	if known == l.folder.Head {
		return paths, false, nil
	}
	names, err := l.folder.Repo.Lines(ctx, "log", "--no-show-signature", "--no-renames", "--format=", "--name-only", "-z", l.folder.Head, "--not", "--remotes="+l.Remote)
	for _, p := range names {
		if p = strings.TrimPrefix(p, "\n"); p != "" {
			paths[p], unsent = true, true
		}
	}
	return paths, unsent, git.Fault(err, "git cannot tell what is not sent")
}

// tracked are the host's branches as git knows them.
func (l *looking) tracked() map[string]string {
	out := map[string]string{}
	for ref, id := range l.Tracked {
		if b, is := strings.CutPrefix(ref, "refs/remotes/"+l.Remote+"/"); is && b != "HEAD" && b != web.ClaimsBranch {
			out[b] = id
		}
	}
	return out
}

// older reports whether a commit is one that another has come from, as far as it is here.
func (l *looking) older(ctx context.Context, id, than string) bool {
	_, err := l.run(ctx, "merge-base", "--is-ancestor", id, than)
	return err == nil
}

// run runs git in the folder, with the store's objects at hand.
func (l *looking) run(ctx context.Context, args ...string) ([]string, error) {
	out, err := l.folder.Repo.Run(ctx, git.Cmd{Args: args, Env: l.env()})
	return git.SplitNUL(out), err
}

func (l *looking) env() []string {
	if dir := l.store.objects(); dir != "" {
		return []string{git.Borrowing(dir)}
	}
	return nil
}

// bring receives what is new on the host: the current branch first, then the others, as far as
// the bound allows.
func (l *looking) bring(ctx context.Context) error {
	known := map[string]bool{}
	for _, id := range l.Tracked {
		known[id] = true
	}
	for _, id := range l.store.heads() {
		known[id] = true
	}
	l.unseen = map[string]bool{}
	var others []string
	for _, b := range slices.Sorted(maps.Keys(l.Heads)) {
		if !known[l.Heads[b]] {
			l.unseen[b] = true
			if b != l.folder.Branch {
				others = append(others, b)
			}
		}
	}
	for _, some := range [][]string{{l.folder.Branch}, others} {
		if len(some) == 0 || !l.unseen[some[0]] || l.Tie == nil {
			continue
		}
		switch err := l.store.bring(ctx, l.Tie, some); {
		case errors.Is(err, errTooMuch):
			l.seen.NotAll = l.store.tooMuch()
			return nil
		case err != nil:
			return err
		}
		now := l.store.heads()
		for _, b := range some {
			if id := now[b]; id != "" { // it may have been pushed to since it was asked
				l.Heads[b], l.unseen[b] = id, false
			}
		}
	}
	return nil
}

// meet finds what was changed on both sides.
func (l *looking) meet(ctx context.Context, mine map[string]bool, unsent bool) error {
	here := l.Heads[l.folder.Branch]
	if l.unseen[l.folder.Branch] {
		here = ""
	}
	told := map[string]bool{}
	if here != "" && here != l.folder.Head {
		if err := l.add(ctx, mine, told, nil, []string{here, "^" + l.folder.Head}); err != nil {
			return err
		}
		if unsent {
			if err := l.clash(ctx, here); err != nil {
				return err
			}
		}
	}
	args := []string{"^" + l.folder.Head}
	if here != "" {
		args = append(args, "^"+here)
	}
	heads := map[string]string{}
	for _, b := range slices.Sorted(maps.Keys(l.Heads)) {
		if id := l.Heads[b]; b != l.folder.Branch && !l.unseen[b] && heads[id] == "" {
			heads[id] = b
			args = append(args, id)
		}
	}
	if len(heads) == 0 {
		return nil
	}
	return l.add(ctx, mine, told, heads, args)
}

// add adds the newest change of each path on each branch: heads names the branch of a commit that is
// not of the current one. What the current one changed is told of that alone.
func (l *looking) add(ctx context.Context, mine, told map[string]bool, heads map[string]string, commits []string) error {
	return l.folder.Repo.Changed(ctx, l.env(), commits, slices.Sorted(maps.Keys(mine)), func(p string, c git.Change) {
		branch := heads[c.Source]
		if here := p + "\x00"; mine[p] && !told[here] && !told[here+branch] {
			told[here+branch] = true
			l.seen.Files = append(l.seen.Files, project.Meets{Path: p, By: c.By, When: c.When, Title: c.Title, Commit: c.Commit, Branch: branch})
		}
	})
}

// clash tries out whether what is committed on both sides merges by itself.
func (l *looking) clash(ctx context.Context, there string) (err error) {
	if _, err := l.run(ctx, "merge-base", l.folder.Head, there); err != nil {
		if git.Code(err) == 1 {
			return nil // begun apart
		}
		return git.Fault(err, "git cannot compare both sides")
	}
	w, done, err := l.folder.Repo.Aside(ctx, l.store.objects())
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, done()) }()
	met, err := worktree.Meet(ctx, l.folder, w, "", l.folder.Head, there)
	if err != nil {
		return err
	}
	for _, c := range met.Clashes {
		l.seen.Clash = append(l.seen.Clash, c.At)
		for i, m := range l.seen.Files {
			if m.Branch == "" && slices.Contains(c.Paths, m.Path) {
				l.seen.Files[i].Clashes = true
			}
		}
	}
	return nil
}
