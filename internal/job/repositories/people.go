package repositories

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
)

// Person is somebody who may do something in a repository.
type Person struct {
	User      string    `json:"user"`
	FullName  string    `json:"full_name,omitempty"`
	Right     string    `json:"right" says:"read, write or admin; or the host's own word"`
	Since     time.Time `json:"since,omitzero"`
	Inherited string    `json:"inherited,omitempty" says:"the group from which the right comes"`
}

// Sent is an invitation to a repository that waits for its answer.
type Sent struct {
	ID    string    `json:"id"`
	User  string    `json:"user,omitempty"`
	Email string    `json:"email,omitempty"`
	Right string    `json:"right"`
	Since time.Time `json:"since,omitzero"`
}

// To is whom the invitation is to: the name there, or the e-mail address.
func (s Sent) To() string { return cmp.Or(s.User, s.Email) }

// Shared is who may open a repository.
type Shared struct {
	Repository
	People  []Person // nil: the host does not list them
	Invited []Sent
	Keys    []login.DeployKey
	Plan    string   // how many people the host's plan allows
	Unable  []string // what the host does not list, with the page where it is seen
}

// rights are our words for them, the least first.
var rights = []string{"read", "write", "admin"}

// ListAccess lists the people who may open a repository, the invitations to it, and the deploy keys;
// what the host lists by no action is told.
func ListAccess(ctx context.Context, d *desk.Desk, account, what string) (*Shared, error) {
	l, r, err := Find(ctx, d, account, what)
	if err != nil {
		return nil, err
	}
	s := &Shared{Repository: Repository{l.Account.Name, l.Host.Name, r}, Keys: []login.DeployKey{}}
	unable := func(of string, err error) {
		f := fault.Of(err)
		says := "The " + of + " are not listed: " + f.Says + "."
		for _, r := range f.Remedies {
			says += " To " + r.Why + ": " + r.Command
		}
		s.Unable = append(s.Unable, says)
	}
	noPeople, noKeys := l.May("people-list", "list people"), l.May("deploy-key-list", "list deploy keys")
	switch {
	case noPeople != nil && noKeys != nil:
		return nil, page(l, r, noPeople)
	case noPeople != nil:
		unable("people", page(l, r, noPeople))
	case noKeys != nil:
		unable("deploy keys", noKeys)
	}
	c := crew{l: l, r: r}
	if noPeople == nil {
		if err := c.look(ctx); err != nil {
			return nil, err
		}
		s.People, s.Invited, s.Plan = c.people, c.invited, c.allows(0)
		if c.untold != nil {
			unable("invitations", c.untold)
		}
	}
	if noKeys == nil {
		if s.Keys, err = l.DeployKeys(ctx, r); untold(err) {
			unable("deploy keys", err)
			err = nil
		}
	}
	return s, err
}

// untold reports whether a host does not tell this account of something, whatever else it may see.
func untold(err error) bool {
	return login.Means(err, description.Denied) || login.Means(err, description.ScopeMissing)
}

// page adds to what a host does not offer the page where people see to it.
func page(l *login.Login, r description.Repository, err error) error {
	return ByHand(l, r, "people", "People see to it there", err)
}

// ByHand adds to what a host does not offer a page of the repository where it is done by hand.
func ByHand(l *login.Login, r description.Repository, page, says string, err error) error {
	f := *fault.Of(err)
	if t := l.Host.Pages[page]; t != nil {
		if at, err := l.Host.Expand(t, login.RepositoryVars(r)); err == nil {
			return f.Detail("%s: %s", says, text.Visible(at))
		}
	}
	return &f
}

// crew are the people of a repository, and those who are invited, as the host tells of them.
type crew struct {
	l       *login.Login
	r       description.Repository
	people  []Person
	invited []Sent
	untold  error // why the host did not tell who is invited; nil where it did
}

// crewOf looks at a repository and its people, where the host offers an action for them.
func crewOf(ctx context.Context, d *desk.Desk, account, what, action, to string) (*crew, error) {
	l, r, err := Find(ctx, d, account, what)
	if err != nil {
		return nil, err
	}
	for _, a := range []string{action, "people-list"} {
		if err := l.May(a, to); err != nil {
			return nil, page(l, r, err)
		}
	}
	c := &crew{l: l, r: r}
	return c, c.look(ctx)
}

