package offers

import (
	"context"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/comparing"
	"uncinate/internal/world/git"
)

// Shown is all that is known of an offer.
type Shown struct {
	Listed
	Commits []Commit           `json:"commits,omitempty" says:"that it brings, the oldest first"`
	Older   int                `json:"older_commits,omitempty" says:"how many more there are"`
	Changes *comparing.Changes `json:"changes,omitempty"`
	Remarks []offering.Remark  `json:"remarks" says:"null where the host tells of none"`
	Checks  []offering.Check   `json:"checks" says:"null where the host tells of none"`
	Ways    []string           `json:"ways,omitempty" says:"how the host can take it"`
	Guarded *login.Protection  `json:"protection,omitempty" says:"of the branch into which"`
	May     bool               `json:"may_accept" says:"the account may send to that branch, as far as the host tells"`
	Notes   []string           `json:"notes,omitempty"`
	Since   int                `json:"new_commits,omitempty" says:"commits that it has now and had not when it was looked at last"`
}

// Commit is one that an offer brings.
type Commit struct {
	ID    string    `json:"id"`
	Who   string    `json:"who"`
	When  time.Time `json:"when"`
	Title string    `json:"title"`
}

// mostCommits is how many of an offer's commits are told one by one.
const mostCommits = 100

// Show shows an offer: what it brings, whether it merges cleanly, and what people and checks said. It is noted
// that it was looked at as it is now.
func Show(ctx context.Context, d *desk.Desk, w Which, given string, full bool) (*Shown, error) {
	a, err := find(ctx, d, w, "offer-show", "show offers to merge")
	if err != nil {
		return nil, err
	}
	o, err := a.one(ctx, w, given)
	if err != nil {
		return nil, err
	}
	out := &Shown{Listed: listed(a.l, o), Ways: offering.Ways(a.l)}
	if err := out.said(ctx, a); err != nil {
		return nil, err
	}
	if err := out.guarded(ctx, a); err != nil {
		return nil, err
	}
	if a.folder == nil {
		out.Merges = text.Either(o.Open(), "not tried", "")
		out.Notes = append(out.Notes, "Its commits are shown where the project is: uncinate clone "+text.Quote(a.r.Path()))
		return out, nil
	}
	return out, out.brings(ctx, a, w, full)
}

// said asks what people and checks said.
func (s *Shown) said(ctx context.Context, a *at) (err error) {
	for _, x := range []struct {
		action, what string
		ask          func() error
	}{{"offer-remark-list", "remarks of people", func() (err error) { s.Remarks, err = offering.Remarks(ctx, a.l, s.Offer); return err }},
		{"offer-check-list", "checks", func() (err error) { s.Checks, err = offering.Checks(ctx, a.l, s.Offer); return err }}} {
		if a.l.Host.Actions[x.action] == nil {
			s.Notes = append(s.Notes, a.l.Host.Name+" tells of no "+x.what+".")
			continue
		}
		if err := x.ask(); err != nil {
			if ctx.Err() != nil || !fault.Is(err, fault.HostSaidNo) {
				return err
			}
			s.Notes = append(s.Notes, "The "+x.what+" are not known: "+fault.Of(err).Says+".")
		}
	}
	return nil
}

// guarded looks how the branch is protected into which it goes.
func (s *Shown) guarded(ctx context.Context, a *at) error {
	s.May = a.r.Right != "read" && !a.r.Archived
	if a.l.Host.Actions["protection-list"] == nil || !s.Open() {
		return nil
	}
	all, err := a.l.Protections(ctx, a.r)
	if err != nil {
		if ctx.Err() != nil || !fault.Is(err, fault.HostSaidNo) {
			return err
		}
		return nil // it is not told to everybody
	}
	for _, p := range all {
		if p.Branch == s.Target {
			s.Guarded = &p
			s.May = s.May && !p.Forbids(a.l.Account.User, a.r.Right, false, false)
		}
	}
	return nil
}

