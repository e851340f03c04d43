package many

import (
	"bytes"
	"context"
	"errors"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/openssh"
	"uncinate/internal/world/sshline"
	"uncinate/internal/world/web"
)

// How many are asked at once: over HTTP, and by runs of the SSH client over one connection.
const (
	asksAtOnce = 16
	clientRuns = 6
)

// askAll asks the hosts of projects for their branches. Where programs must run for that, no
// more than jobs do at a time.
func askAll(ctx context.Context, d *desk.Desk, all []project.Project, jobs int, tell func(done int)) map[string]project.Answer {
	var mu sync.Mutex
	out := map[string]project.Answer{}
	put := func(p project.Project, a project.Answer) {
		mu.Lock()
		defer mu.Unlock()
		if _, twice := out[p.Folder]; !twice {
			out[p.Folder] = a
			tell(len(out))
		}
	}
	groups := map[string][]project.Project{}
	for _, p := range all {
		key := p.Account
		if at, err := address.Parse(p.Address); err == nil && (p.Account == "" || at.Scheme == "ssh") {
			key += " " + at.Scheme + " " + at.User + "@" + at.Host
		}
		groups[key] = append(groups[key], p)
	}
	d.Common()
	var work sync.WaitGroup
	for _, group := range groups {
		work.Go(func() { askGroup(ctx, d, group, jobs, put) })
	}
	work.Wait()
	return out
}

// askGroup asks for the projects of one account on one host, over one transport.
func askGroup(ctx context.Context, d *desk.Desk, group []project.Project, jobs int, put func(project.Project, project.Answer)) {
	fail := func(some []project.Project, err error) {
		for _, p := range some {
			put(p, project.Answer{Err: err})
		}
	}
	at, err := address.Parse(group[0].Address)
	if err != nil {
		fail(group, err)
		return
	}
	var account *accounts.Account
	if group[0].Account != "" {
		if account, err = accounts.Named(d, group[0].Account); err != nil {
			fail(group, err)
			return
		}
	}
	rest := group
	if account != nil && account.Host != "" && !account.NoToken && len(group) > 3 {
		if rest, err = askList(ctx, d, account, group, put); err != nil {
			fail(group, err)
			return
		}
	}
	if len(rest) == 0 {
		return
	}
	if at.Scheme == "ssh" {
		if account == nil {
			fail(rest, errSlow)
			return
		}
		askSSH(ctx, d, account, at, rest, jobs, put)
		return
	}
	user, secret := "", ""
	if account != nil {
		token, err := accounts.Token(ctx, d, account, true)
		if err == nil {
			user, secret, err = login.GitLogin(ctx, d, account, token)
		}
		if err != nil {
			fail(rest, err)
			return
		}
	}
	askHTTP(ctx, d, rest, account != nil, user, secret, put)
}

// askHTTP asks for the refs of several projects of one host, over HTTP and side by side; one
// that speaks the older protocol alone is asked only that from then on. named says that an account
// signs in.
func askHTTP(ctx context.Context, d *desk.Desk, all []project.Project, named bool, user, secret string, put func(project.Project, project.Answer)) {
	asking, ctx := errgroup.WithContext(ctx)
	asking.SetLimit(asksAtOnce)
	var old atomic.Bool
	for _, p := range all {
		asking.Go(func() error {
			at, err := address.Parse(p.Address)
			if err != nil {
				put(p, project.Answer{Err: err})
				return nil
			}
			skip := old.Load()
			if !skip {
				refs, ok, err := d.Web.ListRefs(ctx, at, user, secret)
				if err != nil || ok {
					put(p, project.Answer{Refs: refs, Tags: true, Whole: true, Err: err})
					return nil
				}
			}
			refs, err := d.Web.Refs(ctx, at, user, secret)
			if err == nil && !skip { // it is there, and speaks the older protocol alone
				old.Store(true)
			}
			if !named && fault.Is(err, fault.HostSaidNo) {
				err = errSlow // git may have a sign-in of its own
			}
			put(p, project.Answer{Refs: refs, Tags: true, Whole: true, Err: err})
			return nil
		})
	}
	_ = asking.Wait() // each puts its own error
}

// askSlowly asks, by git itself, the hosts of those of which only git can ask.
func askSlowly(ctx context.Context, d *desk.Desk, all []project.Project, answers map[string]project.Answer) {
	var mu sync.Mutex
	asking, ctx := errgroup.WithContext(ctx)
	asking.SetLimit(clientRuns)
	slow := slices.DeleteFunc(slices.Clone(all), func(p project.Project) bool { return !errors.Is(answers[p.Folder].Err, errSlow) })
	for _, p := range slow {
		asking.Go(func() error {
			refs, err := askOne(ctx, d, p.Folder)
			a := project.Answer{Refs: refs, Tags: err == nil, Whole: err == nil, Err: err}
			mu.Lock()
			defer mu.Unlock()
			answers[p.Folder] = a
			return nil
		})
	}
	_ = asking.Wait() // each puts its own error
}

