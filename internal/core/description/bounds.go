package description

import (
	"fmt"

	"github.com/pelletier/go-toml/v2/unstable"
)

// How much a description may hold: far more than any needs, and little enough to be checked at
// once, whoever wrote it.
const (
	mostLines   = 4000 // keys and tables
	deepestKey  = 12   // parts of a key, or of a table's name
	deepest     = 24   // tables and lists in each other
	longestPath = 240  // characters of a JSONPath
	mostCommas  = 3    // in it: each may double what it gives
)

// bounded tells of a description that holds more, or goes deeper, than any needs. It looks at the
// file's shape alone, before anything is made of it.
func bounded(data []byte) *Mistake {
	var p unstable.Parser
	p.Reset(data)
	for n := 0; p.NextExpression(); n++ {
		e := p.Expression()
		parts := 0
		var first *unstable.Node
		if e.Kind == unstable.KeyValue || e.Kind == unstable.Table || e.Kind == unstable.ArrayTable {
			for it := e.Key(); it.Next(); {
				if parts++; first == nil {
					first = it.Node()
				}
			}
		}
		why := ""
		switch {
		case n > mostLines:
			why = fmt.Sprintf("the file holds more than %d keys and tables", mostLines)
		case parts > deepestKey:
			why = fmt.Sprintf("a name of %d parts is deeper than any that a description has", parts)
		case e.Kind == unstable.KeyValue && depth(e.Value(), deepest) == 0:
			why = fmt.Sprintf("tables and lists are nested more than %d deep", deepest)
		}
		if why != "" {
			m := &Mistake{Line: 1, Column: 1, Says: why}
			if first != nil {
				s := p.Shape(first.Raw)
				m.Line, m.Column = s.Start.Line, s.Start.Column
			}
			return m
		}
	}
	return nil
}

// depth gives how much is left of a depth below a value; 0 where it is used up.
func depth(n *unstable.Node, left int) int {
	if left == 0 || n == nil || n.Kind != unstable.Array && n.Kind != unstable.InlineTable {
		return left
	}
	least := left
	for it := n.Children(); it.Next(); {
		c := it.Node()
		if c.Kind == unstable.KeyValue {
			c = c.Value()
		}
		if d := depth(c, left-1); d < least {
			least = d
		}
	}
	return least
}
