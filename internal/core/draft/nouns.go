package draft

import (
	"slices"
	"strings"

	"uncinate/internal/core/text"
)

// concepts are what a host may have nouns of its own for.
var concepts = map[string]string{
	"repository": "repository", "repo": "repository", "project": "repository", "owner": "owner", "group": "owner", "organisation": "owner", "organization": "owner", "namespace": "owner", "team": "owner", "workspace": "owner",
	"person": "person", "people": "person", "user": "person", "member": "person", "collaborator": "person", "token": "token", "branch": "branch", "hook": "hook", "webhook": "hook", "invitation": "invitation", "offer": "offer",
}

var explained = text.Pattern(`([A-Za-z][\w-]*)\s*\(([^()]{2,40})\)`)

var defined = text.Pattern(`(?i)\b(?:an?|the|each)?\s*\b([a-z][\w-]*) (?:is|are) (?:an? )?(?:git )?([a-z]+)\b`)

// learnExplained learns the host's own nouns from where the document explains one, as in "the hulls (repositories)" or "a hold is a
// git repository".
func (w *writer) learnExplained() {
	w.alias = map[string]string{}
	for _, m := range defined().FindAllStringSubmatch(str(table(w.doc.root["info"])["description"]), 40) {
		own, is := strings.TrimSpace(words(m[1])), strings.TrimSpace(words(m[2]))
		if concepts[own] == "" && concepts[is] != "" && len(own) > 2 {
			w.alias[own] = concepts[is]
		}
	}
	for _, o := range w.ops {
		for _, m := range explained().FindAllStringSubmatch(o.summary, -1) {
			inside := strings.Fields(words(m[2]))
			before := strings.TrimSpace(words(m[1]))
			switch {
			case concepts[before] == "" && len(inside) > 0 && len(inside) < 4 && concepts[inside[len(inside)-1]] != "" && !strings.Contains(before, " "):
				w.alias[before] = concepts[inside[len(inside)-1]]
			case concepts[before] != "" && len(inside) == 1 && concepts[inside[0]] == "" && inside[0] != strings.ToLower(m[2]):
				w.alias[inside[0]] = concepts[before] // in the plural
			}
		}
	}
}

// learnNouns learns further nouns, from the names of schemas that are known.
func (w *writer) learnNouns() {
	schemas := table(table(w.doc.root["components"])["schemas"])
	for _, name := range sortedKeys(schemas) {
		s := w.doc.resolve(schemas[name])
		if parts := strings.Fields(words(name)); len(parts) == 1 && concepts[parts[0]] == "" {
			switch {
			case w.isRepo(s):
				w.alias[parts[0]] = "repository"
			case w.isOffer(s):
				w.alias[parts[0]] = "offer"
			}
		}
	}
}

// means gives the concept that a name of the host's stands for; "" for none. Of several words the last one counts.
func (w *writer) means(name string) string {
	parts := strings.Fields(words(name))
	if len(parts) == 0 {
		return ""
	}
	last := parts[len(parts)-1]
	if len(parts) > 1 && slices.Contains([]string{"name", "key", "slug"}, last) {
		last = parts[len(parts)-2] // repoName
	}
	if c := w.alias[last]; c != "" {
		return c
	}
	return concepts[last]
}

// fixed are the segments of a path that are no parameters.
func fixed(path string) []string {
	var out []string
	for s := range strings.SplitSeq(path, "/") {
		if s != "" && !strings.HasPrefix(s, "{") {
			out = append(out, s)
		}
	}
	return out
}

// tell gathers what is said of an operation, with the concepts behind the host's own nouns, and whether it is of a repository.
func (w *writer) tell(o *operation) {
	own := words(o.id + " " + strings.Join(fixed(o.path), " ") + " " + o.named[1])
	o.text = words(o.summary) + own
	for _, word := range strings.Fields(own + words(o.summary)) {
		if c := w.alias[word]; c != "" && !strings.Contains(o.text, " "+c+" ") {
			o.text += c + " "
		}
	}
	if o.named[1] != "" {
		return // all is in its body
	}
	segments := strings.Split(strings.Trim(o.path, "/"), "/")
	var params []int
	owner, name, path := false, false, false
	for i, s := range segments {
		if !strings.HasPrefix(s, "{") {
			continue
		}
		params = append(params, i)
		switch w.naming(strings.Trim(s, "{}")) {
		case "owner":
			owner = true
		case "name":
			name = true
		case "path":
			path = true
		}
	}
	o.of, o.item = -1, -1
	named := 0 // how many of the parameters name the repository
	switch {
	case owner && name:
		named = 2
	case len(params) > 0 && params[0] > 0 && w.means(segments[params[0]-1]) == "repository", name, path:
		named = 1
	case len(params) > 0 && w.items[strings.Join(segments[:params[0]+1], "/")]:
		named = 1
	}
	if asked := w.asked(o); asked["owner"] && asked["name"] && o.method == "GET" && w.gives(o) == 'r' {
		o.of = 1
	}
	if named > 0 {
		o.of = 1
	}
	if owner && named == 0 {
		named = 1 // of an owner's
	}
	if len(params) > named {
		o.item = 1
	}
	w.implied(o)
}

