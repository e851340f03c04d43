package deploy

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/repositories"
	"uncinate/internal/world/files"
)

// MakeOptions say what is to follow what.
type MakeOptions struct {
	What    string // a repository's name, or its address
	Folder  string
	Branch  string // "" for the default one
	Name    string // "" for the folder's
	Account string // who puts the key on the host, or signs in
	Over    string // "https" or "ssh"; "" for the one that suits
	Days    int    // how long states are kept that are no longer in use
}

// Making is a folder that is to follow a branch.
type Making struct {
	*desk.Change
	X       Deploy
	Updated *Updated // what came of the first state

	account    string // who may put the key on the host; "" for nobody
	repository string // as that account names it
}

// UsualDays is how long states are kept that are no longer in use.
const UsualDays = 14

// PlanMake looks at the repository and the folder.
func PlanMake(ctx context.Context, d *desk.Desk, o MakeOptions) (*Making, error) {
	m := &Making{}
	folder, err := filepath.Abs(o.Folder)
	if err != nil {
		return nil, err
	}
	if real, err := filepath.EvalSymlinks(filepath.Dir(folder)); err == nil {
		folder = filepath.Join(real, filepath.Base(folder))
	}
	m.X = Deploy{Name: o.Name, Folder: folder, Branch: o.Branch, Days: o.Days, Made: d.Now().UTC().Truncate(time.Second)}
	if m.X.Name == "" {
		m.X.Name = filepath.Base(folder)
	}
	if strings.Trim(m.X.Name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.") != "" || m.X.Name == "" || strings.HasPrefix(m.X.Name, "-") || strings.HasPrefix(m.X.Name, ".") || len(m.X.Name) > 60 {
		return nil, fault.New(fault.Usage, "%s cannot be a name here: letters, digits, dashes and dots", text.Quote(text.Excerpt(m.X.Name, 60))).
			Try("name it otherwise", text.Command("uncinate", "deploy", "make", o.What, o.Folder, "--name", "NAME"))
	}
	if err := m.where(ctx, d, o); err != nil {
		return nil, err
	}
	m.Change = &desk.Change{Desk: d, Job: "deploy-make", Subject: folder, Host: m.X.Host, AsWas: "Nothing is in use there.", About: m.X.Name,
		Head: "To let " + text.Visible(folder) + " follow " + text.Visible(cmp.Or(m.X.Branch, "the default branch")) + " of " + text.Visible(m.X.Address) + ":"}
	before, err := m.stands(d)
	if err != nil {
		return nil, err
	}
	if !m.byKey() { // what cannot be read now makes nothing here
		if err := m.branch(ctx, d); err != nil {
			return nil, err
		}
	}
	m.plan(before)
	return m, nil
}

// branch asks the host for the branch that is meant.
func (m *Making) branch(ctx context.Context, d *desk.Desk) error {
	tie, err := m.X.tie(ctx, d)
	if err != nil {
		return err
	}
	told, err := project.Refs(ctx, d, tie, "")
	if err != nil {
		return m.refused(d, err)
	}
	if m.X.Branch == "" {
		if m.X.Branch = told.Head; m.X.Branch == "" {
			return fault.New(fault.Decision, "%s has no commit yet", m.X.Address).Try("when there is one", text.Command("uncinate", "deploy", "make", m.X.Address, m.X.Folder))
		}
	}
	if told.Branch(m.X.Branch) == "" {
		return fault.New(fault.Failed, "%s has no branch %s", m.X.Address, text.Visible(m.X.Branch)).Detail("It has: %s", text.Excerpt(strings.Join(told.Branches(), ", "), 200))
	}
	return nil
}

