package draft

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/description"
)

// fills are the variables that an action's body may hold.
var fills = map[string]string{
	"repository-create": "name description visibility default_branch owner object_format path", "repository-change": "description visibility default_branch new_name owner name",
	"repository-branch": "owner name default_branch", "repository-transfer": "new_owner owner name", "repository-show": "owner name", "repository-delete": "owner name", "repository-copy": "new_name new_owner",
	"repository-import": "address name description visibility owner", "repository-list": "find",
	"key-add": "title key", "key-remove": "id", "signing-key-add": "title key", "deploy-key-add": "title key right",
	"people-list": "owner name", "people-grant": "person right owner name", "people-withdraw": "person owner name", "invitation-send": "person email right",
	"branch-protect": "branch rewriting deleting right mergers", "branch-unprotect": "branch", "token-revoke": "token", "hook-add": "address secret",
	"offer-make": "branch from_owner from_name target title text removing", "offer-accept": "way head text removing", "repository-archive": "owner name",
}

// body writes a request's body, "" for none, and the look-ups that it takes.
func (w *writer) body(action string, o *operation) (string, []request) {
	if o.body == nil {
		return "", nil
	}
	props := w.doc.properties(o.body)
	var all []pair
	if o.named[1] != "" {
		all = append(all, o.texts...)
		if o.named[0] != "" {
			all = append(all, pair{o.named[0], quote(o.named[1])})
		}
		props = maps.Clone(props)
		delete(props, o.named[0])
	}
	fixed := map[string]bool{}
	for _, at := range w.places(props) {
		if v := w.constant(action, o, at.schema); v != "" && (action != "offer-accept" && action != "people-withdraw" || len(list(at.schema["enum"])) > 0) {
			all, fixed[at.path] = append(all, pair{at.name, v}), true
		}
	}
	var before []request
	filled := w.filled(action, o)
	got := w.sent(filled, props)
	for _, variable := range filled {
		at, ok := got[variable]
		if !ok || fixed[at.path] {
			continue
		}
		fixed[at.path] = true
		if variable == "visibility" && w.two[1] != "" {
			all = append(all, pair{at.name, quote("{visibility." + w.two[0] + "}")}, pair{w.two[1], quote("{visibility." + w.two[1] + "}")})
			continue
		}
		value := quote(refPrefix(str(at.schema["description"])) + "{" + variable + "}")
		if strings.HasSuffix(variable, "owner") && says(words(str(at.schema["description"])), "id") {
			if r, ok := w.ownerID(variable, at); ok {
				before, value = append(before, r), `"{group}"`
			}
		}
		all = append(all, pair{at.name, value})
	}
	for _, at := range w.places(props) {
		name := at.name[strings.LastIndexByte(at.name, '.')+1:]
		switch most := number(at.schema["maximum"]); {
		case fixed[at.path]:
		case description.Looks(action) && (name == "page" || name == "page_number"):
			all = append(all, pair{at.name, `"{page}"`})
		case description.Looks(action) && (name == "after" || name == "cursor"):
			all = append(all, pair{at.name, `"{cursor}"`})
		case description.Looks(action) && most > 1:
			all = append(all, pair{at.name, fmt.Sprint(most)})
		case o.named[1] != "" && kindOf(at.schema) == "text" && action != "repository-branch":
			by := strings.Fields(strings.ReplaceAll(fills[action], "person", ""))
			if r, ok := w.lookUp(name, name, o, by...); ok {
				before, all = append(before, r), append(all, pair{at.name, quote("{" + name + "}")})
			}
		}
	}
	if len(all) == 0 {
		return "", nil
	}
	return bodyOf(o) + inline(nested(all)), before
}

// filled are the variables that an operation's body may hold: not those that are in its path.
func (w *writer) filled(action string, o *operation) []string {
	out := strings.Fields(fills[action])
	roles := w.roles(o)
	for _, as := range roles {
		out = slices.DeleteFunc(out, func(v string) bool {
			return v == as || as == "repo" && (v == "owner" || v == "name")
		})
	}
	return out
}

