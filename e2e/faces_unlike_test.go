package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// TestQueryLanguage is about a host with one address and a query language.
func TestQueryLanguage(t *testing.T) {
	t.Parallel()
	reach := map[string]string{"private": "shut", "members": "kin", "public": "open", "shut": "private", "kin": "members", "open": "public"}
	may := []string{"none", "gaze", "row", "helm"}
	f := newFacade(t, "islet", func(q *http.Request) string { return strings.TrimPrefix(q.Header.Get("Reef"), "token ") }, func(f *facade, w http.ResponseWriter, q *http.Request, s practice.Session) {
		woe := func(kind, says string) {
			tells(w, 200, map[string]any{"told": nil, "woes": []any{map[string]string{"kind": kind, "says": says}}})
		}
		if s.User == nil {
			woe("stranger", "Nobody knows this token.")
			return
		}
		me, st := s.User.Name, f.back.Store
		in := bodyOf(q)
		given, _ := in["given"].(map[string]any)
		of, called := word(given["of"]), word(given["called"])
		show := func(r *practice.Repo) any {
			return map[string]any{"id": r.ID, "of": r.Owner, "called": r.Name, "note": r.Description, "seen": reach[r.Visibility], "trunk": r.Default, "may": may[st.Right(r, me)], "page": f.URL + "/see/" + r.Owner + "/" + r.Name}
		}
		told := map[string]any{}
		var err error
		query := word(in["query"])
		switch what := strings.FieldsFunc(query, func(c rune) bool { return c == ' ' || c == '{' || c == '}' || c == '(' }); strings.Join(what[:2], " ") {
		case "look self":
			assert.Equal(f.t, "look {self{login}}", query)
			told["self"] = map[string]string{"login": me, "mail": s.User.Email}
		case "look holds":
			from := 0
			_, _ = fmt.Sscanf(query, `look {holds (after: "c%d")`, &from)
			all := st.List(me, "") // it does not search
			nodes := []any{}
			for _, r := range all[min(from, len(all)):min(from+4, len(all))] {
				nodes = append(nodes, show(r))
			}
			told["holds"] = map[string]any{"nodes": nodes, "end": fmt.Sprintf("c%d", from+4), "more": from+4 < len(all)}
		case "look hold":
			var r *practice.Repo
			if r, err = st.Find(me, of, called); err == nil {
				told["hold"] = show(r)
			}
		case "do make":
			var r *practice.Repo
			if r, err = st.Create(q.Context(), me, practice.Repo{Owner: of, Name: called, Description: word(given["note"]), Visibility: reach[word(given["seen"])], Default: word(given["trunk"])}); err == nil {
				told["make"] = show(r)
			}
		case "do mend":
			var r *practice.Repo
			if r, err = st.Change(q.Context(), me, of, called, 0, changes(word(given["as"]), word(given["note"]), word(given["trunk"]), reach[word(given["seen"])])); err == nil {
				told["mend"] = show(r)
			}
		case "do sink":
			err = st.Delete(me, of, called, 0)
		case "look crew":
			var r *practice.Repo
			if r, err = st.Find(me, of, called); err == nil {
				var crew []any
				for _, p := range st.Members(r) {
					crew = append(crew, map[string]string{"login": p.User, "may": may[p.Right]})
				}
				told["crew"] = crew
			}
		case "do let":
			right := map[string]int{"none": 0, "gaze": 1, "row": 2, "helm": 3}[word(given["may"])]
			err = st.SetRight(q.Context(), me, of, called, word(given["who"]), right, 0)
		default:
			woe("odd", "Nobody understands "+query)
			return
		}
		if err != nil {
			kind, says := kindOf(err)
			woe(map[string]string{"none": "absent", "taken": "taken"}[kind], says)
			return
		}
		tells(w, 200, map[string]any{"told": told})
	})
	m := person(t, "tern")
	f.play(m, f.description(m))
	for _, a := range f.asked {
		assert.Equal(t, "POST /asks", a)
	}
}

