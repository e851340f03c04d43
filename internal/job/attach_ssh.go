package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// transport gives the clone address to go by: as asked for, else as the project goes
// already, else as the address that was pasted, else as the account prefers.
func (a *Attach) transport() (string, error) {
	over := a.options.Over
	switch {
	case over != "" && over != "ssh" && over != "https":
		f := fault.New(fault.Usage, "git goes over https or ssh, not over %s", text.Quote(over))
		if near := text.Nearest(over, []string{"https", "ssh"}); near != "" {
			f.Try("", a.again("--over", near))
		}
		return "", f
	case a.login == nil:
		if standing, err := address.Parse(a.target.HTTPS); err == nil && over != "" && (standing.Scheme == "ssh") != (over == "ssh") {
			return "", fault.New(fault.Usage, "nobody described the host of %s, so its address over %s is not known", standing.String(), over).
				Try("give that address itself", a.again("--to", "ADDRESS"))
		}
		return a.target.HTTPS, nil
	case over != "":
	case a.project.Folder != "":
		if at, err := address.Parse(a.project.Address); err == nil {
			over = at.Scheme
		}
	case a.options.To != "":
		if at, err := address.Parse(a.options.To); err == nil && at.Scheme == "ssh" && a.login.Account.Over == "" {
			if k, err := a.desk.keyOf(a.login.Account.Name, keyInForce); err == nil && k != nil {
				over = "ssh"
			}
		}
	}
	if over == "" {
		over = a.login.Account.Over
	}
	if a.login.Host.Shell != nil {
		if a.options.Over == "https" {
			return "", fault.New(fault.HostSaidNo, "%s is a plain server, reached over ssh alone", a.login.Host.Name).Try("", a.again("--over", "ssh"))
		}
		over = "ssh"
	}
	if over != "ssh" {
		return a.target.HTTPS, nil
	}
	if a.target.SSH == "" {
		_, err := a.login.Host.sshAddress()
		if err == nil {
			err = fault.New(fault.HostSaidNo, "%s tells no address over SSH for %s", a.login.Host.Name, a.target.Path())
		}
		return "", err
	}
	return a.target.SSH, nil
}

// refsThere asks a hosted repository for its refs, before it is hooked: over HTTP, or over
// SSH where there is nothing else.
func (a *Attach) refsThere(ctx context.Context, account *Account, there description.Repository) (web.Refs, error) {
	over := there.HTTPS
	if over == "" {
		over = there.SSH
	}
	at, err := address.Parse(over)
	if err != nil {
		return web.Refs{}, err
	}
	if at.Scheme != "ssh" {
		return a.desk.gitRefs(ctx, account, a.login.token, at)
	}
	h := &hook{desk: a.desk, repo: a.folder.repo, address: at, account: account}
	if h.key, err = a.desk.keyOf(account.Name, keyInForce); err == nil && h.key == nil {
		err = a.desk.NoKey(account)
	}
	if err != nil {
		return web.Refs{}, err
	}
	return a.desk.refs(ctx, h, "")
}

// checkKey makes sure, before anything is made, that the account's key opens the host.
func (a *Attach) checkKey(ctx context.Context) error {
	if a.hook.address.Scheme != "ssh" {
		return nil
	}
	if a.hook.key == nil {
		return a.desk.NoKey(a.hook.account)
	}
	for _, name := range []string{"GIT_SSH_COMMAND", "GIT_SSH"} {
		if os.Getenv(name) != "" {
			return fault.New(fault.Decision, "the variable %s is set, and git goes by it before anything else: another key could be offered", name).
				Try("take it out of this session", "unset "+name)
		}
	}
	_, err := a.hook.route().signsIn(ctx)
	return err
}

// sshCause finds out whether a failed talk of git is the sign-in's fault: nil if not.
func (d *Desk) sshCause(ctx context.Context, r *route, failed error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var said *git.Error
	if !errors.As(failed, &said) {
		return nil
	}
	if _, err := r.signsIn(ctx); err != nil {
		return err
	}
	f := fault.New(fault.HostSaidNo, "%s lets the key of account %s in, and not to this repository: there is none of that name, or not for it", text.Visible(r.host), r.key.Account)
	for line := range strings.SplitSeq(said.Says, "\n") {
		if line = strings.TrimSpace(line); line != "" {
			f.Detail("git says: %s", text.Excerpt(line, 200))
		}
	}
	return f
}

// signersFile is where git finds whose signatures are good (ssh-keygen(1), ALLOWED SIGNERS).
func (d *Desk) signersFile() string { return filepath.Join(d.Home.State, "allowed_signers") }

// signing is what git is told to sign with (git-config documentation, gpg.format).
func (h *hook) signing() string {
	var b strings.Builder
	fmt.Fprintf(&b, "[gpg]\n\tformat = ssh\n[gpg \"ssh\"]\n\tallowedSignersFile = %s\n", quoted(filepath.ToSlash(h.desk.signersFile())))
	if h.key.Sealed {
		fmt.Fprintf(&b, "\tprogram = %s\n", quoted(filepath.ToSlash(h.desk.signProgram(h.key))))
	}
	fmt.Fprintf(&b, "[user]\n\tsigningKey = %s\n[commit]\n\tgpgSign = true\n[tag]\n\tgpgSign = true\n", quoted(filepath.ToSlash(h.key.File)))
	return b.String()
}

func (d *Desk) signProgram(k *Key) string {
	return filepath.Join(d.Home.State, "git", k.Account, "sign.sh")
}

// signs reports whether signatures can be told to be the account's: by its e-mail.
func (a *Account) signs() error {
	if a.Email == "" || strings.ContainsAny(a.Email, " \t\"\n,*?!") {
		return fault.New(fault.Decision, "the account %s has no e-mail by which its signatures could be told to be its own", a.Name).
			Try("say it", a.again("--email", "ADDRESS"))
	}
	return nil
}

// writeSigners lets the account's signatures be verified here: those of older keys too.
func (d *Desk) writeSigners(k *Key) error {
	a, err := d.Account(k.Account)
	if err != nil {
		return err
	}
	if err := a.signs(); err != nil {
		return err
	}
	half := k.Half()
	half.Comment = ""
	line := a.Email + " namespaces=\"git\" " + half.Line()
	old, err := files.Read(d.signersFile(), 1<<20)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if !contains("\n"+string(old), "\n"+line+"\n") {
		if err := files.Write(d.signersFile(), append(old, line+"\n"...), 0o600); err != nil {
			return err
		}
	}
	if !k.Sealed {
		return nil
	}
	r := &route{desk: d, key: k}
	if err := r.writeAsks(); err != nil {
		return err
	}
	return keep(d.signProgram(k), "#!/bin/sh\nSSH_ASKPASS="+text.Quote(filepath.ToSlash(r.asks()))+" SSH_ASKPASS_REQUIRE=force exec ssh-keygen \"$@\"\n", 0o700)
}
