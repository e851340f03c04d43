package e2e

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// facade is a host with an API of its own, in front of a practice host that keeps its repositories and serves git: as unlike the
// practice hosts as they are to one another. What it can do is described in testdata/faces.
type facade struct {
	*httptest.Server
	t     *testing.T
	name  string
	back  *host
	mu    sync.Mutex
	asked []string // the requests besides git's, as METHOD PATH
}

// newFacade starts one. secret finds the token in a request; api answers the requests of whoever signed in.
func newFacade(t *testing.T, name string, secret func(*http.Request) string, api func(f *facade, w http.ResponseWriter, q *http.Request, who practice.Session)) *facade {
	t.Helper()
	f := &facade{t: t, name: name, back: newHostOf(t, "gannet")}
	at, err := url.Parse(f.back.URL)
	require.NoError(t, err)
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(at)
		r.Out.URL.Path = strings.TrimPrefix(r.In.URL.Path, "/git")
		r.Out.URL.RawPath = ""
	}}
	f.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if strings.HasPrefix(q.URL.Path, "/git/") {
			proxy.ServeHTTP(w, q)
			return
		}
		f.mu.Lock()
		f.asked = append(f.asked, q.Method+" "+q.URL.EscapedPath())
		f.mu.Unlock()
		api(f, w, q, f.back.Store.SignIn(secret(q)))
	}))
	t.Cleanup(f.Close)
	return f
}

// description writes the description's file, with what is put in the place of words in it.
func (f *facade) description(m *machine, put ...string) string {
	f.t.Helper()
	data, err := os.ReadFile(filepath.Join("testdata/faces", f.name+".toml"))
	require.NoError(f.t, err)
	m.write("", map[string]string{f.name + ".toml": strings.NewReplacer(append(put, "https://"+f.name+".example", f.URL)...).Replace(string(data))})
	return f.name + ".toml"
}

// kindOf gives the kind of a refusal of the store, and its words.
func kindOf(err error) (kind, says string) {
	var p *practice.Problem
	if errors.As(err, &p) {
		return p.Kind, p.Says
	}
	return "failed", err.Error()
}

// tells answers with JSON.
func tells(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

// bodyOf reads a body of JSON.
func bodyOf(q *http.Request) map[string]any {
	out := map[string]any{}
	_ = json.NewDecoder(q.Body).Decode(&out)
	return out
}

// word gives a value of a body as text; "" where there is none.
func word(v any) string { s, _ := v.(string); return s }

// changes puts into a repository what is not empty.
func changes(name, about, branch string, visibility string) func(*practice.Repo) error {
	return func(r *practice.Repo) error {
		for _, c := range []struct {
			to   *string
			with string
		}{{&r.Name, name}, {&r.Description, about}, {&r.Default, branch}, {&r.Visibility, visibility}} {
			if c.with != "" {
				*c.to = c.with
			}
		}
		return nil
	}
}

// play does with a described face what one does with a host.
func (f *facade) play(m *machine, file string) {
	t, st := f.t, f.back.Store
	t.Helper()
	token := f.back.token["tern"]
	m.ok("", "", "host", "check", file)
	m.ok("", "", "host", "add", "./"+file, "--yes")
	m.ok("", token+"\n", "account", "add", "--host", f.name, "--user", "tern")
	m.project("gauge")
	assert.Contains(t, m.ok("gauge", "", "attach", "--yes", "--description", "Levels"), "checked  "+f.name+" holds the same commit, private, default branch main")
	r, err := st.Find("tern", "tern", "gauge")
	require.NoError(t, err)
	assert.Equal(t, []string{"private", "main", "Levels"}, []string{r.Visibility, r.Default, r.Description})
	assert.Contains(t, m.ok("gauge", "", "attach", "--yes"), "Already attached")

	// More than one page, and names that hold one another.
	for _, name := range []string{"gauge-old", "almanac", "gauges", "pier", "tide", "my-gauge", "ebb", "flood"} {
		_, err := st.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: name, Visibility: "private", Default: "main"})
		require.NoError(t, err)
	}
	all := m.ok("", "", "repository", "list", "--account", "tern")
	for _, name := range []string{"gauge-old", "almanac", "flood"} {
		assert.Contains(t, all, name)
	}
	some := m.ok("", "", "repository", "list", "gauge", "--account", "tern")
	assert.Contains(t, some, "my-gauge")
	assert.NotContains(t, some, "almanac", "only what was asked for")
	m.ok("", "", "clone", "gauge", "copy")
	assert.Equal(t, tree(t, filepath.Join(m.home, "gauge")), tree(t, filepath.Join(m.home, "copy")))
	m.refused(5, []string{"There is one named almanac"}, "", "", "clone", "almanak")
	m.write("copy", map[string]string{"more.txt": "more\n"})
	m.ok("copy", "", "sync", "--save", "--message", "More", "--yes")
	assert.Contains(t, m.ok("gauge", "", "sync"), "Received 1 commit")

	m.ok("", "", "repository", "change", "tern/gauge", "--description", "Levels of the pier", "--yes")
	m.ok("", "", "repository", "change", "tern/gauge", "--visibility", "public", "--yes")
	r, err = st.Find("knot", "tern", "gauge")
	require.NoError(t, err)
	assert.Equal(t, []string{"public", "Levels of the pier", "main"}, []string{r.Visibility, r.Description, r.Default})
	m.ok("gauge", "", "access", "grant", "knot", "--right", "write", "--yes")
	r, err = st.Find("tern", "tern", "gauge")
	require.NoError(t, err)
	assert.Equal(t, 2, st.Right(r, "knot"))
	assert.Regexp(t, `knot +write`, m.ok("gauge", "", "access", "list"))
	m.ok("gauge", "", "access", "withdraw", "knot", "--yes")
	assert.NotContains(t, m.ok("gauge", "", "access", "list"), "knot")
	assert.Contains(t, strings.TrimSpace(m.ok("gauge", "", "visit", "--print")), f.URL+"/see/tern/gauge")

	out := m.ok("", "", "host", "try", f.name)
	assert.NotContains(t, out, "  bad, ")
	before := len(st.List("tern", ""))
	m.ok("", "", "host", "try", f.name, "--write", "--yes")
	assert.Len(t, st.List("tern", ""), before, "nothing is left behind")
	m.ok("", "", "repository", "delete", "tern/pier", "--yes", "--without-copy")
	_, err = st.Find("tern", "tern", "pier")
	require.Error(t, err)
	m.refused(5, []string{"no repository tern/pier"}, "", "", "repository", "show", "tern/pier")
	m.refused(5, []string{f.name + " does not accept the token"}, "", "plunge~none\n", "account", "add", "other", "--host", f.name, "--user", "tern")
}

// late is when the faces' tokens end.
var late = time.Date(2027, 2, 3, 4, 5, 0, 0, time.UTC)
