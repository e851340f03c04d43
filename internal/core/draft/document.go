// Package draft writes a first host description from a host's published OpenAPI 3
// document (spec.openapis.org): operations found for each action with a confidence and
// the runner-up, paging and sign-in guessed from parameters and security schemes. A
// draft is a start for a person, not a finished description.
package draft

import (
	"maps"
	"slices"
	"strings"
)

// operation is one thing the API does. A single operation that takes the name of
// another in its body, as some old APIs have it, is taken apart into those.
type operation struct {
	method, path, id, summary string
	named                     [2]string // key and value of the name in the body, if it was taken apart
	params                    []param
	body                      map[string]any // schema; nil for none
	form                      bool
	answer                    map[string]any // schema of the answer; nil for none
	status                    string
	headers                   []string // of the answer
}

type param struct {
	name, in string
	most     int64
	says     string
}

// title says which operation it is, for a comment.
func (o *operation) title() string {
	if o.named[1] != "" {
		return o.method + " " + o.path + " " + o.named[1]
	}
	return o.method + " " + o.path
}

// words are all that is said of an operation, in small letters.
func (o *operation) words() string {
	return strings.ToLower(o.id + " " + o.path + " " + o.summary + " " + o.named[1])
}

// document is an OpenAPI document as it was read from JSON or YAML.
type document struct{ root map[string]any }

func table(v any) map[string]any { m, _ := v.(map[string]any); return m }
func list(v any) []any           { l, _ := v.([]any); return l }
func str(v any) string           { s, _ := v.(string); return s }
func number(v any) int64 {
	switch n := v.(type) {
	case int:
		return int64(n)
	case int64:
		return n
	case float64:
		return int64(n)
	}
	return 0
}

// resolve follows references within the document; others are not followed.
func (d *document) resolve(v any) map[string]any {
	for range 16 {
		m := table(v)
		ref := str(m["$ref"])
		if ref == "" {
			return m
		}
		path, inside := strings.CutPrefix(ref, "#/")
		if !inside {
			return nil
		}
		v = d.root
		for part := range strings.SplitSeq(path, "/") {
			v = table(v)[strings.NewReplacer("~1", "/", "~0", "~").Replace(part)]
		}
	}
	return nil
}

// properties gives a schema's properties, resolved.
func (d *document) properties(schema map[string]any) map[string]map[string]any {
	out := map[string]map[string]any{}
	for _, part := range append([]any{schema}, list(schema["allOf"])...) {
		for name, p := range table(d.resolve(part)["properties"]) {
			out[name] = d.resolve(p)
		}
	}
	return out
}

func content(v any) (schema any, form bool) {
	all := table(table(v)["content"])
	for _, kind := range slices.Sorted(maps.Keys(all)) {
		if strings.Contains(kind, "json") {
			return table(all[kind])["schema"], false
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(all)) {
		if strings.Contains(kind, "form") {
			return table(all[kind])["schema"], true
		}
	}
	return nil, false
}

// most is how many operations of a document are looked at.
const most = 2000

// operations lists the document's operations, by path and method.
func (d *document) operations() []*operation {
	var out []*operation
	paths := table(d.root["paths"])
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		item := d.resolve(paths[path])
		for _, method := range []string{"get", "post", "put", "patch", "delete"} {
			o := table(item[method])
			if o == nil || len(out) >= most {
				continue
			}
			x := &operation{method: strings.ToUpper(method), path: path, id: str(o["operationId"]), summary: str(o["summary"]) + " " + str(o["description"])}
			for _, p := range append(slices.Clone(list(item["parameters"])), list(o["parameters"])...) {
				r := d.resolve(p)
				x.params = append(x.params, param{str(r["name"]), str(r["in"]), number(d.resolve(r["schema"])["maximum"]), str(r["description"])})
			}
			schema, form := content(d.resolve(o["requestBody"]))
			x.body, x.form = d.resolve(schema), form
			answers := table(o["responses"])
			for _, status := range []string{"200", "201", "202", "204", "2XX", "default"} {
				if r := d.resolve(answers[status]); r != nil {
					s, _ := content(r)
					x.answer, x.status = d.resolve(s), status
					x.headers = slices.Sorted(maps.Keys(table(r["headers"])))
					break
				}
			}
			out = append(out, d.apart(x)...)
		}
	}
	return out
}

// apart takes an operation apart whose body names one of several.
func (d *document) apart(o *operation) []*operation {
	choices := list(o.body["oneOf"])
	if len(choices) < 2 {
		return []*operation{o}
	}
	var out []*operation
	for _, c := range choices {
		schema := d.resolve(c)
		x := *o
		x.body, x.summary = schema, str(schema["description"])
		x.id = str(schema["title"])
		for name, p := range d.properties(schema) {
			value := str(p["const"])
			if all := list(p["enum"]); len(all) == 1 {
				value = str(all[0])
			}
			if value != "" {
				x.named = [2]string{name, value}
			}
		}
		if x.named[1] == "" {
			return []*operation{o}
		}
		for _, ending := range []string{"Result", "Response", "Answer"} {
			if s := d.resolve(map[string]any{"$ref": "#/components/schemas/" + x.id + ending}); s != nil {
				x.answer = s
			}
		}
		out = append(out, &x)
	}
	return out
}

// find looks, level by level, for the part of a schema that fits, and gives the
// JSONPath to it and the part; "" for none. Lists are gone into by [*].
func (d *document) find(schema map[string]any, fits func(map[string]any) bool) (string, map[string]any) {
	type place struct {
		path   string
		schema map[string]any
	}
	level := []place{{"$", schema}}
	for range 4 {
		var next []place
		for _, p := range level {
			if p.schema == nil {
				continue
			}
			if fits(p.schema) {
				return p.path, p.schema
			}
			if items := d.resolve(p.schema["items"]); items != nil {
				next = append(next, place{p.path + "[*]", items})
			}
			props := d.properties(p.schema)
			for _, name := range slices.Sorted(maps.Keys(props)) {
				next = append(next, place{p.path + "." + name, props[name]})
			}
		}
		level = next
	}
	return "", nil
}
