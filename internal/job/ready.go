package job

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/vault"
)

// State is how one line of ready stands.
type State string

// The states, in words.
const (
	Good     State = "good"
	Doubtful State = "doubtful"
	Bad      State = "bad"
)

// Line is one thing that was looked at.
type Line struct {
	About   string   `json:"about"` // "machine", "account NAME" or "project"
	What    string   `json:"what"`
	State   State    `json:"state"`
	Says    string   `json:"says"`
	Remedy  []string `json:"remedy,omitempty"` // commands to paste
	Details []string `json:"details,omitempty"`
}

// Settings are the few choices that hold for this machine.
type Settings struct {
	Git      string `json:"git,omitempty"`       // path of the git program; "" for the one on the PATH
	Machine  string `json:"machine,omitempty"`   // this machine's name in its keys; "" for the name it has on the network
	KeepDays int    `json:"keep_days,omitempty"` // how long rescue copies are kept; 0 for the usual time
	Flat     bool   `json:"flat,omitempty"`      // clones lie side by side, not in one folder per owner
}

func (d *Desk) settingsFile() string { return filepath.Join(d.Home.Config, "settings.json") }

// Settings reads this machine's settings.
func (d *Desk) Settings() (Settings, error) {
	var s Settings
	_, err := files.ReadJSON(d.settingsFile(), &s)
	return s, err
}

// UseGit sets which git program is used, once it has shown that it is one; "" goes
// back to the one on the PATH.
func (d *Desk) UseGit(ctx context.Context, path string) error {
	if path != "" {
		abs, err := filepath.Abs(path)
		if err != nil {
			return err
		}
		if _, err := d.findGit(ctx, abs); err != nil {
			return err
		}
		path = abs
	}
	d.git = nil
	return d.change(func(s *Settings) { s.Git = path })
}

// change changes this machine's settings.
func (d *Desk) change(set func(*Settings)) error {
	s, err := d.Settings()
	if err != nil {
		return err
	}
	set(&s)
	return files.WriteJSON(d.settingsFile(), s)
}

// clockMay is how far this machine's clock may be from a host's.
const clockMay = 2 * time.Minute

// Ready looks at the machine, each account and, if there is one, the project in a
// folder: whatever the main job would trip over. It changes nothing.
func (d *Desk) Ready(ctx context.Context, folder string) []Line {
	lines := d.readyMachine(ctx)
	accounts, err := d.Accounts()
	if err != nil {
		return append(lines, lineOf("machine", "accounts", err))
	}
	if len(accounts) == 0 {
		lines = append(lines, Line{"machine", "accounts", Doubtful, "none yet", commands(NoAccount("")), nil})
	}
	for _, a := range accounts {
		lines = append(lines, d.readyAccount(ctx, a)...)
	}
	if folder != "" {
		lines = append(lines, d.readyProject(ctx, folder)...)
	}
	return lines
}

// lineOf makes a line of what went wrong; what only waits for a decision is doubtful.
func lineOf(about, what string, err error) Line {
	f := fault.Of(err)
	l := Line{About: about, What: what, State: Bad, Says: f.Says, Details: f.Details}
	if f.Kind == fault.Decision {
		l.State = Doubtful
	}
	for _, r := range f.Remedies {
		l.Remedy = append(l.Remedy, r.Command)
	}
	return l
}

func commands(f *fault.Fault) []string { return lineOf("", "", f).Remedy }