// stands looks for one that is there already: the same, which is gone on with, or another in its way.
func (m *Making) stands(d *desk.Desk) (bool, error) {
	all, err := All(d)
	if err != nil {
		return false, err
	}
	for _, x := range all {
		same := x.Folder == m.X.Folder && project.KeyOf(x.Address) == project.KeyOf(m.X.Address) && x.Name == m.X.Name && (m.X.Branch == "" || x.Branch == "" || m.X.Branch == x.Branch)
		switch {
		case same:
			m.X = x
			return true, nil
		case x.Folder == m.X.Folder:
			return false, fault.New(fault.Decision, "%s follows %s of %s already, as %s", text.Visible(x.Folder), text.Visible(x.Branch), text.Visible(x.Address), x.Name).
				Try("see it", "uncinate deploy list").Try("or end that first", text.Command("uncinate", "deploy", "remove", x.Name))
		case x.Name == m.X.Name:
			return false, fault.New(fault.Decision, "%s is another folder's name here: %s", x.Name, text.Visible(x.Folder)).
				Try("give this one a name of its own", text.Command("uncinate", "deploy", "make", m.X.Address, m.X.Folder, "--name", "NAME"))
		}
	}
	for _, at := range []string{m.X.Folder, m.X.Beside()} {
		if files.KindOf(at) != files.None {
			return false, fault.New(fault.Refused, "%s is there already", text.Visible(at)).Detail("A folder that follows a branch is a link, which this program makes.").
				Try("move it away", text.Command("mv", "--", at, at+".before"))
		}
	}
	return false, nil
}

// where finds the repository's address, and by what it is read.
func (m *Making) where(ctx context.Context, d *desk.Desk, o MakeOptions) error {
	what, err := project.LeadsOutside(ctx, d, o.What)
	if err != nil {
		return err
	}
	o.What = what
	at, parsed := address.Parse(o.What)
	h, _, _, err := hosts.Recognise(d, o.What)
	if err != nil {
		return err
	}
	known := true
	if h != nil {
		all, err := accounts.On(d, h.Name)
		if err != nil {
			return err
		}
		known = len(all) > 0
		m.X.Host = h.Name
	}
	over := o.Over
	if over == "" && parsed == nil {
		over = "https"
		if at.Scheme == "ssh" {
			over = "ssh"
		}
	}
	if parsed == nil && (h == nil || !known) { // whoever runs that host puts the key there, or it is public
		m.X.Address = at.String()
		return nil
	}
	l, r, err := repositories.Find(ctx, d, o.Account, o.What)
	if err != nil {
		return err
	}
	m.X.Host, m.repository = l.Host.Name, r.Path()
	may := l.May("deploy-key-add", "give a key access to one repository") == nil
	if over == "" {
		over = text.Either(may && r.SSH != "" || r.HTTPS == "", "ssh", "https")
	}
	m.X.Address = text.Either(over == "ssh", r.SSH, r.HTTPS)
	if m.X.Address == "" {
		return fault.New(fault.HostSaidNo, "%s gives no address of %s over %s", l.Host.Name, r.Path(), over)
	}
	if over == "https" {
		m.X.Account = l.Account.Name
		return nil
	}
	if may {
		m.account = l.Account.Name
	}
	return nil
}

// byKey reports whether it is read by a key of its own.
func (m *Making) byKey() bool {
	at, err := address.Parse(m.X.Address)
	return err == nil && at.Scheme == "ssh"
}

// plan makes the steps.
func (m *Making) plan(before bool) {
	add := func(id string, place plan.Place, sentence string, do func(context.Context) error) {
		m.Steps = append(m.Steps, desk.Step{Item: plan.Item{ID: id, Place: place, Sentence: sentence}, Do: do, Stays: desk.Always})
	}
	if !before {
		add("enter", plan.Here, "Make the folder "+text.Visible(m.X.Beside())+", for the files of each commit", m.enter)
	}
	if m.byKey() {
		if m.X.Key == nil {
			add("key", plan.Here, "Make a key for this repository alone, in a file that only you can read", m.makeKey)
		}
		if m.account != "" {
			add("grant", plan.Host, "Let the key read "+m.repository+", and nothing else, if "+m.account+" may", m.grant)
		} else {
			m.Notes = append(m.Notes, "No account here can put the key onto the host: it is shown, and you put it there, to read only.")
		}
	}
	add("first", plan.Here, "Receive "+text.Visible(cmp.Or(m.X.Branch, "the default branch"))+", and let "+text.Visible(m.X.Folder)+" lead to its files, once tasks that it lists are approved", m.first)
	if m.X.Account != "" {
		m.Notes = append(m.Notes, "It is read by the sign-in of account "+m.X.Account+". A key for this repository alone opens less: --over ssh.")
	}
}

