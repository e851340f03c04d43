// Package draft writes a first host description from a host's published OpenAPI 3
// document (spec.openapis.org): operations found for each action with a confidence and
// the runner-up, paging and sign-in guessed from parameters and security schemes. A
// draft is a start for a person, not a finished description.
package draft

import (
	"maps"
	"reflect"
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
	kind                      string         // of the body: "json", "form" or "multipart"
	media                     string         // its Content-Type, where it is not the usual one
	texts                     []pair         // what is sent as it is, where an example shows the body
	base                      string         // the server's address, where it is not the document's
	root                      string         // of the answer, where that is XML
	answer                    map[string]any // schema of the answer; nil for none
	declared                  map[string]any // the schema of all answers, where examples show each
	status                    string
	headers                   []string // of the answer
	text                      string   // all that is said of it, as words gives it
	of                        int      // 1 if it is of one repository, -1 if it is not, 0 if that is not known
	item                      int      // the same for one part, that an id names
}

type param struct {
	name, in string
	most     int64
	says     string
	required bool
	schema   map[string]any
}

// title says which operation it is, for a comment.
func (o *operation) title() string {
	if o.named[1] != "" {
		return o.method + " " + o.path + " " + o.named[1]
	}
	return o.method + " " + o.path
}

// document is an OpenAPI document as it was read from JSON or YAML.
type document struct {
	root  map[string]any
	props map[uintptr]map[string]map[string]any // what properties gave, by schema
}

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

// properties gives a schema's properties, resolved, with those of all that it is put together from.
func (d *document) properties(schema map[string]any) map[string]map[string]any {
	if schema == nil {
		return nil
	}
	at := reflect.ValueOf(schema).Pointer()
	if out, known := d.props[at]; known {
		return out
	}
	out, parts := map[string]map[string]any{}, 0
	d.collect(schema, out, &parts)
	d.props[at] = out
	return out
}

// mostParts is how many schemas one may be put together from.
const mostParts = 64

func (d *document) collect(schema map[string]any, out map[string]map[string]any, parts *int) {
	if *parts++; *parts > mostParts || schema == nil {
		return
	}
	for _, part := range list(schema["allOf"]) {
		d.collect(d.resolve(part), out, parts)
	}
	if some := append(slices.Clone(list(schema["oneOf"])), list(schema["anyOf"])...); len(some) > 0 && schema["properties"] == nil {
		d.collect(d.resolve(some[0]), out, parts)
	}
	for name, p := range table(schema["properties"]) {
		if r := d.whole(p); r != nil {
			out[name] = r
		}
	}
}

// whole gives a schema, resolved, with what is said beside a reference (OpenAPI 3.1, "Reference Object") and in the parts of allOf.
func (d *document) whole(v any) map[string]any {
	beside, r := table(v), d.resolve(v)
	if r == nil {
		return nil
	}
	more := map[string]any{}
	for _, part := range list(r["allOf"]) {
		for k, x := range d.resolve(part) {
			if _, there := r[k]; !there {
				more[k] = x
			}
		}
	}
	for _, k := range []string{"description", "title", "enum"} {
		if x, there := beside[k]; there && beside["$ref"] != nil {
			more[k] = x
		}
	}
	if len(more) == 0 {
		return r // the same one each time
	}
	out := maps.Clone(r)
	maps.Copy(out, more)
	return out
}

// content gives a body's schema, and its media type: JSON before forms before XML.
func content(v any) (schema any, media string) {
	all := table(table(v)["content"])
	for _, kind := range []string{"json", "urlencoded", "multipart", "xml"} {
		for _, media := range sortedKeys(all) {
			if strings.Contains(media, kind) {
				return table(all[media])["schema"], media
			}
		}
	}
	return nil, ""
}

// server gives the address of the first of some servers, with its variables filled in.
func server(all []any) string {
	if len(all) == 0 {
		return ""
	}
	at := str(table(all[0])["url"])
	for name, v := range table(table(all[0])["variables"]) {
		at = strings.ReplaceAll(at, "{"+name+"}", str(table(v)["default"]))
	}
	return at
}

