package login

import (
	"context"
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
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/world/files"
	"uncinate/internal/world/openssh"
)

// A route is how ssh reaches one host with one account's key and no other. It is in
// a file of ours that git's own setting core.sshCommand names, so that the person's own
// SSH configuration needs no change, and holds for everything else.

// Route is one account's way to one host.
type Route struct {
	Desk    *desk.Desk
	Key     *accounts.Key // nil where the person's own way is gone
	account string        // whose it is
	known   string        // the name of the known host; "" for none
	Host    string        // as in the address, with the port if it has one
	User    string        // on the host
}

// FindRoute gives the way over SSH to an address with one key.
func FindRoute(d *desk.Desk, k *accounts.Key, at address.Address) *Route {
	r := &Route{Desk: d, Key: k, Host: at.Host, User: at.User}
	if k != nil {
		r.account, r.known = k.Account, k.Host
	}
	if k != nil && k.Alone {
		r.account = ""
	}
	return r
}

func (r *Route) folder() string {
	name := "nobody"
	if r.Key != nil {
		name = r.Key.Account
	}
	return filepath.Join(r.Desk.Home.State, "git", name)
}

// sealed reports whether ssh has to ask the vault for the key's passphrase.
func (r *Route) sealed() bool { return r.Key != nil && r.Key.Sealed }

// File is the SSH configuration's.
func (r *Route) File() string {
	return filepath.Join(r.folder(), files.Short(r.User+"@"+r.Host)+".sshconfig")
}

// Asks is the small program by which ssh asks the vault for the passphrase.
func (r *Route) Asks() string { return filepath.Join(r.folder(), "passphrase.sh") }

// KnownHosts is the file of host keys that this program was told to trust, in the form of
// sshd(8).
func KnownHosts(d *desk.Desk) string { return filepath.Join(d.Home.State, "known_hosts") }

// Environment is what ssh needs in its own to ask the vault; nil for a key without a
// passphrase. It holds no secret.
func (r *Route) Environment() []string {
	if !r.sealed() {
		return nil
	}
	return []string{"SSH_ASKPASS=" + r.Asks(), "SSH_ASKPASS_REQUIRE=force"}
}

// Command is the setting for git (git-config documentation, core.sshCommand): a line for
// the shell.
func (r *Route) Command() string { return r.CommandWith() }

// CommandWith is the SSH command for git's core.sshCommand, with more options of ssh(1).
func (r *Route) CommandWith(more ...string) string {
	line := text.Command(append([]string{"ssh", "-F", filepath.ToSlash(r.File())}, more...)...)
	if r.sealed() {
		line = "SSH_ASKPASS=" + text.Quote(filepath.ToSlash(r.Asks())) + " SSH_ASKPASS_REQUIRE=force " + line
	}
	return line
}

// Write makes the route's files again where what they are made of has changed.
func (r *Route) Write(ctx context.Context) error {
	ssh, err := openssh.Find(r.Desk.Log)
	if err != nil {
		return err
	}
	own, err := ssh.Settings(ctx, "", r.User, r.Host)
	if err != nil {
		return err
	}
	none := filepath.Join(r.folder(), "none.sshconfig") // os.DevNull is not a file for every client
	if err := desk.Keep(none, "", 0o600); err != nil {
		return err
	}
	plain, err := ssh.Settings(ctx, none, r.User, r.Host)
	if err != nil {
		return err
	}
	name, _ := sshconfig.SplitPort(r.Host)
	c := sshconfig.Route{Host: name, KnownHosts: KnownHosts(r.Desk), Own: own, Plain: plain}
	if r.Key != nil {
		c.Key = r.Key.File
	}
	for _, path := range []string{filepath.Join(sshHome(r.Desk), ".ssh", "config"), systemConfig()} {
		if _, err := os.Stat(path); err == nil {
			c.Includes = append(c.Includes, filepath.ToSlash(path))
		}
	}
	if err := desk.Keep(r.File(), c.Text(), 0o600); err != nil {
		return err
	}
	return r.WriteAsks()
}

// WriteAsks writes the small program by which ssh asks the vault.
func (r *Route) WriteAsks() error {
	if !r.sealed() {
		return nil
	}
	words := []string{filepath.ToSlash(r.Desk.Program), "key", "answer", "--key", r.Key.Fingerprint()}
	if r.Desk.Home.Top != "" {
		words = append(words, "--home", filepath.ToSlash(r.Desk.Home.Top))
	}
	return desk.Keep(r.Asks(), "#!/bin/sh\n"+kinds.Opening+"\nexec "+text.Command(words...)+" -- \"$1\"\n"+kinds.Closing+"\n", 0o700)
}

// sshHome is the home folder that ssh goes by: the one in the system's list of users,
// whatever HOME says (ssh_config(5), FILES).
func sshHome(d *desk.Desk) string {
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

// SignsIn tries the way to its end: the host's key, and whether it lets the account's in.
func (r *Route) SignsIn(ctx context.Context) (said string, err error) {
	if err := r.Key.Guarded(); err != nil {
		return "", err
	}
	if err := r.Key.Opened(); err != nil {
		return "", err
	}
	if err := knowsHost(ctx, r.Desk, r); err != nil {
		return "", err
	}
	if err := r.Write(ctx); err != nil {
		return "", err
	}
	ssh, err := openssh.Find(r.Desk.Log)
	if err != nil {
		return "", err
	}
	if r.sealed() {
		// A locked vault is named as such, before ssh meets it.
		if _, err := accounts.Passphrase(ctx, r.Desk, r.Key, true); err != nil {
			return "", err
		}
	}
	result, err := ssh.SignIn(ctx, r.File(), r.User, r.Host, r.Environment())
	if err != nil {
		return "", err
	}
	if result.Code != openssh.Failed {
		return string(result.Out) + result.Errs, nil
	}
	return "", r.refusal(ctx, result.Errs)
}

// refusal finds the true cause of a sign-in that failed.
func (r *Route) refusal(ctx context.Context, said string) error {
	if changed := checkHostKey(ctx, r.Desk, r); changed != nil {
		return changed
	}
	for _, word := range []string{"Permission denied", "Too many authentication failures", "No supported authentication methods"} {
		if strings.Contains(said, word) {
			f := fault.New(fault.HostSaidNo, "%s does not let %s in", text.Visible(r.Host), r.Key.Whose()).
				Detail("The key is %s.", r.Key.Fingerprint()).Detail("ssh says: %s", text.Excerpt(strings.TrimSpace(said), 300))
			if r.Key.Alone {
				return f.Detail("Whoever runs the server puts the key there: %s", r.Key.Half().Line())
			}
			return f.Try("put the key on the host", text.Command("uncinate", "key", "install", r.Key.Account)).
				Try("or see its state", text.Command("uncinate", "key", "list", r.Key.Account))
		}
	}
	return openssh.Unreachable(r.Host, said)
}
