// Package making makes repositories on a host without a local folder: new ones, copies of others, and
// what is at an address. Each is a plan.
package making

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/licences"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/repositories"
)

// New is what is wanted of a new repository.
type New struct {
	Name        string // NAME, or OWNER/NAME; "" for the name of what is copied or imported
	Description string
	Visibility  string // "" is private
	Branch      string // "" is main
	Readme      bool
	Licence     string
	Ignore      []string // kinds of projects whose ignore rules it is to hold
}

// making is a repository that is being made on a host.
type making struct {
	desk   *desk.Desk
	l      *login.Login
	c      *desk.Change
	line   []string // the command's words, behind the program's name
	before bool     // a run before this one was cut off, and had made it
	want   description.Repository
	action string
	words  string // what is done, as a refusal names it
	vars   description.Vars
}

// begin looks whether the name is free. Where a run before this one was cut off as it made it, that is
// taken up; where it was all done, the change has no steps.
func (m *making) begin(ctx context.Context, says string) error {
	l := m.l
	m.c.Line = text.Command(append([]string{"uncinate"}, m.line...)...)
	if l.Host.Actions[m.action] != nil && l.Host.Actions[m.action].By == "push" {
		return fault.New(fault.HostSaidNo, "on %s a repository is made by the first push to it", l.Host.Name).Try("publish a folder", "uncinate attach")
	}
	if err := l.May(m.action, says); err != nil {
		return err
	}
	if err := l.May("repository-show", says+", and check it"); err != nil {
		return err
	}
	if err := naming.Check(m.want.Name); err != nil {
		return err
	}
	there, found, err := l.Repository(ctx, m.want.Owner, m.want.Name)
	if err != nil {
		return err
	}
	if found {
		before, look := m.c.GoesOn()
		if look != nil || before == nil || !m.mine(there) {
			return m.taken(there)
		}
		m.before = true
		m.c.Notes = append(m.c.Notes, "It was made before this was cut off.")
	}
	return nil
}

// mine reports whether a repository was made by this account, as far as the host tells.
func (m *making) mine(there description.Repository) bool {
	return there.Creator == "" || strings.EqualFold(there.Creator, m.l.Account.User)
}

func (m *making) taken(there description.Repository) error {
	f := fault.New(fault.Decision, "there is a repository %s on %s already", there.Path(), m.l.Host.Name)
	if !there.Created.IsZero() && there.Creator != "" {
		f.Detail("It was made on %s by %s.", there.Created.Format("2006-01-02"), text.Visible(there.Creator))
	}
	return f.Try("see it", text.Command("uncinate", "repository", "show", there.Path(), "--account", m.l.Account.Name)).
		Try("publish a folder into it, if it is empty", text.Command("uncinate", "attach", "--to", there.Path(), "--account", m.l.Account.Name))
}

// step asks the host to make it, and checks it. A request whose answer was lost may have been done: the
// name was free a moment before.
func (m *making) step(words string) desk.Step {
	look := func(ctx context.Context) (description.Repository, bool, error) {
		there, found, err := m.l.Repository(ctx, m.want.Owner, m.want.Name)
		return there, found && m.mine(there), err
	}
	return desk.Step{Item: plan.Item{ID: "make", Place: plan.Host, Sentence: words},
		Done: func(ctx context.Context) (bool, error) {
			if !m.before { // what is there now somebody else made a moment ago
				return false, nil
			}
			_, done, err := look(ctx)
			return done, err
		},
		Do: func(ctx context.Context) error {
			_, err := m.l.Do(ctx, m.action, m.words, m.vars)
			if login.Means(err, description.Denied) {
				names := login.WhoCreates(ctx, m.desk, m.l.Host.Name, m.l.Account, m.want.Owner)
				return login.Others(fault.Of(err), names, "make repositories for "+m.want.Owner, func(account string) string {
					return text.Command(append([]string{"uncinate"}, append(m.line, "--account", account)...)...)
				})
			}
			if login.Means(err, description.NameTaken) {
				if there, found, look := m.l.Repository(ctx, m.want.Owner, m.want.Name); look == nil && found {
					return m.taken(there)
				}
				return err
			}
			err = login.Lost(err, func() (bool, error) { _, done, err := look(ctx); return done, err })
			if err != nil {
				return err
			}
			there, done, err := look(ctx)
			switch {
			case err != nil:
				return err
			case !done:
				return fault.New(fault.Failed, "%s took the request, and does not show %s", m.l.Host.Name, m.want.Path())
			case m.want.Visibility != "" && there.Visibility != "" && there.Visibility != m.want.Visibility:
				return fault.New(fault.Failed, "%s made %s, and shows it %s, not %s", m.l.Host.Name, there.Path(), there.Visibility, m.want.Visibility).
					Try("change that", text.Command("uncinate", "repository", "change", there.Path(), "--visibility", m.want.Visibility, "--account", m.l.Account.Name))
			}
			return nil
		},
		Stays: func(done bool) bool { return done }}
}

