package desk

import (
	"encoding/json"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
)

// Fact is what a step notes in the journal, for later steps and for runs that go on from it: its
// name there, and the type of its value, which is written as JSON. A fact about one of several
// things has the thing's name behind a colon.
type Fact[T any] struct{ name string }

// facts are all that this program can note, with what tells whether a value is one.
var facts = map[string]func(json.RawMessage) error{}

// NewFact makes a fact; each has a name of its own, and is made once.
func NewFact[T any](name string) Fact[T] {
	if _, taken := facts[name]; taken || strings.Contains(name, ":") {
		panic("a fact cannot be called " + name)
	}
	facts[name] = func(value json.RawMessage) error { return json.Unmarshal(value, new(T)) }
	return Fact[T]{name}
}

// About is the fact about one thing.
func (f Fact[T]) About(thing string) Fact[T] { return Fact[T]{f.name + ":" + thing} }

// In gives what a journal says; the zero value where it says nothing.
func (f Fact[T]) In(s plan.State) T {
	var value T
	if json.Unmarshal(s.Facts[f.name], &value) != nil {
		return *new(T) // nothing was noted, or what Begin goes on with no journal for
	}
	return value
}

// Of gives what an earlier step, or an earlier run, noted.
func (f Fact[T]) Of(r *Runner) T { return f.In(r.State) }

// Known reports whether it was noted.
func (f Fact[T]) Known(r *Runner) bool { return r.State.Facts[f.name] != nil }

// Things gives what was noted about each thing, by its name.
func (f Fact[T]) Things(r *Runner) map[string]T {
	all := map[string]T{}
	for name := range r.State.Facts {
		if thing, is := strings.CutPrefix(name, f.name+":"); is {
			all[thing] = f.About(thing).Of(r)
		}
	}
	return all
}

// Note writes it to the journal of the running step before it is relied on.
func (f Fact[T]) Note(r *Runner, value T) error {
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	mark := plan.Begun
	if r.Current == "" || r.State.Marks[r.Current] == plan.Done {
		mark = r.State.Marks[r.Current] // a fact learnt by looking, also before the work, changes none
	}
	return r.Record(r.Current, mark, map[string]json.RawMessage{f.name: data})
}

// checkFacts makes sure that all facts of a journal can be relied on.
func checkFacts(s plan.State) error {
	for name, value := range s.Facts {
		kind, _, _ := strings.Cut(name, ":")
		check := facts[kind]
		if check == nil {
			return fault.New(fault.Failed, "the journal notes %s, which this version of the program does not know", text.Quote(name))
		}
		if err := check(value); err != nil {
			return fault.New(fault.Failed, "the journal is damaged where it notes %s", text.Quote(name)).Because(err)
		}
	}
	return nil
}
