package deploy

import (
	"context"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/bell"
	"uncinate/internal/world/files"
	"uncinate/internal/world/sysready"
)

// ringFile is the file that rings: whoever changes its time lets the branch be looked at, and nothing else. Anybody on the
// machine may.
func (x Deploy) ringFile() string { return x.at("ring") }

// Ring rings for one.
func Ring(x Deploy) error { return files.Touch(x.ringFile()) }

// beforeHook is what a hook is called that was there before ours, which runs it first.
const beforeHook = "post-receive.before-uncinate"

// RingAfterPush lets a repository on this machine ring whenever something was pushed to it: by git's hook post-receive
// (githooks documentation), after what was there. The hook changes a file's time, and holds nobody up.
func RingAfterPush(x Deploy, bare string) error {
	bare, err := filepath.Abs(bare)
	if err != nil {
		return err
	}
	hooks := filepath.Join(bare, "hooks")
	if files.Missing(filepath.Join(bare, "HEAD")) {
		return fault.New(fault.Usage, "%s is not a repository that is pushed to", text.Visible(bare)).Try("", text.Command("uncinate", "deploy", "ring", x.Name, "--after-push", "/srv/git/REPOSITORY.git"))
	}
	at, before := filepath.Join(hooks, "post-receive"), filepath.Join(hooks, beforeHook)
	says, err := files.Read(at, 1<<20)
	ours := err == nil && strings.Contains(string(says), kinds.Opening)
	if err == nil && !ours {
		if files.KindOf(before) != files.None {
			return fault.New(fault.Decision, "there is a hook %s already, and one of before too", text.Visible(at)).Try("look at both", text.Command("cat", "--", at, before))
		}
		if err := files.Move(at, before); err != nil {
			return err
		}
	}
	line := "echo rung >" + text.Quote(filepath.ToSlash(x.ringFile())) + " # " + x.Name
	script := "#!/bin/sh\n" + kinds.Opening + "\nstatus=0\nbefore=$(dirname \"$0\")/" + beforeHook + "\nif [ -x \"$before\" ]; then \"$before\" \"$@\"; status=$?; fi\n" + line + "\nexit $status\n" + kinds.Closing + "\n"
	if ours && strings.Contains(string(says), line) {
		return nil
	}
	if ours { // another folder follows it too
		script = strings.Replace(string(says), "exit $status\n", line+"\nexit $status\n", 1)
	}
	return files.Write(at, []byte(script), 0o755)
}

// The times of watching.
const (
	lookEvery = 100 * time.Millisecond // at the files that ring
	again     = 2 * time.Second        // after another run was at work
	gather    = 50 * time.Millisecond  // for which rings that come together start one run
	apart     = time.Second            // between two runs that were rung for
)

// Watching stays, and follows several branches side by side.
type Watching struct {
	Every time.Duration
	Tell  func(name, line string) // what is new of one, in a line; may be called from several at once

	desk  *desk.Desk
	all   []Deploy
	rings map[string]chan struct{} // one waits at most: many rings start one run
	bell  *bell.Listener           // for web hooks; nil for none
	bells *bells
}

// PlanWatch prepares to follow those that are named, or all.
func PlanWatch(d *desk.Desk, names []string) (*Watching, error) {
	w := &Watching{desk: d, rings: map[string]chan struct{}{}}
	var err error
	if w.all, err = All(d); err != nil {
		return nil, err
	}
	if len(names) > 0 || len(w.all) == 0 {
		w.all = nil
		for _, name := range append(names, "")[:max(len(names), 1)] {
			x, err := Named(d, name)
			if err != nil {
				return nil, err
			}
			w.all = append(w.all, x)
		}
	}
	for _, x := range w.all {
		w.rings[x.Name] = make(chan struct{}, 1)
		if files.KindOf(x.ringFile()) == files.None {
			if err := files.Touch(x.ringFile()); err != nil {
				return nil, err
			}
		}
	}
	return w, nil
}

// Count is how many are followed.
func (w *Watching) Count() int { return len(w.all) }

// Do follows until the context ends.
func (w *Watching) Do(ctx context.Context) error {
	group, within := errgroup.WithContext(ctx)
	for _, x := range w.all {
		group.Go(func() error { return w.follow(within, x) })
	}
	group.Go(func() error { return w.look(within) })
	if w.bell != nil {
		group.Go(func() error { return w.bell.Serve(within) })
	}
	if every := sysready.BeatEvery(); every > 0 {
		group.Go(func() error { return w.beat(within, every) })
	}
	if _, err := sysready.Tell(sysready.Ready); err != nil {
		w.desk.Log.Debug("deploy", "the manager does not hear that it is ready", err)
	}
	err := group.Wait()
	if _, e := sysready.Tell(sysready.Stopping); e != nil {
		w.desk.Log.Debug("deploy", "the manager does not hear that it ends", e)
	}
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func (w *Watching) beat(ctx context.Context, every time.Duration) error {
	for w.desk.Pause(ctx, every) == nil {
		if _, err := sysready.Tell(sysready.Beat); err != nil {
			w.desk.Log.Debug("deploy", "the manager does not hear that it works", err)
		}
	}
	return nil
}

// look looks at the files that ring.
func (w *Watching) look(ctx context.Context) error {
	seen := map[string]int64{}
	for {
		for _, x := range w.all {
			_, at, err := files.Stamp(x.ringFile())
			if before, known := seen[x.Name]; err == nil && known && at != before {
				w.Ring(x.Name)
			}
			if err == nil {
				seen[x.Name] = at
			}
		}
		if w.desk.Pause(ctx, lookEvery) != nil {
			return nil
		}
	}
}

// Ring lets one be looked at soon; false where it is not followed.
func (w *Watching) Ring(name string) bool {
	ring, known := w.rings[name]
	if !known {
		return false
	}
	select {
	case ring <- struct{}{}:
	default: // one waits already
	}
	return true
}

// follow brings new commits of one into use: at each ring, and at the interval.
func (w *Watching) follow(ctx context.Context, x Deploy) error {
	said := ""
	for {
		line, busy := w.once(ctx, x)
		if ctx.Err() != nil {
			return nil
		}
		if line != said && !busy {
			if said = line; line != "" {
				w.Tell(x.Name, line)
			}
		}
		wait := w.Every
		if busy {
			wait = again
		}
		began := time.Now()
		due := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			due.Stop()
			return nil
		case <-w.rings[x.Name]:
			due.Stop()
			if w.desk.Pause(ctx, max(gather, apart-time.Since(began))) != nil {
				return nil
			}
			select {
			case <-w.rings[x.Name]: // those that came meanwhile
			default:
			}
		case <-due.C:
		}
	}
}

