package description

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Result is what was read from an answer.
type Result struct {
	Fields map[string]any   // for a single thing
	Items  []map[string]any // for a list
	Kept   Vars             // variables for the requests that follow
	Next   Vars             // the variables that ask for the next page; nil at the end
	Link   string           // the next page's whole address; "" at the end
	Total  int              // how many items there are in all; -1 where the host does not say
	Pages  int              // how many pages there are; -1 where the host does not say
	Ended  bool             // the host says that there is no more
	Lost   []string         // variables that were to be kept, and are not there
	Odd    []string         // what is there and could not be read, as "field: value"
}

// Parse reads a JSON body; an empty one is nil. Whole numbers stay whole.
func Parse(body []byte) (any, error) {
	if len(bytes.TrimSpace(body)) == 0 {
		return nil, nil
	}
	in := json.NewDecoder(bytes.NewReader(body))
	in.UseNumber()
	var v any
	if err := in.Decode(&v); err != nil {
		return nil, err
	}
	if _, err := in.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("more than one JSON value")
	}
	return whole(v), nil
}

func whole(v any) any {
	switch x := v.(type) {
	case json.Number:
		if i, err := x.Int64(); err == nil {
			return i
		}
		f, _ := x.Float64()
		return f
	case map[string]any:
		for k, item := range x {
			x[k] = whole(item)
		}
	case []any:
		for i, item := range x {
			x[i] = whole(item)
		}
	}
	return v
}

// Read reads the answer to a request, which must not be a refusal (see Refused). vars are the variables with
// which it was asked.
func (q *Request) Read(d *Description, a Answer, vars Vars) (Result, error) {
	r := Result{Kept: Vars{}, Total: -1, Pages: -1}
	body, err := a.value()
	heads := q.headersAlone()
	if err != nil && !heads {
		return r, fault.New(fault.Unreachable, "what answers at %s is not the API that the description expects: the answer is not %s", d.Base, text.Either(a.isXML(), "XML that can be read", "JSON")).
			Detail("It begins: %s", text.Excerpt(string(a.Body[:min(len(a.Body), 200)]), 60)).Because(err)
	}
	inside := body
	if q.Inside != nil {
		inside = q.Inside.First(body)
	}
	if q.Choose != nil {
		if inside, err = q.Choose.from(d, inside, vars); err != nil {
			return r, err
		}
	}
	holder := body
	if q.Choose != nil {
		holder = inside
	}
	r.Kept, r.Lost = q.kept(d, holder, a.Header)
	if q.Keyed != "" {
		all, _ := q.Items.First(inside).(map[string]any)
		for _, key := range slices.Sorted(maps.Keys(all)) {
			item := q.fields(d, all[key], a.Header)
			item[q.Keyed] = key
			r.Items = append(r.Items, item)
		}
		r.next(d, q.Paging, body, a.Header)
		return r, nil
	}
	if q.Items != nil {
		for _, item := range q.Items.All(inside) {
			fields := q.fields(d, item, a.Header)
			r.odd(q, fields, item, a.Header)
			r.Items = append(r.Items, fields)
		}
		r.next(d, q.Paging, body, a.Header)
		return r, nil
	}
	if heads {
		r.Fields = q.fields(d, nil, a.Header)
	} else if q.Fields != nil {
		if _, ok := inside.(map[string]any); !ok {
			if _, list := inside.([]any); !list {
				return r, fault.New(fault.Unreachable, "what answers at %s is not the API that the description expects: the answer holds no object", d.Base)
			}
		}
		r.Fields = q.fields(d, inside, a.Header)
		r.odd(q, r.Fields, inside, a.Header)
	}
	return r, nil
}

// kept reads the variables for what follows; lost are those that are not there.
func (q *Request) kept(d *Description, body any, header http.Header) (kept Vars, lost []string) {
	kept = Vars{}
	for name, reading := range q.Keep {
		kept[name] = reading.value(d, name, body, header)
		if kept[name] == nil && !reading.isNull(body) {
			lost = append(lost, name)
		}
	}
	slices.Sort(lost)
	return kept, lost
}

// ReadKept reads only the variables for what follows: of an answer that accepts work
// which is done later.
func (q *Request) ReadKept(d *Description, a Answer) Vars {
	body, err := a.value()
	if err != nil {
		body = nil // such an answer may hold anything; headers count
	}
	kept, _ := q.kept(d, body, a.Header)
	return kept
}

