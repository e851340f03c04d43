package credentials

import (
	"cmp"
	"context"
	"slices"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
)

// ForgetAccount makes this machine forget an account and its token. Projects attached
// with it stay, without sign-in; their number is given.
// With preview nothing is forgotten.
func ForgetAccount(ctx context.Context, d *desk.Desk, name string, preview bool) (int, error) {
	a, err := accounts.Named(d, name)
	if err != nil {
		return 0, err
	}
	projects, err := project.Register(d)
	if err != nil {
		return 0, err
	}
	attached := 0
	for _, p := range projects {
		if p.Account == name {
			attached++
		}
	}
	if preview {
		return attached, nil
	}
	if !a.NoToken {
		if err := accounts.Drop(ctx, d, a); err != nil {
			return 0, err
		}
	}
	if err := files.RemoveAll(accounts.AnswersOf(d, a.Name)); err != nil { // what its host told it goes with it
		return 0, fault.New(fault.Failed, "what was kept of the host's answers cannot be removed").Because(err)
	}
	return attached, accounts.Alter(ctx, d, func(all []*accounts.Account) ([]*accounts.Account, error) {
		return slices.DeleteFunc(all, func(b *accounts.Account) bool { return b.Name == name }), nil
	})
}

// AccountChange is what is wanted of an account. Empty fields stay as they are.
type AccountChange struct {
	Over     string // https or ssh
	Default  bool   // it becomes the default one of its host
	FullName string
	Email    string
}

// ChangeAccount plans to change an account: how its projects go, which of its host's accounts is the
// default one, and the name and e-mail of commits. No host is asked.
func ChangeAccount(d *desk.Desk, name string, c AccountChange) (*desk.Change, error) {
	a, err := accounts.Named(d, name)
	if err != nil {
		return nil, err
	}
	switch c.Over {
	case "", "https":
	case "ssh":
		k, err := accounts.KeyOf(d, a.Name, accounts.KeyInForce)
		if err == nil && k == nil {
			err = accounts.NoKey(d, a)
		}
		if err != nil {
			return nil, err
		}
	default:
		return nil, fault.New(fault.Usage, "the transport is https or ssh, not %s", text.Quote(c.Over)).Try("", text.Command("uncinate", "account", "change", name, "--over", "ssh"))
	}
	if c.Default && a.Host == "" {
		return nil, fault.New(fault.Usage, "the account %s is for one address, and cannot be a host's default", name)
	}
	out := &desk.Change{Desk: d, Job: "account-change", Subject: "account " + name, AsWas: "It is as it was.", About: name, Head: "To change the account " + name + ":"}
	set := func(id, sentence string, how func(*accounts.Account)) {
		out.Steps = append(out.Steps, desk.Step{Item: plan.Item{ID: id, Place: plan.Here, Sentence: sentence},
			Do: func(ctx context.Context) error { return accounts.ChangeAll(ctx, d, how) }})
	}
	if c.Over != "" && c.Over != cmp.Or(a.Over, "https") {
		set("over", "Let new projects of "+name+" use "+c.Over, func(b *accounts.Account) {
			if b.Name == name {
				b.Over = c.Over
			}
		})
	}
	if c.Default && !a.Default {
		set("default", "Make "+name+" the default account on "+a.Host, func(b *accounts.Account) {
			if b.Host == a.Host {
				b.Default = b.Name == name
			}
		})
	}
	if who := (accounts.Account{FullName: cmp.Or(c.FullName, a.FullName), Email: cmp.Or(c.Email, a.Email)}); who.FullName != a.FullName || who.Email != a.Email {
		set("who", "Set the name and e-mail for its commits to "+text.Visible(who.FullName)+" <"+text.Visible(who.Email)+">", func(b *accounts.Account) {
			if b.Name == name {
				b.FullName, b.Email = who.FullName, who.Email
			}
		})
	}
	return out, nil
}