// owned parts a name into owner and name; the owner is the account's own unless one is given.
func owned(l *login.Login, name string) (string, string) {
	owner, last := naming.Split(name)
	return cmp.Or(owner, l.Account.User), last
}

// open signs the account in under which it is to be made.
func (o New) open(ctx context.Context, d *desk.Desk, account string) (*login.Login, error) {
	a, err := accounts.Pick(d, account, "")
	if err != nil {
		return nil, err
	}
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return nil, err
	}
	return l, repositories.Visible(o.Visibility)
}

// Create plans to make a repository without a local folder.
func Create(ctx context.Context, d *desk.Desk, account string, o New) (*desk.Change, error) {
	l, err := o.open(ctx, d, account)
	if err != nil {
		return nil, err
	}
	m := &making{desk: d, l: l, action: "repository-create", want: description.Repository{Visibility: cmp.Or(o.Visibility, "private"), Description: o.Description, DefaultBranch: cmp.Or(o.Branch, "main")}}
	m.want.Owner, m.want.Name = owned(l, o.Name)
	m.words = "create the repository " + m.want.Path()
	m.vars = description.Vars{"owner": m.want.Owner, "name": m.want.Name, "path": m.want.Path(), "visibility": m.want.Visibility, "description": o.Description, "default_branch": m.want.DefaultBranch}
	m.c = &desk.Change{Desk: d, Job: "repository-create", Subject: l.Host.Name + " " + m.want.Path(), Host: l.Host.Name, About: m.want.Path(), Head: "To create " + m.want.Path() + ":",
		AsWas: "Nothing was made."}
	m.line = append([]string{"repository", "create"}, o.words()...)
	first, err := o.first(d, m.want.Name)
	if err != nil {
		return nil, err
	}
	if err := m.begin(ctx, "create repositories"); err != nil {
		return nil, err
	}
	words := text.Either(m.want.Visibility == "members", "Create the repository "+m.want.Path()+", visible to members", "Create the "+m.want.Visibility+" repository "+m.want.Path())
	m.c.Steps = []desk.Step{m.step(words)}
	if len(first) > 0 {
		step, err := m.stepFirst(first)
		if err != nil {
			return nil, err
		}
		m.c.Steps = append(m.c.Steps, step)
	}
	return m.c, nil
}

// words are the arguments by which it was asked for.
func (o New) words() []string {
	out := text.WithOperand(nil, o.Name)
	for _, x := range [][2]string{{"description", o.Description}, {"visibility", o.Visibility}, {"default-branch", o.Branch}, {"licence", o.Licence}} {
		if x[1] != "" {
			out = append([]string{"--" + x[0], x[1]}, out...)
		}
	}
	for _, k := range o.Ignore {
		out = append([]string{"--ignore", k}, out...)
	}
	if o.Readme {
		out = append([]string{"--readme"}, out...)
	}
	return out
}

// first are the first files of a new repository, by name.
func (o New) first(d *desk.Desk, name string) (map[string]string, error) {
	out := map[string]string{}
	if o.Readme {
		out["README.md"] = "# " + name + "\n" + text.Either(o.Description == "", "", "\n"+o.Description+"\n")
	}
	if o.Licence != "" {
		says, err := licences.Text(o.Licence, d.Now().Format("2006"), "")
		if err != nil {
			return nil, err
		}
		out["LICENSE"] = says
	}
	all, err := kinds.Shipped()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, k := range all {
		names = append(names, k.Name)
	}
	for _, want := range o.Ignore {
		var meant []kinds.Kind
		for _, k := range all { // by its name, or by a word of it
			words := strings.FieldsFunc(strings.ToLower(k.Name), func(r rune) bool { return !unicode.IsLetter(r) && r != '+' && r != '#' })
			if strings.EqualFold(k.Name, want) || slices.Contains(words, strings.ToLower(want)) && len(want) > 2 {
				meant = append(meant, k)
			}
		}
		if len(meant) == 0 {
			f := fault.New(fault.Usage, "no kind of project is named %s", text.Quote(want))
			if near := text.Nearest(want, names); near != "" {
				f.Detail("Did you mean %s?", near)
			}
			return nil, f.Detail("Name one of these, or a word of it: %s.", strings.Join(names, ", "))
		}
		for _, k := range meant {
			out[".gitignore"] = kinds.Merge(out[".gitignore"], k.Rules)
		}
	}
	return out, nil
}

