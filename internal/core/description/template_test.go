package description

import (
	"math/rand/v2"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/yosida95/uritemplate/v3"
)

// TestExpand holds that values come back whole from an address, whatever is in them.
func TestExpand(t *testing.T) {
	for _, c := range []struct{ template, value, want string }{
		{"/b/{name}", "main", "/b/main"}, {"/b/{name}", "été €😀", "/b/%C3%A9t%C3%A9%20%E2%82%AC%F0%9F%98%80"}, {"/b/{+name}", "a/é", "/b/a/%C3%A9"},
		{"/b/{?name}", "é&x", "/b/?name=%C3%A9%26x"}, {"/b/{name}", "a~xC3é~x~x", "/b/a~xC3%C3%A9~x~x"}, {"/b/~x/{name}", "é", "/b/~x/%C3%A9"}, {"/b/{name}", "a\x00b", "/b/a%00b"}, {"/b/{name}", "\xff", "/b/%FF"},
	} {
		got, err := expand(uritemplate.MustNew(c.template), Vars{"name": c.value})
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
	}
	seed := rand.Uint64()
	draw := rand.New(rand.NewPCG(seed, 0))
	for range 500 {
		value := make([]rune, 1+draw.IntN(6))
		for i := range value {
			value[i] = []rune("a~x/%é€😀\x00 \u202e")[draw.IntN(11)]
		}
		got, err := expand(uritemplate.MustNew("/b/{name}/end"), Vars{"name": string(value)})
		require.NoError(t, err)
		back, err := url.PathUnescape(got)
		require.NoError(t, err)
		assert.Equal(t, "/b/"+string(value)+"/end", back, "seed %d", seed)
	}
}
