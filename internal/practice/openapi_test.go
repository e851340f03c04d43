package practice

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"uncinate/internal/core/description"
	"uncinate/internal/core/sshkey"
)

// published is what of an OpenAPI document (OpenAPI 3.0 and 3.1, "Paths Object") is asked here.
type published struct {
	Servers []struct{ URL string }
	Paths   map[string]map[string]yaml.Node
}

// operation is one of its operations.
type operation struct {
	method, path string
	RequestBody  struct {
		Content map[string]struct{ Schema node }
	} `yaml:"requestBody"`
	Parameters []struct{ Name, In string }
	Responses  map[string]yaml.Node
}

// node is a schema.
type node struct {
	Enum       []any
	Properties map[string]node
	OneOf      []node `yaml:"oneOf"`
}

// order has what makes things before what needs them, and what removes them last.
var order = []string{"post", "get", "patch", "put", "delete"}

func operations(t *testing.T, host string) (base string, all []operation) {
	t.Helper()
	data, err := OpenAPI(host)
	require.NoError(t, err)
	var p published
	require.NoError(t, yaml.Unmarshal(data, &p))
	for path, methods := range p.Paths {
		for method, n := range methods {
			if !slices.Contains(order, method) {
				continue
			}
			o := operation{method: method, path: path}
			require.NoError(t, n.Decode(&o), "%s %s", method, path)
			all = append(all, o)
		}
	}
	slices.SortFunc(all, func(a, b operation) int {
		if c := slices.Index(order, a.method) - slices.Index(order, b.method); c != 0 {
			return c
		}
		if a.method == "delete" { // the whole after its parts
			whole := func(o operation) int {
				return slices.Index([]string{"/hull/{owner}/{name}", "/nests/{oid}"}, o.path)
			}
			return cmp.Or(cmp.Compare(whole(a), whole(b)), strings.Count(b.path, "/")-strings.Count(a.path, "/"))
		}
		return strings.Compare(a.path, b.path)
	})
	_, after, _ := strings.Cut(strings.TrimPrefix(p.Servers[0].URL, "https://"), "/")
	return "/" + after, all
}

// TestEveryPublishedAddressAnswers asks every operation of every practice host's OpenAPI document, with
// a body that it documents: each answers with a status that is documented for it.
func TestEveryPublishedAddressAnswers(t *testing.T) {
	for _, host := range Hosts {
		t.Run(host, func(t *testing.T) {
			h, err := Start(host, t.TempDir(), "127.0.0.1:0", nil)
			require.NoError(t, err)
			t.Cleanup(func() { require.NoError(t, h.Close()) })
			tokens, err := h.Demo()
			require.NoError(t, err)
			spare, err := h.NewToken("tern", time.Now().Add(time.Hour)) // for what revokes one
			require.NoError(t, err)
			r, err := h.Store.Create(t.Context(), "tern", Repo{Owner: "tern", Name: "gauge", Visibility: "private"})
			require.NoError(t, err)
			dir := h.Store.GitDir(r.ID)
			tree, err := h.Store.run(t.Context(), dir, "mktree")
			require.NoError(t, err)
			for _, branch := range []string{"main", "tide"} {
				c := gitCommand(t.Context(), "-C", dir, "-c", "user.name=Tern", "-c", "user.email=tern@gannet.example", "commit-tree", tree, "-m", branch)
				tip, err := c.Output()
				require.NoError(t, err)
				_, err = h.Store.run(t.Context(), dir, "update-ref", "refs/heads/"+branch, strings.TrimSpace(string(tip)))
				require.NoError(t, err)
			}
			a := &caller{t: t, h: h, token: tokens[0].Secret, spare: spare.Secret,
				known: map[string]any{"owner": "tern", "name": "gauge", "oid": oid("n", r.ID), "uid": uid("tern"), "shelf": "tern", "cliff": "tern", "nest": "gauge", "branch": "tide", "haven": "main", "from_flag": "tern", "from_hull": "gauge", "number": 1, "commit": strings.Repeat("0", 40), "title": "Tide", "chick": "refs/heads/tide", "toward": "refs/heads/main", "bird": "knot", "onto": oid("g", "tern"), "head": "refs/heads/main", "login": "knot"}}
			base, all := operations(t, host)
			require.NotEmpty(t, all)
			for _, o := range all {
				a.operation(base, o)
			}
		})
	}
}

