package draft

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Found is the operation that was taken for an action.
type Found struct {
	Action     string `json:"action"`
	Operation  string `json:"operation"`
	Confidence int    `json:"confidence" says:"of 100"`
	RunnerUp   string `json:"runner_up,omitempty"`
}

// Draft is a first description.
type Draft struct {
	Text    string
	Found   []Found
	Missing []string // what is not in the document, or was not understood
}

// want is what an action's operation should be like.
type want struct {
	action  string
	methods []string // the best first
	verbs   []string
	nouns   []string
	repo    bool // it answers with a repository
	many    bool // it answers with a list
}

var wanted = []want{
	{"identify", []string{"GET"}, []string{"whoami", "showme", "who ", "whose"}, []string{"/me", "whoami", "/user", "who"}, false, false},
	{"repository-list", []string{"GET"}, []string{"list", "search", "all"}, []string{"repo", "project"}, true, true},
	{"repository-show", []string{"GET"}, []string{"show", "get", "read"}, []string{"repo", "project"}, true, false},
	{"repository-create", []string{"POST", "PUT"}, []string{"create", "new", "add", "make"}, []string{"repo", "project"}, true, false},
	{"repository-change", []string{"PATCH", "PUT"}, []string{"change", "update", "edit", "set", "write back"}, []string{"repo", "project"}, true, false},
	{"repository-transfer", []string{"POST"}, []string{"transfer", "move"}, []string{"repo", "project", "owner"}, true, false},
	{"repository-delete", []string{"DELETE"}, []string{"delete", "remove", "drop"}, []string{"repo", "project"}, false, false},
	{"owner-list", []string{"GET"}, []string{"list", "may"}, []string{"owner", "groups", "organi", "collections"}, false, true},
	{"key-list", []string{"GET"}, []string{"list"}, []string{"ssh key", "keys"}, false, true},
	{"key-add", []string{"POST"}, []string{"add", "new", "create"}, []string{"ssh key", "keys"}, false, false},
	{"key-remove", []string{"DELETE"}, []string{"remove", "delete", "drop"}, []string{"ssh key", "keys"}, false, false},
	{"signing-key-list", []string{"GET"}, []string{"list"}, []string{"signing"}, false, true},
	{"signing-key-add", []string{"POST"}, []string{"add", "new", "create"}, []string{"signing"}, false, false},
	{"signing-key-remove", []string{"DELETE"}, []string{"remove", "delete", "drop"}, []string{"signing"}, false, false},
	{"deploy-key-list", []string{"GET"}, []string{"list"}, []string{"deploy key", "deploy"}, false, true},
	{"deploy-key-add", []string{"POST"}, []string{"add", "new", "create"}, []string{"deploy key", "deploy"}, false, false},
	{"deploy-key-remove", []string{"DELETE"}, []string{"remove", "delete", "drop"}, []string{"deploy key", "deploy"}, false, false},
	{"host-key-list", []string{"GET"}, []string{"list"}, []string{"host's own", "host key"}, false, true},
	{"token-renew", []string{"POST"}, []string{"renew", "rotate", "new token"}, []string{"token"}, false, false},
	{"token-revoke", []string{"DELETE", "POST"}, []string{"revoke", "revoked"}, []string{"token"}, false, false},
	{"token-list", []string{"GET"}, []string{"list"}, []string{"your tokens", "tokens"}, false, true},
	{"token-end", []string{"DELETE"}, []string{"end ", "delete", "remove"}, []string{"your tokens", "tokens"}, false, false},
	{"people-list", []string{"GET"}, []string{"list"}, []string{"people", "members", "collaborators"}, false, true},
	{"people-grant", []string{"PUT", "POST"}, []string{"give", "grant", "add"}, []string{"people", "members", "collaborators", "access"}, false, false},
	{"people-withdraw", []string{"DELETE"}, []string{"withdraw", "remove"}, []string{"people", "members", "collaborators", "access"}, false, false},
	{"people-search", []string{"GET"}, []string{"search", "find", "look"}, []string{"people", "persons", "users"}, false, true},
	{"invitation-list", []string{"GET"}, []string{"list", "to you"}, []string{"invitations to you", "my invitations", "invitation"}, false, true},
	{"invitation-sent", []string{"GET"}, []string{"list", "wait"}, []string{"invitations to a", "invitation"}, false, true},
	{"invitation-send", []string{"POST"}, []string{"invite", "send"}, []string{"invite", "invitation"}, false, false},
	{"invitation-withdraw", []string{"DELETE"}, []string{"take", "remove", "withdraw"}, []string{"invitation"}, false, false},
	{"protection-list", []string{"GET"}, []string{"list"}, []string{"protected", "protection"}, false, true},
	{"branch-protect", []string{"PUT", "POST"}, []string{"protect"}, []string{"protect"}, false, false},
	{"branch-unprotect", []string{"DELETE"}, []string{"end", "remove", "unprotect"}, []string{"protection", "protect"}, false, false},
	{"repository-archive", []string{"POST", "PUT"}, []string{"archive"}, []string{"archive"}, true, false},
	{"repository-copy", []string{"POST"}, []string{"copy"}, []string{"copy"}, true, false},
	{"repository-import", []string{"POST"}, []string{"import"}, []string{"import"}, true, false},
	{"head-list", []string{"GET"}, []string{"all"}, []string{"heads", "branches"}, false, true},
	{"storage-used", []string{"GET"}, []string{"how much", "used"}, []string{"storage", "quota"}, false, false},
}

