package job

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/git"
	"uncinate/internal/world/tree"
)

// Found is a copy of a hosted repository that lies on this machine.
type Found struct {
	Folder  string `json:"folder"`
	Address string `json:"address"`
	Account string `json:"account,omitempty" says:"the one on its host, where there is only one"`
	Was     string `json:"was,omitempty" says:"where the register had it, before its folder was moved"`
	Known   bool   `json:"known" says:"it is in the register already"`
	remote  string
}

// Finding is a look for copies, and the plan to take them in.
type Finding struct {
	desk  *Desk
	Found []Found
	steps []Step
}

// How far a look for copies goes.
const (
	deepest   = 12
	mostFound = 20000
)

// Find looks below a folder for repositories with a remote. Nothing of them is run; what
// lies inside another repository is part of that one.
func (d *Desk) Find(ctx context.Context, given string) (*Finding, error) {
	top, err := d.findFolder(given)
	if err != nil {
		return nil, err
	}
	register, err := d.mains()
	if err != nil {
		return nil, err
	}
	accounts, err := d.Accounts()
	if err != nil {
		return nil, err
	}
	hosts, err := d.Hosts()
	if err != nil {
		return nil, err
	}
	f := &Finding{desk: d, Found: []Found{}}
	looked := 0
	closed, err := tree.Folders(ctx, top, deepest, func(path string) (bool, error) {
		if looked++; looked%512 == 0 {
			d.Tell.Progress("Looking for copies", 0, 1, text.Count(looked, "folder"))
		}
		one, is := copyAt(path, register, accounts, hosts)
		if one.Address != "" {
			f.Found = append(f.Found, one)
		}
		if len(f.Found) > mostFound {
			return false, fault.New(fault.Refused, "there are more than %s copies below %s", text.Number(mostFound), text.Visible(top))
		}
		return is, nil
	})
	d.Tell.Progress("Looking for copies", 0, 0, "")
	if err != nil {
		return nil, err
	}
	if len(closed) > 0 {
		d.Tell.Note("Note: %s could not be looked into, such as %s.", text.Count(len(closed), "folder"), text.Visible(closed[0]))
	}
	f.plan()
	return f, nil
}

// copyAt reads what a folder is hooked to; false where it is no repository.
func copyAt(path string, register []Project, accounts []*Account, hosts []*Host) (Found, bool) {
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
	at, err := address.Parse(config["remote."+one.remote+".url"][0])
	if err != nil {
		return one, true
	}
	if at.Scheme != "ssh" {
		at = at.Bare()
	}
	one.Address = at.String()
	for _, p := range register {
		switch {
		case p.Folder == path:
			one.Known, one.Account = true, p.Account
			return one, true
		case p.Remote == one.remote && keyOf(p.Address) == at.Key() && !folderExists(p):
			one.Was, one.Account = p.Folder, p.Account
		}
	}
	if one.Account == "" {
		if h, _, _ := recogniseAmong(hosts, one.Address); h != nil {
			on := slices.DeleteFunc(slices.Clone(accounts), func(a *Account) bool { return a.Host != h.Name })
			if len(on) == 1 {
				one.Account = on[0].Name
			}
		}
	}
	return one, true
}

func (f *Finding) plan() {
	for _, one := range f.Found {
		if one.Known {
			continue
		}
		sentence := "Take in " + text.Visible(one.Folder) + ", a copy of " + one.Address
		if one.Was != "" {
			sentence = "Note that " + text.Visible(one.Was) + " lies in " + text.Visible(one.Folder) + " now"
		}
		if one.Account != "" && one.Was == "" {
			sentence += ", with the account " + one.Account
		}
		f.steps = append(f.steps, Step{Item: plan.Item{ID: "take-in", Place: plan.Here, Sentence: sentence},
			Do: func(ctx context.Context) error { return f.desk.admit(ctx, one) }})
	}
}

// Items is the plan as it is shown.
func (f *Finding) Items() []plan.Item { return Items(f.steps) }

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

func (d *Desk) admit(ctx context.Context, one Found) error {
	at, err := address.Parse(one.Address)
	if err != nil {
		return err
	}
	p := Project{Folder: one.Folder, Remote: one.remote, Address: at.String(), Account: one.Account, Hooked: d.Now().UTC()}
	if one.Was != "" {
		old, found, err := d.entryOf(one.Was, one.remote)
		if err != nil {
			return err
		}
		if found {
			p = old
			p.Folder = one.Folder
		}
		if err := d.strike(one.Was, one.remote); err != nil {
			return err
		}
		return d.enter(p)
	}
	f, err := d.lookLoosely(ctx, one.Folder)
	if err != nil {
		return err
	}
	if p.Account != "" {
		a, err := d.Account(p.Account)
		if err != nil {
			return err
		}
		p.Host = a.Host
		h, err := d.hookOf(ctx, f, p)
		if err != nil {
			return err
		}
		if err := h.set(ctx); err != nil {
			return gitFault(err, "git's configuration in %s cannot be written", text.Visible(one.Folder))
		}
		if l, err := d.login(ctx, a); err == nil && a.Host != "" { // its id lets a later move be noticed
			if _, owner, name, err := d.Recognise(p.Address); err == nil && name != "" {
				if r, found, err := l.repository(ctx, owner, name); err == nil && found {
					p.ID, p.Page = r.ID, r.Page
				}
			}
		}
	}
	return d.enter(p)
}