func (c *crew) look(ctx context.Context) error {
	items, err := c.l.List(ctx, "people-list", "list the people of "+c.r.Path(), login.RepositoryVars(c.r))
	if err != nil {
		return err
	}
	c.people, c.invited = []Person{}, nil
	for _, i := range items {
		p := Person{User: description.Written(i["user"]), FullName: description.Written(i["full_name"]), Right: description.Written(i["right"]), Inherited: description.Written(i["inherited"])}
		p.Since, _ = i["created"].(time.Time)
		if p.User != "" {
			c.people = append(c.people, p)
		}
	}
	slices.SortFunc(c.people, func(a, b Person) int { return strings.Compare(a.User, b.User) })
	if c.l.Host.Actions["invitation-sent"] == nil {
		return nil
	}
	items, err = c.l.List(ctx, "invitation-sent", "list the invitations to "+c.r.Path(), login.RepositoryVars(c.r))
	if c.untold = nil; untold(err) {
		c.untold, err = err, nil
	}
	for _, i := range items {
		s := Sent{ID: description.Written(i["id"]), User: description.Written(i["user"]), Email: description.Written(i["email"]), Right: description.Written(i["right"])}
		s.Since, _ = i["created"].(time.Time)
		if s.To() != "" {
			c.invited = append(c.invited, s)
		}
	}
	slices.SortFunc(c.invited, func(a, b Sent) int { return strings.Compare(a.To(), b.To()) })
	return err
}

// of gives what somebody may do, and who is invited so; nil where nothing is.
func (c *crew) of(who string) (*Person, *Sent) {
	var p *Person
	var s *Sent
	if i := slices.IndexFunc(c.people, func(p Person) bool { return strings.EqualFold(p.User, who) }); i >= 0 {
		p = &c.people[i]
	}
	if i := slices.IndexFunc(c.invited, func(s Sent) bool { return strings.EqualFold(s.User, who) || strings.EqualFold(s.Email, who) }); i >= 0 {
		s = &c.invited[i]
	}
	return p, s
}

// right gives what somebody may do by what was given here; "" where that is nothing.
func (c *crew) right(who string) string {
	if p, _ := c.of(who); p != nil {
		return p.Right
	}
	return ""
}

// own reports whether somebody has a right that was given here, and does not come from a group.
func (c *crew) own(who string) bool {
	p, _ := c.of(who)
	return p != nil && p.Inherited == ""
}

// allows says how many people the plan allows beside those that there are and more; "" where the
// host's description does not tell.
func (c *crew) allows(more int) string {
	most, told := c.l.Host.Limits["private_collaborators"].(int64)
	if !told || c.r.Visibility != "private" {
		return ""
	}
	there := len(c.invited) + more
	for _, p := range c.people {
		if p.Inherited == "" && !strings.EqualFold(p.User, c.r.Owner) {
			there++
		}
	}
	plan := "The plan"
	if name, ok := c.l.Host.Limits["plan"].(string); ok {
		plan += " " + text.Visible(name)
	}
	return fmt.Sprintf("%s allows %s in a private repository, those who are invited included; %s has %d%s.", plan, many(int(most)), text.Either(more > 0, "with this it", "it"), there,
		text.Either(there > int(most), ", so the host may refuse", ""))
}

// touched says whom a change of a repository touches beside oneself: those who may open it, and those who
// are invited. What the host does not tell is left out.
func touched(ctx context.Context, l *login.Login, r description.Repository) (people, invited []string) {
	c := crew{l: l, r: r}
	if l.Host.Shell != nil || l.Host.Actions["people-list"] == nil || len(l.Lacks("people-list")) > 0 || c.look(ctx) != nil {
		return nil, nil
	}
	for _, p := range c.people {
		if !strings.EqualFold(p.User, l.Account.User) && !strings.EqualFold(p.User, r.Owner) {
			people = append(people, text.Excerpt(p.User, 40))
		}
	}
	for _, s := range c.invited {
		invited = append(invited, text.Excerpt(s.To(), 60))
	}
	return people, invited
}

