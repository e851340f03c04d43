package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"uncinate/internal/practice"
)

// isletReach and isletRights are the words of a host with one address and a query language.
var (
	isletReach  = map[string]string{"private": "shut", "members": "kin", "public": "open", "shut": "private", "kin": "members", "open": "public"}
	isletRights = []string{"none", "gaze", "row", "helm"}
)

// isletShows gives a repository as that host shows it.
func isletShows(f *facade, r *practice.Repo, me string) any {
	return map[string]any{"id": r.ID, "of": r.Owner, "called": r.Name, "note": r.Description, "seen": isletReach[r.Visibility], "trunk": r.Default, "may": isletRights[f.back.Store.Right(r, me)], "page": f.URL + "/see/" + r.Owner + "/" + r.Name}
}

// isletLooks answers what is only looked at.
func isletLooks(f *facade, query, what string, me *practice.User, of, called string) (any, error) {
	st := f.back.Store
	switch what {
	case "self":
		assert.Equal(f.t, "look {self{login}}", query)
		return map[string]string{"login": me.Name, "mail": me.Email}, nil
	case "holds":
		from := 0
		_, _ = fmt.Sscanf(query, `look {holds (after: "c%d")`, &from)
		all := st.List(me.Name, "") // it does not search
		nodes := []any{}
		for _, r := range all[min(from, len(all)):min(from+4, len(all))] {
			nodes = append(nodes, isletShows(f, r, me.Name))
		}
		return map[string]any{"nodes": nodes, "end": fmt.Sprintf("c%d", from+4), "more": from+4 < len(all)}, nil
	}
	r, err := st.Find(me.Name, of, called)
	if err != nil {
		return nil, err
	}
	if what == "hold" {
		return isletShows(f, r, me.Name), nil
	}
	var crew []any
	for _, p := range st.Members(r) {
		crew = append(crew, map[string]string{"login": p.User, "may": isletRights[p.Right]})
	}
	return crew, nil
}

// isletDoes does what changes something.
func isletDoes(f *facade, q *http.Request, what, me string, given map[string]any) (any, error) {
	st, of, called := f.back.Store, word(given["of"]), word(given["called"])
	var r *practice.Repo
	var err error
	switch what {
	case "make":
		r, err = st.Create(q.Context(), me, practice.Repo{Owner: of, Name: called, Description: word(given["note"]), Visibility: isletReach[word(given["seen"])], Default: word(given["trunk"])})
	case "mend":
		r, err = st.Change(q.Context(), me, of, called, 0, changes(word(given["as"]), word(given["note"]), word(given["trunk"]), isletReach[word(given["seen"])]))
	case "sink":
		return true, st.Delete(me, of, called, 0)
	default:
		return true, st.SetRight(q.Context(), me, of, called, word(given["who"]), map[string]int{"none": 0, "gaze": 1, "row": 2, "helm": 3}[word(given["may"])], 0)
	}
	if err != nil {
		return nil, err
	}
	return isletShows(f, r, me), nil
}

// newIslet starts a host with one address and a query language.
func newIslet(t *testing.T) *facade {
	return newFacade(t, "islet", func(q *http.Request) string { return strings.TrimPrefix(q.Header.Get("Reef"), "token ") }, func(f *facade, w http.ResponseWriter, q *http.Request, s practice.Session) {
		woe := func(kind, says string) {
			tells(w, 200, map[string]any{"told": nil, "woes": []any{map[string]string{"kind": kind, "says": says}}})
		}
		if s.User == nil {
			woe("stranger", "Nobody knows this token.")
			return
		}
		in := bodyOf(q)
		given, _ := in["given"].(map[string]any)
		query := word(in["query"])
		words := strings.FieldsFunc(query, func(c rune) bool { return c == ' ' || c == '{' || c == '}' || c == '(' })
		var told any
		var err error
		if words[0] == "look" {
			told, err = isletLooks(f, query, words[1], s.User, word(given["of"]), word(given["called"]))
		} else {
			told, err = isletDoes(f, q, words[1], s.User.Name, given)
		}
		if err != nil {
			kind, says := kindOf(err)
			woe(map[string]string{"none": "absent", "taken": "taken"}[kind], says)
			return
		}
		tells(w, 200, map[string]any{"told": map[string]any{words[1]: told}})
	})
}

