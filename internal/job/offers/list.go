package offers

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/repositories"

	"golang.org/x/sync/errgroup"
)

// Listed is an offer of a list.
type Listed struct {
	offering.Offer
	Host    string   `json:"host"`
	Account string   `json:"account"`
	Mine    bool     `json:"mine,omitempty" says:"it is the account's own"`
	Merges  string   `json:"merges,omitempty" says:"clean, clashes, joined (all of it is there), branch gone, or not tried; nothing for one that is over"`
	Clashes []string `json:"clashes,omitempty" says:"the files in which"`
	Mean    bool     `json:"-"` // the branch is checked out here
}

// List is a page of offers.
type List struct {
	Path   string   `json:"repository,omitempty"`
	Offers []Listed `json:"offers"`
	More   bool     `json:"more,omitempty" says:"there are others"`
	Notes  []string `json:"notes,omitempty"`
}

// ListOptions say which are wanted.
type ListOptions struct {
	Which
	All   bool   // of all repositories
	Mine  bool   // that the account made
	ToMe  bool   // of others, that the account may accept
	State string // open, accepted, closed, or any
	Most  int
}

// state is what the host is asked for.
func (o ListOptions) state() (string, error) {
	switch o.State {
	case "":
		return "open", nil
	case "any":
		return "", nil
	case "open", "accepted", "closed":
		return o.State, nil
	}
	f := fault.New(fault.Usage, "an offer is open, accepted or closed, or any of these, and not %s", text.Quote(o.State))
	if near := text.Nearest(o.State, []string{"open", "accepted", "closed", "any"}); near != "" {
		f.Detail("Did you mean %s?", near)
	}
	return "", f
}

// wanted reports whether one is among those that are asked for; may tells that the account may accept it.
func (o ListOptions) wanted(x Listed, may bool) bool {
	return (!o.Mine || x.Mine) && (!o.ToMe || !x.Mine && may)
}

// mostFiltered is of how many offers those are chosen that are wanted.
const mostFiltered = 300

// asked is of how many the host is asked.
func (o ListOptions) asked() int {
	if o.Mine || o.ToMe {
		return max(o.Most, mostFiltered)
	}
	return o.Most
}

// ListOffers lists the offers to a repository, or to all that there are; whether each merges cleanly is tried
// aside, where its project is here.
func ListOffers(ctx context.Context, d *desk.Desk, o ListOptions) (*List, error) {
	state, err := o.state()
	if err != nil {
		return nil, err
	}
	if o.All {
		return everywhere(ctx, d, o, state)
	}
	a, err := find(ctx, d, o.Which, "offer-list", "list offers to merge")
	if err != nil {
		return nil, err
	}
	all, more, err := offering.List(ctx, a.l, a.r, state, o.asked())
	if err != nil {
		return nil, err
	}
	out := &List{Path: a.r.Path(), More: more, Offers: []Listed{}}
	may := a.r.Right == "" || a.r.Right != "read"
	for _, x := range all {
		l := listed(a.l, x)
		if o.wanted(l, may) {
			out.Offers = append(out.Offers, l)
		}
	}
	out.cut(o.Most)
	if a.folder == nil {
		for i, x := range out.Offers {
			if x.Open() {
				out.Offers[i].Merges = "not tried"
			}
		}
		return out, nil
	}
	return out, out.try(ctx, a)
}

// cut leaves the first ones.
func (l *List) cut(most int) {
	if most > 0 && len(l.Offers) > most {
		l.Offers, l.More = l.Offers[:most], true
	}
}

func listed(l *login.Login, o offering.Offer) Listed {
	return Listed{Offer: o, Host: l.Host.Name, Account: l.Account.Name, Mine: strings.EqualFold(o.Creator, l.Account.User)}
}

// try finds out, aside, whether each merges cleanly.
func (l *List) try(ctx context.Context, a *at) error {
	var open []offering.Offer
	for _, x := range l.Offers {
		if x.Open() {
			open = append(open, x.Offer)
		}
	}
	if len(open) == 0 {
		return nil
	}
	notAll, err := a.bring(ctx, open)
	if err != nil {
		return err
	}
	if notAll != "" {
		l.Notes = append(l.Notes, notAll)
	}
	if _, err := a.folder.FoldsCase(ctx); err != nil { // what is tried side by side reads it only
		return err
	}
	known := map[string]*Listed{} // several stand for the same commit
	trying, within := errgroup.WithContext(ctx)
	trying.SetLimit(runtime.GOMAXPROCS(0))
	for i := range l.Offers {
		x := &l.Offers[i]
		x.Mean = a.folder.Branch == x.Branch && x.Mine
		if key := x.Head + " " + x.Target; x.Open() && known[key] == nil {
			known[key] = x
			trying.Go(func() error { return a.tryOne(within, x) })
		}
	}
	if err := trying.Wait(); err != nil {
		return err
	}
	for i, x := range l.Offers {
		if was := known[x.Head+" "+x.Target]; x.Open() {
			l.Offers[i].Merges, l.Offers[i].Clashes = was.Merges, was.Clashes
		}
	}
	return nil
}

