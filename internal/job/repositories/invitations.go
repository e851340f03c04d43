package repositories

import (
	"context"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
)

// Invitation is one to an account of ours.
type Invitation struct {
	ID         string    `json:"id"`
	Repository string    `json:"repository"`
	Right      string    `json:"right,omitempty" says:"read, write or admin; or the host's own word"`
	By         string    `json:"by,omitempty" says:"who invites"`
	Sent       time.Time `json:"sent,omitzero"`
	Host       string    `json:"host"`
	Account    string    `json:"account"`
}

// Invitations lists the invitations to an account, or to all; what could not be asked is told in notes.
func Invitations(ctx context.Context, d *desk.Desk, account string) (out []Invitation, notes []string, err error) {
	all, err := OneOrAll(d, account)
	if err != nil {
		return nil, nil, err
	}
	out = []Invitation{}
	asked := 0
	var silent []string
	for _, a := range all {
		if a.Host == "" {
			continue
		}
		asked++
		if h, err := accounts.HostOf(d, a); err == nil && h.Actions["invitation-list"] == nil && account == "" {
			if !slices.Contains(silent, h.Name) {
				silent = append(silent, h.Name)
			}
			continue
		}
		items, err := invitationsTo(ctx, d, a)
		if err != nil && (ctx.Err() != nil || account != "") {
			return nil, nil, err
		}
		if err != nil {
			notes = append(notes, "Account "+a.Name+" on "+a.Host+": "+fault.Of(err).Says+".")
		}
		out = append(out, items...)
	}
	if asked == 0 {
		return nil, nil, accounts.NoneYet(d)
	}
	if len(silent) > 0 {
		notes = append(notes, "Not asked, since their descriptions have no action invitation-list: "+strings.Join(silent, ", ")+". They show invitations on their own pages.")
	}
	return out, notes, nil
}

func invitationsTo(ctx context.Context, d *desk.Desk, a *accounts.Account) ([]Invitation, error) {
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return nil, err
	}
	if err := l.May("invitation-list", "list invitations"); err != nil {
		return nil, err
	}
	items, err := l.List(ctx, "invitation-list", "list the invitations to "+a.User, nil)
	var out []Invitation
	for _, i := range items {
		x := Invitation{ID: description.Written(i["id"]), Repository: description.Written(i["owner"]) + "/" + description.Written(i["name"]), Right: description.Written(i["right"]),
			By: description.Written(i["creator"]), Host: l.Host.Name, Account: a.Name}
		x.Sent, _ = i["created"].(time.Time)
		if x.ID != "" {
			out = append(out, x)
		}
	}
	return out, err
}

// invitationFor finds the one that is meant: by the repository, its last name, or the host's id.
func invitationFor(ctx context.Context, d *desk.Desk, account, what, verb string) (Invitation, error) {
	all, notes, err := Invitations(ctx, d, account)
	if err != nil {
		return Invitation{}, err
	}
	var meant []Invitation
	var names []string
	for _, i := range all {
		names = append(names, i.Repository)
		if _, name := naming.Split(i.Repository); i.Repository == what || i.ID == what || name == what {
			meant = append(meant, i)
		}
	}
	switch {
	case len(meant) == 1:
		return meant[0], nil
	case len(meant) > 1:
		f := fault.New(fault.Usage, "several invitations are to %s", text.Quote(what))
		for _, i := range meant {
			f.Try("the one to "+i.Account, text.Command(text.WithOperand([]string{"uncinate", "invitation", verb}, i.Repository, "--account", i.Account)...))
		}
		return Invitation{}, f
	}
	f := fault.New(fault.Failed, "there is no invitation to %s", text.Quote(what))
	if near := text.Nearest(what, names); near != "" {
		f.Detail("Did you mean %s?", text.Visible(near))
	}
	for _, n := range notes {
		f.Detail("%s", n)
	}
	return Invitation{}, f.Try("see those that there are", "uncinate invitation list")
}

// Answer plans to take an invitation, or to decline it. What the change is about is the repository.
func Answer(ctx context.Context, d *desk.Desk, account, what string, takes bool) (*desk.Change, *Invitation, error) {
	verb := text.Either(takes, "accept", "decline")
	i, err := invitationFor(ctx, d, account, what, verb)
	job := "invitation-" + verb
	c := &desk.Change{Desk: d, Job: job, Subject: text.Excerpt(what, 200), AsWas: "It waits still.", About: i.Repository,
		Line: text.Command(text.WithOperand([]string{"uncinate", "invitation", verb}, what)...)}
	if err != nil {
		if before, look := c.GoesOn(); look == nil && before != nil && fault.Is(err, fault.Failed) { // it was answered before this was cut off
			c.Notes = []string{"It was answered before this was cut off."}
			return c, nil, c.GiveUp()
		}
		return nil, nil, err
	}
	a, err := accounts.Named(d, i.Account)
	if err != nil {
		return nil, nil, err
	}
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return nil, nil, err
	}
	if err := l.May(job, text.Either(takes, "take invitations", "decline invitations")); err != nil {
		return nil, nil, err
	}
	shown := text.Visible(i.Repository)
	c.Host = l.Host.Name
	c.Head = text.Either(takes, "To accept the invitation to ", "To decline the invitation to ") + shown + ":"
	words := text.Either(takes, "Accept the invitation to ", "Decline the invitation to ") + shown
	if i.By != "" {
		words += " by " + text.Visible(i.By)
	}
	if i.Right != "" && takes {
		words += ", as " + text.Visible(a.User) + ": then you may " + strings.TrimSuffix(says(i.Right), ",") + " it"
	}
	c.Steps = []desk.Step{{Item: plan.Item{ID: job, Place: plan.Host, Sentence: words},
		Do: func(ctx context.Context) error {
			waits := func() (bool, error) {
				all, err := invitationsTo(ctx, d, a)
				return slices.ContainsFunc(all, func(x Invitation) bool { return x.ID == i.ID }), err
			}
			_, err := l.Do(ctx, job, strings.ToLower(words[:1])+words[1:], description.Vars{"id": i.ID})
			if login.Means(err, description.NotFound) {
				return fault.New(fault.HostSaidNo, "the invitation to %s was taken back meanwhile", shown).Because(err)
			}
			if err := login.Lost(err, func() (bool, error) { still, err := waits(); return !still, err }); err != nil {
				return err
			}
			if still, err := waits(); err != nil || still {
				return fault.New(fault.Failed, "%s took the answer, and lists the invitation still", l.Host.Name).Because(err)
			}
			return nil
		}}}
	return c, &i, nil
}
