package description

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/theory/jsonpath"
)

// TestShortWaysAgreeWithTheLibrary compares what a short way finds with what the path means.
func TestShortWaysAgreeWithTheLibrary(t *testing.T) {
	var answers []any
	for _, body := range []string{`{"links": [{"kind": "web", "to": "w"}, {"kind": "http", "to": "h"}, {"kind": "http", "to": "second"}]}`,
		`{"links": []}`,
		`{"links": {"kind": "http", "to": "no list"}}`, `{"links": {"kind": null}, "a": {"links": null}}`,
		`{}`,
		`null`,
		`{"links": [{"kind": "http"}, {"kind": "http", "to": "later"}]}`,
		`{"links": [1, null, {"kind": 7, "to": "number"}, {"kind": "http", "to": {"at": "deep"}}]}`, `{"a": {"links": [{"kind": "http", "to": {"at": "deeper"}}]}}`} {
		v, err := Parse([]byte(body))
		require.NoError(t, err)
		answers = append(answers, v)
	}
	for path, short := range map[string]bool{"$.links[?(@.kind == 'http')].to": true, "$.links[?@.kind == 'http'].to": true, "$.links[?(@.kind=='http')].to": true, "$.links[?(@.kind == 'none')].to": true,
		"$.a.links[?(@.kind == 'http')].to.at": true, "$.links[?(@.kind == 'http')].to.at": true, "$.links[?(@.kind != 'http')].to": false, "$.links[0].to": false,
		"$.links": true, "$": true, "$.a.links": true, "$.links.kind": true, "$.none.x_1": true, "$.\u00e9": true, "$ .a": true, "$['a']['links']": true, `$["a"].links`: true, `$["it's \"\u00e9\""]`: true} {
		p, err := parsePath(path)
		require.NoError(t, err, path)
		whole, err := jsonpath.Parse(path)
		require.NoError(t, err, path)
		assert.Equal(t, short, p.pick != nil || p.names != nil, path)
		for i, v := range answers {
			var want any
			all := append([]any(nil), whole.Select(v)...)
			if len(all) > 0 {
				want = all[0]
			}
			assert.Equal(t, all, append([]any(nil), p.All(v)...), "%s in answer %d", path, i)
			assert.Equal(t, want, p.First(v), "%s in answer %d", path, i)
		}
	}
}

func TestParsePathRefuses(t *testing.T) {
	for path, says := range map[string]string{"$.a[01]": "position", "$..a": "all depths", "a": "", "$.a[": "", "$[?@.a[?@.b]]": "more than one filter", "$[?@.a == $.b]": "from the top",
		"$[*,*,*,*,*]": "commas", "$." + strings.Repeat("a", longestPath): "characters"} {
		_, err := parsePath(path)
		require.Error(t, err, path)
		assert.Contains(t, err.Error(), says, path)
	}
	p, err := parsePath(`$[?@.a == '$?']`)
	require.NoError(t, err, "what is quoted asks for nothing")
	assert.Len(t, p.All([]any{map[string]any{"a": "$?"}, map[string]any{"a": "b"}}), 1)
}
