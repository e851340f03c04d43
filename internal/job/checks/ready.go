// Package checks answers whether one can work: ready (machine, accounts, a project), a trial of a
// host's actions, and hosts compared by their limits. It changes nothing, but a trial that is
// asked to write, which takes away what it made.
package checks

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/attach"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/job/many"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/openssh"
	"uncinate/internal/world/vault"
)

// clockMay is how far this machine's clock may be from a host's.
const clockMay = 2 * time.Minute

// Ready looks at the machine, each account and, if there is one, the project in a
// folder: whatever the main job would trip over. It changes nothing.
func Ready(ctx context.Context, d *desk.Desk, folder string) []desk.Line {
	lines := readyMachine(ctx, d)
	holders, err := accounts.All(d)
	if err != nil {
		return append(lines, desk.LineOf("machine", "accounts", err))
	}
	if len(holders) == 0 {
		lines = append(lines, desk.Line{About: "machine", What: "accounts", State: desk.Doubtful, Says: "none yet", Remedies: desk.Commands(accounts.NoneYet(d)), Details: nil})
	}
	for _, a := range holders {
		lines = append(lines, readyAccount(ctx, d, a)...)
	}
	if folder != "" {
		lines = append(lines, readyProject(ctx, d, folder)...)
	}
	return lines
}

func readyMachine(ctx context.Context, d *desk.Desk) []desk.Line {
	var lines []desk.Line
	add := func(what string, state desk.State, says string, remedy ...string) {
		lines = append(lines, desk.Line{About: "machine", What: what, State: state, Says: says, Remedies: remedy, Details: nil})
	}
	if g, err := d.Git(ctx); err != nil {
		lines = append(lines, desk.LineOf("machine", "git", err))
	} else {
		add("git", desk.Good, g.Version+" at "+g.Path)
	}
	if path, err := openssh.Installed(); err != nil {
		add("SSH client", desk.Doubtful, "not installed; addresses over ssh cannot be reached", "sudo apt install openssh-client")
	} else {
		add("SSH client", desk.Good, "at "+path)
	}
	switch named, answers := openssh.AgentAnswers(); {
	case !named:
		add("SSH agent", desk.Good, "not running; not needed for https")
	case !answers:
		add("SSH agent", desk.Doubtful, "SSH_AUTH_SOCK names one that does not answer", "unset SSH_AUTH_SOCK")
	default:
		add("SSH agent", desk.Good, "answers")
	}
	lines = append(lines, readyIdentity(ctx, d))
	fine := true
	for _, f := range []struct{ what, path string }{{"folder of hosts", d.Home.Config}, {"folder of state", d.Home.State}, {"folder of the vault", d.Home.Vault}} {
		if l := readyFolder(f.what, f.path); l != nil {
			lines, fine = append(lines, *l), false
		}
	}
	if fine {
		add("own folders", desk.Good, "only you can write to them")
	}
	info, found, err := d.Vault.Info(ctx)
	switch {
	case err != nil:
		lines = append(lines, desk.LineOf("machine", "vault", err))
	case !found:
		lines = append(lines, desk.Line{About: "machine", What: "vault", State: desk.Doubtful, Says: "not made yet", Remedies: desk.Commands(vault.Missing()), Details: nil})
	case !info.Open:
		add("vault", desk.Doubtful, "locked", "uncinate vault unlock")
	case info.By == vault.ByFile:
		if _, _, err := d.Vault.Get(ctx, "", false); err != nil {
			lines = append(lines, desk.LineOf("machine", "vault", err))
		} else {
			add("vault", desk.Good, "opened by a key file")
		}
	case info.By == vault.ByKeyring:
		add("vault", desk.Good, "open while the system's keyring is")
	default:
		add("vault", desk.Good, "open until "+info.Until.Local().Format("15:04"))
	}
	return lines
}

