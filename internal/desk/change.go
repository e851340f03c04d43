package desk

import (
	"context"
	"path/filepath"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// Change is a change of one subject, such as an account's keys or a repository, as steps: planned,
// to be shown, then done. It implements Plan.
type Change struct {
	Desk    *Desk
	Steps   []Step
	Job     string
	Subject string // what it changes; one run at a time works on it
	Host    string // the name of the host that steps act on; empty where they act on several or none
	AsWas   string // the sentence for an error: what is where a step failed
	Line    string // the command that goes on with it where it was cut off, without its folder; empty where any does
	From    string // the commit that it begins from, where one that goes on must know it

	About    string // the thing itself, as a result names it
	MustType bool   // only who read the notes, and types what it is about, goes ahead: a yes given before is not enough
	Head     string
	Notes    []string
}

// Items is the plan as it is shown.
func (c *Change) Items() []plan.Item { return Items(c.Steps) }

// Release gives the plan up; it holds nothing yet.
func (c *Change) Release() error { return nil }

// HostName is where the host's steps act.
func (c *Change) HostName() string { return c.Host }

// Do carries the plan out; cut off, the same command goes on from there.
func (c *Change) Do(ctx context.Context) (err error) {
	held, holder, err := files.Lock(ctx, filepath.Join(c.Desk.Home.State, "locks", "change-"+files.Short(c.Subject)+".lock"))
	if err != nil {
		return err
	}
	if held == nil {
		return fault.New(fault.Failed, "another uncinate (process %d) is at work on %s just now; let it end, then run this again", holder, text.Visible(c.Subject))
	}
	defer fault.Also(&err, held.Release)
	r, resumed, err := c.Desk.Begin(c.Job, c.Subject)
	if err != nil {
		return err
	}
	r.AsWas = c.AsWas
	if !resumed && c.Line != "" {
		if err := r.Wants(Cut{c.Line, c.From}); err != nil {
			return err
		}
	}
	return r.Run(ctx, c.Steps)
}

// Cut is what the journal of a change keeps of it: the line that goes on with it, and the commit
// that it began from.
type Cut struct{ Line, From string }

// GoesOn reads what the same command noted before it was cut off; nil where none was. Where
// another command about the same was, it says which one goes on.
func (c *Change) GoesOn() (*Cut, error) {
	r, found, err := c.Desk.Begin(c.Job, c.Subject)
	if err != nil || !found {
		return nil, err
	}
	was := &Cut{}
	if _, err := r.Wanted(was); err != nil {
		return nil, err
	}
	if was.Line != c.Line && was.Line != "" {
		f := fault.New(fault.Decision, "another change was cut off here, and is not finished")
		return nil, f.Try("finish it first", was.Line+" "+text.Command("--folder", c.Subject))
	}
	return was, nil
}

// GiveUp forgets what the same command noted before it was cut off.
func (c *Change) GiveUp() error { return c.Desk.Home.JournalAt(c.Job, c.Subject).Close() }