// TestQueryLanguage is about such a host.
func TestQueryLanguage(t *testing.T) {
	t.Parallel()
	f := newIslet(t)
	m := person(t, "tern")
	f.play(m, f.description(m))
	for _, a := range f.asked {
		assert.Equal(t, "POST /asks", a)
	}
}

// moleShows gives a repository as a host with tenants shows it.
func moleShows(st *practice.Store, r *practice.Repo, me string) map[string]any {
	return map[string]any{"ref": r.ID, "full": r.Owner + "/" + r.Name, "blurb": r.Description, "closed": r.Visibility != "public", "kin": r.Visibility == "members", "main": r.Default, "grade": 10 * st.Right(r, me)}
}

// moleSees gives our word for its two fields of visibility.
func moleSees(closed, kin string) string {
	return map[string]string{"true": map[string]string{"true": "members", "false": "private"}[kin], "false": "public"}[closed]
}

// fails answers with a plain refusal.
func fails(w http.ResponseWriter, err error) {
	kind, says := kindOf(err)
	status := map[string]int{"none": 404, "taken": 409, "denied": 403}[kind]
	if status == 0 {
		status = 422
	}
	tells(w, status, map[string]string{"detail": says})
}

// moleLists answers for its lists, and for who asks.
func moleLists(f *facade, w http.ResponseWriter, q *http.Request, me *practice.User, what string) {
	st, out := f.back.Store, []any{}
	switch what {
	case "me":
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		fmt.Fprintf(w, `<?xml version="1.0" encoding="UTF-8"?><person mail=%q><login>%s</login></person>`, me.Email, me.Name)
	case "holds":
		n, err := strconv.Atoi(q.URL.Query().Get("page"))
		assert.NoError(f.t, err)
		all := st.List(me.Name, "")
		for _, r := range all[min(3*n, len(all)):min(3*n+3, len(all))] {
			out = append(out, moleShows(st, r, me.Name))
		}
		tells(w, 200, map[string]any{"holds": out, "of": (len(all) + 2) / 3})
	default:
		for _, r := range st.List(me.Name, q.URL.Query().Get("word")) { // loosely
			out = append(out, moleShows(st, r, me.Name))
		}
		tells(w, 200, map[string]any{"hits": out})
	}
}

// moleDoes does what is asked of one repository.
func moleDoes(f *facade, w http.ResponseWriter, q *http.Request, me string, path []string, owner, name string) error {
	st := f.back.Store
	body := map[string]any{}
	if q.Method == "PATCH" || q.Method == "PUT" {
		assert.Equal(f.t, "application/vnd.mole+json", q.Header.Get("Content-Type"))
		body = bodyOf(q)
	}
	switch path[0] + " " + q.Method + fmt.Sprint(len(path)) {
	case "holds GET2":
		r, err := st.Find(me, owner, name)
		if err == nil {
			tells(w, 200, moleShows(st, r, me))
		}
		return err
	case "holds GET3":
		r, err := st.Find(me, owner, name)
		if err == nil {
			folk := []any{}
			for _, p := range st.Members(r) {
				folk = append(folk, map[string]any{"login": p.User, "grade": 10 * p.Right})
			}
			tells(w, 200, map[string]any{"folk": folk})
		}
		return err
	case "refs DELETE2":
		assert.NotEmpty(f.t, path[1], "never the whole collection")
		r, err := st.ByID(me, path[1])
		if err == nil {
			err = st.Delete(me, r.Owner, r.Name, 0)
		}
		return err
	case "refs PATCH2":
		r, err := st.ByID(me, path[1])
		if err != nil {
			return err
		}
		visibility := ""
		if body["closed"] != nil {
			visibility = moleSees(fmt.Sprint(body["closed"]), fmt.Sprint(body["kin"]))
		}
		if r, err = st.Change(q.Context(), me, r.Owner, r.Name, 0, changes(word(body["title"]), word(body["blurb"]), word(body["main"]), visibility)); err == nil {
			tells(w, 200, moleShows(st, r, me))
		}
		return err
	}
	grade, _ := body["grade"].(float64)
	return st.SetRight(q.Context(), me, owner, name, path[3], int(grade)/10, 0)
}