// enter notes it, and makes its folder.
func (m *Making) enter(ctx context.Context) error {
	if err := files.MakeFolder(m.X.Beside(), 0o755); err != nil {
		return fault.New(fault.Failed, "the folder %s cannot be made: %s", text.Visible(m.X.Beside()), files.Plain(err)).Because(err)
	}
	return m.note(ctx)
}

// note puts it as it is now into the list.
func (m *Making) note(ctx context.Context) error {
	return alter(ctx, m.Desk, func(all []Deploy) []Deploy {
		return append(slices.DeleteFunc(all, func(x Deploy) bool { return x.Folder == m.X.Folder }), m.X)
	})
}

// keyFile is where the key of one of a name is.
func keyFile(d *desk.Desk, name string) string {
	return filepath.Join(accounts.KeysFolder(d), "deploy", name)
}

func (m *Making) makeKey(ctx context.Context) error {
	machine, err := m.Desk.Machine()
	if err != nil {
		return err
	}
	private, public, err := sshkey.Make(sshkey.Kinds[0], sshkey.Name("deploy "+m.X.Name, m.X.Host, machine), "", rand.Reader)
	if err != nil {
		return err
	}
	k := &Key{File: keyFile(m.Desk, m.X.Name), Public: public.Line()}
	if err := files.Write(k.File, private, 0o600); err != nil {
		return err
	}
	if err := files.Write(k.File+".pub", []byte(k.Public+"\n"), 0o644); err != nil {
		return err
	}
	m.X.Key = k
	return m.note(ctx)
}

// grant puts the key onto the host.
func (m *Making) grant(ctx context.Context) error {
	c, err := repositories.GrantKey(ctx, m.Desk, m.account, m.repository, m.X.Key.File+".pub", "", "read")
	for i := 0; err == nil && i < len(c.Steps); i++ {
		var done bool
		if done, err = c.Steps[i].Done(ctx); err == nil && !done {
			err = c.Steps[i].Do(ctx)
		}
	}
	if fault.Is(err, fault.HostSaidNo) { // who may not: the key is shown, unless somebody has put it there
		m.account = ""
		return nil
	}
	return err
}

// first takes over the first state.
func (m *Making) first(ctx context.Context) error {
	d := m.Desk
	if m.X.Key != nil {
		at, err := address.Parse(m.X.Address)
		if err != nil {
			return err
		}
		if err := login.Knows(ctx, d, login.FindRoute(d, m.X.key(), at)); err != nil {
			return err
		}
	}
	before := m.X.Branch
	if err := m.branch(ctx, d); err != nil {
		f := *fault.Of(err)
		return f.Try("end this", text.Command("uncinate", "deploy", "remove", m.X.Name))
	}
	if m.X.Branch != before {
		if err := m.note(ctx); err != nil {
			return err
		}
	}
	var err error
	m.Updated, err = Update(ctx, d, m.X, UpdateOptions{})
	return err
}

// refused says, where the key is not known to the host yet, how it gets there.
func (m *Making) refused(d *desk.Desk, err error) error {
	if m.X.Key == nil || m.account != "" || !fault.Is(err, fault.HostSaidNo) {
		return err
	}
	f := fault.New(fault.Decision, "the host does not know this key yet")
	f.Detail("%s", m.X.Key.Public)
	f.Detail("Put it onto the host as a deploy key of the repository, that may only read.")
	if h, e := hosts.Named(d, m.X.Host); e == nil {
		if page := h.PageFor("key"); page != "" {
			f.Detail("Its page: %s", page)
		}
	}
	return f.Because(err).Try("then go on", fmt.Sprintf("uncinate deploy make %s %s --name %s", text.Quote(m.X.Address), text.Quote(m.X.Folder), text.Quote(m.X.Name)))
}
