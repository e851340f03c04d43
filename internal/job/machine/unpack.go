package machine

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/packing"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/job/credentials"
	"uncinate/internal/world/files"
)

// Unpacking is a set-up of another machine that is to stand here. Each part looks first whether it is there
// already, so that a run that was cut off goes on by the same command.
type Unpacking struct {
	desk    *desk.Desk
	pack    *packing.Pack
	into    string
	items   []plan.Item
	Hosts   []*hosts.Adding // that become known, or get another description
	done    func() error
	kinds   []string
	Notes   []string
	Missing []accounts.Account // that are signed in to
	keys    []string           // accounts that get a key here
	todo    []packing.Project  // that are not here yet
}

// PlanUnpack looks at what is here of a pack, and makes the plan. into is the folder into which the projects are
// put; the home folder for "".
func PlanUnpack(ctx context.Context, d *desk.Desk, pack *packing.Pack, into string) (*Unpacking, error) {
	u := &Unpacking{desk: d, pack: pack, into: into}
	if into == "" {
		u.into = d.UserHome
	}
	var err error
	if u.into, err = filepath.Abs(u.into); err != nil {
		return nil, err
	}
	if real, err := filepath.EvalSymlinks(u.into); err == nil { // one that is not there yet is made
		u.into = real
	}
	for _, part := range []func(context.Context) error{u.planHosts, u.planSettings, u.planAccounts, u.planProjects} {
		if err := part(ctx); err != nil {
			return nil, err
		}
	}
	return u, nil
}

func (u *Unpacking) add(id string, place plan.Place, format string, args ...any) {
	u.items = append(u.items, plan.Item{ID: id, Place: place, Sentence: fmt.Sprintf(format, args...)})
}

// planHosts looks at the descriptions as host add does: they say where tokens go.
func (u *Unpacking) planHosts(context.Context) error {
	d := u.desk
	if err := files.MakeFolder(d.Home.State, 0o700); err != nil {
		return err
	}
	dir, done, err := files.ScratchIn(d.Home.State, "unpack-")
	if err != nil {
		return err
	}
	u.done = done
	for _, h := range u.pack.Hosts {
		if stands, err := files.Read(hosts.DescriptionFile(d, h.Name), 1<<20); err == nil && string(stands) == h.Description {
			if known, err := hosts.Named(d, h.Name); err == nil && known.At == strings.TrimSuffix(h.At, "/") {
				continue
			}
		}
		at := filepath.Join(dir, h.Name+".toml")
		if err := files.Write(at, []byte(h.Description), 0o600); err != nil {
			return err
		}
		a, err := hosts.PlanAdd(d, at, h.At, h.Name, func(host string) ([]string, error) { return accounts.NamesOn(d, host) })
		if err != nil {
			f := *fault.Of(err)
			f.Details = append([]string{"It is the host " + h.Name + " of the packed file."}, f.Details...)
			f.Remedies = nil
			return &f
		}
		u.Hosts = append(u.Hosts, a)
		u.add("host "+h.Name, plan.Here, "Know the host %s, at %s", h.Name, text.Visible(a.Host.At))
		for _, to := range a.Host.Origins() {
			if hostOf(to.Origin) != hostOf(a.Host.At) {
				u.Notes = append(u.Notes, "What accounts on "+h.Name+" sign in with goes to "+text.Visible(to.Origin)+" too.")
			}
		}
	}
	return nil
}

// hostOf is the machine that an address names, and its port.
func hostOf(address string) string {
	_, after, _ := strings.Cut(address, "://")
	host, _, _ := strings.Cut(after, "/")
	return host
}

// planSettings looks at settings, and at kinds of projects.
func (u *Unpacking) planSettings(context.Context) error {
	set, err := u.desk.Settings()
	if err != nil {
		return err
	}
	if now := (packing.Settings{RescueDays: set.RescueDays, Foresee: set.Foresee, Flat: set.Flat}); now != u.pack.Settings {
		u.add("settings", plan.Here, "Set what was set on %s", text.Visible(u.pack.Machine))
	}
	pins, err := login.NewPins(u.desk, u.pack.Pins)
	if err != nil {
		return err
	}
	if len(pins) > 0 {
		u.add("pins", plan.Here, "Know the SSH keys of hosts that %s knows: %s", text.Visible(u.pack.Machine), text.Visible(text.Excerpt(strings.Join(names(pins), ", "), 200)))
	}
	for name, says := range u.pack.Kinds {
		if _, err := kinds.Load(name, []byte(says)); err != nil {
			return fault.New(fault.Refused, "the packed file cannot be used: its kind of projects %s cannot be read", text.Quote(text.Excerpt(name, 60))).Because(err)
		}
		if stands, err := files.Read(filepath.Join(kindsFolder(u.desk), name), 1<<20); err == nil && string(stands) == says {
			continue
		} else if err == nil {
			u.Notes = append(u.Notes, "The kind of projects "+text.Visible(name)+" is here already, and stays as it is here.")
			continue
		}
		u.kinds = append(u.kinds, name)
	}
	slices.Sort(u.kinds)
	if len(u.kinds) > 0 {
		u.add("kinds", plan.Here, "Take over %s of projects: %s", text.Count(len(u.kinds), "kind"), text.Visible(strings.Join(u.kinds, ", ")))
	}
	return nil
}

