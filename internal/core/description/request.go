package description

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/yosida95/uritemplate/v3"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Call is one HTTP request, ready to be sent.
type Call struct {
	Method string
	URL    string
	Header http.Header
	Body   []byte
}

// Answer is what came back. Body is bounded by whoever read it.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte

	parsed *parsed
}

// parsed is a body that was read already.
type parsed struct {
	value any
	err   error
}

// Remember reads the body once for all that look into it.
func (a Answer) Remember() Answer {
	v, err := a.parse()
	a.parsed = &parsed{v, err}
	return a
}

func (a Answer) value() (any, error) {
	if a.parsed != nil {
		return a.parsed.value, a.parsed.err
	}
	return a.parse()
}

// parse reads the body, JSON or XML.
func (a Answer) parse() (any, error) {
	if a.isXML() {
		return parseXML(a.Body)
	}
	return Parse(a.Body)
}

// isXML reports whether the body is XML, by what the answer says of it (RFC 7303).
func (a Answer) isXML() bool {
	kind, _, err := mime.ParseMediaType(a.Header.Get("Content-Type"))
	return err == nil && (kind == "application/xml" || kind == "text/xml" || strings.HasSuffix(kind, "+xml"))
}

// Wanted reports whether the request applies with these variables.
func (q *Request) Wanted(d *Description, vars Vars) bool {
	all := d.base()
	maps.Copy(all, vars)
	for name, value := range q.When {
		if written(all[name]) != value.fillString(all) {
			return false
		}
	}
	for name, value := range q.Unless {
		if written(all[name]) == value.fillString(all) {
			return false
		}
	}
	return true
}

// Build makes the request. Parts whose variables are all empty are left out. The
// token is put in only if the address is of the description's own origin.
func (q *Request) Build(d *Description, vars Vars) (Call, error) {
	all := d.base()
	maps.Copy(all, vars)
	if err := d.ourWords(all); err != nil {
		return Call{}, err
	}
	u, err := q.address(d, all)
	if err != nil {
		return Call{}, err
	}
	c := Call{Method: q.Method, Header: http.Header{}}
	signIn := &d.SignIn
	if q.signIn != nil {
		signIn = q.signIn
	}
	query := u.Query()
	for name, value := range q.Query {
		if v := value.fillString(all); v != "" {
			query.Set(name, v)
		}
	}
	for name, value := range signIn.Query {
		query.Set(name, value.fillString(all))
	}
	u.RawQuery = query.Encode()
	c.URL = u.String()
	c.Header.Set("Accept", "application/json, application/problem+json")
	for _, set := range []map[string]Text{signIn.Header, q.Headers} {
		for name, value := range set {
			v := value.fillString(all)
			if strings.ContainsAny(v, "\r\n\x00") {
				return Call{}, fault.New(fault.Refused, "the header %s would hold a line end", name)
			}
			if v != "" {
				c.Header.Set(name, v)
			}
		}
	}
	if b := signIn.Basic; b != nil {
		pair := b.User.fillString(all) + ":" + b.Secret.fillString(all)
		c.Header.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(pair)))
	}
	if err := q.fill(&c, all); err != nil {
		return Call{}, err
	}
	return c, nil
}

// ourWords puts the host's own words in the place of ours; what the
// host cannot set is refused.
func (d *Description) ourWords(all Vars) error {
	for _, w := range wordKinds {
		kind := w.kind
		ours, _ := all[kind].(string)
		if ours == "" || d.Words[kind] == nil && kind != "visibility" && kind != "right" {
			continue // without a table the host has our words
		}
		if why, cannot := d.Cannot[ours]; cannot {
			return fault.New(fault.Refused, "%s cannot be set to %q on %s: %s", kind, ours, d.Name, why)
		}
		theirs, ok := d.HostWord(kind, ours)
		if !ok {
			return fault.New(fault.Refused, "%s has no %s %q (its description has no such word in [value.%s])", d.Name, kind, ours, kind)
		}
		if fields, several := theirs.(map[string]any); several { // {visibility.closed}
			delete(all, kind)
			for field, v := range fields {
				all[kind+"."+field] = v
			}
			continue
		}
		all[kind] = theirs
	}
	return nil
}

