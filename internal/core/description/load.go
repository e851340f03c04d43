package description

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"uncinate/internal/core/address"
	"uncinate/internal/core/text"
)

// Most is the largest description, in bytes, that is read.
const Most = 256 << 10

var size = regexp.MustCompile(`^[0-9]+(\.[0-9]+)? ([kMGT]B|[KMGT]iB|B)$`)

// Mistake is one thing wrong in a description's file.
type Mistake struct {
	Line   int    `json:"line"`   // from 1
	Column int    `json:"column"` // from 1, in bytes
	Says   string `json:"says"`
	Meant  string `json:"meant,omitempty"` // what was probably meant; empty if nothing is near
}

func (m Mistake) String() string {
	s := fmt.Sprintf("line %d, column %d: %s", m.Line, m.Column, m.Says)
	if m.Meant != "" {
		s += fmt.Sprintf("; did you mean %q?", m.Meant)
	}
	return s
}

// Load reads a description strictly. With any mistake the description is nil and
// all mistakes that were found are given, in the file's order.
func Load(data []byte) (*Description, []Mistake) {
	if len(data) > Most {
		return nil, []Mistake{{Line: 1, Column: 1, Says: fmt.Sprintf("the file is larger than %d bytes", Most)}}
	}
	var tree map[string]any
	if err := toml.Unmarshal(data, &tree); err != nil {
		m := Mistake{Line: 1, Column: 1, Says: strings.TrimPrefix(err.Error(), "toml: ")}
		var de *toml.DecodeError
		if errors.As(err, &de) {
			m.Line, m.Column = de.Position()
		}
		return nil, []Mistake{m}
	}
	l := &loader{places: positions(data)}
	d := l.description(&node{l: l, v: tree})
	if len(l.mistakes) > 0 {
		slices.SortStableFunc(l.mistakes, func(a, b Mistake) int {
			if a.Line != b.Line {
				return a.Line - b.Line
			}
			return a.Column - b.Column
		})
		return nil, l.mistakes
	}
	return d, nil
}

func (l *loader) description(n *node) *Description {
	d := &Description{Pages: map[string]*tmpl{}, Scopes: map[string][]string{}, Words: map[string]Words{},
		Actions: map[string]*Action{}, Limits: map[string]any{}, Cannot: map[string]string{}, Time: "rfc3339"}
	switch v, ok := n.take("language"); {
	case !ok:
		n.wrong("", "the key \"language\" is missing; write: language = %d", Language)
	case v != int64(Language):
		n.wrong("language", "this program knows version %d of the language", Language)
		return d
	}
	d.Name, d.Title, d.Base = n.must("name"), n.str("title"), strings.TrimSuffix(n.must("base"), "/")
	if d.Name != "" && strings.Trim(d.Name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
		n.wrong("name", "a host's name is made of small letters, digits and dashes")
	}
	l.shell(d, n)
	if d.Base != "" {
		if why := d.CheckBase(d.Base); why != "" {
			n.wrong("base", "%s", why)
		}
	}
	if a := n.table("address"); a != nil && d.Shell != nil {
		a.wrong("", "a plain server's addresses are made of its base and its folder; leave [address] out")
	} else if a != nil {
		d.API, d.Page, d.HTTPS, d.SSH = a.template("api", nil), a.template("page", nil), a.template("https", nil), a.template("ssh", nil)
		for _, s := range a.strings("also") {
			if t, err := newTemplate(s); err == nil {
				d.Also = append(d.Also, t)
			} else {
				a.wrong("also", "%q is no URI template", s)
			}
		}
		if d.HTTPS == nil && d.SSH == nil {
			a.wrong("", "neither \"https\" nor \"ssh\" is given: one of them is needed to reach a repository")
		}
		a.done()
	} else if d.Shell == nil {
		n.wrong("", "the table [address] is missing")
	}
	if p := n.table("page"); p != nil {
		for _, name := range pageNames {
			if t := p.template(name, nil); t != nil {
				d.Pages[name] = t
			}
		}
		p.done()
	}
	l.signIn(d, n.table("signin"))
	l.values(d, n.table("value"))
	if s := n.table("scopes"); s != nil {
		for _, name := range needNames {
			if list := s.strings(name); list != nil {
				d.Scopes[name] = list
			}
		}
		s.done()
	}
	shapes := map[string]map[string]*Reading{}
	if s := n.table("shape"); s != nil {
		for _, name := range s.keys() {
			if t := s.table(name); t != nil {
				shapes[name] = l.fields(t)
			}
		}
	}
	if a := n.table("action"); a != nil && d.Shell != nil {
		a.wrong("", "what can be done on a plain server is known; leave [action] out")
	} else if a != nil {
		for _, name := range actionNames {
			if t := a.table(name); t != nil {
				d.Actions[name] = l.action(d, name, t, shapes)
			}
		}
		a.done()
	}
	for _, r := range n.tables("refusal") {
		rule := Refusal{Status: r.integer("status"), At: r.reading("at", false), Means: Meaning(r.must("means"))}
		if v, ok := r.take("is"); ok {
			rule.Is = v
		}
		if rule.Means != "" && !slices.Contains(meaningNames, string(rule.Means)) {
			r.wrongMeant("means", text.Nearest(string(rule.Means), meaningNames), "%q is no meaning that is known", rule.Means)
		}
		r.done()
		d.Refusals = append(d.Refusals, rule)
	}
	if r := n.table("refusals"); r != nil {
		for _, s := range r.strings("message") {
			if reading, why := newReading(s); why == "" {
				d.Message = append(d.Message, reading)
			} else {
				r.wrong("message", "%s", why)
			}
		}
		r.done()
	}
	d.Rate = l.rate(n.table("rate"))
	d.Hook = l.hook(n.table("hook"))
	if t := n.table("limits"); t != nil {
		for _, name := range limitNames {
			if v, ok := t.take(name); ok {
				d.Limits[name] = v
				if word, isText := v.(string); (strings.HasSuffix(name, "_size") || name == "large_file_quota") && (!isText || !size.MatchString(word)) {
					t.wrong(name, "a size has a number and a unit, such as \"100 MiB\" or \"5 GB\"")
				}
			}
		}
		t.done()
	}
	if t := n.table("ssh"); t != nil {
		d.HostKeys = t.strings("host_keys")
		t.done()
	}
	if t := n.table("cannot"); t != nil {
		for _, name := range t.keys() {
			d.Cannot[name] = t.str(name)
		}
	}
	n.done()
	l.remarks(d, shapes)
	return d
}

