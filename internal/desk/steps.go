package desk

import (
	"context"
	"errors"
	"maps"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/world/files"
)

// Step is one item of a plan that knows how to see whether it is done, how to do it
// and how to put it back. Do may be called again after it was cut off half-way, so
// it looks before it acts.
type Step struct {
	plan.Item
	Done func(ctx context.Context) (bool, error) // nil: always to be done
	Do   func(ctx context.Context) error
	Undo func(ctx context.Context) error // nil: there is nothing to put back
	Firm bool                            // once it is begun, nothing that was done before is put back any more
}

// Items gives the steps as they are shown.
func Items(steps []Step) []plan.Item {
	items := make([]plan.Item, len(steps))
	for i, s := range steps {
		items[i] = s.Item
	}
	return items
}

// Runner carries a plan out, with a journal written before and after each step.
type Runner struct {
	desk    *Desk
	Journal *files.Journal
	State   plan.State
	Current string
	AsWas   string // what is said once all was put back
}

// Begin opens the journal of a job on a subject, or starts a new one. resumed says
// that unfinished work was found.
func (d *Desk) Begin(name, subject string) (r *Runner, resumed bool, err error) {
	r = &Runner{desk: d, Journal: d.Home.JournalAt(name, subject), AsWas: "Nothing was changed on the host, and the folder is as it was."}
	s, found, err := r.Journal.Read()
	if err != nil {
		return nil, false, err
	}
	if found {
		r.State = s
		return r, true, nil
	}
	r.State = plan.State{Head: plan.Head{Version: plan.Version, Job: name, Subject: subject, Started: d.Now().UTC().Truncate(time.Second), Wanted: map[string]string{}},
		Marks: map[string]plan.Mark{}, Facts: map[string]string{}}
	return r, false, nil
}

// Fact gives what an earlier step, or an earlier run, noted.
func (r *Runner) Fact(key string) string { return r.State.Facts[key] }

// Note writes a fact of the running step to the journal before it is relied on.
func (r *Runner) Note(key, value string) error { return r.Notes(map[string]string{key: value}) }

// Notes writes several facts of the running step in one line of the journal.
func (r *Runner) Notes(facts map[string]string) error {
	mark := plan.Begun
	if r.State.Marks[r.Current] == plan.Done {
		mark = plan.Done // a fact learnt by looking does not make it undone
	}
	return r.Record(r.Current, mark, facts)
}

// Record writes to the journal how a step stands, and facts of it.
func (r *Runner) Record(step string, mark plan.Mark, facts map[string]string) error {
	if _, seen := r.State.Marks[step]; !seen {
		r.State.Order = append(r.State.Order, step)
	}
	r.State.Marks[step] = mark
	maps.Copy(r.State.Facts, facts)
	return r.Journal.Add(plan.Record{Time: r.desk.Now().UTC(), Step: step, Mark: mark, Facts: facts})
}

// Run does the steps. When a step is refused, by the host or to protect the person,
// what this plan did here is put back; after any other failure the journal stays,
// and the same command goes on from it.
func (r *Runner) Run(ctx context.Context, steps []Step) error {
	if len(r.State.Order) == 0 {
		if err := r.Journal.Start(r.State.Head); err != nil {
			return err
		}
	}
	for _, s := range steps {
		if err := r.step(ctx, s); err != nil {
			return r.failed(ctx, steps, s, err)
		}
	}
	return r.Journal.Close()
}

func (r *Runner) step(ctx context.Context, s Step) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	r.Current = s.ID
	if s.Done != nil {
		done, err := s.Done(ctx)
		if err != nil {
			return err
		}
		if done {
			if r.State.Marks[s.ID] == plan.Begun {
				// It was cut off after the work and before the record of it.
				if err := r.Record(s.ID, plan.Done, nil); err != nil {
					return err
				}
			}
			r.desk.Tell.Step(s.Item, true)
			return nil
		}
	}
	if err := r.Record(s.ID, plan.Begun, nil); err != nil {
		return err
	}
	if err := s.Do(ctx); err != nil {
		return err
	}
	if err := r.Record(s.ID, plan.Done, nil); err != nil {
		return err
	}
	r.desk.Tell.Step(s.Item, false)
	return nil
}

func (r *Runner) failed(ctx context.Context, steps []Step, at Step, err error) error {
	f := fault.Of(err)
	final := f.Kind == fault.HostSaidNo || f.Kind == fault.Refused || f.Kind == fault.Decision
	for _, s := range steps {
		if m := r.State.Marks[s.ID]; s.Firm && (m == plan.Begun || m == plan.Done) {
			final = false
		}
	}
	if !final || r.State.Marks["create"] == plan.Done || r.Fact("by push") == "done" || ctx.Err() != nil {
		out := *f
		out.Cause = errors.Join(f.Cause, err)
		if len(r.State.Order) > 0 {
			out.Details = append(out.Details, "What was done so far is kept; the same command, run again, goes on from here.")
		}
		return &out
	}
	for i := len(steps) - 1; i >= 0; i-- {
		s := steps[i]
		if m := r.State.Marks[s.ID]; s.Undo == nil || (m != plan.Begun && m != plan.Done) {
			continue
		}
		r.Current = s.ID
		if undo := s.Undo(ctx); undo != nil {
			out := *f
			out.Details = append(out.Details, "Putting back \""+s.Sentence+"\" failed too: "+undo.Error())
			return &out
		}
		if e := r.Record(s.ID, plan.Undone, nil); e != nil {
			return errors.Join(err, e)
		}
	}
	if e := r.Journal.Close(); e != nil {
		return errors.Join(err, e)
	}
	out := *f
	out.Details = append(out.Details, r.AsWas)
	return &out
}
