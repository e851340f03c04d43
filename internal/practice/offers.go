package practice

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/world/git"
)

// Offer is work on a branch that somebody offers to be merged.
type Offer struct {
	Repo    string    `json:"repo"` // the id of the repository into which
	From    string    `json:"from"` // the id of the one that has the branch
	Number  int       `json:"number"`
	Branch  string    `json:"branch"`
	Target  string    `json:"target"`
	Title   string    `json:"title"`
	Text    string    `json:"text"`
	By      string    `json:"by"`
	Made    time.Time `json:"made"`
	State   string    `json:"state"`             // open, accepted or closed
	Head    string    `json:"head,omitempty"`    // of one that is not open: the commit that was offered
	Came    string    `json:"came,omitempty"`    // of one that is accepted: the commit of the target that came of it
	Ended   string    `json:"ended,omitempty"`   // who accepted or closed it
	Removes bool      `json:"removes,omitempty"` // the branch goes with the acceptance
	Version int       `json:"version"`
	Words   []Word    `json:"words,omitempty"`
}

// Word is what somebody says of an offer.
type Word struct {
	By   string    `json:"by"`
	When time.Time `json:"when"`
	Says string    `json:"says"`
	File string    `json:"file,omitempty"`
}

// Sounding is what a check says of a commit.
type Sounding struct {
	Repo, Commit, Name string
	State              string // passed, failed or running
	Says               string
}

// offer finds one that the user may see, with its repository; the caller holds mu.
func (st *Store) offer(user, owner, name string, number int) (*Offer, *Repo, error) {
	r := st.byPath(owner, name)
	if r == nil || st.right(r, user) < Read {
		return nil, nil, problem("none", "there is no repository %s/%s, or you may not see it", owner, name)
	}
	for _, o := range st.s.Offers {
		if o.Repo == r.ID && o.Number == number {
			return o, r, nil
		}
	}
	return nil, nil, problem("none", "there is no offer %d to %s/%s", number, owner, name)
}

// MakeOffer offers a branch of a repository to another one, or to itself.
func (st *Store) MakeOffer(user, owner, name, fromOwner, fromName string, want Offer) (*Offer, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	r, from := st.byPath(owner, name), st.byPath(fromOwner, fromName)
	switch {
	case r == nil || st.right(r, user) < Read:
		return nil, problem("none", "there is no repository %s/%s, or you may not see it", owner, name)
	case from == nil || st.right(from, user) < Read:
		return nil, problem("none", "there is no repository %s/%s, or you may not see it", fromOwner, fromName)
	case r.Archived:
		return nil, problem("archived", "%s/%s is archived", owner, name)
	case st.right(from, user) < Write:
		return nil, problem("denied", "you may not send to %s/%s, so you cannot offer its branches", fromOwner, fromName)
	case want.Title == "":
		return nil, wrongIn("title", "invalid", "an offer has a title")
	case from.ID == r.ID && want.Branch == want.Target:
		return nil, wrongIn("branch", "invalid", "a branch is not offered to itself")
	}
	want.Repo, want.From, want.By, want.State, want.Version = r.ID, from.ID, user, "open", 1
	last := 0
	for _, o := range st.s.Offers {
		if o.Repo != r.ID {
			continue
		}
		last = max(last, o.Number)
		if o.From == from.ID && o.Branch == want.Branch && o.Target == want.Target && o.State == "open" {
			return nil, wrongIn("branch", "already", "%s is offered already, as number %d", want.Branch, o.Number)
		}
	}
	for _, x := range []struct{ id, branch, field string }{{r.ID, want.Target, "target"}, {from.ID, want.Branch, "branch"}} {
		refs, err := git.ReadRefs(st.GitDir(x.id))
		if err != nil {
			return nil, err
		}
		if refs["refs/heads/"+x.branch] == "" {
			return nil, wrongIn(x.field, "none", "there is no branch %s", x.branch)
		}
	}
	want.Number, want.Made = last+1, st.now().UTC().Truncate(time.Second)
	st.s.Offers = append(st.s.Offers, &want)
	made := want
	return &made, st.save()
}

// Offered is an offer as it stands now.
type Offered struct {
	Offer
	Into, Source *Repo // Source is nil where it is gone
	Tip          string
}

// offered tells how an offer stands; known has the refs of repositories that were read. The caller holds mu.
func (st *Store) offered(o *Offer, known map[string]map[string]string) (Offered, error) {
	out := Offered{Offer: *o, Into: st.s.Repos[o.Repo], Source: st.s.Repos[o.From], Tip: o.Head}
	if o.State != "open" || out.Source == nil {
		return out, nil
	}
	refs := known[o.From]
	if refs == nil {
		var err error
		if refs, err = git.ReadRefs(st.GitDir(o.From)); err != nil {
			return out, err
		}
		known[o.From] = refs
	}
	out.Tip = refs["refs/heads/"+o.Branch]
	return out, nil
}