func (l *loader) signIn(d *Description, s *node) {
	if s == nil {
		return
	}
	d.SignIn.Present = true
	d.SignIn.Header, d.SignIn.Query = s.texts("header", nil), s.texts("query", nil)
	for _, b := range s.strings("tokens_begin") {
		if len(b) < 4 {
			s.wrong("tokens_begin", "%q is too short to know a token by: four characters at least", text.Visible(b))
		}
		d.SignIn.Begins = append(d.SignIn.Begins, b)
	}
	basic := func(name string) *Basic {
		t := s.table(name)
		if t == nil {
			return nil
		}
		b := &Basic{User: t.text("user", nil), Secret: t.text("secret", nil)}
		t.done()
		return b
	}
	d.SignIn.Basic = basic("basic")
	if g := basic("git"); g != nil {
		d.SignIn.Git = *g
	} else {
		d.SignIn.Git = Basic{User: "{user}", Secret: "{token}"}
	}
	ways := 0
	for _, given := range []bool{len(d.SignIn.Header) > 0, len(d.SignIn.Query) > 0, d.SignIn.Basic != nil} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		s.wrong("", "the API's sign-in needs exactly one of header, query and basic, and %d are given", ways)
	}
	if x := s.table("exchange"); x != nil {
		d.SignIn.Exchange = l.exchange(d, x)
	}
	if o := s.table("oauth"); o != nil {
		d.SignIn.OAuth = &OAuth{Metadata: o.template("metadata", nil), Client: o.must("client"), Ways: o.strings("ways")}
		if d.SignIn.OAuth.Metadata == nil {
			o.wrong("", "the key \"metadata\" is missing: where the host tells how one signs in (RFC 8414)")
		}
		for _, way := range d.SignIn.OAuth.Ways {
			if way != "device" && way != "browser" {
				o.wrongMeant("ways", text.Nearest(way, []string{"device", "browser"}), "one signs in by \"device\" or by \"browser\", not by %q", text.Excerpt(way, 30))
			}
		}
		o.done()
	}
	s.done()
}

