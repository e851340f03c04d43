package histories

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWalk(t *testing.T) {
	w, err := ReadWalk("f e d\ne c\nd c\nc b\nb a\na\nx c\nz\n")
	require.NoError(t, err)
	for _, c := range []struct {
		ours, theirs  string
		ahead, behind int
	}{{"f", "c", 3, 0}, {"c", "f", 0, 3}, {"e", "d", 1, 1}, {"x", "f", 1, 3}, {"f", "f", 0, 0}, {"z", "f", 1, 6}, {"f", "z", 6, 1}, {"a", "x", 0, 3}} {
		ahead, behind, err := w.Apart(c.ours, c.theirs)
		require.NoError(t, err)
		assert.Equal(t, [2]int{c.ahead, c.behind}, [2]int{ahead, behind}, "%s and %s", c.ours, c.theirs)
	}
	_, _, err = w.Apart("f", "nowhere")
	assert.Error(t, err)
	_, err = ReadWalk("a\n\nb\n")
	assert.Error(t, err)
	w, err = ReadWalk("b a\n")
	require.NoError(t, err, "the parent does not come")
	ahead, _, err := w.Apart("b", "a")
	require.NoError(t, err)
	assert.Equal(t, 1, ahead)
}