type caller struct {
	t            *testing.T
	h            *Running
	token, spare string
	made         int
	known        map[string]any // values for parameters and bodies, by name
}

// operation asks one: with each of its bodies where it has several.
func (a *caller) operation(base string, o operation) {
	bodies := []map[string]any{nil}
	kind := ""
	for k, c := range o.RequestBody.Content {
		kind, bodies = k, nil
		for _, s := range append(c.Schema.OneOf, c.Schema) {
			if len(s.Properties) > 0 {
				bodies = append(bodies, a.body(s))
			}
		}
	}
	slices.SortStableFunc(bodies, func(x, y map[string]any) int { return late(x) - late(y) })
	for _, b := range bodies {
		a.ask(base, o, kind, b)
	}
}

// late puts what moves or strikes a sheet behind what only reads it.
func late(body map[string]any) int {
	please := fmt.Sprint(body["please"])
	switch {
	case strings.HasPrefix(please, "word to"):
		return 2
	case strings.HasPrefix(please, "strike"):
		return 3
	case strings.HasPrefix(please, "move"):
		return 1
	}
	return 0
}

// body makes a body of a schema: the first of what an enumeration allows, or a value that is known.
func (a *caller) body(s node) map[string]any {
	out := map[string]any{}
	for name, p := range s.Properties {
		switch {
		case name == "token":
			out[name] = a.spare
		case len(p.Properties) > 0:
			out[name] = a.body(p)
		case name == "line" || name == "public" || name == "text":
			out[name] = publicKey(a.t)
		case len(p.Enum) > 0:
			out[name] = p.Enum[0]
		case name == "reach":
			out[name] = "hold"
		case name == "flag" || name == "into":
			out[name] = "saltmarsh"
		case name == "who":
			out[name] = "knot"
		case name == "head":
			out[name] = "refs/heads/main"
		case name == "closed":
			out[name] = true
		case name == "page" || name == "per":
			out[name] = 1
		case a.known[name] != nil && name != "name" && name != "cliff":
			out[name] = a.known[name]
		case name == "name" || name == "label":
			a.made++
			out[name] = fmt.Sprint("made-", a.made)
		}
	}
	return out
}

func (a *caller) ask(base string, o operation, kind string, body map[string]any) {
	t := a.t
	path := o.path
	query := []string{}
	for name, v := range a.known {
		path = strings.ReplaceAll(path, "{"+name+"}", fmt.Sprint(v))
	}
	if strings.Contains(path, "{id}") {
		path = strings.ReplaceAll(path, "{id}", fmt.Sprint(a.known["id "+strings.TrimSuffix(o.path, "/{id}")]))
	}
	for _, p := range o.Parameters {
		if v := a.known[p.Name]; p.In == "query" && v != nil {
			query = append(query, p.Name+"="+fmt.Sprint(v))
		}
	}
	require.NotContains(t, path, "{", "%s %s", o.method, o.path)
	if with, ok := body["with"].(map[string]any); ok {
		a.fill(fmt.Sprint(body["please"]), with)
	}
	var in io.Reader
	if strings.Contains(kind, "json") {
		data, err := json.Marshal(body)
		require.NoError(t, err)
		in = bytes.NewReader(data)
	} else if kind != "" {
		in = strings.NewReader("token=" + a.spare)
	}
	at := strings.TrimSuffix(base, "/") + path
	if len(query) > 0 {
		at += "?" + strings.Join(query, "&")
	}
	q, err := http.NewRequest(strings.ToUpper(o.method), a.h.URL+at, in)
	require.NoError(t, err)
	token := a.token
	if a.h.Name == "petrel" && strings.Contains(o.path, "token") {
		token = a.spare
	}
	q.Header.Set("Content-Type", kind)
	a.signIn(q, token)
	r, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer r.Body.Close()
	answer, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	_, documented := o.Responses[fmt.Sprint(r.StatusCode)]
	assert.True(t, documented, "%s %s with %v: status %d is not documented: %s", q.Method, at, body, r.StatusCode, answer)
	a.learn(o, r, answer, body)
}

