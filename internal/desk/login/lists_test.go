package login

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
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

// pier is a host with 23 repositories, five on a page whatever is asked for.
type pier struct {
	*httptest.Server
	t       *testing.T
	once    int      // the one-time value that the next call must bring
	removed []string // what was deleted
}

func newPier(t *testing.T) *pier {
	p := &pier{t: t}
	p.Server = httptest.NewServer(p)
	t.Cleanup(p.Close)
	return p
}

func (p *pier) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	query := q.URL.Query()
	if q.Method == "DELETE" {
		p.removed = append(p.removed, q.URL.Path)
		return
	}
	n, _ := strconv.Atoi(query.Get("page"))
	from := max(n-1, 0) * 5
	if s := query.Get("from"); s != "" {
		from, _ = strconv.Atoi(s)
	}
	answer := map[string]any{"count": 23, "pages": 5, "end": from + 5, "more": from+5 < 23}
	switch q.URL.Path {
	case "/query":
		assert.Equal(p.t, "secret", query.Get("key"), "each page is signed in to")
		answer["next"] = ""
		if from+5 < 23 {
			answer["next"] = fmt.Sprintf("/query?from=%d", from+5)
		}
	case "/once":
		assert.Equal(p.t, strconv.Itoa(p.once), q.Header.Get("X-Once")+map[bool]string{true: "0"}[q.Header.Get("X-Once") == ""])
		p.once++
		w.Header().Set("X-Once", strconv.Itoa(p.once))
	case "/slow":
		time.Sleep(30 * time.Millisecond)
		answer["more"] = true
	case "/hides":
		if from+5 >= 20 {
			answer["more"] = false
		}
	}
	var rows []any
	for i := from; i < min(from+5, 23); i++ {
		rows = append(rows, map[string]any{"o": "tern", "n": fmt.Sprintf("gauge%02d", i)})
	}
	answer["rows"] = rows
	assert.NoError(p.t, json.NewEncoder(w).Encode(answer))
}

// signedIn is an account there, whose description ends as given.
func (p *pier) signedIn(signIn, more string) *Login {
	d, _ := desktest.New(p.t)
	desc, mistakes := description.Load([]byte("language = 1\nname = \"skua\"\nbase = \"" + p.URL + "\"\n[address]\nhttps = \"{+base}/{owner}/{name}\"\n[signin]\n" + signIn + "\n" + more))
	require.Empty(p.t, mistakes)
	return &Login{Desk: d, Host: &hosts.Host{Name: "skua", At: p.URL, Description: desc}, Account: &accounts.Account{Name: "tern", User: "tern"}, Token: "secret"}
}

const byHeader = `header = { Authorization = "Bearer {token}" }`

// TestListsAreWhole holds that no list is cut short in silence, whatever a host or its description has wrong.
func TestListsAreWhole(t *testing.T) {
	for name, c := range map[string]struct{ at, page, says string }{
		"numbers, a total":           {"/list", `by = "number", size = 10, total = "$.count"`, "gives 5 items a page, and action.repository-list in its description says 10"},
		"numbers, no total":          {"/list", `by = "number", size = 10`, "gives 5 items a page, and action.repository-list in its description says 10"},
		"numbers, a total of pages":  {"/list", `by = "number", size = 5, pages = "$.pages"`, ""},
		"numbers, pages, wrong size": {"/list", `by = "number", size = 10, pages = "$.pages"`, "gives 5 items a page"},
		"numbers, a flag":            {"/list", `by = "number", size = 10, more = "$.more"`, ""},
		"offsets, a total":           {"/list", `by = "offset", size = 10, total = "$.count"`, "gives 5 items a page"},
		"offsets, no total":          {"/list", `by = "offset", size = 5`, ""},
		"a cursor with a flag":       {"/list", `by = "cursor", at = "$.end", more = "$.more"`, ""},
		"a cursor that hides":        {"/hides", `by = "cursor", at = "$.end", more = "$.more", total = "$.count"`, "says that the list has 23 items, and gave 20"},
		"one-time values":            {"/once", `by = "cursor", at = "$.end", more = "$.more"`, ""},
	} {
		p := newPier(t)
		l := p.signedIn(byHeader, "[[action.repository-list.request]]\nurl = \"{+base}"+c.at+"\"\nquery = { page = \"{page}\", from = \"{offset}{cursor}\" }\nheaders = { X-Once = \"{once}\" }\nkeep = { once = \"header X-Once\" }\n"+
			"items = \"$.rows[*]\"\nread = { owner = \"$.o\", name = \"$.n\" }\npage = { "+c.page+" }\n")
		if c.at != "/once" {
			l.Host.Actions["repository-list"].Requests[0].Keep = nil
		}
		all, err := l.Repositories(t.Context(), "")
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, name)
			continue
		}
		if assert.NoError(t, err, name) {
			assert.Len(t, all, 23, name)
		}
	}
}

