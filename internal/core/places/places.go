// Package places tells where in a file that a person wrote something stands, and what is wrong there.
package places

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// Mistake is one thing wrong in a file.
type Mistake struct {
	Line   int    `json:"line"`   // from 1
	Column int    `json:"column"` // from 1, in bytes
	Says   string `json:"says"`
	Meant  string `json:"meant,omitempty"` // what was probably meant; empty if nothing is near
}

func (m Mistake) String() string {
	s := fmt.Sprintf("line %d, column %d: %s", m.Line, m.Column, m.Says)
	if m.Meant != "" {
		s += fmt.Sprintf("; did you mean %q?", m.Meant)
	}
	return s
}

// Sort puts mistakes into the file's order.
func Sort(all []Mistake) {
	slices.SortStableFunc(all, func(a, b Mistake) int { return cmp.Or(a.Line-b.Line, a.Column-b.Column) })
}

// NotTOML is the mistake of a file that cannot be read at all.
func NotTOML(err error) Mistake {
	m := Mistake{Line: 1, Column: 1, Says: strings.TrimPrefix(err.Error(), "toml: ")}
	var de *toml.DecodeError
	if errors.As(err, &de) {
		m.Line, m.Column = de.Position()
	}
	return m
}

// Join puts a key behind the path of the table that it is in.
func Join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

// Of finds where each key of a TOML document stands: path → line, column.
// Tables in arrays are numbered: action.identify.request[0].url.
func Of(data []byte) map[string][2]int {
	found := map[string][2]int{}
	var p unstable.Parser
	p.Reset(data)
	at := func(n *unstable.Node) [2]int {
		s := p.Shape(n.Raw)
		return [2]int{s.Start.Line, s.Start.Column}
	}
	counts := map[string]int{}
	// resolve puts the number of the newest element behind each part that is an array.
	resolve := func(parts []string) string {
		path := ""
		for _, part := range parts {
			path = Join(path, part)
			if c, ok := counts[path]; ok {
				path = fmt.Sprintf("%s[%d]", path, c-1)
			}
		}
		return path
	}
	var keyValue func(prefix string, n *unstable.Node)
	keyValue = func(prefix string, n *unstable.Node) {
		path := prefix
		for it := n.Key(); it.Next(); {
			k := it.Node()
			path = Join(path, string(k.Data))
			if _, seen := found[path]; !seen {
				found[path] = at(k)
			}
		}
		if v := n.Value(); v != nil && v.Kind == unstable.InlineTable {
			for it := v.Children(); it.Next(); {
				if c := it.Node(); c.Kind == unstable.KeyValue {
					keyValue(path, c)
				}
			}
		}
	}
	prefix := ""
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.KeyValue:
			keyValue(prefix, e)
		case unstable.Table, unstable.ArrayTable:
			var parts []string
			var place [2]int
			for it := e.Key(); it.Next(); {
				k := it.Node()
				if len(parts) == 0 {
					place = at(k)
				}
				parts = append(parts, string(k.Data))
				if e.Kind == unstable.Table {
					if path := resolve(parts); found[path] == [2]int{} {
						found[path] = place
					}
				}
			}
			if e.Kind == unstable.ArrayTable {
				holder := resolve(parts[:len(parts)-1])
				counts[Join(holder, parts[len(parts)-1])]++
			}
			prefix = resolve(parts)
			found[prefix] = place
		}
	}
	return found
}
