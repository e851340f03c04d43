package login

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/desktest"
	"uncinate/internal/desk/hosts"
)

// TestListsOfEveryKind reads lists from hosts that page in different ways, and stops
// at those that have no end or lead away.
func TestListsOfEveryKind(t *testing.T) {
	var elsewhere, pages atomic.Int64
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere.Add(1) }))
	t.Cleanup(other.Close)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		assert.Equal(t, "Bearer secret", q.Header.Get("Authorization"))
		pages.Add(1)
		n := q.URL.Query().Get("p")
		item := map[string]string{"o": "tern", "n": "gauge" + n}
		answer := map[string]any{"rows": []any{item}}
		switch q.URL.Path {
		case "/link":
			if n == "" {
				w.Header().Set("Link", `</link?p=2>; rel="next"`)
			}
		case "/next":
			if n == "" {
				answer["more"] = "next?p=2"
			}
		case "/endless":
			answer["more"] = "endless?p=x"
		case "/numbered":
			// Eight rows, three on a page, by number or by offset.
			from, err := strconv.Atoi(q.URL.Query().Get("from"))
			if err != nil {
				page, err := strconv.Atoi(q.URL.Query().Get("page"))
				assert.NoError(t, err)
				from = (page - map[bool]int{true: 0, false: 1}[q.URL.Query().Get("zero") != ""]) * 3
			}
			rows := []any{}
			for i := from; i < min(from+3, 8); i++ {
				rows = append(rows, map[string]string{"o": "tern", "n": fmt.Sprint("n", i)})
			}
			total := 8
			if q.URL.Query().Get("huge") != "" {
				total = 1 << 40
			}
			w.Header().Set("X-Total", fmt.Sprint(total))
			answer = map[string]any{"rows": rows, "total": total}
		case "/away":
			answer["more"] = other.URL + "/steal"
		}
		assert.NoError(t, json.NewEncoder(w).Encode(answer))
	}))
	t.Cleanup(s.Close)
	d, _ := desktest.New(t)
	ask := func(path, page string) ([]description.Repository, error) {
		text := "language = 1\nname = \"skua\"\nbase = \"" + s.URL + "\"\n[address]\nhttps = \"{+base}/{owner}/{name}\"\n[signin]\nheader = { Authorization = \"Bearer {token}\" }\n" +
			"[[action.repository-list.request]]\nurl = \"{+base}/" + path + "\"\nitems = \"$.rows[*]\"\nquery = { page = \"{page}\", from = \"{offset}\" }\nread = { owner = \"$.o\", name = \"$.n\" }\npage = " + page + "\n"
		desc, mistakes := description.Load([]byte(text))
		require.Empty(t, mistakes)
		l := &Login{Desk: d, Host: &hosts.Host{Name: "skua", At: s.URL, Description: desc}, Account: &accounts.Account{Name: "tern", User: "tern"}, Token: "secret"}
		pages.Store(0)
		return l.Repositories(t.Context(), "")
	}
	for path, page := range map[string]string{"link": `{ by = "link" }`, "next": `{ by = "next", at = "$.more" }`} {
		all, err := ask(path, page)
		require.NoError(t, err, path)
		assert.Len(t, all, 2, path)
		assert.Equal(t, "gauge2", all[1].Name)
	}
	_, err := ask("endless", `{ by = "next", at = "$.more" }`)
	assert.ErrorContains(t, err, "its list has no end")
	assert.EqualValues(t, MostPages, pages.Load())
	_, err = ask("away", `{ by = "next", at = "$.more" }`)
	assert.True(t, fault.Is(err, fault.Refused))
	assert.Zero(t, elsewhere.Load(), "the other address was never asked")
	for _, c := range []string{`{ by = "number", total = "$.total", size = 3 }`, `{ by = "number", size = 3, first = 0 }`, `{ by = "offset", total = "header X-Total", size = 3 }`, `{ by = "offset", size = 3 }`} {
		all, err := ask(map[bool]string{true: "numbered?zero=1", false: "numbered"}[strings.Contains(c, "first = 0")], c)
		require.NoError(t, err, c)
		var names []string
		for _, r := range all {
			names = append(names, r.Name)
		}
		assert.Equal(t, []string{"n0", "n1", "n2", "n3", "n4", "n5", "n6", "n7"}, names, c)
	}
	_, err = ask("numbered?huge=1", `{ by = "number", total = "$.total", size = 3 }`)
	assert.ErrorContains(t, err, "its list has no end")
}