// readyIdentity tells whose name and e-mail commits have where no account says it.
func readyIdentity(ctx context.Context, d *desk.Desk) desk.Line {
	l := desk.Line{About: "machine", What: "identity", State: desk.Good}
	g, err := d.Git(ctx)
	if err != nil {
		l.State, l.Says = desk.Doubtful, "git cannot be asked"
		return l
	}
	var own []string
	for _, key := range []string{"user.name", "user.email"} {
		out, err := g.Run(ctx, git.Cmd{Args: []string{"config", "--global", "--includes", "--get", key}})
		if value := strings.TrimSpace(string(out)); err == nil && value != "" {
			own = append(own, value)
		}
	}
	holders, err := accounts.All(d)
	switch {
	case len(own) == 2:
		l.Says = own[0] + " <" + own[1] + ">, where no account says otherwise"
	case err == nil && slices.ContainsFunc(holders, func(a *accounts.Account) bool { return a.FullName != "" && a.Email != "" }):
		l.Says = "none in git; each account has its own"
	default:
		l.State, l.Says = desk.Doubtful, "git has no name and e-mail for commits; adding an account sets them"
		l.Remedies = []string{"git config --global user.name NAME", "git config --global user.email ADDRESS"}
	}
	return l
}

// readyFolder looks at one of our own folders: ours to write, and nobody else's.
func readyFolder(what, path string) *desk.Line {
	shared, err := files.OthersMayWrite(path)
	if errors.Is(err, fs.ErrNotExist) { // it is made when it is needed
		above := filepath.Dir(path)
		for files.Missing(above) && above != filepath.Dir(above) {
			above = filepath.Dir(above)
		}
		if _, err := files.CanWrite(above); err != nil {
			return &desk.Line{About: "machine", What: what, State: desk.Bad, Says: path + " cannot be made, since nothing can be written in " + above, Remedies: []string{text.Command("chmod", "u+rwx", above)}}
		}
		return nil
	}
	if err != nil {
		return &desk.Line{About: "machine", What: what, State: desk.Bad, Says: path + " cannot be looked at"}
	}
	if shared {
		return &desk.Line{About: "machine", What: what, State: desk.Bad, Says: "others may write in " + path, Remedies: []string{text.Command("chmod", "go-w", path)}}
	}
	if kept, err := files.CanWrite(path); kept {
		return &desk.Line{About: "machine", What: what, State: desk.Bad, Says: path + " keeps files that are removed"}
	} else if err != nil {
		return &desk.Line{About: "machine", What: what, State: desk.Bad, Says: path + " cannot be written in", Remedies: []string{text.Command("chmod", "u+rwx", path)}}
	}
	return nil
}