// newMole starts a host with a tenant in each path, loose searches, and bodies and answers of several kinds.
func newMole(t *testing.T) *facade {
	return newFacade(t, "mole", func(q *http.Request) string { return q.URL.Query().Get("key") }, func(f *facade, w http.ResponseWriter, q *http.Request, s practice.Session) {
		if s.User == nil {
			tells(w, 401, map[string]string{"detail": "No such key."})
			return
		}
		path := strings.Split(strings.TrimPrefix(q.URL.EscapedPath(), "/t/saltern/"), "/")
		switch {
		case len(path) == 1 && q.Method == "POST":
			assert.NoError(f.t, q.ParseMultipartForm(1<<20))
			owner, name, _ := strings.Cut(q.FormValue("full"), "/")
			r, err := f.back.Store.Create(q.Context(), s.User.Name, practice.Repo{Owner: owner, Name: name, Description: q.FormValue("blurb"), Visibility: moleSees(q.FormValue("closed"), q.FormValue("kin")), Default: q.FormValue("main")})
			if err != nil {
				fails(w, err)
				return
			}
			tells(w, 201, moleShows(f.back.Store, r, s.User.Name))
		case len(path) == 1:
			moleLists(f, w, q, s.User, path[0])
		default:
			full, err := url.PathUnescape(path[1])
			assert.NoError(f.t, err)
			owner, name, _ := strings.Cut(full, "/")
			if err := moleDoes(f, w, q, s.User.Name, path, owner, name); err != nil {
				fails(w, err)
			}
		}
	})
}

// TestTenants is about such a host.
func TestTenants(t *testing.T) {
	t.Parallel()
	f := newMole(t)
	m := person(t, "tern")
	f.play(m, f.description(m))
	assert.Contains(t, strings.Join(f.asked, "\n"), "/t/saltern/holds/tern%2Fgauge")
}

// weir is a host that one finds one's way on by links, with one-time values and a cookie.
type weir struct {
	once, given int
	cookies     map[string]string // by each what was signed in with
}

var weirReach = []string{"private", "members", "public"}

// shows gives a repository with its links.
func (x *weir) shows(f *facade, r *practice.Repo, me string) map[string]any {
	self := f.URL + "/h/" + r.ID
	return map[string]any{"no": r.ID, "shelf": r.Owner, "title": r.Name, "about": r.Description, "reach": slices.Index(weirReach, r.Visibility), "first": r.Default, "since": weirTime(r.Created),
		"rights": "rwx"[:f.back.Store.Right(r, me)], "turn": r.Version, "links": map[string]string{"self": self, "folk": self + "/folk"}}
}

func weirTime(at time.Time) string {
	return at.In(time.FixedZone("", 7200)).Format("02.01.2006 15:04")
}

// looks answers what is only looked at; false for anything else.
func (x *weir) looks(f *facade, w http.ResponseWriter, q *http.Request, me *practice.User) bool {
	switch q.Method + " " + strings.Split(q.URL.Path, "/")[1] {
	case "POST in":
		c := fmt.Sprint("c", len(x.cookies))
		x.cookies[c] = q.PostFormValue("key")
		http.SetCookie(w, &http.Cookie{Name: "other", Value: "1"})
		http.SetCookie(w, &http.Cookie{Name: "weir", Value: c, HttpOnly: true})
		fmt.Fprint(w, "Welcome.")
	case "GET start":
		tells(w, 200, map[string]any{"links": map[string]string{"me": f.URL + "/p/" + me.Name, "holds": f.URL + "/list"}})
	case "GET once":
		x.given++
		x.once = 1000 + x.given
		tells(w, 200, map[string]int{"once": x.once})
	case "GET p":
		tells(w, 200, map[string]string{"login": me.Name, "mail": me.Email, "until": weirTime(late)})
	case "GET list":
		from, _ := strconv.Atoi(q.URL.Query().Get("from"))
		all, items := f.back.Store.List(me.Name, ""), []any{}
		for _, r := range all[min(from, len(all)):min(from+2, len(all))] {
			items = append(items, x.shows(f, r, me.Name))
		}
		next := map[string]any{}
		if from+2 < len(all) {
			next["next"] = fmt.Sprintf("/list?from=%d", from+2)
		}
		tells(w, 200, map[string]any{"items": items, "links": next, "count": len(all)})
	default:
		return false
	}
	return true
}

