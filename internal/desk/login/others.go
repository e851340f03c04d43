package login

import (
	"context"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
)

// The wrong one of several accounts on a host is told "not found" of a repository that
// is there. So the others are asked, silently: what opens the vault is asked for by
// nobody, and a host that does not answer is passed over.

// WhoCan lists the accounts on a host, but for one, for which ask says yes.
func WhoCan(ctx context.Context, d *desk.Desk, host string, but *accounts.Account, ask func(*Login) bool) []string {
	all, err := accounts.On(d, host)
	if err != nil {
		return nil // only a hint is lost
	}
	var names []string
	for _, a := range all {
		if but != nil && a.Name == but.Name || ctx.Err() != nil {
			continue
		}
		h, err := accounts.HostOf(d, a)
		if err != nil {
			continue
		}
		token := ""
		if !a.NoToken {
			if token, err = accounts.Token(ctx, d, a, false); err != nil {
				continue
			}
		}
		if ask(&Login{Desk: d, Host: h, Account: a, Token: token}) {
			names = append(names, a.Name)
		}
	}
	return names
}

// WhoSees lists the other accounts that can see a repository; with write, those that
// may send to it, as far as the host tells.
func WhoSees(ctx context.Context, d *desk.Desk, host string, but *accounts.Account, owner, name string, write bool) []string {
	return WhoCan(ctx, d, host, but, func(l *Login) bool {
		there, found, err := l.Repository(ctx, owner, name)
		return err == nil && found && (!write || slices.Contains([]string{"write", "admin"}, there.Right))
	})
}

// WhoCreates lists the other accounts that may make repositories for an owner.
func WhoCreates(ctx context.Context, d *desk.Desk, host string, but *accounts.Account, owner string) []string {
	return WhoCan(ctx, d, host, but, func(l *Login) bool {
		if l.Account.User == owner {
			return true
		}
		items, err := l.List(ctx, "owner-list", "list owners", nil)
		return err == nil && slices.ContainsFunc(items, func(i map[string]any) bool { return i["owner"] == owner })
	})
}

// Others puts the accounts that can do it into a fault, each with the command that
// uses it.
func Others(f *fault.Fault, names []string, can string, command func(account string) string) *fault.Fault {
	if len(names) == 0 {
		return f
	}
	holders := "account " + names[0]
	if len(names) > 1 {
		holders = "accounts " + strings.Join(names, " and ")
	}
	out := *f
	out.Details = append(slices.Clone(f.Details), "Your "+holders+" can "+can+".")
	out.Remedies = nil
	for _, name := range names {
		out.Try("use "+name, command(name))
	}
	out.Remedies = append(out.Remedies, f.Remedies...)
	return &out
}
