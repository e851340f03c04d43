// Package offers is the work with offers to merge: a branch is offered (with its commits sent first, and
// without the right to write by way of a copy of one's own), listed, shown, brought here to be tried,
// accepted and closed. Each change is a plan; whether an offer merges cleanly is tried aside.
package offers

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/foreseeing"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/history"
	"uncinate/internal/job/repositories"
	"uncinate/internal/world/web"
)

// Which says which repository is meant.
type Which struct {
	Folder     string // a project's
	Repository string // one on a host, instead
	Account    string
}

// at is a repository on a host whose offers are worked on, with the project here, if there is one.
type at struct {
	desk   *desk.Desk
	l      *login.Login
	r      description.Repository
	folder *project.Folder // nil where it was named, and is no project's
	main   project.Project // of the folder
	place  *foreseeing.Place
	told   *web.Refs // what the host holds
}

// options are the options that name the same repository once more.
func (w Which) options() []string {
	var out []string
	if w.Repository != "" {
		out = append(out, "--repository", w.Repository)
	}
	if w.Account != "" {
		out = append(out, "--account", w.Account)
	}
	if w.Folder != "" && w.Folder != "." {
		out = append(out, "--folder", w.Folder)
	}
	return out
}

// Line is a command about the same repository.
func (w Which) Line(words ...string) string {
	return text.Command(append(append([]string{"uncinate", "offer"}, words...), w.options()...)...)
}

// find finds what is meant; action is what the host must offer, and to says it in words.
func find(ctx context.Context, d *desk.Desk, w Which, action, to string) (*at, error) {
	a := &at{desk: d}
	if w.Repository != "" {
		var err error
		if a.l, a.r, err = repositories.Find(ctx, d, w.Account, w.Repository); err != nil {
			return nil, err
		}
		return a, a.may(ctx, action, to)
	}
	f, _, err := project.ProjectLoosely(ctx, d, w.Folder)
	if err != nil {
		return nil, fault.Of(err).Try("or name the repository", "uncinate repository list")
	}
	return a, a.of(ctx, w, f, action, to)
}

// of finds the repository of a project: where its branch goes to a copy of one's own, the original.
func (a *at) of(ctx context.Context, w Which, f *project.Folder, action, to string) (err error) {
	d := a.desk
	a.folder = f
	if a.main, err = project.MainOf(ctx, d, f); err != nil {
		return err
	}
	host, owner, name, err := hosts.Recognise(d, a.main.Address)
	if err != nil {
		return err
	}
	if host == nil || host.Shell != nil {
		return a.without(ctx, host, to)
	}
	var acc *accounts.Account
	if account := cmp.Or(w.Account, a.main.Account); account != "" {
		acc, err = accounts.Named(d, account)
	} else { // a copy that is not registered, such as a further work tree
		if acc, err = accounts.Pick(d, "", host.Name); err == nil {
			a.main.Account, a.main.Host = acc.Name, host.Name
		}
	}
	if err == nil {
		a.l, err = login.Open(ctx, d, acc)
	}
	if err != nil {
		return err
	}
	a.r = description.Repository{Owner: owner, Name: name}
	if err := a.may(ctx, action, to); err != nil {
		return err
	}
	r, there, err := a.l.Repository(ctx, owner, name)
	if err == nil && !there {
		if now, moved := project.WentTo(ctx, d, []project.Project{a.main})[f.Path]; moved {
			r = now
		} else {
			return fault.New(fault.HostSaidNo, "%s has no repository %s/%s, or %s may not see it", a.l.Host.Name, owner, name, acc.User).
				Try("see what there is", text.Command("uncinate", "repository", "list", "--account", acc.Name))
		}
	}
	a.r = r
	return err
}

// without says that there can be no offers, and what is done instead.
func (a *at) without(ctx context.Context, host *hosts.Host, to string) error {
	if host == nil {
		return a.byHand(ctx, fault.New(fault.HostSaidNo, "nobody described the host of %s, so there is no way known to %s", text.Visible(a.main.Address), to))
	}
	return a.byHand(ctx, fault.New(fault.HostSaidNo, "%s is a plain server, and has no way to %s", host.Name, to))
}

// byHand adds how a branch comes into another one without offers.
func (a *at) byHand(ctx context.Context, err error) error {
	f := *fault.Of(err)
	if a.folder == nil {
		return &f
	}
	branch := a.folder.Branch
	if base := a.base(ctx); branch != "" && base != branch {
		return f.Try("merge it yourself: go to the branch that is to have it", text.Command("uncinate", "branch", "switch", base, "--folder", a.folder.Path)).
			Try("join it there, then sync", text.Command("uncinate", "branch", "join", branch, "--folder", a.folder.Path))
	}
	return f.Try("branches are merged here, by their names", text.Command("uncinate", "branch", "list", a.folder.Path))
}

// base is the branch that others come into, as far as it is known here.
func (a *at) base(ctx context.Context) string {
	if a.r.DefaultBranch != "" {
		return a.r.DefaultBranch
	}
	if head, err := a.folder.Repo.Do(ctx, "symbolic-ref", "-q", "--short", "refs/remotes/"+a.main.Remote+"/HEAD"); err == nil {
		return strings.TrimPrefix(head, a.main.Remote+"/")
	}
	return "main"
}

// may checks that the host offers an action, and that the token may do it.
func (a *at) may(ctx context.Context, action, to string) error {
	err := a.l.May(action, to)
	if err == nil || a.l.Host.Actions[action] != nil {
		return err
	}
	return a.byHand(ctx, err)
}

