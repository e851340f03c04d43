package description

import (
	"encoding/base64"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/descriptions"
	"uncinate/internal/core/fault"
)

func load(t *testing.T, data []byte) *Description {
	t.Helper()
	d, mistakes := Load(data)
	require.Empty(t, mistakes)
	return d
}

func gannet(t *testing.T) *Description {
	t.Helper()
	data, err := descriptions.Files.ReadFile("gannet.toml")
	require.NoError(t, err)
	return load(t, data)
}

func onPaper(t *testing.T, name string) *Description {
	t.Helper()
	data, err := os.ReadFile("../../../descriptions/" + name + ".toml")
	require.NoError(t, err)
	return load(t, data)
}

const small = `language = 1
name = "skua"
base = "https://skua.example"
[address]
https = "{+base}/{owner}/{name}.git"
[signin]
header = { Authorization = "Bearer {token}" }
`

func TestMistakesHavePlaces(t *testing.T) {
	for name, c := range map[string]struct {
		add  string // behind the small description
		want string
	}{
		"an unknown table":     {"[acton.identify]\n", `line 8, column 2: the file's top has no key "acton"; did you mean "action"?`},
		"an unknown action":    {"[action.identfy]\nby = \"page\"\n", `line 8, column 2: [action] has no key "identfy"; did you mean "identify"?`},
		"an unknown key":       {"[[action.identify.request]]\nurl = \"{+base}/me\"\nmetod = \"GET\"\n", `line 10, column 1: [action.identify.request[0]] has no key "metod"; did you mean "method"?`},
		"in an inline table":   {"[[action.identify.request]]\nurl = \"{+base}/me\"\nread = { usr = \"$.name\" }\n", `line 10, column 10: "usr" is not a known field; did you mean "user"?`},
		"in the second":        {"[[action.identify.request]]\nurl = \"{+base}/me\"\n[[action.identify.request]]\nurl = \"{+base}/{ownr}\"\n", `line 11, column 1: there is no variable {ownr}; did you mean "owner"?`},
		"another origin":       {"[[action.identify.request]]\nurl = \"https://elsewhere.example/me\"\n", `line 9, column 1: this leads to https://elsewhere.example, which is neither the origin of "base" nor named by addresses under [trust]`},
		"any host":             {"[[action.identify.request]]\nurl = \"https://{owner}.skerry.example/me\"\n", `the host in this address must be the same for every repository`},
		"a variable in a path": {"[[action.identify.request]]\nurl = \"{+base}/me\"\nread = { user = \"$.of[?@.name == '{user}'].id\" }\n", `a path holds no variables such as {user}; "choose" takes`},
		"an unknown brace":     {"[[action.identify.request]]\nurl = \"{+base}/me\"\nmethod = \"POST\"\njson = { query = \"query {viewerlogin}\" }\n", `there is no variable {viewerlogin}; in a text, a brace that is to stay is written \{`},
		"two bodies":           {"[[action.identify.request]]\nurl = \"{+base}/me\"\nmethod = \"POST\"\njson = { a = \"b\" }\nmultipart = { a = \"b\" }\n", `line 12, column 1: a request has one body: json, form or multipart`},
		"a layout":             {"[value]\ntime = \"%Q\"\n", `line 9, column 1: the layout holds %Q, which is not known`},
		"a zone":               {"[value]\nzone = \"Skerry/Nowhere\"\n", `line 9, column 1: no zone of that name is known here`},
		"a mask of words":      {"[value.right]\nread = \"r\"\nmask = true\n", `line 9, column 1: of a mask of bits each value is a number above zero`},
		"half a choice":        {"[[action.identify.request]]\nurl = \"{+base}/me\"\nchoose = { from = \"$\", where = \"$.id\" }\n", `"where" and "is" go together`},
		"a broken template":    {"[page]\ntoken = \"{+base\"\n", `line 9, column 1: "{+base" is not a URI template`},
		"a broken path":        {"[shape.repository]\nid = \"$.[\"\n", `line 9, column 1: "$.[" is not a JSONPath`},
		"a search":             {"[shape.repository]\nid = \"$..id\"\n", `line 9, column 1: "$..id" searches at all depths`},
		"not a place":          {"[shape.repository]\nid = \"id\"\n", `begins neither with "$" nor with "header "`},
		"a wrong type":         {"[scopes]\nread = \"r\"\n", `line 9, column 1: "read" must be a list of strings`},
		"a wrong meaning":      {"[[refusal]]\nstatus = 409\nmeans = \"name-taken!\"\n", `line 10, column 1: "name-taken!" is not a known meaning; did you mean "name-taken"?`},
		"a wrong value":        {"[value.visibility]\nprivat = true\n", `line 9, column 1: [value.visibility] has no key "privat"; did you mean "private"?`},
		"a shape that is not":  {"[[action.repository-show.request]]\nurl = \"{+base}\"\nread = \"repo\"\n", `line 10, column 1: there is no [shape.repo]`},
		"no request":           {"[action.identify]\nneeds = [\"raed\"]\n", `did you mean "read"?`},
		"an address missing":   {"[[action.identify.request]]\nmethod = \"GET\"\n", `line 8, column 3: the request has no "url"`},
		"two sign-ins":         {"query = { t = \"{token}\" }\n", `exactly one of header, query and basic, and 2 are given`},
		"a paging unknown":     {"[[action.repository-list.request]]\nurl = \"{+base}\"\npage = { by = \"curser\", at = \"$.n\" }\n", `did you mean "cursor"?`},
		"TOML itself":          {"[page\n", `line 8, column 6`},
		"twice":                {"name = \"x\"\n[address]\n", `line 9`},
	} {
		d, mistakes := Load([]byte(small + c.add))
		assert.Nil(t, d, name)
		require.NotEmpty(t, mistakes, name)
		var all []string
		for _, m := range mistakes {
			all = append(all, m.String())
		}
		assert.Contains(t, strings.Join(all, "\n"), c.want, name)
	}
	for says, whole := range map[string]string{
		`the key "language" is missing`:   "name = \"x\"\n",
		"knows version 1":                 strings.Replace(small, "language = 1", "language = 2", 1),
		"plain http would send the token": strings.Replace(small, "https://skua", "http://skua", 1),
		"is not an address like":          strings.Replace(small, "https://skua.example", "skua", 1),
		"neither user, query":             strings.Replace(small, "https://skua", "https://u:p@skua", 1),
		`neither "https" nor "ssh"`:       strings.Replace(small, "https = ", "page = ", 1),
		"small letters":                   strings.Replace(small, `"skua"`, `"../skua"`, 1),
		"larger than":                     small + strings.Repeat("#", Most),
	} {
		d, mistakes := Load([]byte(whole))
		assert.Nil(t, d)
		require.NotEmpty(t, mistakes, says)
		assert.Contains(t, mistakes[0].String(), says)
	}
}

