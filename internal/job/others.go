package job

import (
	"context"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// The wrong one of several accounts on a host is told "not found" of a repository that
// is there. So the others are asked, silently: what opens the vault is asked for by
// nobody, and a host that does not answer is passed over.

// whoCan lists the accounts on a host, but for one, for which ask says yes.
func (d *Desk) whoCan(ctx context.Context, host string, but *Account, ask func(*login) bool) []string {
	all, err := d.AccountsOn(host)
	if err != nil {
		return nil // only a hint is lost
	}
	var names []string
	for _, a := range all {
		if but != nil && a.Name == but.Name || ctx.Err() != nil {
			continue
		}
		h, err := d.hostOf(a)
		if err != nil {
			continue
		}
		token := ""
		if !a.NoToken {
			if token, err = d.token(ctx, a, false); err != nil {
				continue
			}
		}
		if ask(&login{desk: d, Host: h, Account: a, token: token}) {
			names = append(names, a.Name)
		}
	}
	return names
}

// whoSees lists the other accounts that can see a repository; with write, those that
// may send to it, as far as the host tells.
func (d *Desk) whoSees(ctx context.Context, host string, but *Account, owner, name string, write bool) []string {
	return d.whoCan(ctx, host, but, func(l *login) bool {
		there, found, err := l.repository(ctx, owner, name)
		return err == nil && found && (!write || slices.Contains([]string{"write", "admin"}, there.Right))
	})
}

// whoCreates lists the other accounts that may make repositories for an owner.
func (d *Desk) whoCreates(ctx context.Context, host string, but *Account, owner string) []string {
	return d.whoCan(ctx, host, but, func(l *login) bool {
		if l.Account.User == owner {
			return true
		}
		items, err := l.list(ctx, "owner-list", "list owners", nil)
		return err == nil && slices.ContainsFunc(items, func(i map[string]any) bool { return i["owner"] == owner })
	})
}

// others puts the accounts that can do it into a fault, each with the command that
// uses it.
func others(f *fault.Fault, names []string, can string, command func(account string) string) *fault.Fault {
	if len(names) == 0 {
		return f
	}
	accounts := "account " + names[0]
	if len(names) > 1 {
		accounts = "accounts " + strings.Join(names, " and ")
	}
	out := *f
	out.Details = append(slices.Clone(f.Details), "Your "+accounts+" can "+can+".")
	out.Remedies = nil
	for _, name := range names {
		out.Try("use "+name, command(name))
	}
	out.Remedies = append(out.Remedies, f.Remedies...)
	return &out
}

// rightAccount adds to a refusal, met in a hooked project, which other account can see
// the repository.
func (d *Desk) rightAccount(ctx context.Context, h *hook, err error) error {
	if h.account == nil || h.account.Host == "" || !fault.Is(err, fault.HostSaidNo) || ctx.Err() != nil {
		return err
	}
	_, owner, name, known := d.Recognise(h.address.String())
	if known != nil || name == "" {
		return err
	}
	names := d.whoSees(ctx, h.account.Host, h.account, owner, name, false)
	return others(fault.Of(err), names, "see it", func(account string) string {
		return text.Command("uncinate", "attach", "--account", account, h.repo.Dir)
	})
}

// readOnly finds out whether a failed push failed because the account may only read.
func (d *Desk) readOnly(ctx context.Context, h *hook) error {
	if h.account == nil || h.account.Host == "" {
		return nil
	}
	_, owner, name, err := d.Recognise(h.address.String())
	if err != nil || name == "" {
		return nil
	}
	l, err := d.login(ctx, h.account)
	if err != nil {
		return nil
	}
	there, found, err := l.repository(ctx, owner, name)
	if err != nil || !found || there.Right != "read" {
		return nil
	}
	f := fault.New(fault.HostSaidNo, "account %s may only read %s", h.account.Name, there.Path())
	return others(f, d.whoSees(ctx, h.account.Host, h.account, owner, name, true), "send to it", func(account string) string {
		return text.Command("uncinate", "attach", "--account", account, h.repo.Dir)
	})
}

// checkOwner makes sure, where the host tells, that the account may make repositories
// for an owner, and lists the owners it may choose otherwise.
func (a *Attach) checkOwner(ctx context.Context, owner, name string) error {
	if owner == a.login.Account.User || a.login.may("owner-list", "") != nil {
		return nil
	}
	items, err := a.login.list(ctx, "owner-list", "list owners", nil)
	if err != nil {
		return err
	}
	owners := []string{a.login.Account.User}
	for _, i := range items {
		if o, ok := i["owner"].(string); ok && !slices.Contains(owners, o) {
			owners = append(owners, o)
		}
	}
	if slices.Contains(owners, owner) {
		return nil
	}
	f := fault.New(fault.HostSaidNo, "on %s the account %s cannot make repositories for %s", a.login.Host.Name, a.login.Account.Name, text.Quote(owner))
	names := a.desk.whoCreates(ctx, a.login.Host.Name, a.login.Account, owner)
	if len(names) > 0 {
		return others(f, names, "make repositories for "+owner, func(account string) string { return a.again("--account", account, "--name", owner+"/"+name) })
	}
	f.Detail("The owners to choose from are %s.", text.Excerpt(strings.Join(owners, ", "), 300))
	if near := text.Nearest(owner, owners); near != "" {
		owners = []string{near}
	}
	for _, o := range owners[:min(len(owners), 4)] {
		f.Try("for "+o, a.again("--name", o+"/"+name))
	}
	return f
}