// tryOne tries one that was brought.
func (a *at) tryOne(ctx context.Context, x *Listed) error {
	told, err := a.refs(ctx)
	if err != nil {
		return err
	}
	into := told.Branch(x.Target)
	switch {
	case x.Head == "":
		x.Merges = "branch gone"
		return nil
	case into == "":
		x.Merges = "no branch " + x.Target
		return nil
	case !a.place.Knows(x.Head) || !a.place.Knows(into):
		x.Merges = "not tried"
		return nil
	}
	clashes, held, err := a.meet(ctx, into, x.Head)
	x.Clashes = clashes
	switch {
	case err != nil:
		if ctx.Err() != nil {
			return ctx.Err()
		}
		a.desk.Log.Debug("offer not tried", "number", x.Number, "why", err)
		x.Merges = "not tried"
	case len(clashes) > 0:
		x.Merges = "clashes"
	case held:
		x.Merges = "joined"
	default:
		x.Merges = "clean"
	}
	return nil
}

// meet tries aside what comes of merging a commit into another: the files that clash, and whether the
// other holds all of it already.
func (a *at) meet(ctx context.Context, into, head string) (clashes []string, held bool, err error) {
	w, done, err := a.folder.Repo.Aside(ctx, a.place.Objects())
	if err != nil {
		return nil, false, err
	}
	defer func() { err = errors.Join(err, done()) }()
	met, err := worktree.Meet(ctx, a.folder, w, "", into, head)
	if err != nil {
		return nil, false, err
	}
	if met.Base == head {
		return nil, true, nil
	}
	for _, c := range met.Clashes {
		clashes = append(clashes, c.At)
	}
	if own, err := a.folder.Mergers(ctx, clashes); err != nil || len(own) > 0 {
		return nil, false, fault.New(fault.Decision, "a program of the person's own merges some of it, and does not run for a look").Because(err)
	}
	return clashes, false, nil
}

// everywhere lists the offers of all repositories of an account, or of all accounts: by the host's own list,
// or by asking for each project of this machine.
func everywhere(ctx context.Context, d *desk.Desk, o ListOptions, state string) (*List, error) {
	all, err := repositories.OneOrAll(d, o.Account)
	if err != nil {
		return nil, err
	}
	out := &List{Offers: []Listed{}}
	asked := 0
	var failed error
	for _, acc := range all {
		if acc.Host == "" {
			continue
		}
		some, more, notes, err := ofAccount(ctx, d, acc, o, state)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		out.Notes = append(out.Notes, notes...)
		if err != nil {
			if o.Account != "" {
				return nil, err
			}
			if failed == nil {
				failed = err
			}
			out.Notes = append(out.Notes, "Account "+acc.Name+" on "+acc.Host+": "+fault.Of(err).Says+".")
			continue
		}
		asked++
		out.More = out.More || more
		for _, x := range some {
			if !slices.ContainsFunc(out.Offers, func(y Listed) bool { return y.Host == x.Host && y.Path() == x.Path() && y.Number == x.Number }) {
				out.Offers = append(out.Offers, x)
			}
		}
	}
	if asked == 0 && failed != nil {
		return nil, failed
	}
	if asked == 0 && len(all) == 0 {
		return nil, accounts.NoneYet(d)
	}
	out.cut(o.Most)
	return out, nil
}

// ofAccount lists those that one account sees.
func ofAccount(ctx context.Context, d *desk.Desk, acc *accounts.Account, o ListOptions, state string) (out []Listed, more bool, notes []string, err error) {
	l, err := login.Open(ctx, d, acc)
	if err != nil {
		return nil, false, nil, err
	}
	if l.Host.Actions["offer-all-list"] != nil {
		if err := l.May("offer-all-list", "list offers to merge"); err != nil {
			return nil, false, nil, err
		}
		all, more, err := offering.Everywhere(ctx, l, state, o.asked())
		for _, x := range all {
			if y := listed(l, x); o.wanted(y, true) {
				y.Merges = text.Either(y.Open(), "not tried", "")
				out = append(out, y)
			}
		}
		return out, more, nil, err
	}
	if l.Host.Actions["offer-list"] == nil {
		return nil, false, []string{l.Host.Name + " tells of no offers to merge."}, nil
	}
	projects, err := project.Mains(d)
	if err != nil {
		return nil, false, nil, err
	}
	for _, p := range projects {
		if p.Account != acc.Name {
			continue
		}
		_, owner, name := hosts.RecogniseAmong([]*hosts.Host{l.Host}, p.Address)
		r, found, err := l.Repository(ctx, owner, name)
		if err != nil || !found {
			if ctx.Err() == nil && err == nil {
				err = fault.New(fault.HostSaidNo, "%s has no repository %s/%s, or %s may not see it", l.Host.Name, owner, name, acc.User)
			}
			notes = append(notes, text.Visible(p.Folder)+": "+fault.Of(err).Says+".")
			continue
		}
		some, others, err := offering.List(ctx, l, r, state, o.asked())
		if err != nil {
			return nil, false, notes, err
		}
		more = more || others
		for _, x := range some {
			if y := listed(l, x); o.wanted(y, r.Right != "read") {
				y.Merges = text.Either(y.Open(), "not tried", "")
				out = append(out, y)
			}
		}
	}
	return out, more, notes, nil
}

// Numbers gives the open offers of the current project, at most a page of them, as the host tells of them.
func Numbers(ctx context.Context, d *desk.Desk) ([]offering.Offer, error) {
	a, err := find(ctx, d, Which{}, "offer-list", "list offers to merge")
	if err != nil {
		return nil, err
	}
	all, _, err := offering.List(ctx, a.l, a.r, "open", 30)
	return all, err
}