func TestSlowListsEnd(t *testing.T) {
	was := mostTime
	mostTime = 100 * time.Millisecond
	defer func() { mostTime = was }()
	l := newPier(t).signedIn(byHeader, "[[action.repository-list.request]]\nurl = \"{+base}/slow\"\nquery = { from = \"{cursor}\" }\nitems = \"$.rows[*]\"\nread = { owner = \"$.o\", name = \"$.n\" }\npage = { by = \"cursor\", at = \"$.end\", more = \"$.more\" }\n")
	_, err := l.Repositories(t.Context(), "")
	require.True(t, fault.Is(err, fault.Unreachable))
	assert.ErrorContains(t, err, "takes longer than 100ms")
}

func TestNextAddressStaysSignedIn(t *testing.T) {
	p := newPier(t)
	l := p.signedIn(`query = { key = "{token}" }`, "[[action.repository-list.request]]\nurl = \"{+base}/query\"\nitems = \"$.rows[*]\"\nread = { owner = \"$.o\", name = \"$.n\" }\npage = { by = \"next\", at = \"$.next\" }\n")
	all, err := l.Repositories(t.Context(), "")
	require.NoError(t, err)
	assert.Len(t, all, 23)
	// The host does not search: what was not asked for is left out here.
	all, err = l.Repositories(t.Context(), "GAUGE1")
	require.NoError(t, err)
	assert.Len(t, all, 10)
	all, err = l.Repositories(t.Context(), "almanac")
	require.NoError(t, err)
	assert.Empty(t, all)
}

func TestNothingIsRemovedInTheWrongPlace(t *testing.T) {
	p := newPier(t)
	l := p.signedIn(byHeader, "[[action.key-remove.request]]\nurl = \"{+base}/list\"\nkeep = { number = \"$.nothing\" }\n[[action.key-remove.request]]\nmethod = \"DELETE\"\nurl = \"{+base}/keys/{number}\"\n"+
		"[[action.repository-delete.request]]\nmethod = \"DELETE\"\nurl = \"{+base}/repositories/{id}\"\n"+
		"[[action.repository-show.request]]\nurl = \"{+base}/list\"\nchoose = { from = \"$.rows\", where = \"$.n\", is = \"{name}\" }\nread = { owner = \"$.o\", name = \"$.n\" }\n")
	_, err := l.Do(t.Context(), "key-remove", "remove a key", description.Vars{"id": "7"})
	require.True(t, fault.Is(err, fault.Unreachable))
	assert.ErrorContains(t, err, "{number} is not where action.key-remove keeps it from")
	_, err = l.Do(t.Context(), "repository-delete", "delete it", description.Vars{"name": "gauge"})
	assert.ErrorContains(t, err, "{id} is not known")
	assert.Empty(t, p.removed, "nothing was asked to be removed")
	r, found, err := l.Repository(t.Context(), "tern", "gauge03")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "gauge03", r.Name)
	_, found, err = l.Repository(t.Context(), "tern", "gauge99")
	require.NoError(t, err)
	assert.False(t, found, "nothing in a list that was searched loosely is it")
}
