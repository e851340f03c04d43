package histories

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDecide(t *testing.T) {
	both := Two{Here: true, There: true, Known: true, Related: true}
	with := func(change func(*Two)) Two { x := both; change(&x); return x }
	for name, c := range map[string]struct {
		two   Two
		need  Need
		sends bool
	}{
		"nothing at all":             {Two{}, Nothing, false},
		"first commits":              {Two{Here: true}, Send, true},
		"first commits, a follower":  {Two{Here: true, InOnly: true}, Nothing, false},
		"nothing here":               {Two{There: true}, FastForward, false},
		"in step":                    {both, Nothing, false},
		"behind":                     {with(func(x *Two) { x.Behind = 2 }), FastForward, false},
		"ahead":                      {with(func(x *Two) { x.Ahead = 2 }), Send, true},
		"ahead, a follower":          {with(func(x *Two) { x.Ahead, x.InOnly = 2, true }), Nothing, false},
		"both":                       {with(func(x *Two) { x.Ahead, x.Behind = 1, 1 }), Replay, true},
		"both, a follower":           {with(func(x *Two) { x.Ahead, x.Behind, x.InOnly = 1, 1, true }), Replay, false},
		"both, merged as set":        {with(func(x *Two) { x.Ahead, x.Behind, x.Merge = 1, 1, true }), Merge, true},
		"both, with merges":          {with(func(x *Two) { x.Ahead, x.Behind, x.Merges = 1, 1, true }), Merge, true},
		"removed there":              {Two{Here: true, Known: true}, Dropped, false},
		"unrelated":                  {with(func(x *Two) { x.Related, x.Ahead, x.Behind = false, 1, 1 }), Strange, false},
		"rewritten":                  {with(func(x *Two) { x.Rewritten, x.Ahead, x.Behind = true, 1, 1 }), Take, false},
		"rewritten to an older one":  {with(func(x *Two) { x.Rewritten, x.Ahead = true, 1 }), Take, false},
		"rewritten, own on top":      {with(func(x *Two) { x.Rewritten, x.Ahead, x.Own, x.Behind = true, 2, 1, 1 }), Replay, true},
		"rewritten, own merges":      {with(func(x *Two) { x.Rewritten, x.Ahead, x.Own, x.Merges = true, 2, 1, true }), Strange, false},
		"begun again there":          {with(func(x *Two) { x.Rewritten, x.Related, x.Ahead, x.Behind = true, false, 3, 1 }), Take, false},
		"rewritten, and here has it": {with(func(x *Two) { x.Rewritten, x.Behind = true, 1 }), FastForward, false},
	} {
		need := Decide(c.two)
		assert.Equal(t, c.need, need, name)
		assert.Equal(t, c.sends, need.Sends(c.two), name)
	}
}