func readyAccount(ctx context.Context, d *desk.Desk, a *accounts.Account) []desk.Line {
	about := "account " + a.Name
	if tested, err := login.OnRepository(ctx, d, a); err != nil {
		return []desk.Line{desk.LineOf(about, "sign-in", err)}
	} else if tested {
		return []desk.Line{{About: about, What: "sign-in", State: desk.Good, Says: "the token is good for " + cmp.Or(a.Repository, a.Address)}}
	}
	if h, err := hosts.Named(d, a.Host); err == nil && h.Shell != nil {
		l := &login.Login{Desk: d, Host: h, Account: a}
		if _, err := l.Identify(ctx); err != nil {
			return []desk.Line{desk.LineOf(about, "sign-in", err)}
		}
		return []desk.Line{{About: about, What: "sign-in", State: desk.Good, Says: h.Name + " lets you in over SSH"}}
	}
	token, err := accounts.Token(ctx, d, a, false)
	var h *hosts.Host
	if err == nil {
		h, err = accounts.HostOf(d, a)
	}
	if err != nil {
		return []desk.Line{desk.LineOf(about, "token", err)}
	}
	l := &login.Login{Desk: d, Host: h, Account: a, Token: token}
	id, err := l.Identify(ctx)
	if fault.Is(err, fault.Unreachable) {
		return []desk.Line{desk.LineOf(about, "host", err)}
	}
	if err != nil {
		return []desk.Line{desk.LineOf(about, "token", err)}
	}
	lines := []desk.Line{{About: about, What: "token", State: desk.Good, Says: "belongs to " + text.Visible(id.User) + " on " + h.Name}}
	again := a.Again()
	asked := *a
	asked.Scopes, asked.ScopesTold, asked.Expires, asked.Doubtful = id.Scopes, id.ScopesTold, id.Expires, time.Time{}
	if state, says := accounts.Ending(&asked, d.Now()); state == desk.Kept {
		lines = append(lines, desk.Line{About: about, What: "token expiry", State: desk.Good, Says: strings.TrimPrefix(says, "expires on ")})
	} else {
		lines = append(lines, desk.Line{About: about, What: "token expiry", State: state, Says: says, Remedies: []string{a.Anew()}, Details: nil})
	}
	l.Account = &asked
	var missing []string
	for _, action := range []string{"repository-list", "repository-show", "repository-create"} {
		missing = append(missing, l.Lacks(action)...)
	}
	slices.Sort(missing)
	missing = slices.Compact(missing)
	if len(missing) > 0 {
		lines = append(lines, desk.Line{About: about, What: "scopes", State: desk.Doubtful, Says: "lacks " + strings.Join(missing, ", "), Remedies: []string{again}, Details: nil})
	}
	if a.FullName == "" || a.Email == "" {
		lines = append(lines, desk.Line{About: about, What: "name and e-mail", State: desk.Doubtful, Says: "not known, so commits have none", Remedies: []string{again + " --full-name NAME --email ADDRESS"}, Details: nil})
	} else if id.EmailConfirmed != nil && !*id.EmailConfirmed {
		lines = append(lines, desk.Line{About: about, What: "name and e-mail", State: desk.Doubtful, Says: text.Visible(a.Email) + " is not yet confirmed on " + h.Name})
	}
	if !l.Date.IsZero() {
		if off := d.Now().Sub(l.Date); off > clockMay || off < -clockMay {
			lines = append(lines, desk.Line{About: about, What: "clock", State: desk.Doubtful, Says: fmt.Sprintf("this machine's clock is %s from %s's", strings.TrimSuffix(off.Abs().Round(time.Minute).String(), "0s"), h.Name), Remedies: []string{"sudo timedatectl set-ntp true"}, Details: nil})
		} else {
			lines = append(lines, desk.Line{About: about, What: "clock", State: desk.Good, Says: "same as " + h.Name + "'s"})
		}
	}
	return lines
}

// readyProject tells what attach, or sync, would trip over in a folder.
func readyProject(ctx context.Context, d *desk.Desk, given string) []desk.Line {
	where, err := project.FindFolder(d, given)
	if err != nil {
		return []desk.Line{desk.LineOf("project", "folder", err)}
	}
	if p, attached, err := project.ProjectAt(d, where); err != nil {
		return []desk.Line{desk.LineOf("project", "register", err)}
	} else if attached {
		s, err := many.Status(ctx, d, where, true)
		if err != nil {
			return []desk.Line{desk.LineOf("project", "folder", err)}
		}
		if !s.Asked {
			return []desk.Line{{About: "project", What: "attached", State: desk.Bad, Says: "attached to " + s.Address + ", and " + s.WhyNot}}
		}
		return []desk.Line{{About: "project", What: "attached", State: desk.Good, Says: "attached to " + p.Address}}
	}
	a := attach.Begin(d, target.Options{Folder: given, Preview: true})
	var lines []desk.Line
	failed := map[string]bool{}
	for _, c := range a.Checks(where) {
		if slices.ContainsFunc(c.After, func(name string) bool { return failed[name] }) {
			failed[c.What] = true
			continue
		}
		if err := c.Run(ctx); err != nil {
			failed[c.What] = true
			lines = append(lines, desk.LineOf("project", c.What, err))
		}
	}
	if err := a.Close(); err != nil {
		lines = append(lines, desk.LineOf("project", "history", err))
	}
	if len(lines) > 0 {
		return lines
	}
	says := "can be attached"
	if a.Resumed {
		says = "an attach was cut off here, and goes on when it is run again; detach puts it back"
	} else if a.Create {
		says += " to a new repository, " + a.Repository.Path() + " on " + a.Login.Host.Name
	} else {
		says += " to " + a.Tie.Address.String()
	}
	return []desk.Line{{About: "project", What: "attach", State: desk.Good, Says: says, Remedies: []string{a.Again()}, Details: a.Notes}}
}
