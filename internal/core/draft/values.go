package draft

import (
	"fmt"
	"slices"
	"strings"
)

// given is a value as TOML writes it.
func given(v any) string {
	if s, ok := v.(string); ok {
		return quote(s)
	}
	return fmt.Sprint(v)
}

// meaningsOf finds what the values of a schema mean by one of our tables: from the values' own words, and from what its description, or
// besides says of them: "hold: only those who were let in", "3 read, 12 send", "(state 2)".
func (w *writer) meaningsOf(kind string, schema map[string]any, besides string) map[string]any {
	out := map[string]any{}
	text := str(schema["description"])
	for _, v := range list(schema["enum"]) {
		said := saidOf(fmt.Sprint(v), text)
		if said == "" {
			said = saidOf(fmt.Sprint(v), besides)
		}
		ours := ""
		for _, m := range meanings[kind] {
			if said != "" && says(said, m[1]) {
				ours = m[0]
				break
			}
		}
		for _, m := range meanings[kind] {
			if ours == "" && says(words(fmt.Sprint(v)), m[1]) {
				ours = m[0]
			}
		}
		if _, twice := out[ours]; ours != "" && !twice {
			out[ours] = v
		}
	}
	if str(schema["type"]) == "integer" && len(out) == 0 { // without an enumeration, as its description has it
		for _, m := range meanings[kind] {
			for v := range 64 {
				if said := saidOf(fmt.Sprint(v), text); said != "" && says(said, m[1]) && out[m[0]] == nil {
					out[m[0]] = v
				}
			}
		}
	}
	return out
}

// saidOf gives the words that a text says of a value: what follows it up to the next sign, or, of one in brackets, what is before.
func saidOf(value, text string) string {
	if value == "" {
		return ""
	}
	for from := 0; from < len(text); {
		i := strings.Index(text[from:], value)
		if i < 0 {
			return ""
		}
		at := from + i
		end := at + len(value)
		from = end
		if at > 0 && isWord(text[at-1]) && value[0] != '-' || end < len(text) && isWord(text[end]) {
			continue
		}
		if open := strings.LastIndexAny(text[:at], "()"); open >= 0 && text[open] == '(' {
			start := strings.LastIndexAny(text[:open], ",;:.)")
			if inside := words(text[start+1 : open]); strings.TrimSpace(inside) != "" {
				return inside
			}
		}
		rest := strings.TrimLeft(text[end:], " `*\"':=-–(")
		if n := strings.IndexAny(rest, ",;.)\n"); n >= 0 {
			rest = rest[:n]
		}
		return words(rest)
	}
	return ""
}

func isWord(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '_' || c == '-'
}

// tables are our words for values, in the order in which a description has them.
var tables = []struct {
	name  string
	words []string
}{{"visibility", []string{"private", "members", "public"}}, {"right", []string{"read", "write", "admin"}}, {"state", []string{"open", "accepted", "closed"}}, {"way", []string{"merge", "replay", "one"}}, {"outcome", []string{"passed", "failed", "running"}}}

// learnValues finds, for each table, the schema that says most of its values, and remembers the names under which such are.
func (w *writer) learnValues() {
	for _, t := range tables {
		best := map[string]any{}
		look := func(field, text string, all []place) {
			for _, at := range all {
				got := w.meaningsOf(t.name, at.schema, text)
				if t.name == "visibility" && len(got) == 0 && w.fits("visibility", at) >= sure && kindOf(at.schema) == "yes" {
					closed := slices.Contains([]string{"private", "closed", "hidden", "is_private", "is_closed", "is_hidden"}, plainly(at.name))
					got = map[string]any{"private": closed, "public": !closed}
					if kin := besideIt(at, all); kin != "" && closed {
						w.two = [2]string{at.name, kin}
					}
				}
				if len(got) > len(best) && w.fits(field, at) >= sure {
					best = got
					if t.name == "right" {
						w.mask = says(words(str(at.schema["description"])), "mask,bits")
					}
				}
				if len(got) > 1 {
					w.known[strings.ToLower(at.name)] = field
				}
			}
		}
		for _, action := range []string{"repository-show", "repository-list", "repository-create", "repository-change", "people-list", "people-grant", "deploy-key-list", "deploy-key-add", "offer-show", "offer-list", "offer-accept", "offer-check-list"} {
			o := w.taken[action]
			if o == nil || (t.name == "state" || t.name == "way") && !strings.HasPrefix(action, "offer-") || t.name == "outcome" && action != "offer-check-list" || t.name == "right" && strings.HasPrefix(action, "offer-") {
				continue
			}
			look(t.name, o.summary, w.places(w.doc.properties(o.body)))
			w.doc.find(o.answer, func(s map[string]any) bool { look(t.name, o.summary, w.places(w.doc.properties(s))); return false })
			for _, p := range o.params {
				look(t.name, o.summary, []place{{p.name, "." + p.name, w.described(p)}})
			}
		}
		lines := map[string]string{}
		if t.name == "visibility" && w.two[1] != "" { // one field says whether it is closed, and another whether the members see it then
			a, b := key(w.two[0]), key(w.two[1])
			lines = map[string]string{"private": "{ " + a + " = true, " + b + " = false }", "members": "{ " + a + " = true, " + b + " = true }", "public": "{ " + a + " = false }"}
			best = nil
		}
		for _, word := range t.words {
			if v, ok := best[word]; ok {
				lines[word] = given(v)
			}
		}
		if len(lines) > 1 {
			w.values[t.name] = lines
		}
	}
}

// besideIt finds the field that says, beside one that says whether a repository is closed, whether the members of its owner see it.
func besideIt(at place, all []place) string {
	for _, other := range all {
		if other.path != at.path && kindOf(other.schema) == "yes" && says(words(str(other.schema["description"])), "member,team,internal,signed in") {
			return other.name
		}
	}
	return ""
}

// described gives a parameter's schema with what is said of the parameter.
func (w *writer) described(p param) map[string]any {
	s := map[string]any{}
	for k, v := range p.schema {
		s[k] = v
	}
	s["description"] = p.says
	return s
}

// constant gives the value, as TOML, that a property of an operation that does several things has for an action; "" for none.
func (w *writer) constant(action string, o *operation, p map[string]any) string {
	switch action {
	case "repository-archive", "repository-reopen":
		if kindOf(p) == "yes" {
			return given(action == "repository-archive")
		}
	case "invitation-accept", "invitation-decline":
		if v, ok := w.meaningsOf("answer", p, o.summary)[strings.TrimPrefix(action, "invitation-")]; ok {
			return given(v)
		}
	case "people-withdraw":
		if v, ok := p["example"]; ok && w.values["right"] != nil && slices.Contains([]string{"none", "-", "no", ""}, fmt.Sprint(v)) {
			return given(v)
		}
		if v, ok := w.meaningsOf("right", p, o.summary)["none"]; ok {
			return given(v)
		}
	case "offer-accept", "offer-close":
		got := w.meaningsOf("state", p, o.summary)
		if v, ok := got[map[string]string{"offer-accept": "accepted", "offer-close": "closed"}[action]]; ok && len(got) > 1 {
			return given(v)
		}
	}
	return ""
}
