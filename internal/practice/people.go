package practice

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Invite is an invitation that waits for its answer: to a user, or to an e-mail address.
type Invite struct {
	ID    string    `json:"id"`
	Repo  string    `json:"repo"`
	To    string    `json:"to,omitempty"`
	Mail  string    `json:"mail,omitempty"`
	By    string    `json:"by"`
	Right int       `json:"right"`
	Sent  time.Time `json:"sent"`
}

// Member is somebody who may open a repository.
type Member struct {
	User, FullName string
	Right          int
	Since          time.Time // zero: not told
	From           string    // the group from which the right comes; "" for one that was given here
}

// groupRight gives what a user may do by the groups that hold a repository: a group's members may do
// so in the groups within it too. from is the group that says so. The caller holds mu.
func (st *Store) groupRight(owner, user string) (best int, from string) {
	for of := owner; of != ""; {
		if g := st.s.Groups[of]; g != nil && g.Members[user] > best {
			best, from = g.Members[user], of
		}
		of, _, _ = cutLast(of)
	}
	return best, from
}

// Members lists who may open a repository, by name; all of those who are in its groups too.
func (st *Store) Members(r *Repo) []Member {
	st.mu.Lock()
	defer st.mu.Unlock()
	key := etag(r)
	if known, there := st.members[key]; there {
		return known
	}
	names := maps.Clone(r.People)
	if names == nil {
		names = map[string]int{}
	}
	for of := r.Owner; of != ""; {
		if g := st.s.Groups[of]; g != nil {
			for user := range g.Members {
				names[user] = max(names[user], None)
			}
		}
		of, _, _ = cutLast(of)
	}
	var out []Member
	for _, user := range slices.Sorted(maps.Keys(names)) {
		m := Member{User: user, Right: r.People[user], Since: r.Since[user]}
		if u := st.s.Users[user]; u != nil {
			m.FullName = u.FullName
		}
		if right, from := st.groupRight(r.Owner, user); right > m.Right {
			m.Right, m.From, m.Since = right, from, time.Time{}
		}
		out = append(out, m)
	}
	if st.members == nil {
		st.members = map[string][]Member{}
	}
	st.members[key] = out
	return out
}

// Search lists the users whose name, or whose whole e-mail address, has a word in it.
func (st *Store) Search(find string) []*User {
	st.mu.Lock()
	defer st.mu.Unlock()
	var out []*User
	for _, name := range slices.Sorted(maps.Keys(st.s.Users)) {
		u := st.s.Users[name]
		if strings.Contains(strings.ToLower(name), strings.ToLower(find)) || u.MailConfirmed && strings.EqualFold(u.Email, find) {
			out = append(out, u)
		}
	}
	return out
}

// SetRight says what a user may do in a repository, at once; None takes what was given here back. most
// is how many people a plan allows in a private one, 0 for any number.
func (st *Store) SetRight(ctx context.Context, by, owner, name, who string, right, most int) error {
	if !st.Knows(who) {
		return wrongIn("who", "none", "there is nobody named %s", who)
	}
	_, err := st.Change(ctx, by, owner, name, 0, func(r *Repo) error {
		_, there := r.People[who]
		if inherited, from := st.groupRight(r.Owner, who); right < inherited && (right > None || !there) {
			return wrongIn("who", "denied", "%s has the right from %s, and it can only be taken away there", who, from)
		}
		if right > None && !there && st.full(r, most) {
			return wrongIn("who", "full", "the plan allows %d people in a private repository", most)
		}
		r.People, r.Since = maps.Clone(r.People), maps.Clone(r.Since)
		if r.Since == nil {
			r.Since = map[string]time.Time{}
		}
		if right == None {
			delete(r.People, who)
			delete(r.Since, who)
			return nil
		}
		if r.People[who] = right; !there {
			r.Since[who] = st.now().UTC().Truncate(time.Second)
		}
		return nil
	})
	return err
}

// full reports whether a private repository has as many people and invitations as the plan allows. The
// caller holds mu.
func (st *Store) full(r *Repo, most int) bool {
	waiting := 0
	for _, i := range st.s.Invites {
		if i.Repo == r.ID {
			waiting++
		}
	}
	return most > 0 && r.Visibility == "private" && len(r.People)+waiting >= most
}

// administers finds a repository whose settings a user sees to; the caller holds mu.
func (st *Store) administers(user, owner, name string) (*Repo, error) {
	r := st.byPath(owner, name)
	switch {
	case r == nil || st.right(r, user) < Read:
		return nil, problem("none", "there is no repository %s/%s, or you may not see it", owner, name)
	case st.right(r, user) < Admin:
		return nil, problem("denied", "you may not see to the people of %s/%s", owner, name)
	}
	return r, nil
}

