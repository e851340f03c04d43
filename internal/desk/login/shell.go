package login

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/authkeys"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshconfig"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/world/files"
	"uncinate/internal/world/openssh"
	"uncinate/internal/world/shellhost"
)

// On a plain server the actions of the language are done over SSH by ordinary tools. What
// comes of them has the same form as what an API answers, so that no job knows the
// difference.

// shellServer gives the server, reached with the account's key where it lets that in, and
// otherwise, as before the key was put there, by the person's own SSH configuration.
func (l *Login) shellServer(ctx context.Context, own bool) (*shellhost.Server, *Route, error) {
	at, err := address.Parse(l.Host.Base + "/x/y")
	if err != nil {
		return nil, nil, err
	}
	ssh, err := openssh.Find(l.Desk.Log)
	if err != nil {
		return nil, nil, err
	}
	s := &shellhost.Server{Client: ssh, Name: l.Host.Name, Folder: l.Host.Shell.Folder, Keys: l.Host.Shell.Keys}
	k, err := accounts.KeyOf(l.Desk, l.Account.Name, accounts.KeyInForce)
	if err != nil {
		return nil, nil, err
	}
	r := FindRoute(l.Desk, k, at)
	r.account, r.known = l.Account.Name, l.Host.Name
	open := l.Host.Name + " " + l.Account.Name
	if k != nil && !own {
		open += " " + k.Fingerprint()
	}
	if s := l.Desk.Servers[open]; s != nil {
		return s, r, nil
	}
	if err := knowsHost(ctx, l.Desk, r); err != nil {
		return nil, nil, err
	}
	words := []string{"-T", "-o", "ConnectTimeout=15", "-o", "LogLevel=ERROR"}
	if k != nil && !own {
		if err := k.Guarded(); err != nil {
			return nil, nil, err
		}
		if err := r.Write(ctx); err != nil {
			return nil, nil, err
		}
		if k.Sealed {
			if _, err := accounts.Passphrase(ctx, l.Desk, k, true); err != nil {
				return nil, nil, err
			}
		}
		words, s.Env = append(words, "-F", r.File()), r.Environment()
		if via := SharedBy(l.Desk, r); via != "" { // what git does meanwhile goes over the same connection
			words = append(words, "-o", "ControlMaster=yes", "-o", "ControlPath="+sshconfig.Quote(via))
		}
		if !k.Sealed {
			words = append(words, "-o", "BatchMode=yes")
		}
	} else {
		known, err := knownFiles(ctx, l.Desk, ssh, r)
		if err != nil {
			return nil, nil, err
		}
		words = append(words, "-o", "StrictHostKeyChecking=yes", "-o", "UserKnownHostsFile="+known)
	}
	s.Words = append(words, openssh.Target(at.User, at.Host)...)
	if l.Desk.Servers == nil {
		l.Desk.Servers = map[string]*shellhost.Server{}
	}
	l.Desk.Servers[open] = s
	return s, r, nil
}

// SharedBy is where the connection of a route is shared by for the length of this run (ssh_config(5),
// ControlPath); "" where the path would be too long, or the folder cannot be made.
func SharedBy(d *desk.Desk, r *Route) string {
	path := filepath.Join(d.Home.Run, fmt.Sprintf("ssh-%s-%d", files.Short(r.File()+r.Key.Fingerprint()), os.Getpid()))
	if len(path) > 85 || runtime.GOOS == "windows" || os.MkdirAll(d.Home.Run, 0o700) != nil {
		return ""
	}
	return path
}

// knownFiles lists our own file of known hosts and the person's, as ssh takes them.
func knownFiles(ctx context.Context, d *desk.Desk, ssh *openssh.Client, r *Route) (string, error) {
	settings, err := ssh.Settings(ctx, "", r.User, r.Host)
	known := sshconfig.Quote(KnownHosts(d))
	for _, s := range settings {
		if theirs, ok := strings.CutPrefix(s, "userknownhostsfile "); ok {
			known += " " + theirs
		}
	}
	return known, err
}

// withServer does one thing on the server, with the account's key or, if that is not let
// in, by the person's own way.
func (l *Login) withServer(ctx context.Context, do func(*shellhost.Server) error) error {
	for _, own := range []bool{false, true} {
		s, r, err := l.shellServer(ctx, own || l.ownWay)
		if err != nil {
			return err
		}
		err = do(s)
		var failed *shellhost.SignInFailed
		if !errors.As(err, &failed) {
			return err
		}
		if !strings.Contains(failed.Said, "Permission denied") && !strings.Contains(failed.Said, "Too many authentication failures") {
			if r.Key != nil && !own {
				return r.refusal(ctx, failed.Said)
			}
			if changed := checkHostKey(ctx, l.Desk, r); changed != nil {
				return changed
			}
			return openssh.Unreachable(r.Host, failed.Said)
		}
		if own || r.Key == nil {
			f := fault.New(fault.HostSaidNo, "%s lets nobody in over SSH, neither with a key of account %s nor as your own SSH configuration has it", l.Host.Name, l.Account.Name).
				Detail("ssh says: %s", text.Excerpt(strings.TrimSpace(failed.Said), 300)).
				Try("see that you get in by yourself, for the first time", text.Command("ssh", l.Host.Base))
			return &Refusal{Fault: f, Means: description.NotSignedIn}
		}
		l.ownWay = true
	}
	return nil
}

