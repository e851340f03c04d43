package desk_test

import (
	"context"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/desk"
	"uncinate/internal/desk/desktest"
)

// colour is a value that a step notes; paint is about all it does, coats about one thing each.
type colour struct {
	Name  string
	Coats int
}

var (
	paint = desk.NewFact[colour]("test-paint")
	coats = desk.NewFact[int]("test-coats")
)

// world is what the steps of a test change.
type world map[string]string

func (w world) steps(fail string, why error) []desk.Step {
	var steps []desk.Step
	for _, id := range []string{"one", "two", "three"} {
		steps = append(steps, desk.Step{Item: plan.Item{ID: id, Place: plan.Here, Sentence: "Do " + id},
			Done: func(context.Context) (bool, error) { return w[id] == "done", nil },
			Do: func(context.Context) error {
				if id == fail {
					return why
				}
				w[id] = "done"
				return nil
			},
			Undo: func(context.Context) error { w[id] += " undone"; return nil }})
	}
	return steps
}

func TestRunnerGoesOn(t *testing.T) {
	d, tell := desktest.New(t)
	w := world{"one": "done"}
	r, resumed, err := d.Begin("attach", "/folder")
	require.NoError(t, err)
	assert.False(t, resumed)
	err = r.Run(t.Context(), w.steps("three", fault.New(fault.Unreachable, "the line was cut")))
	require.True(t, fault.Is(err, fault.Unreachable))
	assert.Contains(t, strings.Join(fault.Of(err).Details, " "), "goes on from here")
	assert.Equal(t, []string{"one true", "two false"}, tell.Lines)
	assert.Equal(t, world{"one": "done", "two": "done"}, w, "nothing is put back when it may go on")

	r, resumed, err = d.Begin("attach", "/folder")
	require.NoError(t, err)
	assert.True(t, resumed)
	require.NoError(t, r.Run(t.Context(), w.steps("", nil)))
	assert.Equal(t, []string{"one true", "two false", "one true", "two true", "three false"}, tell.Lines)
	_, resumed, err = d.Begin("attach", "/folder")
	require.NoError(t, err)
	assert.False(t, resumed, "what is finished leaves no journal")
}

func TestRunnerPutsBack(t *testing.T) {
	d, _ := desktest.New(t)
	for _, kind := range []fault.Kind{fault.HostSaidNo, fault.Refused, fault.Decision} {
		w := world{"one": "done"}
		r, _, err := d.Begin("attach", "/folder")
		require.NoError(t, err)
		err = r.Run(t.Context(), w.steps("three", fault.New(kind, "no")))
		assert.True(t, fault.Is(err, kind))
		assert.Equal(t, world{"one": "done", "two": "done undone", "three": " undone"}, w, "only what this plan did is put back")
		assert.NoFileExists(t, r.Journal.Path())
	}
	w := world{}
	r, _, err := d.Begin("attach", "/other")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	steps := w.steps("", nil)
	steps[1].Do = func(context.Context) error { cancel(); return ctx.Err() }
	err = r.Run(ctx, steps)
	assert.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 130, fault.ExitCode(err))
	assert.FileExists(t, r.Journal.Path())
}

func TestJournalNeverLies(t *testing.T) {
	d, _ := desktest.New(t)
	r, _, err := d.Begin("attach", "/folder")
	require.NoError(t, err)
	steps := world{}.steps("", nil)
	steps[0].Do = func(context.Context) error {
		s, found, err := r.Journal.Read()
		require.NoError(t, err)
		assert.True(t, found)
		assert.Equal(t, plan.Begun, s.Marks["one"], "a step is journaled before it is done")
		require.NoError(t, paint.Note(r, colour{"grey", 2}))
		s, _, _ = r.Journal.Read()
		assert.Equal(t, colour{"grey", 2}, paint.In(s), "a fact is on the disk before it is relied on")
		return os.Remove(r.Journal.Path())
	}
	assert.Error(t, r.Run(t.Context(), steps), "a journal that cannot be written stops the work")
}

