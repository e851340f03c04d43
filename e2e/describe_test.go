package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fromGuide puts the description together that a guide builds step by step.
func fromGuide(t *testing.T, page string) string {
	t.Helper()
	data, err := os.ReadFile(page)
	require.NoError(t, err)
	var out strings.Builder
	for line := range strings.SplitSeq(string(data), "\n") {
		if code, ok := strings.CutPrefix(line, "    "); ok && !strings.HasPrefix(code, "uncinate ") {
			out.WriteString(code + "\n")
		}
	}
	return out.String()
}

// TestGuideIsTrue follows the guide to its end.
func TestGuideIsTrue(t *testing.T) {
	t.Parallel()
	h := newHostOf(t, "petrel")
	m := newMachine(t)
	m.write("", map[string]string{"petrel.toml": fromGuide(t, "../docs/describe-your-host.md")})
	out := m.ok("", "", "host", "check", "./petrel.toml")
	assert.NotContains(t, out, "Worth a look", "nothing is left to say")
	m.ok("", "", "host", "add", "./petrel.toml", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token["tern"], "account", "add", "tern", "--host", "petrel")
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes", "--name", "saltmarsh/gauges/gauge")
	assert.NotContains(t, m.ok("", "", "host", "try", "petrel", "--write", "--yes"), "  bad  ")
	m.ok("", "", "token", "replace", "tern", "--renew", "--yes")
}

// skua is a throw-away host with yet another shape: a repository is named by two
// headers, the token stands in the query, lists go by offset with their total in a
// header, bodies are forms, and an error is a number in an answer of status 200.
type skua struct {
	mu    sync.Mutex
	dir   string
	repos []map[string]any
}

func (s *skua) serve(w http.ResponseWriter, q *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	say := func(v any) { _ = json.NewEncoder(w).Encode(v) }
	fail := func(code int, says string) { say(map[string]any{"err": code, "text": says}) }
	if q.URL.Query().Get("t") != "skua-token-5ec3e7" {
		fail(1, "no such token")
		return
	}
	at := slices.IndexFunc(s.repos, func(r map[string]any) bool {
		return r["who"] == q.Header.Get("Skua-Owner") && r["what"] == q.Header.Get("Skua-Repository")
	})
	switch q.Method + " " + q.URL.Path {
	case "GET /self":
		say(map[string]any{"handle": "tern"})
	case "GET /all":
		from, _ := strconv.Atoi(q.URL.Query().Get("from"))
		found := slices.DeleteFunc(slices.Clone(s.repos), func(r map[string]any) bool { return !strings.Contains(r["what"].(string), q.URL.Query().Get("like")) })
		w.Header().Set("Skua-Total", fmt.Sprint(len(found)))
		say(found[min(from, len(found)):min(from+2, len(found))])
	case "GET /one", "POST /one", "DELETE /one":
		if at < 0 {
			fail(2, "no such repository")
			return
		}
		if q.Method == "POST" {
			for _, field := range []string{"about", "seen", "trunk"} {
				if v := q.PostFormValue(field); v != "" {
					s.repos[at][field] = v
				}
			}
		}
		say(s.repos[at])
		if q.Method == "DELETE" {
			s.repos = slices.Delete(s.repos, at, at+1)
		}
	case "POST /new":
		if at >= 0 {
			fail(3, "there is one already")
			return
		}
		name := q.Header.Get("Skua-Repository")
		r := map[string]any{"nr": len(s.repos) + 1, "who": q.Header.Get("Skua-Owner"), "what": name, "about": q.PostFormValue("about"), "seen": q.PostFormValue("seen"), "trunk": "main"}
		if err := exec.Command("git", "init", "-q", "--bare", "-b", "main", filepath.Join(s.dir, q.Header.Get("Skua-Owner"), name+".git")).Run(); err != nil {
			fail(9, err.Error())
			return
		}
		if err := exec.Command("git", "-C", filepath.Join(s.dir, q.Header.Get("Skua-Owner"), name+".git"), "config", "http.receivepack", "true").Run(); err != nil {
			fail(9, err.Error())
			return
		}
		s.repos = append(s.repos, r)
		say(r)
	default:
		http.NotFound(w, q)
	}
}