// named joins the first of many names.
func named(all []string) string {
	const most = 5
	says := strings.Join(all[:min(len(all), most)], ", ")
	if len(all) > most {
		says += " and " + many(len(all)-most) + " more"
	}
	return says
}

// many counts people.
func many(n int) string { return text.Either(n == 1, "1 person", text.Number(n)+" people") }

// known looks somebody up by name on the host, and gives the name as it is written there; where the
// host cannot be asked, the name as it is.
func (c *crew) known(ctx context.Context, who string) (string, error) {
	if c.l.Host.Actions["people-search"] == nil {
		return who, nil
	}
	search := func(word string) ([]string, error) {
		items, err := c.l.List(ctx, "people-search", "look for "+text.Excerpt(who, 60), description.Vars{"find": word})
		var names []string
		for _, i := range items {
			names = append(names, description.Written(i["user"]))
		}
		return names, err
	}
	names, err := search(who)
	if err != nil {
		return who, err
	}
	for _, same := range []func(a, b string) bool{func(a, b string) bool { return a == b }, strings.EqualFold} {
		if i := slices.IndexFunc(names, func(n string) bool { return same(n, who) }); i >= 0 {
			return names[i], nil
		}
	}
	if len([]rune(who)) > 2 { // one who is meant may begin alike
		more, err := search(string([]rune(who)[:2]))
		if err != nil {
			return who, err
		}
		names = append(names, more...)
	}
	f := fault.New(fault.HostSaidNo, "there is nobody named %s on %s", text.Quote(who), c.l.Host.Name)
	if near := text.Nearest(who, names); near != "" {
		f.Detail("Did you mean %s?", text.Visible(near))
	}
	return who, f
}

// says puts a right into a sentence.
func says(right string) string {
	switch right {
	case "read":
		return "read"
	case "write":
		return "write to"
	case "admin":
		return "write to, and see to the settings of,"
	}
	return text.Visible(right)
}

// gone tells of a repository that went while it was worked on; err where that is not so.
func (c *crew) gone(ctx context.Context, err error) error {
	if _, found, look := c.l.Repository(ctx, c.r.Owner, c.r.Name); look == nil && !found {
		return fault.New(fault.HostSaidNo, "%s is no longer on %s, or %s may no longer see it", c.r.Path(), c.l.Host.Name, c.l.Account.User).
			Try("see what there is", text.Command("uncinate", "repository", "list", "--account", c.l.Account.Name)).Because(err)
	}
	return err
}

// goneIf is gone, for an error that may come of it.
func (c *crew) goneIf(ctx context.Context, err error) error {
	if login.Means(err, description.NotFound) {
		return c.gone(ctx, err)
	}
	return err
}

// setRight gives a person a right, or with "" takes what was given here away, and looks whether it is so
// then: a request whose answer was lost may have been done.
func (c *crew) setRight(ctx context.Context, action, who, right string) error {
	vars := login.RepositoryVars(c.r)
	vars["person"], vars["right"] = who, right
	now := crew{l: c.l, r: c.r}
	look := func() (bool, error) {
		err := now.look(ctx)
		if right == "" {
			return !now.own(who), err
		}
		return now.right(who) == right, err
	}
	what := text.Either(right == "", "take ", "give ") + text.Excerpt(who, 60) + text.Either(right == "", " out of ", " access to ") + c.r.Path()
	_, err := c.l.Do(ctx, action, what, vars)
	switch {
	case login.Means(err, description.NotFound):
		if gone := c.gone(ctx, err); gone != err {
			return gone
		}
		if right != "" {
			return fault.New(fault.HostSaidNo, "there is nobody named %s on %s", text.Quote(who), c.l.Host.Name).Because(err)
		}
		err = nil
	case login.Means(err, description.Already):
		err = nil
	}
	if err := login.Lost(err, look); err != nil {
		return page(c.l, c.r, err)
	}
	done, err := look()
	if err == nil && !done {
		err = page(c.l, c.r, fault.New(fault.Failed, "%s took the request, and does not show that %s may %s %s", c.l.Host.Name, text.Visible(who), text.Either(right == "", "no longer open", says(right)), c.r.Path()))
	}
	return err
}