// shellDo does an action on a plain server.
func (l *Login) shellDo(ctx context.Context, action, what string, vars description.Vars, got func(description.Result)) error {
	if l.Host.Actions[action] == nil {
		return l.May(action, what)
	}
	get := func(name string) string { return description.Written(vars[name]) }
	if v := get("visibility"); v != "" && v != "private" {
		return fault.New(fault.Refused, "visibility cannot be set to %q on %s: %s", v, l.Host.Name, l.Host.Cannot[v])
	}
	path := get("owner") + "/" + get("name")
	var result description.Result
	err := l.withServer(ctx, func(s *shellhost.Server) (err error) {
		var r shellhost.Repository
		switch action {
		case "identify":
			result.Fields, err = l.shellIdentity(ctx, s)
		case "repository-list":
			var all []shellhost.Repository
			all, err = s.List(ctx)
			for _, r := range all {
				if strings.Contains(strings.ToLower(r.Path), strings.ToLower(get("find"))) && strings.Contains(r.Path, "/") {
					result.Items = append(result.Items, l.shellFields(r))
				}
			}
		case "repository-show":
			if err = shellPath(path); err == nil {
				r, err = s.Show(ctx, path)
			}
			result.Fields = l.shellFields(r)
		case "repository-create":
			if err = shellPath(path); err == nil {
				branch := get("default_branch")
				if branch == "" {
					branch = "main"
				}
				r, err = s.Create(ctx, path, get("description"), branch, get("object_format"))
			}
			result.Fields = l.shellFields(r)
		case "repository-change":
			r, err = shellChange(ctx, s, path, vars)
			result.Fields = l.shellFields(r)
		case "repository-delete":
			err = l.shellDelete(ctx, s, path, get("id"))
		default:
			err = l.shellKeys(ctx, s, action, vars, &result)
		}
		return err
	})
	for from, m := range map[error]description.Meaning{shellhost.None: description.NotFound, shellhost.Taken: description.NameTaken} {
		if errors.Is(err, from) {
			err = l.refused(m, "", description.Answer{}, what, l.Host.Actions[action])
		}
	}
	if err != nil {
		return err
	}
	if l.Trace != nil {
		l.Trace(Exchange{Action: action, Call: description.Call{Method: "ssh", URL: l.Host.Base + l.Host.Shell.Folder}, Result: result})
	}
	got(result)
	return nil
}

// shellChange changes a repository on a plain server.
func shellChange(ctx context.Context, s *shellhost.Server, path string, vars description.Vars) (shellhost.Repository, error) {
	get := func(name string) string { return description.Written(vars[name]) }
	_, blank := vars["description"].(description.Blank)
	to := ""
	if n := get("new_name"); n != "" {
		to = get("owner") + "/" + n
		if err := shellPath(to); err != nil {
			return shellhost.Repository{}, err
		}
	}
	if err := shellPath(path); err != nil {
		return shellhost.Repository{}, err
	}
	return s.Change(ctx, path, to, get("description"), blank || get("description") != "", get("default_branch"))
}

// shellDelete moves a repository aside on a plain server, if it is still the one with the id.
func (l *Login) shellDelete(ctx context.Context, s *shellhost.Server, path, id string) error {
	if err := shellPath(path); err != nil {
		return err
	}
	r, err := s.Show(ctx, path)
	if err != nil {
		return err
	}
	if id != "" && r.ID != id {
		return &Refusal{fault.New(fault.HostSaidNo, "%s is another repository than the one that is meant", path), description.Changed}
	}
	aside, err := s.Delete(ctx, path)
	if err == nil {
		l.Desk.Tell.Note("On %s it was moved aside, not erased: %s", l.Host.Name, text.Visible(aside))
	}
	return err
}

// shellPath refuses paths that would lead out of the folder, or hide in it.
func shellPath(path string) error {
	for part := range strings.SplitSeq(path, "/") {
		if part == "" || part[0] == '.' || part[0] == '-' || strings.ContainsAny(part, "\x00\n\r\\") || len(part) > 200 {
			return fault.New(fault.Refused, "%s cannot be the path of a repository: its parts begin neither with a dot nor with a dash, and hold no line end and no backslash", text.Quote(path))
		}
	}
	return nil
}

