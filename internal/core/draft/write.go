package draft

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"uncinate/internal/core/text"
)

// write writes the whole draft.
func (w *writer) write() {
	w.ops = w.doc.operations()
	w.findRepository()
	w.match()
	info := table(w.doc.root["info"])
	server := ""
	if all := list(w.doc.root["servers"]); len(all) > 0 {
		server = str(table(all[0])["url"])
	}
	base, api := "https://HOST.example", ""
	if u, err := url.Parse(server); err == nil && u.Host != "" {
		base, api = u.Scheme+"://"+u.Host, strings.TrimSuffix(u.Path, "/")
	}
	name := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r == ' ', r == '-', r == '_':
			return '-'
		}
		return -1
	}, strings.ToLower(str(info["title"]))), "-")
	if name == "" {
		name = "host"
	}
	w.say("# A draft, made from the host's OpenAPI document. Read it line by line against the")
	w.say("# host's API reference, then: uncinate host check, host add, host try.")
	w.say("language = 1\nname     = %q\ntitle    = %q\nbase     = %q\n", name, str(info["title"]), base)
	w.say("[address]\napi   = %q", "{+base}"+api)
	w.say("# Look these two up on a repository's page: they are in no API document.")
	w.say("page  = \"{+base}/{owner}/{name}\"\nhttps = \"{+base}/{owner}/{name}.git\"\n")
	w.signIn()
	if o := w.taken["repository-list"]; o != nil {
		w.shape(o)
	}
	if w.epoch {
		w.say("[value]\ntime = \"epoch\"\n")
	}
	if lines := w.visibility(); len(lines) > 0 {
		w.say("[value.visibility]\n%s\n", strings.Join(lines, "\n"))
	} else {
		w.missing = append(w.missing, "the host's words for private, members and public")
	}
	for _, f := range w.found {
		w.action(f)
	}
	for _, m := range w.missing {
		w.say("# Not found in the document: %s", m)
	}
}

func (w *writer) signIn() {
	schemes := table(table(w.doc.root["components"])["securitySchemes"])
	for _, name := range slices.Sorted(maps.Keys(schemes)) {
		s := w.doc.resolve(schemes[name])
		kind, scheme := str(s["type"]), strings.ToLower(str(s["scheme"]))
		switch {
		case kind == "apiKey" && str(s["in"]) == "header":
			w.say("[signin]\nheader = { %s = \"{token}\" }\ngit    = { user = \"{user}\", secret = \"{token}\" }\n", key(str(s["name"])))
		case kind == "apiKey" && str(s["in"]) == "query":
			w.say("[signin]\nquery = { %s = \"{token}\" }\ngit   = { user = \"{user}\", secret = \"{token}\" }\n", key(str(s["name"])))
		case kind == "http" && scheme == "bearer":
			w.say("[signin]\nheader = { Authorization = \"Bearer {token}\" }\n# Which user name git wants is in the host's help.\ngit    = { user = \"{user}\", secret = \"{token}\" }\n")
		case kind == "http" && scheme == "basic":
			w.say("[signin]\nbasic = { user = \"{user}\", secret = \"{token}\" }\ngit   = { user = \"{user}\", secret = \"{token}\" }\n")
		default:
			continue
		}
		return
	}
	w.missing = append(w.missing, "how the API takes the token ([signin])")
}

// key writes a key of TOML, quoted if it must be.
func key(s string) string {
	if s != "" && strings.Trim(strings.ToLower(s), "abcdefghijklmnopqrstuvwxyz0123456789-_") == "" {
		return s
	}
	return quote(s)
}

// shape writes the repository's fields.
func (w *writer) shape(o *operation) {
	_, repo := w.doc.find(o.answer, w.isRepo)
	props := w.doc.properties(repo)
	w.say("[shape.repository]")
	used := map[string]bool{}
	for _, field := range []string{"id", "owner", "name", "description", "visibility", "default_branch", "created", "creator", "empty", "page", "right"} {
		p := pick(props, field)
		if p == "" || used[p] {
			continue
		}
		used[p] = true
		says := strings.ToLower(str(props[p]["description"]))
		if field == "default_branch" && strings.Contains(says, "refs/heads/") {
			w.say("%-14s = { at = %q, strip = \"refs/heads/\" }", field, "$."+p)
			continue
		}
		if field == "created" && str(props[p]["type"]) == "integer" {
			w.epoch = true
		}
		w.say("%-14s = %q", field, "$."+p)
	}
	if p := pick(props, "path"); p != "" && (pick(props, "owner") == "" || pick(props, "name") == "") {
		for _, field := range []string{"owner", "name"} {
			if pick(props, field) == "" {
				w.say("%-14s = { at = %q, cut = \"{+owner}/{name}\" }", field, "$."+p)
			}
		}
	}
	for _, p := range []string{"clone", "clone_url", "http_url", "https_url"} {
		if s, ok := props[p]; ok {
			at := "$." + p
			if inner := w.doc.properties(s); inner["https"] != nil {
				at += ".https"
			}
			w.say("%-14s = %q", "https", at)
			break
		}
	}
	for _, x := range w.ops {
		if slices.Contains(x.headers, "ETag") {
			w.say("%-14s = \"header ETag\"", "version")
			break
		}
	}
	w.say("")
}

