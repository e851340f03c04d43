package practice

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asker asks gannet's API as one user.
type asker struct {
	t     *testing.T
	url   string
	token string
}

func (a asker) ask(method, path, body string, headers ...string) (int, map[string]any, http.Header) {
	a.t.Helper()
	q, err := http.NewRequest(method, a.url+path, strings.NewReader(body))
	require.NoError(a.t, err)
	q.Header.Set("Gannet-Token", a.token)
	if strings.Contains(body, "=") && !strings.HasPrefix(body, "{") {
		q.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		q.Header.Set(headers[i], headers[i+1])
	}
	r, err := http.DefaultClient.Do(q)
	require.NoError(a.t, err)
	defer r.Body.Close()
	data, err := io.ReadAll(r.Body)
	require.NoError(a.t, err)
	var v map[string]any
	if len(data) > 0 && strings.Contains(r.Header.Get("Content-Type"), "json") {
		require.NoError(a.t, json.Unmarshal(data, &v), "%s", data)
	}
	return r.StatusCode, v, r.Header
}

func start(t *testing.T, dir string) (*Running, map[string]asker) {
	t.Helper()
	g, err := Start("gannet", dir, "127.0.0.1:0", nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, g.Close()) })
	tokens, err := g.Demo()
	require.NoError(t, err)
	as := map[string]asker{}
	for _, k := range tokens {
		as[k.User] = asker{t, g.URL, k.Secret}
	}
	return g, as
}

func TestGannetLife(t *testing.T) {
	g, as := start(t, t.TempDir())
	tern, knot, dunlin := as["tern"], as["knot"], as["dunlin"]
	code, me, _ := tern.ask("GET", "/v1/me", "")
	assert.Equal(t, 200, code)
	assert.Equal(t, "Tern of Saltmarsh", me["called"])
	code, v, _ := tern.ask("POST", "/v1/introspect", "token="+tern.token)
	assert.Equal(t, 200, code)
	assert.Equal(t, true, v["active"])
	assert.Contains(t, v["scope"], "repo.create")
	_, v, _ = tern.ask("POST", "/v1/introspect", "token=other")
	assert.Equal(t, map[string]any{"active": false}, v)

	code, made, head := tern.ask("POST", "/v1/owners/saltmarsh/repos", `{"name":"almanac","about":"Tables","reach":"team"}`)
	require.Equal(t, 201, code, made)
	assert.Equal(t, "main", made["main"])
	assert.Equal(t, true, made["empty"])
	tag := head.Get("ETag")
	for _, c := range []struct {
		who    asker
		method string
		path   string
		body   string
		head   []string
		want   int
		kind   string
	}{
		{tern, "POST", "/v1/owners/saltmarsh/repos", `{"name":"Almanac","reach":"team"}`, nil, 409, "urn:gannet:name-taken"},
		{tern, "POST", "/v1/owners/knot/repos", `{"name":"x","reach":"team"}`, nil, 403, "urn:gannet:denied"},
		{dunlin, "POST", "/v1/owners/saltmarsh/repos", `{"name":"x","reach":"team"}`, nil, 403, "urn:gannet:denied"},
		{tern, "POST", "/v1/owners/tern/repos", `{"name":"a b","reach":"team"}`, nil, 422, "urn:gannet:invalid"},
		{tern, "POST", "/v1/owners/tern/repos", `{"name":"x","reach":"everywhere"}`, nil, 422, "urn:gannet:invalid"},
		{tern, "POST", "/v1/owners/tern/repos", `{"name":"x","reach":"team","main":"--evil"}`, nil, 422, "urn:gannet:invalid"},
		{tern, "POST", "/v1/owners/tern/repos", `{"nome":"x"}`, nil, 400, "urn:gannet:invalid"},
		{tern, "GET", "/v1/repos/saltmarsh/none", "", nil, 404, "urn:gannet:none"},
		{asker{t, g.URL, "bad"}, "GET", "/v1/me", "", nil, 401, "urn:gannet:sign-in"},
		{knot, "PATCH", "/v1/repos/saltmarsh/almanac", `{"about":"Mine"}`, nil, 403, "urn:gannet:denied"},
		{tern, "PATCH", "/v1/repos/saltmarsh/almanac", `{"about":"x"}`, []string{"If-Match", `"g000001-9"`}, 412, "urn:gannet:changed"},
		{tern, "PATCH", "/v1/repos/saltmarsh/almanac", `{"reach":"x"}`, nil, 422, "urn:gannet:invalid"},
		{tern, "POST", "/v1/repos/saltmarsh/almanac/move", `{"owner":"knot"}`, nil, 403, "urn:gannet:denied"},
		{tern, "DELETE", "/v1/repos/saltmarsh/almanac", "", []string{"If-Match", `"g000001-9"`}, 412, "urn:gannet:changed"},
		{knot, "DELETE", "/v1/repos/saltmarsh/almanac", "", nil, 403, "urn:gannet:denied"},
	} {
		code, v, h := c.who.ask(c.method, c.path, c.body, c.head...)
		assert.Equal(t, c.want, code, "%s %s %s: %v", c.method, c.path, c.body, v)
		assert.Equal(t, c.kind, v["type"])
		assert.Equal(t, "application/problem+json", h.Get("Content-Type"))
	}
	code, _, _ = tern.ask("GET", "/v1/repos/saltmarsh/almanac", "", "If-None-Match", tag)
	assert.Equal(t, 304, code)
	code, v, head = tern.ask("PATCH", "/v1/repos/saltmarsh/almanac", `{"about":"","main":"trunk","name":"tables"}`, "If-Match", tag)
	require.Equal(t, 200, code, v)
	assert.Equal(t, []any{"", "trunk", "tables"}, []any{v["about"], v["main"], v["name"]})
	assert.NotEqual(t, tag, head.Get("ETag"))
	code, v, _ = tern.ask("POST", "/v1/repos/saltmarsh/tables/move", `{"owner":"tern"}`)
	assert.Equal(t, 200, code)
	assert.Equal(t, "tern", v["owner"])
	code, _, _ = tern.ask("DELETE", "/v1/repos/tern/tables", "")
	assert.Equal(t, 204, code)
	assert.NoDirExists(t, g.Store.GitDir("g000001"))
}