func TestRefusalsNameTheCauseAndTheNextThing(t *testing.T) {
	status, body := 0, ""
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Retry-After", "7")
		w.WriteHeader(status)
		_, _ = w.Write([]byte(body))
	}))
	t.Cleanup(s.Close)
	text := "language = 1\nname = \"skua\"\nbase = \"" + s.URL + "\"\n[address]\nhttps = \"{+base}/{owner}/{name}\"\n[signin]\nheader = { T = \"{token}\" }\n[scopes]\ncreate = [\"make\"]\n" +
		"[action.repository-create]\nneeds = [\"create\"]\n[[action.repository-create.request]]\nmethod = \"POST\"\nurl = \"{+base}/x\"\nread = { id = \"$.id\" }\n[[refusal]]\nstatus = 403\nat = \"$.scope\"\nmeans = \"scope-missing\"\n"
	desc, mistakes := description.Load([]byte(text))
	require.Empty(t, mistakes)
	d, _ := desktest.New(t)
	for _, c := range []struct {
		status int
		body   string
		kind   fault.Kind
		says   string
		detail string
		remedy string
	}{
		{401, "", fault.HostSaidNo, "does not accept the token of account tern", "", "uncinate account add tern --host skua"},
		{403, `{"scope":"make","detail":"ask for make"}`, fault.HostSaidNo, "it lacks a scope", "It takes the scope make.", "uncinate account add tern --host skua"},
		{403, "", fault.HostSaidNo, "does not allow account tern to make it", "", ""},
		{429, "", fault.Unreachable, "asks us to wait", "It names 7 seconds.", ""},
		{503, `{"title":"Low tide"}`, fault.Unreachable, "cannot work now", "skua says: Low tide", ""},
		{402, "", fault.HostSaidNo, "does not allow it on your plan", "", ""},
		{404, "", fault.HostSaidNo, "has nothing of that name, or account tern may not see it", "", ""},
		{200, "<html>", fault.Unreachable, "not the API that the description expects", "It begins: <html>", ""},
	} {
		status, body = c.status, c.body
		l := &Login{Desk: d, Host: &hosts.Host{Name: "skua", At: s.URL, Description: desc}, Account: &accounts.Account{Name: "tern", User: "tern", Host: "skua"}, Token: "secret"}
		_, err := l.Do(t.Context(), "repository-create", "make it", nil)
		f := fault.Of(err)
		require.Equal(t, c.kind, f.Kind, "%d %s", c.status, err)
		assert.Contains(t, f.Says, c.says)
		assert.Contains(t, strings.Join(f.Details, "\n"), c.detail)
		if c.remedy != "" {
			require.NotEmpty(t, f.Remedies)
			assert.Equal(t, c.remedy, f.Remedies[0].Command)
		}
	}
	_, err := (&Login{Desk: d, Host: &hosts.Host{Name: "skua", At: s.URL, Description: desc}}).Do(t.Context(), "key-list", "list keys", nil)
	assert.ErrorContains(t, err, "skua offers no way to list keys")
	assert.False(t, Means(errors.New("x"), description.NotFound))
}

