package desk_test

import (
	"context"
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
		require.NoError(t, r.Note("fact", "known"))
		s, _, _ = r.Journal.Read()
		assert.Equal(t, "known", s.Facts["fact"], "a fact is on the disk before it is relied on")
		return os.Remove(r.Journal.Path())
	}
	assert.Error(t, r.Run(t.Context(), steps), "a journal that cannot be written stops the work")
}