func (r *Result) next(d *Description, p *Paging, body any, header http.Header) {
	if p == nil {
		return
	}
	if n, err := strconv.Atoi(written(p.Total.value(d, "", body, header))); err == nil && n >= 0 {
		r.Total = n
	}
	if n, err := strconv.Atoi(written(p.Pages.value(d, "", body, header))); err == nil && n >= 0 {
		r.Pages = n
	}
	if p.More != nil {
		switch more := written(p.More.value(d, "", body, header)); more {
		case "", "false", "0", "no":
			r.Ended = true
			return
		}
	}
	switch p.By {
	case "cursor":
		if cursor := written(p.At.value(d, "", body, header)); cursor != "" {
			r.Next = Vars{"cursor": cursor}
		}
	case "next":
		r.Link = written(p.At.value(d, "", body, header))
	case "link":
		r.Link = NextLink(header.Values("Link"))
	}
}

// ReadState reads how far work is that is waited for.
func (w *Wait) ReadState(d *Description, a Answer) (state, why string, err error) {
	body, err := a.value()
	if err != nil {
		return "", "", fault.New(fault.Unreachable, "what answers at %s is not the API that the description expects: the answer is not JSON", d.Base).Because(err)
	}
	return written(w.At.value(d, "", body, a.Header)), text.Excerpt(written(w.Why.value(d, "", body, a.Header)), 300), nil
}

// AskCall makes the request that asks how far the work is.
func (w *Wait) AskCall(d *Description, vars Vars) (Call, error) {
	return (&Request{Method: "GET", URL: w.Ask}).Build(d, vars)
}

// NextLink finds the target whose relation is "next" (RFC 8288, section 3).
func NextLink(values []string) string {
	for _, value := range values {
		for _, link := range outsideQuotes(value, ',') {
			target, params, found := strings.Cut(strings.TrimSpace(link), ">")
			if !found || !strings.HasPrefix(target, "<") {
				continue
			}
			for _, p := range outsideQuotes(params, ';') {
				k, v, _ := strings.Cut(p, "=")
				relations := strings.Fields(strings.ToLower(strings.Trim(strings.TrimSpace(v), `"`)))
				if strings.EqualFold(strings.TrimSpace(k), "rel") && slices.Contains(relations, "next") {
					return target[1:]
				}
			}
		}
	}
	return ""
}

// outsideQuotes splits at a separator that stands neither in quotes nor in an
// address's angle brackets.
func outsideQuotes(s string, separator byte) []string {
	var out []string
	start, quoted, inside := 0, false, false
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '<' || c == '>':
			inside = c == '<'
		case c == separator && !inside:
			out = append(out, s[start:i])
			start = i + 1
		}
	}
	return append(out, s[start:])
}

// headersAlone reports whether all that is read is in the headers, so that the body may be anything.
func (q *Request) headersAlone() bool {
	for _, rd := range q.Fields {
		if rd.At != nil {
			return false
		}
	}
	return len(q.Fields) > 0 && q.Items == nil && q.Choose == nil
}

func (q *Request) fields(d *Description, item any, header http.Header) map[string]any {
	out := map[string]any{}
	for name, reading := range q.Fields {
		if v := reading.value(d, name, item, header); v != nil {
			out[name] = v
		}
	}
	return out
}

// Refused tells whether an answer is a refusal, what it means, and the host's own
// words for it. Rules of the description come first, then RFC 9110's statuses.
func (d *Description) Refused(a Answer) (Meaning, string, bool) {
	body, _ := a.value()
	words := ""
	readings := d.Message
	if len(readings) == 0 {
		readings = problemDetails
	}
	for _, rd := range readings {
		if v := rd.value(d, "", body, a.Header); v != nil {
			if words = written(v); words == "" {
				b, _ := json.Marshal(v)
				words = string(b)
			}
			break
		}
	}
	words = text.Excerpt(words, 300)
	for _, rule := range d.Refusals {
		if rule.Status != 0 && rule.Status != a.Status {
			continue
		}
		if rule.At != nil {
			v := rule.At.value(d, "", body, a.Header)
			if v == nil || (rule.Is != nil && written(v) != written(rule.Is)) {
				continue
			}
		} else if rule.Status == 0 {
			continue
		}
		return rule.Means, words, true
	}
	switch {
	case a.Status < 300:
		return "", "", false
	case a.Status == 401:
		return NotSignedIn, words, true
	case a.Status == 402:
		return PlanLimit, words, true
	case a.Status == 403:
		return Denied, words, true
	case a.Status == 404 || a.Status == 410:
		return NotFound, words, true
	case a.Status == 412:
		return Changed, words, true
	case a.Status == 429:
		return RateLimit, words, true
	case a.Status == 405 || a.Status == 501:
		return NotSupported, words, true
	case a.Status >= 500:
		return Down, words, true
	}
	return Invalid, words, true
}

