package description

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/theory/jsonpath"

	"uncinate/internal/core/text"
)

// Path leads to values in an answer (JSONPath, RFC 9535).
type Path struct {
	whole *jsonpath.Path // nil where the path was read without the library
	names []string       // down by names alone: nil where it does something else
	pick  *pick          // or another short way
}

// namesOnly is a normalized path that goes down by names alone, as the library writes it.
var namesOnly = text.Pattern(`^\$(\["(?:[^"\\]|\\.)*"\])*$`)

// parsePath reads a path. What it may cost to follow is bounded, whoever wrote it: it may not
// search at all depths, and what a filter asks for may not filter again or look again from the top.
// The error goes on from the path's own name.
func parsePath(s string) (*Path, error) {
	if strings.Contains(s, "..") {
		return nil, errors.New("searches at all depths; name the way down step by step")
	}
	if len(s) > longestPath || strings.Count(s, ",") > mostCommas {
		return nil, fmt.Errorf("has more than %d characters, or more than %d commas", longestPath, mostCommas)
	}
	if plain := unquoted(s); strings.Count(plain, "?") > 1 || strings.Contains(plain, "?") && strings.Count(plain, "$") > 1 {
		return nil, errors.New("has more than one filter, or a filter that looks from the top again")
	}
	if names := plainly(s); names != nil {
		return &Path{names: names}, nil
	}
	whole, err := jsonpath.Parse(s)
	if err != nil {
		return nil, errors.New("is not a JSONPath: " + strings.TrimPrefix(err.Error(), "jsonpath: "))
	}
	p := &Path{whole: whole, pick: newPick(s)}
	if as := whole.String(); namesOnly().MatchString(as) {
		p.names = []string{}
		for rest := strings.TrimPrefix(as, "$"); rest != ""; {
			in := json.NewDecoder(strings.NewReader(rest))
			var one []string
			if err := in.Decode(&one); err != nil || len(one) != 1 {
				p.names = nil // the library writes names in another way than JSON does
				break
			}
			p.names, rest = append(p.names, one[0]), rest[in.InputOffset():]
		}
	}
	return p, nil
}

// plainly reads a path of names in letters, digits and underscores, as most are; nil for any other. (To have the library
// read them all was a third of what it takes to read a description.)
func plainly(s string) []string {
	rest, ok := strings.CutPrefix(s, "$")
	names := []string{}
	for ok && rest != "" {
		if rest, ok = strings.CutPrefix(rest, "."); !ok {
			break
		}
		end := 0
		for end < len(rest) && (rest[end] == '_' || 'a' <= rest[end]|0x20 && rest[end]|0x20 <= 'z' || end > 0 && '0' <= rest[end] && rest[end] <= '9') {
			end++
		}
		names, rest, ok = append(names, rest[:end]), rest[end:], end > 0
	}
	if !ok {
		return nil
	}
	return names
}

// unquoted leaves out what is in quotes.
func unquoted(s string) string {
	var b strings.Builder
	var quote byte
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case quote != 0 && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// First gives the first value. Most paths only go down by names, and a list of thousands goes down
// them often, so those are walked without the library.
func (p *Path) First(v any) any {
	switch {
	case p.names != nil:
		v, _ = walk(v, p.names)
		return v
	case p.pick != nil:
		return p.pick.first(v)
	}
	if all := p.whole.Select(v); len(all) > 0 {
		return all[0]
	}
	return nil
}

// All gives all values.
func (p *Path) All(v any) []any {
	if p.whole != nil {
		return p.whole.Select(v)
	}
	if v, ok := walk(v, p.names); ok {
		return []any{v}
	}
	return nil
}