func (l *loader) values(d *Description, v *node) {
	if v == nil {
		return
	}
	if form := v.str("time"); form != "" {
		if form != "rfc3339" && form != "epoch" {
			v.wrongMeant("time", text.Nearest(form, []string{"rfc3339", "epoch"}), "times are either \"rfc3339\" or \"epoch\"")
		}
		d.Time = form
	}
	for kind, names := range map[string][]string{"visibility": Visibilities, "right": rightNames} {
		t := v.table(kind)
		if t == nil {
			continue
		}
		words := Words{}
		for _, name := range names {
			if value, ok := t.take(name); ok {
				switch value.(type) {
				case string, bool, int64, float64:
					words[name] = value
				default:
					t.wrong(name, "a value is a string, true or false, or a number")
				}
			}
		}
		t.done()
		d.Words[kind] = words
	}
	v.done()
}

func (l *loader) action(d *Description, name string, t *node, shapes map[string]map[string]*Reading) *Action {
	a := &Action{Name: name, By: t.str("by"), Makes: t.str("makes"), Page: t.template("page", nil), Needs: t.strings("needs")}
	for _, need := range a.Needs {
		if !slices.Contains(needNames, need) {
			t.wrongMeant("needs", text.Nearest(need, needNames), "%q is no need that is known", need)
		}
	}
	var kept []string
	for _, r := range t.tables("request") {
		q := l.request(d, r, shapes, kept)
		if len(q.Command) > 0 && a.By != "ssh" {
			r.wrong("command", "a request with \"command\" goes with by = \"ssh\" in its action")
		}
		for k := range q.Keep {
			kept = append(kept, k)
		}
		a.Requests = append(a.Requests, q)
	}
	switch a.By {
	case "":
		a.By = "request"
	case "request", "push", "page", "ssh":
	default:
		t.wrongMeant("by", text.Nearest(a.By, []string{"request", "push", "page", "ssh"}), "an action is done by \"request\", \"push\", \"page\" or \"ssh\"")
	}
	if a.By == "ssh" && (len(a.Requests) != 1 || len(a.Requests[0].Command) == 0) {
		t.wrong("", "by = \"ssh\" needs one [[action.%s.request]] with \"command\", the words of the command", name)
	}
	if a.By == "request" && len(a.Requests) == 0 {
		t.wrong("", "the action %s has no [[action.%s.request]]; leave the whole action out if the host does not offer it", name, name)
	}
	if pushes := a.By == "push"; pushes && name != "repository-create" {
		t.wrong("by", "only repository-create can be done by \"push\"")
	} else if pushes && !slices.Contains(Visibilities, a.Makes) {
		t.wrongMeant("makes", text.Nearest(a.Makes, Visibilities), "by \"push\", \"makes\" says who may see what the first push makes: \"private\", \"members\" or \"public\"")
	} else if !pushes && a.Makes != "" {
		t.wrong("makes", "\"makes\" goes with by = \"push\"")
	}
	if a.By == "page" && a.Page == nil {
		t.wrong("", "the action %s is done on a page, and \"page\" is missing", name)
	}
	t.done()
	return a
}

func (l *loader) request(d *Description, r *node, shapes map[string]map[string]*Reading, kept []string) *Request {
	q := &Request{Method: r.str("method"), URL: r.template("url", kept), When: r.texts("when", kept), Unless: r.texts("unless", kept),
		Query: r.texts("query", kept), Headers: r.texts("headers", kept), Form: r.texts("form", kept)}
	if q.Method == "" {
		q.Method = "GET"
	} else if !slices.Contains([]string{"GET", "POST", "PUT", "PATCH", "DELETE"}, q.Method) {
		r.wrongMeant("method", text.Nearest(q.Method, []string{"GET", "POST", "PUT", "PATCH", "DELETE"}), "%q is no method that is known", q.Method)
	}
	for i, word := range r.strings("command") {
		q.Command = append(q.Command, Text(word))
		r.variables("command", Text(word).variables(), kept)
		if i == 0 && (len(Text(word).variables()) > 0 || word == "" || word[0] == '-') {
			r.wrong("command", "the first word of a command is the command itself")
		}
	}
	if q.URL == nil && len(q.Command) == 0 {
		r.wrong("", "the request has no \"url\"")
	}
	if v, ok := r.take("json"); ok {
		q.JSON = r.body("json", v, kept, 0)
		if q.Form != nil {
			r.wrong("form", "a request has a json body or a form, not both")
		}
	}
	if k := r.table("keep"); k != nil {
		q.Keep = map[string]*Reading{}
		for _, name := range k.keys() {
			q.Keep[name] = k.reading(name, true)
			if strings.Trim(name, "abcdefghijklmnopqrstuvwxyz_") != "" {
				k.wrong(name, "a variable's name is made of small letters and underscores")
			}
		}
	}
	if rd := r.reading("inside", false); rd != nil {
		q.Inside = rd.At
	}
	if rd := r.reading("items", false); rd != nil {
		q.Items = rd.At
	}
	if q.Keyed = r.str("keyed"); q.Keyed != "" {
		if !slices.Contains(fieldNames, q.Keyed) {
			r.wrongMeant("keyed", text.Nearest(q.Keyed, fieldNames), "%q is no field that is known", text.Excerpt(q.Keyed, 40))
		}
		if q.Items == nil {
			r.wrong("keyed", "\"keyed\" goes with \"items\": the map whose keys are meant")
		}
	}
	switch v, _ := r.take("read"); read := v.(type) {
	case nil:
	case string:
		l.shapesRead = append(l.shapesRead, read)
		if q.Fields = shapes[read]; q.Fields == nil {
			var names []string
			for s := range shapes {
				names = append(names, s)
			}
			r.wrongMeant("read", text.Nearest(read, names), "there is no [shape.%s]", text.Excerpt(read, 40))
		}
	default:
		if t := r.table("read"); t != nil {
			q.Fields = l.fields(t)
		}
	}
	q.Repeat = r.boolean("repeat")
	if p := r.table("page"); p != nil {
		q.Paging = l.paging(p)
	}
	if w := r.table("wait"); w != nil {
		q.Wait = l.wait(w, append(slices.Clone(kept), keysOf(q.Keep)...))
	}
	r.done()
	return q
}

