package description

import (
	"cmp"
	"errors"
	"maps"
	"net/http"
	"slices"
	"strings"

	"uncinate/internal/core/text"
)

// ErrNone is the fault of an answer in which what was looked for is not among what the host gave.
var ErrNone = errors.New("not among what the host gave")

// from gives the thing that is meant.
func (c *Choose) from(d *Description, body any, vars Vars) (any, error) {
	all := c.From.All(body)
	if len(all) == 1 {
		if list, ok := all[0].([]any); ok { // the path leads to the list itself
			all = list
		}
	}
	want := ""
	if c.Where != nil {
		given := d.base()
		maps.Copy(given, vars)
		if want = c.Is.fillString(given); want == "" {
			return nil, ErrNone
		}
	}
	for _, item := range all {
		if c.Where == nil || strings.EqualFold(written(c.Where.value(d, "", item, nil)), want) {
			return item, nil
		}
	}
	return nil, ErrNone
}

// isNull reports whether the value is there, and is null: then it is known to be nothing.
func (rd *Reading) isNull(body any) bool {
	if rd.At == nil {
		return false
	}
	all := rd.At.All(body)
	return len(all) > 0 && all[0] == nil
}

// raw gives what is there, as the host wrote it; nil for nothing.
func (rd *Reading) raw(body any, header http.Header) any {
	switch {
	case rd.Cookie != "":
		for _, c := range (&http.Response{Header: header}).Cookies() {
			if c.Name == rd.Cookie && c.Value != "" {
				return c.Value
			}
		}
	case rd.Header != "":
		if s := header.Get(rd.Header); s != "" {
			return s
		}
	default:
		return rd.At.First(body)
	}
	return nil
}

// value reads one value; the field's name decides what a word or a time becomes.
func (rd *Reading) value(d *Description, field string, body any, header http.Header) any {
	if rd == nil {
		return nil
	}
	v := rd.raw(body, header)
	if v == nil {
		return nil
	}
	if s, ok := v.(string); ok {
		s = strings.TrimPrefix(s, rd.Strip)
		if rd.Cut != nil {
			m := rd.Cut.Match(s)
			if m == nil {
				return nil
			}
			s = m.Get(field).String()
		}
		v = s
		if rd.Split != "" {
			return strings.FieldsFunc(s, func(r rune) bool { return strings.ContainsRune(rd.Split, r) })
		}
	}
	if slices.Contains(timeFields, field) {
		form := cmp.Or(rd.As, d.Time)
		if form == "seconds" {
			return v
		}
		if t, ok := d.clock(form).parse(v); ok {
			return t
		}
		return nil
	}
	switch field {
	case "visibility", "right":
		return d.ourWord(field, v)
	case "state", "outcome":
		if d.Words[field] == nil {
			return v
		}
		return d.ourWord(field, v)
	case "scopes", "mergers":
		if one, ok := v.(string); ok { // all in one text (RFC 6749, section 3.3)
			return strings.FieldsFunc(one, func(r rune) bool { return r == ' ' || r == ',' })
		}
		if list, ok := v.([]any); ok {
			out := []string{}
			for _, item := range list {
				out = append(out, written(item))
			}
			return out
		}
	}
	return v
}

// odd notes times that are there and cannot be read.
func (r *Result) odd(q *Request, fields map[string]any, item any, header http.Header) {
	for _, name := range timeFields {
		rd := q.Fields[name]
		if rd == nil || fields[name] != nil || len(r.Odd) > 4 {
			continue
		}
		if v := written(rd.raw(item, header)); v != "" && v != "0" {
			r.Odd = append(r.Odd, name+": "+text.Excerpt(v, 60))
		}
	}
}
