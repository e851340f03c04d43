package desk

import (
	"context"
	"path/filepath"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// Change is a change of an account's keys: planned, to be shown, then done.
type Change struct {
	Desk    *Desk
	Steps   []Step
	Job     string
	Subject string
	Host    string
	AsWas   string

	Head  string
	Notes []string
	Said  string // what the host said when it let the key in
}

// Items is the plan as it is shown.
func (c *Change) Items() []plan.Item { return Items(c.Steps) }

// Release gives the plan up; it holds nothing yet.
func (c *Change) Release() error { return nil }

// HostName is where the host's steps act.
func (c *Change) HostName() string { return c.Host }

// Do carries the plan out; cut off, the same command goes on from there.
func (c *Change) Do(ctx context.Context) error {
	held, holder, err := files.Lock(filepath.Join(c.Desk.Home.State, "locks", "change-"+files.Short(c.Subject)+".lock"))
	if err != nil {
		return err
	}
	if held == nil {
		return fault.New(fault.Failed, "another uncinate (process %d) is at work on %s just now; let it end, then run this again", holder, text.Visible(c.Subject))
	}
	defer held.Release()
	r, _, err := c.Desk.Begin(c.Job, c.Subject)
	if err != nil {
		return err
	}
	r.AsWas = c.AsWas
	return r.Run(ctx, c.Steps)
}