func (d *Desk) readyMachine(ctx context.Context) []Line {
	var lines []Line
	add := func(what string, state State, says string, remedy ...string) {
		lines = append(lines, Line{"machine", what, state, says, remedy, nil})
	}
	if g, err := d.Git(ctx); err != nil {
		lines = append(lines, lineOf("machine", "git", err))
	} else {
		add("git", Good, g.Version+" at "+g.Path)
	}
	if path, err := exec.LookPath("ssh"); err != nil {
		add("SSH client", Doubtful, "not installed; addresses over ssh cannot be reached", "sudo apt install openssh-client")
	} else {
		add("SSH client", Good, "at "+path)
	}
	switch socket := os.Getenv("SSH_AUTH_SOCK"); {
	case socket == "":
		add("SSH agent", Good, "none runs; none is needed over https")
	default:
		c, err := net.DialTimeout("unix", socket, time.Second)
		if err != nil {
			add("SSH agent", Doubtful, "SSH_AUTH_SOCK names one that does not answer", "unset SSH_AUTH_SOCK")
			break
		}
		c.Close()
		add("SSH agent", Good, "answers")
	}
	lines = append(lines, d.readyIdentity(ctx))
	fine := true
	for _, f := range []struct{ what, path string }{{"folder of hosts", d.Home.Config}, {"folder of state", d.Home.State}, {"folder of the vault", d.Home.Vault}} {
		if l := readyFolder(f.what, f.path); l != nil {
			lines, fine = append(lines, *l), false
		}
	}
	if fine {
		add("own folders", Good, "yours alone to write in")
	}
	info, found, err := d.Vault.Info(ctx)
	switch {
	case err != nil:
		lines = append(lines, lineOf("machine", "vault", err))
	case !found:
		lines = append(lines, Line{"machine", "vault", Doubtful, "not made yet", commands(vault.Missing()), nil})
	case !info.Open:
		add("vault", Doubtful, "locked", "uncinate vault unlock")
	case info.By == vault.ByFile:
		if _, _, err := d.Vault.Get(ctx, "", false); err != nil {
			lines = append(lines, lineOf("machine", "vault", err))
		} else {
			add("vault", Good, "opened by a key file")
		}
	case info.By == vault.ByKeyring:
		add("vault", Good, "open while the system's keyring is")
	default:
		add("vault", Good, "open until "+info.Until.Local().Format("15:04"))
	}
	return lines
}

// readyIdentity tells whose name and e-mail commits carry where no account says it.
func (d *Desk) readyIdentity(ctx context.Context) Line {
	l := Line{About: "machine", What: "identity", State: Good}
	g, err := d.Git(ctx)
	if err != nil {
		l.State, l.Says = Doubtful, "git cannot be asked"
		return l
	}
	var own []string
	for _, key := range []string{"user.name", "user.email"} {
		out, err := g.Run(ctx, git.Cmd{Args: []string{"config", "--global", "--includes", "--get", key}})
		if value := strings.TrimSpace(string(out)); err == nil && value != "" {
			own = append(own, value)
		}
	}
	accounts, err := d.Accounts()
	switch {
	case len(own) == 2:
		l.Says = own[0] + " <" + own[1] + ">, where no account says otherwise"
	case err == nil && slices.ContainsFunc(accounts, func(a *Account) bool { return a.FullName != "" && a.Email != "" }):
		l.Says = "git has none of its own; each account brings its own"
	default:
		l.State, l.Says = Doubtful, "git does not know whose name and e-mail commits are to carry; an account brings them too"
		l.Remedy = []string{"git config --global user.name NAME", "git config --global user.email ADDRESS"}
	}
	return l
}

// readyFolder looks at one of our own folders: ours to write, and nobody else's.
func readyFolder(what, path string) *Line {
	s, err := os.Stat(path)
	if os.IsNotExist(err) {
		return nil // it is made when it is needed
	}
	if err != nil {
		return &Line{"machine", what, Bad, path + " cannot be looked at", nil, nil}
	}
	if s.Mode().Perm()&0o022 != 0 {
		return &Line{"machine", what, Bad, "others may write in " + path, []string{text.Command("chmod", "go-w", path)}, nil}
	}
	probe, err := os.CreateTemp(path, ".ready-*")
	if err != nil {
		return &Line{"machine", what, Bad, path + " cannot be written in", []string{text.Command("chmod", "u+rwx", path)}, nil}
	}
	probe.Close()
	if err := os.Remove(probe.Name()); err != nil {
		return &Line{"machine", what, Bad, path + " keeps files that are removed", nil, nil}
	}
	return nil
}

