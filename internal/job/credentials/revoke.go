package credentials

import (
	"context"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
)

// RevokeKeys plans to remove the keys of a machine from the hosts of the accounts, or of
// all accounts.
func RevokeKeys(ctx context.Context, d *desk.Desk, machine string, holders []string) (*KeyChange, error) {
	c := &KeyChange{Change: desk.Change{Desk: d, Job: "key-revoke", Subject: machine, AsWas: "What was removed stays removed; the rest is as it was.", Head: "To shut the machine " + machine + " out:"}}
	seen, err := ofMachine(ctx, &c.Change, machine, holders, func(a *accounts.Account, seen map[string]bool) error {
		return revokeOf(ctx, d, a, machine, c, seen)
	})
	if err != nil {
		return nil, err
	}
	if len(c.Steps) == 0 {
		return nil, noneOf(&c.Change, seen, "keys", fault.New(fault.Failed, "no host shows a key of a machine named %s", text.Quote(machine))).Try("see the keys there are", "uncinate key list")
	}
	c.Notes = append(c.Notes, "Tokens that are on that machine are not keys. To end them too: uncinate token revoke --machine "+text.Quote(machine))
	if mine, err := d.Machine(); err == nil && machine == mine {
		c.Notes = append(c.Notes, "This is the machine you are on: its own keys will no longer open anything.")
	}
	return c, nil
}

// revokeOf adds the steps that remove a machine's keys of one account; seen gathers the other
// machines whose keys are met.
func revokeOf(ctx context.Context, d *desk.Desk, a *accounts.Account, machine string, c *KeyChange, seen map[string]bool) error {
	l, err := login.Open(ctx, d, a)
	if err == nil {
		err = l.May("key-remove", "remove keys")
	}
	if err != nil {
		return err
	}
	for _, kind := range []string{"", "signing-"} {
		if l.Host.Actions[kind+"key-list"] == nil || l.Host.Actions[kind+"key-remove"] == nil {
			continue
		}
		entries, err := l.HostKeys(ctx, kind)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if sshkey.MachineOf(e.Title) != machine {
				others(c, seen, e.Title)
				continue
			}
			what := "Remove the key " + e.Half.Fingerprint() + " (" + text.Visible(e.Title) + ") of account " + a.Name + " from " + l.Host.Name
			if kind != "" {
				what = "Remove the signing key " + e.Half.Fingerprint() + " of account " + a.Name + " from " + l.Host.Name
			}
			c.Host = l.Host.Name
			c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "remove " + kind + e.ID + " " + a.Name, Place: plan.Host, Sentence: what},
				Do: func(ctx context.Context) error { return removeKey(ctx, l, kind, e.Half) }})
		}
	}
	return nil
}

// others notes the machines whose keys were seen.
func others(c *KeyChange, seen map[string]bool, title string) {
	if m := sshkey.MachineOf(title); m != "" {
		seen[m] = true
	}
}
