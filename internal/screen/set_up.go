package screen

import (
	"cmp"
	"context"
	"errors"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
)

// setUp sets an account up in the middle of another command. again says that the
// command is worth another try.
func (e *Env) setUp(ctx context.Context, d *desk.Desk, host string, why error) (again bool, err error) {
	holders, listErr := accounts.All(d)
	if listErr != nil || len(holders) > 0 || !fault.Is(why, fault.Decision) {
		return false, errors.Join(why, listErr)
	}
	listed, err := hosts.All(d)
	if err != nil {
		return false, err
	}
	if len(listed) == 0 {
		h, err := e.firstHost(ctx, d)
		if err != nil {
			return false, err
		}
		listed = []*hosts.Host{h}
	}
	if host == "" {
		var known []string
		for _, h := range listed {
			known = append(known, h.Name)
		}
		if host = known[0]; len(known) > 1 {
			answer, err := e.ask(ctx, "On which host is your account ("+strings.Join(known, ", ")+"; Enter for "+host+")? ")
			if err != nil {
				return false, err
			}
			host = cmp.Or(answer, host)
		}
	}
	e.Aside("There is no account on this machine yet; one is set up on %s now, then this goes on.", host)
	return true, e.addAccount(ctx, d, accounts.Account{Host: host}, "token", true)
}

// firstHost makes a host known in the middle of another command.
func (e *Env) firstHost(ctx context.Context, d *desk.Desk) (*hosts.Host, error) {
	e.Aside("No host is known on this machine yet. Give its address, where it publishes a")
	e.Aside("description of itself, or the path of a file that describes it.")
	answer, err := e.ask(ctx, "Your host (Enter to stop): ")
	if err != nil {
		return nil, err
	}
	if answer == "" {
		return nil, fault.New(fault.Decision, "no host is known yet on this machine").
			Try("add one by its address, or by a description of it", "uncinate host add ADDRESS").
			Try("or use the address of a repository that is there already", "uncinate attach --to ADDRESS")
	}
	a, err := planHost(ctx, d, answer, "", "")
	if err != nil {
		return nil, err
	}
	if err := e.addHost(ctx, d, a, answer, plans{}, true); err != nil {
		return nil, err
	}
	return hosts.Named(d, a.Host.Name)
}
