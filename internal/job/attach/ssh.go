package attach

import (
	"context"
	"os"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/web"
)

// transport gives the clone address to go by: as asked for, else as the project goes
// already, else as the address that was pasted, else as the account prefers.
func (a *Attach) transport() (string, error) {
	over := a.Options.Over
	switch {
	case over != "" && over != "ssh" && over != "https":
		f := fault.New(fault.Usage, "git goes over https or ssh, not over %s", text.Quote(over))
		if near := text.Nearest(over, []string{"https", "ssh"}); near != "" {
			f.Try("", a.Again("--over", near))
		}
		return "", f
	case a.Login == nil:
		if standing, err := address.Parse(a.Target.HTTPS); err == nil && over != "" && (standing.Scheme == "ssh") != (over == "ssh") {
			return "", fault.New(fault.Usage, "nobody described the host of %s, so its address over %s is not known", standing.String(), over).
				Try("give that address itself", a.Again("--to", "ADDRESS"))
		}
		return a.Target.HTTPS, nil
	case over != "":
	case a.project.Folder != "":
		if at, err := address.Parse(a.project.Address); err == nil {
			over = at.Scheme
		}
	case a.Options.To != "":
		if at, err := address.Parse(a.Options.To); err == nil && at.Scheme == "ssh" && a.Login.Account.Over == "" {
			if k, err := accounts.KeyOf(a.Desk, a.Login.Account.Name, accounts.KeyInForce); err == nil && k != nil {
				over = "ssh"
			}
		}
	}
	if over == "" {
		over = a.Login.Account.Over
	}
	if a.Login.Host.Shell != nil {
		if a.Options.Over == "https" {
			return "", fault.New(fault.HostSaidNo, "%s is a plain server, reached over ssh alone", a.Login.Host.Name).Try("", a.Again("--over", "ssh"))
		}
		over = "ssh"
	}
	if over != "ssh" {
		return a.Target.HTTPS, nil
	}
	if a.Target.SSH == "" {
		_, err := a.Login.Host.SshAddress()
		if err == nil {
			err = fault.New(fault.HostSaidNo, "%s tells no address over SSH for %s", a.Login.Host.Name, a.Target.Path())
		}
		return "", err
	}
	return a.Target.SSH, nil
}

// refsThere asks a hosted repository for its refs, before it is hooked: over HTTP, or over
// SSH where there is nothing else.
func (a *Attach) refsThere(ctx context.Context, account *accounts.Account, there description.Repository) (web.Refs, error) {
	over := there.HTTPS
	if over == "" {
		over = there.SSH
	}
	at, err := address.Parse(over)
	if err != nil {
		return web.Refs{}, err
	}
	if at.Scheme != "ssh" {
		return login.GitRefs(ctx, a.Desk, account, a.Login.Token, at)
	}
	h := &project.Hook{Desk: a.Desk, Repo: a.folder.Repo, Address: at, Account: account}
	if h.Key, err = accounts.KeyOf(a.Desk, account.Name, accounts.KeyInForce); err == nil && h.Key == nil {
		err = accounts.NoKey(a.Desk, account)
	}
	if err != nil {
		return web.Refs{}, err
	}
	return project.Refs(ctx, a.Desk, h, "")
}

// checkKey makes sure, before anything is made, that the account's key opens the host.
func (a *Attach) checkKey(ctx context.Context) error {
	if a.Hook.Address.Scheme != "ssh" {
		return nil
	}
	if a.Hook.Key == nil {
		return accounts.NoKey(a.Desk, a.Hook.Account)
	}
	for _, name := range []string{"GIT_SSH_COMMAND", "GIT_SSH"} {
		if os.Getenv(name) != "" {
			return fault.New(fault.Decision, "the variable %s is set, and git goes by it before anything else: another key could be offered", name).
				Try("take it out of this session", "unset "+name)
		}
	}
	_, err := a.Hook.Route().SignsIn(ctx)
	return err
}
