package description

import (
	"regexp"
	"strings"
	"sync"
)

// pick is a path that takes, of a list of objects, the first whose field has a value, such
// as $.links[?(@.kind == 'http')].to. Hosts that list their addresses by kind need it for
// each of thousands of items, so it is walked without the library.
type pick struct {
	down       []string // to the list
	field, has string
	rest       []string // from the object on
}

var pickPath = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^\$((?:\.[A-Za-z_]\w*)+)\[\?\(?@\.([A-Za-z_]\w*) ?== ?'([^'\\]*)'\)?\]((?:\.[A-Za-z_]\w*)*)$`)
})

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

func walk(v any, names []string) any {
	for _, name := range names {
		m, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		v = m[name]
	}
	return v
}

// first gives the first value that the path leads to.
func (p *pick) first(v any) any {
	list, ok := walk(v, p.down).([]any)
	if !ok {
		return nil
	}
	for _, item := range list {
		if m, ok := item.(map[string]any); ok && m[p.field] == any(p.has) {
			if found := walk(m, p.rest); found != nil || len(p.rest) == 0 {
				return found
			}
		}
	}
	return nil
}