// introspection asks what a token may, where the host has that (RFC 7662).
func (w *writer) introspection() []request {
	for _, o := range w.ops {
		props := w.doc.properties(o.answer)
		if o.method != "POST" || props["active"] == nil || props["scope"] == nil {
			continue
		}
		r := request{method: "POST", url: beginning(o) + o.path, body: bodyOf(o) + `{ token = "{token}" }`}
		read := []pair{{"active", `"$.active"`}, {"scopes", `{ at = "$.scope", split = " " }`}}
		if props["exp"] != nil {
			read = append(read, pair{"expires", `{ at = "$.exp", as = "epoch" }`})
		}
		r.read = inline(read)
		return []request{r}
	}
	return nil
}

// branchAfter sets the default branch of what was made, where making it takes none.
func (w *writer) branchAfter() []request {
	create, change := w.taken["repository-create"], w.taken["repository-change"]
	if change == nil || create.status == "202" {
		return nil
	}
	has := func(o *operation) bool {
		_, ok := w.sent(strings.Fields(fills["repository-change"]), w.doc.properties(o.body))["default_branch"]
		return ok
	}
	if has(create) || !has(change) {
		return nil
	}
	out := w.requests("repository-branch", change)
	for i := range out {
		out[i].unless = append(out[i].unless, pair{"default_branch", `""`})
	}
	return out
}

// bodyOf gives the key that an operation's body has in a description.
func bodyOf(o *operation) string { return fmt.Sprintf("%-7s = ", o.kind) }

// ownerID makes the request that finds an owner's id.
func (w *writer) ownerID(variable string, at place) (request, bool) {
	for _, o := range w.ops {
		if o.method != "GET" || strings.Contains(o.path, "{") || !says(o.text, "look up,id of") {
			continue
		}
		var query []pair
		for _, p := range o.params {
			if w.variable(p.name) == "owner" {
				query = append(query, pair{p.name, quote("{" + variable + "}")})
			}
		}
		ids := w.assign([]string{"id"}, w.doc.properties(o.answer))
		if id, ok := ids["id"]; ok && len(query) == 1 {
			r := request{url: beginning(o) + o.path, query: query, keep: []pair{{"group", quote("$" + id.path)}}}
			if says(words(str(at.schema["description"])), "left out,your own,yourself,empty") {
				r.unless = []pair{{variable, `"{user}"`}}
			}
			return r, true
		}
	}
	return request{}, false
}

// kept makes the request before one that writes everything back: what is kept fills in where nothing new is given.
func (w *writer) kept(before []request, url string, o *operation) request {
	r := request{url: url}
	shape := map[string]string{}
	for _, p := range w.shapeFields() {
		shape[p.key] = p.value
	}
	if v := shape["id"]; v != "" && len(before) > 0 {
		r.keep = append(r.keep, pair{before[0].keep[0].key, v})
	}
	for _, p := range o.params {
		if strings.EqualFold(p.name, "If-Match") {
			r.keep = append(r.keep, pair{"version", `"header ETag"`})
		}
	}
	got := w.sent(w.filled("repository-change", o), w.doc.properties(o.body))
	for _, variable := range []string{"new_name", "description", "visibility", "default_branch"} {
		from := strings.Replace(variable, "new_name", "name", 1)
		if _, ok := got[variable]; ok && shape[from] != "" {
			r.keep = append(r.keep, pair{variable, strings.Replace(shape[from], "/{name}", "/{new_name}", 1)})
		}
	}
	return r
}

// reads are the fields that are read from an action's answer.
var reads = map[string]string{"identify": "user full_name email email_confirmed expires", "key-list": "id title key created used", "key-add": "id",
	"signing-key-list": "id title key created used", "signing-key-add": "id", "deploy-key-list": "id title key created used right", "deploy-key-add": "id",
	"host-key-list": "key", "head-list": "owner name branch tag head", "owner-list": "owner kind id", "people-list": "user full_name right created inherited", "people-search": "user full_name",
	"invitation-list": "id owner name right creator created", "invitation-sent": "id user email right created", "invitation-send": "id", "protection-list": "branch rewriting deleting right mergers",
	"token-list": "id title created", "token-renew": "secret expires", "storage-used": "bytes", "hook-list": "id address", "hook-add": "id",
	"offer-remark-list": "creator created text file", "offer-check-list": "title outcome text"}