// variable names the variable of ours that a parameter of a path probably is.
func variable(action, name string) string {
	for _, v := range []string{"owner", "path", "person", "name", "id"} {
		if slices.Contains(synonyms[v], strings.ToLower(name)) {
			if v == "id" || v != "name" || !strings.HasPrefix(action, "key-") {
				return v
			}
		}
	}
	return "id"
}

// action writes one action with its request.
func (w *writer) action(f Found) {
	o := w.taken[f.Action]
	w.say("# confidence %d of 100: %s", f.Confidence, f.Operation)
	if f.RunnerUp != "" {
		w.say("# next best: %s", f.RunnerUp)
	}
	w.say("[[action.%s.request]]", f.Action)
	if o.method != "GET" {
		w.say("method = %q", o.method)
	}
	looks := f.Action == "identify" || strings.HasSuffix(f.Action, "-list") || strings.HasSuffix(f.Action, "-show")
	if looks && o.method != "GET" {
		w.say("repeat = true")
	}
	path := o.path
	for _, p := range o.params {
		if p.in == "path" {
			path = strings.ReplaceAll(path, "{"+p.name+"}", "{"+variable(f.Action, p.name)+"}")
		}
	}
	w.say("url    = %q", "{+api}"+path)
	w.query(f.Action, o)
	if slices.ContainsFunc(o.params, func(p param) bool { return p.in == "header" && strings.EqualFold(p.name, "If-Match") }) {
		w.say("headers = { If-Match = \"{version}\" }")
	}
	if body := w.body(f.Action, o); body != "" {
		w.say("%s = %s", text.Either(o.form, "form  ", "json  "), body)
	}
	if o.status == "202" && slices.Contains(o.headers, "Location") {
		w.say("# The work is accepted and done later: say how it is waited for.")
		w.say("# keep = { job = \"header Location\" }")
		w.say("# wait = { ask = \"{+job}\", at = \"$.state\", done = [\"done\"], failed = [\"failed\"] }")
	}
	w.answer(f.Action, o)
	w.say("")
}

func (w *writer) query(action string, o *operation) {
	var parts []string
	for _, p := range o.params {
		if p.in != "query" {
			continue
		}
		switch lower := strings.ToLower(p.name); {
		case slices.Contains(synonyms["find"], lower):
			parts = append(parts, key(p.name)+" = \"{find}\"")
		case lower == "after" || lower == "cursor" || strings.Contains(strings.ToLower(p.says), "cursor"):
			parts = append(parts, key(p.name)+" = \"{cursor}\"")
		case lower == "page":
			parts = append(parts, key(p.name)+" = \"{page}\"")
		case lower == "offset":
			parts = append(parts, key(p.name)+" = \"{offset}\"")
		case p.most > 1 && strings.HasSuffix(action, "-list"):
			parts = append(parts, fmt.Sprintf("%s = \"%d\"", key(p.name), p.most))
		}
	}
	if len(parts) > 0 {
		w.say("query  = { %s }", strings.Join(parts, ", "))
	}
}

// fills are the variables that an action's body may hold, the more particular first.
var fills = map[string][]string{
	"repository-create":   {"name", "description", "visibility", "default_branch", "owner"},
	"repository-change":   {"description", "visibility", "default_branch", "new_name", "owner", "name"},
	"repository-transfer": {"new_owner", "owner", "name"}, "repository-show": {"owner", "name"}, "repository-delete": {"owner", "name"},
	"key-add": {"title", "key"}, "key-remove": {"id"}, "signing-key-add": {"title", "key"}, "deploy-key-add": {"title", "key", "right"}, "people-grant": {"person", "right"}, "invitation-send": {"person", "email", "right"}, "branch-protect": {"branch", "right"}, "branch-unprotect": {"branch"}, "repository-copy": {"new_name", "new_owner"}, "repository-import": {"address", "name", "description", "visibility", "owner"}, "token-revoke": {"token"}, "repository-list": {"find"},
}