// Ref is the ref in the repository that has the offered commit; "" where it is a branch of its own.
func (o Offered) Ref() string {
	if o.State == "open" && o.From == o.Repo || o.Tip == "" {
		return ""
	}
	return fmt.Sprintf("refs/offered/%d", o.Number)
}

// hold makes the offered commit one that can be fetched; the caller holds mu.
func (st *Store) hold(ctx context.Context, o Offered) error {
	ref := o.Ref()
	if ref == "" {
		return nil
	}
	dir := st.GitDir(o.Repo)
	if refs, err := git.ReadRefs(dir); err != nil || refs[ref] == o.Tip {
		return err
	}
	if o.From != o.Repo && o.Source != nil {
		if out, err := gitCommand(context.WithoutCancel(ctx), "-C", dir, "fetch", "-q", "--no-tags", "--", st.GitDir(o.From), "+"+o.Tip+":"+ref).CombinedOutput(); err == nil {
			return nil
		} else if o.State == "open" {
			return fmt.Errorf("git fetch: %w: %s", err, out)
		}
	}
	_, err := st.run(ctx, dir, "update-ref", ref, o.Tip)
	return err
}

// run runs git in a repository.
func (st *Store) run(ctx context.Context, dir string, args ...string) (string, error) {
	out, err := gitCommand(context.WithoutCancel(ctx), append([]string{"-C", dir}, args...)...).Output()
	return strings.TrimSpace(string(out)), err
}

// Offer tells how one stands.
func (st *Store) Offer(ctx context.Context, user, owner, name string, number int) (Offered, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	o, _, err := st.offer(user, owner, name, number)
	if err != nil {
		return Offered{}, err
	}
	out, err := st.offered(o, map[string]map[string]string{})
	if err == nil {
		err = st.hold(ctx, out)
	}
	return out, err
}

// Offers lists those to a repository in a state ("" for any), the newest first, from the one at a place on.
// Without a repository it lists those that the user made, or may accept.
func (st *Store) Offers(ctx context.Context, user, owner, name, state string, at, most int) (out []Offered, more bool, err error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	r := st.byPath(owner, name)
	if owner != "" && (r == nil || st.right(r, user) < Read) {
		return nil, false, problem("none", "there is no repository %s/%s, or you may not see it", owner, name)
	}
	known := map[string]map[string]string{}
	for _, o := range slices.Backward(st.s.Offers) {
		into := st.s.Repos[o.Repo]
		if into == nil || state != "" && o.State != state || r != nil && o.Repo != r.ID || r == nil && (st.right(into, user) < Read || o.By != user && st.right(into, user) < Write) {
			continue
		}
		if at--; at >= 0 {
			continue
		}
		if len(out) == most {
			return out, true, nil
		}
		one, err := st.offered(o, known)
		if err == nil {
			err = st.hold(ctx, one)
		}
		if err != nil {
			return nil, false, err
		}
		out = append(out, one)
	}
	return out, false, nil
}

// CloseOffer closes one without taking it.
func (st *Store) CloseOffer(ctx context.Context, user, owner, name string, number int) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	o, r, err := st.offer(user, owner, name, number)
	switch {
	case err != nil:
		return err
	case r.Archived:
		return problem("archived", "%s/%s is archived", owner, name)
	case o.By != user && st.right(r, user) < Write:
		return problem("denied", "you may not close the offers of others here")
	case o.State != "open":
		return problem("over", "it is %s", o.State)
	}
	return st.end(ctx, o, "closed", user, "")
}

// end notes how an offer ended; the caller holds mu.
func (st *Store) end(ctx context.Context, o *Offer, state, by, came string) error {
	now, err := st.offered(o, map[string]map[string]string{})
	if err != nil {
		return err
	}
	o.Head, o.State, o.Ended, o.Came = now.Tip, state, by, came
	o.Version++
	if now, err = st.offered(o, nil); err == nil {
		err = st.hold(ctx, now)
	}
	if err != nil {
		return err
	}
	return st.save()
}

// Accepting says how an offer is taken.
type Accepting struct {
	How     string // merge, replay or one
	Tip     string // the commit that was looked at; "" for any
	Version int    // the version that was looked at; 0 for any
	Text    string
	Removes bool
}

