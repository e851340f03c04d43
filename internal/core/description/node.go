package description

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/yosida95/uritemplate/v3"

	"uncinate/internal/core/places"
	"uncinate/internal/core/text"
)

type tmpl = uritemplate.Template

// loader collects mistakes and knows where in the file each key stands.
type loader struct {
	data       []byte
	places     map[string][2]int // where each key stands; nil until there is a mistake
	at         string            // the base address that is used, where it is another than the file's
	mistakes   []Mistake
	shapesRead []string          // the shapes that some request reads
	braces     []string          // texts in which some braces are variables, and others are not
	empty      []string          // variables that an action uses, and nothing gives it
	variables  []string          // the variables that are in some template
	kinds      map[string]string // where the language is looked at: each key that is asked for, and what it holds
	fromNow    bool              // what is read now may be a time in seconds from now on
}

// node is one table of the file while it is read. Each key asked for is noted, so
// that done can name the ones that nobody asks for.
type node struct {
	l     *loader
	path  string
	v     any
	asked []string
}

func (n *node) mark(key string) {
	if n.asked == nil {
		n.asked = make([]string, 0, 16)
	}
	n.asked = append(n.asked, key)
}

func (n *node) take(key string) (any, bool) {
	n.mark(key)
	n.l.note(n.path, key, "value")
	v, ok := n.v.(map[string]any)[key]
	return v, ok
}

func (n *node) keys() []string {
	m, _ := n.v.(map[string]any)
	keys := slices.Sorted(maps.Keys(m))
	for _, k := range keys {
		n.mark(k)
	}
	return keys
}

func join(path, key string) string { return places.Join(path, key) }

// wrong notes a mistake at a key of the table, or at the table itself.
func (n *node) wrong(key, format string, args ...any) { n.wrongMeant(key, "", format, args...) }

func (n *node) wrongMeant(key, meant, format string, args ...any) {
	path := n.path
	if key != "" {
		path = join(path, key)
	}
	if n.l.places == nil {
		n.l.places = places.Of(n.l.data)
	}
	at, ok := n.l.places[path]
	for !ok && path != "" {
		// A value inside an array or a body has no place of its own: its holder's does.
		cut := max(strings.LastIndexByte(path, '.'), strings.LastIndexByte(path, '['))
		path = path[:max(cut, 0)]
		at, ok = n.l.places[path]
	}
	if !ok {
		at = [2]int{1, 1}
	}
	n.l.mistakes = append(n.l.mistakes, Mistake{Line: at[0], Column: at[1], Says: fmt.Sprintf(format, args...), Meant: meant})
}

// done notes every key that the language does not know.
func (n *node) done() {
	m, _ := n.v.(map[string]any)
	for _, key := range slices.Sorted(maps.Keys(m)) {
		if !slices.Contains(n.asked, key) {
			where := n.path
			if where == "" {
				where = "the file's top"
			} else {
				where = "[" + where + "]"
			}
			n.wrongMeant(key, text.Nearest(key, n.asked), "%s has no key %q", where, text.Excerpt(key, 40))
		}
	}
}

func (n *node) str(key string) string {
	n.l.note(n.path, key, `string`)
	v, ok := n.take(key)
	if !ok {
		return ""
	}
	s, ok := v.(string)
	if !ok {
		n.wrong(key, "%q must be a string", key)
	}
	return s
}

func (n *node) must(key string) string {
	if _, ok := n.v.(map[string]any)[key]; !ok {
		n.mark(key)
		n.wrong("", "the key %q is missing", key)
		return ""
	}
	return n.str(key)
}

func (n *node) integer(key string) int {
	n.l.note(n.path, key, `number`)
	v, ok := n.take(key)
	if !ok {
		return 0
	}
	i, ok := v.(int64)
	if !ok || i < 0 || i > 1<<31 {
		n.wrong(key, "%q must be a whole number, not negative", key)
	}
	return int(i)
}

func (n *node) boolean(key string) bool {
	n.l.note(n.path, key, `true or false`)
	v, ok := n.take(key)
	if !ok {
		return false
	}
	b, ok := v.(bool)
	if !ok {
		n.wrong(key, "%q must be true or false", key)
	}
	return b
}