// least is the confidence below which an operation is not taken.
const least = 65

// synonyms are names that APIs have for what our variables and fields mean.
var synonyms = map[string][]string{
	"id": {"id", "oid", "no", "uuid", "number"}, "owner": {"owner", "collection", "namespace"}, "name": {"name", "label", "title", "slug", "repo"},
	"path": {"path", "full_name", "full_path"}, "description": {"description", "about", "blurb", "words", "summary"},
	"visibility": {"visibility", "reach", "private", "closed", "public", "open"}, "default_branch": {"default_branch", "main", "trunk", "head", "branch"},
	"created": {"created", "created_at", "made", "born", "added", "since", "sent"}, "creator": {"creator", "made_by", "maker", "by"}, "empty": {"empty"}, "page": {"page", "html_url", "web_url"},
	"right": {"right", "you_may", "level", "role", "permission", "may"}, "title": {"title", "label", "name"}, "key": {"key", "line", "public", "text"},
	"new_name": {"rename", "new_name", "name", "label"}, "new_owner": {"new_owner", "into", "owner", "target"}, "person": {"person", "user", "member", "username", "who", "login"},
	"user": {"login", "username", "user", "name"}, "full_name": {"full_name", "called", "display_name", "name"}, "email": {"email", "mail"}, "email_confirmed": {"mail_confirmed", "email_confirmed", "email_verified"},
	"find": {"find", "q", "search", "like", "query"}, "bytes": {"used", "bytes"}, "used": {"used", "last_used", "last_used_at"}, "token": {"token"}, "secret": {"token", "secret"}, "branch": {"branch"}, "tag": {"tag"}, "head": {"at", "head", "commit"}, "expires": {"expires", "ends", "expires_at", "exp"},
}

// FromOpenAPI writes a draft from a document that was read from JSON or YAML.
func FromOpenAPI(root map[string]any) (Draft, string) {
	if !strings.HasPrefix(str(root["openapi"]), "3.") || table(root["paths"]) == nil {
		return Draft{}, "it is not an OpenAPI 3 document: it has no \"openapi: 3...\" or no \"paths\""
	}
	d := &writer{doc: &document{root}, taken: map[string]*operation{}}
	d.write()
	return Draft{d.out.String(), d.found, d.missing}, ""
}

type writer struct {
	doc     *document
	out     strings.Builder
	ops     []*operation
	repo    []string // the property names of what is a repository, sorted
	taken   map[string]*operation
	found   []Found
	missing []string
	epoch   bool
}

func (w *writer) say(format string, args ...any) { fmt.Fprintf(&w.out, format+"\n", args...) }

func quote(s string) string { return fmt.Sprintf("%q", s) }

// likeness says how much a schema looks like a repository.
func (w *writer) likeness(schema map[string]any) int {
	props := w.doc.properties(schema)
	score := 0
	for _, field := range []string{"name", "path", "description", "visibility", "default_branch", "owner", "creator"} {
		if pick(props, field) != "" {
			score++
		}
	}
	return score
}

// pick finds the property that a field of ours probably is.
func pick[T any](props map[string]T, field string) string {
	for _, name := range synonyms[field] {
		if _, ok := props[name]; ok {
			return name
		}
	}
	return ""
}

func (w *writer) names(schema map[string]any) []string {
	return slices.Sorted(maps.Keys(w.doc.properties(schema)))
}

// isRepo reports whether a schema is the repository's.
func (w *writer) isRepo(schema map[string]any) bool {
	return len(w.repo) > 0 && slices.Equal(w.names(schema), w.repo)
}

func (w *writer) findRepository() {
	best := 3 // fewer likenesses are none
	for _, o := range w.ops {
		if o.answer == nil {
			continue
		}
		w.doc.find(o.answer, func(s map[string]any) bool {
			if n := w.likeness(s); n > best && len(w.names(s)) > 3 {
				best, w.repo = n, w.names(s)
			}
			return false
		})
	}
}

