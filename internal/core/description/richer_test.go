package description

import (
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/fault"
)

// first loads a description with one more part, and gives the first request of an action in it.
func first(t *testing.T, action, more string) (*Description, *Request) {
	t.Helper()
	d := load(t, []byte(small+more))
	return d, d.Actions[action].Requests[0]
}

const asking = "[[action.identify.request]]\nmethod = \"POST\"\nurl = \"{+base}/ask\"\n"

func answered(kind, body string, headers ...string) Answer {
	h := http.Header{"Content-Type": {kind}}
	for i := 0; i+1 < len(headers); i += 2 {
		h.Add(headers[i], headers[i+1])
	}
	return Answer{Status: 200, Header: h, Body: []byte(body)}
}

func TestBracesStay(t *testing.T) {
	d, q := first(t, "identify", asking+`json = { query = 'query \{viewer(after: "{cursor}") \{login} }', plain = "{user} {x y}" }`)
	c, err := q.Build(d, Vars{"token": "t"})
	require.NoError(t, err)
	assert.JSONEq(t, `{"query":"query {viewer(after: \"\") {login} }"}`, string(c.Body), "a query is sent whole, and other texts are left out where nothing is in them")
	c, err = q.Build(d, Vars{"token": "t", "cursor": "{user}", "user": "tern"})
	require.NoError(t, err)
	assert.JSONEq(t, `{"query":"query {viewer(after: \"{user}\") {login} }","plain":"tern {x y}"}`, string(c.Body), "and no value is looked into")
}

func TestBracesThatAreFilledInAreRemarked(t *testing.T) {
	d, _ := first(t, "identify", asking+`json = { query = 'look {hold {name} }', other = "{owner}/{name}", third = 'look \{hold \{name} after {cursor} }' }`)
	said := strings.Join(d.Remarks, "\n")
	assert.Contains(t, said, `json.query has braces of its own, and {name} is filled in: what is to stay is written \{name}`)
	assert.NotContains(t, said, "json.other")
	assert.NotContains(t, said, "json.third")
}

func TestBodies(t *testing.T) {
	d, q := first(t, "identify", asking+"json = { name = \"{name}\" }\nheaders = { Content-Type = \"application/vnd.skerry+json\" }\n")
	c, err := q.Build(d, Vars{"name": "gauge"})
	require.NoError(t, err)
	assert.Equal(t, "application/vnd.skerry+json", c.Header.Get("Content-Type"))

	d, q = first(t, "identify", asking+"multipart = { name = \"{name}\", key = \"{secret}\", note = \"{text}\" }\n")
	c, err = q.Build(d, Vars{"name": "gäuge\r\n--x", "secret": "s3"})
	require.NoError(t, err)
	kind, params, err := mime.ParseMediaType(c.Header.Get("Content-Type"))
	require.NoError(t, err)
	assert.Equal(t, "multipart/form-data", kind)
	got := map[string]string{}
	for r := multipart.NewReader(strings.NewReader(string(c.Body)), params["boundary"]); ; {
		p, err := r.NextPart()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		data, err := io.ReadAll(p)
		require.NoError(t, err)
		got[p.FormName()] = string(data)
	}
	assert.Equal(t, map[string]string{"name": "gäuge\r\n--x", "key": "s3"}, got)
}

func TestAnswersInXML(t *testing.T) {
	d, q := first(t, "identify", asking+`read = { user = "$.person[0].login[0]['#']", id = "$.person[0]['@id']", scopes = "$.person[0].may[*].scope[*]['#']" }`+"\n")
	r, err := q.Read(d, answered("application/xml; charset=utf-8", `<?xml version="1.0"?><s:person id="7" xmlns:s="urn:s"><login> tern </login><may><scope>look</scope><scope>dig</scope></may></s:person>`), nil)
	require.NoError(t, err)
	assert.Equal(t, "tern", r.Fields["user"])
	assert.Equal(t, "7", r.Fields["id"])
	for _, bad := range []string{`<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>`, "<a>", strings.Repeat("<a>", 100) + strings.Repeat("</a>", 100), "<a>\xff</a>", `<?xml version="1.0" encoding="latin1"?><a/>`, "text"} {
		_, err := q.Read(d, answered("text/xml", bad), nil)
		assert.ErrorContains(t, err, "not XML that can be read", bad)
	}
}