// names are the hosts of lines of known hosts, each once.
func names(pins []string) []string {
	var out []string
	for _, line := range pins {
		name, _, _ := strings.Cut(line, " ")
		out = append(out, name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// planAccounts looks which accounts are signed in to, and get a key.
func (u *Unpacking) planAccounts(ctx context.Context) error {
	var keys []plan.Item // after all are signed in to
	for _, x := range u.pack.Accounts {
		stands, err := accounts.Named(u.desk, x.Name)
		switch {
		case err == nil && (stands.Host != x.Host || stands.Address != x.Address || !strings.EqualFold(stands.User, x.User)):
			return fault.New(fault.Decision, "there is an account %s here already, and it is another one: %s on %s", x.Name, text.Visible(stands.User), stands.Where()).
				Try("see it", text.Command("uncinate", "account", "show", x.Name))
		case err != nil:
			u.Missing = append(u.Missing, accounts.Account{Name: x.Name, Host: x.Host, Address: x.Address, User: x.User, FullName: x.FullName, Email: x.Email, May: x.May, Over: x.Over, Default: x.Default, NoToken: x.NoToken})
			u.add("account "+x.Name, plan.Vault, "Sign in to the account %s, %s on %s", text.Visible(x.Name), text.Visible(x.User), cmp.Or(x.Host, text.Visible(x.Address)))
		}
		if !x.Key {
			continue
		}
		if err == nil && u.installed(ctx, x.Name) {
			continue
		}
		u.keys = append(u.keys, x.Name)
		keys = append(keys, plan.Item{ID: "key " + x.Name, Place: plan.Host, Sentence: "Make a key of this machine for " + text.Visible(x.Name) + ", and put it on " + x.Host})
	}
	u.items = append(u.items, keys...)
	return nil
}

// installed reports whether this machine has a key of an account, and the account's host has it.
func (u *Unpacking) installed(ctx context.Context, name string) bool {
	if k, err := accounts.KeyOf(u.desk, name, accounts.KeyInForce); err != nil || k == nil {
		return false
	}
	c, err := credentials.InstallKey(ctx, u.desk, name, false, false)
	if err != nil {
		return false // it is told where it is installed
	}
	i := slices.IndexFunc(c.Steps, func(s desk.Step) bool { return s.ID == "install" && s.Done != nil })
	if i < 0 {
		return false
	}
	there, err := c.Steps[i].Done(ctx)
	return err == nil && there
}

// planProjects looks which projects are here.
func (u *Unpacking) planProjects(context.Context) error {
	for _, x := range u.pack.Projects {
		if err := packing.Inside(x.Folder); err != nil {
			return err
		}
		if !u.isHere(x) {
			u.todo = append(u.todo, x)
		}
	}
	if n := len(u.todo); n > 0 {
		u.add("clone", plan.Here, "Clone %s below %s", text.Count(n, "project"), text.Visible(u.into))
	}
	if n := len(u.pack.Projects) - len(u.todo); n > 0 {
		u.Notes = append(u.Notes, text.Count(n, "project")+" of it "+desk.IsAre(n)+" here already.")
	}
	return nil
}

// Items is the plan as it is shown.
func (u *Unpacking) Items() []plan.Item { return u.items }

// Release gives it up.
func (u *Unpacking) Release() error {
	if u.done == nil {
		return nil
	}
	done := u.done
	u.done = nil
	return done()
}

// Machine is where it was packed.
func (u *Unpacking) Machine() string { return u.pack.Machine }

// told tells that a part of the plan is over.
func (u *Unpacking) told(id string) {
	for _, i := range u.items {
		if i.ID == id {
			u.desk.Tell.Step(i, false)
		}
	}
}

// Prepare makes hosts, settings and kinds stand here.
func (u *Unpacking) Prepare(ctx context.Context) error {
	for _, a := range u.Hosts {
		if _, err := a.Do(ctx); err != nil {
			return err
		}
		u.told("host " + a.Host.Name)
	}
	if err := u.Release(); err != nil {
		return err
	}
	want := u.pack.Settings
	if err := u.desk.Change(ctx, func(s *desk.Settings) { s.RescueDays, s.Foresee, s.Flat = want.RescueDays, want.Foresee, want.Flat }); err != nil {
		return err
	}
	u.told("settings")
	if err := login.TakePins(u.desk, u.pack.Pins); err != nil {
		return err
	}
	u.told("pins")
	for _, name := range u.kinds {
		if err := files.Write(filepath.Join(kindsFolder(u.desk), name), []byte(u.pack.Kinds[name]), 0o600); err != nil {
			return err
		}
	}
	u.told("kinds")
	return nil
}

// SignedIn tells that an account is signed in to.
func (u *Unpacking) SignedIn(name string) { u.told("account " + name) }

// Keys makes this machine's own keys, and puts them on their hosts. Private keys never travel.
func (u *Unpacking) Keys(ctx context.Context) error {
	d, err := u.desk.Beside(ctx, desk.Silence{}) // the steps of this plan are told, not theirs
	if err != nil {
		return err
	}
	for _, name := range u.keys {
		k, err := accounts.KeyOf(d, name, accounts.KeyInForce)
		if err == nil && k == nil {
			_, err = credentials.MakeKey(ctx, d, credentials.KeyOptions{Account: name})
		}
		if err != nil {
			return err
		}
		c, err := credentials.InstallKey(ctx, d, name, false, false)
		if err == nil {
			err = c.Do(ctx)
		}
		if err != nil {
			f := *fault.Of(err)
			f.Details = append(slices.Clone(f.Details), "What was unpacked before that stays; the same command goes on from here.")
			return &f
		}
		u.told("key " + name)
	}
	return nil
}
