package foreseeing

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"

	"uncinate/internal/core/fault"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// Place is a store of our own in which commits of the host are looked at, beside the project's.
type Place struct {
	store  *store
	folder *project.Folder
	mu     sync.Mutex
	has    map[string]bool // commits that were found to be at hand
	NotAll string          // why not all was brought; "" where it was
}

// PlaceOf opens the place of a project.
func PlaceOf(d *desk.Desk, f *project.Folder) (*Place, error) {
	s, err := storeOf(d, f)
	return &Place{store: s, folder: f, has: map[string]bool{}}, err
}

// Objects is its folder of objects; "" where there is none yet.
func (p *Place) Objects() string { return p.store.objects() }

// Folder is the project's, with the place's objects at hand.
func (p *Place) Folder() *project.Folder {
	f, repo := *p.folder, *p.folder.Repo
	repo.Env = append(slices.Clone(repo.Env), p.env()...)
	f.Repo = &repo
	return &f
}

// Has reports whether commits are at hand, here or in the place: all of them.
func (p *Place) Has(ctx context.Context, ids ...string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	var in strings.Builder
	for _, id := range ids {
		if !p.has[id] {
			in.WriteString(id + "\n")
		}
	}
	if in.Len() == 0 {
		return true
	}
	out, err := p.folder.Repo.Run(ctx, git.Cmd{Dir: p.folder.Repo.Dir, In: strings.NewReader(in.String()), Env: p.env(), Args: []string{"cat-file", "--batch-check=%(objectname) %(objecttype)"}})
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(out)) {
		if id, is := strings.CutSuffix(strings.TrimSpace(line), " commit"); is {
			p.has[id] = true
		}
	}
	return !slices.ContainsFunc(ids, func(id string) bool { return !p.has[id] })
}

// Knows reports whether Has found a commit; git is not asked.
func (p *Place) Knows(id string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.has[id]
}

// Do runs git in the project, with the place's objects at hand.
func (p *Place) Do(ctx context.Context, args ...string) ([]string, error) {
	out, err := p.folder.Repo.Run(ctx, git.Cmd{Args: args, Env: p.env()})
	return git.SplitNUL(out), err
}

func (p *Place) env() []string {
	if dir := p.store.objects(); dir != "" {
		return []string{git.Borrowing(dir)}
	}
	return nil
}

// Bring receives refs of an address, each under its commit, at most as much as is set (setting
// foresee.megabytes). What is no longer there keeps the others from nothing.
func (p *Place) Bring(ctx context.Context, h *project.Tie, refs map[string]string) (err error) {
	if len(refs) == 0 {
		return nil
	}
	if p.store.most == 0 {
		p.NotAll = p.store.tooMuch()
		return nil
	}
	held, err := p.store.held(ctx)
	if err != nil {
		return err
	}
	defer fault.Also(&err, held.Release)
	if err := errors.Join(p.store.ready(ctx), h.WriteInclude(ctx)); err != nil {
		return err
	}
	var specs []string
	for id, ref := range refs {
		specs = append(specs, "+"+ref+":"+offered+id)
	}
	slices.Sort(specs)
	err = p.store.fetch(ctx, h, specs)
	if isGone(err) {
		err = nil
		for _, one := range specs { // one that is gone stops git for all
			if e := p.store.fetch(ctx, h, []string{one}); e != nil && !isGone(e) {
				err = e
				break
			}
		}
	}
	if errors.Is(err, errTooMuch) {
		p.NotAll = p.store.tooMuch()
		return nil
	}
	return err
}

// isGone reports whether git could not receive a ref since it is not there.
func isGone(err error) bool {
	var said *git.Error
	return errors.As(err, &said) && strings.Contains(said.Says, "couldn't find remote ref")
}

// offered is where commits are in the store that are offered.
const offered = "refs/offered/"
