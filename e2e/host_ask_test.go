package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// TestDraftAsksTheHost has a draft mended by the live host, from which it goes on to the first push.
func TestDraftAsksTheHost(t *testing.T) {
	t.Parallel()
	h := newHostOf(t, "petrel")
	token := h.token["tern"]
	m := person(t, "tern")
	m.project("almanac")
	draft := m.ok("", token+"\n", "host", "draft", "--ask", h.URL)
	for _, want := range []string{"# asked: the token is tern's", `base     = "` + h.URL + `"`, `user = "petrel"`, "# confidence "} {
		assert.Contains(t, draft, want)
	}
	assert.NotContains(t, draft, "NOT as drafted")
	assert.NotContains(t, draft, token)
	m.write("", map[string]string{"petrel.toml": strings.Replace(draft, `"petrel"`+"\n", `"burrow"`+"\n", 1)})
	m.ok("", "", "host", "add", "./petrel.toml", "--yes")
	m.ok("", token+"\n", "account", "add", "--host", "burrow")
	assert.Contains(t, m.ok("almanac", "", "attach", "--yes"), "checked  burrow holds the same commit")

	// A repository that is there tells what its fields are.
	again := m.ok("", token+"\n", "host", "draft", "--ask", h.URL, "--user", "tern")
	assert.Contains(t, again, "# asked: 1 repository")
	assert.Contains(t, again, "almanac, private, default branch main")
	m.refused(5, []string{"does not accept the token"}, "", "none\n", "host", "draft", "--ask", h.URL)
	m.refused(4, []string{"over plain http"}, "", "", "host", "draft", "--ask", "http://git.example")
	m.refused(2, []string{"is not the address of a host"}, "", "", "host", "draft", "--ask", "git.example")
	m.refused(2, []string{"a draft is made from a file, or from what a host publishes"}, "", "", "host", "draft")
}

// TestDraftAsksByGetAlone holds that nothing else than GET is sent, and that a field that no answer has is taken out.
func TestDraftAsksByGetAlone(t *testing.T) {
	t.Parallel()
	f, m := newMole(t), person(t, "tern")
	data, err := os.ReadFile(filepath.Join("testdata/faces", "mole.openapi.yaml"))
	require.NoError(t, err)
	document := strings.Replace(string(data), "        main: { type: string }\n", "        main: { type: string }\n        web_url: { type: string }\n", 1)
	m.write("", map[string]string{"api.yaml": document})
	assert.Contains(t, m.ok("", "", "host", "draft", "api.yaml"), `page           = "$.web_url"`)
	require.Empty(t, f.asked, "a file asks nobody")
	m.refused(5, []string{"publishes no OpenAPI document that was found", "uncinate host draft ./openapi.json --ask"}, "", "", "host", "draft", "--ask", f.URL)
	f.asked = nil
	_, err = f.back.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: "gauge", Visibility: "private", Default: "main"})
	require.NoError(t, err)
	out := m.ok("", f.back.token["tern"]+"\n", "host", "draft", "api.yaml", "--ask", f.URL)
	assert.Contains(t, out, "# asked: the token is tern's")
	assert.NotContains(t, out, "web_url", "no answer had it")
	require.NotEmpty(t, f.asked)
	for _, a := range f.asked {
		assert.Regexp(t, "^GET ", a)
	}
}

// TestDraftAsksNobodyElse holds that the token goes to the address that was given alone: not to another that the document names, nor to
// one that an answer names, nor along a redirect.
func TestDraftAsksNobodyElse(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	elsewhere := []string{}
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		elsewhere = append(elsewhere, q.Method+" "+q.URL.Path)
		tells(w, 200, []any{})
	}))
	t.Cleanup(other.Close)
	repository := map[string]any{"id": "1", "owner": "tern", "name": "gauge", "description": "", "visibility": "private", "default_branch": "main", "https": other.URL + "/tern/gauge.git"}
	host := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		switch q.URL.Path {
		case "/openapi.json":
			fmt.Fprintf(w, `{"openapi":"3.0.0","info":{"title":"skua"},"servers":[{"url":"https://skua.example"}],"components":{"securitySchemes":{"t":{"type":"http","scheme":"bearer"}},"schemas":{"Repo":{"type":"object","properties":{
				"id":{"type":"string"},"owner":{"type":"string"},"name":{"type":"string"},"description":{"type":"string"},"visibility":{"type":"string","enum":["private","public"]},"default_branch":{"type":"string"},"https":{"type":"string"}}}}},
				"paths":{"/me":{"get":{"summary":"Who you are","responses":{"200":{"content":{"application/json":{"schema":{"type":"object","properties":{"login":{"type":"string"}}}}}}}}},
				"/repos":{"get":{"summary":"List repositories","responses":{"200":{"headers":{"Link":{}},"content":{"application/json":{"schema":{"type":"array","items":{"$ref":"#/components/schemas/Repo"}}}}}}}},
				"/keys":{"servers":[{"url":%q}],"get":{"summary":"List your SSH keys","responses":{"200":{"content":{"application/json":{"schema":{"type":"array","items":{"type":"object","properties":{"id":{"type":"string"},"title":{"type":"string"},"key":{"type":"string"}}}}}}}}}},
				"/owners":{"get":{"summary":"List owners","responses":{"200":{"content":{"application/json":{"schema":{"type":"array","items":{"type":"object","properties":{"name":{"type":"string"}}}}}}}}}}}}`, other.URL)
		case "/me":
			tells(w, 200, map[string]string{"login": "tern"})
		case "/repos":
			w.Header().Set("Link", "<"+other.URL+`/more>; rel="next"`)
			tells(w, 200, []any{repository})
		case "/owners":
			http.Redirect(w, q, other.URL+"/owners", http.StatusFound)
		default:
			http.NotFound(w, q)
		}
	}))
	t.Cleanup(host.Close)
	m := person(t, "tern")
	out := m.ok("", "secret-of-tern-0123456789\n", "host", "draft", "--ask", host.URL)
	mu.Lock()
	defer mu.Unlock()
	assert.Empty(t, elsewhere, "nothing was sent there")
	assert.Contains(t, out, "# asked: NOT as drafted: ")
	assert.Contains(t, out, `addresses = ["`+other.URL+`"]`, "the person is shown where else the token would go")
	assert.Contains(t, out, "# not asked: it is at another origin")
	assert.NotContains(t, out, "secret-of-tern")
}
