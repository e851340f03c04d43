// Package machine carries the set-up of one machine to another: Pack says what is only here and writes
// hosts, accounts, settings and projects, sealed and without any secret; Unpack makes all of it stand on another
// machine, and goes on from wherever it was cut off.
package machine

import (
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/packing"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/many"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/sealed"
)

// PackOptions say what is wanted.
type PackOptions struct {
	File   string
	Root   string // the folder below which the projects are; "" for the home folder
	NoSync bool   // send nothing before
	Again  bool   // replace the file
}

// Packing is a set-up that is to be packed.
type Packing struct {
	desk    *desk.Desk
	o       PackOptions
	root    string
	to      *sealed.To
	pack    *packing.Pack
	further []project.Project // the projects' further remotes
	Rows    []many.Row        // the projects of which something is only here
	steps   []desk.Step
	Notes   []string
	Sent    []many.SyncedRow
}

// Here reports whether something of a project is only on this machine.
func here(r many.Row) bool {
	return r.Ahead > 0 || len(r.Changed) > 0 || len(r.Branches) > 0 || r.Stashes > 0 || r.Rescues > 0 || slices.Contains([]string{"unsent", "both", "missing", "broken", "unfinished", "no branch"}, r.State)
}

// sends reports whether a sync sends something of a project.
func sends(r many.Row) bool {
	return r.State == "unsent" && (r.Ahead > 0 || len(r.Branches) == 0) || r.State == "both" || r.Ahead > 0 && r.State == "changed"
}

// PlanPack looks at the machine, and says what is only here.
func PlanPack(ctx context.Context, d *desk.Desk, o PackOptions) (*Packing, error) {
	p := &Packing{desk: d, o: o}
	if files.KindOf(o.File) != files.None && !o.Again {
		return nil, fault.New(fault.Decision, "there is a %s already", text.Visible(o.File)).TryWithout("write it again", text.Command("uncinate", "machine", "pack", o.File, "--again"), "again")
	}
	var err error
	if p.root, err = filepath.Abs(o.Root); err != nil {
		return nil, err
	}
	if o.Root == "" {
		p.root = d.UserHome
	}
	if real, err := filepath.EvalSymlinks(p.root); err == nil {
		p.root = real
	}
	if err := p.gather(ctx); err != nil {
		return nil, err
	}
	if len(p.pack.Projects) > 0 {
		rows, err := many.Overview(ctx, d, true)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			if here(r) {
				p.Rows = append(p.Rows, r)
			}
		}
	}
	p.plan()
	return p, nil
}

// gather collects what is packed.
func (p *Packing) gather(ctx context.Context) error {
	d := p.desk
	name, err := d.Machine()
	if err != nil {
		return err
	}
	p.pack = &packing.Pack{Version: packing.Version, Machine: name, Made: d.Now().UTC().Truncate(time.Second), Hosts: []packing.Host{}, Accounts: []packing.Account{}, Projects: []packing.Project{}}
	set, err := d.Settings()
	if err != nil {
		return err
	}
	p.pack.Settings = packing.Settings{RescueDays: set.RescueDays, Foresee: set.Foresee, Flat: set.Flat}
	if err := p.hostsAndAccounts(); err != nil {
		return err
	}
	if p.pack.Pins, err = login.Pins(d); err != nil {
		return err
	}
	if err := p.kinds(); err != nil {
		return err
	}
	every, err := project.Register(d)
	if err != nil {
		return err
	}
	for _, x := range every {
		if x.Second || x.Own {
			p.further = append(p.further, x)
		}
	}
	all, err := project.Mains(d)
	if err != nil {
		return err
	}
	for _, x := range all {
		if err := ctx.Err(); err != nil {
			return err
		}
		p.project(x)
	}
	return nil
}

func (p *Packing) hostsAndAccounts() error {
	d := p.desk
	known, err := hosts.All(d)
	if err != nil {
		return err
	}
	for _, h := range known {
		says, err := files.Read(hosts.DescriptionFile(d, h.Name), description.Most)
		if err != nil {
			return err
		}
		p.pack.Hosts = append(p.pack.Hosts, packing.Host{Name: h.Name, At: h.At, Description: string(says)})
	}
	all, err := accounts.All(d)
	if err != nil {
		return err
	}
	keys, err := accounts.Keys(d)
	if err != nil {
		return err
	}
	for _, a := range all {
		p.pack.Accounts = append(p.pack.Accounts, packing.Account{Name: a.Name, Host: a.Host, Address: a.Address, User: a.User, FullName: a.FullName, Email: a.Email, May: a.May, Over: a.Over, Default: a.Default, NoToken: a.NoToken,
			Key: a.Host != "" && slices.ContainsFunc(keys, func(k *accounts.Key) bool { return k.Account == a.Name && k.State == accounts.KeyInForce })})
	}
	return nil
}

// kindsFolder is where the person's own kinds of projects are.
func kindsFolder(d *desk.Desk) string { return filepath.Join(d.Home.Config, "kinds") }

func (p *Packing) kinds() error {
	own, err := files.Names(kindsFolder(p.desk))
	if err != nil {
		return err
	}
	for _, name := range own {
		if filepath.Ext(name) != ".toml" {
			continue
		}
		says, err := files.Read(filepath.Join(kindsFolder(p.desk), name), 1<<20)
		if err != nil {
			return err
		}
		if p.pack.Kinds == nil {
			p.pack.Kinds = map[string]string{}
		}
		p.pack.Kinds[name] = string(says)
	}
	return nil
}

