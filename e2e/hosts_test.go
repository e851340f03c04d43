package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// TestEveryHost does the same on each of the unlike practice hosts; nothing but the
// description knows which one it is.
func TestEveryHost(t *testing.T) {
	t.Parallel()
	for _, name := range practice.Hosts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHostOf(t, name)
			pier, launch := signedIn(t, h), signedIn(t, h)
			pier.project("gauge")
			assert.Contains(t, pier.ok("gauge", "", "attach", "--yes", "--description", "Levels"), "checked  "+name+" holds the same commit, private, default branch main")
			assert.Contains(t, pier.ok("gauge", "", "attach", "--yes"), "Already attached")
			r, err := h.Store.Find("tern", "tern", "gauge")
			require.NoError(t, err)
			assert.Equal(t, []string{"private", "main", "Levels"}, []string{r.Visibility, r.Default, r.Description}, "the mark is taken out again")

			owner := "saltmarsh"
			if name == "petrel" {
				owner = "saltmarsh/gauges"
			}
			pier.project("shared")
			pier.ok("shared", "", "attach", "--yes", "--name", owner+"/shared", "--visibility", "public")
			r, err = h.Store.Find("dunlin", owner, "shared")
			require.NoError(t, err)
			assert.Equal(t, "public", r.Visibility)
			page := strings.TrimSpace(pier.ok("shared", "", "visit", "--print"))
			pier.refused(5, []string{"already, with work in it", "--name gauge-2"}, "", "", "attach", "--yes", "--name", "gauge", "shared", "--remote", "other")

			launch.ok("", "", "clone", "gauge")
			launch.ok("", "", "clone", owner+"/shared", "by-name")
			launch.ok("", "", "clone", page, "by-page")
			assert.Equal(t, tree(t, filepath.Join(pier.home, "shared")), tree(t, filepath.Join(launch.home, "by-page")))
			launch.refused(5, []string{"There is one named gauge"}, "", "", "clone", "guage")
			launch.write("gauge", map[string]string{"more.txt": "more\n"})
			launch.git("gauge", "add", "-A")
			launch.git("gauge", "commit", "-q", "-m", "More")
			launch.git("gauge", "push", "-q")
			assert.Contains(t, pier.ok("gauge", "", "sync"), "Received 1 commit")

			// A sign-in that is no good is named as such, in each host's own way of saying it.
			pier.refused(5, []string{name + " does not accept the token"}, "", map[string]string{"gannet": "plunge~", "petrel": "burrow+", "fulmar": "oil~"}[name]+"not-the-token\n", "account", "add", "other", "--host", name, "--user", "tern")
			// What only the host knows is told in the host's words.
			_, err = h.Store.Create(t.Context(), "knot", practice.Repo{Owner: "knot", Name: "hidden", Visibility: "private"})
			require.NoError(t, err)
			launch.refused(5, []string{"no repository knot/hidden, or tern may not see it"}, "", "", "clone", "knot/hidden")
		})
	}
}

// TestEveryHostLosesEveryAnswer loses each request and each answer of an attach, on
// each host: run again it ends as it should, with one repository.
func TestEveryHostLosesEveryAnswer(t *testing.T) {
	t.Parallel()
	for _, name := range practice.Hosts[1:] { // TestTrouble does it on the first one
		for _, kind := range []string{"lose", "cut"} {
			t.Run(name+" "+kind, func(t *testing.T) {
				t.Parallel()
				failed := 0
				for n := 0; ; n++ {
					h := newHostOf(t, name)
					m := signedIn(t, h)
					m.project("gauge")
					require.NoError(t, h.Faults.Set([]string{fmt.Sprintf("%s after %d times 1", kind, n)}))
					first := m.run("gauge", "", "attach", "--yes", "--description", "Levels")
					if len(h.Faults.Log()) == 0 {
						break
					}
					if first.code != 0 {
						failed++
					}
					m.ok("gauge", "", "attach", "--yes", "--description", "Levels")
					all := h.Store.List("tern", "")
					require.Len(t, all, 1, "%d %s", n, first.err)
					assert.Equal(t, []string{"Levels", "main"}, []string{all[0].Description, all[0].Default}, "%d", n)
					assert.Equal(t, m.git("gauge", "rev-parse", "HEAD"), m.git(h.Store.GitDir(all[0].ID), "rev-parse", "main"))
				}
				assert.Positive(t, failed)
			})
		}
	}
}