// once updates one, and says what is new in a line; busy where another run is at work.
func (w *Watching) once(ctx context.Context, x Deploy) (line string, busy bool) {
	d, err := w.desk.Beside(ctx, desk.Silence{})
	if err != nil {
		return text.Visible(fault.Of(err).Says), false
	}
	now, err := Named(d, x.Name) // it may have been removed, or changed
	if err != nil {
		return text.Visible(fault.Of(err).Says), false
	}
	if w.bells != nil {
		w.bells.note(x.Name)
	}
	u, err := Update(ctx, d, now, UpdateOptions{Ring: true})
	switch {
	case err != nil:
		return text.Visible(fault.Of(err).Says), strings.HasPrefix(fault.Of(err).Says, "another uncinate")
	case u.Failed != nil:
		return u.Failed.Commit[:10] + " is not in use: " + text.Visible(u.Failed.words()), false
	case u.State == "in use":
		return u.InUse[:10] + " is in use", false
	case u.State == "waiting":
		return "the tasks of " + u.Commit[:10] + " wait for approval: " + text.Command("uncinate", "deploy", "approve", x.Name), false
	}
	return "", false
}

// Unit is a systemd unit that follows all of them, as the person that runs this, with nothing that it does not need
// (systemd.exec(5), "Sandboxing").
func Unit(d *desk.Desk, every time.Duration, listen string) (string, error) {
	all, err := All(d)
	if err != nil {
		return "", err
	}
	if len(all) == 0 {
		_, err := Named(d, "")
		return "", err
	}
	me, err := user.Current()
	if err != nil {
		return "", fault.New(fault.Failed, "the system does not say who you are").Because(err)
	}
	words := []string{d.Program, "deploy", "watch", "--every", every.String()}
	if listen != "" {
		words = append(words, "--listen", listen)
	}
	writes := []string{d.Home.Config, d.Home.State, filepath.Dir(d.Home.Vault)}
	var names []string
	for _, x := range all {
		names = append(names, x.Name)
		writes = append(writes, filepath.Dir(x.Folder))
	}
	if d.Home.Top != "" {
		writes = append(writes, d.Home.Top)
	}
	slices.Sort(writes)
	var b strings.Builder
	line := func(s string) { b.WriteString(s + "\n") }
	line("# Made by: uncinate deploy unit")
	line("[Unit]")
	line("Description=Uncinate follows " + strings.Join(names, ", "))
	line("Wants=network-online.target")
	line("After=network-online.target")
	line("")
	line("[Service]")
	line("Type=notify")
	line("User=" + me.Username)
	line("ExecStart=" + unitWords(words))
	if d.Home.Top != "" {
		line("Environment=" + unitWord("UNCINATE_HOME="+d.Home.Top))
	}
	line("Restart=on-failure")
	line("RestartSec=10")
	line("WatchdogSec=60")
	line("UMask=0022")
	for _, w := range slices.Compact(writes) {
		line("ReadWritePaths=" + unitWord(w))
	}
	for _, s := range []string{"NoNewPrivileges=yes", "ProtectSystem=strict", "PrivateTmp=yes", "PrivateDevices=yes", "ProtectClock=yes", "ProtectHostname=yes", "ProtectKernelTunables=yes", "ProtectKernelModules=yes", "ProtectKernelLogs=yes",
		"ProtectControlGroups=yes", "RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6", "RestrictNamespaces=yes", "RestrictRealtime=yes", "RestrictSUIDSGID=yes", "LockPersonality=yes", "SystemCallArchitectures=native", "CapabilityBoundingSet="} {
		line(s)
	}
	line("")
	line("[Install]")
	line("WantedBy=multi-user.target")
	return b.String(), nil
}

// unitWords writes a command line (systemd.service(5), "Command lines").
func unitWords(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = strings.ReplaceAll(unitWord(w), "$", "$$")
	}
	return strings.Join(out, " ")
}

// unitWord writes one word: in quotes where it needs them, with no specifier (systemd.unit(5), "Specifiers").
func unitWord(w string) string {
	w = strings.ReplaceAll(w, "%", "%%")
	if strings.ContainsAny(w, " \t\"'\\") {
		w = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(w) + `"`
	}
	return w
}