// project packs one: its folder below the root, or its name alone where it is elsewhere.
func (p *Packing) project(x project.Project) {
	inside, err := filepath.Rel(p.root, x.Folder)
	if err != nil || !filepath.IsLocal(inside) || inside == "." {
		inside = filepath.Base(x.Folder)
		p.Notes = append(p.Notes, text.Visible(x.Folder)+" is not below "+text.Visible(p.root)+", and will be called "+text.Visible(inside)+".")
	}
	one := packing.Project{Folder: filepath.ToSlash(inside), Address: x.Address, Account: x.Account, ReceivesOnly: x.ReceivesOnly}
	if x.Remote != "origin" {
		one.Remote = x.Remote
	}
	for _, r := range p.further {
		if r.Folder == x.Folder {
			one.Remotes = append(one.Remotes, packing.Remote{Name: r.Remote, Address: r.Address, Account: r.Account, Own: r.Own})
		}
	}
	if l, err := project.Glance(p.desk, x); err == nil { // what cannot be read is told among what is only here
		one.Branch, one.Branches = l.Branch, branches(l, one)
	}
	taken := slices.ContainsFunc(p.pack.Projects, func(y packing.Project) bool { return strings.EqualFold(y.Folder, one.Folder) })
	if packing.Inside(one.Folder) != nil || taken {
		p.Notes = append(p.Notes, text.Visible(x.Folder)+" cannot be packed: its folder's name does not go everywhere, or is there twice.")
		return
	}
	p.pack.Projects = append(p.pack.Projects, one)
}

// branches are the project's, each with its counterpart on a host, or else its commit.
func branches(l *project.Local, x packing.Project) []packing.Branch {
	config, err := git.ReadConfig(filepath.Join(l.Common, "config"))
	if err != nil {
		return nil // what cannot be read is told among what is only here
	}
	first := func(key string) string {
		if all := config[key]; len(all) > 0 {
			return all[0]
		}
		return ""
	}
	var out []packing.Branch
	for _, ref := range slices.Sorted(maps.Keys(l.Refs)) {
		name, is := strings.CutPrefix(ref, "refs/heads/")
		if !is {
			continue
		}
		b := packing.Branch{Name: name}
		on, goes := strings.CutPrefix(first("branch."+name+".merge"), "refs/heads/")
		if goes && on != name {
			b.On = on
		}
		if remote := first("branch." + name + ".remote"); remote != cmp.Or(x.Remote, "origin") {
			b.Remote = remote
			goes = goes && slices.ContainsFunc(x.Remotes, func(r packing.Remote) bool { return r.Name == remote })
		}
		if !goes || l.Refs["refs/remotes/"+b.At(x.Remote)] == "" {
			b = packing.Branch{Name: name, Commit: l.Refs[ref]}
		}
		out = append(out, b)
	}
	return out
}

// plan makes the steps.
func (p *Packing) plan() {
	n := 0
	for _, r := range p.Rows {
		if sends(r) {
			n++
		}
	}
	if n > 0 && !p.o.NoSync {
		p.steps = append(p.steps, desk.Step{Item: plan.Item{ID: "sync", Place: plan.Host, Sentence: "Sync " + text.Count(n, "project") + " that " + text.Either(n == 1, "has", "have") + " commits only here"}, Do: p.sync})
	}
	p.steps = append(p.steps, desk.Step{Item: plan.Item{ID: "write", Place: plan.Here, Sentence: "Write " + text.Visible(p.o.File) + ", sealed: " + text.Count(len(p.pack.Hosts), "host") + ", " + text.Count(len(p.pack.Accounts), "account") + " without their secrets, " + text.Count(len(p.pack.Projects), "project")}, Do: p.write})
}

// sync sends what is only here; one that fails stops no other, and is told.
func (p *Packing) sync(ctx context.Context) error {
	_, err := many.SyncAll(ctx, p.desk, many.SyncAllOptions{Yes: true}, func(r many.SyncedRow) {
		if r.State != "moved" {
			p.Sent = append(p.Sent, r)
		}
	})
	return err
}

// Sealed says for whom it is sealed.
func (p *Packing) Sealed(to sealed.To) { p.to = &to }

func (p *Packing) write(context.Context) error {
	data, err := json.Marshal(p.pack)
	if err != nil {
		return err
	}
	if _, err := packing.Read(data); err != nil { // what could not be unpacked is not written
		return err
	}
	out, err := sealed.Seal(data, *p.to)
	if err != nil {
		return fault.New(fault.Failed, "it cannot be sealed").Because(err)
	}
	return files.Write(p.o.File, out, 0o600)
}

// Items is the plan as it is shown.
func (p *Packing) Items() []plan.Item { return desk.Items(p.steps) }

// Release gives it up.
func (p *Packing) Release() error { return nil }

// Do carries it out.
func (p *Packing) Do(ctx context.Context) error {
	for _, s := range p.steps {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := s.Do(ctx); err != nil {
			return err
		}
		p.desk.Tell.Step(s.Item, false)
	}
	return nil
}

// Counts are how much is in it: hosts, accounts, projects.
func (p *Packing) Counts() (hosts, accounts, projects int) {
	return len(p.pack.Hosts), len(p.pack.Accounts), len(p.pack.Projects)
}
