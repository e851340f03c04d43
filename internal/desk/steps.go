package desk

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// Step is one item of a plan that knows how to see whether it is done, how to do it
// and how to put it back. Do may be called again after it was cut off half-way, so
// it looks before it acts. Nobody else knows a step by its ID.
type Step struct {
	plan.Item
	Done  func(ctx context.Context) (bool, error) // nil: always to be done
	Do    func(ctx context.Context) error
	Undo  func(ctx context.Context) error           // nil: there is nothing to put back
	Back  func(ctx context.Context) (string, error) // what Undo will do, in a sentence, where putting back is a plan of its own; "" for nothing
	Stays func(done bool) bool                      // once it was begun: whether all that was done until now stays, even where a later step is refused; nil: no
}

// Bare is a step of which only its name, where it acts and how it is put back are said: back is what
// that does, in a sentence, "" for nothing.
func Bare(id string, place plan.Place, back string, undo func(context.Context) error) Step {
	return Step{Item: plan.Item{ID: id, Place: place}, Undo: undo, Back: func(context.Context) (string, error) { return back, nil }}
}

// Planned makes a bare step one of a plan.
func (s Step) Planned(place plan.Place, sentence string, done func(context.Context) (bool, error), do func(context.Context) error) Step {
	s.Place, s.Sentence, s.Done, s.Do = place, sentence, done, do
	return s
}

// Always is for steps after whose beginning all stays, OnceDone for those after whose end it does.
func Always(bool) bool { return true }

// OnceDone says it of a step that is done.
func OnceDone(done bool) bool { return done }

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
	if err == nil && found {
		if err = checkFacts(s); err != nil {
			err = r.Journal.Unusable(err)
		}
	}
	if err != nil {
		return nil, false, err
	}
	if found {
		r.State = s
		return r, true, nil
	}
	r.State = plan.State{Head: plan.Head{Version: plan.Version, Job: name, Subject: subject, Started: d.Now().UTC().Truncate(time.Second)},
		Marks: map[string]plan.Mark{}, Facts: map[string]json.RawMessage{}}
	return r, false, nil
}

// Wants puts what the plan is made from into the journal that will be started: one value.
func (r *Runner) Wants(value any) (err error) {
	r.State.Head.Wanted, err = json.Marshal(value)
	return err
}

// Wanted reads what an unfinished plan was made from; false where there is none.
func (r *Runner) Wanted(value any) (bool, error) {
	if len(r.State.Head.Wanted) == 0 {
		return false, nil
	}
	if err := json.Unmarshal(r.State.Head.Wanted, value); err != nil {
		return false, r.Journal.Unusable(fault.New(fault.Failed, "the journal is damaged where it says what was wanted").Because(err))
	}
	return true, nil
}

// Record writes to the journal how a step stands, and facts of it; "" stands for none.
func (r *Runner) Record(step string, mark plan.Mark, facts map[string]json.RawMessage) error {
	if step != "" {
		if _, seen := r.State.Marks[step]; !seen {
			r.State.Order = append(r.State.Order, step)
		}
		r.State.Marks[step] = mark
	}
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
	final := f.Kind == fault.HostSaidNo || f.Kind == fault.Refused || f.Kind == fault.Decision || f.Kind == fault.Usage
	for _, s := range steps {
		if m := r.State.Marks[s.ID]; s.Stays != nil && (m == plan.Begun || m == plan.Done) && s.Stays(m == plan.Done) {
			final = false
		}
	}
	if !final || ctx.Err() != nil {
		out := *f
		out.Cause = errors.Join(f.Cause, err)
		if len(r.State.Order) > 0 {
			said := "The same command, run again, goes on from here."
			if slices.Contains(slices.Collect(maps.Values(r.State.Marks)), plan.Done) {
				said = "What is done is kept. " + said
			}
			out.Details = append(out.Details, said)
		}
		return &out
	}
	for _, s := range slices.Backward(steps) {
		if m := r.State.Marks[s.ID]; s.Undo == nil || (m != plan.Begun && m != plan.Done) {
			continue
		}
		if undo := r.back(ctx, s); undo != nil {
			out := *f
			out.Cause = errors.Join(f.Cause, undo)
			out.Details = append(out.Details, "Putting back \""+s.Sentence+"\" failed too: "+undo.Error())
			return &out
		}
	}
	if e := r.Journal.Close(); e != nil {
		return errors.Join(err, e)
	}
	out := *f
	out.Details = append(out.Details, r.AsWas)
	return &out
}

// back puts one step back, and writes that it is.
func (r *Runner) back(ctx context.Context, s Step) error {
	r.Current = s.ID
	if err := s.Undo(ctx); err != nil {
		return err
	}
	return r.Record(s.ID, plan.Undone, nil)
}

// ToPutBack gives, of all steps that a job can have, those that an unfinished run of it began and
// that can be put back, newest first, as a plan. A step of the journal that is not among them
// stops it: it may have done what nobody here can take back.
func (r *Runner) ToPutBack(ctx context.Context, all []Step) ([]Step, error) {
	var out []Step
	for _, id := range r.State.ToPutBack() {
		i := slices.IndexFunc(all, func(s Step) bool { return s.ID == id })
		if i < 0 {
			return nil, r.Journal.Unusable(fault.New(fault.Failed, "the journal tells of a step %s, which this version of the program does not know", text.Quote(id)))
		}
		s := all[i]
		if s.Back == nil {
			continue
		}
		var err error
		if s.Sentence, err = s.Back(ctx); err != nil {
			return nil, err
		}
		if s.Sentence != "" {
			out = append(out, s)
		}
	}
	return out, nil
}

// PutBack carries such a plan out; cut off, it goes on from there.
func (r *Runner) PutBack(ctx context.Context, steps []Step) error {
	for _, s := range steps {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := r.back(ctx, s); err != nil {
			return err
		}
		r.desk.Tell.Step(s.Item, false)
	}
	return r.Journal.Close()
}