// TestAMadeUpStep takes a step that nothing but this test knows through all that can happen to one:
// it is cut off, gone on with, cut off again and put back.
func TestAMadeUpStep(t *testing.T) {
	d, tell := desktest.New(t)
	wall := map[string]string{}
	steps := func(r *desk.Runner, cut string) []desk.Step {
		varnish := desk.Step{Item: plan.Item{ID: "varnish", Place: plan.Host, Sentence: "Varnish the wall"},
			Stays: desk.OnceDone,
			Do: func(context.Context) error {
				return fault.New(fault.Unreachable, "there is no varnish")
			}}
		return []desk.Step{{Item: plan.Item{ID: "paint", Place: plan.Here, Sentence: "Paint the wall"},
			Done: func(context.Context) (bool, error) { return wall["east"] != "" && wall["west"] != "", nil },
			Do: func(context.Context) error {
				if err := paint.Note(r, colour{"grey", 2}); err != nil {
					return err
				}
				for _, side := range []string{"east", "west"} {
					if side == cut {
						return fault.New(fault.Unreachable, "the line was cut")
					}
					if err := coats.About(side).Note(r, 2); err != nil {
						return err
					}
					wall[side] = paint.Of(r).Name
				}
				return nil
			},
			Back: func(context.Context) (string, error) { return "Take off " + paint.Of(r).Name, nil },
			Undo: func(context.Context) error {
				assert.Equal(t, map[string]int{"east": 2, "west": 2}, coats.Things(r))
				clear(wall)
				return nil
			}}, varnish}
	}
	begin := func(was bool) *desk.Runner {
		r, resumed, err := d.Begin("painting", "/wall")
		require.NoError(t, err)
		require.Equal(t, was, resumed)
		return r
	}
	r := begin(false)
	require.NoError(t, r.Wants(colour{"any", 0}))
	require.True(t, fault.Is(r.Run(t.Context(), steps(r, "west")), fault.Unreachable))
	require.Equal(t, map[string]string{"east": "grey"}, wall)
	r = begin(true)
	wanted := colour{}
	found, err := r.Wanted(&wanted)
	require.NoError(t, err)
	assert.True(t, found && wanted.Name == "any")
	require.ErrorContains(t, r.Run(t.Context(), steps(r, "")), "no varnish")
	require.Equal(t, map[string]string{"east": "grey", "west": "grey"}, wall)

	r = begin(true)
	_, err = r.ToPutBack(t.Context(), nil)
	require.ErrorContains(t, err, `a step varnish, which this version`, "what nobody knows is not passed over")
	back, err := r.ToPutBack(t.Context(), steps(r, ""))
	require.NoError(t, err)
	assert.Equal(t, []plan.Item{{ID: "paint", Place: plan.Here, Sentence: "Take off grey"}}, desk.Items(back), "of the other one there is nothing to put back")
	require.NoError(t, r.PutBack(t.Context(), back))
	assert.Empty(t, wall)
	assert.Equal(t, "paint false", tell.Lines[len(tell.Lines)-1])
	begin(false)
}

func TestJournalsOfOtherProgramsAreNotReliedOn(t *testing.T) {
	d, _ := desktest.New(t)
	for _, facts := range []string{`{"test-paint":7}`, `{"test-coats:east":"two"}`, `{"test-unknown":true}`} {
		j := d.Home.JournalAt("painting", "/wall")
		require.NoError(t, j.Start(plan.Head{Version: plan.Version, Job: "painting", Subject: "/wall"}))
		values := map[string]json.RawMessage{}
		require.NoError(t, json.Unmarshal([]byte(facts), &values))
		require.NoError(t, j.Add(plan.Record{Step: "paint", Mark: plan.Begun, Facts: values}))
		_, _, err := d.Begin("painting", "/wall")
		require.ErrorContains(t, err, "the journal of unfinished work cannot be used", facts)
		assert.NotEmpty(t, fault.Of(err).Remedies)
	}
}