// does answers what is about one repository.
func (x *weir) does(f *facade, q *http.Request, me string) (any, error) {
	st := f.back.Store
	value := q.PostFormValue
	seen := ""
	if n, err := strconv.Atoi(value("reach")); err == nil {
		seen = weirReach[n]
	}
	var r *practice.Repo
	var err error
	switch part := strings.Split(q.URL.Path, "/"); part[1] {
	case "hold":
		r, err = st.Find(me, q.URL.Query().Get("owner"), q.URL.Query().Get("name"))
	case "holds":
		r, err = st.Create(q.Context(), me, practice.Repo{Owner: value("shelf"), Name: value("title"), Description: value("about"), Visibility: seen, Default: value("first")})
	default:
		if r, err = st.ByID(me, part[2]); err != nil {
			return nil, err
		}
		switch {
		case len(part) == 4 && q.Method == "GET":
			items := []any{}
			for _, p := range st.Members(r) {
				items = append(items, map[string]string{"login": p.User, "rights": "rwx"[:p.Right]})
			}
			return map[string]any{"items": items}, nil
		case len(part) == 4:
			err = st.SetRight(q.Context(), me, r.Owner, r.Name, value("login"), len(strings.Trim(value("rights"), "-")), 0)
		case q.Method == "DELETE":
			err = st.Delete(me, r.Owner, r.Name, 0)
		default:
			r, err = st.Change(q.Context(), me, r.Owner, r.Name, 0, changes(value("title"), value("about"), value("first"), seen))
		}
	}
	if err != nil {
		return nil, err
	}
	return x.shows(f, r, me), nil
}

// newWeir starts such a host.
func newWeir(t *testing.T) (*weir, *facade) {
	x := &weir{cookies: map[string]string{}}
	return x, newFacade(t, "weir", func(q *http.Request) string {
		if c, err := q.Cookie("weir"); err == nil {
			return x.cookies[c.Value]
		}
		return q.PostFormValue("key")
	}, func(f *facade, w http.ResponseWriter, q *http.Request, s practice.Session) {
		if s.User == nil {
			tells(w, 401, map[string]string{"detail": "Sign in first."})
			return
		}
		if q.Method != "GET" && q.URL.Path != "/in" {
			if q.Header.Get("Weir-Once") != strconv.Itoa(x.once) || x.once == 0 {
				tells(w, 428, map[string]string{"detail": "Bring a value of /once."})
				return
			}
			x.once = 0
		}
		if x.looks(f, w, q, s.User) {
			return
		}
		told, err := x.does(f, q, s.User.Name)
		if err != nil {
			fails(w, err)
			return
		}
		tells(w, 200, told)
	})
}

// TestLinksWithin is about it.
func TestLinksWithin(t *testing.T) {
	t.Parallel()
	x, f := newWeir(t)
	m := person(t, "tern")
	f.play(m, f.description(m))
	assert.Contains(t, m.ok("", "", "account", "list"), "2027-02-03", "the time was read in the host's zone")
	assert.Less(t, len(x.cookies), 40, "a sign-in serves more than one request")
}

// sluice is a host whose API is at another origin, where work is done later and rights are bits.
type sluice struct {
	f     *facade
	other *httptest.Server
	mu    sync.Mutex
	jobs  []*practice.Repo
	asked map[string]int // by job, how often
}

var sluiceBits = []int{0, 1, 3, 7}

func sluiceSecret(q *http.Request) string {
	return strings.TrimPrefix(q.Header.Get("Authorization"), "Sluice ")
}

func (x *sluice) shows(r *practice.Repo, me string) map[string]any {
	return map[string]any{"owner": r.Owner, "name": r.Name, "about": r.Description, "hidden": r.Visibility == "private", "branch": r.Default, "bits": sluiceBits[x.f.back.Store.Right(r, me)], "built": r.Created.Unix()}
}