func TestUnlikeDescriptionsLoad(t *testing.T) {
	petrel, fulmar := onPaper(t, "petrel"), onPaper(t, "fulmar")
	assert.Empty(t, petrel.Later)
	assert.Empty(t, fulmar.Later)
	assert.Equal(t, &Paging{By: "number", Total: fulmar.Actions["repository-list"].Requests[0].Paging.Total, Size: 100, First: 1}, fulmar.Actions["repository-list"].Requests[0].Paging)
	wait := petrel.Actions["repository-create"].Requests[1].Wait
	assert.Equal(t, []time.Duration{100 * time.Millisecond, 2 * time.Minute}, []time.Duration{wait.Every, wait.Most})
}

func TestBuild(t *testing.T) {
	vars := Vars{"token": "plunge~5", "user": "tern", "owner": "tern", "name": "gauge", "visibility": "members", "description": "", "default_branch": "main"}
	c, err := gannet(t).Actions["repository-create"].Requests[0].Build(gannet(t), vars)
	require.NoError(t, err)
	assert.Equal(t, []string{"POST", "https://gannet.example/deck/hulls", "plunge~5"}, []string{c.Method, c.URL, c.Header.Get("Gannet-Token")})
	assert.JSONEq(t, `{"flag":"tern","name":"gauge","reach":"deck","main":"main"}`, string(c.Body), "an empty value is left out")

	vars["description"] = Blank{}
	c, err = gannet(t).Actions["repository-change"].Requests[0].Build(gannet(t), vars)
	require.NoError(t, err)
	assert.Contains(t, string(c.Body), `"about":""`, "a blank one is sent")

	petrel := onPaper(t, "petrel")
	vars["description"], vars["group"], vars["owner"] = "x", int64(7), "coast/gauges"
	vars["visibility"] = "private"
	look, create := petrel.Actions["repository-create"].Requests[0], petrel.Actions["repository-create"].Requests[1]
	assert.True(t, look.Wanted(petrel, vars))
	c, err = create.Build(petrel, vars)
	require.NoError(t, err)
	assert.JSONEq(t, `{"label":"gauge","blurb":"x","closed":true,"cliff":7,"options":{"head":"refs/heads/main"}}`, string(c.Body), "types are kept")
	assert.Equal(t, "Bearer plunge~5", c.Header.Get("Authorization"))
	assert.False(t, look.Wanted(petrel, Vars{"owner": "tern", "user": "tern"}), "for oneself no group is looked up")
	vars["visibility"] = "members"
	_, err = create.Build(petrel, vars)
	assert.True(t, fault.Is(err, fault.Refused))
	assert.Contains(t, err.Error(), "from the group")

	fulmar := onPaper(t, "fulmar")
	c, err = fulmar.Actions["repository-list"].Requests[0].Build(fulmar, Vars{"user": "tern", "token": "s3", "page": int64(2)})
	require.NoError(t, err)
	assert.Equal(t, "Basic "+base64.StdEncoding.EncodeToString([]byte("tern:s3")), c.Header.Get("Authorization"))
	assert.JSONEq(t, `{"please":"list sheets","with":{"page":2,"per":100}}`, string(c.Body))
}

