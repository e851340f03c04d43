package screen

import (
	"reflect"
	"strings"
	"time"
)

// node is a part of a JSON Schema (json-schema.org, draft 2020-12).
type node map[string]any

// Schema describes every document that --json prints, from the types of the commands'
// own documents: one definition for each command, "plan" for what --preview gives,
// and "problem" for what any command gives when it fails.
func Schema(commands []*Command) map[string]any {
	defs := node{"plan": shape(reflect.TypeFor[Planned]()), "problem": shape(reflect.TypeFor[Problem]())}
	var visit func(all []*Command, path string)
	visit = func(all []*Command, path string) {
		for _, c := range all {
			full := strings.TrimSpace(path + " " + c.Name)
			if c.Gives != nil && !c.Hidden {
				defs[full] = shape(reflect.TypeOf(c.Gives))
			}
			for option, gives := range c.Also {
				defs[full+" "+option] = shape(reflect.TypeOf(gives))
			}
			visit(c.Subs, full)
		}
	}
	visit(commands, "")
	defs["help command"] = shape(reflect.TypeFor[HelpedCommand]())
	return map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "What uncinate prints with --json",
		"description": "One definition for each command. Fields may be added in later versions; none is renamed or changes its meaning while the version begins with the same number.",
		"$defs":       defs}
}

// shape gives the schema of a type by encoding/json's rules: json and says tags,
// embedded structs, omitempty and omitzero.
func shape(t reflect.Type) node {
	if t == reflect.TypeFor[time.Time]() {
		return node{"type": "string", "format": "date-time"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return shape(t.Elem())
	case reflect.String:
		return node{"type": "string"}
	case reflect.Bool:
		return node{"type": "boolean"}
	case reflect.Int, reflect.Int64:
		return node{"type": "integer"}
	case reflect.Slice:
		return node{"type": "array", "items": inner(t.Elem())}
	case reflect.Map:
		return node{"type": "object", "additionalProperties": inner(t.Elem())}
	case reflect.Struct:
		properties, required := node{}, []string{}
		fields(t, func(f reflect.StructField) {
			name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
			part := inner(f.Type)
			if says := f.Tag.Get("says"); says != "" {
				part["description"] = says
			}
			properties[name] = part
			if !strings.Contains(options, "omit") {
				required = append(required, name)
			}
		})
		return node{"type": "object", "properties": properties, "required": required, "additionalProperties": false}
	}
	return node{}
}

// inner is shape, but for the type that holds itself.
func inner(t reflect.Type) node {
	if t == reflect.TypeFor[HelpedCommand]() {
		return node{"$ref": "#/$defs/help command"}
	}
	return shape(t)
}

// fields goes through what encoding/json writes of a struct.
func fields(t reflect.Type, each func(reflect.StructField)) {
	for i := range t.NumField() {
		f := t.Field(i)
		switch {
		case f.Anonymous:
			fields(f.Type, each)
		case f.IsExported() && f.Tag.Get("json") != "-" && f.Tag.Get("json") != "":
			each(f)
		}
	}
}
