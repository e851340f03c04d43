package draft

import (
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/description"
)

// pair is a key and its value, as TOML writes it.
type pair struct{ key, value string }

// request is one of a draft's action.
type request struct {
	method, url, choose, inside, items, keyed, read, page, wait string
	body                                                        string // json, form or multipart, with its table
	repeat                                                      bool
	query, headers, keep, unless                                []pair
}

// key writes a key of TOML, quoted if it must be.
func key(s string) string {
	if s != "" && strings.Trim(strings.ToLower(s), "abcdefghijklmnopqrstuvwxyz0123456789-_") == "" {
		return s
	}
	return quote(s)
}

func inline(all []pair) string {
	if len(all) == 0 {
		return ""
	}
	var parts []string
	for _, p := range all {
		parts = append(parts, key(p.key)+" = "+p.value)
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// roles says what each parameter of an operation's path is: owner, name, path, repo for a repository's id, or part.
func (w *writer) roles(o *operation) map[string]string {
	out := map[string]string{}
	segments := strings.Split(strings.Trim(o.path, "/"), "/")
	for i, s := range segments {
		name, is := strings.CutPrefix(s, "{")
		name = strings.TrimSuffix(name, "}")
		if !is {
			continue
		}
		switch as := w.naming(name); {
		case as != "":
			out[name] = as
		case o.of == 1 && len(out) == 0 && i > 0 && (w.means(segments[i-1]) == "repository" || o.item < 0):
			out[name] = "repo"
		default:
			out[name] = "part"
		}
	}
	return out
}

// naming says what of a repository's own name a parameter is: owner, name, path for both, or "" for none.
func (w *writer) naming(name string) string {
	low := strings.ToLower(name)
	switch {
	case low == "path" || low == "full_name" || low == "full_path":
		return "path"
	case w.means(name) == "owner":
		return "owner"
	case slices.Contains([]string{"name", "repo", "repository", "label", "title", "slug"}, low) || w.means(name) == "repository":
		return "name"
	}
	return ""
}

// partOf gives the variable for the id of a part, by the action.
func partOf(action string) string {
	switch {
	case strings.HasPrefix(action, "people-"):
		return "person"
	case action == "offer-check-list":
		return "head"
	case strings.HasPrefix(action, "offer-"):
		return "number"
	case strings.HasPrefix(action, "branch-"):
		return "branch"
	}
	return "id"
}

// requests are what an action takes: look-ups first, and then its own.
func (w *writer) requests(action string, o *operation) []request {
	r := request{repeat: description.Looks(action) && o.method != "GET"}
	if o.method != "GET" {
		r.method = o.method
	}
	var before []request
	path := o.path
	roles := w.roles(o)
	for _, name := range sortedKeys(roles) {
		as := roles[name]
		switch as {
		case "part":
			as = partOf(action)
		case "repo":
			as = w.noun("repository") + "_id"
			if b, ok := w.lookUp(name, as, o, "owner", "name"); ok {
				before = append(before, b)
			} else {
				as = "id" // as the shape has it
			}
		}
		path = strings.ReplaceAll(path, "{"+name+"}", "{"+as+"}")
	}
	r.url = beginning(o) + path
	r.query = w.query(action, o)
	for _, p := range o.params {
		if p.in == "header" && strings.EqualFold(p.name, "If-Match") {
			r.headers = append(r.headers, pair{"If-Match", `"{version}"`})
		}
	}
	if o.media != "" && o.body != nil {
		r.headers = append(r.headers, pair{"Content-Type", quote(o.media)})
	}
	before = w.demanded(o, &r, before)
	body, more := w.body(action, o)
	before = append(before, more...)
	r.body = body
	w.accepted(o, &r)
	w.answer(action, o, &r)
	if action == "identify" && strings.Contains(o.path, "{") {
		start, _ := w.byLink()
		before, r.url = append(before, start), "{+me}"
	}
	if action == "repository-change" && o.method == "PUT" && says(o.text, "whole,write back,all of") {
		before = append(before, w.kept(before, r.url, o))
	}
	return append(before, r)
}

// beginning gives the beginning of an operation's address.
func beginning(o *operation) string {
	if o.base != "" {
		return o.base
	}
	return "{+api}"
}

// demanded fills in the headers that an operation demands, by what another tells under that name: a one-time value, or the version of
// what is changed.
func (w *writer) demanded(o *operation, r *request, before []request) []request {
	for _, p := range o.params {
		if p.in != "header" || !p.required || strings.EqualFold(p.name, "If-Match") {
			continue
		}
		parts := strings.Fields(words(p.name))
		name := parts[len(parts)-1]
		by := []string{}
		if _, of := w.repoProperties()[name]; of {
			by = []string{"owner", "name"}
		}
		b, ok := w.lookUp(name, name, o, by...)
		if !ok {
			w.missing = append(w.missing, "what the header "+p.name+" takes ("+o.title()+")")
			continue
		}
		r.headers = append(r.headers, pair{p.name, quote("{" + name + "}")})
		if i := slices.IndexFunc(before, func(x request) bool { return x.url == b.url && inline(x.query) == inline(b.query) }); i >= 0 {
			before[i].keep = append(before[i].keep, b.keep...)
		} else {
			before = append(before, b)
		}
	}
	return before
}

// noun gives the host's own noun for a concept.
func (w *writer) noun(concept string) string {
	for _, own := range sortedKeys(w.alias) {
		if w.alias[own] == concept {
			for _, o := range w.ops { // the one that is in paths
				if slices.ContainsFunc(fixed(o.path), func(s string) bool { return strings.TrimSpace(words(s)) == own }) {
					return own
				}
			}
		}
	}
	return concept
}

// lookUp makes the request that finds a value by what is known: an operation that only reads, whose answer has a property of that name.
func (w *writer) lookUp(name, as string, not *operation, by ...string) (request, bool) {
	best, most := request{}, 0
	for _, o := range w.ops {
		if o == not || o.method != "GET" && o.named[1] == "" || len(by) == 0 && strings.Contains(o.path, "{") {
			continue
		}
		path, have, ok := w.reached(o, by)
		if !ok {
			continue
		}
		found, inner := w.doc.find(o.answer, func(s map[string]any) bool { _, ok := w.doc.properties(s)[name]; return ok })
		if found == "" {
			continue
		}
		r := request{url: beginning(o) + path, keep: []pair{{as, quote(found + member(name))}}}
		score := 1 + 2*len(have)
		if says(o.text, "look up,find the id,id of,ask for,confirm") {
			score += 4
		}
		for _, p := range o.params {
			v := w.variable(p.name)
			if p.in == "query" && (p.name == "page" || says(words(p.says), "page,cursor")) {
				score-- // one page of many
			}
			if p.in == "query" && slices.Contains(by, v) {
				r.query = append(r.query, pair{p.name, quote("{" + v + "}")})
				have[v] = true
			} else if p.in == "query" && v == "find" && slices.Contains(by, "name") {
				r.query = append(r.query, pair{p.name, `"{name}"`})
				have["find"] = true
			} else if p.required {
				score = 0
			}
		}
		if o.named[1] != "" {
			r.method, r.repeat = o.method, true
			if o == w.taken["repository-create"] || says(o.text, "create,new,change,delete,remove,move,give,withdraw,set") && !says(o.text, "ask for,who,list,show") {
				continue
			}
			var with []pair
			for _, in := range w.places(w.doc.properties(o.body)) {
				if v := w.variable(in.name[strings.LastIndexByte(in.name, '.')+1:]); slices.Contains(by, v) {
					with, have[v] = append(with, pair{in.name, quote("{" + v + "}")}), true
				}
			}
			if o.named[0] != "" {
				with = append([]pair{{o.named[0], quote(o.named[1])}}, with...)
			}
			r.body = bodyOf(o) + inline(nested(append(slices.Clone(o.texts), with...)))
		}
		if strings.Contains(found, "[*]") {
			list, _, _ := strings.Cut(found, "[*]")
			props := w.doc.properties(inner)
			p := pathIn(w, props)
			if p == "" || !have["find"] && !have["name"] && len(by) > 0 {
				continue
			}
			r.keep = []pair{{as, quote("$" + member(name))}}
			r.query = append([]pair{}, r.query...)
			r.choose = "{ from = " + quote(list) + ", where = " + quote("$"+member(p)) + `, is = "{path}" }`
		} else if len(have) == 0 && len(by) > 0 && o != w.taken["identify"] {
			continue
		}
		if score += len(have); score > most {
			best, most = r, score
		}
	}
	return best, most > 0
}

// reached fills what is known into the parameters of an operation's path; not ok where one is not known.
func (w *writer) reached(o *operation, by []string) (path string, have map[string]bool, ok bool) {
	path, have = o.path, map[string]bool{}
	roles := w.roles(o)
	for _, name := range sortedKeys(roles) {
		as := roles[name]
		if as == "part" || as == "repo" || !slices.Contains(by, strings.Replace(as, "path", "name", 1)) {
			return "", nil, false
		}
		path, have[as] = strings.ReplaceAll(path, "{"+name+"}", "{"+as+"}"), true
	}
	return path, have, true
}

// byLink finds who a token's owner is by a link: an operation that takes nothing and tells it, and the one that it leads to.
func (w *writer) byLink() (start request, person *operation) {
	for _, o := range w.ops {
		if o.method != "GET" || strings.Contains(o.path, "{") {
			continue
		}
		for _, at := range w.places(w.doc.properties(o.answer)) {
			last := at.name[strings.LastIndexByte(at.name, '.')+1:]
			if kindOf(at.schema) != "text" || !slices.Contains([]string{"me", "user", "account", "whoami"}, last) || str(at.schema["format"]) != "uri" {
				continue
			}
			for _, p := range w.ops {
				if got := w.assign([]string{"user", "email"}, w.doc.properties(p.answer)); p.method == "GET" && len(got) == 2 {
					return request{url: beginning(o) + o.path, keep: []pair{{"me", quote("$" + at.path)}}}, p
				}
			}
		}
	}
	return request{}, nil
}

// pathIn gives the property that is a repository's owner and name in one.
func pathIn(w *writer, props map[string]map[string]any) string {
	if at, ok := w.assign([]string{"path"}, props)["path"]; ok {
		return at.name
	}
	return ""
}

// variable gives the variable of ours by which a parameter names a repository; "" for none.
func (w *writer) variable(name string) string {
	switch as := w.naming(name); {
	case as == "owner" || as == "name":
		return as
	case slices.Contains(strings.Split(fields["find"].names, ","), strings.ToLower(name)):
		return "find"
	}
	return ""
}

// nested writes names with dots as tables within.
func nested(all []pair) []pair {
	var out []pair
	inner := map[string][]pair{}
	for _, p := range all {
		top, rest, deep := strings.Cut(p.key, ".")
		if !deep {
			out = append(out, p)
			continue
		}
		if inner[top] == nil {
			out = append(out, pair{top, ""})
		}
		inner[top] = append(inner[top], pair{rest, p.value})
	}
	for i, p := range out {
		if p.value == "" {
			out[i].value = inline(inner[p.key])
		}
	}
	return out
}

// query gives what goes into an operation's query.
func (w *writer) query(action string, o *operation) []pair {
	var out []pair
	for _, p := range o.params {
		if p.in != "query" {
			continue
		}
		low := plainly(p.name)
		prefix := refPrefix(p.says)
		switch {
		case slices.Contains(strings.Split(fields["find"].names, ","), low):
			out = append(out, pair{p.name, `"{find}"`})
		case action == "people-search" && p.most <= 1: // the first page is enough
		case isCursor(p):
			out = append(out, pair{p.name, `"{cursor}"`})
		case low == "page" || low == "page_number":
			out = append(out, pair{p.name, `"{page}"`})
		case low == "offset" || low == "skip" || low == "start":
			out = append(out, pair{p.name, `"{offset}"`})
		case strings.HasPrefix(action, "offer-") && w.fits("state", place{p.name, "", w.described(p)}) >= sure:
			out = append(out, pair{p.name, `"{state}"`})
		case strings.HasPrefix(action, "branch-") && w.fits("branch", place{p.name, "", w.described(p)}) >= sure:
			out = append(out, pair{p.name, quote(prefix + "{branch}")})
		case p.most > 1 && description.Looks(action):
			out = append(out, pair{p.name, quote(fmt.Sprint(p.most))})
		case w.variable(p.name) == "owner" || w.variable(p.name) == "name":
			out = append(out, pair{p.name, quote("{" + w.variable(p.name) + "}")})
		}
	}
	return out
}

// isCursor reports whether a parameter takes the cursor that the page before told.
func isCursor(p param) bool {
	return p.in == "query" && (slices.Contains([]string{"after", "cursor", "page_token", "starting_after", "continuation", "continuation_token", "next_token", "marker"}, plainly(p.name)) || says(words(p.says), "cursor"))
}

// refPrefix is what a text says that stands before a branch's name.
func refPrefix(said string) string {
	if strings.Contains(said, "refs/heads/") {
		return "refs/heads/"
	}
	return ""
}

// accepted has the request wait for work that is accepted first and done later.
func (w *writer) accepted(o *operation, r *request) {
	if o.status != "202" || !slices.Contains(o.headers, "Location") {
		return
	}
	r.keep = append(r.keep, pair{"job", `"header Location"`})
	for _, job := range w.ops {
		if job.method != "GET" || job.item < 0 && !says(job.text, "accepted work,job,how far") {
			continue
		}
		for _, at := range w.places(w.doc.properties(job.answer)) {
			got := w.meaningsOf("job", at.schema, job.summary)
			if got["done"] == nil || got["failed"] == nil {
				continue
			}
			wait := []pair{{"ask", `"{+job}"`}, {"at", quote("$" + at.path)}, {"done", "[" + given(got["done"]) + "]"}, {"failed", "[" + given(got["failed"]) + "]"}}
			for _, why := range w.places(w.doc.properties(job.answer)) {
				if why.path != at.path && (slices.Contains([]string{"why", "reason", "error", "message"}, why.name) || says(words(str(why.schema["description"])), "why")) {
					wait = append(wait, pair{"why", quote("$" + why.path)})
					break
				}
			}
			r.wait = inline(wait)
			if inside, _ := w.doc.find(job.answer, w.isRepo); inside != "" {
				r.read = `"repository"`
				if inside != "$" {
					r.inside = inside
				}
			}
			return
		}
	}
	w.missing = append(w.missing, "how long accepted work is waited for ("+o.title()+")")
}