// Invite invites a user, or whoever has an e-mail address, to a repository.
func (st *Store) Invite(by, owner, name, who, mail string, right, most int) (*Invite, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	r, err := st.administers(by, owner, name)
	if err != nil {
		return nil, err
	}
	if mail != "" && who == "" {
		for _, u := range st.s.Users {
			if u.MailConfirmed && strings.EqualFold(u.Email, mail) {
				who = u.Name
			}
		}
	}
	inherited, _ := st.groupRight(r.Owner, who)
	_, there := r.People[who]
	switch {
	case r.Archived:
		return nil, problem("archived", "%s/%s is archived", owner, name)
	case who == "" && !strings.Contains(mail, "@"), who != "" && st.s.Users[who] == nil:
		return nil, wrongIn("who", "none", "there is nobody named %s", cmp.Or(who, mail))
	case who == r.Owner || there || who != "" && inherited >= right:
		return nil, wrongIn("who", "already", "%s is among the people already", who)
	case st.full(r, most):
		return nil, wrongIn("who", "full", "the plan allows %d people in a private repository", most)
	}
	for _, i := range st.s.Invites {
		if i.Repo == r.ID && (who != "" && i.To == who || who == "" && strings.EqualFold(i.Mail, mail)) {
			return nil, wrongIn("who", "already", "%s is invited already", cmp.Or(who, mail))
		}
	}
	st.s.Next++
	i := &Invite{ID: fmt.Sprintf("h%06d", st.s.Next), Repo: r.ID, To: who, Mail: mail, By: by, Right: right, Sent: st.now().UTC().Truncate(time.Second)}
	st.s.Invites = append(st.s.Invites, i)
	return i, st.save()
}

// Invites lists the invitations to a repository that wait for an answer.
func (st *Store) Invites(by, owner, name string) ([]Invite, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	r, err := st.administers(by, owner, name)
	if err != nil {
		return nil, err
	}
	var out []Invite
	for _, i := range st.s.Invites {
		if i.Repo == r.ID {
			out = append(out, *i)
		}
	}
	return out, nil
}

// Invited is an invitation to a user, with the repository that it is to.
type Invited struct {
	Invite
	Owner, Name string
}

// InvitesTo lists the invitations to a user: by name, or by a confirmed e-mail address.
func (st *Store) InvitesTo(user string) []Invited {
	st.mu.Lock()
	defer st.mu.Unlock()
	var out []Invited
	for _, i := range st.s.Invites {
		if r := st.s.Repos[i.Repo]; r != nil && st.isTo(i, user) {
			out = append(out, Invited{*i, r.Owner, r.Name})
		}
	}
	return out
}

// isTo reports whether an invitation is a user's; the caller holds mu.
func (st *Store) isTo(i *Invite, user string) bool {
	u := st.s.Users[user]
	return i.To == user || i.To == "" && u != nil && u.MailConfirmed && strings.EqualFold(u.Email, i.Mail)
}

// Answer takes an invitation to a user, or declines it.
func (st *Store) Answer(user, id string, takes bool) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	at := slices.IndexFunc(st.s.Invites, func(i *Invite) bool { return i.ID == id && st.isTo(i, user) })
	if at < 0 {
		return problem("none", "there is no invitation %s for you", id)
	}
	i := st.s.Invites[at]
	st.s.Invites = slices.Delete(st.s.Invites, at, at+1)
	if r := st.s.Repos[i.Repo]; r != nil && takes {
		c := *r
		c.People, c.Since = maps.Clone(r.People), maps.Clone(r.Since)
		if c.Since == nil {
			c.Since = map[string]time.Time{}
		}
		c.People[user], c.Since[user] = i.Right, st.now().UTC().Truncate(time.Second)
		c.Version++
		st.s.Repos[i.Repo] = &c
	}
	return st.save()
}

// TakeBack takes an invitation back.
func (st *Store) TakeBack(by, owner, name, id string) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	r, err := st.administers(by, owner, name)
	if err != nil {
		return err
	}
	before := len(st.s.Invites)
	st.s.Invites = slices.DeleteFunc(st.s.Invites, func(i *Invite) bool { return i.Repo == r.ID && i.ID == id })
	if len(st.s.Invites) == before {
		return problem("none", "there is no invitation %s", id)
	}
	return st.save()
}

// FillPeople puts many users into the host, each among a repository's people, and as many invitations to
// it and to a user, and protected branches, for measuring.
func (st *Store) FillPeople(id, user string, many int) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	r := *st.s.Repos[id]
	r.People, r.Guards = maps.Clone(r.People), map[string]Guard{}
	for i := range many {
		name := fmt.Sprintf("warden-%05d", i)
		r.Guards[name] = Guard{}
		st.s.Next++
		other := fmt.Sprintf("g%06d", st.s.Next)
		st.s.Repos[other] = &Repo{ID: other, Owner: name, Name: "watch", Visibility: "private", Default: "main", Creator: name, Version: 1}
		st.s.Invites = append(st.s.Invites, &Invite{ID: fmt.Sprintf("x%05d", i), Repo: other, To: user, By: name, Right: Read, Sent: st.now().UTC().Truncate(time.Second)})
		st.s.Users[name] = &User{Name: name}
		r.People[name] = Read
		st.s.Invites = append(st.s.Invites, &Invite{ID: fmt.Sprintf("w%05d", i), Repo: id, Mail: name + "@inlet.example", By: r.Owner, Right: Read, Sent: st.now().UTC().Truncate(time.Second)})
	}
	st.s.Repos[id] = &r
	return st.save()
}
