package practice

import (
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseFault(t *testing.T) {
	f, err := ParseFault("  rate-limit=3s on GET on /deck/hulls after 2 times 1 chance 0.5 ")
	require.NoError(t, err)
	assert.Equal(t, &Fault{Kind: "rate-limit", Status: 500, Time: 3 * time.Second, Method: "GET", Path: "/deck/hulls", After: 2, Times: 1, Chance: 0.5,
		Text: "rate-limit=3s on GET on /deck/hulls after 2 times 1 chance 0.5"}, f)
	for _, bad := range []string{"", "sulk", "fail=200", "fail=x", "delay=-1s", "delay=2h", "cut on", "cut after x", "cut often 2", "late=soon"} {
		_, err := ParseFault(bad)
		assert.Error(t, err, bad)
	}
}

func TestFaultsAreTheSameForTheSameSeed(t *testing.T) {
	draw := func(seed uint64) string {
		f, err := NewFaults(seed, "fail on GET after 2 chance 0.5 times 9", "cut on POST on hull")
		require.NoError(t, err)
		out := ""
		for i := range 40 {
			q, _ := http.NewRequest([]string{"GET", "GET", "POST"}[i%3], "http://h/deck/hull/x", nil)
			if r := f.next(q); r == nil {
				out += "."
			} else {
				out += r.Kind[:1]
			}
		}
		return out
	}
	assert.Equal(t, draw(7), draw(7))
	assert.NotEqual(t, draw(7), draw(8))
	assert.Equal(t, "..c", draw(7)[:3], "the first two pass")
}

func TestFaultsByControlCall(t *testing.T) {
	g, as := start(t, t.TempDir())
	tern := as["tern"]
	code, v, _ := tern.ask("PUT", "/control/faults", `["fail=503 on /deck/self times 1"]`)
	require.Equal(t, 200, code)
	assert.Equal(t, []any{"fail=503 on /deck/self times 1"}, v["faults"])
	code, _, _ = tern.ask("GET", "/deck/self", "")
	assert.Equal(t, 503, code)
	code, _, _ = tern.ask("GET", "/deck/self", "")
	assert.Equal(t, 200, code)
	_, v, _ = tern.ask("GET", "/control/faults", "")
	assert.Equal(t, []any{"GET /deck/self: fail=503 on /deck/self times 1"}, v["met"])
	code, _, _ = tern.ask("PUT", "/control/faults", `["sulk"]`)
	assert.Equal(t, 422, code)
	require.NoError(t, g.Faults.Set([]string{"lose on POST", "garbage on GET"}))
	_, err := http.Post(g.URL+"/deck/hulls", "application/json", nil)
	assert.Error(t, err)
	code, v, head := tern.ask("GET", "/deck/self", "")
	assert.Equal(t, 200, code)
	assert.Nil(t, v)
	assert.Equal(t, "text/html", head.Get("Content-Type"))
}