// brings tells what the offer brings.
func (s *Shown) brings(ctx context.Context, a *at, w Which, full bool) error {
	if s.Head == "" {
		s.Merges = "branch gone"
		return nil
	}
	notAll, err := a.bring(ctx, []offering.Offer{s.Offer})
	if err != nil {
		return err
	}
	if notAll != "" {
		s.Notes = append(s.Notes, notAll)
	}
	s.Mean = a.folder.Branch == s.Branch && s.Mine
	if s.Open() {
		if err := a.tryOne(ctx, &s.Listed); err != nil {
			return err
		}
	}
	told, err := a.refs(ctx)
	if err != nil {
		return err
	}
	into := told.Branch(s.Target)
	if !a.place.Has(ctx, s.Head) || into == "" || !a.place.Has(ctx, into) {
		s.Notes = append(s.Notes, "Its commits cannot be received from "+a.l.Host.Name+", so they are not shown.")
		return nil
	}
	if !s.Open() && s.Merged != "" && a.place.Has(ctx, s.Merged) { // what the branch was before it came in
		if id, err := a.place.Do(ctx, "rev-parse", "--verify", "-q", s.Merged+"^1"); err == nil {
			into = strings.TrimSpace(strings.Join(id, ""))
		}
	}
	if err := s.commits(ctx, a, into); err != nil {
		return err
	}
	if s.Open() {
		if err := s.since(ctx, a); err != nil {
			return err
		}
		if err := offering.NoteSeen(ctx, a.desk, a.folder.Path, a.l.Host.Name, s.Offer); err != nil {
			return err
		}
	}
	base, err := a.place.Do(ctx, "merge-base", into, s.Head)
	from := strings.TrimSpace(strings.Join(base, ""))
	if err != nil {
		if from, err = worktree.EmptyTree(ctx, a.folder); err != nil {
			return err
		}
	}
	s.Changes, err = comparing.Between(ctx, a.place.Folder(), from, s.Head, full)
	return err
}

// since counts the commits that came since it was looked at last.
func (s *Shown) since(ctx context.Context, a *at) error {
	was := offering.Seen(a.desk, a.folder.Path, a.l.Host.Name, s.Offer)
	if was == "" || was == s.Head {
		return nil
	}
	out, err := a.place.Do(ctx, "rev-list", "--count", s.Head, "--not", was)
	if err != nil {
		s.Notes = append(s.Notes, "It was rewritten since you looked at it last.")
		return ctx.Err()
	}
	if s.Since, err = strconv.Atoi(strings.TrimSpace(strings.Join(out, ""))); err == nil && s.Since > 0 {
		s.Notes = append(s.Notes, text.Count(s.Since, "commit")+" came since you looked at it last.")
	}
	return nil
}

// commits lists those that it brings.
func (s *Shown) commits(ctx context.Context, a *at, into string) error {
	lines, err := a.place.Do(ctx, "log", "-z", "--no-show-signature", "--topo-order", "-"+strconv.Itoa(mostCommits+1), "--format=%H%x09%at%x09%an%x09%s", s.Head, "--not", into)
	if err != nil {
		return git.Fault(err, "git cannot list the commits")
	}
	for _, line := range lines {
		x := strings.SplitN(line, "\t", 4)
		if len(x) != 4 {
			continue
		}
		seconds, _ := strconv.ParseInt(x[1], 10, 64) // one that is no number is git's own beginning of time
		s.Commits = append([]Commit{{ID: x[0], When: time.Unix(seconds, 0).UTC(), Who: x[2], Title: x[3]}}, s.Commits...)
	}
	if len(s.Commits) <= mostCommits {
		return nil
	}
	s.Commits = s.Commits[1:]
	out, err := a.place.Do(ctx, "rev-list", "--count", s.Head, "--not", into)
	if err == nil {
		var n int
		if n, err = strconv.Atoi(strings.TrimSpace(strings.Join(out, ""))); err == nil {
			s.Older = n - len(s.Commits)
		}
	}
	return git.Fault(err, "git cannot count the commits")
}