// asked are the variables of ours in an operation's query.
func (w *writer) asked(o *operation) map[string]bool {
	out := map[string]bool{}
	for _, p := range o.params {
		if p.in == "query" {
			out[w.variable(p.name)] = true
		}
	}
	return out
}

// implied adds to what is said of an operation what its method and its answer say.
func (w *writer) implied(o *operation) {
	o.text += map[string]string{"DELETE": "delete remove ", "PATCH": "change ", "PUT": "set "}[o.method]
	if at, _, _ := strings.Cut(o.path+"/{", "/{"+lastParam(o.path)); w.folk[o.path] || w.folk[at] && o.item == 1 {
		o.text += "person access "
	}
}

// lastParam gives the name of the parameter that ends a path, and what closes it; "" for none.
func lastParam(path string) string {
	i := strings.LastIndex(path, "/{")
	if i < 0 || !strings.HasSuffix(path, "}") {
		return ""
	}
	return path[i+2:]
}

// learnPlaces learns which paths are one repository's, and where lists of people with rights are.
func (w *writer) learnPlaces() {
	w.items, w.folk = map[string]bool{}, map[string]bool{}
	for _, o := range w.ops {
		path := strings.Trim(o.path, "/")
		if strings.Count(path, "{") == 1 && strings.HasSuffix(path, "}") && w.gives(o) == 'r' && (w.isRepo(o.answer) || len(w.names(o.answer)) == 1) {
			w.items[path] = true
		}
		if _, many := w.doc.find(o.answer, isMany); many != nil && o.method == "GET" && strings.Contains(path, "{") {
			from, least := w.doc.resolve(many["items"]), 2
			if isMap(many) {
				from, least = w.doc.resolve(many["additionalProperties"]), 1
			}
			got := w.assign([]string{"user", "right"}, w.doc.properties(from))
			if at, ok := got["right"]; ok && len(got) >= least && len(w.meaningsOf("right", at.schema, "")) > 1 {
				w.folk[o.path] = true
			}
		}
	}
}

// gives says what an operation answers with, as in want. It is asked once the shapes are known.
func (w *writer) gives(o *operation) byte {
	if got, known := w.given[o]; known {
		return got
	}
	got := w.giving(o)
	w.given[o] = got
	return got
}

func (w *writer) giving(o *operation) byte {
	for _, kind := range []struct {
		is        func(map[string]any) bool
		one, many byte
	}{{w.isRepo, 'r', 'R'}, {w.isOffer, 'o', 'O'}} {
		if path, _ := w.doc.find(o.answer, kind.is); path != "" {
			if strings.Contains(path, "*") {
				return kind.many
			}
			return kind.one
		}
	}
	switch path, _ := w.doc.find(o.answer, isMany); {
	case path != "" && (o.method == "GET" || o.named[1] != ""):
		return 'L'
	case o.answer != nil:
		return 'x'
	}
	return 0
}

// learnFromShape learns what the host calls owners and names of repositories.
func (w *writer) learnFromShape() {
	got := w.assign([]string{"owner", "name", "path"}, w.repoProperties())
	for _, field := range []string{"owner", "name"} {
		concept := text.Either(field == "owner", "owner", "repository")
		at, ok := got[field]
		noun := strings.TrimSpace(words(at.name))
		if ok && !strings.Contains(noun, " ") && concepts[noun] == "" && w.alias[noun] == "" && noun != "name" {
			w.alias[noun] = concept
		}
	}
}

// learnFromMatch learns more nouns from what operations were taken for: where people are, the collection and the last parameter are the
// host's noun for a person.
func (w *writer) learnFromMatch() {
	for _, action := range []string{"people-grant", "people-withdraw", "people-search", "owner-list"} {
		o, concept := w.taken[action], text.Either(action == "owner-list", "owner", "person")
		if o == nil || o.named[1] != "" {
			continue
		}
		segments := strings.Split(strings.Trim(o.path, "/"), "/")
		last := segments[len(segments)-1]
		if noun := strings.TrimSpace(words(last)); concepts[noun] == "" && w.alias[noun] == "" && !strings.Contains(noun, " ") && noun != "id" {
			if strings.HasPrefix(last, "{") == (action == "people-grant" || action == "people-withdraw") {
				w.alias[noun] = concept
			}
		}
	}
}
