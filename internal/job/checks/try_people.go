package checks

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
)

// findPerson finds who is let into the scratch repository and out again: whom the person named, or whoever else has an account on
// the host and on this machine.
func (t *Try) findPerson(ctx context.Context, o TryOptions) error {
	if !o.Write {
		return nil
	}
	t.person = o.Person
	if strings.EqualFold(o.Person, t.login.Account.User) {
		return fault.New(fault.Usage, "%s is the account's own user: the person is to be somebody else", o.Person)
	}
	all, err := accounts.On(t.desk, t.login.Host.Name)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(a *accounts.Account) bool {
		return a.User != "" && !strings.EqualFold(a.User, t.login.Account.User) && (o.Person == "" || strings.EqualFold(a.User, o.Person))
	})
	if i < 0 {
		return nil
	}
	t.person = all[i].User
	t.other, err = login.Open(ctx, t.desk, all[i])
	if err == nil {
		t.other.Trace = t.note
	}
	return err
}

// Person is who would be let in and out again; "" for nobody.
func (t *Try) Person() string {
	if t.login.Host.Actions["people-grant"] == nil || len(t.login.Lacks("people-grant")) > 0 {
		return ""
	}
	return t.person
}

// right is the least right that the host can give.
func (t *Try) right(but string) string {
	words := t.login.Host.Words["right"]
	for _, r := range []string{"read", "write", "admin"} {
		if r != but && (len(words) == 0 || words[r] != nil) {
			return r
		}
	}
	return but
}

// lets lets the person into the scratch repository, and out again.
func (s *scratched) lets(ctx context.Context) {
	h := s.login.Host
	if s.person == "" || h.Actions["people-grant"] == nil || h.Actions["people-list"] == nil || h.Actions["people-withdraw"] == nil {
		return
	}
	was := ""
	if h.Actions["invitation-send"] != nil { // who is not among the people is asked first
		if was = s.right(""); !s.invites(ctx, was) {
			return
		}
	}
	right := s.right(was)
	given := s.act("people-grant", func() (string, error) {
		return s.person + " was given the right " + right + ", and is listed with it", s.sets(ctx, "people-grant", right)
	})
	if given || was != "" {
		s.act("people-withdraw", func() (string, error) {
			return s.person + " is out again, and not listed", s.sets(ctx, "people-withdraw", "")
		})
	}
}

// sets gives the person a right, or takes it, and looks whether the host lists it so.
func (s *scratched) sets(ctx context.Context, action, right string) error {
	vars, err := s.about(ctx)
	if err != nil {
		return err
	}
	vars["person"], vars["right"] = s.person, right
	if _, err := s.login.Do(ctx, action, "try "+action, vars); err != nil {
		return err
	}
	return s.may(ctx, right)
}

// may looks what the person may do: a right, or nothing.
func (s *scratched) may(ctx context.Context, right string) error {
	vars, err := s.about(ctx)
	if err != nil {
		return err
	}
	items, err := s.login.List(ctx, "people-list", "list people", vars)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(items, func(f map[string]any) bool { return strings.EqualFold(description.Written(f["user"]), s.person) })
	switch {
	case i < 0 && right != "":
		return fmt.Errorf("the host took it, and does not list %s among the people", s.person)
	case i >= 0 && right == "":
		return fmt.Errorf("the host took it, and still lists %s among the people", s.person)
	case i >= 0 && description.Written(items[i]["right"]) != right:
		return fmt.Errorf("it lists %s with the right %q, and %s was given", s.person, description.Written(items[i]["right"]), right)
	}
	return nil
}

// invites invites the person and takes that back; invites again for each answer, which the person's own account gives. It reports
// whether the person is in.
func (s *scratched) invites(ctx context.Context, right string) bool {
	h := s.login.Host
	send := func() bool {
		return s.act("invitation-send", func() (string, error) {
			vars, err := s.about(ctx)
			if err == nil {
				vars["person"], vars["right"] = s.person, right
				_, err = s.login.Do(ctx, "invitation-send", "try invitation-send", vars)
			}
			return s.person + " was invited", err
		})
	}
	if !send() {
		return false
	}
	back := false
	if h.Actions["invitation-sent"] != nil && h.Actions["invitation-withdraw"] != nil {
		id := ""
		listed := s.act("invitation-sent", func() (_ string, err error) {
			if id, err = s.waits(ctx); err == nil && id == "" {
				err = errors.New("the invitation was taken, and is not listed")
			}
			return "the invitation is listed", err
		})
		back = listed && s.act("invitation-withdraw", func() (string, error) {
			vars, err := s.about(ctx)
			if err != nil {
				return "", err
			}
			vars["id"] = id
			if _, err := s.login.Do(ctx, "invitation-withdraw", "try invitation-withdraw", vars); err != nil {
				return "", err
			}
			if left, err := s.waits(ctx); err != nil || left != "" {
				return "", errors.Join(err, errors.New("it was taken back, and is still listed"))
			}
			return "it was taken back, and is listed no more", nil
		})
	}
	if s.other == nil || h.Actions["invitation-list"] == nil || h.Actions["invitation-accept"] == nil {
		for _, name := range []string{"invitation-accept", "invitation-decline", "people-grant", "people-withdraw"} {
			if h.Actions[name] != nil {
				s.done(Tried{Action: name, How: NotTried, State: desk.Doubtful, Says: "it takes an account of " + s.person + "'s on this machine, to accept the invitation"})
			}
		}
		return false
	}
	if h.Actions["invitation-decline"] != nil {
		if back && !send() {
			return false
		}
		back = s.answers(ctx, "invitation-decline", "", s.person+" declined, and is not among the people")
	}
	return (!back || send()) && s.answers(ctx, "invitation-accept", right, s.person+" accepted, and is listed among the people")
}

// waits gives the id of the person's invitation that waits, or "".
func (s *scratched) waits(ctx context.Context) (string, error) {
	vars, err := s.about(ctx)
	if err != nil {
		return "", err
	}
	items, err := s.login.List(ctx, "invitation-sent", "list invitations", vars)
	for _, f := range items {
		if strings.EqualFold(description.Written(f["user"]), s.person) {
			return description.Written(f["id"]), err
		}
	}
	return "", err
}

// answers takes the invitation by the person's own account, or declines it; may is what the person may do then.
func (s *scratched) answers(ctx context.Context, action, may, says string) bool {
	id := ""
	there := s.by(s.other, "invitation-list", func() (string, error) {
		items, err := s.other.List(ctx, "invitation-list", "list invitations", nil)
		for _, f := range items {
			if description.Written(f["name"]) == s.made.Name && strings.EqualFold(description.Written(f["owner"]), s.made.Owner) {
				id = description.Written(f["id"])
			}
		}
		if err == nil && id == "" {
			err = fmt.Errorf("%s's list does not hold the invitation", s.person)
		}
		return s.person + " sees the invitation", err
	})
	return there && s.by(s.other, action, func() (string, error) {
		if _, err := s.other.Do(ctx, action, "try "+action, description.Vars{"id": id}); err != nil {
			return "", err
		}
		return says, s.may(ctx, may)
	})
}
