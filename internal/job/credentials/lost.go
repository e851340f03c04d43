package credentials

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
)

// EndTokens plans to end the tokens of a machine on the hosts of the accounts, or of all accounts. A host tells
// them apart by the names that they have there.
func EndTokens(ctx context.Context, d *desk.Desk, machine string, holders []string) (*desk.Change, error) {
	c := &desk.Change{Desk: d, Job: "token-end", Subject: machine, About: machine, AsWas: "What was ended stays ended; the rest is as it was.", Head: "To end the tokens of the machine " + machine + ":"}
	seen, err := ofMachine(ctx, c, machine, holders, func(a *accounts.Account, seen map[string]bool) error {
		if a.NoToken {
			return nil
		}
		return endTokensOf(ctx, d, a, machine, c, seen)
	})
	if err != nil {
		return nil, err
	}
	if len(c.Steps) == 0 {
		return nil, noneOf(c, seen, "tokens", fault.New(fault.Failed, "no host lists a token of a machine named %s", text.Quote(machine))).Try("see your tokens", "uncinate token list")
	}
	if mine, err := d.Machine(); err == nil && machine == mine {
		c.Notes = append(c.Notes, "This is the machine you are on: its own tokens will no longer open anything.")
	}
	c.Notes = append(c.Notes, "Keys that are on that machine are not tokens: uncinate key revoke --machine "+text.Quote(machine))
	return c, nil
}

// ofMachine looks through the accounts, or all, for what a machine has on their hosts, and notes those that cannot be
// looked at; seen are the other machines that were met.
func ofMachine(ctx context.Context, c *desk.Change, machine string, holders []string, look func(*accounts.Account, map[string]bool) error) (seen map[string]bool, err error) {
	if err := sshkey.CheckMachine(machine); err != nil {
		return nil, err
	}
	all, err := accounts.All(c.Desk)
	if err != nil {
		return nil, err
	}
	for _, name := range holders {
		if _, err := accounts.Named(c.Desk, name); err != nil {
			return nil, err
		}
	}
	seen = map[string]bool{}
	for _, a := range all {
		if a.Host == "" || len(holders) > 0 && !slices.Contains(holders, a.Name) {
			continue
		}
		if err := look(a, seen); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			c.Notes = append(c.Notes, "Account "+a.Name+" could not be looked at: "+fault.Of(err).Says+".")
		}
	}
	return seen, nil
}

// noneOf adds what was met to the fault where nothing of a machine was found.
func noneOf(c *desk.Change, seen map[string]bool, what string, f *fault.Fault) *fault.Fault {
	for _, n := range c.Notes {
		f.Detail("%s", n)
	}
	for _, other := range slices.Sorted(maps.Keys(seen)) {
		f.Detail("There are %s of the machine %s.", what, other)
	}
	return f
}

// endTokensOf adds the steps for one account.
func endTokensOf(ctx context.Context, d *desk.Desk, a *accounts.Account, machine string, c *desk.Change, seen map[string]bool) error {
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return err
	}
	if l.Host.Actions["token-list"] == nil || l.Host.Actions["token-end"] == nil {
		says := l.Host.Name + " does not list tokens: those of " + a.Name + " are ended on its page"
		if page := l.Host.PageFor("token"); page != "" {
			says += ", " + page
		}
		c.Notes = append(c.Notes, says+".")
		return nil
	}
	items, err := l.List(ctx, "token-list", "list the tokens of "+a.User, nil)
	if err != nil {
		return err
	}
	nameless := 0
	for _, x := range items {
		id, title := description.Written(x["id"]), description.Written(x["title"])
		m := sshkey.MachineOf(title)
		switch {
		case m == "":
			nameless++
		case m != machine:
			seen[m] = true
		case id != "":
			c.Host = l.Host.Name
			c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "end " + a.Name + " " + id, Place: plan.Host, Sentence: fmt.Sprintf("End the token \"%s\" of account %s on %s", text.Excerpt(title, 80), a.Name, l.Host.Name)},
				Do: func(ctx context.Context) error { return endToken(ctx, l, a, id) }})
		}
	}
	if nameless > 0 {
		c.Notes = append(c.Notes, fmt.Sprintf("%s of %s on %s %s no machine's name, and %s.", text.Count(nameless, "token"), a.Name, l.Host.Name, text.Either(nameless == 1, "has", "have"), text.Either(nameless == 1, "stays", "stay")))
	}
	return nil
}

// endToken ends one, and makes sure that it is no longer listed.
func endToken(ctx context.Context, l *login.Login, a *accounts.Account, id string) error {
	gone := func() (bool, error) {
		items, err := l.List(ctx, "token-list", "list the tokens of "+a.User, nil)
		if login.Means(err, description.NotSignedIn) || login.Means(err, description.TokenEnded) {
			return true, nil // it was the one that asks
		}
		return err == nil && !slices.ContainsFunc(items, func(x map[string]any) bool { return description.Written(x["id"]) == id }), err
	}
	_, err := l.Do(ctx, "token-end", "end a token of "+a.User, description.Vars{"id": id})
	if login.Means(err, description.NotFound) {
		err = nil
	}
	if err := login.Lost(err, gone); err != nil {
		return err
	}
	done, err := gone()
	if err == nil && !done {
		err = errors.Join(err, fault.New(fault.Failed, "%s took the request, and lists the token still", l.Host.Name))
	}
	return err
}