// TestTenants is about a host with a tenant in each path, loose searches, and bodies and answers of several kinds.
func TestTenants(t *testing.T) {
	t.Parallel()
	f := newFacade(t, "mole", func(q *http.Request) string { return q.URL.Query().Get("key") }, func(f *facade, w http.ResponseWriter, q *http.Request, s practice.Session) {
		st := f.back.Store
		if s.User == nil {
			tells(w, 401, map[string]string{"detail": "No such key."})
			return
		}
		me := s.User.Name
		show := func(r *practice.Repo) map[string]any {
			return map[string]any{"ref": r.ID, "full": r.Owner + "/" + r.Name, "blurb": r.Description, "closed": r.Visibility != "public", "kin": r.Visibility == "members", "main": r.Default, "grade": 10 * st.Right(r, me)}
		}
		fail := func(err error) {
			kind, says := kindOf(err)
			tells(w, map[string]int{"none": 404, "taken": 409, "denied": 403}[kind]+map[bool]int{true: 422}[kind == "invalid" || kind == "failed"], map[string]string{"detail": says})
		}
		seen := func(closed, kin string) string {
			return map[string]string{"true": map[string]string{"true": "members", "false": "private"}[kin], "false": "public"}[closed]
		}
		path := strings.Split(strings.TrimPrefix(q.URL.EscapedPath(), "/t/saltern/"), "/")
		full := ""
		if len(path) > 1 {
			full, _ = url.PathUnescape(path[1])
		}
		owner, name, _ := strings.Cut(full, "/")
		body := map[string]any{}
		if q.Method == "PATCH" || q.Method == "PUT" {
			assert.Equal(f.t, "application/vnd.mole+json", q.Header.Get("Content-Type"))
			body = bodyOf(q)
		}
		switch path[0] + " " + q.Method + fmt.Sprint(len(path)) {
		case "me GET1":
			w.Header().Set("Content-Type", "text/xml; charset=utf-8")
			fmt.Fprintf(w, `<?xml version="1.0" encoding="UTF-8"?><person mail=%q><login>%s</login></person>`, s.User.Email, me)
		case "holds GET1":
			n, err := strconv.Atoi(q.URL.Query().Get("page"))
			assert.NoError(f.t, err)
			all, out := st.List(me, ""), []any{}
			for _, r := range all[min(3*n, len(all)):min(3*n+3, len(all))] {
				out = append(out, show(r))
			}
			tells(w, 200, map[string]any{"holds": out, "of": (len(all) + 2) / 3})
		case "seek GET1":
			hits := []any{}
			for _, r := range st.List(me, q.URL.Query().Get("word")) {
				hits = append(hits, show(r))
			}
			tells(w, 200, map[string]any{"hits": hits})
		case "holds POST1":
			assert.NoError(f.t, q.ParseMultipartForm(1<<20))
			owner, name, _ := strings.Cut(q.FormValue("full"), "/")
			r, err := st.Create(q.Context(), me, practice.Repo{Owner: owner, Name: name, Description: q.FormValue("blurb"), Visibility: seen(q.FormValue("closed"), q.FormValue("kin")), Default: q.FormValue("main")})
			if err != nil {
				fail(err)
				return
			}
			tells(w, 201, show(r))
		case "holds GET2", "holds GET3":
			r, err := st.Find(me, owner, name)
			if err != nil {
				fail(err)
				return
			}
			if len(path) == 3 {
				folk := []any{}
				for _, p := range st.Members(r) {
					folk = append(folk, map[string]any{"login": p.User, "grade": 10 * p.Right})
				}
				tells(w, 200, map[string]any{"folk": folk})
				return
			}
			tells(w, 200, show(r))
		case "refs PATCH2", "refs DELETE2":
			assert.NotEmpty(f.t, path[1], "never the whole collection")
			r, err := st.ByID(me, path[1])
			if err == nil && q.Method == "DELETE" {
				err = st.Delete(me, r.Owner, r.Name, 0)
			} else if err == nil {
				closed, kin := body["closed"], body["kin"]
				visibility := ""
				if closed != nil {
					visibility = seen(fmt.Sprint(closed), fmt.Sprint(kin))
				}
				r, err = st.Change(q.Context(), me, r.Owner, r.Name, 0, changes(word(body["title"]), word(body["blurb"]), word(body["main"]), visibility))
			}
			if err != nil {
				fail(err)
				return
			}
			tells(w, 200, show(r))
		case "holds PUT4", "holds DELETE4":
			grade, _ := body["grade"].(float64)
			if err := st.SetRight(q.Context(), me, owner, name, path[3], int(grade)/10, 0); err != nil {
				fail(err)
				return
			}
			w.WriteHeader(204)
		default:
			tells(w, 404, map[string]string{"detail": "nothing is at " + q.URL.Path})
		}
	})
	m := person(t, "tern")
	f.play(m, f.description(m))
	assert.Contains(t, strings.Join(f.asked, "\n"), "/t/saltern/holds/tern%2Fgauge")
}