func TestOneOfSeveralIsChosen(t *testing.T) {
	d, q := first(t, "repository-show", "[[action.repository-show.request]]\nurl = \"{+base}/seek{?name}\"\nchoose = { from = \"$.found\", where = \"$.full\", is = \"{path}\" }\nkeep = { number = \"$.no\" }\nread = { id = \"$.no\" }\n")
	body := `{"found":[{"full":"tern/gauge-old","no":1},{"full":"tern/gauge","no":2}]}`
	r, err := q.Read(d, answered("application/json", body), Vars{"path": "tern/gauge"})
	require.NoError(t, err)
	assert.EqualValues(t, 2, r.Fields["id"])
	assert.EqualValues(t, 2, r.Kept["number"])
	for path, body := range map[string]string{"tern/gau": body, "": body, "tern/gauge": `{"found":[]}`} {
		_, err = q.Read(d, answered("application/json", body), Vars{"path": path})
		assert.ErrorIs(t, err, ErrNone, path)
	}
}

func TestEmptyPartsAreNeverAsked(t *testing.T) {
	d, q := first(t, "repository-delete", "[[action.repository-delete.request]]\nmethod = \"DELETE\"\nurl = \"{+base}/repositories/{id}{?state}\"\n")
	_, err := q.Build(d, Vars{"token": "t"})
	require.True(t, fault.Is(err, fault.Unreachable))
	assert.ErrorContains(t, err, "{id} is not known, and the address")
	c, err := q.Build(d, Vars{"token": "t", "id": "7"})
	require.NoError(t, err)
	assert.Equal(t, "https://skua.example/repositories/7", c.URL)
	d, q = first(t, "identify", asking+"keep = { id = \"$.id\", other = \"$.other\" }\n")
	r, err := q.Read(d, answered("application/json", `{"other":null}`), nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"id"}, r.Lost, "null is a value, and a missing one is not")
}

func TestTimesOfAnyLayout(t *testing.T) {
	for _, c := range []struct{ value, told, want string }{
		{"time = \"%d.%m.%Y %H:%M\"\nzone = \"+02:00\"", `"29.11.2026 08:30"`, "2026-11-29T06:30:00Z"},
		{"time = \"%d %b %Y %I:%M %p %z\"", `"29 Nov 2026 08:30 PM -0100"`, "2026-11-29T21:30:00Z"},
		{"zone = \"UTC\"", `"2026-11-29T08:30:00"`, "2026-11-29T08:30:00Z"},
		{"zone = \"Etc/GMT-3\"", `"2026-11-29 08:30:00"`, "2026-11-29T05:30:00Z"},
		{"", `"2026-11-29T08:30:00+01:00"`, "2026-11-29T07:30:00Z"},
		{"", `"2026-11-29 08:30:00"`, ""},
		{"", `"2026-11-29"`, "2026-11-29T00:00:00Z"},
		{"time = \"epoch\"", `"1795478400"`, "2026-11-24T00:00:00Z"},
		{"time = \"epoch\"", `1795478400000`, "2026-11-24T00:00:00Z"},
	} {
		d, q := first(t, "identify", "[value]\n"+c.value+"\n"+asking+"read = { expires = \"$.ends\" }\n")
		r, err := q.Read(d, answered("application/json", `{"ends":`+c.told+`}`), nil)
		require.NoError(t, err)
		if at, ok := r.Fields["expires"].(time.Time); c.want != "" && assert.True(t, ok, "%s %s", c.value, c.told) {
			assert.Equal(t, c.want, at.Format(time.RFC3339))
		}
		assert.Equal(t, c.want == "", len(r.Odd) == 1, "what cannot be read is told of: %s", c.told)
	}
}