// score says how well an operation fits an action, of 100.
func (w *writer) score(o *operation, x want) int {
	method := slices.Index(x.methods, o.method)
	words := o.words()
	has := func(all []string) bool {
		return slices.ContainsFunc(all, func(s string) bool { return strings.Contains(words, s) })
	}
	score := 0
	switch {
	case o.named[1] != "":
		score += 20 // its method says nothing
	case method == 0:
		score += 30
	case method > 0:
		score += 20
	default:
		return 0
	}
	if has(x.verbs) {
		score += 25
	}
	if has(x.nouns) {
		score += 25
	}
	path, _ := w.doc.find(o.answer, w.isRepo)
	answers := path != ""
	if x.repo {
		many := answers && strings.Contains(path, "[*]")
		switch {
		case answers && many == x.many:
			score += 30
		case o.status == "202":
			score += 15 // accepted; the repository comes later
		default:
			score -= 40
		}
	} else if answers {
		score -= 40
	}
	for _, other := range []string{"people", "keys", "move", "ask", "introspect", "jobs", "group", "signing", "deploy", "host's own"} {
		if strings.Contains(words, other) && !x.concerns(other) {
			score -= 25
		}
	}
	if x.action == "repository-create" && o.method == "POST" && slices.ContainsFunc(w.ops, func(l *operation) bool {
		at, _ := w.doc.find(l.answer, w.isRepo)
		return l.method == "GET" && l.path == o.path && strings.Contains(at, "[*]")
	}) {
		score += 25 // it is sent to where the list is
	}
	if last := o.path[strings.LastIndexByte(o.path, '/')+1:]; o.named[1] == "" && strings.HasPrefix(last, "{") == (x.many || x.action == "identify" || strings.HasSuffix(x.action, "key-add")) {
		score -= 15
	}
	if x.action == "head-list" && strings.Contains(o.path, "{") {
		score -= 40 // of one repository alone
	}
	if x.many && !x.repo {
		if p, _ := w.doc.find(o.answer, isList); p != "" && !strings.Contains(p, "[*]") {
			score += 20
		}
	} else if !x.repo {
		score += 20
	}
	return max(min(score, 100), 0)
}

func isList(schema map[string]any) bool { return schema["items"] != nil }

// concerns reports whether a word belongs to what an action is about.
func (x want) concerns(word string) bool {
	return slices.ContainsFunc(append(slices.Clone(x.nouns), x.verbs...), func(s string) bool { return strings.Contains(s, strings.TrimSuffix(word, "s")) })
}

// match gives each operation to the action that it fits best, the best fits first.
func (w *writer) match() {
	type fit struct {
		want  int
		op    *operation
		score int
	}
	var fits []fit
	for i, x := range wanted {
		for _, o := range w.ops {
			if n := w.score(o, x); n > 0 {
				fits = append(fits, fit{i, o, n})
			}
		}
	}
	slices.SortStableFunc(fits, func(a, b fit) int { return b.score - a.score })
	used := map[*operation]bool{}
	found := map[string]Found{}
	for _, f := range fits {
		action := wanted[f.want].action
		if f.score < least || used[f.op] || w.taken[action] != nil {
			continue
		}
		used[f.op], w.taken[action] = true, f.op
		x := Found{Action: action, Operation: f.op.title(), Confidence: f.score}
		for _, other := range fits {
			if other.want == f.want && other.op != f.op && other.score > least/2 {
				x.RunnerUp = fmt.Sprintf("%s (%d)", other.op.title(), other.score)
				break
			}
		}
		found[action] = x
	}
	for _, x := range wanted {
		if f, ok := found[x.action]; ok {
			w.found = append(w.found, f)
		} else {
			w.missing = append(w.missing, x.action)
		}
	}
}

var described = regexp.MustCompile(`(\d+)[ =:]+(private|members|internal|public)`)

// visibility guesses the host's values for ours, from an enum, a boolean's name, or
// what its description says.
func (w *writer) visibility() []string {
	for _, o := range w.ops {
		for _, schema := range []map[string]any{o.body, o.answer} {
			var lines []string
			w.doc.find(schema, func(s map[string]any) bool {
				props := w.doc.properties(s)
				name := pick(props, "visibility")
				if name == "" || lines != nil {
					return false
				}
				p := props[name]
				switch {
				case str(p["type"]) == "boolean":
					closed := name == "private" || name == "closed"
					lines = []string{fmt.Sprintf("private = %v", closed), fmt.Sprintf("public  = %v", !closed)}
				case str(p["type"]) == "integer":
					for _, m := range described.FindAllStringSubmatch(str(p["description"]), -1) {
						lines = append(lines, fmt.Sprintf("%-7s = %s", strings.Replace(m[2], "internal", "members", 1), m[1]))
					}
				default:
					for _, v := range list(p["enum"]) {
						ours := map[string]string{"private": "private", "closed": "private", "team": "members", "internal": "members", "members": "members", "public": "public", "open": "public"}[str(v)]
						if ours != "" {
							lines = append(lines, fmt.Sprintf("%-7s = %q", ours, str(v)))
						}
					}
				}
				return len(lines) > 0
			})
			if len(lines) > 0 {
				return lines
			}
		}
	}
	return nil
}