// TestLinksWithin is about a host that one finds one's way on by links, with one-time values and a cookie.
func TestLinksWithin(t *testing.T) {
	t.Parallel()
	var once, given int
	cookies := map[string]string{}
	f := newFacade(t, "weir", func(q *http.Request) string {
		if c, err := q.Cookie("weir"); err == nil {
			return cookies[c.Value]
		}
		return q.PostFormValue("key")
	}, func(f *facade, w http.ResponseWriter, q *http.Request, s practice.Session) {
		st := f.back.Store
		if s.User == nil {
			tells(w, 401, map[string]string{"detail": "Sign in first."})
			return
		}
		me := s.User.Name
		links := func(r *practice.Repo) map[string]any {
			self := f.URL + "/h/" + r.ID
			return map[string]any{"no": r.ID, "shelf": r.Owner, "title": r.Name, "about": r.Description, "reach": map[string]int{"private": 0, "members": 1, "public": 2}[r.Visibility], "first": r.Default,
				"since": r.Created.In(time.FixedZone("", 7200)).Format("02.01.2006 15:04"), "rights": "rwx"[:st.Right(r, me)], "turn": r.Version, "links": map[string]string{"self": self, "folk": self + "/folk"}}
		}
		if q.Method != "GET" && q.URL.Path != "/in" {
			if q.Header.Get("Weir-Once") != strconv.Itoa(once) || once == 0 {
				tells(w, 428, map[string]string{"detail": "Bring a value of /once."})
				return
			}
			once = 0
		}
		var r *practice.Repo
		var err error
		reach := []string{"private", "members", "public"}
		seen := ""
		if n, e := strconv.Atoi(q.PostFormValue("reach")); e == nil {
			seen = reach[n]
		}
		part := strings.Split(q.URL.Path, "/")
		switch q.Method + " " + part[1] {
		case "POST in":
			c := fmt.Sprint("c", len(cookies))
			cookies[c] = q.PostFormValue("key")
			http.SetCookie(w, &http.Cookie{Name: "other", Value: "1"})
			http.SetCookie(w, &http.Cookie{Name: "weir", Value: c, HttpOnly: true})
			fmt.Fprint(w, "Welcome.")
			return
		case "GET start":
			tells(w, 200, map[string]any{"links": map[string]string{"me": f.URL + "/p/" + me, "holds": f.URL + "/list"}})
			return
		case "GET once":
			given++
			once = 1000 + given
			tells(w, 200, map[string]int{"once": once})
			return
		case "GET p":
			tells(w, 200, map[string]string{"login": me, "mail": s.User.Email, "until": late.In(time.FixedZone("", 7200)).Format("02.01.2006 15:04")})
			return
		case "GET list":
			from, _ := strconv.Atoi(q.URL.Query().Get("from"))
			all, items := st.List(me, ""), []any{}
			for _, r := range all[min(from, len(all)):min(from+2, len(all))] {
				items = append(items, links(r))
			}
			next := map[string]any{}
			if from+2 < len(all) {
				next["next"] = fmt.Sprintf("/list?from=%d", from+2)
			}
			tells(w, 200, map[string]any{"items": items, "links": next, "count": len(all)})
			return
		case "GET hold":
			r, err = st.Find(me, q.URL.Query().Get("owner"), q.URL.Query().Get("name"))
		case "POST holds":
			r, err = st.Create(q.Context(), me, practice.Repo{Owner: q.PostFormValue("shelf"), Name: q.PostFormValue("title"), Description: q.PostFormValue("about"), Visibility: seen, Default: q.PostFormValue("first")})
		default:
			if r, err = st.ByID(me, part[2]); err != nil {
				break
			}
			switch {
			case len(part) == 4 && q.Method == "GET":
				items := []any{}
				for _, p := range st.Members(r) {
					items = append(items, map[string]string{"login": p.User, "rights": "rwx"[:p.Right]})
				}
				tells(w, 200, map[string]any{"items": items})
				return
			case len(part) == 4:
				err = st.SetRight(q.Context(), me, r.Owner, r.Name, q.PostFormValue("login"), len(strings.Trim(q.PostFormValue("rights"), "-")), 0)
			case q.Method == "DELETE":
				err = st.Delete(me, r.Owner, r.Name, 0)
			default:
				r, err = st.Change(q.Context(), me, r.Owner, r.Name, 0, changes(q.PostFormValue("title"), q.PostFormValue("about"), q.PostFormValue("first"), seen))
			}
		}
		if err != nil {
			kind, says := kindOf(err)
			tells(w, map[string]int{"none": 404, "taken": 409, "denied": 403}[kind]+map[bool]int{true: 422}[kind == "invalid" || kind == "failed"], map[string]string{"detail": says})
			return
		}
		tells(w, 200, links(r))
	})
	m := person(t, "tern")
	f.play(m, f.description(m))
	assert.Contains(t, m.ok("", "", "account", "list"), "2027-02-03", "the time was read in the host's zone")
	assert.Less(t, len(cookies), 40, "a sign-in serves more than one request")
}