// digs accepts work, which is done when it was asked for twice.
func (x *sluice) digs(w http.ResponseWriter, q *http.Request, me string, want practice.Repo) {
	if _, err := x.f.back.Store.Find(me, want.Owner, want.Name); err == nil {
		tells(w, 409, map[string]string{"detail": "There is such a basin."})
		return
	}
	r, err := x.f.back.Store.Create(q.Context(), me, want)
	if err != nil {
		fails(w, err)
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.jobs = append(x.jobs, r)
	w.Header().Set("Location", fmt.Sprintf("%s/jobs/%d", x.other.URL, len(x.jobs)-1))
	tells(w, 202, map[string]string{"is": "dug"})
}

func (x *sluice) job(w http.ResponseWriter, id, me string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	n, _ := strconv.Atoi(id)
	if x.asked[id]++; x.asked[id] < 2 {
		tells(w, 200, map[string]string{"is": "filling"})
		return
	}
	tells(w, 200, map[string]any{"is": "full", "basin": x.shows(x.jobs[n], me)})
}

// does answers what is about one repository.
func (x *sluice) does(w http.ResponseWriter, q *http.Request, me string, part []string, in map[string]any, seen string) (any, error) {
	st := x.f.back.Store
	var r *practice.Repo
	var err error
	switch q.Method + fmt.Sprint(len(part)) {
	case "GET3":
		r, err = st.Find(me, part[1], part[2])
	case "PATCH3":
		r, err = st.Change(q.Context(), me, part[1], part[2], 0, changes(word(in["name"]), word(in["about"]), word(in["branch"]), seen))
	case "DELETE3":
		return nil, st.Delete(me, part[1], part[2], 0)
	case "GET4":
		if r, err = st.Find(me, part[1], part[2]); err != nil {
			return nil, err
		}
		crew := map[string]any{}
		for _, p := range st.Members(r) {
			crew[p.User] = map[string]int{"bits": sluiceBits[p.Right]}
		}
		return crew, nil
	default:
		wants, _ := in["bits"].(float64)
		return nil, st.SetRight(q.Context(), me, part[1], part[2], part[4], slices.Index(sluiceBits, int(wants)), 0)
	}
	if err != nil {
		return nil, err
	}
	return x.shows(r, me), nil
}

func (x *sluice) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	s := x.f.back.Store.SignIn(sluiceSecret(q))
	if s.User == nil {
		tells(w, 401, map[string]string{"detail": "Who are you?"})
		return
	}
	me, in, seen := s.User.Name, bodyOf(q), ""
	if hidden, is := in["hidden"].(bool); is {
		seen = map[bool]string{true: "private", false: "public"}[hidden]
	}
	part := strings.Split(strings.Trim(q.URL.Path, "/"), "/")
	switch {
	case part[0] == "jobs":
		x.job(w, part[1], me)
	case len(part) == 1 && q.Method == "POST":
		x.digs(w, q, me, practice.Repo{Owner: word(in["owner"]), Name: word(in["name"]), Description: word(in["about"]), Visibility: seen, Default: word(in["branch"])})
	case len(part) == 1:
		all := map[string]any{}
		for _, r := range x.f.back.Store.List(me, "") {
			if r.Owner == "tern" { // a map knows each name once
				all[r.Name] = x.shows(r, me)
			}
		}
		tells(w, 200, map[string]any{"basins": all})
	default:
		told, err := x.does(w, q, me, part, in, seen)
		switch {
		case err != nil:
			fails(w, err)
		case told == nil:
			w.WriteHeader(204)
		default:
			tells(w, 200, told)
		}
	}
}

// newSluice starts such a host.
func newSluice(t *testing.T) *sluice {
	x := &sluice{asked: map[string]int{}}
	x.f = newFacade(t, "sluice", sluiceSecret, func(f *facade, w http.ResponseWriter, q *http.Request, s practice.Session) {
		if s.User == nil {
			tells(w, 401, map[string]string{"detail": "Who are you?"})
			return
		}
		tells(w, 200, map[string]any{"name": s.User.Name, "mail": s.User.Email, "may": "all", "ends": late.Unix()})
	})
	x.other = httptest.NewServer(x)
	t.Cleanup(x.other.Close)
	return x
}

// TestTwoOrigins is about it.
func TestTwoOrigins(t *testing.T) {
	t.Parallel()
	x := newSluice(t)
	m := person(t, "tern")
	file := x.f.description(m, "OTHER", x.other.URL)
	x.f.play(m, file)
	assert.Contains(t, m.ok("", "", "host", "show", "sluice"), x.other.URL, "each origin is shown")
	assert.Contains(t, m.ok("", "", "host", "try", "sluice", "--write", "--yes"), "202, then 200")
	assert.NotContains(t, m.ok("", "", "account", "list"), "lacks", "one scope holds the others")

	// Whoever names no such origin sends nothing there.
	m.write("", map[string]string{"untrusted.toml": strings.Replace(m.read(file), `addresses = ["`+x.other.URL+`"]`, "", 1)})
	m.refused(2, []string{"this leads to " + x.other.URL, "neither the origin of \"base\" nor named"}, "", "", "host", "check", "untrusted.toml")
	assert.NotEmpty(t, x.jobs)
}