// number checks what was typed as an offer's number.
func number(given string) (string, error) {
	n := strings.TrimPrefix(given, "#")
	if n == "" || len(n) > 40 || strings.ContainsAny(n, "/?#%&\\ \x00") {
		return "", fault.New(fault.Usage, "%s is not the number of an offer", text.Quote(given)).Try("see the offers", "uncinate offer list")
	}
	return n, nil
}

// one asks for an offer by its number.
func (a *at) one(ctx context.Context, w Which, given string) (offering.Offer, error) {
	n, err := number(given)
	if err != nil {
		return offering.Offer{}, err
	}
	o, found, err := offering.Show(ctx, a.l, a.r, n)
	if err == nil && !found {
		f := fault.New(fault.HostSaidNo, "%s has no offer %s to %s", a.l.Host.Name, text.Visible(n), a.r.Path())
		if a.folder != nil {
			if _, err := a.folder.Repo.Resolve(ctx, "refs/heads/"+n); err == nil {
				f.Detail("Offers go by their numbers; %s is a branch.", text.Visible(n))
				a.meant(ctx, w, n, f)
			}
		}
		err = f.Try("see those that wait", w.Line("list"))
	}
	return o, err
}

// meant names the offer of a branch that was typed in the place of a number.
func (a *at) meant(ctx context.Context, w Which, branch string, f *fault.Fault) {
	all, _, err := offering.List(ctx, a.l, a.r, "open", mostFiltered)
	for _, o := range all {
		if err == nil && o.Branch == branch {
			f.Try("look at that of "+text.Visible(branch), w.Line("show", o.Number))
		}
	}
}

// bring makes the commits of offers, and of the branches into which, ones that can be looked at, without
// a trace in what git knows of the host.
func (a *at) bring(ctx context.Context, offers []offering.Offer) (notAll string, err error) {
	if a.place == nil {
		if a.place, err = foreseeing.PlaceOf(a.desk, a.folder); err != nil {
			return "", err
		}
	}
	h, err := a.tie(ctx)
	if err != nil {
		return "", err
	}
	told, err := a.refs(ctx)
	if err != nil {
		return "", err
	}
	want := map[string]string{}
	apart := map[string][]offering.Offer{}
	var all []string
	for _, o := range offers {
		all = append(all, slices.DeleteFunc([]string{told.Branch(o.Target), o.Head}, func(id string) bool { return id == "" })...)
	}
	if len(all) == 0 || a.place.Has(ctx, all...) { // by one run of git; each by itself is known then
		return "", nil
	}
	for _, o := range offers {
		if t := told.Branch(o.Target); t != "" && !a.place.Knows(t) {
			want[t] = "refs/heads/" + o.Target
		}
		if o.Head == "" || a.place.Knows(o.Head) {
			continue
		}
		if ref := o.Ref(); ref != "" {
			want[o.Head] = ref
		} else {
			apart[o.From()] = append(apart[o.From()], o)
		}
	}
	if err := a.place.Bring(ctx, h, want); err != nil {
		return "", err
	}
	for _, some := range apart { // the host keeps them only where they come from
		r, found, err := a.l.Repository(ctx, some[0].FromOwner, some[0].FromName)
		if err != nil || !found {
			continue // it is said of each that it is not at hand
		}
		from, err := repositories.TieTo(a.desk, a.l, r)
		if err != nil {
			return "", err
		}
		from.Repo = a.folder.Repo
		want := map[string]string{}
		for _, o := range some {
			want[o.Head] = "refs/heads/" + o.Branch
		}
		if err := a.place.Bring(ctx, from, want); err != nil && ctx.Err() != nil {
			return "", err
		}
	}
	_ = a.place.Has(ctx, all...) // by one run of git; what is not at hand is told of each
	return a.place.NotAll, nil
}

// tie is the way to the repository.
func (a *at) tie(ctx context.Context) (*project.Tie, error) {
	if a.folder == nil {
		return nil, errors.New("there is no project here")
	}
	return project.TieOf(ctx, a.desk, a.folder, a.main)
}

// refs asks the host, once, what it holds.
func (a *at) refs(ctx context.Context) (*web.Refs, error) {
	if a.told != nil {
		return a.told, nil
	}
	h, err := a.tie(ctx)
	if err != nil {
		return nil, err
	}
	told, err := project.Refs(ctx, a.desk, h, "")
	if err == nil {
		a.told = &told
	}
	return a.told, err
}

// wayWords are the ways of accepting in words.
var wayWords = map[string]string{"merge": "by a merge commit", "replay": "its commits replayed on top", "one": "as one commit", "": "as the host does it"}

// settled says how an offer ended.
func settled(o offering.Offer) string {
	by := text.Either(o.EndedBy == "", "", " by "+text.Visible(o.EndedBy))
	return fmt.Sprintf("offer %s was %s%s", text.Visible(o.Number), o.State, by)
}

// notes is a teller of what other jobs do for this one: its own step tells that they are done.
type notes struct{ desk.Teller }

// Step tells nobody.
func (notes) Step(plan.Item, bool) {}

// quiet is a desk for what other jobs do for this one.
func (a *at) quiet(ctx context.Context) (*desk.Desk, error) {
	return a.desk.Beside(ctx, notes{a.desk.Tell})
}

// drops removes a branch with all care: here, or on both sides.
func (a *at) drops(ctx context.Context, branch string, hereOnly bool) error {
	sub, err := a.quiet(ctx)
	if err != nil {
		return err
	}
	b, err := history.RemoveBranch(ctx, sub, a.folder.Path, branch, hereOnly, false)
	if err != nil {
		return err
	}
	for _, n := range b.Notes {
		a.desk.Tell.Note("%s", n)
	}
	return b.Do(ctx)
}