func TestHostTry(t *testing.T) {
	t.Parallel()
	for _, name := range practice.Hosts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHostOf(t, name)
			m := signedIn(t, h)
			m.project("gauge")
			out := m.ok("", "", "host", "try", name)
			assert.Contains(t, out, "there is no repository to try it on")
			m.ok("gauge", "", "attach", "--yes")
			m.refused(3, []string{"there is no terminal to ask on", "Create a scratch repository and scratch keys"}, "", "", "host", "try", name, "--write")
			out = m.ok("", "", "host", "try", name, "--write", "--yes")
			for _, words := range []string{"the token is tern's", "tern/gauge, private, default branch main", "every form of the address is read as tern/gauge", "answered as not found",
				"the description was changed, and nothing else", "a key was added, and is listed", "is shown no more"} {
				assert.Contains(t, out, words)
			}
			if name != "fulmar" { // which has none of these
				for _, words := range []string{"it is protected no more", "a web hook was added, and is listed", "it is closed, and shown so", "it is accepted, and shown so"} {
					assert.Contains(t, out, words)
				}
			}
			assert.NotContains(t, out, "  bad, ")
			assert.NotContains(t, out, h.token["tern"])
			all, keys := h.Store.List("tern", ""), h.Store.Keys("tern")
			assert.Len(t, all, 1, "nothing is left behind")
			assert.Empty(t, keys)

			// Cut at each request in turn, it leaves nothing behind either, or says what.
			// Answers that nobody can read are no better, be it one or all that follow.
			for n := 3; n < 84; n += 4 {
				kind := []string{"fail=500 after %d times 1", "garbage after %d times 1", "garbage after %d times 6"}[n%3]
				require.NoError(t, h.Faults.Set([]string{fmt.Sprintf(kind, n)}))
				r := m.run("", "", "host", "try", name, "--write", "--yes")
				if len(h.Faults.Log()) > 0 && r.code != 0 {
					assert.Contains(t, r.out, "  bad, ", r.err)
				}
				require.NoError(t, h.Faults.Set(nil))
				if strings.Contains(r.err, "may be left behind on") { // it says so, and the next one takes it away
					m.ok("", "", "host", "try", name, "--write", "--yes")
				}
				assert.Len(t, h.Store.List("tern", ""), 1, "fault at request %d\n%s%s", n, r.out, r.err)
				assert.Empty(t, h.Store.Keys("tern"), "fault at request %d\n%s%s", n, r.out, r.err)
			}
			assert.Contains(t, m.ok("", "", "host", "compare"), name)
		})
	}
}

// TestHostTryTellsOfEachAction gives a row for each action that a command uses, tries people by whoever else has an account here, and
// says why it left the others alone.
func TestHostTryTellsOfEachAction(t *testing.T) {
	t.Parallel()
	h := newHostOf(t, "gannet")
	m := signedIn(t, h)
	m.ok("", h.token["knot"]+"\n", "account", "add", "knot", "--host", "gannet")
	m.refused(2, []string{"the person is to be somebody else"}, "", "", "host", "try", "gannet", "--account", "tern", "--write", "--person", "tern")
	said := m.refused(3, []string{"Let knot into the scratch repository, and out again"}, "", "", "host", "try", "gannet", "--account", "tern", "--write")
	assert.Empty(t, h.Store.List("tern", ""), said)
	var doc struct {
		Good        bool
		Undescribed []string
		Actions     []struct{ Action, How, State, Says string }
	}
	require.NoError(t, json.Unmarshal([]byte(m.ok("", "", "host", "try", "gannet", "--account", "tern", "--write", "--yes", "--json")), &doc))
	assert.True(t, doc.Good)
	assert.Equal(t, []string{"token-renew"}, doc.Undescribed)
	var alone []string
	for _, a := range doc.Actions {
		if a.How == "not tried" {
			alone = append(alone, a.Action)
			assert.NotEmpty(t, a.Says)
		} else {
			assert.Equal(t, "good", a.State, "%s %s", a.Action, a.Says)
		}
	}
	assert.Equal(t, []string{"repository-transfer", "repository-copy", "repository-import", "token-revoke", "token-end"}, alone)
	assert.Empty(t, h.Store.List("tern", ""), "nothing is left behind")
	assert.Empty(t, h.Store.List("knot", ""))

	out := m.run("", "", "host", "try", "gannet", "--account", "tern", "--write", "--yes", "--person", "nobody-there")
	assert.Equal(t, 1, out.code)
	assert.Regexp(t, `invitation-send +bad, wrote +POST 4`, out.out)
	assert.Contains(t, out.out, "the answer begins: ", "the answer that was refused is shown")
	assert.Regexp(t, `people-grant +not tried`, out.out)
	least, err := h.Store.NewToken("plunge~", "tern", []string{"self", "look", "launch", "steer", "sink"}, time.Now().AddDate(1, 0, 0))
	require.NoError(t, err)
	m.ok("", least+"\n", "account", "add", "tern", "--host", "gannet", "--may", "read")
	out = m.run("", "", "host", "try", "gannet", "--account", "tern", "--write", "--yes")
	assert.Regexp(t, `key-add +not tried +the token lacks the scope lines`, out.out, out.err)
	assert.Empty(t, h.Store.List("tern", ""))
}