// TestAskingAgain lets a host fail in unlike ways: what is safe is asked again, what
// may have been done is not.
func TestAskingAgain(t *testing.T) {
	var mu sync.Mutex // a cut line's handler may end after its caller knows
	asked := 0
	var answers []func(w http.ResponseWriter)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		mu.Lock()
		asked++
		answer := answers[min(asked, len(answers))-1]
		mu.Unlock()
		answer(w)
	}))
	t.Cleanup(s.Close)
	status := func(code int, headers ...string) func(http.ResponseWriter) {
		return func(w http.ResponseWriter) {
			for i := 0; i+1 < len(headers); i += 2 {
				w.Header().Set(headers[i], headers[i+1])
			}
			w.WriteHeader(code)
			_, _ = io.WriteString(w, `{"name":"gauge","owner":"tern"}`)
		}
	}
	cut := func(http.ResponseWriter) { panic(http.ErrAbortHandler) }
	desc, mistakes := description.Load([]byte("language = 1\nname = \"skua\"\nbase = \"" + s.URL + "\"\n[address]\nhttps = \"{+base}/{owner}/{name}\"\n[signin]\nheader = { Authorization = \"Bearer {token}\" }\n" +
		"[[action.repository-show.request]]\nurl = \"{+base}/x\"\nread = { owner = \"$.owner\", name = \"$.name\" }\n" +
		"[[action.repository-create.request]]\nmethod = \"POST\"\nurl = \"{+base}/x\"\nread = { owner = \"$.owner\", name = \"$.name\" }\n" +
		"[[action.repository-list.request]]\nmethod = \"POST\"\nrepeat = true\nurl = \"{+base}/x\"\nread = { owner = \"$.owner\", name = \"$.name\" }\n"))
	require.Empty(t, mistakes)
	for name, c := range map[string]struct {
		action  string
		answers []func(http.ResponseWriter)
		asked   int
		kind    fault.Kind // 0: it goes well
		slept   time.Duration
	}{
		"a cut line, looked again":          {"repository-show", []func(http.ResponseWriter){cut, cut, status(200)}, 3, 0, 1250 * time.Millisecond},
		"a line that is always cut":         {"repository-show", []func(http.ResponseWriter){cut}, 3, fault.Unreachable, 1250 * time.Millisecond},
		"a cut line, made once":             {"repository-create", []func(http.ResponseWriter){cut, status(200)}, 1, fault.Unreachable, 0},
		"a POST that only looks":            {"repository-list", []func(http.ResponseWriter){cut, status(200)}, 2, 0, 250 * time.Millisecond},
		"down for a moment":                 {"repository-show", []func(http.ResponseWriter){status(502), status(200)}, 2, 0, 250 * time.Millisecond},
		"down, and something may be made":   {"repository-create", []func(http.ResponseWriter){status(502), status(200)}, 1, fault.Unreachable, 0},
		"too many, nothing was made":        {"repository-create", []func(http.ResponseWriter){status(429, "Retry-After", "7"), status(200)}, 2, 0, 7 * time.Second},
		"busy, by date":                     {"repository-show", []func(http.ResponseWriter){status(503, "Retry-After", "Thu, 01 Jan 1970 00:00:00 GMT"), status(200)}, 2, 0, 0},
		"too many, for longer than we wait": {"repository-show", []func(http.ResponseWriter){status(429, "Retry-After", "200")}, 1, fault.Unreachable, 0},
		"too many, again and again":         {"repository-show", []func(http.ResponseWriter){status(429, "Retry-After", "50")}, 3, fault.Unreachable, 100 * time.Second},
		"failed":                            {"repository-show", []func(http.ResponseWriter){status(500)}, 1, fault.Unreachable, 0},
	} {
		d, tell := desktest.New(t)
		l := &Login{Desk: d, Host: &hosts.Host{Name: "skua", At: s.URL, Description: desc}, Account: &accounts.Account{Name: "tern", User: "tern"}, Token: "secret"}
		mu.Lock()
		asked, answers = 0, c.answers
		mu.Unlock()
		_, err := l.Do(t.Context(), c.action, "look", nil)
		mu.Lock()
		assert.Equal(t, c.asked, asked, name)
		mu.Unlock()
		assert.Equal(t, c.slept, tell.Slept.Round(time.Millisecond), name)
		if c.kind == 0 {
			assert.NoError(t, err, name)
		} else {
			assert.True(t, fault.Is(err, c.kind), "%s: %v", name, err)
		}
		if c.slept >= 7*time.Second {
			assert.Contains(t, tell.Notes[0], "skua asks us to wait for", name)
		}
	}
}
