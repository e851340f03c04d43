package many

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
	"uncinate/internal/world/tree"
)

// Found is a copy of a hosted repository that is on this machine.
type Found struct {
	Folder  string `json:"folder"`
	Address string `json:"address"`
	Account string `json:"account,omitempty" says:"the one on its host, where there is only one"`
	Was     string `json:"was,omitempty" says:"where the register had it, before its folder was moved"`
	Known   bool   `json:"known" says:"it is in the register already"`
	remote  string
	odd     bool             // its own configuration or hooks could do something
	dangers []project.Danger // what that is
}

// Finding is a look for copies, and the plan to take them in.
type Finding struct {
	desk  *desk.Desk
	Found []Found
	steps []desk.Step
}

// How far a look for copies goes.
const (
	deepest   = 12
	mostFound = 20000
)

// Find looks below a folder for repositories with a remote. Nothing of them is run; what
// is inside another repository is part of that one.
func Find(ctx context.Context, d *desk.Desk, given string) (*Finding, error) {
	top, err := project.FindFolder(d, given)
	if err != nil {
		return nil, err
	}
	register, err := project.Mains(d)
	if err != nil {
		return nil, err
	}
	holders, err := accounts.All(d)
	if err != nil {
		return nil, err
	}
	known, err := hosts.All(d)
	if err != nil {
		return nil, err
	}
	g, err := d.Git(ctx)
	if err != nil {
		return nil, err
	}
	settings, err := g.Outside(ctx)
	if err != nil {
		return nil, git.Fault(err, "git's configuration cannot be read")
	}
	f := &Finding{desk: d, Found: []Found{}}
	looked := 0
	closed, err := tree.Folders(ctx, top, deepest, func(path string) (bool, error) {
		if looked++; looked%512 == 0 {
			d.Tell.Progress("Looking for clones", 0, 1, text.Count(looked, "folder"))
		}
		one, is := copyAt(d, path, settings, register, holders, known)
		if one.Address != "" {
			f.Found = append(f.Found, one)
		}
		if len(f.Found) > mostFound {
			return false, fault.New(fault.Refused, "there are more than %s clones below %s", text.Number(mostFound), text.Visible(top))
		}
		return is, nil
	})
	d.Tell.Progress("Looking for clones", 0, 0, "")
	if err != nil {
		return nil, err
	}
	if len(closed) > 0 {
		d.Tell.Note("Note: %s could not be looked into, such as %s.", text.Count(len(closed), "folder"), text.Visible(closed[0]))
	}
	for i := range f.Found {
		if one := &f.Found[i]; one.odd && !one.Known && one.Was == "" {
			look, err := project.LookLoosely(ctx, d, one.Folder)
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			if err == nil { // otherwise it is told of when it is to be taken in
				one.dangers = look.Dangers
			}
		}
	}
	f.plan()
	return f, nil
}

// copyAt reads what a folder is attached to; false where it is not a repository.
func copyAt(d *desk.Desk, path string, settings []git.Setting, register []project.Project, holders []*accounts.Account, known []*hosts.Host) (Found, bool) {
	_, common, err := git.Folders(path)
	if err != nil {
		return Found{}, false
	}
	one := Found{Folder: path}
	config, err := git.ReadConfig(filepath.Join(common, "config"))
	if err != nil {
		return one, true
	}
	var remotes []string
	for key := range config {
		if name, ok := strings.CutPrefix(key, "remote."); ok && strings.HasSuffix(name, ".url") {
			remotes = append(remotes, strings.TrimSuffix(name, ".url"))
		}
	}
	slices.Sort(remotes)
	if one.remote = "origin"; !slices.Contains(remotes, "origin") {
		if len(remotes) != 1 {
			return one, true
		}
		one.remote = remotes[0]
	}
	at, err := address.Parse(project.Leads(d, settings, config["remote."+one.remote+".url"][0]))
	if err != nil {
		return one, true
	}
	if at.Scheme != "ssh" {
		at = at.Bare()
	}
	one.Address = at.String()
	one.odd = !project.IsPlain(d, common, config)
	for _, p := range register {
		switch {
		case p.Folder == path:
			one.Known, one.Account = true, p.Account
			return one, true
		case p.Remote == one.remote && project.KeyOf(p.Address) == at.Key() && !project.FolderExists(p):
			one.Was, one.Account = p.Folder, p.Account
		}
	}
	if one.Account == "" {
		if h, _, _ := hosts.RecogniseAmong(known, one.Address); h != nil {
			on := slices.DeleteFunc(slices.Clone(holders), func(a *accounts.Account) bool { return a.Host != h.Name })
			if len(on) == 1 {
				one.Account = on[0].Name
			}
		} else if kept, err := accounts.For(d, at); err == nil && kept != nil {
			one.Account = kept.Name
		}
	}
	return one, true
}

