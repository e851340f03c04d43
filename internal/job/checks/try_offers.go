package checks

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/offering"
	"uncinate/internal/job/repositories"
)

// ofOffers are the actions that tell of one offer to merge.
var ofOffers = []string{"offer-show", "offer-remark-list", "offer-check-list"}

// offers tries what tells of one offer, on the first that there is.
func (t *Try) offers(ctx context.Context, one description.Repository) {
	described := slices.DeleteFunc(slices.Clone(ofOffers), func(name string) bool { return t.login.Host.Actions[name] == nil })
	if one.Name == "" || len(described) == 0 {
		return
	}
	all, _, err := offering.List(ctx, t.login, one, "", 1)
	if err != nil || len(all) == 0 {
		for _, name := range described {
			t.done(Tried{Action: name, How: NotTried, State: desk.Doubtful, Says: "there is no offer to " + one.Path() + " to try it on; --write makes one"})
		}
		return
	}
	t.ofOne(ctx, one, all[0])
}

// ofOne tries what tells of one offer.
func (t *Try) ofOne(ctx context.Context, one description.Repository, o offering.Offer) {
	for _, name := range ofOffers {
		if t.login.Host.Actions[name] == nil {
			continue
		}
		t.act(name, func() (string, error) {
			switch name {
			case "offer-remark-list":
				said, err := offering.Remarks(ctx, t.login, o)
				return text.Count(len(said), "remark"), err
			case "offer-check-list":
				said, err := offering.Checks(ctx, t.login, o)
				return text.Count(len(said), "check"), err
			}
			there, found, err := offering.Show(ctx, t.login, one, o.Number)
			switch {
			case err != nil:
				return "", err
			case !found:
				return "", fmt.Errorf("it does not show offer %s, which it lists", text.Visible(o.Number))
			case there.State == "":
				return "", errors.New("no state was read: [value.state] has no word for what the host says")
			}
			return "offer " + text.Visible(o.Number) + ", " + there.State, nil
		})
	}
}

// The branches of a scratch repository that are offered: one offer is closed, the other accepted.
const (
	toClose  = "uncinate-try-closed"
	toAccept = "uncinate-try-accepted"
)

// sends sends first commits to the scratch repository, by git.
func (s *scratched) sends(ctx context.Context) bool {
	s.tell("git")
	s.seen = nil
	r := Tried{Action: "git", How: Wrote, State: desk.Good, Says: "three branches were sent"}
	a, main := s.login.Account, cmp.Or(s.made.DefaultBranch, "main")
	err := login.MaySend(s.desk, a)
	if err == nil {
		var found bool
		if s.made, found, err = s.login.Repository(ctx, s.made.Owner, s.made.Name); err == nil && !found {
			err = errors.New("the scratch repository is not shown")
		}
	}
	if err == nil {
		file := func(s string) map[string]string { return map[string]string{s + ".txt": s + "\n"} }
		err = repositories.SendLoose(ctx, s.desk, s.login, s.made, cmp.Or(a.FullName, a.User), cmp.Or(a.Email, "nobody@uncinate.invalid"),
			repositories.Loose{Branch: main, Says: "First\n", Files: file("first")}, repositories.Loose{Branch: toClose, On: main, Says: "Closed\n", Files: file("closed")},
			repositories.Loose{Branch: toAccept, On: main, Says: "Accepted\n", Files: file("accepted")})
	}
	if err != nil {
		f := fault.Of(err)
		r.State, r.Says, r.Read = desk.Bad, f.Says, f.Details
	}
	s.done(r)
	return err == nil
}

// offered offers the scratch repository's branches, closes one offer, and accepts the other.
func (s *scratched) offered(ctx context.Context) {
	h := s.login.Host
	if h.Actions["offer-make"] == nil || h.Actions["offer-list"] == nil || h.Actions["offer-show"] == nil {
		return
	}
	o, made := s.offer(ctx, toClose)
	if !made {
		return
	}
	s.act("offer-list", func() (string, error) {
		all, _, err := offering.List(ctx, s.login, s.made, "open", 100)
		if err == nil && !slices.ContainsFunc(all, func(x offering.Offer) bool { return x.Number == o.Number && x.Open() }) {
			err = fmt.Errorf("the list does not hold offer %s as an open one", text.Visible(o.Number))
		}
		return "it is listed", err
	})
	s.ofOne(ctx, s.made, o)
	s.ends(ctx, "offer-close", "closed", o, o.Vars())
	if h.Actions["offer-accept"] == nil {
		return
	}
	if o, made = s.offer(ctx, toAccept); made {
		vars := o.Vars()
		vars["text"], vars["removing"] = "", false
		if ways := offering.Ways(s.login); len(ways) > 0 {
			vars["way"] = ways[0]
		}
		s.ends(ctx, "offer-accept", "accepted", o, vars)
	}
}

// offer makes an offer of a branch, and looks whether it is shown as it was made.
func (s *scratched) offer(ctx context.Context, branch string) (o offering.Offer, made bool) {
	made = s.act("offer-make", func() (string, error) {
		vars, err := s.about(ctx)
		if err != nil {
			return "", err
		}
		target := cmp.Or(s.made.DefaultBranch, "main")
		for name, v := range (description.Vars{"branch": branch, "target": target, "title": "Try " + branch, "text": scratchSays, "removing": false, "from_owner": s.made.Owner, "from_name": s.made.Name}) {
			vars[name] = v
		}
		f, err := s.login.Do(ctx, "offer-make", "try offer-make", vars)
		if err != nil {
			return "", err
		}
		number := description.Written(f["number"])
		if number == "" {
			return "", errors.New("no number was read of the offer that was made")
		}
		there, found, err := offering.Show(ctx, s.login, s.made, number)
		switch {
		case err != nil:
			return "", err
		case !found:
			return "", fmt.Errorf("offer %s was made, and is not shown", text.Visible(number))
		case !there.Open() || there.Branch != branch || there.Target != target:
			return "", fmt.Errorf("offer %s is %s, of %s into %s, and %s into %s was offered", text.Visible(number), text.Quote(there.State), text.Quote(there.Branch), text.Quote(there.Target), branch, target)
		}
		o = there
		return "an offer was made, and is shown", nil
	})
	return o, made
}

// ends closes or accepts an offer, and looks whether it is shown so.
func (s *scratched) ends(ctx context.Context, action, state string, o offering.Offer, vars description.Vars) {
	s.act(action, func() (string, error) {
		if _, err := s.login.Do(ctx, action, "try "+action, vars); err != nil {
			return "", err
		}
		there, found, err := offering.Show(ctx, s.login, s.made, o.Number)
		if err == nil && (!found || there.State != state) {
			err = fmt.Errorf("the host took it, and shows the offer as %s", text.Quote(there.State))
		}
		return "it is " + state + ", and shown so", err
	})
}