// Accept takes an offer.
func (st *Store) Accept(ctx context.Context, user, owner, name string, number int, how Accepting) (Offered, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	o, r, err := st.offer(user, owner, name, number)
	if err != nil {
		return Offered{}, err
	}
	now, err := st.offered(o, map[string]map[string]string{})
	if err == nil {
		err = st.hold(ctx, now)
	}
	if err != nil {
		return Offered{}, err
	}
	guard, guarded := r.Guards[o.Target]
	right := st.right(r, user)
	switch {
	case r.Archived:
		return Offered{}, problem("archived", "%s/%s is archived", owner, name)
	case right < Write:
		return Offered{}, problem("denied", "you may not accept offers here")
	case o.State != "open":
		return Offered{}, problem("over", "it is %s", o.State)
	case now.Tip == "":
		return Offered{}, wrongIn("branch", "none", "the branch %s is no longer there", o.Branch)
	case how.Tip != "" && how.Tip != now.Tip, how.Version > 0 && how.Version != o.Version:
		return Offered{}, problem("changed", "it was changed since it was looked at")
	case guarded && (right < guard.Least || len(guard.Mergers) > 0 && !slices.Contains(guard.Mergers, user)):
		return Offered{}, problem("denied", "you may not send to %s, which is protected", o.Target)
	}
	for _, s := range st.s.Soundings {
		if s.Repo == r.ID && s.Commit == now.Tip && s.State == "failed" {
			return Offered{}, problem("checks", "the check %s failed", s.Name)
		}
	}
	came, err := st.bringIn(ctx, o, now.Tip, user, how)
	if err != nil {
		return Offered{}, err
	}
	if err := st.end(ctx, o, "accepted", user, came); err != nil {
		return Offered{}, err
	}
	if (how.Removes || o.Removes) && st.right(now.Source, user) >= Write {
		if g, guarded := now.Source.Guards[o.Branch]; (!guarded || g.Delete) && o.Branch != now.Source.Default {
			if _, err := st.run(ctx, st.GitDir(o.From), "update-ref", "-d", "refs/heads/"+o.Branch, now.Tip); err != nil {
				return Offered{}, err
			}
		}
	}
	return st.offered(o, nil)
}

// SayOf says something of an offer.
func (st *Store) SayOf(user, owner, name string, number int, says, file string) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	o, _, err := st.offer(user, owner, name, number)
	if err != nil {
		return err
	}
	o.Words = append(slices.Clone(o.Words), Word{By: user, When: st.now().UTC().Truncate(time.Second), Says: says, File: file})
	return st.save()
}

// Sound notes what a check says of a commit.
func (st *Store) Sound(user, owner, name string, s Sounding) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	r := st.byPath(owner, name)
	switch {
	case r == nil || st.right(r, user) < Read:
		return problem("none", "there is no repository %s/%s, or you may not see it", owner, name)
	case st.right(r, user) < Write:
		return problem("denied", "you may not say so here")
	}
	s.Repo = r.ID
	st.s.Soundings = append(slices.DeleteFunc(st.s.Soundings, func(x Sounding) bool { return x.Repo == s.Repo && x.Commit == s.Commit && x.Name == s.Name }), s)
	return st.save()
}

// Soundings lists what checks say of a commit.
func (st *Store) Soundings(user, owner, name, commit string) ([]Sounding, error) {
	r, err := st.Find(user, owner, name)
	if err != nil {
		return nil, err
	}
	st.mu.Lock()
	defer st.mu.Unlock()
	var out []Sounding
	for _, s := range st.s.Soundings {
		if s.Repo == r.ID && s.Commit == commit {
			out = append(out, s)
		}
	}
	return out, nil
}

// FillOffers makes as many offers of branches of a repository, all of which stand for its newest commit, for
// measuring.
func (st *Store) FillOffers(ctx context.Context, id, by string, many int) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	r := st.s.Repos[id]
	refs, err := git.ReadRefs(st.GitDir(id))
	if err != nil {
		return err
	}
	tips := slices.Sorted(maps.Keys(refs))
	tips = slices.DeleteFunc(tips, func(ref string) bool { return !strings.HasPrefix(ref, "refs/heads/") || ref == "refs/heads/"+r.Default })
	if len(tips) == 0 {
		return fmt.Errorf("%s has no branch to offer", filepath.Base(st.GitDir(id)))
	}
	for i := range many {
		st.s.Offers = append(st.s.Offers, &Offer{Repo: id, From: id, Number: i + 1, Branch: strings.TrimPrefix(tips[i%len(tips)], "refs/heads/"), Target: r.Default,
			Title: fmt.Sprintf("Reading %05d", i), By: by, Made: st.now().UTC().Truncate(time.Second), State: "open", Version: 1})
	}
	return st.save()
}
