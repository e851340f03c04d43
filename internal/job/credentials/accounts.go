package credentials

import (
	"context"
	"slices"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
)

// ForgetAccount makes this machine forget an account and its token. Projects hooked
// with it stay, without sign-in; their number is given.
func ForgetAccount(ctx context.Context, d *desk.Desk, name string) (int, error) {
	all, err := accounts.All(d)
	if err != nil {
		return 0, err
	}
	a, err := accounts.Named(d, name)
	if err != nil {
		return 0, err
	}
	projects, err := project.Register(d)
	if err != nil {
		return 0, err
	}
	hooked := 0
	for _, p := range projects {
		if p.Account == name {
			hooked++
		}
	}
	if !a.NoToken {
		if err := accounts.Drop(ctx, d, a); err != nil {
			return 0, err
		}
	}
	return hooked, files.WriteJSON(accounts.AccountsFile(d), slices.DeleteFunc(all, func(b *accounts.Account) bool { return b.Name == name }))
}

// ChooseOver chooses the transport of an account's projects.
func ChooseOver(d *desk.Desk, name, over string) (*accounts.Account, error) {
	a, err := accounts.Named(d, name)
	if err != nil {
		return nil, err
	}
	switch over {
	case "https":
	case "ssh":
		k, err := accounts.KeyOf(d, a.Name, accounts.KeyInForce)
		if err == nil && k == nil {
			err = accounts.NoKey(d, a)
		}
		if err != nil {
			return nil, err
		}
	default:
		return nil, fault.New(fault.Usage, "an account's projects go over https or ssh").Try("", text.Command("uncinate", "account", "choose", name, "--over", "ssh"))
	}
	a.Over = over
	return a, accounts.NoteAccount(d, a)
}