// address makes the address of a request, which never leads out of the host's own.
func (q *Request) address(d *Description, all Vars) (*url.URL, error) {
	if name := emptyPart(q.URL, all); name != "" {
		return nil, fault.New(fault.Unreachable, "{%s} is not known, and the address that %s needs for this would have an empty part", name, d.Name).
			Detail("The address is %s", text.Excerpt(q.URL.Raw(), 100))
	}
	where, err := expand(q.URL, all)
	if err != nil {
		return nil, fault.New(fault.Failed, "the address of a request to %s cannot be made", d.Name).Because(err)
	}
	u, err := url.Parse(where)
	if err == nil && u.Host == "" && strings.HasPrefix(u.Path, "/") {
		// An address that the host named relative to its own (RFC 9110, 10.2.2).
		if base, e := url.Parse(d.Base); e == nil {
			u = base.ResolveReference(u)
		}
	}
	if err != nil || u.Host == "" {
		return nil, fault.New(fault.Failed, "the description of %s makes an address that cannot be read: %s", d.Name, text.Excerpt(where, 80))
	}
	for part := range strings.SplitSeq(u.Path, "/") {
		if part == "." || part == ".." {
			return nil, fault.New(fault.Refused, "a name with dotted parts would lead out of %s's API: %s", d.Name, text.Excerpt(where, 80))
		}
	}
	if !d.Trusts(u.String()) {
		return nil, fault.New(fault.Refused, "the description of %s would send the token to another address: %s", d.Name, text.Excerpt(u.Scheme+"://"+u.Host, 80))
	}
	if !address.Guarded(u.Scheme, u.Host) {
		return nil, fault.New(fault.Refused, "plain http to %s would send the token unencrypted", text.Excerpt(u.Host, 60))
	}
	return u, nil
}

// inPath finds the variables in the path of an address: those that stand for themselves (RFC 6570, sections 3.2.2 and 3.2.3).
var inPath = text.Pattern(`\{\+?([a-z_,]+)(?::[0-9]+)?\*?\}`)

// emptyPart names a variable in the path of an address that has no value: it would lead to something else than what is meant,
// such as to a whole collection.
func emptyPart(t *uritemplate.Template, vars Vars) string {
	path, _, _ := strings.Cut(t.Raw(), "?")
	for _, m := range inPath().FindAllStringSubmatch(path, -1) {
		for name := range strings.SplitSeq(m[1], ",") {
			if written(vars[name]) == "" {
				return name
			}
		}
	}
	return ""
}

// fill writes the body, JSON, a form or parts, with its Content-Type.
func (q *Request) fill(c *Call, all Vars) error {
	switch {
	case q.JSON != nil:
		body, _ := fillBody(q.JSON, all)
		if body == nil {
			body = map[string]any{}
		}
		data, err := json.Marshal(body)
		if err != nil {
			return err
		}
		c.Body = data
		c.kind("application/json")
	case q.Form != nil:
		form := url.Values{}
		for name, value := range q.Form {
			if v := value.fillString(all); v != "" {
				form.Set(name, v)
			}
		}
		c.Body = []byte(form.Encode())
		c.kind("application/x-www-form-urlencoded")
	case q.Multipart != nil:
		return q.parts(c, all)
	}
	return nil
}

// kind says what the body is, unless the description says so itself.
func (c *Call) kind(is string) {
	if c.Header.Get("Content-Type") == "" {
		c.Header.Set("Content-Type", is)
	}
}

// parts writes a body of parts, one for each value that is not empty (RFC 7578).
func (q *Request) parts(c *Call, all Vars) error {
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	for _, name := range slices.Sorted(maps.Keys(q.Multipart)) {
		if v := q.Multipart[name].fillString(all); v != "" {
			if err := w.WriteField(name, v); err != nil {
				return err
			}
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	c.Body = body.Bytes()
	c.Header.Set("Content-Type", w.FormDataContentType())
	return nil
}

// fillBody puts the variables into a body; false says that nothing is left of it.
func fillBody(v any, vars Vars) (any, bool) {
	switch x := v.(type) {
	case Text:
		if x == "" {
			return "", true
		}
		filled := x.fill(vars)
		return filled, filled != nil
	case map[string]any:
		out := map[string]any{}
		for k, item := range x {
			if filled, ok := fillBody(item, vars); ok {
				out[k] = filled
			}
		}
		return out, len(out) > 0 || len(x) == 0
	case []any:
		out := []any{}
		for _, item := range x {
			if filled, ok := fillBody(item, vars); ok {
				out = append(out, filled)
			}
		}
		return out, len(out) > 0 || len(x) == 0
	}
	return v, true
}

// Written gives a value as a string: "" for nil and for what is not a plain value.
func Written(v any) string { return written(v) }

func written(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return x
	case Text:
		return string(x)
	case bool:
		return strconv.FormatBool(x)
	case int64, int, float64:
		return fmt.Sprint(x)
	}
	return ""
}
