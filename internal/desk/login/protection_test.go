package login

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestProtection(t *testing.T) {
	no, yes := false, true
	for _, c := range []struct {
		p                 Protection
		says              string
		user, right       string
		rewrites, deletes bool
		forbids           bool
	}{
		{Protection{}, "", "knot", "write", true, true, false},
		{Protection{Rewriting: &no, Deleting: &no}, "no rewriting, no deletion", "knot", "write", false, false, false},
		{Protection{Rewriting: &no, Deleting: &yes}, "no rewriting", "knot", "admin", true, false, true},
		{Protection{Rewriting: &yes, Deleting: &no}, "no deletion", "knot", "admin", false, true, true},
		{Protection{Mergers: []string{"tern", "dunlin"}}, "only tern, dunlin send to it", "knot", "admin", false, false, true},
		{Protection{Mergers: []string{"Knot"}}, "only Knot sends to it", "knot", "read", false, false, false},
		{Protection{Right: "admin"}, "sending takes the right admin", "knot", "write", false, false, true},
		{Protection{Right: "admin"}, "sending takes the right admin", "knot", "", false, false, false}, // what the person may is not told
		{Protection{Right: "write"}, "sending takes the right write", "knot", "admin", false, false, false},
	} {
		assert.Equal(t, c.says, c.p.Says())
		assert.Equal(t, c.forbids, c.p.Forbids(c.user, c.right, c.rewrites, c.deletes), "%s", c.says)
	}
}