// most is how many operations of a document are looked at.
const most = 2000

// operations lists the document's operations, by path and method.
func (d *document) operations() []*operation {
	var out []*operation
	paths := table(d.root["paths"])
	for _, path := range sortedKeys(paths) {
		item := d.resolve(paths[path])
		for _, method := range []string{"get", "post", "put", "patch", "delete"} {
			o := table(item[method])
			if o == nil || len(out) >= most {
				continue
			}
			x := &operation{method: strings.ToUpper(method), path: path, id: str(o["operationId"]), summary: strings.TrimSpace(str(o["summary"]) + ". " + str(o["description"]))}
			for _, p := range append(slices.Clone(list(item["parameters"])), list(o["parameters"])...) {
				r := d.resolve(p)
				schema := d.whole(r["schema"])
				required, _ := r["required"].(bool)
				x.params = append(x.params, param{str(r["name"]), str(r["in"]), number(schema["maximum"]), str(r["description"]) + " " + str(schema["description"]), required, schema})
			}
			schema, media := content(d.resolve(o["requestBody"]))
			x.body, x.kind = d.resolve(schema), "json"
			switch {
			case strings.Contains(media, "multipart"):
				x.kind = "multipart"
			case strings.Contains(media, "urlencoded"):
				x.kind = "form"
			case media != "application/json":
				x.media = media
			}
			for _, at := range []any{item["servers"], o["servers"]} {
				if other := server(list(at)); other != "" && other != server(list(d.root["servers"])) {
					x.base = strings.TrimSuffix(other, "/")
				}
			}
			answers := table(o["responses"])
			for _, status := range []string{"200", "201", "202", "204", "2XX", "default"} {
				if r := d.resolve(answers[status]); r != nil {
					s, media := content(r)
					x.answer, x.status = d.resolve(s), status
					if strings.Contains(media, "xml") {
						x.root = str(table(x.answer["xml"])["name"])
					}
					x.headers = sortedKeys(table(r["headers"]))
					break
				}
			}
			if all := d.byExample(x, d.resolve(o["requestBody"]), d.answered(answers)); len(all) > 1 {
				out = append(out, all...)
				continue
			}
			out = append(out, d.apart(x)...)
		}
	}
	return out
}

// answered gives the answer where all went well.
func (d *document) answered(answers map[string]any) map[string]any {
	for _, status := range []string{"200", "201", "2XX", "default"} {
		if r := d.resolve(answers[status]); r != nil {
			return r
		}
	}
	return nil
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
		x.body, x.summary = schema, strings.TrimSpace(str(schema["title"])+". "+str(schema["description"]))
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

// mostPlaces is how many places of a schema are looked at, which may hold itself.
const mostPlaces = 1000

// find looks, level by level, for the part of a schema that fits, and gives the
// JSONPath to it and the part; "" for none. Lists are gone into by [*], maps by .*
func (d *document) find(schema map[string]any, fits func(map[string]any) bool) (string, map[string]any) {
	level := []place{{"", "$", schema}}
	seen := map[uintptr]bool{}
	for range 6 {
		var next []place
		for _, p := range level {
			at := reflect.ValueOf(p.schema).Pointer()
			if p.schema == nil || seen[at] || len(seen) > mostPlaces {
				continue
			}
			seen[at] = true
			if fits(p.schema) {
				return p.path, p.schema
			}
			if items := d.resolve(p.schema["items"]); items != nil {
				next = append(next, place{"", p.path + "[*]", items})
			}
			if isMap(p.schema) {
				next = append(next, place{"", p.path + ".*", d.resolve(p.schema["additionalProperties"])})
			}
			props := d.properties(p.schema)
			for _, name := range sortedKeys(props) {
				next = append(next, place{name, p.path + member(name), props[name]})
			}
		}
		level = next
	}
	return "", nil
}
