package description

import (
	"testing"

	"github.com/ohler55/ojg/jp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPickAgreesWithTheLibrary compares what the short way finds with what the path means.
func TestPickAgreesWithTheLibrary(t *testing.T) {
	var answers []any
	for _, body := range []string{`{"links": [{"kind": "web", "to": "w"}, {"kind": "http", "to": "h"}, {"kind": "http", "to": "second"}]}`,
		`{"links": []}`,
		`{"links": {"kind": "http", "to": "no list"}}`,
		`{}`,
		`null`,
		`{"links": [{"kind": "http"}, {"kind": "http", "to": "later"}]}`,
		`{"links": [1, null, {"kind": 7, "to": "number"}, {"kind": "http", "to": {"at": "deep"}}]}`, `{"a": {"links": [{"kind": "http", "to": {"at": "deeper"}}]}}`} {
		v, err := Parse([]byte(body))
		require.NoError(t, err)
		answers = append(answers, v)
	}
	for path, short := range map[string]bool{"$.links[?(@.kind == 'http')].to": true, "$.links[?@.kind == 'http'].to": true, "$.links[?(@.kind=='http')].to": true, "$.links[?(@.kind == 'none')].to": true,
		"$.a.links[?(@.kind == 'http')].to.at": true, "$.links[?(@.kind == 'http')].to.at": true, "$.links[?(@.kind != 'http')].to": false, "$.links[0].to": false, "$.links": false} {
		assert.Equal(t, short, newPick(path) != nil, path)
		r, why := newReading(path)
		require.Empty(t, why, path)
		for i, v := range answers {
			assert.Equal(t, jp.MustParseString(path).First(v), r.find(v), "%s in answer %d", path, i)
		}
	}
}
