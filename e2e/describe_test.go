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
	"regexp"
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
	assert.NotContains(t, m.ok("", "", "host", "try", "petrel", "--write", "--yes"), "  bad, ")
	m.ok("", "", "token", "replace", "tern", "--renew", "--yes")
}

// skua is a throw-away host with yet another shape: a repository is named by two
// headers; the kept token is exchanged for a ticket, which is in the query and is
// good for seven requests; lists go by offset with their total in a header; bodies are
// forms; an error is a number in an answer of status 200; headers of its own tell how
// many requests are left. On the first push to an address it makes a repository.
type skua struct {
	mu      sync.Mutex
	dir     string
	repos   []map[string]any
	tickets int
	used    int // requests with the last ticket
	spent   int // tell that no request is left, this often
	count   int // requests, git's too
	lose    int // the request of this number is done and its answer lost; 0 for none
}

const skuaToken = "skua-token-5ec3e7"

func (s *skua) ticket() string { return fmt.Sprint("skua-ticket-5ec3e7-", s.tickets) }

// discover takes up the repositories that were made beside its API.
func (s *skua) discover() {
	found, _ := filepath.Glob(s.dir + "/*/*.git/about")
	for _, path := range found {
		dir := filepath.Dir(path)
		owner, name := filepath.Base(filepath.Dir(dir)), strings.TrimSuffix(filepath.Base(dir), ".git")
		if about, err := os.ReadFile(path); err == nil && s.at(owner, name) < 0 {
			s.repos = append(s.repos, map[string]any{"nr": len(s.repos) + 1, "who": owner, "what": name, "about": strings.TrimSpace(string(about)), "seen": "shut", "trunk": "main"})
		}
	}
}

func (s *skua) at(owner, name string) int {
	return slices.IndexFunc(s.repos, func(r map[string]any) bool { return r["who"] == owner && r["what"] == name })
}

func (s *skua) add(owner, name, about, seen string) (map[string]any, error) {
	dir := filepath.Join(s.dir, owner, name+".git")
	if err := exec.Command("git", "init", "-q", "--bare", "-b", "main", dir).Run(); err != nil {
		return nil, err
	}
	r := map[string]any{"nr": len(s.repos) + 1, "who": owner, "what": name, "about": about, "seen": seen, "trunk": "main"}
	s.repos = append(s.repos, r)
	return r, exec.Command("git", "-C", dir, "config", "http.receivepack", "true").Run()
}

func (s *skua) serve(w http.ResponseWriter, q *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	say := func(v any) { _ = json.NewEncoder(w).Encode(v) }
	fail := func(code int, says string) { say(map[string]any{"err": code, "text": says}) }
	if q.URL.Path == "/ticket" {
		if q.PostFormValue("key") != skuaToken {
			fail(1, "no such token")
			return
		}
		s.tickets++
		s.used = 0
		say(map[string]any{"ticket": s.ticket(), "good_for": 60})
		return
	}
	if s.used++; q.URL.Query().Get("t") != s.ticket() || s.used > 7 {
		fail(4, "the ticket is used up")
		return
	}
	s.discover()
	if s.spent > 0 {
		s.spent--
		w.Header().Set("Skua-Left", "0")
		w.Header().Set("Skua-Again", "1")
	}
	at := s.at(q.Header.Get("Skua-Owner"), q.Header.Get("Skua-Repository"))
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
			_ = os.RemoveAll(filepath.Join(s.dir, q.Header.Get("Skua-Owner"), q.Header.Get("Skua-Repository")+".git")) // a test tells
			s.repos = slices.Delete(s.repos, at, at+1)
		}
	case "POST /new":
		if at >= 0 {
			fail(3, "there is one already")
			return
		}
		r, err := s.add(q.Header.Get("Skua-Owner"), q.Header.Get("Skua-Repository"), q.PostFormValue("about"), q.PostFormValue("seen"))
		if err != nil {
			fail(9, err.Error())
			return
		}
		say(r)
	default:
		http.NotFound(w, q)
	}
}