const skuaDescription = `language = 1
name = "skua"
base = "https://skua.example"

[address]
page  = "{+base}/see/{owner}/{name}"
https = "{+base}/git/{owner}/{name}.git"

[signin]
query = { t = "{token}" }
git   = { user = "any", secret = "{token}" }

[value.visibility]
private = "shut"
public  = "shown"

[shape.repository]
id             = "$.nr"
owner          = "$.who"
name           = "$.what"
description    = "$.about"
visibility     = "$.seen"
default_branch = "$.trunk"

[[action.identify.request]]
url  = "{+base}/self"
read = { user = "$.handle" }

[[action.repository-list.request]]
url   = "{+base}/all"
query = { from = "{offset}", like = "{find}" }
items = "$[*]"
read  = "repository"
page  = { by = "offset", size = 2, total = "header Skua-Total" }

[[action.repository-show.request]]
url     = "{+base}/one"
headers = { Skua-Owner = "{owner}", Skua-Repository = "{name}" }
read    = "repository"

[[action.repository-create.request]]
method  = "POST"
url     = "{+base}/new"
headers = { Skua-Owner = "{owner}", Skua-Repository = "{name}" }
form    = { about = "{description}", seen = "{visibility}" }
read    = "repository"

[[action.repository-change.request]]
method  = "POST"
url     = "{+base}/one"
headers = { Skua-Owner = "{owner}", Skua-Repository = "{name}" }
form    = { about = "{description}", seen = "{visibility}", trunk = "{default_branch}" }
read    = "repository"

[[action.repository-delete.request]]
method  = "DELETE"
url     = "{+base}/one"
headers = { Skua-Owner = "{owner}", Skua-Repository = "{name}" }

[[refusal]]
at    = "$.err"
is    = 1
means = "not-signed-in"

[[refusal]]
at    = "$.err"
is    = 2
means = "not-found"

[[refusal]]
at    = "$.err"
is    = 3
means = "name-taken"

[refusals]
message = ["$.text"]
`

// TestAFourthHost describes a host that the program's makers did not have in mind.
func TestAFourthHost(t *testing.T) {
	t.Parallel()
	s := &skua{dir: t.TempDir()}
	execPath, err := exec.Command("git", "--exec-path").Output()
	require.NoError(t, err)
	backend := &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(execPath)), "git-http-backend"), Root: "/git", Env: []string{"GIT_PROJECT_ROOT=" + s.dir, "GIT_HTTP_EXPORT_ALL=1"}}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if !strings.HasPrefix(q.URL.Path, "/git/") {
			s.serve(w, q)
			return
		}
		if _, secret, _ := q.BasicAuth(); secret != "skua-token-5ec3e7" {
			w.Header().Set("WWW-Authenticate", `Basic realm="skua"`)
			w.WriteHeader(401)
			return
		}
		backend.ServeHTTP(w, q)
	}))
	t.Cleanup(server.Close)
	m := newMachine(t)
	m.git("", "config", "--global", "user.name", "Tern")
	m.git("", "config", "--global", "user.email", "tern@skua.example")
	m.write("", map[string]string{"skua.toml": skuaDescription})
	m.ok("", "", "host", "add", "./skua.toml", "--at", server.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.refused(5, []string{"skua does not accept the token", "skua says: no such token"}, "", "wrong-token\n", "account", "add", "--host", "skua")
	r := m.run("", "skua-token-5ec3e7\n", "account", "add", "--host", "skua", "--verbose")
	require.Equal(t, 0, r.code, r.err)
	assert.NotContains(t, r.err, "skua-token-5ec3e7", "a token in the query is not shown either")
	for i := range 5 {
		name := fmt.Sprint("gauge-", i)
		m.project(name)
		m.ok(name, "", "attach", "--yes", "--description", "Levels")
	}
	m.ok("gauge-1", "", "attach", "--yes")
	m.refused(5, []string{"already, with work in it"}, "gauge-1", "", "attach", "--yes", "--remote", "other", "--name", "gauge-2")
	m.ok("", "", "clone", "gauge-3", "copy")
	m.refused(5, []string{"There is one named gauge-4"}, "", "", "clone", "guage-4")
	out := m.ok("", "", "host", "try", "skua", "--account", "tern")
	assert.Contains(t, out, "5 repositories", "three pages of two")
	assert.NotContains(t, out, "skua-token")
}
