package draft

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"uncinate/internal/core/text"
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

// Seen is what the live host told, by which a draft is mended.
type Seen struct {
	Base      string              // its origin, as it was asked
	Addresses map[string]string   // a repository's "page", "https" and "ssh" of one that was seen
	Owner     string              // of that repository
	Name      string              // of that repository
	Absent    map[string][]string // by action, or "repository", the fields that no answer had
	Asked     map[string]string   // by action, what came of it
}

// FromOpenAPI writes a draft from a document that was read from JSON or YAML. seen is what the live host told, nil for nothing.
func FromOpenAPI(root map[string]any, seen *Seen) (Draft, string) {
	if !strings.HasPrefix(str(root["openapi"]), "3.") || table(root["paths"]) == nil {
		return Draft{}, "it is not an OpenAPI 3 document: it has no \"openapi: 3...\" or no \"paths\""
	}
	if seen == nil {
		seen = &Seen{}
	}
	w := &writer{seen: seen, doc: &document{root: root, props: map[uintptr]map[string]map[string]any{}}, given: map[*operation]byte{}, taken: map[string]*operation{}, known: map[string]string{}, values: map[string]map[string]string{}}
	w.ops = w.doc.operations()
	w.learnExplained()
	w.repo = w.shapeLike([]string{"name", "path", "description", "visibility", "default_branch", "owner", "creator"}, 4, nil)
	w.offer = w.shapeLike([]string{"number", "title", "state", "branch", "target", "head", "text"}, 4, w.repo)
	w.learnNouns()
	w.learnFromShape()
	w.learnPlaces()
	for _, o := range w.ops {
		w.tell(o)
	}
	w.match()
	w.learnFromMatch()
	w.learnValues()
	w.write()
	return Draft{w.out.String(), w.found, w.missing}, ""
}

type writer struct {
	seen        *Seen
	doc         *document
	out         strings.Builder
	ops         []*operation
	repo, offer []string          // the property names of what is a repository and an offer to merge, sorted
	items, folk map[string]bool   // paths of one repository, and of its people
	alias       map[string]string // the host's own nouns, and the concepts they stand for
	known       map[string]string // names of properties that were known for sure, and their fields
	values      map[string]map[string]string
	taken       map[string]*operation
	given       map[*operation]byte // what gives gave
	mask        bool                // rights are bits
	two         [2]string           // the two fields that say who may see a repository, where it takes two
	sending     bool                // what is looked at is a body that is sent: what is within an object is as good as beside it
	found       []Found
	missing     []string
}

func (w *writer) say(format string, args ...any) { fmt.Fprintf(&w.out, format+"\n", args...) }

func quote(s string) string { return text.TOML(s) }

func (w *writer) names(schema map[string]any) []string {
	return sortedKeys(w.doc.properties(schema))
}

// isRepo reports whether a schema is the repository's.
func (w *writer) isRepo(schema map[string]any) bool {
	return len(w.repo) > 0 && slices.Equal(w.names(schema), w.repo)
}

// isOffer reports whether a schema is that of an offer to merge.
func (w *writer) isOffer(schema map[string]any) bool {
	return len(w.offer) > 0 && slices.Equal(w.names(schema), w.offer)
}

// shapeLike finds, in all answers, the schema that has most of the fields, at least so many, and gives its property names.
func (w *writer) shapeLike(like []string, least int, not []string) (best []string) {
	most, known := least-1, map[uintptr]bool{}
	for _, o := range w.ops {
		if o.answer == nil {
			continue
		}
		w.doc.find(o.answer, func(s map[string]any) bool {
			at := reflect.ValueOf(s).Pointer()
			if known[at] {
				return false
			}
			known[at] = true
			names := w.names(s)
			if len(names) <= 3 || slices.Equal(names, not) {
				return false
			}
			if n := len(w.assign(like, w.doc.properties(s))); n > most {
				most, best = n, names
			}
			return false
		})
	}
	return best
}

// isMany reports whether a schema is a list, or a map of things.
func isMany(schema map[string]any) bool { return schema["items"] != nil || isMap(schema) }

func isMap(schema map[string]any) bool {
	_, some := schema["additionalProperties"].(map[string]any)
	return some && schema["properties"] == nil
}

// score says how well an operation fits an action, of 100.
func (w *writer) score(o *operation, x want) int {
	score := 15
	if method := slices.Index(strings.Fields(x.methods), o.method); o.named[1] == "" {
		if method < 0 {
			return 0
		}
		score = max(15-5*method, 5)
	}
	gives := w.gives(o)
	shaped := x.gives == 'r' || x.gives == 'R' || x.gives == 'o' || x.gives == 'O'
	switch about := says(o.text, x.about); {
	case about:
		score += 30
	case !shaped || gives != x.gives:
		return 0
	}
	verb := says(o.text, x.verbs)
	switch {
	case verb:
		score += 20
	case strings.HasPrefix(x.verbs, "*"):
		return 0
	}
	if says(o.text, x.not) {
		score -= 45
	}
	switch {
	case x.gives == 0:
		score += 15
		if shape := strings.IndexByte("RO", gives); shape >= 0 {
			score -= 40
		}
	case gives == x.gives:
		score += 25
	case shaped && o.status == "202":
		score += 20 // accepted; what is made comes later
	default:
		score -= 35
	}
	return max(min(score+closeness(o.of, x.of)+closeness(o.item, x.item), 100), 0)
}

// closeness is for what an operation is of, and what it should be.
func closeness(is, want int) int {
	switch {
	case is == 0 || want == 0:
		return 5
	case is == want:
		return 10
	}
	return -35
}

// fit is how well an operation fits an action.
type fit struct {
	want  int
	op    *operation
	score int
}

// match gives each operation to the action that it fits best, the best fits first.
func (w *writer) match() {
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
	if _, person := w.byLink(); w.taken["identify"] == nil && person != nil {
		w.taken["identify"] = person
		found["identify"] = Found{Action: "identify", Operation: person.title(), Confidence: least}
	}
	w.twice(found)
	for _, x := range wanted {
		f, ok := found[x.action]
		if !ok {
			w.missing = append(w.missing, x.action)
			continue
		}
		w.found = append(w.found, f)
		if other, ok := found[second[x.action]]; ok && !slices.ContainsFunc(wanted, func(y want) bool { return y.action == other.Action }) {
			w.found = append(w.found, other)
		}
	}
}

// second are actions that may be the same operation as the first, with another value.
var second = map[string]string{"repository-archive": "repository-reopen", "invitation-accept": "invitation-decline", "people-grant": "people-withdraw", "offer-accept": "offer-close"}

// twice finds operations that do two things, by a value in their body.
func (w *writer) twice(found map[string]Found) {
	for first, other := range second {
		o := w.taken[first]
		if o == nil || w.taken[other] != nil || !w.decides(other, o) {
			continue
		}
		w.taken[other] = o
		f := found[first]
		found[other] = Found{Action: other, Operation: f.Operation, Confidence: f.Confidence - 5}
	}
}

// decides reports whether an operation has a value in its body for an action.
func (w *writer) decides(action string, o *operation) bool {
	for _, p := range w.doc.properties(o.body) {
		if w.constant(action, o, p) != "" {
			return true
		}
	}
	return false
}