// run serves skua, and signs a new machine in on it with a description.
func (s *skua) run(t *testing.T, description string) *machine {
	s.dir = t.TempDir()
	execPath, err := exec.Command("git", "--exec-path").Output()
	require.NoError(t, err)
	backend := &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(execPath)), "git-http-backend"), Root: "/git", Env: []string{"GIT_PROJECT_ROOT=" + s.dir, "GIT_HTTP_EXPORT_ALL=1"}}
	serve := func(w http.ResponseWriter, q *http.Request) {
		rest, isGit := strings.CutPrefix(q.URL.Path, "/git/")
		if !isGit {
			s.serve(w, q)
			return
		}
		s.mu.Lock()
		_, secret, _ := q.BasicAuth()
		good := secret == s.ticket()
		if parts := strings.SplitN(rest, "/", 3); good && len(parts) == 3 && q.URL.Query().Get("service") == "git-receive-pack" && s.at(parts[0], strings.TrimSuffix(parts[1], ".git")) < 0 {
			_, err := s.add(parts[0], strings.TrimSuffix(parts[1], ".git"), "", "shut")
			good = err == nil
		}
		s.mu.Unlock()
		if !good {
			w.Header().Set("WWW-Authenticate", `Basic realm="skua"`)
			w.WriteHeader(401)
			return
		}
		backend.ServeHTTP(w, q)
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		s.mu.Lock()
		s.count++
		lost := s.count == s.lose
		s.mu.Unlock()
		if lost {
			serve(httptest.NewRecorder(), q)
			panic(http.ErrAbortHandler)
		}
		serve(w, q)
	}))
	t.Cleanup(server.Close)
	m := newMachine(t)
	m.alone = true
	m.git("", "config", "--global", "user.name", "Tern")
	m.git("", "config", "--global", "user.email", "tern@skua.example")
	m.write("", map[string]string{"skua.toml": description})
	m.ok("", "", "host", "add", "./skua.toml", "--at", server.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	return m
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

[signin.exchange]
url  = "{+base}/ticket"
form = { key = "{kept_token}" }
read = { secret = "$.ticket", expires = { at = "$.good_for", as = "seconds" } }

[rate]
left  = "header Skua-Left"
again = "header Skua-Again"

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

[[refusal]]
at    = "$.err"
is    = 4
means = "token-ended"

[refusals]
message = ["$.text"]
`

// TestAFourthHost describes a host that the program's makers did not have in mind.
func TestAFourthHost(t *testing.T) {
	t.Parallel()
	s := &skua{}
	m := s.run(t, skuaDescription)
	m.refused(5, []string{"skua does not accept the token", "skua says: no such token"}, "", "wrong-token\n", "account", "add", "--host", "skua")
	r := m.run("", skuaToken+"\n", "account", "add", "--host", "skua", "--verbose")
	require.Equal(t, 0, r.code, r.err)
	assert.NotContains(t, r.err, "5ec3e7", "a token in the query is not shown either, nor a ticket")
	for i := range 5 {
		name := fmt.Sprint("gauge-", i)
		m.project(name)
		m.ok(name, "", "attach", "--yes", "--description", "Levels")
	}
	m.ok("gauge-1", "", "attach", "--yes")
	m.refused(5, []string{"already, with work in it"}, "gauge-1", "", "attach", "--yes", "--remote", "other", "--name", "gauge-2")
	m.ok("", "", "clone", "gauge-3", "copy")
	m.write("copy", map[string]string{"more.txt": "more"})
	m.git("copy", "add", "-A")
	m.git("copy", "commit", "-q", "-m", "More")
	m.git("copy", "push", "-q")
	m.refused(5, []string{"There is one named gauge-4"}, "", "", "clone", "guage-4")
	out := m.ok("", "", "host", "try", "skua", "--account", "tern")
	assert.Contains(t, out, "5 repositories", "three pages of two")
	assert.NotContains(t, out, "5ec3e7")
	for path, text := range tree(t, m.home) {
		assert.NotContains(t, text, "skua-ticket", "the short-lived token is written nowhere: %s", path)
	}
	s.mu.Lock()
	assert.Greater(t, s.tickets, 8, "each run had one of its own, and a used-up one was exchanged again")
	s.spent = 1
	s.mu.Unlock()
	r = m.run("gauge-1", "", "host", "try", "skua", "--account", "tern")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "skua asks us to wait for 1s.")
}

// byPush is skua's description without a request that makes a repository.
func byPush(t *testing.T) string {
	before, rest, found := strings.Cut(skuaDescription, "[[action.repository-create.request]]")
	require.True(t, found)
	return before + "[action.repository-create]\nby = \"push\"\nmakes = \"private\"\n\n[[action.repository-change" + strings.SplitN(rest, "[[action.repository-change", 2)[1]
}

// TestCreationByPush lets the first push make the repository, and loses each answer.
func TestCreationByPush(t *testing.T) {
	t.Parallel()
	s := &skua{}
	m := s.run(t, byPush(t))
	m.ok("", skuaToken, "account", "add", "--host", "skua")
	m.project("gauge")
	r := m.run("gauge", "", "attach", "--yes", "--description", "Levels", "--visibility", "public")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "the first push makes the repository there, private")
	assert.Contains(t, r.err, "See that this made the repository tern/gauge, and make it public")
	assert.Equal(t, []any{"Levels", "shown", "main"}, []any{s.repos[0]["about"], s.repos[0]["seen"], s.repos[0]["trunk"]})
	assert.Contains(t, m.ok("gauge", "", "attach", "--yes"), "Already attached")
	require.NoError(t, os.Mkdir(filepath.Join(m.home, "bare"), 0o755))
	m.refused(3, []string{"by the first push, and there is nothing here to push", "README.md"}, "bare", "", "attach", "--yes")
	assert.NoDirExists(t, filepath.Join(m.home, "bare/.git"))
	m.project("other")
	m.refused(5, []string{"already, with work in it"}, "other", "", "attach", "--yes", "--name", "gauge")

	lost := 0
	for n := 1; ; n++ {
		name := fmt.Sprint("lost-", n)
		m.project(name)
		before := tree(t, filepath.Join(m.home, name))
		s.mu.Lock()
		s.lose = s.count + n
		s.mu.Unlock()
		first := m.run(name, "", "attach", "--yes", "--description", "Levels")
		s.mu.Lock()
		met := s.count >= s.lose
		s.lose = 0
		s.mu.Unlock()
		if !met {
			break
		}
		if first.code != 0 {
			lost++
		}
		if n%2 == 0 && first.code != 0 {
			if back := m.run(name, "", "detach", "--yes"); back.code != 0 {
				assert.Contains(t, back.err, "is not attached to anything", "it was lost before anything was done")
			}
			assert.Equal(t, before, tree(t, filepath.Join(m.home, name)), "%d", n)
			assert.Negative(t, s.at("tern", name), "what the push made is deleted again")
		}
		m.ok(name, "", "attach", "--yes", "--description", "Levels")
		at := s.at("tern", name)
		require.GreaterOrEqual(t, at, 0)
		assert.Equal(t, []any{"Levels", "shut"}, []any{s.repos[at]["about"], s.repos[at]["seen"]}, "%d %s", n, first.err)
		assert.Equal(t, m.git(name, "rev-parse", "HEAD"), m.git(filepath.Join(s.dir, "tern", name+".git"), "rev-parse", "main"))
	}
	assert.Greater(t, lost, 2)
	nothingIsShownAtFirst(t)
}

// nothingIsShownAtFirst holds that nothing is pushed where others would see it at first.
func nothingIsShownAtFirst(t *testing.T) {
	t.Helper()
	// What would be seen by others at first is not pushed.
	open := &skua{}
	m := open.run(t, strings.Replace(byPush(t), `makes = "private"`, `makes = "public"`, 1))
	m.ok("", skuaToken, "account", "add", "--host", "skua")
	m.project("gauge")
	m.refused(4, []string{"would be seen by others", "--visibility public"}, "gauge", "", "attach", "--yes")
	assert.Empty(t, open.repos)
	m.ok("gauge", "", "attach", "--yes", "--visibility", "public")
}

// TestCreationOverSSH lets a command that a host offers over SSH make the repository; the
// key is put on the host by hand.
func TestCreationOverSSH(t *testing.T) {
	t.Parallel()
	s := &skua{}
	command := filepath.Join(t.TempDir(), "command.sh")
	server := newPlainSSH(t, "ForceCommand /bin/sh "+command)
	before, rest, _ := strings.Cut(byPush(t), "by = \"push\"\nmakes = \"private\"\n")
	m := s.run(t, strings.Replace(before, "[address]\n", "[page]\nkey = \"{+base}/keys\"\n\n[address]\nssh = \""+server.at+"/{owner}/{name}\"\n", 1)+"by = \"ssh\"\n"+
		"[[action.repository-create.request]]\ncommand = [\"new\", \"{owner}/{name}\", \"{description}\"]\n"+rest)
	require.NoError(t, os.WriteFile(command, []byte(`eval "set -- $SSH_ORIGINAL_COMMAND"
[ "$1" = new ] || { echo "commands: new" >&2; exit 2; }
case $2 in */taken) echo "$2 is taken" >&2; exit 3 ;; esac
mkdir -p "`+s.dir+`/$2.git" && git init -q --bare -b main "`+s.dir+`/$2.git" && git -C "`+s.dir+`/$2.git" config http.receivepack true && echo "$3" >"`+s.dir+`/$2.git/about"
echo "made $2"
`), 0o755))
	m.ok("", skuaToken, "account", "add", "--host", "skua")
	m.project("gauge")
	m.refused(3, []string{"has no SSH key", "uncinate key make tern"}, "gauge", "", "attach", "--yes")
	m.ok("", "", "settings", "set", "machine", "pier")
	m.ok("", "", "key", "make", "tern", "--open")
	said := m.refused(3, []string{"takes keys only by hand, on a page", "The page is http", "/keys", "uncinate key install tern --done"}, "", "", "key", "install", "tern", "--yes")
	line := regexp.MustCompile(`ssh-ed25519 .*`).FindString(said)
	require.NoError(t, os.WriteFile(filepath.Join(server.dir, "authorized_keys"), []byte(line+"\n"), 0o600))
	m.ok("", "", "host", "pin", "127.0.0.1:"+server.port, "--fingerprint", server.fingerprint())
	assert.Contains(t, m.ok("", "", "key", "install", "tern", "--done", "--yes"), "signing in to skua works")

	m.ok("gauge", "", "attach", "--yes", "--description", "It's $(touch pwned); the \"levels\"")
	assert.Equal(t, "It's $(touch pwned); the \"levels\"", s.repos[0]["about"])
	assert.Contains(t, m.ok("gauge", "", "attach", "--yes"), "Already attached")
	m.project("other")
	m.refused(5, []string{"skua says: tern/taken is taken"}, "other", "", "attach", "--yes", "--name", "taken")
	assert.NoDirExists(t, filepath.Join(m.home, "other/.git"))
	m.refused(4, []string{"would begin with a dash"}, "other", "", "attach", "--yes", "--description", "--force")
}
