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
	if err := sshkey.CheckMachine(machine); err != nil {
		return nil, err
	}
	all, err := accounts.All(d)
	if err != nil {
		return nil, err
	}
	for _, name := range holders {
		if _, err := accounts.Named(d, name); err != nil {
			return nil, err
		}
	}
	c := &desk.Change{Desk: d, Job: "token-end", Subject: machine, About: machine, AsWas: "What was ended stays ended; the rest is as it was.", Head: "To end the tokens of the machine " + machine + ":"}
	seen, looked := map[string]bool{}, 0
	for _, a := range all {
		if a.Host == "" || a.NoToken || len(holders) > 0 && !slices.Contains(holders, a.Name) {
			continue
		}
		asked, err := endTokensOf(ctx, d, a, machine, c, seen)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			c.Notes = append(c.Notes, "Account "+a.Name+" could not be looked at: "+fault.Of(err).Says+".")
		} else if asked {
			looked++
		}
	}
	if len(c.Steps) == 0 {
		f := fault.New(fault.Failed, "no host lists a token of a machine named %s", text.Quote(machine))
		for _, n := range c.Notes {
			f.Detail("%s", n)
		}
		for _, other := range slices.Sorted(maps.Keys(seen)) {
			f.Detail("There are tokens of the machine %s.", other)
		}
		return nil, f.Try("see your tokens", "uncinate token list")
	}
	if mine, err := d.Machine(); err == nil && machine == mine {
		c.Notes = append(c.Notes, "This is the machine you are on: its own tokens will no longer open anything.")
	}
	c.Notes = append(c.Notes, "Keys that are on that machine are not tokens: uncinate key revoke --machine "+text.Quote(machine))
	return c, nil
}

// endTokensOf adds the steps for one account; asked tells that its host lists tokens at all.
func endTokensOf(ctx context.Context, d *desk.Desk, a *accounts.Account, machine string, c *desk.Change, seen map[string]bool) (asked bool, err error) {
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return false, err
	}
	if l.Host.Actions["token-list"] == nil || l.Host.Actions["token-end"] == nil {
		says := l.Host.Name + " does not list tokens: those of " + a.Name + " are ended on its page"
		if page := l.Host.PageFor("token"); page != "" {
			says += ", " + page
		}
		c.Notes = append(c.Notes, says+".")
		return false, nil
	}
	items, err := l.List(ctx, "token-list", "list the tokens of "+a.User, nil)
	if err != nil {
		return true, err
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
	return true, nil
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
