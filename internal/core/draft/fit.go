package draft

import (
	"cmp"
	"slices"
	"strings"
)

// place is a property, or one of an object's within, and its path from there.
type place struct {
	name, path string
	schema     map[string]any
}

// places gives an object's properties and those of the objects within, two levels deep, sorted by path.
func (w *writer) places(props map[string]map[string]any) []place {
	var out []place
	for _, name := range sortedKeys(props) {
		p := props[name]
		inner := w.doc.properties(p)
		if len(inner) == 0 {
			out = append(out, place{name, member(name), p})
			continue
		}
		for _, n := range sortedKeys(inner) {
			out = append(out, place{name + "." + n, member(name) + member(n), inner[n]})
		}
	}
	return out
}

// member writes the step of a JSONPath to a property (RFC 9535, section 2.5.1).
func member(name string) string {
	if name != "" && strings.Trim(strings.ToLower(name), "abcdefghijklmnopqrstuvwxyz0123456789_") == "" && (name[0] < '0' || name[0] > '9') {
		return "." + name
	}
	return "['" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(name) + "']"
}

// kindOf says what type a schema is: text, yes, count, time, list, or "" if it does not say.
func kindOf(p map[string]any) string {
	t := str(p["type"])
	for _, x := range list(p["type"]) { // OpenAPI 3.1
		if s := str(x); s != "null" {
			t = s
		}
	}
	switch {
	case str(p["format"]) == "date-time" || str(p["format"]) == "date" || t == "string" && sample().MatchString(str(p["description"])):
		return "time"
	case t == "string":
		return "text"
	case t == "boolean":
		return "yes"
	case t == "integer" || t == "number":
		return "count"
	case t == "array":
		return "list"
	case t == "object" && len(table(p["properties"])) > 0:
		return "object"
	}
	return ""
}

// fits says how likely a property is a field, of 100.
func (w *writer) fits(field string, at place) int {
	m, kind := fields[field], kindOf(at.schema)
	_, valued := meanings[m.kind]
	score := 0
	switch {
	case valued:
		if n := len(w.meaningsOf(m.kind, at.schema, "")); n > 1 {
			score += 60
		} else if len(list(at.schema["enum"])) > 0 || kind == "list" || kind == "object" {
			return 0
		}
	case m.kind == "" || kind == "" && len(list(at.schema["enum"])) == 0:
	case m.kind == "time":
		if kind != "time" && kind != "count" {
			return 0
		}
		if kind == "time" {
			score += 20
		}
	case m.kind != kind && !(m.kind == "text" && kind == "" || m.kind == "count" && kind == ""):
		return 0
	}
	parent, name, _ := strings.Cut(at.name, ".")
	if name == "" {
		parent, name = "", at.name
	}
	low := plainly(name)
	names := strings.Split(m.names, ",")
	if i := slices.Index(names, low); i >= 0 {
		score += max(64-4*i, 40)
	} else if i := bare(low, names); i >= 0 {
		score += max(56-4*i, 40)
	} else if whole := strings.ToLower(parent) + "_" + low; parent != "" && slices.Contains(names, whole) {
		score += 60
	} else if parent == "" && valued && says(words(name), m.names) {
		score += 30
	}
	if c := w.means(name); m.concept != "" && c == m.concept && w.alias[strings.TrimSpace(words(name))] != "" {
		score += 60
	} else if m.concept != "" && c == m.concept && score < 40 && strings.Contains(low, "_") { // workspaceKey
		score += 48
	}
	if strings.HasPrefix(field, "from_") {
		if first := strings.Fields(words(name)); len(first) == 2 && (first[0] == "from" || first[0] == "source") && w.means(first[1]) == map[string]string{"from_owner": "owner", "from_name": "repository"}[field] {
			score += 80
		}
	}
	if says(words(str(at.schema["description"])+" "+str(at.schema["title"])), m.says) {
		score += 45
	}
	if parent != "" && !w.sending && field != "https" && field != "ssh" && !says(words(parent+" "+name), strings.ReplaceAll(m.names, "_", " ")) && !says(words(str(at.schema["description"])), m.says) {
		score -= 30 // of something within
	}
	if w.known[low] == field {
		score += 45
	}
	return score
}

// plainly writes a name in small letters, with signs between its words.
func plainly(name string) string { return strings.ReplaceAll(strings.ToLower(snake(name)), "-", "_") }

var (
	leading  = []string{"is_", "has_", "repo_", "repository_", "project_", "primary_", "the_"}
	trailing = []string{"_name", "_key", "_url", "_number", "_date", "_slug", "_text"}
)

// bare finds a name among others without the words that say little about it: repoName, isPrivate, webhookId.
func bare(low string, names []string) int {
	for _, b := range append([]string{""}, leading...) {
		rest, ok := strings.CutPrefix(low, b)
		for _, e := range append([]string{""}, trailing...) {
			if s, cut := strings.CutSuffix(rest, e); ok && cut && s != low && s != "" {
				if i := slices.Index(names, s); i >= 0 {
					return i
				}
			}
		}
	}
	parts := strings.Split(low, "_")
	if last := parts[len(parts)-1]; len(parts) > 1 && (last == "id" || last == "bytes" || last == "level" || last == "role") {
		return slices.Index(names, last)
	}
	return -1
}

// snake writes a name with signs in the place of capitals.
func snake(s string) string {
	var b strings.Builder
	for i := range len(s) {
		if 'A' <= s[i] && s[i] <= 'Z' && i > 0 && 'a' <= s[i-1] && s[i-1] <= 'z' {
			b.WriteByte('_')
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// sure is how likely a property must be a field.
const sure = 40

// assign gives each field the property that is it, the likeliest first, and each property to one field.
func (w *writer) assign(all []string, props map[string]map[string]any) map[string]place {
	type likely struct{ field, at, score int }
	places := w.places(props)
	var pairs []likely
	for f, field := range all {
		for i, at := range places {
			if n := w.fits(field, at); n >= sure {
				pairs = append(pairs, likely{f, i, n})
			}
		}
	}
	slices.SortStableFunc(pairs, func(a, b likely) int { return cmp.Or(b.score-a.score, a.field-b.field) })
	out, used := map[string]place{}, map[int]bool{}
	for _, p := range pairs {
		if _, done := out[all[p.field]]; done || used[p.at] {
			continue
		}
		out[all[p.field]], used[p.at] = places[p.at], true
	}
	w.rest(all, places, out, used)
	return out
}

// sent is assign for a body that is sent, in which what is within an object is as good as beside it.
func (w *writer) sent(all []string, props map[string]map[string]any) map[string]place {
	w.sending = true
	defer func() { w.sending = false }()
	return w.assign(all, props)
}

// rest gives what is left over: the only time to the only field for one.
func (w *writer) rest(all []string, places []place, out map[string]place, used map[int]bool) {
	if _, done := out["created"]; done || !slices.Contains(all, "created") {
		return
	}
	var times []int
	for i, at := range places {
		if !used[i] && kindOf(at.schema) == "time" {
			times = append(times, i)
		}
	}
	if len(times) == 1 {
		out["created"], used[times[0]] = places[times[0]], true
	}
}