// TestTokenThatMayOnlyRead names the scope that a push lacks, on hosts that tell scopes.
func TestTokenThatMayOnlyRead(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, begins, lacks string
		scopes              []string
	}{{"gannet", "plunge~", "work", []string{"self", "look"}}, {"petrel", "burrow+", "feed", []string{"hear"}}} {
		h := newHostOf(t, c.name)
		m := signedInAs(t, h, "tern")
		m.project("gauge")
		m.ok("gauge", "", "attach", "--yes")
		token, err := h.Store.NewToken(c.begins, "tern", c.scopes, time.Now().AddDate(1, 0, 0))
		require.NoError(t, err)
		m.ok("", token+"\n", "account", "add", "tern", "--host", c.name, "--user", "tern", "--may", "read")
		m.write("gauge", map[string]string{"more.txt": "more\n"})
		said := m.refused(5, []string{"the token of account tern may not send work: it lacks the scope " + c.lacks, "--may read --may write"}, "gauge", "", "sync", "--save", "--message", "More", "--yes")
		assert.NotContains(t, said, "run again")
	}
}

// TestPublishedDescriptions adds hosts by what they publish of themselves: shown, asked, and looked at on the host first.
func TestPublishedDescriptions(t *testing.T) {
	t.Parallel()
	for _, name := range practice.Hosts {
		h := newHostOf(t, name)
		m := person(t, "tern")
		m.refused(3, []string{"there is no terminal to ask on", "Let it say how ", "Send what its accounts sign in with to " + h.URL}, "", "", "host", "add", h.URL)
		assert.Contains(t, m.ok("", "", "host", "add", h.URL+"/", "--as", "own", "--yes"), "The host own is added, at "+h.URL)
		m.ok("", h.token["tern"]+"\n", "account", "add", "--host", "own", "--user", "tern")
		m.project("gauge")
		m.ok("gauge", "", "attach", "--yes")
	}
}

// TestPublishedByWhomever adds hosts by what somebody publishes at an address, good and bad.
func TestPublishedByWhomever(t *testing.T) {
	t.Parallel()
	h := newHostOf(t, "gannet")
	var body string
	status := 200
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		assert.Empty(t, q.Header.Get("Authorization"))
		if q.URL.Path != "/host.toml" && q.URL.Path != "/.well-known/uncinate-host.toml" {
			status := http.StatusTeapot
			if strings.HasPrefix(q.URL.Path, "/fine") {
				status = http.StatusUnauthorized
			}
			http.Error(w, "no", status)
			return
		}
		w.WriteHeader(status)
		fmt.Fprint(w, body)
	}))
	t.Cleanup(s.Close)
	m := person(t, "tern")
	small := func(base, me string) string {
		return "language = 1\nname = \"skua\"\nbase = \"" + base + "\"\n[address]\nhttps = \"{+base}/{owner}/{name}.git\"\n[signin]\nheader = { Skua = \"{token}\" }\n[[action.identify.request]]\nurl = \"{+base}" + me + "\"\nread = { user = \"$.me\" }\n"
	}
	for _, c := range []struct {
		at, body string
		status   int
		code     int
		says     string
	}{
		{"", small(h.URL, "/me"), 200, 4, "publishes a description of another host, " + h.URL + ", as its own"},
		{"", "", 404, 5, "publishes no description at"},
		{"", "<html>", 200, 2, "has 1 mistake"},
		{"", "#" + strings.Repeat("x", 300<<10), 200, 4, "larger than a description may be"},
		{"", small(s.URL, "/teapot"), 500, 5, "publishes no description at"},
		{"/other.toml", "", 200, 5, "publishes no description at"},
	} {
		body, status = c.body, c.status
		m.refused(c.code, []string{c.says}, "", "", "host", "add", s.URL+c.at, "--yes")
	}
	// Nothing is asked at the address that it names before the person agreed; then it has to answer as it says.
	var asked atomic.Int32
	named := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1) }))
	t.Cleanup(named.Close)
	status, body = 200, small(named.URL, "/me")
	m.refused(3, []string{"Send what its accounts sign in with to " + named.URL}, "", "", "host", "add", s.URL+"/host.toml")
	assert.Zero(t, asked.Load())
	m.refused(6, []string{"does not answer as this description says"}, "", "", "host", "add", s.URL+"/host.toml", "--yes")
	assert.EqualValues(t, 1, asked.Load())
	assert.NotContains(t, m.ok("", "", "host", "list"), "skua")
	body = small(s.URL, "/fine/me")
	assert.Contains(t, m.ok("", "", "host", "add", s.URL, "--yes"), "The host skua is added")
	m.refused(1, []string{"there is no file git.skerry.example", "host add https://git.skerry.example"}, "", "", "host", "add", "git.skerry.example")
	m.refused(1, []string{"host add " + h.URL}, "", "", "host", "add", strings.TrimPrefix(h.URL, "http://"))
	m.refused(4, []string{"could be anybody's"}, "", "", "host", "add", "http://git.skerry.example")
}
