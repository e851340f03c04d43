package claiming

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/survey"
)

func TestOverlap(t *testing.T) {
	for _, c := range []struct {
		a, b string
		both bool
	}{
		{"mooring/plan.dwg", "mooring/plan.dwg", true},
		{"mooring/plan.dwg", "mooring/", true},
		{"mooring/plan.dwg", "*.dwg", true},
		{"mooring/", "*.dwg", true},
		{"mooring/", "mooring", true},
		{"mooring/", "moor", false},
		{"mooring/plan.dwg", "plan.dwg", false},
		{"mooring/plan.dwg", "mooring/*.txt", false},
		{"*.dwg", "*.txt", false},
		{"*.dwg", "plan*", true},
		{"deck/*.dwg", "mooring/", false},
		{"deck/*.dwg", "deck/a/b.dwg", false},
		{"deck/**/b.dwg", "deck/a/b.dwg", true},
		{"deck/**/b.dwg", "deck/b.dwg", true},
		{"deck/**", "deck/a/b.dwg", true},
		{"deck", "deck/a", false}, // a file
		{"de?k/", "deck/a/b", true},
		{"[cd]eck/x", "deck/x", true},
		{"*", "any/thing", true},
		{`a\*b`, "a*b", true},
		{`a\*b`, "axb", false},
		{"moor*", "mooring/plan.dwg", false},
		{"moor*/", "mooring/plan.dwg", true},
	} {
		assert.Equal(t, c.both, Overlap(c.a, c.b), "%s and %s", c.a, c.b)
		assert.Equal(t, c.both, Overlap(c.b, c.a), "%s and %s", c.b, c.a)
	}
	// It takes no longer than both are long.
	assert.False(t, Overlap(strings.Repeat("*a", 128), strings.Repeat("*b", 127)+"c"))
}

// FuzzCovers compares with what a person names elsewhere, and with itself.
func FuzzCovers(f *testing.F) {
	for _, s := range [][2]string{{"*.dwg", "a/b.dwg"}, {"a/", "a/b"}, {"a/**/c", "a/b/c"}, {"a?c", "abc"}, {"[ab]", "b"}} {
		f.Add(s[0], s[1])
	}
	f.Fuzz(func(t *testing.T, claimed, p string) {
		if CheckPath(claimed) != nil || CheckPath(p) != nil || strings.ContainsAny(p, "*?[\\") || strings.HasSuffix(p, "/") || len(claimed)+len(p) > 200 {
			return
		}
		c := Claim{Path: claimed}
		if covers := c.Covers(p); covers {
			assert.True(t, Overlap(claimed, p), "%q covers %q", claimed, p)
		}
		plain := pattern(claimed) && !strings.ContainsAny(claimed, "[\\ !#/") && !strings.Contains(claimed, "**")
		if base := p[strings.LastIndexByte(p, '/')+1:]; plain && survey.Named([]string{claimed})(base) {
			assert.True(t, c.Covers(p), "%q names %q", claimed, p)
		}
	})
}

func TestDocument(t *testing.T) {
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	one := Claim{ID: "0123456789abcdef", Path: "mooring/", By: "Knot", Key: "knot", Since: now, Until: now.Add(time.Hour), Branch: "deck"}
	data, err := Write([]Claim{one})
	require.NoError(t, err)
	all, err := Read(data)
	require.NoError(t, err)
	assert.Equal(t, []Claim{one}, all)
	for _, bad := range []string{"", "{}", `{"version":2}`, `{"version":1,"claims":[{}]}`, strings.Replace(string(data), "mooring/", "../x", 1), strings.Replace(string(data), "mooring/", ".git/config", 1),
		strings.Replace(string(data), "mooring/", "/etc", 1), strings.Replace(string(data), "knot", strings.Repeat("x", 2000), 1), strings.Replace(string(data), "0123", "zzzz", 1)} {
		_, err := Read([]byte(bad))
		assert.Error(t, err, bad)
	}
	assert.False(t, one.Over(now.Add(time.Hour), 0, nil))
	assert.True(t, one.Over(now.Add(time.Hour+time.Second), 0, nil))
	assert.False(t, one.Over(now.Add(time.Hour+time.Second), 15*time.Minute, nil))
	assert.True(t, one.Over(now, 0, func(string) bool { return false }))
}