func TestGannetListsPageByPage(t *testing.T) {
	g, as := start(t, t.TempDir())
	for _, name := range []string{"a", "b", "c", "d", "e"} {
		_, err := g.Store.Create(t.Context(), "tern", Repo{Owner: "tern", Name: name, Visibility: "private"})
		require.NoError(t, err)
	}
	_, err := g.Store.Create(t.Context(), "knot", Repo{Owner: "knot", Name: "board", Visibility: "public"})
	require.NoError(t, err)
	var seen []string
	after := ""
	for range 10 {
		_, v, _ := as["tern"].ask("GET", "/v1/repos?many=2&after="+after, "")
		for _, item := range v["items"].([]any) {
			seen = append(seen, item.(map[string]any)["name"].(string))
		}
		next, more := v["next"].(string)
		if !more {
			break
		}
		after = next
	}
	assert.Equal(t, []string{"board", "a", "b", "c", "d", "e"}, seen)
	_, v, _ := as["dunlin"].ask("GET", "/v1/repos", "")
	assert.Len(t, v["items"], 1, "what is private is not seen by others")
	_, v, _ = as["tern"].ask("GET", "/v1/repos?find=oar", "")
	assert.Len(t, v["items"], 1)
}

func TestGannetGitRights(t *testing.T) {
	g, as := start(t, t.TempDir())
	for name, visibility := range map[string]string{"hidden": "private", "shown": "public"} {
		_, err := g.Store.Create(t.Context(), "tern", Repo{Owner: "tern", Name: name, Visibility: visibility})
		require.NoError(t, err)
	}
	require.NoError(t, g.Store.AddToken("gnt_reader", "tern", []string{"me", "repo.read"}, time.Time{}))
	get := func(user, secret, path string) int {
		q, err := http.NewRequest("GET", g.URL+path, nil)
		require.NoError(t, err)
		if user != "" {
			q.SetBasicAuth(user, secret)
		}
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		r.Body.Close()
		return r.StatusCode
	}
	const fetch, push = "/info/refs?service=git-upload-pack", "/info/refs?service=git-receive-pack"
	for _, c := range []struct {
		user, secret, path string
		want               int
	}{
		{"", "", "/tern/hidden.git" + fetch, 401},
		{"", "", "/tern/shown.git" + fetch, 200},
		{"", "", "/tern/shown" + push, 401},
		{"tern", as["tern"].token, "/tern/hidden.git" + push, 200},
		{"tern", "gnt_reader", "/tern/hidden.git" + fetch, 200},
		{"tern", "gnt_reader", "/tern/hidden.git" + push, 403},
		{"knot", as["knot"].token, "/tern/hidden.git" + fetch, 404},
		{"knot", as["knot"].token, "/tern/shown.git" + push, 403},
		{"knot", as["tern"].token, "/tern/hidden.git" + fetch, 401}, // somebody else's token
		{"tern", as["tern"].token, "/tern/hidden.git/config", 404},
		{"tern", as["tern"].token, "/tern/hidden.git/objects/info/packs", 404},
		{"tern", as["tern"].token, "/tern/hidden/people", 200},
		{"", "", "/tern/hidden", 401},
		{"", "", "/tern/shown", 200},
		{"", "", "/settings/tokens", 200},
		{"", "", "/nothing", 404},
	} {
		assert.Equal(t, c.want, get(c.user, c.secret, c.path), "%s %s", c.user, c.path)
	}
}

func TestStateOutlivesTheHost(t *testing.T) {
	dir := t.TempDir()
	g, err := Start("gannet", dir, "127.0.0.1:0", nil)
	require.NoError(t, err)
	require.NoError(t, g.Store.AddUser(User{Name: "tern"}))
	require.NoError(t, g.Store.AddToken("gnt_canary", "tern", []string{"me"}, time.Time{}))
	_, err = g.Store.Create(t.Context(), "tern", Repo{Owner: "tern", Name: "gauge", Visibility: "private"})
	require.NoError(t, err)
	require.NoError(t, g.Close())
	data, err := os.ReadFile(filepath.Join(dir, "state.json"))
	require.NoError(t, err)
	assert.NotContains(t, string(data), "gnt_canary", "tokens are kept as hashes")
	st, err := OpenStore(dir)
	require.NoError(t, err)
	assert.Equal(t, "tern", st.SignIn("gnt_canary").User.Name)
	assert.Len(t, st.List("tern", ""), 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "state.json"), []byte("{"), 0o600))
	_, err = OpenStore(dir)
	assert.Error(t, err)
	for _, listen := range []string{"0.0.0.0:0", "gannet.example:80", "nonsense"} {
		_, err := Start("gannet", t.TempDir(), listen, nil)
		assert.ErrorContains(t, err, "loopback")
	}
}
