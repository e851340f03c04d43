package draft

import (
	"fmt"
	"net/url"
	"slices"
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
	w.refusals()
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
		line += " " + text.Visible(m)
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
	} else if err == nil { // its path alone
		api = strings.TrimSuffix("/"+strings.TrimPrefix(u.Path, "/"), "/")
	}
	documented := base
	if w.seen.Base != "" {
		base = w.seen.Base
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
	w.say("language = 1\nname     = %s\ntitle    = %s\nbase     = %s\n", quote(name), quote(str(info["title"])), quote(base))
	if others := w.origins(base); len(others) > 0 {
		w.say("# Other origins to which the token goes. Are they the same host's?\n[trust]\naddresses = [%s]\n", strings.Join(others, ", "))
	}
	w.say("[address]\napi   = %s", quote("{+base}"+api))
	told := map[string]string{}
	for _, field := range []string{"page", "https", "ssh"} {
		if seen := w.seen.Addresses[field]; seen != "" {
			told[field] = fill(seen, base, w.seen.Owner, w.seen.Name)
			continue
		}
		told[field] = w.template(field, documented)
	}
	if told["page"] == "" || told["https"] == "" {
		w.say("# The document has no example of these: look them up on a repository's page.")
	}
	w.say("page  = %s\nhttps = %s", quote(text.Either(told["page"] == "", "{+base}/{owner}/{name}", told["page"])), quote(text.Either(told["https"] == "", "{+base}/{owner}/{name}.git", told["https"])))
	if told["ssh"] != "" {
		w.say("ssh   = %s", quote(told["ssh"]))
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

func (w *writer) signIn() {
	schemes := table(table(w.doc.root["components"])["securitySchemes"])
	user := "{user}"
	if m := gitUser().FindStringSubmatch(str(table(w.doc.root["info"])["description"])); m != nil {
		user = m[1]
	}
	for _, name := range sortedKeys(schemes) {
		s := schemes[name]
		if m := gitUser().FindStringSubmatch(str(w.doc.resolve(s)["description"])); m != nil {
			user = m[1]
		}
	}
	git := "git    = { user = " + quote(user) + `, secret = "{token}" }`
	for _, name := range sortedKeys(schemes) {
		s := w.doc.resolve(schemes[name])
		kind, scheme := str(s["type"]), strings.ToLower(str(s["scheme"]))
		switch {
		case kind == "apiKey" && str(s["in"]) == "header":
			word := ""
			if m := wordBefore().FindStringSubmatch(str(s["description"])); m != nil {
				word = m[1] + m[2] + " "
			}
			w.say("[signin]\nheader = { %s = %s }\n%s\n", key(str(s["name"])), quote(word+"{token}"), git)
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

// wordBefore is how a document says which word stands before the token.
var wordBefore = text.Pattern("(?i)(?:the word [`'\"]?([A-Za-z][\\w-]*)|^[`'\"]?([A-Za-z][\\w-]*)[`'\"]?,? (?:followed by|then|and) (?:a|the|your|one) )")

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
		w.say("[signin]\nheader = { Cookie = %s }\ngit    = { user = \"{user}\", secret = \"{kept_token}\" }\n", quote(name+"={token}"))
		w.say("[signin.exchange]\nurl  = %s\n%s = { %s = \"{kept_token}\" }\nread = { secret = %s }\n", quote(beginning(o)+o.path), o.kind, key(got), quote("cookie "+name))
		return
	}
	w.say("[signin]\nheader = { Cookie = %s }\n", quote(name+"={token}"))
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
		case ok && field == "visibility" && w.two[1] != "":
			out = append(out, pair{field, `"$"`})
		case ok && !slices.Contains(w.seen.Absent["repository"], field):
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
					l := link{field: field, path: fmt.Sprintf("$%s[?(@%s == '%v')]%s", member(name), member(kind), v, member(to))}
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
	if asked := w.seen.Asked[f.Action]; asked != "" {
		w.say("# %s%s", text.Either(strings.HasPrefix(asked, "not asked"), "", "asked: "), text.Visible(asked))
	}
	w.say("# confidence %d of 100: %s", f.Confidence, text.Visible(f.Operation))
	if f.RunnerUp != "" {
		w.say("# next best: %s", text.Visible(f.RunnerUp))
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
		w.say("url     = %s", quote(r.url))
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

// refusals writes which answers of success are refusals, where the document lists their kinds.
func (w *writer) refusals() {
	for _, o := range w.ops {
		schema := o.declared
		if schema == nil {
			schema = o.answer
		}
		var kinds map[string]any
		path, _ := w.doc.find(schema, func(s map[string]any) bool {
			got := w.meaningsOf("refusal", s, "")
			if len(got) > 1 {
				kinds = got
			}
			return len(got) > 1
		})
		if path == "" {
			continue
		}
		first := strings.ReplaceAll(path, "[*]", "[0]")
		for _, means := range sortedKeys(kinds) {
			w.say("[[refusal]]\nat    = %s\nis    = %s\nmeans = %s\n", quote(first), given(kinds[means]), quote(means))
		}
		top, _, _ := strings.Cut(path[2:], ".")
		top, _, _ = strings.Cut(top, "[")
		w.say("[[refusal]]\nat    = %s\nmeans = \"invalid\"\n", quote("$."+top))
		_, parent := w.doc.find(schema, func(s map[string]any) bool {
			_, is := w.doc.properties(s)[path[strings.LastIndexByte(path, '.')+1:]]
			return is
		})
		for _, name := range sortedKeys(w.doc.properties(parent)) {
			p := w.doc.properties(parent)[name]
			if kindOf(p) == "text" && slices.Contains([]string{"says", "message", "detail", "line", "text"}, name) {
				w.say("[refusals]\nmessage = [%s]\n", quote(first[:strings.LastIndexByte(first, '.')+1]+name))
			}
		}
		return
	}
}

func quoted(s string) string {
	if s == "" {
		return ""
	}
	return quote(s)
}