// answer says what is read from an action's answer.
func (w *writer) answer(action string, o *operation, r *request) {
	for _, shape := range []struct {
		name string
		is   func(map[string]any) bool
	}{{"repository", w.isRepo}, {"offer", w.isOffer}} {
		path, _ := w.doc.find(o.answer, shape.is)
		if path == "" || !strings.HasPrefix(action, shape.name+"-") {
			continue
		}
		r.read = quote(shape.name)
		switch {
		case strings.Contains(path, "*"):
			r.items = path
			r.page = w.paging(o)
		case path != "$":
			r.inside = path
		}
		return
	}
	all := strings.Fields(reads[action])
	if len(all) == 0 || o.answer == nil {
		return
	}
	at, from := "$", o.answer
	if description.Looks(action) && action != "identify" && action != "storage-used" {
		path, many := w.doc.find(o.answer, isMany)
		if path == "" {
			return
		}
		at, from = "$", w.doc.resolve(many["items"])
		r.items = path + "[*]"
		if isMap(many) {
			from = w.doc.resolve(many["additionalProperties"])
			r.items, r.keyed = path, all[0]
			if props := w.doc.properties(from); len(w.assign(all[:1], props)) > 0 {
				r.items, r.keyed = path+".*", ""
			} else {
				all = all[1:]
			}
		}
		if r.page = w.paging(o); action == "people-search" {
			r.page = ""
		}
	} else if path, inner := w.doc.find(o.answer, func(s map[string]any) bool { return len(w.assign(all[:1], w.doc.properties(s))) > 0 }); path != "" {
		at, from = path, inner
	}
	r.read = inline(w.readFields(action, all, at, from, o))
}

func (w *writer) readFields(action string, all []string, at string, from map[string]any, o *operation) []pair {
	props := w.doc.properties(from)
	got := w.assign(all, props)
	if _, told := got["owner"]; !told && action == "owner-list" { // by a path or a name
		for _, name := range []string{"path", "name", "login", "key", "slug"} {
			if p, ok := props[name]; ok {
				got["owner"] = place{name, member(name), p}
				break
			}
		}
	}
	var out []pair
	for _, field := range all {
		if p, ok := got[field]; ok && !slices.Contains(w.seen.Absent[action], field) {
			path := at + p.path
			if o.root != "" { // XML: lists of elements, their text, and attributes
				path = "$" + member(o.root) + "[0]" + p.path + "[0]['#']"
				if attribute, _ := table(p.schema["xml"])["attribute"].(bool); attribute {
					path = "$" + member(o.root) + "[0]['@" + p.name + "']"
				}
			}
			out = append(out, pair{field, w.reading(path, p.schema)})
		}
	}
	if action == "identify" {
		out = append(out, w.scopes(at, from)...)
		for _, h := range o.headers {
			if says(words(h), "end,expire,expires,expiry") {
				out = append(out, pair{"expires", quote("header " + h)})
			}
		}
	}
	return out
}

// reading writes where a value is, and what is cut off before it.
func (w *writer) reading(path string, schema map[string]any) string {
	if prefix := refPrefix(str(schema["description"])); prefix != "" {
		return "{ at = " + quote(path) + ", strip = " + quote(prefix) + " }"
	}
	return quote(path)
}

// scopes finds the token's scopes in an answer.
func (w *writer) scopes(at string, from map[string]any) []pair {
	for _, p := range w.places(w.doc.properties(from)) {
		said := words(str(p.schema["description"]))
		if !slices.Contains([]string{"scopes", "scope"}, p.name) && !says(said, "scope") {
			continue
		}
		path := at + p.path
		switch {
		case kindOf(p.schema) == "list":
			return []pair{{"scopes", quote(path)}}
		case says(said, "comma"):
			return []pair{{"scopes", "{ at = " + quote(path) + `, split = "," }`}}
		default:
			return []pair{{"scopes", "{ at = " + quote(path) + `, split = " " }`}}
		}
	}
	return nil
}
