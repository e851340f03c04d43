package target

import (
	"context"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// transport gives the clone address to go by: as asked for, else as the project goes
// already, else as the address that was pasted, else as the account prefers.
func (t *Target) transport() (string, error) {
	over := t.Options.Over
	switch {
	case over != "" && over != "ssh" && over != "https":
		f := fault.New(fault.Usage, "git goes over https or ssh, not over %s", text.Quote(over))
		if near := text.Nearest(over, []string{"https", "ssh"}); near != "" {
			f.Try("", t.Again("--over", near))
		}
		return "", f
	case t.Login == nil:
		if standing, err := address.Parse(t.Repository.HTTPS); err == nil && over != "" && (standing.Scheme == "ssh") != (over == "ssh") {
			return "", fault.New(fault.Usage, "nobody described the host of %s, so its address over %s is not known", standing.String(), over).
				Try("give that address itself", t.Again("--to", "ADDRESS"))
		}
		return t.Repository.HTTPS, nil
	case over != "":
	case t.Project.Folder != "":
		if at, err := address.Parse(t.Project.Address); err == nil {
			over = at.Scheme
		}
	case t.Options.To != "":
		if at, err := address.Parse(t.Options.To); err == nil && at.Scheme == "ssh" && t.Login.Account.Over == "" {
			if k, err := accounts.KeyOf(t.Desk, t.Login.Account.Name, accounts.KeyInForce); err == nil && k != nil {
				over = "ssh"
			}
		}
	}
	if over == "" {
		over = t.Login.Account.Over
	}
	if t.Login.Host.Shell != nil {
		if t.Options.Over == "https" {
			return "", fault.New(fault.HostSaidNo, "%s is a plain server, reached over ssh alone", t.Login.Host.Name).Try("", t.Again("--over", "ssh"))
		}
		over = "ssh"
	}
	if over != "ssh" {
		return t.Repository.HTTPS, nil
	}
	if t.Repository.SSH == "" {
		_, err := t.Login.Host.SshAddress()
		if err == nil {
			err = fault.New(fault.HostSaidNo, "%s tells no address over SSH for %s", t.Login.Host.Name, t.Repository.Path())
		}
		return "", err
	}
	return t.Repository.SSH, nil
}

// RefsThere asks a hosted repository for its refs, before it is attached: over HTTP, or over
// SSH where there is nothing else.
func (t *Target) RefsThere(ctx context.Context, account *accounts.Account, there description.Repository) (web.Refs, error) {
	over := there.HTTPS
	if over == "" {
		over = there.SSH
	}
	at, err := address.Parse(over)
	if err != nil {
		return web.Refs{}, err
	}
	if at.Scheme != "ssh" {
		return login.GitRefs(ctx, t.Desk, account, t.Login.Token, at)
	}
	h := &project.Tie{Desk: t.Desk, Repo: t.Folder.Repo, Address: at, Account: account}
	if h.Key, err = accounts.KeyOf(t.Desk, account.Name, accounts.KeyInForce); err == nil && h.Key == nil {
		err = accounts.NoKey(t.Desk, account)
	}
	if err != nil {
		return web.Refs{}, err
	}
	return project.Refs(ctx, t.Desk, h, "")
}

// checkKey makes sure, before anything is made, that the account's key opens the host.
func (t *Target) checkKey(ctx context.Context) error {
	if t.Tie.Address.Scheme != "ssh" {
		return nil
	}
	if t.Tie.Key == nil {
		return accounts.NoKey(t.Desk, t.Tie.Account)
	}
	if name := git.OverridesSSH(); name != "" {
		return fault.New(fault.Decision, "the variable %s is set, and git goes by it before anything else: another key could be offered", name).
			Try("take it out of this session", "unset "+name)
	}
	_, err := t.Tie.Route().SignsIn(ctx)
	return err
}