// signIn signs in as the host's description says.
func (a *caller) signIn(q *http.Request, token string) {
	data, err := os.ReadFile("../../descriptions/" + a.h.Name + ".toml")
	require.NoError(a.t, err)
	var d struct {
		SignIn struct {
			Header map[string]string
			Basic  struct{ User, Secret string }
		} `toml:"signin"`
	}
	require.NoError(a.t, toml.Unmarshal(data, &d))
	with := strings.NewReplacer("{token}", token, "{user}", "tern")
	for name, value := range d.SignIn.Header {
		q.Header.Set(name, with.Replace(value))
	}
	if b := d.SignIn.Basic; b.Secret != "" {
		q.SetBasicAuth(with.Replace(b.User), with.Replace(b.Secret))
	}
}

// fill puts in what one operation of a host of one address learned for another.
func (a *caller) fill(please string, with map[string]any) {
	if with["title"] != nil || (strings.Contains(please, "sheet") || strings.Contains(please, "hand")) && please != "list sheets" {
		with["title"] = "gauge"
	}
	switch please {
	case "new sheet":
		with["title"] = "fresh"
	case "set sheet":
		delete(with, "rename")
		with["fairway"] = "main"
	case "move sheet":
		with["title"] = "fresh"
	case "strike sheet":
		with["word"] = a.known["word"]
	case "strike key":
		with["no"] = a.known["no"]
	}
}

// learn keeps what later operations need: ids, jobs, words, a new token.
func (a *caller) learn(o operation, r *http.Response, answer []byte, body map[string]any) {
	var v struct {
		ID, OID, Token, Name string
		Found                struct{ No, Word string }
		Regret               any
	}
	_ = json.Unmarshal(answer, &v) // a list, or nothing, has none of it
	assert.Nil(a.t, v.Regret, "%v: %s", body, answer)
	if o.method == "post" && v.ID+v.OID != "" {
		a.known["id "+o.path] = v.ID + v.OID
	}
	if at := r.Header.Get("Location"); at != "" {
		a.known["id /jobs"] = at[strings.LastIndexByte(at, '/')+1:]
	}
	if v.Token != "" {
		a.spare = v.Token
	}
	if v.Found.Word != "" {
		a.known["word"] = v.Found.Word
	}
	if o.method == "patch" && v.Name != "" {
		a.known["name"] = v.Name
	}
	if v.Found.No != "" && body["please"] == "new key" {
		a.known["no"] = v.Found.No
	}
}

// publicKey makes a new key's public half.
func publicKey(t *testing.T) string {
	t.Helper()
	_, public, err := sshkey.Make(sshkey.Kinds[0], "made up", "", rand.Reader)
	require.NoError(t, err)
	return public.Line()
}

// TestDescriptionsAskWhatIsPublished holds that each request of a shipped description is an operation
// of the host's own document.
func TestDescriptionsAskWhatIsPublished(t *testing.T) {
	variable := regexp.MustCompile(`\{[^}]*\}`)
	for _, host := range Hosts {
		data, err := os.ReadFile("../../descriptions/" + host + ".toml")
		require.NoError(t, err)
		d, mistakes := description.Load(data)
		require.Empty(t, mistakes)
		base, all := operations(t, host)
		known := map[string][]node{} // the bodies from which each operation lets one choose
		for _, o := range all {
			var bodies []node
			for _, c := range o.RequestBody.Content {
				bodies = append(bodies, c.Schema.OneOf...)
			}
			known[o.method+" "+strings.TrimSuffix(base, "/")+variable.ReplaceAllString(o.path, "{}")] = bodies
		}
		for name, action := range d.Actions {
			for _, r := range action.Requests {
				path, found := strings.CutPrefix(r.URL.Raw(), "{+api}")
				require.True(t, found, "%s %s", host, name)
				asks := strings.ToLower(r.Method) + " " + variable.ReplaceAllString(strings.TrimPrefix(d.API.Raw(), "{+base}")+path, "{}")
				bodies, published := known[asks]
				assert.True(t, published, "%s %s asks %s, which is not published", host, name, asks)
				body, _ := r.JSON.(map[string]any)
				assert.True(t, len(bodies) == 0 || slices.ContainsFunc(bodies, func(n node) bool { return n.takes(body) }), "%s %s sends %v, which is not published", host, name, body)
			}
		}
	}
}

// takes reports whether a body has each property that may be one thing alone, just so.
func (n node) takes(body map[string]any) bool {
	for name, p := range n.Properties {
		if len(p.Enum) == 1 && fmt.Sprint(p.Enum[0]) != fmt.Sprint(body[name]) {
			return false
		}
	}
	return true
}