func (f *Finding) plan() {
	for _, one := range f.Found {
		if one.Known {
			continue
		}
		sentence := "Register " + text.Visible(one.Folder) + ", a clone of " + one.Address
		if one.Was != "" {
			sentence = "Note that " + text.Visible(one.Was) + " is now in " + text.Visible(one.Folder)
		}
		leads, named := false, []string(nil)
		for i, x := range one.dangers {
			leads = leads || x.Leads
			if i < 4 {
				named = append(named, text.Visible(x.Where))
			} else if i == 4 {
				named = append(named, fmt.Sprintf("and %d more", len(one.dangers)-i))
			}
		}
		switch {
		case leads:
			sentence += ", with no sign-in: its own git configuration could lead elsewhere (" + strings.Join(named, ", ") + ")"
		case one.Account != "" && one.Was == "":
			sentence += ", with the account " + one.Account
		}
		if len(named) > 0 && !leads {
			sentence += ", and let git run what is in it: " + strings.Join(named, ", ")
		}
		f.steps = append(f.steps, desk.Step{Item: plan.Item{ID: "register", Place: plan.Here, Sentence: sentence},
			Do: func(ctx context.Context) (err error) {
				d, err := f.desk.Beside(ctx, f.desk.Tell)
				if err != nil {
					return err
				}
				held, err := d.Alone(ctx, one.Folder)
				if err != nil {
					return err
				}
				defer fault.Also(&err, held.Release)
				return admit(ctx, d, one)
			}})
	}
}

// Sum says how much was found, once it is registered.
func (f *Finding) Sum() string {
	moved := 0
	for _, x := range f.Found {
		if x.Was != "" && !x.Known {
			moved++
		}
	}
	fresh := len(f.steps) - moved
	switch {
	case moved == 0:
		return "Registered: " + text.Count(fresh, "clone")
	case fresh == 0:
		return "Found again: " + text.Count(moved, "project")
	}
	return "Registered: " + text.Count(fresh, "clone") + "; found again: " + text.Count(moved, "project")
}

// Items is the plan as it is shown.
func (f *Finding) Items() []plan.Item { return desk.Items(f.steps) }

// Release gives the plan up; it holds nothing yet.
func (f *Finding) Release() error { return nil }

// Do takes the copies in, each by itself: one that cannot be is told of.
func (f *Finding) Do(ctx context.Context) error {
	var failed []error
	for _, s := range f.steps {
		if err := s.Do(ctx); err != nil {
			failed = append(failed, err)
			continue
		}
		f.desk.Tell.Step(s.Item, false)
	}
	return errors.Join(failed...)
}

func admit(ctx context.Context, d *desk.Desk, one Found) error {
	at, err := address.Parse(one.Address)
	if err != nil {
		return err
	}
	p := project.Project{Folder: one.Folder, Remote: one.remote, Address: at.String(), Account: one.Account, Attached: d.Now().UTC()}
	if one.Was != "" {
		old, found, err := project.EntryOf(d, one.Was, one.remote)
		if err != nil {
			return err
		}
		if found {
			p = old
			p.Folder = one.Folder
		}
		if err := errors.Join(project.CarryTrust(d, one.Was, one.Folder), worktree.CarryDecisions(d, one.Was, one.Folder), project.Strike(ctx, d, one.Was, one.remote)); err != nil {
			return err
		}
		return project.Enter(ctx, d, p)
	}
	f, err := project.LookLoosely(ctx, d, one.Folder)
	if err == nil {
		err = f.Sound()
	}
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(one.dangers, func(x project.Danger) bool { return x.Leads }) {
		if err := f.Trusts(ctx, d, one.dangers); err != nil { // the plan named them
			return err
		}
	}
	if _, err := f.Work(); err != nil { // nobody has looked through it, so it gets no sign-in
		p.Account = ""
		d.Tell.Note("Note: %s. It is registered without an account; to see why, and to attach it: %s", fault.Of(err).Says, text.Command("uncinate", "attach", "--preview", one.Folder))
	}
	if p.Account != "" {
		a, err := accounts.Named(d, p.Account)
		if err != nil {
			return err
		}
		p.Host = a.Host
		h, err := project.TieOf(ctx, d, f, p)
		if err != nil {
			return err
		}
		if err := h.Set(ctx); err != nil {
			return git.Fault(err, "git's configuration in %s cannot be written", text.Visible(one.Folder))
		}
		if l, err := login.Open(ctx, d, a); err == nil && a.Host != "" { // its id lets a later move be noticed
			if _, owner, name, err := hosts.Recognise(d, p.Address); err == nil && name != "" {
				if r, found, err := l.Repository(ctx, owner, name); err == nil && found {
					p.ID, p.Page = r.ID, r.Page
				}
			}
		}
	}
	return project.Enter(ctx, d, p)
}
