package semver

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestParseAndCompare(t *testing.T) {
	for _, bad := range []string{"", "1", "1.2", "1.2.3.4", "01.2.3", "1.2.3-", "1.2.3-01", "1.2.3+", "1.2.x", "vv1.2.3", "1.2.3-a..b", "1.2.3 ", "-1.2.3"} {
		_, ok := Parse(bad)
		assert.False(t, ok, bad)
	}
	// The order is the one of item 11's example.
	order := []string{"0.9.10", "1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-beta", "1.0.0-beta.2", "1.0.0-beta.11", "1.0.0-rc.1", "v1.0.0", "1.0.1+build.01", "1.10.0", "2.0.0-0", "2.0.0"}
	for i := range order {
		for k := range order {
			a, ok := Parse(order[i])
			assert.True(t, ok, order[i])
			b, _ := Parse(order[k])
			c := Compare(a, b)
			assert.Equal(t, [2]bool{i < k, i == k}, [2]bool{c < 0, c == 0}, "%s %s", order[i], order[k])
		}
	}
}