// askOne asks the host of one project by git, on a desk of its own.
func askOne(ctx context.Context, d *desk.Desk, folder string) (web.Refs, error) {
	own, err := d.Beside(ctx, desk.Silence{})
	if err != nil {
		return web.Refs{}, err
	}
	f, p, err := project.ProjectFor(ctx, own, folder)
	if err != nil {
		return web.Refs{}, err
	}
	h, err := project.TieOf(ctx, own, f, p)
	if err != nil {
		return web.Refs{}, err
	}
	return project.Refs(ctx, own, h, "")
}

// errSlow says that only git itself can ask.
var errSlow = fault.New(fault.Decision, "only git itself can ask this host")

// askList asks the host for its list of branches, if it has one, and gives the projects of
// which it told nothing.
func askList(ctx context.Context, d *desk.Desk, account *accounts.Account, group []project.Project, put func(project.Project, project.Answer)) ([]project.Project, error) {
	l, err := login.Open(ctx, d, account)
	if err != nil {
		return nil, err
	}
	if l.Host.Actions["head-list"] == nil {
		return group, nil
	}
	items, err := l.List(ctx, "head-list", "list the branches of all repositories", nil)
	if err != nil {
		return nil, err
	}
	tags := l.TellsTags()
	told := map[string]web.Refs{}
	for _, f := range items {
		path := strings.ToLower(description.Written(f["owner"]) + "/" + description.Written(f["name"]))
		if _, found := told[path]; !found {
			told[path] = web.Refs{IDs: map[string]string{}}
		}
		if b, id := description.Written(f["branch"]), description.Written(f["head"]); b != "" && id != "" {
			told[path].IDs["refs/heads/"+b] = id
		} else if tag := description.Written(f["tag"]); tag != "" && id != "" {
			told[path].IDs["refs/tags/"+tag] = id
		}
	}
	var rest []project.Project
	for _, p := range group {
		_, owner, name := hosts.RecogniseAmong([]*hosts.Host{l.Host}, p.Address)
		refs, found := told[strings.ToLower(owner+"/"+name)]
		if !found {
			rest = append(rest, p)
			continue
		}
		put(p, project.Answer{Refs: refs, Tags: tags})
	}
	return rest, nil
}

// askSSH asks over one connection, several channels at once.
func askSSH(ctx context.Context, d *desk.Desk, account *accounts.Account, at address.Address, group []project.Project, jobs int, put func(project.Project, project.Answer)) {
	fail := func(err error) {
		for _, p := range group {
			put(p, project.Answer{Err: err})
		}
	}
	k, err := accounts.KeyOf(d, account.Name, accounts.KeyInForce)
	if err == nil && k == nil {
		err = accounts.NoKey(d, account)
	}
	if err != nil {
		fail(err)
		return
	}
	r := login.FindRoute(d, k, at)
	if _, err := r.SignsIn(ctx); err != nil {
		fail(err)
		return
	}
	ssh, err := openssh.Find(d.Log)
	if err != nil {
		fail(err)
		return
	}
	run, beside, end, err := channels(ctx, d, ssh, r, at, jobs)
	if err != nil {
		fail(err)
		return
	}
	defer end()
	asking, ctx := errgroup.WithContext(ctx)
	asking.SetLimit(beside)
	for _, p := range group {
		asking.Go(func() error {
			own, err := address.Parse(p.Address)
			if err != nil {
				put(p, project.Answer{Err: err})
				return nil
			}
			path := own.Path
			if own.Suffix {
				path += ".git"
			}
			if !own.Home && !strings.HasPrefix(path, "~") {
				path = "/" + path
			}
			out, err := run(ctx, "git-upload-pack '"+strings.ReplaceAll(path, "'", `'\''`)+"'")
			if err != nil {
				if !fault.Is(err, fault.Unreachable) && ctx.Err() == nil {
					err = errSlow // git finds the cause
				}
				put(p, project.Answer{Err: err})
				return nil
			}
			refs, ok := web.ParseRefs(string(out))
			if !ok {
				refs, ok = web.ParseAdvertisement(string(out))
			}
			if !ok {
				put(p, project.Answer{Err: errSlow}) // git finds the cause
				return nil
			}
			put(p, project.Answer{Refs: refs, Tags: true, Whole: true})
			return nil
		})
	}
	_ = asking.Wait() // each puts its own error
}

