package desk

import (
	"context"
	"path/filepath"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// What several runs may change at once is changed by Alter, and by nothing else: it is read,
// changed and written under a lock of its own. Whoever waits for one lock holds no other that
// another run may wait for; an account's name alone is held while its secret and its entry are
// written.

// mostLockWait is how long a lock is waited for that another run of ours holds.
const mostLockWait = 60 * time.Second

// Wait takes a lock of this program's, by its name, and waits while another run has it; the
// context ends that. about says what is locked, as "the accounts".
func (d *Desk) Wait(ctx context.Context, name, about string) (*files.Held, error) {
	return d.WaitAt(ctx, filepath.Join(d.Home.State, "locks", name+".lock"), about)
}

// WaitAt is Wait for a lock that is elsewhere.
func (d *Desk) WaitAt(ctx context.Context, path, about string) (*files.Held, error) {
	held, holder, err := files.LockWait(ctx, path, mostLockWait)
	if err != nil || held != nil {
		return held, err
	}
	f := fault.New(fault.Failed, "another uncinate has been at work on %s for a minute", about)
	if holder > 0 {
		f.Detail("It is process %d.", holder)
	}
	return nil, f.Try("when it has ended, run this again; to see what there is", "uncinate ready")
}

// Alter reads a file of ours, lets how change what it holds, and writes it, alone. Where how
// fails, nothing is written. A file that is not there holds T's zero value.
func Alter[T any](ctx context.Context, d *Desk, path string, how func(T) (T, error)) (err error) {
	held, err := d.Wait(ctx, "file-"+files.Short(path), text.Visible(filepath.Base(path)))
	if err != nil {
		return err
	}
	defer fault.Also(&err, held.Release)
	var now T
	if _, err := files.ReadJSON(path, &now); err != nil {
		return err
	}
	next, err := how(now)
	if err != nil {
		return err
	}
	return files.WriteJSON(path, next)
}