func TestBuildKeepsTheTokenAtHome(t *testing.T) {
	d := gannet(t)
	show := d.Actions["repository-show"].Requests[0]
	for _, name := range []string{"..", "."} {
		_, err := show.Build(d, Vars{"token": "t", "owner": "tern", "name": name})
		assert.True(t, fault.Is(err, fault.Refused), name)
	}
	c, err := show.Build(d, Vars{"token": "t", "owner": "a/b?c", "name": "x#y"})
	require.NoError(t, err)
	assert.Equal(t, "https://gannet.example/deck/hull/a%2Fb%3Fc/x%23y", c.URL)
	_, err = show.Build(d, Vars{"token": "t\r\nEvil: x", "owner": "a", "name": "b"})
	assert.True(t, fault.Is(err, fault.Refused))
	evil := load(t, []byte(small+"[[action.identify.request]]\nurl = \"{+base}/me\"\nkeep = { more = \"$.more\" }\n[[action.identify.request]]\nurl = \"{+more}\"\n"))
	_, err = evil.Actions["identify"].Requests[1].Build(evil, Vars{"token": "t", "more": "https://elsewhere.example/me"})
	require.True(t, fault.Is(err, fault.Refused))
	assert.Contains(t, err.Error(), "would send the token to another address")
}

func TestReadAnswers(t *testing.T) {
	d := gannet(t)
	show := d.Actions["repository-show"].Requests[0]
	r, err := show.Read(d, Answer{Status: 200, Header: http.Header{"Etag": {`"g1-3"`}}, Body: []byte(`{"id":"g1","owner":"tern","name":"gauge","reach":"shore","main":"main","made":"2026-11-24T06:00:00Z","empty":false,"clone":{}}`)}, nil)
	require.NoError(t, err)
	repo, err := d.RepositoryFrom(r.Fields)
	require.NoError(t, err)
	no := false
	assert.Equal(t, Repository{ID: "g1", Owner: "tern", Name: "gauge", Visibility: "public", DefaultBranch: "main", Empty: &no, Version: `"g1-3"`,
		Created: time.Date(2026, 11, 24, 6, 0, 0, 0, time.UTC), Page: "https://gannet.example/tern/gauge", HTTPS: "https://gannet.example/tern/gauge.git"}, repo)
	repo, err = d.WithSSH(repo)
	require.NoError(t, err)
	assert.Equal(t, "ssh://git@gannet.example/tern/gauge.git", repo.SSH)

	for told, good := range map[string]bool{"https://gannet.example/other/path.git": true, "https://evil.example/tern/gauge.git": false, "http://gannet.example/tern/gauge.git": false,
		"https://gannet.example.evil.example/x/y": false, "https://gannet.example:8443/x/y": false, "ext::sh": false} {
		_, err := d.RepositoryFrom(map[string]any{"owner": "tern", "name": "gauge", "https": told})
		assert.Equal(t, good, err == nil, told)
	}

	petrel := onPaper(t, "petrel")
	list := petrel.Actions["repository-list"].Requests[0]
	r, err = list.Read(petrel, Answer{Status: 200, Header: http.Header{"Link": {`<https://petrel.example/burrow/nests?p=1>; rel="prev", </burrow/nests?p=3>; rel="last next"`}},
		Body: []byte(`[{"oid":9007199254740993,"path":"coast/gauges/north","closed":true,"head":"refs/heads/trunk"}]`)}, nil)
	require.NoError(t, err)
	assert.Equal(t, "/burrow/nests?p=3", r.Link)
	repo, err = petrel.RepositoryFrom(r.Items[0])
	require.NoError(t, err)
	assert.Equal(t, []string{"9007199254740993", "coast/gauges", "north", "private", "trunk"}, []string{repo.ID, repo.Owner, repo.Name, repo.Visibility, repo.DefaultBranch})

	fulmar := onPaper(t, "fulmar")
	r, err = fulmar.Actions["repository-show"].Requests[0].Read(fulmar, Answer{Status: 200, Body: []byte(`{"found":{"no":4,"shelf":"tides","title":"almanac","open":0,"links":[{"kind":"ssh","to":"s"},{"kind":"http","to":"https://fulmar.example/shelves/tides/almanac"}]}}`)}, nil)
	require.NoError(t, err)
	assert.Equal(t, "https://fulmar.example/shelves/tides/almanac", r.Fields["https"])
	assert.Equal(t, "members", r.Fields["visibility"])

	id, err := d.Actions["identify"].Requests[1].Read(d, Answer{Status: 200, Body: []byte(`{"active":true,"scope":"self look","exp":1795478400}`)}, nil)
	require.NoError(t, err)
	who := IdentityFrom(id.Fields)
	assert.Equal(t, []string{"self", "look"}, who.Scopes)
	assert.Equal(t, 2026, who.Expires.Year())
	for _, garbage := range []string{"<html>", "{} {}", "[1", strings.Repeat("[", 20000)} {
		_, err := show.Read(d, Answer{Status: 200, Body: []byte(garbage)}, nil)
		assert.True(t, fault.Is(err, fault.Unreachable), garbage[:2])
	}
}

