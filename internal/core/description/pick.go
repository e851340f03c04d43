package description

import (
	"strings"

	"uncinate/internal/core/text"
)

// pick is a path that takes, of a list of objects, the first whose field has a value, such
// as $.links[?(@.kind == 'http')].to. Hosts that list their addresses by kind need it for
// each of thousands of items, so it is walked without the library.
type pick struct {
	down       []string // to the list
	field, has string
	rest       []string // from the object on
}

var pickPath = text.Pattern(`^\$((?:\.[A-Za-z_]\w*)+)\[\?\(?@\.([A-Za-z_]\w*) ?== ?'([^'\\]*)'\)?\]((?:\.[A-Za-z_]\w*)*)$`)

// newPick reads such a path; nil for any other.
func newPick(path string) *pick {
	m := pickPath().FindStringSubmatch(path)
	if m == nil {
		return nil
	}
	names := func(s string) []string {
		if s == "" {
			return nil
		}
		return strings.Split(s[1:], ".")
	}
	return &pick{names(m[1]), m[2], m[3], names(m[4])}
}

// walk goes down by names; false where one of them is not there.
func walk(v any, names []string) (there any, ok bool) {
	for _, name := range names {
		m, _ := v.(map[string]any)
		if v, ok = m[name]; !ok {
			return nil, false
		}
	}
	return v, true
}

// first gives the first value that the path leads to.
func (p *pick) first(v any) any {
	below, _ := walk(v, p.down)
	list, ok := below.([]any)
	if !ok {
		return nil
	}
	for _, item := range list {
		if m, ok := item.(map[string]any); ok && m[p.field] == any(p.has) {
			if found, _ := walk(m, p.rest); found != nil || len(p.rest) == 0 {
				return found
			}
		}
	}
	return nil
}
