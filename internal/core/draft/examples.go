package draft

import (
	"slices"
	"strings"

	"uncinate/internal/core/text"
)

// byExample takes an operation apart of which the body is shown in several examples: one address at which everything is asked.
func (d *document) byExample(o *operation, request, answers map[string]any) []*operation {
	all := d.examples(request)
	if len(all) < 3 {
		return []*operation{o}
	}
	told := d.examples(answers)
	var out []*operation
	for _, name := range sortedKeys(all) {
		example := d.resolve(all[name])
		body := table(example["value"])
		if body == nil {
			return []*operation{o}
		}
		x := *o
		x.id, x.summary = name, strings.TrimSpace(str(example["summary"])+". "+str(example["description"]))
		x.named = [2]string{"", name}
		x.body = d.inferred("", body, 0)
		for key, v := range body {
			if s, ok := v.(string); ok && strings.ContainsAny(s, " {(") { // a query, and no value
				x.texts = append(x.texts, pair{key, queryText(s)})
				delete(table(x.body["properties"]), key)
			}
		}
		slices.SortFunc(x.texts, func(a, b pair) int { return strings.Compare(a.key, b.key) })
		x.declared, x.answer = o.answer, nil
		if v, there := d.resolve(told[name])["value"]; there {
			x.answer = d.inferred("", v, 0)
		}
		out = append(out, &x)
	}
	return out
}

// examples are those of a body's JSON, by name.
func (d *document) examples(body map[string]any) map[string]any {
	all := table(body["content"])
	for _, media := range sortedKeys(all) {
		if strings.Contains(media, "json") {
			return table(table(all[media])["examples"])
		}
	}
	return nil
}

var (
	place4  = text.Pattern(`((?:after|cursor)\s*:\s*)"[^"]*"`)
	prosaic = text.Pattern(`([A-Za-z0-9][\w-]*) \(([^()]{3,60})\)`)
)

// queryText writes a query as TOML: braces that are no variables are escaped, and a cursor is put where the example has one.
func queryText(s string) string {
	s = strings.NewReplacer("{", `\{`).Replace(s)
	s = place4().ReplaceAllString(s, `$1"{cursor}"`)
	if strings.Contains(s, "'") || text.Visible(s) != s || !strings.Contains(s, `\`) && !strings.Contains(s, `"`) {
		return quote(s)
	}
	return "'" + s + "'"
}

// inferred makes a schema of an example. What the document says in words of the values of a property of that name is added.
func (d *document) inferred(name string, v any, depth int) map[string]any {
	s := map[string]any{}
	switch x := v.(type) {
	case map[string]any:
		props := map[string]any{}
		for k, item := range x {
			if depth < 12 {
				props[k] = d.inferred(k, item, depth+1)
			}
		}
		s["type"], s["properties"] = "object", props
	case []any:
		s["type"], s["items"] = "array", map[string]any{}
		if len(x) > 0 && depth < 12 {
			s["items"] = d.inferred(name, x[0], depth+1)
		}
	case bool:
		s["type"], s["example"] = "boolean", x
	case string:
		s["type"], s["example"] = "string", x
		if enum, says := d.prose(name); len(enum) > 1 {
			s["enum"], s["description"] = enum, says
		}
	case int, int64, float64:
		s["type"], s["example"] = "integer", x
	}
	return s
}

// prose finds what the document's description says of the values of a name: "`seen` is shut (private) or open (public)".
func (d *document) prose(name string) (values []any, says string) {
	for sentence := range strings.SplitSeq(str(table(d.root["info"])["description"]), ".") {
		before, after, found := strings.Cut(strings.ReplaceAll(sentence, "\n", " "), "`"+name+"`")
		if !found || name == "" || strings.TrimSpace(before) != "" {
			continue
		}
		for _, m := range prosaic().FindAllStringSubmatch(after, 12) {
			values = append(values, m[1])
			says += m[1] + ": " + m[2] + "; "
		}
		return values, says
	}
	return nil, ""
}