func TestRefused(t *testing.T) {
	fulmar := onPaper(t, "fulmar")
	for body, want := range map[string]Meaning{`{"regret":{"no":61,"line":"in use"}}`: NameTaken, `{"regret":{"no":11}}`: NotSignedIn} {
		m, _, refused := fulmar.Refused(Answer{Status: 200, Body: []byte(body)})
		assert.True(t, refused)
		assert.Equal(t, want, m)
	}
	_, _, refused := fulmar.Refused(Answer{Status: 200, Body: []byte(`{"found":{}}`)})
	assert.False(t, refused)
	d := gannet(t)
	for status, want := range map[int]Meaning{401: NotSignedIn, 402: PlanLimit, 403: Denied, 404: NotFound, 410: NotFound, 405: NotSupported, 412: Changed, 422: Invalid, 429: RateLimit, 500: Down, 503: Down} {
		m, words, refused := d.Refused(Answer{Status: status, Body: []byte(`{"detail":"the \u001b[31mhost's words"}`)})
		assert.True(t, refused)
		assert.Equal(t, want, m, status)
		assert.Equal(t, `the \x1b[31mhost's words`, words)
	}
	m, words, _ := onPaper(t, "petrel").Refused(Answer{Status: 400, Body: []byte(`{"label":{"fault":"occupied","says":"is in use"}}`)})
	assert.Equal(t, NameTaken, m)
	assert.Contains(t, words, "is in use")
}

