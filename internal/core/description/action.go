package description

import (
	"maps"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/text"
)

func (l *loader) action(d *Description, name string, t *node, shapes map[string]map[string]*Reading) *Action {
	a := &Action{Name: name, By: t.str("by"), Makes: t.str("makes"), Page: t.template("page", nil), Needs: t.strings("needs")}
	for _, need := range a.Needs {
		if !slices.Contains(needNames, need) {
			t.wrongMeant("needs", text.Nearest(need, needNames), "%q is not a known need", need)
		}
	}
	var kept []string
	before := len(l.variables)
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
	for _, v := range ungiven(name, l.variables[before:], kept) {
		l.empty = append(l.empty, "action."+name+" uses {"+v+"}, which stays empty: nothing gives it there")
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
	if m, _ := r.v.(map[string]any); m["page"] != nil { // what one page keeps, the next one has
		own, _ := m["keep"].(map[string]any)
		kept = slices.Concat(kept, slices.Sorted(maps.Keys(own)))
	}
	q := &Request{Method: r.str("method"), URL: r.template("url", kept), When: r.texts("when", kept), Unless: r.texts("unless", kept),
		Query: r.texts("query", kept), Headers: r.texts("headers", kept), Form: r.texts("form", kept), Multipart: r.texts("multipart", kept)}
	if q.Method == "" {
		q.Method = "GET"
	} else if !slices.Contains([]string{"GET", "POST", "PUT", "PATCH", "DELETE"}, q.Method) {
		r.wrongMeant("method", text.Nearest(q.Method, []string{"GET", "POST", "PUT", "PATCH", "DELETE"}), "%q is not a known method", q.Method)
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
	}
	if bodies := []bool{q.JSON != nil, q.Form != nil, q.Multipart != nil}; slices.Index(bodies, true) >= 0 && slices.Index(bodies[slices.Index(bodies, true)+1:], true) >= 0 {
		r.wrong(text.Either(q.Multipart != nil, "multipart", "form"), "a request has one body: json, form or multipart")
	}
	if c := r.table("choose"); c != nil {
		q.Choose = l.choose(c, kept)
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
			r.wrongMeant("keyed", text.Nearest(q.Keyed, fieldNames), "%q is not a known field", text.Excerpt(q.Keyed, 40))
		}
		if q.Items == nil {
			r.wrong("keyed", "\"keyed\" goes with \"items\": the map whose keys are meant")
		}
	}
	q.Fields = l.readAs(r, shapes)
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

// choose reads which of several things in an answer is meant.
func (l *loader) choose(c *node, kept []string) *Choose {
	x := &Choose{Where: c.reading("where", false), Is: c.text("is", kept)}
	if rd := c.reading("from", false); rd != nil {
		x.From = rd.At
	}
	switch {
	case x.From == nil:
		c.wrong("", "\"choose\" needs \"from\": the path to the things of which one is meant")
	case (x.Where == nil) != (x.Is == ""):
		c.wrong("", "\"where\" and \"is\" go together: the field, and what it has to be; without both the first thing is meant")
	case x.Where != nil && x.Where.At == nil:
		c.wrong("where", "\"where\" is a path within each thing, such as \"$.path\"")
	}
	c.done()
	return x
}

// readAs gives how an answer is read: by a shape of its name, or by fields of its own.
func (l *loader) readAs(r *node, shapes map[string]map[string]*Reading) map[string]*Reading {
	switch v, _ := r.take("read"); read := v.(type) {
	case nil:
		return nil
	case string:
		l.shapesRead = append(l.shapesRead, read)
		if shapes[read] == nil {
			r.wrongMeant("read", text.Nearest(read, slices.Sorted(maps.Keys(shapes))), "there is no [shape.%s]", text.Excerpt(read, 40))
		}
		return shapes[read]
	default:
		if t := r.table("read"); t != nil {
			return l.fields(t)
		}
	}
	return nil
}

func (l *loader) paging(p *node) *Paging {
	g := &Paging{By: p.must("by"), At: p.reading("at", false), Total: p.reading("total", false), Pages: p.reading("pages", false), More: p.reading("more", false), Size: p.integer("size"), First: 1}
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
		p.wrongMeant("by", text.Nearest(g.By, ways), "%q is not a known way of paging", g.By)
	case (g.By == "cursor" || g.By == "next") && g.At == nil:
		p.wrong("", "paging by %s needs \"at\": where the answer names what comes next", g.By)
	case g.Pages != nil && g.By != "number":
		p.wrong("pages", "\"pages\" is how many numbered pages there are; \"total\" is how many items")
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
		w.wrong("", "waiting needs \"at\" and \"done\": where the state is, and which states mean that the work is done")
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
			t.wrongMeant(name, text.Nearest(name, fieldNames), "%q is not a known field", text.Excerpt(name, 40))
			continue
		}
		fields[name] = t.reading(name, true)
	}
	return fields
}

// Takes reports whether one of the action's requests has a place for a variable.
func (a *Action) Takes(variable string) bool {
	var in func(v any) bool
	in = func(v any) bool {
		switch x := v.(type) {
		case Text:
			return slices.Contains(x.variables(), variable)
		case map[string]any:
			return slices.ContainsFunc(slices.Collect(maps.Values(x)), in)
		case []any:
			return slices.ContainsFunc(x, in)
		}
		return false
	}
	return slices.ContainsFunc(a.Requests, func(q *Request) bool {
		texts := slices.Clone(q.Command)
		for _, set := range []map[string]Text{q.Query, q.Headers, q.Form} {
			texts = append(texts, slices.Collect(maps.Values(set))...)
		}
		return in(q.JSON) || slices.ContainsFunc(texts, func(t Text) bool { return in(t) }) || q.URL != nil && slices.Contains(q.URL.Varnames(), variable)
	})
}
