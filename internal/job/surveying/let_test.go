package surveying

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/desk/desktest"
)

func TestWhatWasLetThrough(t *testing.T) {
	d, _ := desktest.New(t)
	day := time.Date(2025, 3, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, KeepLet(t.Context(), d, "/x", []Let{{"keys", "test keys", day}, {"*.pem", "old", day}}))
	require.NoError(t, KeepLet(t.Context(), d, "/x", []Let{{"*.pem", "newer", day.AddDate(0, 0, 1)}}))
	require.NoError(t, KeepLet(t.Context(), d, "/x", nil))
	all, err := LetThrough(d, "/x")
	require.NoError(t, err)
	assert.Equal(t, []Let{{"keys", "test keys", day}, {"*.pem", "newer", day.AddDate(0, 0, 1)}}, all)
	let := LetPaths(all)
	for path, want := range map[string]bool{"keys/a": true, "sub/keys/a": false, "a.pem": true, "x/a.pem": false, "other": false} {
		assert.Equal(t, want, let(path), path)
	}
	none, err := LetThrough(d, "/y")
	require.NoError(t, err)
	assert.Empty(t, none)
}