// duration reads a time such as "500ms" or "2m".
func (n *node) duration(key string, unless time.Duration) time.Duration {
	n.l.note(n.path, key, `time such as "2m"`)
	s := n.str(key)
	if s == "" {
		return unless
	}
	d, err := time.ParseDuration(s)
	if err != nil || d <= 0 {
		n.wrong(key, "%q must be a time such as \"500ms\" or \"2m\"", key)
		return unless
	}
	return d
}

func (n *node) strings(key string) []string {
	n.l.note(n.path, key, `list of strings`)
	v, ok := n.take(key)
	if !ok {
		return nil
	}
	list, ok := v.([]any)
	if !ok {
		n.wrong(key, "%q must be a list of strings", key)
		return nil
	}
	out := make([]string, 0, len(list))
	for _, item := range list {
		s, ok := item.(string)
		if !ok {
			n.wrong(key, "%q must be a list of strings", key)
			return nil
		}
		out = append(out, s)
	}
	return out
}

func (n *node) table(key string) *node {
	n.l.note(n.path, key, `table`)
	v, ok := n.take(key)
	if !ok {
		return nil
	}
	if _, ok := v.(map[string]any); !ok {
		n.wrong(key, "%q must be a table", key)
		return nil
	}
	return &node{l: n.l, path: join(n.path, key), v: v}
}

func (n *node) tables(key string) []*node {
	n.l.note(n.path, key, `list of tables`)
	v, ok := n.take(key)
	if !ok {
		return nil
	}
	list, ok := v.([]any)
	if !ok {
		n.wrong(key, "%q is written as [[%s]]", key, join(n.path, key))
		return nil
	}
	var out []*node
	for i, item := range list {
		if _, ok := item.(map[string]any); !ok {
			n.wrong(key, "%q is written as [[%s]]", key, join(n.path, key))
			continue
		}
		out = append(out, &node{l: n.l, path: fmt.Sprintf("%s[%d]", join(n.path, key), i), v: item})
	}
	return out
}

// template reads a URI template whose variables are known ones or in kept.
func (n *node) template(key string, kept []string) *tmpl {
	n.l.note(n.path, key, `URI template`)
	s := n.str(key)
	if s == "" {
		return nil
	}
	t, err := newTemplate(s)
	if err != nil {
		n.wrong(key, "%q is not a URI template: %s", text.Excerpt(s, 60), strings.TrimPrefix(err.Error(), "uritemplate:"))
		return nil
	}
	n.variables(key, t.Varnames(), kept)
	return t
}

func newTemplate(s string) (*tmpl, error) { return uritemplate.New(s) }

func (n *node) variables(key string, names, kept []string) {
	n.l.variables = append(n.l.variables, names...)
	for _, name := range names {
		if !slices.Contains(variableNames, name) && !slices.Contains(kept, name) {
			if kind, field, dotted := strings.Cut(name, "."); dotted && field != "" && slices.ContainsFunc(wordKinds, func(w wordKind) bool { return w.kind == kind }) {
				continue // one of the fields of a word
			}
			if near := text.Nearest(name, append(slices.Clone(variableNames), kept...)); near != "" {
				n.wrongMeant(key, near, "there is no variable {%s}", name)
			} else {
				n.wrong(key, "there is no variable {%s}; in a text, a brace that is to stay is written \\{", name)
			}
		}
	}
}

func (n *node) text(key string, kept []string) Text {
	n.l.note(n.path, key, `text`)
	s := n.str(key)
	n.variables(key, Text(s).variables(), kept)
	return Text(s)
}

func (n *node) texts(key string, kept []string) map[string]Text {
	n.l.note(n.path, key, `table of texts`)
	t := n.table(key)
	if t == nil {
		return nil
	}
	out := map[string]Text{}
	for _, name := range t.keys() {
		out[name] = t.text(name, kept)
	}
	return out
}

