package description

import (
	_ "embed"
	"maps"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"uncinate/internal/core/text"
)

// specimen has every key of the language, with an example and what it is for.
//
//go:embed language.toml
var specimen string

// Key is one key of the language.
type Key struct {
	Table   string // such as "action.*.request"; "" for the file's top
	Name    string // "*" for names of one's own
	Kind    string // what it holds
	Says    string // what it is for
	Example string // a value, as TOML
}

// The names that the language knows besides keys.
var (
	Actions   = slices.Clone(actionNames)
	Fields    = slices.Clone(fieldNames)
	Variables = slices.Clone(variableNames)
	Meanings  = slices.Clone(meaningNames)
	Needs     = slices.Clone(needNames)
)

// ofOnesOwn are tables whose keys are names of one's own.
var ofOnesOwn = text.Pattern(`(^implies|^cannot|^shape\.\*|\.(query|header|headers|form|json|multipart|when|unless|keep|read|private|members|public|left|again|expires))$`)

// pattern gives the table of a path, with * in the place of names of one's own.
var (
	named    = text.Pattern(`^(action|shape)\.[a-z-]+`)
	numbered = text.Pattern(`\[[0-9]+\]`)
)

func pattern(path string) string {
	return numbered().ReplaceAllString(named().ReplaceAllString(path, "$1.*"), "")
}

// note keeps what a key holds, where the language is looked at. What asks later knows more.
func (l *loader) note(path, key, kind string) {
	if l.kinds == nil {
		return
	}
	table := pattern(path)
	if table == "action" || table == "shape" || ofOnesOwn().MatchString(table) {
		return
	}
	at := table + " " + key
	if was := l.kinds[at]; was == "" || was == "value" || was == "string" && kind != "value" || kind == "list of tables" {
		l.kinds[at] = kind
	}
}

// asked gives every key that the loader asks for when it reads the specimen, and what each holds.
func asked() (map[string]string, []Mistake) {
	var tree map[string]any
	if err := toml.Unmarshal([]byte(specimen), &tree); err != nil {
		return nil, []Mistake{{Line: 1, Column: 1, Says: err.Error()}}
	}
	l := &loader{data: []byte(specimen), kinds: map[string]string{}}
	l.description(&node{l: l, v: tree})
	return l.kinds, l.mistakes
}

// Keys lists every key of the language, in the order of the specimen.
func Keys() []Key {
	kinds, _ := asked()
	var out []Key
	table := ""
	for line := range strings.Lines(specimen) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			out = append(out, besides[table]...)
			table = pattern(strings.Trim(line, "[]"))
			continue
		}
		name, rest, ok := strings.Cut(line, "=")
		value, says, told := cutComment(rest)
		if !ok || !told || strings.HasPrefix(line, "#") {
			continue
		}
		k := Key{Table: table, Name: strings.TrimSpace(name), Says: says, Example: value}
		k.Kind = kinds[table+" "+k.Name]
		if ofOnesOwn().MatchString(table) {
			k.Name, k.Kind = "*", map[bool]string{true: "list of strings", false: "where a value is"}[table == "implies"]
			if table == "cannot" {
				k.Kind = "string"
			}
		}
		out = append(out, k)
	}
	return out
}

// besides are keys that cannot stand in the specimen with the others, behind those of their table or of the table before theirs.
var besides = map[string][]Key{
	"":                {{"shell", "folder", "string", "of a plain server: the folder with the repositories", `"/srv/git"`}, {"shell", "keys", "string", "the file with the keys that are let in", `".ssh/authorized_keys"`}},
	"signin.exchange": {{"signin.exchange", "secret", "where a value is", "short for `read = { secret = … }`", `"cookie skua"`}},
	"signin": {{"signin", "query", "table of texts", "in the place of `header`: what signs in within the address", `{ key = "{token}" }`},
		{"signin.basic", "user", "text", "in the place of `header`: a user's name (RFC 7617)", `"{user}"`}, {"signin.basic", "secret", "text", "and a secret", `"{token}"`}},
}

// cutComment parts a value from the comment behind it: the last # that stands behind two blanks.
func cutComment(s string) (value, comment string, ok bool) {
	i := strings.LastIndex(s, " # ")
	if i < 0 {
		return "", "", false
	}
	return strings.TrimSpace(s[:i]), strings.TrimSpace(s[i+3:]), true
}

