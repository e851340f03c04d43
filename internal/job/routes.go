package job

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/sshconfig"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/openssh"
)

// A route is how ssh reaches one host with one account's key and no other. It stands in
// a file of ours that git's own setting core.sshCommand names, so that the person's own
// SSH configuration needs no change, and holds for everything else.

// route is one account's way to one host.
type route struct {
	desk    *Desk
	key     *Key   // nil only where the person's own way is gone
	account string // whose it is
	known   string // the name of the known host; "" for none
	host    string // as in the address, with the port if it has one
	user    string // on the host
}

func (d *Desk) route(k *Key, at address.Address) *route {
	r := &route{desk: d, key: k, host: at.Host, user: at.User}
	if k != nil {
		r.account, r.known = k.Account, k.Host
	}
	return r
}

func (r *route) folder() string { return filepath.Join(r.desk.Home.State, "git", r.key.Account) }

// file is the SSH configuration's.
func (r *route) file() string {
	return filepath.Join(r.folder(), files.Short(r.user+"@"+r.host)+".sshconfig")
}

// asks is the small program by which ssh asks the vault for the passphrase.
func (r *route) asks() string { return filepath.Join(r.folder(), "passphrase.sh") }

func (d *Desk) knownHosts() string { return filepath.Join(d.Home.State, "known_hosts") }

// environment is what ssh needs in its own to ask the vault; nil for a key without a
// passphrase. It holds no secret.
func (r *route) environment() []string {
	if !r.key.Sealed {
		return nil
	}
	return []string{"SSH_ASKPASS=" + r.asks(), "SSH_ASKPASS_REQUIRE=force"}
}

// command is the setting for git (git-config documentation, core.sshCommand): a line for
// the shell.
func (r *route) command() string { return r.commandWith() }

func (r *route) commandWith(more ...string) string {
	line := text.Command(append([]string{"ssh", "-F", filepath.ToSlash(r.file())}, more...)...)
	if r.key.Sealed {
		line = "SSH_ASKPASS=" + text.Quote(filepath.ToSlash(r.asks())) + " SSH_ASKPASS_REQUIRE=force " + line
	}
	return line
}

// write makes the route's files anew where what they are made of has changed.
func (r *route) write(ctx context.Context) error {
	ssh, err := openssh.Find(r.desk.Log)
	if err != nil {
		return err
	}
	own, err := ssh.Settings(ctx, "", r.user, r.host)
	if err != nil {
		return err
	}
	none := filepath.Join(r.folder(), "none.sshconfig") // os.DevNull is no file for every client
	if err := keep(none, "", 0o600); err != nil {
		return err
	}
	plain, err := ssh.Settings(ctx, none, r.user, r.host)
	if err != nil {
		return err
	}
	name, _ := sshconfig.SplitPort(r.host)
	c := sshconfig.Route{Host: name, Key: r.key.File, KnownHosts: r.desk.knownHosts(), Own: own, Plain: plain}
	for _, path := range []string{filepath.Join(r.desk.sshHome(), ".ssh", "config"), systemConfig()} {
		if _, err := os.Stat(path); err == nil {
			c.Includes = append(c.Includes, filepath.ToSlash(path))
		}
	}
	if err := keep(r.file(), c.Text(), 0o600); err != nil {
		return err
	}
	return r.writeAsks()
}

// writeAsks writes the small program by which ssh asks the vault.
func (r *route) writeAsks() error {
	if !r.key.Sealed {
		return nil
	}
	words := []string{filepath.ToSlash(r.desk.Program), "key", "answer", "--key", r.key.Fingerprint()}
	if r.desk.Home.Top != "" {
		words = append(words, "--home", filepath.ToSlash(r.desk.Home.Top))
	}
	return keep(r.asks(), "#!/bin/sh\n"+kinds.Opening+"\nexec "+text.Command(words...)+" -- \"$1\"\n"+kinds.Closing+"\n", 0o700)
}

// sshHome is the home folder that ssh goes by: the one in the system's list of users,
// whatever HOME says (ssh_config(5), FILES).
func (d *Desk) sshHome() string {
	if u, err := user.LookupId(strconv.Itoa(os.Getuid())); err == nil && u.HomeDir != "" {
		return u.HomeDir
	}
	return d.UserHome
}

func systemConfig() string {
	if runtime.GOOS == "windows" {
		return filepath.Join(os.Getenv("PROGRAMDATA"), "ssh", "ssh_config")
	}
	return "/etc/ssh/ssh_config"
}

// keep writes a file unless it is as it should be.
func keep(path, contents string, mode fs.FileMode) error {
	old, err := files.Read(path, 256<<10)
	if err == nil && string(old) == contents {
		return nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return files.Write(path, []byte(contents), mode)
}

// signsIn tries the way to its end: the host's key, and whether it lets the account's in.
func (r *route) signsIn(ctx context.Context) (said string, err error) {
	if err := r.key.guarded(); err != nil {
		return "", err
	}
	if err := r.key.opened(); err != nil {
		return "", err
	}
	if err := r.desk.knowsHost(ctx, r); err != nil {
		return "", err
	}
	if err := r.write(ctx); err != nil {
		return "", err
	}
	ssh, err := openssh.Find(r.desk.Log)
	if err != nil {
		return "", err
	}
	if r.key.Sealed {
		// A locked vault is named as such, before ssh meets it.
		if _, err := r.desk.passphrase(ctx, r.key, true); err != nil {
			return "", err
		}
	}
	result, err := ssh.SignIn(ctx, r.file(), r.user, r.host, r.environment())
	if err != nil {
		return "", err
	}
	if result.Code != openssh.Failed {
		return string(result.Out) + result.Errs, nil
	}
	return "", r.refusal(ctx, result.Errs)
}

// refusal finds the true cause of a sign-in that failed.
func (r *route) refusal(ctx context.Context, said string) error {
	if changed := r.desk.checkHostKey(ctx, r); changed != nil {
		return changed
	}
	for _, word := range []string{"Permission denied", "Too many authentication failures", "No supported authentication methods"} {
		if contains(said, word) {
			f := fault.New(fault.HostSaidNo, "%s does not let the SSH key of account %s in", text.Visible(r.host), r.key.Account).
				Detail("The key is %s.", r.key.Fingerprint()).Detail("ssh says: %s", text.Excerpt(strings.TrimSpace(said), 300))
			return f.Try("put the key on the host", text.Command("uncinate", "key", "install", r.key.Account)).
				Try("or see how it stands", text.Command("uncinate", "key", "list", r.key.Account))
		}
	}
	return openssh.Unreachable(r.host, said)
}
