package draft

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/text"
)

// write writes the whole draft.
func (w *writer) write() {
	w.head()
	w.signIn()
	w.valueTables()
	if len(w.repo) > 0 {
		w.say("[shape.repository]")
		w.columns(w.shapeFields())
	}
	for _, f := range w.found {
		if f.Action == "offer-list" || f.Action == "offer-show" {
			w.offerShape()
			break
		}
	}
	for _, f := range w.found {
		w.action(f)
	}
	if len(w.missing) > 0 {
		w.say("# Not in the document, or not understood:")
	}
	line := ""
	for i, m := range w.missing {
		m += text.Either(i < len(w.missing)-1, ",", "")
		if len(line)+len(m) > 94 {
			w.say("#  %s", line)
			line = ""
		}
		line += " " + visible(m)
	}
	if line != "" {
		w.say("#  %s", line)
	}
}

// head writes the host's name and addresses.
func (w *writer) head() {
	info := table(w.doc.root["info"])
	base, api := "https://HOST.example", ""
	if u, err := url.Parse(server(list(w.doc.root["servers"]))); err == nil && u.Host != "" {
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
	if others := w.origins(base); len(others) > 0 {
		w.say("# Other origins to which the token goes. Are they the same host's?\n[trust]\naddresses = [%s]\n", strings.Join(others, ", "))
	}
	w.say("[address]\napi   = %q", "{+base}"+api)
	told := map[string]string{}
	for _, field := range []string{"page", "https", "ssh"} {
		told[field] = w.template(field, base)
	}
	if told["page"] == "" || told["https"] == "" {
		w.say("# The document has no example of these: look them up on a repository's page.")
	}
	w.say("page  = %q\nhttps = %q", text.Either(told["page"] == "", "{+base}/{owner}/{name}", told["page"]), text.Either(told["https"] == "", "{+base}/{owner}/{name}.git", told["https"]))
	if told["ssh"] != "" {
		w.say("ssh   = %q", told["ssh"])
	}
	w.say("")
}

// origins are those, besides the base's, at which the API is.
func (w *writer) origins(base string) []string {
	var out []string
	for _, o := range w.ops {
		if u, err := url.Parse(o.base); err == nil && u.Host != "" && u.Scheme+"://"+u.Host != base && !slices.Contains(out, quote(u.Scheme+"://"+u.Host)) {
			out = append(out, quote(u.Scheme+"://"+u.Host))
		}
	}
	return out
}

// template makes an address's template of the example that a repository's schema has of it; "" for none.
func (w *writer) template(field, base string) string {
	props := w.repoProperties()
	example := func(f string) string {
		at, ok := w.assign([]string{f}, props)[f]
		if !ok {
			return ""
		}
		return str(at.schema["example"])
	}
	if s := w.written(field, base); s != "" {
		return s
	}
	for _, link := range w.links(props) {
		if link.field == field && link.example != "" {
			return w.fill(link.example, base, example)
		}
	}
	return w.fill(example(field), base, example)
}

var address = regexp.MustCompile(`(?:https?|ssh)://[^\s"'<>()]+`)

// written finds an address's template where the document says it in words, with names in braces; "" for none.
func (w *writer) written(field, base string) string {
	told, from := str(table(w.doc.root["info"])["description"]), 0
	for _, at := range address.FindAllStringIndex(told, 20) {
		before := told[max(from, at[0]-60):at[0]]
		a := strings.TrimRight(told[at[0]:at[1]], ".,;:!?")
		if from = at[1]; !strings.Contains(a, "{") {
			continue
		}
		if i := strings.LastIndexAny(before, ".;"); i >= 0 {
			before = before[i+1:]
		}
		is := "page"
		switch {
		case strings.HasPrefix(a, "ssh:"):
			is = "ssh"
		case strings.HasSuffix(a, ".git"), says(words(before), "git,clone,fetch"):
			is = "https"
		}
		if is != field {
			continue
		}
		for _, m := range braced.FindAllString(a, -1) {
			v := w.variable(strings.Trim(m, "{}"))
			if v != "owner" && v != "name" {
				return ""
			}
			if _, cut := w.assign([]string{"path"}, w.repoProperties())["path"]; v == "owner" && (cut || strings.HasPrefix(a, "ssh:") && !strings.HasSuffix(a, ".git")) {
				v = "+owner"
			}
			a = strings.Replace(a, m, "{"+v+"}", 1)
		}
		host := base[strings.Index(base, "//")+2:]
		if rest, ok := strings.CutPrefix(a, base); ok {
			return "{+base}" + rest
		}
		return strings.Replace(a, "@"+host, "@{+host}", 1)
	}
	return ""
}

var braced = regexp.MustCompile(`\{[^{}]*\}`)

// fill puts variables in the place of an example's owner, name and host.
func (w *writer) fill(address, base string, example func(string) string) string {
	owner, name, path := example("owner"), example("name"), example("path")
	if i := strings.LastIndexByte(path, '/'); i > 0 {
		owner, name = path[:i], path[i+1:]
	}
	if address == "" || owner == "" || name == "" || !strings.Contains(address, owner) || !strings.Contains(address, name) {
		return ""
	}
	host := base
	if _, after, ok := strings.Cut(base, "://"); ok {
		host = after
	}
	if rest, ok := strings.CutPrefix(address, base); ok {
		address = "{+base}" + rest
	} else {
		address = strings.Replace(address, "@"+host, "@{+host}", 1)
	}
	as := text.Either(strings.Contains(owner, "/"), "{+owner}", "{owner}")
	address = strings.Replace(address, "/"+owner, "/"+as, 1)
	address = strings.Replace(address, "="+owner, "="+as, 1)
	i := strings.LastIndex(address, name)
	if i < 0 {
		return ""
	}
	return address[:i] + "{name}" + address[i+len(name):]
}

func (w *writer) signIn() {
	schemes := table(table(w.doc.root["components"])["securitySchemes"])
	user := "{user}"
	if m := gitUser.FindStringSubmatch(str(table(w.doc.root["info"])["description"])); m != nil {
		user = m[1]
	}
	for _, s := range schemes {
		if m := gitUser.FindStringSubmatch(str(w.doc.resolve(s)["description"])); m != nil {
			user = m[1]
		}
	}
	git := "git    = { user = " + quote(user) + `, secret = "{token}" }`
	for _, name := range sortedKeys(schemes) {
		s := w.doc.resolve(schemes[name])
		kind, scheme := str(s["type"]), strings.ToLower(str(s["scheme"]))
		switch {
		case kind == "apiKey" && str(s["in"]) == "header" && strings.EqualFold(str(s["name"]), "Authorization"):
			word, _, _ := strings.Cut(str(s["description"]), " ")
			w.say("[signin]\n# The word before the token is in the host's help.\nheader = { Authorization = %q }\n%s\n", strings.TrimSpace(word+" {token}"), git)
		case kind == "apiKey" && str(s["in"]) == "header":
			w.say("[signin]\nheader = { %s = \"{token}\" }\n%s\n", key(str(s["name"])), git)
		case kind == "apiKey" && str(s["in"]) == "query":
			w.say("[signin]\nquery = { %s = \"{token}\" }\n%s\n", key(str(s["name"])), git)
		case kind == "apiKey" && str(s["in"]) == "cookie":
			w.cookie(str(s["name"]))
		case kind == "http" && scheme == "bearer":
			w.say("[signin]\nheader = { Authorization = \"Bearer {token}\" }\n%s\n", git)
		case kind == "http" && scheme == "basic":
			w.say("[signin]\nbasic = { user = \"{user}\", secret = \"{token}\" }\n%s\n", git)
		default:
			continue
		}
		return
	}
	w.missing = append(w.missing, "how the API takes the token ([signin])")
}

// cookie writes a sign-in by a cookie, and how it is had for a token, if an operation sets one.
func (w *writer) cookie(name string) {
	for _, o := range w.ops {
		got := ""
		for _, at := range w.places(w.doc.properties(o.body)) {
			if w.fits("token", at) >= sure || says(words(str(at.schema["description"])), "token") {
				got = at.name
			}
		}
		if got == "" || !slices.Contains(o.headers, "Set-Cookie") {
			continue
		}
		w.say("[signin]\nheader = { Cookie = %q }\ngit    = { user = \"{user}\", secret = \"{kept_token}\" }\n", name+"={token}")
		w.say("[signin.exchange]\nurl  = %q\n%s = { %s = \"{kept_token}\" }\nread = { secret = %q }\n", at(o)+o.path, o.kind, key(got), "cookie "+name)
		return
	}
	w.say("[signin]\nheader = { Cookie = %q }\n", name+"={token}")
}

// valueTables writes our words and the host's.
func (w *writer) valueTables() {
	if at, ok := w.assign([]string{"created"}, w.repoProperties())["created"]; ok {
		layout, zone := layoutOf(str(at.schema["description"]))
		w.say("[value]\ntime = %q", text.Either(layout != "", layout, text.Either(kindOf(at.schema) == "count", "epoch", "rfc3339")))
		if zone != "" {
			w.say("zone = %q", zone)
		}
		w.say("")
	}
	for _, t := range tables {
		lines := w.values[t.name]
		if len(lines) == 0 {
			if t.name == "visibility" || t.name == "right" && w.taken["people-grant"] != nil {
				w.missing = append(w.missing, "the host's words for "+strings.Join(t.words, ", ")+" ([value."+t.name+"])")
			}
			continue
		}
		var out []pair
		for _, word := range t.words {
			if v := lines[word]; v != "" {
				out = append(out, pair{word, v})
			} else if t.name == "right" {
				w.missing = append(w.missing, "the host's word for the right \""+word+"\"")
			}
		}
		w.say("[value.%s]", t.name)
		if t.name == "right" && w.mask {
			out = append([]pair{{"mask", "true"}}, out...)
		}
		w.columns(out)
	}
}

// columns writes lines with their signs below one another.
func (w *writer) columns(all []pair) {
	wide := 0
	for _, p := range all {
		wide = max(wide, len(key(p.key)))
	}
	for _, p := range all {
		w.say("%-*s = %s", wide, key(p.key), p.value)
	}
	w.say("")
}

// repoProperties are the properties of what is a repository.
func (w *writer) repoProperties() map[string]map[string]any { return w.shapeProperties(w.isRepo) }

func (w *writer) shapeProperties(is func(map[string]any) bool) map[string]map[string]any {
	for _, o := range w.ops {
		if path, s := w.doc.find(o.answer, is); path != "" {
			return w.doc.properties(s)
		}
	}
	return nil
}

// shapeFields are a repository's fields, and where they are.
func (w *writer) shapeFields() []pair {
	props := w.repoProperties()
	order := []string{"id", "owner", "name", "description", "visibility", "default_branch", "created", "creator", "empty", "page", "https", "ssh", "right", "archived", "bytes"}
	got := w.assign(append(slices.Clone(order), "path"), props)
	path, cut := got["path"]
	if _, owner := got["owner"]; owner {
		_, name := got["name"]
		cut = cut && !name
	}
	for _, l := range w.links(props) {
		got[l.field] = place{l.field, strings.TrimPrefix(l.path, "$"), map[string]any{}}
	}
	var out []pair
	for _, field := range order {
		switch at, ok := got[field]; {
		case cut && (field == "owner" || field == "name"):
			out = append(out, pair{field, "{ at = " + quote("$"+path.path) + `, cut = "{+owner}/{name}" }`})
		case ok:
			out = append(out, pair{field, w.reading("$"+at.path, at.schema)})
		}
	}
	for _, o := range w.ops {
		if slices.Contains(o.headers, "ETag") && w.gives(o) == 'r' {
			return append(out, pair{"version", `"header ETag"`})
		}
	}
	return out
}

// link is an address in a list of such, by its kind.
type link struct{ field, path, example string }

// links finds a repository's addresses that are in a list by their kind.
func (w *writer) links(props map[string]map[string]any) []link {
	for _, name := range sortedKeys(props) {
		items := w.doc.resolve(props[name]["items"])
		inner := w.doc.properties(items)
		for _, kind := range sortedKeys(inner) {
			got := w.meaningsOf("place", inner[kind], "")
			to := ""
			for _, n := range sortedKeys(inner) {
				if n != kind && kindOf(inner[n]) == "text" {
					to = n
				}
			}
			if len(got) < 2 || to == "" {
				continue
			}
			var out []link
			for _, field := range []string{"https", "ssh", "page"} {
				if v, ok := got[field]; ok {
					l := link{field: field, path: fmt.Sprintf("$.%s[?(@.%s == '%v')].%s", name, kind, v, to)}
					for _, x := range list(props[name]["example"]) {
						if table(x)[kind] == v {
							l.example = str(table(x)[to])
						}
					}
					out = append(out, l)
				}
			}
			return out
		}
	}
	return nil
}

// offerShape writes the fields of an offer to merge.
func (w *writer) offerShape() {
	order := []string{"number", "owner", "name", "title", "text", "creator", "created", "state", "branch", "from_owner", "from_name", "target", "head", "ref", "removing", "merged", "ended_by", "page"}
	got := w.assign(order, w.shapeProperties(w.isOffer))
	var out []pair
	for _, field := range order {
		if at, ok := got[field]; ok {
			out = append(out, pair{field, w.reading("$"+at.path, at.schema)})
		}
	}
	if o := w.taken["offer-show"]; o != nil && slices.Contains(o.headers, "ETag") {
		out = append(out, pair{"version", `"header ETag"`})
	}
	w.say("[shape.offer]")
	w.columns(out)
}

// action writes one action with its requests.
func (w *writer) action(f Found) {
	w.say("# confidence %d of 100: %s", f.Confidence, visible(f.Operation))
	if f.RunnerUp != "" {
		w.say("# next best: %s", visible(f.RunnerUp))
	}
	all := w.requests(f.Action, w.taken[f.Action])
	switch f.Action {
	case "identify":
		all = append(all, w.introspection()...)
	case "repository-create":
		all = append(all, w.branchAfter()...)
	}
	for _, r := range all {
		w.say("[[action.%s.request]]", f.Action)
		if len(r.unless) > 0 {
			w.say("unless  = %s", inline(r.unless))
		}
		if r.method != "" {
			w.say("method  = %q", r.method)
		}
		if r.repeat {
			w.say("repeat  = true")
		}
		w.say("url     = %q", r.url)
		for _, line := range []pair{{"query  ", inline(r.query)}, {"headers", inline(r.headers)}, {"", r.body}, {"choose ", r.choose}, {"keep   ", inline(r.keep)}, {"wait   ", r.wait}, {"items  ", quoted(r.items)}, {"keyed  ", quoted(r.keyed)}, {"inside ", quoted(r.inside)}, {"read   ", r.read}, {"page   ", r.page}} {
			switch {
			case line.value == "":
			case line.key == "":
				w.say("%s", line.value)
			default:
				w.say("%s = %s", line.key, line.value)
			}
		}
	}
	w.say("")
}

func quoted(s string) string {
	if s == "" {
		return ""
	}
	return quote(s)
}

// paging guesses how a list goes on; "" where nothing tells.
func (w *writer) paging(o *operation) string {
	at := func(names ...string) string {
		for _, name := range names {
			path, _ := w.doc.find(o.answer, func(s map[string]any) bool { _, ok := w.doc.properties(s)[name]; return ok })
			if path != "" && !strings.Contains(path, "[*]") {
				return path + "." + name
			}
		}
		return ""
	}
	size, numbered, cursor := int64(0), false, false
	for _, p := range o.params {
		size = max(size, p.most)
		low := strings.ToLower(p.name)
		numbered = numbered || low == "page" || low == "page_number"
		cursor = cursor || low == "after" || low == "cursor" || says(words(p.says), "cursor")
	}
	w.doc.find(o.body, func(s map[string]any) bool {
		_, page := w.doc.properties(s)["page"]
		numbered, size = numbered || page, max(size, number(s["maximum"]))
		return false
	})
	pages, first := "", ""
	w.doc.find(o.answer, func(x map[string]any) bool {
		for name, p := range w.doc.properties(x) {
			if kindOf(p) == "count" && says(words(str(p["description"])), "how many page,number of page,page there are,total page") {
				pages = at(name)
			}
		}
		return false
	})
	for _, p := range o.params {
		if low := strings.ToLower(p.name); low == "page" || low == "page_number" {
			if m := perPage.FindStringSubmatch(p.says); m != nil && size == 0 {
				size, _ = strconv.ParseInt(m[1], 10, 64)
			}
			if least, told := p.schema["minimum"]; told && number(least) == 0 || strings.Contains(p.says, "from 0") {
				first = ", first = 0"
			}
		}
	}
	next, total := at("next", "next_cursor", "cursor", "end"), at("total", "total_count", "count")
	switch {
	case slices.Contains(o.headers, "Link"):
		return `{ by = "link" }`
	case next != "" && cursor:
		return "{ by = \"cursor\", at = " + quote(next) + " }"
	case pages != "" && numbered && size > 0:
		return fmt.Sprintf("{ by = \"number\", pages = %q, size = %d%s }", pages, size, first)
	case total != "" && size > 0 && numbered:
		return fmt.Sprintf("{ by = \"number\", total = %q, size = %d%s }", total, size, first)
	case next != "" && total != "":
		return "{ by = \"next\", at = " + quote(next) + ", total = " + quote(total) + " }"
	case next != "":
		return "{ by = \"next\", at = " + quote(next) + " }"
	}
	return ""
}

var perPage = regexp.MustCompile(`(\d{1,4}) (?:on|to|per|in) (?:a|each|every|the)? ?page`)

var (
	sample = regexp.MustCompile(`\b(\d{2})\.(\d{2})\.(\d{4}) \d{2}:\d{2}(:\d{2})?|\b(\d{4})-\d{2}-\d{2} \d{2}:\d{2}(:\d{2})?`)
	offset = regexp.MustCompile(`[+-]\d{2}:\d{2}\b`)
)

// layoutOf reads how times are written from an example in a description; "" where there is none.
func layoutOf(says string) (layout, zone string) {
	m := sample.FindStringSubmatch(says)
	switch {
	case m == nil:
		return "", ""
	case m[3] != "":
		layout = "%d.%m.%Y %H:%M" + text.Either(m[4] != "", ":%S", "")
	default:
		layout = "%Y-%m-%d %H:%M" + text.Either(m[6] != "", ":%S", "")
	}
	return layout, offset.FindString(says)
}