func (d *Desk) readyAccount(ctx context.Context, a *Account) []Line {
	about := "account " + a.Name
	if a.Host == "" {
		at, token, err := d.plainLogin(ctx, a)
		if err == nil {
			_, err = d.Web.Refs(ctx, at, a.User, token)
		}
		if err != nil {
			return []Line{lineOf(about, "sign-in", err)}
		}
		return []Line{{about, "sign-in", Good, "the token is good for " + a.Address, nil, nil}}
	}
	if h, err := d.Host(a.Host); err == nil && h.Shell != nil {
		l := &login{desk: d, Host: h, Account: a}
		if _, err := l.identify(ctx); err != nil {
			return []Line{lineOf(about, "sign-in", err)}
		}
		return []Line{{about, "sign-in", Good, h.Name + " lets you in over SSH", nil, nil}}
	}
	token, err := d.token(ctx, a, false)
	var h *Host
	if err == nil {
		h, err = d.hostOf(a)
	}
	if err != nil {
		return []Line{lineOf(about, "token", err)}
	}
	l := &login{desk: d, Host: h, Account: a, token: token}
	id, err := l.identify(ctx)
	if err != nil {
		return []Line{lineOf(about, "token", err)}
	}
	lines := []Line{{about, "token", Good, "is " + text.Visible(id.User) + "'s on " + h.Name, nil, nil}}
	again := a.again()
	switch left := id.Expires.Sub(d.Now()); {
	case id.Expires.IsZero():
	case left < 14*24*time.Hour:
		lines = append(lines, Line{about, "token's end", Doubtful, "it ends on " + id.Expires.Format(time.DateOnly), []string{again}, nil})
	default:
		lines = append(lines, Line{about, "token's end", Good, id.Expires.Format(time.DateOnly), nil, nil})
	}
	asked := *a
	asked.Scopes, asked.ScopesTold = id.Scopes, id.ScopesTold
	l.Account = &asked
	var missing []string
	for _, action := range []string{"repository-list", "repository-show", "repository-create"} {
		missing = append(missing, l.lacks(action)...)
	}
	slices.Sort(missing)
	missing = slices.Compact(missing)
	if len(missing) > 0 {
		lines = append(lines, Line{about, "scopes", Doubtful, "lacks " + strings.Join(missing, ", "), []string{again}, nil})
	}
	if a.FullName == "" || a.Email == "" {
		lines = append(lines, Line{about, "name and e-mail", Doubtful, "not known, so commits have none to carry", []string{again + " --full-name NAME --email ADDRESS"}, nil})
	} else if id.EmailConfirmed != nil && !*id.EmailConfirmed {
		lines = append(lines, Line{about, "name and e-mail", Doubtful, text.Visible(a.Email) + " is not yet confirmed on " + h.Name, nil, nil})
	}
	if !l.date.IsZero() {
		if off := d.Now().Sub(l.date); off > clockMay || off < -clockMay {
			lines = append(lines, Line{about, "clock", Doubtful, fmt.Sprintf("this machine's clock is %s from %s's", strings.TrimSuffix(off.Abs().Round(time.Minute).String(), "0s"), h.Name), []string{"sudo timedatectl set-ntp true"}, nil})
		} else {
			lines = append(lines, Line{about, "clock", Good, "as " + h.Name + "'s", nil, nil})
		}
	}
	return lines
}

// readyProject tells what attach, or sync, would trip over in a folder.
func (d *Desk) readyProject(ctx context.Context, given string) []Line {
	where, err := d.findFolder(given)
	if err != nil {
		return []Line{lineOf("project", "folder", err)}
	}
	if p, hooked, err := d.ProjectAt(where); err != nil {
		return []Line{lineOf("project", "register", err)}
	} else if hooked {
		s, err := d.Status(ctx, where, true)
		if err != nil {
			return []Line{lineOf("project", "folder", err)}
		}
		if !s.Asked {
			return []Line{{"project", "hook", Bad, "hooked to " + p.Address + ", and " + s.WhyNot, nil, nil}}
		}
		return []Line{{"project", "hook", Good, "hooked to " + p.Address, nil, nil}}
	}
	a := &Attach{desk: d, options: AttachOptions{Folder: given, Preview: true}}
	var lines []Line
	failed := map[string]bool{}
	for _, c := range a.checks(where) {
		if slices.ContainsFunc(c.after, func(name string) bool { return failed[name] }) {
			failed[c.what] = true
			continue
		}
		if err := c.run(ctx); err != nil {
			failed[c.what] = true
			lines = append(lines, lineOf("project", c.what, err))
		}
	}
	if err := a.Close(); err != nil {
		lines = append(lines, lineOf("project", "history", err))
	}
	if len(lines) > 0 {
		return lines
	}
	says := "can be hooked"
	if a.Resumed {
		says = "an attach was cut off here, and goes on when it is run again; detach puts it back"
	} else if a.create {
		says += " to a new repository, " + a.target.Path() + " on " + a.login.Host.Name
	} else {
		says += " to " + a.hook.address.String()
	}
	return []Line{{"project", "attach", Good, says, []string{a.again()}, a.Notes}}
}