// body reads the values of a JSON body: strings become templates.
func (n *node) body(path string, v any, kept []string, depth int) any {
	if depth > 8 {
		n.wrong("json", "the body is nested more than 8 deep")
		return nil
	}
	switch x := v.(type) {
	case string:
		names := Text(x).variables()
		n.variables(path, names, kept)
		if len(names) > 0 && strings.Contains(inText().ReplaceAllString(x, ""), "{") {
			n.l.braces = append(n.l.braces, join(n.path, path)+" has braces of its own, and {"+names[0]+"} is filled in: what is to stay is written \\{"+names[0]+"}")
		}
		return Text(x)
	case map[string]any:
		out := map[string]any{}
		for k, item := range x {
			out[k] = n.body(path+"."+k, item, kept, depth+1)
		}
		return out
	case []any:
		out := make([]any, len(x))
		for i, item := range x {
			out[i] = n.body(path, item, kept, depth+1)
		}
		return out
	case bool, int64, float64:
		return x
	}
	n.wrong(path, "a body holds strings, numbers, true and false, lists and tables")
	return nil
}

// reading reads where a value is: a string ("$.path" or "header NAME"), or a
// table with more to say.
func (n *node) reading(key string, needed bool) *Reading {
	n.l.note(n.path, key, `where a value is`)
	v, ok := n.take(key)
	if !ok {
		return nil
	}
	switch x := v.(type) {
	case string:
		r, why := newReading(x)
		if why != "" {
			n.wrong(key, "%s", why)
		}
		return r
	case map[string]any:
		t := n.table(key)
		r, why := newReading(t.must("at"))
		if why != "" {
			t.wrong("at", "%s", why)
			return nil
		}
		r.Strip, r.Split, r.As, r.Cut = t.str("strip"), t.str("split"), t.str("as"), t.template("cut", nil)
		t.timeForm("as", r.As, "seconds")
		if r.As == "seconds" && !n.l.fromNow {
			t.wrong("as", "seconds from now on are read only in [rate] and in [signin.exchange]")
		}
		t.done()
		return r
	}
	if needed {
		n.wrong(key, "%q must say where the value is, such as \"$.%s\" or \"header NAME\"", key, key)
	}
	return nil
}

// timeForm checks how times are said to be written.
func (n *node) timeForm(key, form string, also ...string) {
	forms := append([]string{"epoch", "rfc3339"}, also...)
	if form == "" || slices.Contains(forms, form) {
		return
	}
	if !strings.Contains(form, "%") {
		n.wrongMeant(key, text.Nearest(form, forms), "a time is \"rfc3339\", \"epoch\" or a layout such as \"%%Y-%%m-%%d %%H:%%M:%%S\"")
	} else if _, err := newLayout(form); err != nil {
		n.wrong(key, "the layout %s", err)
	}
}

// newReading reads "$.path" (RFC 9535), "header NAME" or "cookie NAME". A path may not search at
// all depths: what an answer costs to read must not depend on its shape.
func newReading(s string) (*Reading, string) {
	if name, ok := strings.CutPrefix(s, "header "); ok {
		return &Reading{Header: strings.TrimSpace(name)}, ""
	}
	if name, ok := strings.CutPrefix(s, "cookie "); ok {
		return &Reading{Cookie: strings.TrimSpace(name)}, ""
	}
	if !strings.HasPrefix(s, "$") {
		return nil, fmt.Sprintf("%q begins neither with \"$\" nor with \"header \" or \"cookie \"", text.Excerpt(s, 40))
	}
	if names := Text(unquoted(s) + " " + s).variables(); len(names) > 0 {
		return nil, fmt.Sprintf("%q: a path holds no variables such as {%s}; \"choose\" takes the one thing whose field is a variable's value", text.Excerpt(s, 40), names[0])
	}
	path, err := parsePath(s)
	if err != nil {
		return nil, fmt.Sprintf("%q %s", text.Excerpt(s, 40), text.Excerpt(err.Error(), 100))
	}
	return &Reading{At: path}, ""
}

func keysOf(m map[string]*Reading) []string { return slices.Collect(maps.Keys(m)) }