// Schema is a JSON Schema (2020-12) of the language, for editors of TOML.
func Schema() map[string]any {
	object := func(props map[string]any, own any) map[string]any {
		o := map[string]any{"type": "object", "properties": props}
		if own == nil {
			o["additionalProperties"] = false
		} else {
			o["additionalProperties"] = own
		}
		return o
	}
	tables := map[string]map[string]any{"": {}}
	for _, k := range Keys() {
		if tables[k.Table] == nil {
			tables[k.Table] = map[string]any{}
		}
		tables[k.Table][k.Name] = schemaOf(k)
	}
	for name, s := range tables["action.*.request"] { // what an exchange has of a request
		tables["signin.exchange"][name] = s
	}
	names := slices.SortedFunc(maps.Keys(tables), func(a, b string) int { return strings.Count(b, ".") - strings.Count(a, ".") })
	built := map[string]any{}
	for _, name := range names { // the deepest first
		if name == "" {
			continue
		}
		parent, last := "", name
		if i := strings.LastIndexByte(name, '.'); i >= 0 {
			parent, last = name[:i], name[i+1:]
		}
		var own any
		if s, is := tables[name]["*"]; is {
			own = s
			delete(tables[name], "*")
		}
		var o any = object(tables[name], own)
		if name == "refusal" || strings.HasSuffix(name, ".request") {
			o = map[string]any{"type": "array", "items": o}
		}
		if tables[parent] == nil {
			tables[parent] = map[string]any{}
		}
		if last == "*" {
			built[parent] = o
			continue
		}
		tables[parent][last] = o
	}
	top := tables[""]
	actions := map[string]any{}
	for _, a := range Actions {
		actions[a] = map[string]any{"$ref": "#/$defs/action"}
	}
	top["action"] = object(actions, nil)
	shape := map[string]any{}
	for _, f := range Fields {
		shape[f] = toReading
	}
	top["shape"] = object(map[string]any{}, object(shape, nil))
	whole := object(top, nil)
	whole["$defs"] = map[string]any{"action": built["action"], "reading": reading}
	whole["$schema"], whole["title"], whole["required"] = "https://json-schema.org/draft/2020-12/schema", "A description of a host", []string{"language", "name", "base"}
	return whole
}

// reading is the schema of where a value is.
var reading = map[string]any{"anyOf": []any{map[string]any{"type": "string", "pattern": `^(\$|header |cookie )`}, map[string]any{"type": "object", "required": []string{"at"}, "additionalProperties": false,
	"properties": map[string]any{"at": map[string]any{"type": "string"}, "strip": map[string]any{"type": "string"}, "split": map[string]any{"type": "string"}, "as": map[string]any{"type": "string"}, "cut": map[string]any{"type": "string"}}}}}

var toReading = map[string]any{"$ref": "#/$defs/reading"}

// schemaOf is the schema of a key's value.
func schemaOf(k Key) map[string]any {
	s := map[string]any{}
	switch k.Kind {
	case "string", "text", "URI template", `time such as "2m"`:
		s["type"] = "string"
	case "number":
		s["type"] = "integer"
	case "true or false":
		s["type"] = "boolean"
	case "list of strings":
		s["type"], s["items"] = "array", map[string]any{"type": "string"}
	case "table of texts":
		s["type"], s["additionalProperties"] = "object", map[string]any{"type": "string"}
	case "table":
		s["type"] = "object"
	case "where a value is":
		s = maps.Clone(toReading)
	}
	words := map[string][]string{"means": Meanings, "needs": Needs}[k.Name]
	switch {
	case k.Name == "needs":
		s["items"] = map[string]any{"enum": words}
	case words != nil:
		s["enum"] = words
	case k.Name == "read" && strings.HasPrefix(k.Table, "action"):
		s = map[string]any{"anyOf": []any{map[string]any{"type": "string"}, map[string]any{"type": "object", "additionalProperties": toReading, "propertyNames": map[string]any{"enum": Fields}}}}
	}
	s["description"] = strings.ReplaceAll(k.Says, "`", "")
	return s
}