// body writes a body as an inline table; "" for none.
func (w *writer) body(action string, o *operation) string {
	if o.body == nil {
		return ""
	}
	props := w.doc.properties(o.body)
	if o.named[1] == "" {
		return w.table(action, props)
	}
	parts := []string{fmt.Sprintf("%s = %q", key(o.named[0]), o.named[1])}
	for _, name := range slices.Sorted(maps.Keys(props)) {
		if inner := w.doc.properties(props[name]); len(inner) > 0 {
			if t := w.table(action, inner); t != "" {
				parts = append(parts, key(name)+" = "+t)
			}
		}
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

func (w *writer) table(action string, props map[string]map[string]any) string {
	left := maps.Clone(props)
	var parts []string
	for _, v := range fills[action] {
		if p := pick(left, v); p != "" {
			delete(left, p)
			parts = append(parts, fmt.Sprintf("%s = \"{%s}\"", key(p), v))
		}
	}
	if strings.HasSuffix(action, "-list") {
		for _, name := range slices.Sorted(maps.Keys(left)) {
			switch most := number(left[name]["maximum"]); {
			case name == "page":
				parts = append(parts, "page = \"{page}\"")
			case most > 1:
				parts = append(parts, fmt.Sprintf("%s = %d", key(name), most))
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(left)) {
		if inner := w.doc.properties(left[name]); len(inner) > 0 {
			if t := w.table(action, inner); t != "" {
				parts = append(parts, key(name)+" = "+t)
			}
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// reads are the fields that are read from an action's answer.
var reads = map[string][]string{"identify": {"user", "full_name", "email", "email_confirmed"}, "key-list": {"id", "title", "key", "created", "used"}, "key-add": {"id"},
	"signing-key-list": {"id", "title", "key", "created", "used"}, "signing-key-add": {"id"}, "deploy-key-list": {"id", "title", "key", "right", "created", "used"}, "deploy-key-add": {"id"},
	"host-key-list": {"key"}, "head-list": {"owner", "name", "branch", "tag", "head"},
	"owner-list": {"owner", "id"}, "people-list": {"user", "full_name", "right", "created"}, "people-search": {"user", "full_name"}, "invitation-list": {"id", "owner", "name", "right", "creator", "created"}, "invitation-sent": {"id", "user", "email", "right", "created"}, "invitation-send": {"id"}, "protection-list": {"branch", "right"}, "token-list": {"id", "title", "created"}, "token-renew": {"secret", "expires"}, "storage-used": {"bytes"}}

func (w *writer) answer(action string, o *operation) {
	if strings.HasPrefix(action, "repository-") {
		path, _ := w.doc.find(o.answer, w.isRepo)
		switch {
		case path == "":
			return
		case strings.Contains(path, "[*]"):
			w.say("items  = %q", path)
		case path != "$":
			w.say("inside = %q", path)
		}
		w.say("read   = \"repository\"")
		if strings.Contains(path, "[*]") {
			w.paging(o)
		}
		return
	}
	fields := reads[action]
	if len(fields) == 0 || o.answer == nil {
		return
	}
	at, from := "$", o.answer
	if strings.HasSuffix(action, "-list") {
		path, all := w.doc.find(o.answer, isList)
		if path == "" {
			return
		}
		w.say("items  = %q", path+"[*]")
		from = w.doc.resolve(all["items"])
	} else if path, inner := w.doc.find(o.answer, func(s map[string]any) bool { return pick(w.doc.properties(s), fields[0]) != "" }); path != "" {
		at, from = path, inner
	}
	props := w.doc.properties(from)
	var parts []string
	for _, field := range fields {
		p := pick(props, field)
		if field == "owner" && p == "" {
			p = pick(props, "path")
		}
		if field == "owner" && p == "" {
			p = pick(props, "name")
		}
		if p == "" {
			continue
		}
		delete(props, p)
		parts = append(parts, fmt.Sprintf("%s = %q", field, at+"."+p))
	}
	if action == "identify" {
		for _, h := range o.headers {
			if lower := strings.ToLower(h); strings.Contains(lower, "end") || strings.Contains(lower, "expir") {
				parts = append(parts, fmt.Sprintf("expires = %q", "header "+h))
			}
		}
	}
	if len(parts) > 0 {
		w.say("read   = { %s }", strings.Join(parts, ", "))
	}
	if action == "head-list" {
		w.paging(o)
	}
}

// paging guesses how a list goes on.
func (w *writer) paging(o *operation) {
	// at gives the path to the first of the names that is in the answer.
	at := func(names ...string) string {
		for _, name := range names {
			path, _ := w.doc.find(o.answer, func(s map[string]any) bool { _, ok := w.doc.properties(s)[name]; return ok })
			if path != "" {
				return path + "." + name
			}
		}
		return ""
	}
	size := int64(0)
	for _, p := range o.params {
		size = max(size, p.most)
	}
	w.doc.find(o.body, func(s map[string]any) bool { size = max(size, number(s["maximum"])); return false })
	next, total := at("next", "next_cursor", "cursor"), at("total", "total_count")
	switch {
	case slices.Contains(o.headers, "Link"):
		w.say("page   = { by = \"link\" }")
	case next != "":
		w.say("page   = { by = \"cursor\", at = %q }", next)
	case total != "" && size > 0:
		w.say("page   = { by = \"number\", total = %q, size = %d }", total, size)
	default:
		w.missing = append(w.missing, "how the list of repositories goes on (\"page\")")
	}
}
