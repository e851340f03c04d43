package machine

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/packing"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/attach"
	"uncinate/internal/job/history"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// at is where a project goes.
func (u *Unpacking) at(x packing.Project) string {
	return filepath.Join(u.into, filepath.FromSlash(x.Folder))
}

// isCloned reports whether a project is here, whole.
func (u *Unpacking) isCloned(x packing.Project) bool {
	p, found, err := project.ProjectAt(u.desk, u.at(x))
	if err != nil || !found || files.Reached(filepath.Join(p.Folder, ".git")) == files.None || project.KeyOf(p.Address) != project.KeyOf(x.Address) {
		return false
	}
	_, cut, err := u.desk.Begin("clone", p.Folder)
	return err == nil && !cut
}

// isHere reports whether a project is here, with its further remotes and branches.
func (u *Unpacking) isHere(x packing.Project) bool {
	_, cut, err := u.desk.Begin("unpack", u.at(x))
	return err == nil && !cut && u.isCloned(x)
}

// Row is what came of a project.
type Row struct {
	Name     string     `json:"name"`
	Folder   string     `json:"folder"`
	State    string     `json:"state" says:"cloned, here already or failed"`
	Branch   string     `json:"branch,omitempty"`
	Says     string     `json:"says,omitempty"`
	Remedies []string   `json:"remedies,omitempty" says:"commands to go on with"`
	Exit     fault.Kind `json:"exit"`
}

// atOnce is how many projects are received side by side.
const atOnce = 6

// Projects clones those that are not here, several at once, each on the branch that it was on. One that fails
// stops no other.
func (u *Unpacking) Projects(ctx context.Context, ended func(Row)) ([]Row, error) {
	rows := make([]Row, len(u.todo))
	work, within := errgroup.WithContext(ctx)
	work.SetLimit(atOnce)
	var mu sync.Mutex
	done := 0
	for i, x := range u.todo {
		work.Go(func() error {
			r := u.one(within, x)
			mu.Lock()
			defer mu.Unlock()
			rows[i] = r
			done++
			u.desk.Tell.Progress("Cloning", int64(done), int64(len(u.todo)), "")
			ended(r)
			return within.Err()
		})
	}
	err := work.Wait()
	u.desk.Tell.Progress("Cloning", 0, 0, "")
	if err == nil && !slices.ContainsFunc(rows, func(r Row) bool { return r.State == "failed" }) {
		u.told("clone")
	}
	return rows, err
}

// one clones a project, and gives it its further remotes and branches. What the host does not have is told, and
// stops nothing.
func (u *Unpacking) one(ctx context.Context, x packing.Project) Row {
	row := Row{Name: x.Folder, Folder: u.at(x), State: "cloned"}
	d, err := u.desk.Beside(ctx, desk.Silence{})
	var r *desk.Runner
	if err == nil {
		r, _, err = d.Begin("unpack", row.Folder)
	}
	if err == nil {
		p := &unpacked{Unpacking: u, desk: d, x: x, folder: row.Folder}
		err = r.Run(ctx, []desk.Step{
			{Item: plan.Item{ID: "clone"}, Done: func(context.Context) (bool, error) { return u.isCloned(x), nil }, Do: p.clone, Stays: desk.Always},
			{Item: plan.Item{ID: "rest"}, Do: p.rest, Stays: desk.Always},
		})
		row.Branch, row.Says = p.branch, strings.Join(p.lacks, "; ")
	}
	if err != nil {
		f := fault.Of(err)
		row.State, row.Says, row.Exit, row.Remedies = "failed", f.Says, f.Kind, desk.Commands(f)
	}
	return row
}

// unpacked is one project that is made to stand.
type unpacked struct {
	*Unpacking
	desk   *desk.Desk
	x      packing.Project
	folder string
	branch string   // on which it is
	lacks  []string // what could not be as it was
}

// clone brings the project here, on its branch; where its own repository does not have that, on the default one.
func (p *unpacked) clone(ctx context.Context) error {
	on := func(branch string) error {
		if err := files.MakeFolder(filepath.Dir(p.folder), 0o755); err != nil {
			return err
		}
		c, err := attach.PlanClone(ctx, p.desk, attach.CloneOptions{What: p.x.Address, Folder: p.folder, Account: p.x.Account, Branch: branch, Remote: p.x.Remote, ReadOnly: p.x.ReceivesOnly})
		if err == nil {
			_, err = c.Do(ctx)
		}
		return err
	}
	first := p.x.Branch
	for _, b := range p.x.Branches {
		if b.Name == first && (b.On != "" || b.Remote != "" || b.Commit != "") { // it is made by the rest
			first = ""
		}
	}
	err := on(first)
	if err != nil && first != "" && ctx.Err() == nil && !fault.Is(err, fault.Unreachable) && on("") == nil {
		return nil // the rest tells of it
	}
	return err
}

