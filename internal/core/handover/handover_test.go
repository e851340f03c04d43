package handover

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNote(t *testing.T) {
	n := Note{Make: []Need{{"build/", "make"}}, Supply: []Need{{"a \"b\"\\\n\x01", "bring your own"}}}
	got, err := Parse([]byte(n.Format()))
	require.NoError(t, err)
	assert.Equal(t, n, got)
	assert.False(t, got.Empty())
	for _, bad := range []string{"make = 1", "[[make]]\nwhat = \"x\"\nrun = \"rm\"\n", strings.Repeat("#", Most+1), "\x00"} {
		_, err := Parse([]byte(bad))
		assert.Error(t, err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("[[make]]\nwhat = \"x\"\nhow = \"y\"\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		n, err := Parse(data)
		if err != nil {
			return
		}
		again, err := Parse([]byte(n.Format()))
		require.NoError(t, err)
		require.Len(t, again.Make, len(n.Make))
	})
}