func TestValuesOfManyForms(t *testing.T) {
	d, q := first(t, "identify", "[value.right]\nmask = true\nread = 1\nwrite = 3\nadmin = 7\n[value.visibility]\nprivate = { closed = true, shared = false }\nmembers = { closed = true, shared = true }\npublic = { closed = false }\n"+
		asking+"json = { closed = \"{visibility.closed}\", shared = \"{visibility.shared}\" }\nread = { right = \"$.bits\", visibility = \"$\", scopes = \"$.may\" }\n")
	for bits, want := range map[string]string{"1": "read", "2": "", "11": "write", `"15"`: "admin", "0": ""} {
		r, err := q.Read(d, answered("application/json", `{"bits":`+bits+`,"closed":true,"shared":true,"may":"look dig"}`), nil)
		require.NoError(t, err)
		assert.Equal(t, want, r.Fields["right"], bits)
		assert.Equal(t, "members", r.Fields["visibility"])
		assert.Equal(t, []string{"look", "dig"}, r.Fields["scopes"])
	}
	c, err := q.Build(d, Vars{"token": "t", "visibility": "private"})
	require.NoError(t, err)
	assert.JSONEq(t, `{"closed":true,"shared":false}`, string(c.Body))

	d = load(t, []byte(small+"[scopes]\nread = [\"look\"]\nwrite = [\"dig\"]\ndelete = [\"sink\"]\n[implies]\nall = [\"dig\", \"sink\"]\ndig = [\"look\"]\n"))
	assert.Empty(t, d.Lacking([]string{"all"}, []string{"read", "write", "delete"}))
	assert.Equal(t, []string{"sink"}, d.Lacking([]string{"dig"}, []string{"read", "write", "delete"}))
	assert.Equal(t, []string{"dig"}, d.LeastScopes("write"), "dig holds look")
}

func TestCookieSignIn(t *testing.T) {
	d := load(t, []byte(strings.Replace(small, "[signin]\n", "[signin]\n", 1)+"[signin.exchange]\nurl = \"{+base}/in\"\nform = { key = \"{kept_token}\" }\nread = { secret = \"cookie reef\" }\n"))
	token, _, err := d.SignIn.Exchange.Short(d, answered("text/plain", "", "Set-Cookie", "other=1", "Set-Cookie", "reef=abc%20d; HttpOnly; Path=/"), time.Now())
	require.NoError(t, err)
	assert.Equal(t, "abc%20d", token)
	d = load(t, []byte(small+"[signin.exchange]\nurl = \"{+base}/in\"\nform = { key = \"{kept_token}\" }\nsecret = \"cookie reef\"\n"))
	token, _, err = d.SignIn.Exchange.Short(d, answered("text/html", "<p>Welcome", "Set-Cookie", "reef=x1; Path=/"), time.Now())
	require.NoError(t, err)
	assert.Equal(t, "x1", token)
}

func TestWhetherThereIsMore(t *testing.T) {
	d, q := first(t, "owner-list", "[[action.owner-list.request]]\nurl = \"{+base}/owners{?cursor}\"\nitems = \"$.all\"\nread = { name = \"$.name\" }\npage = { by = \"cursor\", at = \"$.end\", more = \"$.more\", total = \"$.count\" }\n")
	r, err := q.Read(d, answered("application/json", `{"all":[{"name":"tern"}],"end":"c1","more":true,"count":2}`), nil)
	require.NoError(t, err)
	assert.Equal(t, Vars{"cursor": "c1"}, r.Next)
	assert.Equal(t, 2, r.Total)
	r, err = q.Read(d, answered("application/json", `{"all":[{"name":"tern"}],"end":"c2","more":false}`), nil)
	require.NoError(t, err)
	assert.Nil(t, r.Next)
	assert.True(t, r.Ended)
}

// FuzzParseXML reads whatever a host may call XML.
func FuzzParseXML(f *testing.F) {
	f.Add([]byte(`<?xml version="1.0"?><a b="c"><d>e</d><!-- f --><d/></a>`))
	f.Add([]byte(`<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>`))
	f.Fuzz(func(t *testing.T, data []byte) {
		v, err := parseXML(data)
		if m, ok := v.(map[string]any); err == nil && v != nil && (!ok || len(m) != 1) {
			t.Fatal("a document has one root")
		}
	})
}