// runs runs a command on a host and gives what it printed.
type runs func(ctx context.Context, command string) ([]byte, error)

// plainWay are the settings of SSH that lead somewhere else, or through something, and the
// value that each has where it does not (ssh_config(5)).
var plainWay = map[string]string{"proxyjump": "none", "proxycommand": "none", "proxyusefdpass": "no", "canonicalizehostname": "false",
	"hostkeyalias": "none", "bindaddress": "none", "bindinterface": "none", "addressfamily": "any", "certificatefile": "none", "revokedhostkeys": "none"}

// channels opens one connection to a host, by which commands are run, so many beside each
// other: spoken here where the way is plain, and by the SSH client, shared, where the
// person's configuration counts.
func channels(ctx context.Context, d *desk.Desk, ssh *openssh.Client, r *login.Route, at address.Address, jobs int) (run runs, beside int, end func(), err error) {
	in := []byte(web.RefsRequest + "0000")
	settings, err := ssh.Settings(ctx, r.File(), r.User, r.Host)
	if err != nil {
		return nil, 0, nil, err
	}
	if line, err := plainLine(ctx, d, r, settings); err == nil {
		return func(ctx context.Context, command string) ([]byte, error) {
			return line.Run(ctx, command, map[string]string{"GIT_PROTOCOL": "version=2"}, in)
		}, sshline.Channels, func() { _ = line.Close() }, nil // it is no longer needed, however it ends
	} else if ctx.Err() != nil {
		return nil, 0, nil, ctx.Err()
	} else {
		d.Log.Debug("ssh by the client", "host", r.Host, "why", err)
	}
	via := login.SharedBy(d, r)
	if via == "" {
		return nil, 0, nil, errSlow
	}
	words := []string{"-F", r.File(), "-T", "-o", "LogLevel=ERROR", "-o", "ControlPath=" + via}
	master, err := ssh.Start(ctx, openssh.Cmd{Args: append(append(slices.Clone(words), "-o", "ControlMaster=yes", "-N"), openssh.Target(at.User, at.Host)...), Env: r.Environment()})
	if err != nil {
		return nil, 0, nil, err
	}
	end = func() {
		_, _ = ssh.Run(context.WithoutCancel(ctx), openssh.Cmd{Args: append(append(slices.Clone(words), "-O", "exit"), openssh.Target(at.User, at.Host)...), Limit: 5 * time.Second}) // closing it does the same, later
		master.Close()
	}
	for waited := time.Duration(0); ; waited += 10 * time.Millisecond {
		if files.Reached(via) != files.None {
			break
		}
		if waited > 15*time.Second || d.Pause(ctx, 10*time.Millisecond) != nil {
			end()
			return nil, 0, nil, openssh.Unreachable(r.Host, master.Said())
		}
	}
	return func(ctx context.Context, command string) ([]byte, error) {
		args := append(slices.Clone(words), "-o", "ControlMaster=no", "-o", "SendEnv=GIT_PROTOCOL")
		result, err := ssh.Run(ctx, openssh.Cmd{Args: append(append(args, openssh.Target(at.User, at.Host)...), command), In: bytes.NewReader(in), Env: append(r.Environment(), "GIT_PROTOCOL=version=2")})
		return result.Out, err // how it ended counts for nothing: what it told is whole, or it is not taken
	}, min(clientRuns, jobs), end, nil
}

// errNotPlain says that the way to a host is not one that is spoken here.
var errNotPlain = errors.New("the way is not plain")

// plainLine opens a connection without the SSH client, where nothing in the person's
// configuration, and nothing about the key, needs it.
func plainLine(ctx context.Context, d *desk.Desk, r *login.Route, settings []string) (*sshline.Line, error) {
	host, port := "", "22"
	for _, line := range settings {
		name, value, _ := strings.Cut(line, " ")
		if plain, matters := plainWay[name]; matters && value != plain {
			return nil, errNotPlain
		}
		switch name {
		case "hostname":
			host = value
		case "port":
			port = value
		}
	}
	if r.Key.Half().Hardware() {
		return nil, errNotPlain
	}
	private, err := files.Read(r.Key.File, sshkey.Longest)
	if err != nil {
		return nil, err
	}
	passphrase := ""
	if r.Key.Sealed {
		if passphrase, err = accounts.Passphrase(ctx, d, r.Key, true); err != nil {
			return nil, err
		}
	}
	return sshline.Dial(ctx, net.JoinHostPort(host, port), r.User, private, passphrase, login.KnownHosts(d), 15*time.Second)
}