// problemDetails is where RFC 9457 puts a host's own words.
var problemDetails = []*Reading{{At: &Path{names: []string{"detail"}}}, {At: &Path{names: []string{"title"}}}}

// RepositoryFrom makes a repository of what was read, with addresses from the
// description where the host told none.
func (d *Description) RepositoryFrom(f map[string]any) (Repository, error) {
	r := Repository{ID: written(f["id"]), Owner: written(f["owner"]), Name: written(f["name"]), Description: written(f["description"]),
		Visibility: written(f["visibility"]), DefaultBranch: written(f["default_branch"]), Creator: written(f["creator"]),
		Page: written(f["page"]), HTTPS: written(f["https"]), Right: written(f["right"]), Version: written(f["version"])}
	if t, ok := f["created"].(time.Time); ok {
		r.Created = t
	}
	if b, ok := f["empty"].(bool); ok {
		r.Empty = &b
	}
	r.Archived = f["archived"] == true
	if n, ok := f["bytes"].(int64); ok && n > 0 {
		r.Bytes = n
	}
	if r.Owner == "" || r.Name == "" {
		return r, fault.New(fault.Unreachable, "what answers at %s is not the API that the description expects: a repository without owner or name", d.Base)
	}
	vars := Vars{"owner": r.Owner, "name": r.Name, "path": r.Path(), "id": r.ID}
	var err error
	switch {
	case r.HTTPS == "" && d.HTTPS != nil:
		if r.HTTPS, err = d.Expand(d.HTTPS, vars); err != nil {
			return r, fault.New(fault.Failed, "the clone address on %s cannot be made", d.Name).Because(err)
		}
	case r.HTTPS != "" && !strings.HasPrefix(r.HTTPS, d.Base+"/") && !d.Trusts(r.HTTPS): // what begins so is at the host's own origin
		return r, fault.New(fault.Refused, "%s names a clone address at another place, %s, and the token is not sent there", d.Name, text.Excerpt(cmp.Or(OriginOf(r.HTTPS), r.HTTPS), 80))
	}
	r.toldSSH = written(f["ssh"])
	if r.Page == "" && d.Page != nil {
		if r.Page, err = d.Expand(d.Page, vars); err != nil {
			return r, fault.New(fault.Failed, "the page's address on %s cannot be made", d.Name).Because(err)
		}
	}
	return r, nil
}

// WithSSH adds a repository's address over SSH: as the host told it, if that is where the
// description says that the host's SSH server is, else made from the description. A list
// of thousands does without.
func (d *Description) WithSSH(r Repository) (Repository, error) {
	if d.SSH == nil {
		return r, nil // nothing tells whose an address would be
	}
	made, err := d.Expand(d.SSH, Vars{"owner": r.Owner, "name": r.Name, "path": r.Path(), "id": r.ID})
	if err != nil {
		return r, fault.New(fault.Failed, "the SSH address on %s cannot be made", d.Name).Because(err)
	}
	if r.SSH = r.toldSSH; r.SSH == "" {
		r.SSH = made
	} else if told := OriginOf(r.SSH); told != OriginOf(made) {
		return r, fault.New(fault.Refused, "%s names an SSH address at another place, %s, and the key is not offered there", d.Name, text.Excerpt(told, 80))
	}
	return r, nil
}

// IdentityFrom makes an identity of what was read.
func IdentityFrom(f map[string]any) Identity {
	i := Identity{User: written(f["user"]), FullName: written(f["full_name"]), Email: written(f["email"])}
	if b, ok := f["email_confirmed"].(bool); ok {
		i.EmailConfirmed = &b
	}
	if b, ok := f["active"].(bool); ok {
		i.Active = &b
	}
	i.Scopes, i.ScopesTold = f["scopes"].([]string)
	if t, ok := f["expires"].(time.Time); ok {
		i.Expires = t
	}
	return i
}

// Origin is where the account's secret belongs.
func (d *Description) Origin() string { return OriginOf(d.Base) }
