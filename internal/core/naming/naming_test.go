package naming

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPropose(t *testing.T) {
	for in, want := range map[string]string{
		"gauge-firmware":         "gauge-firmware",
		"Tide Almanac":           "Tide-Almanac",
		".hidden":                "hidden",
		"a/b":                    "ab",
		"--x":                    "x",
		"ünï":                    "n",
		"日本":                     "",
		"x.git":                  "x",
		"..":                     "",
		strings.Repeat("a", 150): strings.Repeat("a", Longest),
	} {
		got := Propose(in)
		assert.Equal(t, want, got, in)
		if got != "" {
			assert.NoError(t, Check(got), in)
		}
	}
	for _, bad := range []string{"", "a b", "-x", "x.", "a/b", "a\nb", ".."} {
		assert.Error(t, Check(bad), bad)
	}
	owner, name := Split("coast/gauges/north")
	assert.Equal(t, []string{"coast/gauges", "north"}, []string{owner, name})
}