func (l *Login) shellFields(r shellhost.Repository) map[string]any {
	i := strings.LastIndexByte(r.Path, '/')
	if i < 0 {
		return nil
	}
	return map[string]any{"id": r.ID, "owner": r.Path[:i], "name": r.Path[i+1:], "description": r.Description, "visibility": "private",
		"default_branch": r.Head, "empty": r.Empty, "right": "admin"}
}

func (l *Login) shellIdentity(ctx context.Context, s *shellhost.Server) (map[string]any, error) {
	_, version, writable, err := s.Identity(ctx)
	switch {
	case err != nil:
		return nil, err
	case shellhost.Old(version):
		return nil, fault.New(fault.HostSaidNo, "git on %s is of version %s, which is too old", l.Host.Name, text.Excerpt(version, 40))
	case !writable:
		return nil, fault.New(fault.HostSaidNo, "the folder %s on %s cannot be written in", text.Visible(s.Folder), l.Host.Name).
			Detail("Who runs the server can make it, or hand it over: mkdir -p %s; chown ... ", text.Quote(s.Folder))
	}
	user := l.Account.User
	if user == "" {
		user = l.Account.Name
	}
	return map[string]any{"user": user}, nil
}

// mostTriesAtKeys is how often a change of the keys is begun again because someone else
// changed them meanwhile.
const mostTriesAtKeys = 5

// shellKeys does what is about keys.
func (l *Login) shellKeys(ctx context.Context, s *shellhost.Server, action string, vars description.Vars, result *description.Result) error {
	get := func(name string) string { return description.Written(vars[name]) }
	only := ""
	if strings.HasPrefix(action, "deploy-") {
		path := get("owner") + "/" + get("name")
		if err := shellPath(path); err != nil {
			return err
		}
		if _, err := s.Show(ctx, path); err != nil {
			return err
		}
		only = s.Folder + "/" + path + ".git"
	}
	for try := 1; ; try++ {
		contents, sum, err := s.ReadKeys(ctx)
		if err != nil {
			return err
		}
		all := slices.DeleteFunc(authkeys.Read(contents), func(e authkeys.Entry) bool { return e.Only != only })
		switch _, verb, _ := strings.Cut(action, "key-"); verb {
		case "list":
			for _, e := range all {
				right := ""
				if e.Only != "" {
					right = text.Either(e.Writes, "write", "read")
				}
				result.Items = append(result.Items, map[string]any{"id": e.Half.Fingerprint(), "title": e.Title(), "key": e.Half.Line(), "right": right})
			}
			return nil
		case "add":
			half, err := sshkey.Read(get("key"))
			if err != nil {
				return err
			}
			half.Comment = get("title")
			if strings.ContainsAny(half.Comment, "\n\r\x00") {
				return fault.New(fault.Usage, "a key's name cannot hold a line end")
			}
			contents, err = authkeys.Add(contents, authkeys.Entry{Half: half, Only: only, Writes: get("right") == "write"})
			if err != nil {
				return err
			}
			result.Fields = map[string]any{"id": half.Fingerprint()}
		case "remove":
			i := slices.IndexFunc(all, func(e authkeys.Entry) bool { return e.Half.Fingerprint() == get("id") })
			if i < 0 {
				return shellhost.None
			}
			left, removed := authkeys.Remove(contents, all[i])
			if !removed {
				return fault.New(fault.Refused, "the key %s is outside the lines that this program keeps in %s on %s, and those are left alone", get("id"), s.Keys, l.Host.Name)
			}
			contents = left
		}
		err = s.WriteKeys(ctx, contents, sum)
		if !errors.Is(err, shellhost.Changed) || try == mostTriesAtKeys {
			return err
		}
	}
}

// HostTime tells what time it is on an account's host, by the header of an answer or, on a plain
// server, by its date(1); false where it does not tell.
func HostTime(ctx context.Context, d *desk.Desk, a *accounts.Account) (time.Time, bool) {
	if a == nil || a.Host == "" {
		return time.Time{}, false
	}
	h, err := accounts.HostOf(d, a)
	if err != nil {
		return time.Time{}, false
	}
	if h.Shell == nil {
		answer, err := d.Web.Do(ctx, description.Call{Method: http.MethodGet, URL: h.At})
		if err != nil {
			return time.Time{}, false
		}
		at, err := http.ParseTime(answer.Header.Get("Date"))
		return at, err == nil
	}
	l := &Login{Desk: d, Host: h, Account: a}
	var at time.Time
	err = l.withServer(ctx, func(s *shellhost.Server) (err error) {
		at, err = s.Time(ctx)
		return err
	})
	return at, err == nil && !at.IsZero()
}
