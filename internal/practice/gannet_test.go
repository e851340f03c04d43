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
	code, me, _ := tern.ask("GET", "/deck/self", "")
	assert.Equal(t, 200, code)
	assert.Equal(t, "Tern of Saltmarsh", me["called"])
	code, v, _ := tern.ask("POST", "/deck/introspect", "token="+tern.token)
	assert.Equal(t, 200, code)
	assert.Equal(t, true, v["active"])
	assert.Contains(t, v["scope"], "launch")
	_, v, _ = tern.ask("POST", "/deck/introspect", "token=other")
	assert.Equal(t, map[string]any{"active": false}, v)

	code, made, head := tern.ask("POST", "/deck/hulls", `{"flag":"saltmarsh","name":"almanac","about":"Tables","reach":"deck"}`)
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
		{tern, "POST", "/deck/hulls", `{"flag":"saltmarsh","name":"Almanac","reach":"deck"}`, nil, 409, "tag:gannet.example,2026:name-taken"},
		{tern, "POST", "/deck/hulls", `{"flag":"knot","name":"x","reach":"deck"}`, nil, 403, "tag:gannet.example,2026:denied"},
		{dunlin, "POST", "/deck/hulls", `{"flag":"saltmarsh","name":"x","reach":"deck"}`, nil, 403, "tag:gannet.example,2026:denied"},
		{tern, "POST", "/deck/hulls", `{"flag":"tern","name":"a b","reach":"deck"}`, nil, 422, "tag:gannet.example,2026:invalid"},
		{tern, "POST", "/deck/hulls", `{"flag":"tern","name":"x","reach":"everywhere"}`, nil, 422, "tag:gannet.example,2026:invalid"},
		{tern, "POST", "/deck/hulls", `{"flag":"tern","name":"x","reach":"deck","main":"--evil"}`, nil, 422, "tag:gannet.example,2026:invalid"},
		{tern, "POST", "/deck/hulls", `{"flag":"tern","nome":"x"}`, nil, 400, "tag:gannet.example,2026:invalid"},
		{tern, "GET", "/deck/hull/saltmarsh/none", "", nil, 404, "tag:gannet.example,2026:none"},
		{asker{t, g.URL, "bad"}, "GET", "/deck/self", "", nil, 401, "tag:gannet.example,2026:sign-in"},
		{knot, "PATCH", "/deck/hull/saltmarsh/almanac", `{"about":"Mine"}`, nil, 403, "tag:gannet.example,2026:denied"},
		{tern, "PATCH", "/deck/hull/saltmarsh/almanac", `{"about":"x"}`, []string{"If-Match", `"g000001-9"`}, 412, "tag:gannet.example,2026:changed"},
		{tern, "PATCH", "/deck/hull/saltmarsh/almanac", `{"reach":"x"}`, nil, 422, "tag:gannet.example,2026:invalid"},
		{tern, "POST", "/deck/tow/saltmarsh/almanac", `{"owner":"knot"}`, nil, 403, "tag:gannet.example,2026:denied"},
		{tern, "DELETE", "/deck/hull/saltmarsh/almanac", "", []string{"If-Match", `"g000001-9"`}, 412, "tag:gannet.example,2026:changed"},
		{knot, "DELETE", "/deck/hull/saltmarsh/almanac", "", nil, 403, "tag:gannet.example,2026:denied"},
	} {
		code, v, h := c.who.ask(c.method, c.path, c.body, c.head...)
		assert.Equal(t, c.want, code, "%s %s %s: %v", c.method, c.path, c.body, v)
		assert.Equal(t, c.kind, v["type"])
		assert.Equal(t, "application/problem+json", h.Get("Content-Type"))
	}
	code, _, _ = tern.ask("GET", "/deck/hull/saltmarsh/almanac", "", "If-None-Match", tag)
	assert.Equal(t, 304, code)
	code, v, head = tern.ask("PATCH", "/deck/hull/saltmarsh/almanac", `{"about":"","main":"trunk","name":"tables"}`, "If-Match", tag)
	require.Equal(t, 200, code, v)
	assert.Equal(t, []any{"", "trunk", "tables"}, []any{v["about"], v["main"], v["name"]})
	assert.NotEqual(t, tag, head.Get("ETag"))
	code, v, _ = tern.ask("POST", "/deck/tow/saltmarsh/tables", `{"owner":"tern"}`)
	assert.Equal(t, 200, code)
	assert.Equal(t, "tern", v["owner"])
	code, _, _ = tern.ask("DELETE", "/deck/hull/tern/tables", "")
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
		_, v, _ := as["tern"].ask("GET", "/deck/hulls?many=2&after="+after, "")
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
	_, v, _ := as["dunlin"].ask("GET", "/deck/hulls", "")
	assert.Len(t, v["items"], 1, "what is private is not seen by others")
	_, v, _ = as["tern"].ask("GET", "/deck/hulls?find=oar", "")
	assert.Len(t, v["items"], 1)
}

func TestGannetGitRights(t *testing.T) {
	g, as := start(t, t.TempDir())
	for name, visibility := range map[string]string{"hidden": "private", "shown": "public"} {
		_, err := g.Store.Create(t.Context(), "tern", Repo{Owner: "tern", Name: name, Visibility: visibility})
		require.NoError(t, err)
	}
	require.NoError(t, g.Store.AddToken("plunge~reader", "tern", []string{"self", "look"}, time.Time{}))
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
		{"tern", "plunge~reader", "/tern/hidden.git" + fetch, 200},
		{"tern", "plunge~reader", "/tern/hidden.git" + push, 403},
		{"knot", as["knot"].token, "/tern/hidden.git" + fetch, 404},
		{"knot", as["knot"].token, "/tern/shown.git" + push, 403},
		{"knot", as["tern"].token, "/tern/hidden.git" + fetch, 401}, // somebody else's token
		{"tern", as["tern"].token, "/tern/hidden.git/config", 404},
		{"tern", as["tern"].token, "/tern/hidden.git/objects/info/packs", 404},
		{"tern", as["tern"].token, "/crew/tern/hidden", 200},
		{"", "", "/tern/hidden", 401},
		{"", "", "/tern/shown", 200},
		{"", "", "/chest/passes", 200},
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
	require.NoError(t, g.Store.AddToken("plunge~canary", "tern", []string{"self"}, time.Time{}))
	_, err = g.Store.Create(t.Context(), "tern", Repo{Owner: "tern", Name: "gauge", Visibility: "private"})
	require.NoError(t, err)
	require.NoError(t, g.Close())
	data, err := os.ReadFile(filepath.Join(dir, "state.json"))
	require.NoError(t, err)
	assert.NotContains(t, string(data), "plunge~canary", "tokens are kept as hashes")
	st, err := OpenStore(dir)
	require.NoError(t, err)
	assert.Equal(t, "tern", st.SignIn("plunge~canary").User.Name)
	assert.Len(t, st.List("tern", ""), 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "state.json"), []byte("{"), 0o600))
	_, err = OpenStore(dir)
	assert.Error(t, err)
	for _, listen := range []string{"0.0.0.0:0", "gannet.example:80", "nonsense"} {
		_, err := Start("gannet", t.TempDir(), listen, nil)
		assert.ErrorContains(t, err, "loopback")
	}
}