func (l *loader) paging(p *node) *Paging {
	g := &Paging{By: p.must("by"), At: p.reading("at", false), Total: p.reading("total", false), Size: p.integer("size"), First: 1}
	if _, given := p.v.(map[string]any)["first"]; given {
		if g.First = p.integer("first"); g.First > 1 {
			p.wrong("first", "the first page has the number 0 or 1")
		}
	} else {
		p.mark("first")
	}
	ways := []string{"cursor", "link", "next", "number", "offset"}
	switch {
	case g.By != "" && !slices.Contains(ways, g.By):
		p.wrongMeant("by", text.Nearest(g.By, ways), "%q is no way of paging that is known", g.By)
	case (g.By == "cursor" || g.By == "next") && g.At == nil:
		p.wrong("", "paging by %s needs \"at\": where the answer names what comes next", g.By)
	case (g.By == "number" || g.By == "offset") && g.Size == 0:
		p.wrong("", "paging by %s needs \"size\": how many items a page holds", g.By)
	}
	p.done()
	return g
}

func (l *loader) wait(w *node, kept []string) *Wait {
	x := &Wait{Ask: w.template("ask", kept), At: w.reading("at", false), Done: w.strings("done"), Failed: w.strings("failed"), Why: w.reading("why", false),
		Every: w.duration("every", time.Second), Most: w.duration("most", 2*time.Minute)}
	switch {
	case x.Ask == nil:
		w.wrong("", "waiting needs \"ask\": the address at which the host tells how far the work is")
	case x.At == nil || len(x.Done) == 0:
		w.wrong("", "waiting needs \"at\" and \"done\": where the state lies, and which states mean that the work is done")
	case x.Every < 10*time.Millisecond || x.Every > x.Most || x.Most > time.Hour:
		w.wrong("", "waiting asks at most every 10ms, and for at most an hour")
	}
	w.done()
	return x
}

func (l *loader) fields(t *node) map[string]*Reading {
	fields := map[string]*Reading{}
	for _, name := range t.keys() {
		if !slices.Contains(fieldNames, name) {
			t.used[name] = true
			t.wrongMeant(name, text.Nearest(name, fieldNames), "%q is no field that is known", text.Excerpt(name, 40))
			continue
		}
		fields[name] = t.reading(name, true)
	}
	return fields
}

// CheckBase says what is wrong with a base address for this host, or "" if it is good.
func (d *Description) CheckBase(base string) string {
	if d.Shell != nil {
		return CheckShellBase(base)
	}
	return CheckBase(base)
}

// CheckBase says what is wrong with a host's base address, or "" if it is good.
func CheckBase(base string) string {
	u, err := url.Parse(base)
	switch {
	case err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http"):
		return "the base is no address like https://host.example"
	case u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return "the base address may hold neither user, query nor fragment"
	case !address.Guarded(u.Scheme, u.Host):
		return "plain http would send the token unencrypted; it is only taken for this machine's own loopback address"
	}
	return ""
}
