// Package desk is what every job shares: the Desk with the machine's home, vault, clock and
// teller; the Step, and the runner that journals steps, goes on after a cut and puts back; and
// the machine's settings. Each room below it and each job takes a *Desk as its first argument
// after the context. It knows no host, account or project, and decides nothing.
package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/gitconfig"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/openfiles"
	"uncinate/internal/world/shellhost"
	"uncinate/internal/world/vault"
	"uncinate/internal/world/web"
)

// Desk is what every job works with.
type Desk struct {
	Home     files.Home
	Vault    *vault.Vault
	Web      *web.Client
	Shipped  fs.FS  // descriptions that come with the program
	Program  string // absolute path of this program, for git's configuration
	UserHome string // the person's home folder
	Now      func() time.Time
	Tell     Teller
	Log      *slog.Logger
	Sleep    func(ctx context.Context, long time.Duration) error // nil: the clock's own

	git     *git.Git
	Servers map[string]*shellhost.Server // plain servers that were reached in this run
	shared  *shared
	Among   bool // it is one of several desks side by side, for which a host's description is read once
}

// shared is what desks have in common that work side by side.
type shared struct {
	Vault  sync.Mutex // opening it may ask the person
	Mu     sync.Mutex
	Warned map[string]bool // accounts whose token's end was told
	rooms  []any           // what each room keeps, see Memory

	Open      map[string]openfiles.Process // files that programs have open
	OpenSince time.Time
}

// Memory gives what a room keeps in memory for this run: the one T of all desks that work
// side by side, made when it is first asked for. T is a type of the room's own.
func Memory[T any](d *Desk) *T {
	s := d.Common()
	s.Mu.Lock()
	defer s.Mu.Unlock()
	for _, kept := range s.rooms {
		if t, is := kept.(*T); is {
			return t
		}
	}
	t := new(T)
	s.rooms = append(s.rooms, t)
	return t
}

// Common is what desks share that work side by side.
func (d *Desk) Common() *shared {
	if d.shared == nil {
		d.shared = &shared{}
	}
	return d.shared
}

// Beside gives a desk for work on one of several projects at once.
func (d *Desk) Beside(ctx context.Context, tell Teller) (*Desk, error) {
	d.Common()
	g, err := d.Git(ctx)
	if err != nil {
		return nil, err
	}
	other, own := *d, *g
	other.git, other.Tell, other.Servers, other.Among = &own, tell, nil, true
	return &other, nil
}

// Pause waits, and ends early with the context.
func (d *Desk) Pause(ctx context.Context, long time.Duration) error {
	if d.Sleep != nil {
		return d.Sleep(ctx, long)
	}
	return files.Pause(ctx, long)
}

// Teller is told what happens while a job works.
type Teller interface {
	// Step tells that a step of the plan is over: done now, or found done already.
	Step(item plan.Item, already bool)
	// Progress tells how far the running step is; a total of 0 ends it. more is how fast it
	// goes, or what is under way.
	Progress(what string, done, total int64, more string)
	// Note tells something worth knowing.
	Note(format string, args ...any)
}

// Git finds the installed git, once.
func (d *Desk) Git(ctx context.Context) (*git.Git, error) {
	if d.git == nil {
		s, err := d.Settings()
		if err != nil {
			return nil, err
		}
		if d.git, err = d.findGit(ctx, s.Git); err != nil {
			return nil, err
		}
	}
	return d.git, nil
}

// PersonsGit gives the settings of the person's git, and the machine's, that hold outside of any repository.
func (d *Desk) PersonsGit(ctx context.Context) ([]gitconfig.Setting, error) {
	s, err := d.Settings()
	if err != nil {
		return nil, err
	}
	g, err := d.findGit(ctx, s.Git) // not the desk's own: requests run side by side
	if err != nil {
		return nil, err
	}
	return g.Outside(ctx)
}

// findGit takes the git program at a path, or the one on the PATH.
func (d *Desk) findGit(ctx context.Context, path string) (*git.Git, error) {
	var known git.Known
	at := filepath.Join(d.Home.State, "git.json")
	if _, err := files.ReadJSON(at, &known); err != nil {
		known = git.Known{} // it is only a note, and is made again
	}
	g, now, err := git.FindKnown(ctx, path, d.Log, known)
	if err == nil && now != known {
		err = d.note(at, now)
	}
	if err != nil && path != "" && ctx.Err() == nil {
		f := *fault.Of(err)
		f.Remedies = nil
		return nil, f.Try("go back to the one on the PATH", "uncinate settings unset git")
	}
	return g, err
}

// note keeps what is known of git; where it cannot be kept, it is asked for again.
func (d *Desk) note(at string, known git.Known) error {
	data, err := json.Marshal(known)
	if err != nil {
		return err
	}
	if err := files.Dump(at, data); err != nil {
		d.Log.Debug("git", "not noted", err)
	}
	return nil
}

// Alone makes sure that no other run of this program works on a folder meanwhile.
// Runs of git keep the lock until they end, so that one whose parent was killed does
// not meet the next run.
func (d *Desk) Alone(ctx context.Context, folder string) (*files.Held, error) {
	g, err := d.Git(ctx)
	if err != nil {
		return nil, err
	}
	held, holder, err := files.Lock(ctx, filepath.Join(d.Home.State, "locks", files.Short(folder)+".lock"))
	if err != nil {
		return nil, err
	}
	if held == nil {
		who := ""
		if holder > 0 {
			who = fmt.Sprintf(" (process %d, or what it started)", holder)
		}
		return nil, fault.New(fault.Failed, "another uncinate%s is working on %s just now", who, text.Visible(folder)).
			Try("wait for it to end, then look", text.Command("uncinate", "status", folder))
	}
	err = d.Home.Sweep(folder)
	if held.Died > 0 {
		err = errors.Join(err, sweepLocks(folder), sweepTemporary(d.Now()))
	}
	if err != nil {
		return nil, errors.Join(err, held.Release())
	}
	g.Keep = held.File()
	return held, nil
}

// Silence is a teller for work of which the end is told elsewhere.
type Silence struct{}

// Step tells nobody.
func (Silence) Step(plan.Item, bool) {}

// Progress tells nobody.
func (Silence) Progress(string, int64, int64, string) {}

// Note tells nobody.
func (Silence) Note(string, ...any) {}