// TestTwoOrigins is about a host whose API is at another origin, where work is done later and rights are bits.
func TestTwoOrigins(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	jobs := map[string]*practice.Repo{}
	bits := []int{0, 1, 3, 7}
	secret := func(q *http.Request) string { return strings.TrimPrefix(q.Header.Get("Authorization"), "Sluice ") }
	var other *httptest.Server
	f := newFacade(t, "sluice", secret, func(f *facade, w http.ResponseWriter, q *http.Request, s practice.Session) {
		if s.User == nil {
			tells(w, 401, map[string]string{"detail": "Who are you?"})
			return
		}
		tells(w, 200, map[string]any{"name": s.User.Name, "mail": s.User.Email, "may": "all", "ends": late.Unix()})
	})
	other = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		st := f.back.Store
		s := st.SignIn(secret(q))
		if s.User == nil {
			tells(w, 401, map[string]string{"detail": "Who are you?"})
			return
		}
		me := s.User.Name
		show := func(r *practice.Repo) map[string]any {
			return map[string]any{"owner": r.Owner, "name": r.Name, "about": r.Description, "hidden": r.Visibility == "private", "branch": r.Default, "bits": bits[st.Right(r, me)], "built": r.Created.Unix()}
		}
		in := map[string]any{}
		_ = json.NewDecoder(q.Body).Decode(&in)
		seen := ""
		if hidden, is := in["hidden"].(bool); is {
			seen = map[bool]string{true: "private", false: "public"}[hidden]
		}
		part := strings.Split(strings.Trim(q.URL.Path, "/"), "/")
		var r *practice.Repo
		var err error
		switch q.Method + " " + part[0] + fmt.Sprint(len(part)) {
		case "GET basins1":
			all := map[string]any{}
			for _, r := range st.List(me, "") {
				if r.Owner == "tern" { // a map knows each name once
					all[r.Name] = show(r)
				}
			}
			tells(w, 200, map[string]any{"basins": all})
			return
		case "POST basins1":
			if _, e := st.Find(me, word(in["owner"]), word(in["name"])); e == nil {
				tells(w, 409, map[string]string{"detail": "There is such a basin."})
				return
			}
			if r, err = st.Create(q.Context(), me, practice.Repo{Owner: word(in["owner"]), Name: word(in["name"]), Description: word(in["about"]), Visibility: seen, Default: word(in["branch"])}); err == nil {
				mu.Lock()
				id := fmt.Sprint("j", len(jobs))
				jobs[id] = r
				mu.Unlock()
				w.Header().Set("Location", other.URL+"/jobs/"+id+"/0")
				tells(w, 202, map[string]string{"is": "dug"})
				return
			}
		case "GET jobs3":
			mu.Lock()
			r := jobs[part[1]]
			jobs[part[1]+" asked"] = r
			again := jobs[part[1]+" twice"] != nil
			jobs[part[1]+" twice"] = r
			mu.Unlock()
			if !again {
				tells(w, 200, map[string]string{"is": "filling"})
				return
			}
			tells(w, 200, map[string]any{"is": "full", "basin": show(r)})
			return
		case "GET basins3":
			r, err = st.Find(me, part[1], part[2])
		case "PATCH basins3":
			r, err = st.Change(q.Context(), me, part[1], part[2], 0, changes(word(in["name"]), word(in["about"]), word(in["branch"]), seen))
		case "DELETE basins3":
			if err = st.Delete(me, part[1], part[2], 0); err == nil {
				w.WriteHeader(204)
				return
			}
		case "GET basins4":
			if r, err = st.Find(me, part[1], part[2]); err == nil {
				crew := map[string]any{}
				for _, p := range st.Members(r) {
					crew[p.User] = map[string]int{"bits": bits[p.Right]}
				}
				tells(w, 200, crew)
				return
			}
		default:
			wants, _ := in["bits"].(float64)
			if err = st.SetRight(q.Context(), me, part[1], part[2], part[4], map[int]int{0: 0, 1: 1, 3: 2, 7: 3}[int(wants)], 0); err == nil {
				w.WriteHeader(204)
				return
			}
		}
		if err != nil {
			kind, says := kindOf(err)
			tells(w, map[string]int{"none": 404, "taken": 409, "denied": 403}[kind]+map[bool]int{true: 422}[kind == "invalid" || kind == "failed"], map[string]string{"detail": says})
			return
		}
		tells(w, 200, show(r))
	}))
	t.Cleanup(other.Close)
	m := person(t, "tern")
	file := f.description(m, "OTHER", other.URL)
	f.play(m, file)
	assert.Contains(t, m.ok("", "", "host", "show", "sluice"), other.URL, "each origin is shown")
	assert.Contains(t, m.ok("", "", "host", "try", "sluice", "--write", "--yes"), "-> 202, and when it was done 200")
	assert.NotContains(t, m.ok("", "", "account", "list"), "lacks", "one scope holds the others")

	// Whoever names no such origin sends nothing there.
	m.write("", map[string]string{"untrusted.toml": strings.Replace(m.read(file), `addresses = ["`+other.URL+`"]`, "", 1)})
	m.refused(2, []string{"this leads to " + other.URL, "neither the origin of \"base\" nor named"}, "", "", "host", "check", "untrusted.toml")
	require.NotEmpty(t, jobs)
}