// stepFirst sends a first commit with the first files.
func (m *making) stepFirst(first map[string]string) (desk.Step, error) {
	a := m.l.Account
	name, email := cmp.Or(a.FullName, a.User), a.Email
	if email == "" {
		return desk.Step{}, fault.New(fault.Decision, "the first files need an e-mail address for their commit, and %s tells none of account %s", m.l.Host.Name, a.Name).
			Try("create it without files", text.Command("uncinate", "repository", "create", m.want.Path(), "--account", a.Name))
	}
	var names []string
	for n := range first {
		names = append(names, n)
	}
	slices.Sort(names)
	return desk.Step{Item: plan.Item{ID: "first", Place: plan.Host, Sentence: fmt.Sprintf("Send a first commit with %s, by %s <%s>", strings.Join(names, ", "), text.Visible(name), text.Visible(email))},
		Do: func(ctx context.Context) error {
			there, found, err := m.l.Repository(ctx, m.want.Owner, m.want.Name)
			if err == nil && !found {
				err = fault.New(fault.HostSaidNo, "%s is no longer there", m.want.Path())
			}
			if err != nil {
				return err
			}
			g, err := m.desk.Git(ctx)
			if err != nil {
				return err
			}
			h, err := repositories.TieTo(m.desk, m.l, there)
			if err != nil {
				return err
			}
			h.Repo = g.In(m.desk.Home.State)
			branch := cmp.Or(there.DefaultBranch, m.want.DefaultBranch)
			told, err := project.Refs(ctx, m.desk, h, "")
			if err != nil || told.IDs["refs/heads/"+branch] != "" {
				return err // a run before this one sent it
			}
			return repositories.SendLoose(ctx, m.desk, m.l, there, name, email, repositories.Loose{Branch: branch, Says: "Add the first files\n", Files: first})
		}}, nil
}

// Copy plans to make a copy of a repository on its host.
func Copy(ctx context.Context, d *desk.Desk, account, what string, o New) (*desk.Change, error) {
	l, r, err := repositories.Find(ctx, d, account, what)
	if err != nil {
		return nil, err
	}
	m := &making{desk: d, l: l, action: "repository-copy", words: "copy " + r.Path(), vars: login.RepositoryVars(r)}
	m.want.Owner, m.want.Name = owned(l, cmp.Or(o.Name, r.Name))
	if m.want.Path() == r.Path() {
		return nil, fault.New(fault.Usage, "a copy of %s needs another name, or another owner", r.Path()).
			Try("name it", text.Command("uncinate", "repository", "copy", what, r.Name+"-copy"))
	}
	m.vars["new_owner"], m.vars["new_name"] = m.want.Owner, m.want.Name
	m.c = &desk.Change{Desk: d, Job: "repository-copy", Subject: l.Host.Name + " " + m.want.Path(), Host: l.Host.Name, About: m.want.Path(), Head: "To copy " + r.Path() + ":", AsWas: "Nothing was copied."}
	m.line = []string{"repository", "copy", what, m.want.Path()}
	if err := m.begin(ctx, "copy repositories"); err != nil {
		if l.Host.Actions[m.action] == nil {
			err = repositories.ByHand(l, r, "settings", "Its page", err)
		}
		return nil, err
	}
	m.c.Steps = []desk.Step{m.step("Copy " + r.Path() + ", with its branches and tags, to " + m.want.Path())}
	return m.c, nil
}

// Import plans to let a host make a repository of what is at an address.
func Import(ctx context.Context, d *desk.Desk, account, from string, o New) (*desk.Change, error) {
	at, err := address.Parse(from)
	if err != nil {
		return nil, err
	}
	at = at.Bare() // the host is told no sign-in
	l, err := o.open(ctx, d, account)
	if err != nil {
		return nil, err
	}
	m := &making{desk: d, l: l, action: "repository-import", words: "import " + text.Excerpt(at.String(), 80), want: description.Repository{Visibility: cmp.Or(o.Visibility, "private")}}
	_, last := naming.Split(strings.TrimSuffix(strings.TrimSuffix(at.String(), "/"), ".git"))
	m.want.Owner, m.want.Name = owned(l, cmp.Or(o.Name, last))
	m.vars = description.Vars{"address": at.String(), "owner": m.want.Owner, "name": m.want.Name, "path": m.want.Path(), "visibility": m.want.Visibility, "description": o.Description}
	m.c = &desk.Change{Desk: d, Job: "repository-import", Subject: l.Host.Name + " " + m.want.Path(), Host: l.Host.Name, About: m.want.Path(), Head: "To import " + text.Visible(at.String()) + ":", AsWas: "Nothing was imported.",
		Notes: []string{l.Host.Name + " itself reads that address, so it must be open to everybody there."}}
	m.line = []string{"repository", "import", from, m.want.Path()}
	if err := m.begin(ctx, "import repositories"); err != nil {
		if l.Host.Actions["repository-import"] == nil {
			err = fault.Of(err).Try("clone it, then attach the copy", text.Command("uncinate", "clone", at.String()))
		}
		return nil, err
	}
	m.c.Steps = []desk.Step{m.step("Let " + l.Host.Name + " make the " + m.want.Visibility + " repository " + m.want.Path() + " of it")}
	return m.c, nil
}