// rest adds the further remotes and the other branches, and goes to the one that was checked out.
func (p *unpacked) rest(ctx context.Context) error {
	f, err := project.Look(ctx, p.desk, p.folder)
	if err != nil {
		return err
	}
	for _, r := range p.x.Remotes {
		err := p.further(ctx, f, r)
		if fault.Is(err, fault.HostSaidNo) || fault.Is(err, fault.Refused) || fault.Is(err, fault.Decision) {
			p.lacks = append(p.lacks, "its second remote "+text.Visible(r.Name)+" is not there: "+fault.Of(err).Says)
			err = nil
		}
		if err != nil {
			return err
		}
	}
	if err := p.branches(ctx, f); err != nil {
		return err
	}
	p.branch = f.Branch
	if p.x.Branch == "" || f.Branch == p.x.Branch {
		return nil
	}
	if _, err := f.Repo.Resolve(ctx, "refs/heads/"+p.x.Branch); err != nil {
		if !slices.ContainsFunc(p.x.Branches, func(b packing.Branch) bool { return b.Name == p.x.Branch }) {
			p.lacks = append(p.lacks, "its branch "+text.Visible(p.x.Branch)+" is not on the host")
		}
		return nil
	}
	if _, err := history.SwitchBranch(ctx, p.desk, p.folder, p.x.Branch, false); err != nil {
		return err
	}
	p.branch = p.x.Branch
	return nil
}

// further adds a second remote. Its account signs in there only where its host is the account's.
func (p *unpacked) further(ctx context.Context, f *project.Folder, r packing.Remote) error {
	now := p.desk.Now().UTC().Truncate(time.Second)
	e := project.Project{Folder: f.Path, Remote: r.Name, Address: r.Address, Account: r.Account, Attached: now, Second: true, Own: r.Own}
	h, owner, name, err := hosts.Recognise(p.desk, r.Address)
	if err != nil {
		return err
	}
	if h != nil {
		e.Host = h.Name
	}
	if r.Account != "" {
		a, err := accounts.Named(p.desk, r.Account)
		if err == nil && (h == nil || a.Host != h.Name) {
			err = fault.New(fault.Refused, "the account %s does not sign in at %s", r.Account, text.Visible(r.Address))
		}
		if err != nil {
			return err
		}
		if r.Own {
			if e.ID, e.Page, err = p.stands(ctx, a, owner, name); err != nil {
				return err
			}
		}
	}
	tie, err := project.Bind(ctx, p.desk, f, e)
	if err != nil || !r.Own {
		return err
	}
	work, err := f.Work()
	if err != nil {
		return err
	}
	err = project.Receive(ctx, p.desk, work, tie.Shared(), "--no-tags", "--no-write-fetch-head", "--", r.Name, "+refs/heads/*:refs/remotes/"+r.Name+"/*")
	if err == nil {
		return nil
	}
	why := project.Diagnose(ctx, p.desk, tie.Address, err)
	return errors.Join(why, tie.Unset(ctx), project.Strike(ctx, p.desk, f.Path, r.Name)) // it is not there, whole
}

// stands asks for a copy of one's own on its host: its id and page there.
func (p *unpacked) stands(ctx context.Context, a *accounts.Account, owner, name string) (id, page string, err error) {
	l, err := login.Open(ctx, p.desk, a)
	if err != nil {
		return "", "", err
	}
	there, found, err := l.Repository(ctx, owner, name)
	if err == nil && !found {
		err = fault.New(fault.HostSaidNo, "%s has no repository %s/%s", l.Host.Name, owner, name)
	}
	return there.ID, there.Page, err
}

// branches makes those that the project had, and that the host has.
func (p *unpacked) branches(ctx context.Context, f *project.Folder) error {
	var missing []string
	for _, b := range p.x.Branches {
		if _, err := f.Repo.Resolve(ctx, "refs/heads/"+b.Name); err == nil {
			continue
		}
		at, tracks := "refs/remotes/"+b.At(p.x.Remote), "--track"
		if b.Commit != "" {
			at, tracks = b.Commit+"^{commit}", "--no-track"
		}
		if _, err := f.Repo.Resolve(ctx, at); err != nil {
			missing = append(missing, b.Name)
			continue
		}
		if _, err := f.Repo.Do(ctx, "branch", "-q", tracks, "--", b.Name, strings.TrimSuffix(at, "^{commit}")); err != nil {
			return git.Fault(err, "git cannot make the branch %s", text.Visible(b.Name))
		}
	}
	if len(missing) > 0 {
		p.lacks = append(p.lacks, text.Either(len(missing) == 1, "its branch ", "its branches ")+text.Excerpt(strings.Join(missing, ", "), 200)+text.Either(len(missing) == 1, " is", " are")+" not on the host")
	}
	return nil
}