func TestRecognise(t *testing.T) {
	d, petrel := gannet(t), onPaper(t, "petrel")
	for in, want := range map[string]string{
		"https://gannet.example/tern/gauge":                 "tern gauge",
		"https://gannet.example/tern/gauge.git":             "tern gauge",
		"https://gannet.example/tern/gauge/":                "tern gauge",
		"https://gannet.example/tern/gauge/at/main":         "tern gauge",
		"https://gannet.example/tern/gauge/at/main/src/a.c": "tern gauge",
		"ssh://git@gannet.example/tern/gauge.git":           "tern gauge",
		"https://gannet.example/tern":                       "",
		"https://other.example/tern/gauge":                  "",
		"https://gannet.example.evil.example/tern/gauge":    "",
		"https://gannet.example/tern/gauge/elsewhere":       "",
	} {
		owner, name, ok := d.Recognise(in)
		assert.Equal(t, want, strings.TrimSpace(owner+" "+name), in)
		assert.Equal(t, want != "", ok, in)
	}
	owner, name, _ := petrel.Recognise("https://petrel.example/nest/coast/gauges/north.git")
	assert.Equal(t, []string{"coast/gauges", "north"}, []string{owner, name})
}

func TestNextLink(t *testing.T) {
	for in, want := range map[string]string{
		`<a>; rel=next`:   "a",
		`<a>; rel="prev"`: "",
		`<a>; title="x, <b>; rel=next"; rel=last, <c>; REL="first NEXT"`: "c",
		`<a`:               "",
		``:                 "",
		`<a>,<b>;rel=next`: "b",
		`<>; rel=next`:     "",
	} {
		assert.Equal(t, want, NextLink([]string{in}), in)
	}
}

func FuzzLoad(f *testing.F) {
	f.Add([]byte(small))
	for _, name := range []string{"petrel", "fulmar"} {
		data, err := os.ReadFile("../../../descriptions/" + name + ".toml")
		require.NoError(f, err)
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		d, mistakes := Load(data)
		if (d == nil) == (len(mistakes) == 0) {
			t.Fatal("neither a description nor a mistake, or both")
		}
		for _, m := range mistakes {
			if m.Line < 1 || m.Column < 1 {
				t.Fatalf("no place: %v", m)
			}
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"id":1,"owner":"a","name":"b"}`), "<x>; rel=next")
	f.Add([]byte(`[{"oid":1}]`), "")
	data, err := os.ReadFile("../../../descriptions/petrel.toml")
	require.NoError(f, err)
	d, _ := Load(data)
	f.Fuzz(func(t *testing.T, body []byte, link string) {
		a := Answer{Status: 200, Header: http.Header{"Link": {link}}, Body: body}
		d.Refused(a)
		for _, action := range d.Actions {
			for _, q := range action.Requests {
				if r, err := q.Read(d, a, nil); err == nil {
					for _, item := range append(r.Items, r.Fields) {
						_, _ = d.RepositoryFrom(item)
						IdentityFrom(item)
					}
				}
			}
		}
	})
}
