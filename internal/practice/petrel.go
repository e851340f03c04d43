package practice

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"uncinate/internal/core/text"
)

// PetrelScopes are all the scopes that petrel knows: read, write, administer, keys.
var PetrelScopes = []string{"r", "w", "a", "k"}

// petrel is the face of the practice host petrel: bearer tokens, opaque ids, nested
// groups that must be looked up, paging by Link header, visibility as a boolean,
// rights as numbers, refusals as a map of fields, a token's end in a header of every
// answer and its renewal by the API, creation that is accepted first and done later.
type petrel struct{}

func (petrel) secret(q *http.Request) string {
	if _, secret, given := q.BasicAuth(); given {
		return secret
	}
	token, _ := strings.CutPrefix(q.Header.Get("Authorization"), "Bearer ")
	return token
}

func (petrel) token() (string, []string) { return "ptl_", PetrelScopes }

func (petrel) scope(sends bool) string { return text.Either(sends, "w", "r") }

// refuse tells a refusal as a map of fields, or as one message.
func (petrel) refuse(w http.ResponseWriter, r *refusal) {
	body := map[string]any{"message": r.says}
	if r.field != "" {
		says := r.says
		if r.kind == "taken" {
			says = "is in use"
		}
		field := r.field
		if theirs := map[string]string{"name": "label", "visibility": "closed"}[field]; theirs != "" {
			field = theirs
		}
		body = map[string]any{"errors": map[string][]string{field: {says}}}
		r.status = 422
	}
	if r.kind == "ended" {
		body["code"] = 4011
	}
	if r.kind == "scope" {
		body["code"] = 4031
	}
	if r.wait > 0 {
		petrel{}.count(w, 0, r.wait)
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(r.status)
	// The caller may be gone; there is nobody else to tell.
	_ = json.NewEncoder(w).Encode(body)
}

// count tells in headers of its own how many requests are left, and when there are more.
func (petrel) count(w http.ResponseWriter, left, wait int) {
	w.Header().Set("Petrel-Calls-Left", strconv.Itoa(left))
	w.Header().Set("Petrel-Calls-Again", strconv.FormatInt(time.Now().Add(time.Duration(wait)*time.Second+time.Second-1).Unix(), 10))
}

// jobs are creations that were accepted and are not done yet.
type jobs struct {
	mu   sync.Mutex
	all  map[string]*petrelJob
	next int
}

type petrelJob struct {
	due  time.Time
	want Repo
	user string
	made *Repo
	err  error
}

type petrelAt struct{ *engine }

func (petrel) routes(e *engine) http.Handler {
	p := petrelAt{e}
	m := http.NewServeMux()
	api := func(pattern, scope string, h func(w http.ResponseWriter, q *http.Request, s Session) error) {
		m.HandleFunc(pattern, e.handle(scope, func(w http.ResponseWriter, q *http.Request, s Session) error {
			if !s.Token.Expires.IsZero() {
				w.Header().Set("Petrel-Token-Ends", strconv.FormatInt(s.Token.Expires.Unix(), 10))
			}
			p.settle(q.Context())
			return h(w, q, s)
		}))
	}
	api("GET /rest/whoami", "", p.whoami)
	api("POST /rest/token/renew", "", p.renew)
	api("DELETE /rest/token", "", p.revoke)
	api("GET /rest/groups", "r", p.groups)
	api("GET /rest/groups/{group}", "r", p.group)
	api("GET /rest/nests", "r", p.list)
	api("GET /rest/nests/{path}", "r", p.show)
	api("POST /rest/nests", "w", p.create)
	api("GET /rest/jobs/{id}", "w", p.job)
	api("PUT /rest/nests/{oid}", "a", p.change)
	api("DELETE /rest/nests/{oid}", "a", p.delete)
	api("GET /rest/keys", "k", p.keys)
	api("POST /rest/keys", "k", p.addKey)
	api("DELETE /rest/keys/{id}", "k", p.removeKey)
	m.HandleFunc("/p/", p.page)
	m.HandleFunc("/me/{what}", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "On this practice host, tokens are not made on a page: \"uncinate practice\" prints one for each demo user when it starts.\n")
	})
	m.HandleFunc("/", func(w http.ResponseWriter, q *http.Request) { e.refuse(w, no("none", "nothing is at %s", q.URL.Path)) })
	return m
}

// oid is the opaque id of a thing: what is inside is nobody's business.
func oid(kind, id string) string { return kind + hash("petrel " + kind + id)[:12] }

func (p petrelAt) shown(r *Repo, user string) map[string]any {
	out := map[string]any{"oid": oid("n", r.ID), "path": r.Owner + "/" + r.Name, "blurb": r.Description, "closed": r.Visibility != "public",
		"head": "refs/heads/" + r.Default, "born": r.Created.Unix(), "by": r.Creator, "level": []int{0, 10, 30, 50}[p.store.Right(r, user)]}
	return out
}

func (p petrelAt) whoami(w http.ResponseWriter, _ *http.Request, s Session) error {
	return answer(w, 200, map[string]any{"login": s.User.Name, "name": s.User.FullName, "mail": s.User.Email, "rights": strings.Join(s.Token.Scopes, ",")})
}

func (p petrelAt) renew(w http.ResponseWriter, q *http.Request, s Session) error {
	until := p.store.now().AddDate(1, 0, 0).UTC().Truncate(24 * time.Hour)
	fresh, err := p.store.Renew("ptl_", p.face.secret(q), until)
	if err != nil {
		return err
	}
	return answer(w, 200, map[string]any{"token": fresh, "ends": until.Unix()})
}

func (p petrelAt) revoke(w http.ResponseWriter, q *http.Request, _ Session) error {
	if err := p.store.Revoke(p.face.secret(q)); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (p petrelAt) groups(w http.ResponseWriter, _ *http.Request, s Session) error {
	out := []map[string]any{}
	for _, o := range p.store.Owners(s.User.Name) {
		out = append(out, map[string]any{"oid": oid("g", o), "path": o, "person": o == s.User.Name})
	}
	return answer(w, 200, out)
}

func (p petrelAt) group(w http.ResponseWriter, q *http.Request, s Session) error {
	for _, o := range p.store.Owners(s.User.Name) {
		if o == q.PathValue("group") {
			return answer(w, 200, map[string]any{"oid": oid("g", o), "path": o})
		}
	}
	return problem("none", "there is no group %s, or not for you", q.PathValue("group"))
}

const petrelPage = 100

// list gives pages that follow one another by Link header (RFC 8288). What stands in
// the address of the next one is the host's own.
func (p petrelAt) list(w http.ResponseWriter, q *http.Request, s Session) error {
	size, err := strconv.Atoi(q.URL.Query().Get("show"))
	if err != nil || size < 1 || size > petrelPage {
		size = 20
	}
	number := 1
	if from, found := strings.CutPrefix(q.URL.Query().Get("from"), "s"); found {
		if number, err = strconv.Atoi(from); err != nil {
			return no("invalid", "from cannot be read")
		}
	}
	all := p.store.List(s.User.Name, q.URL.Query().Get("q"))
	out := []map[string]any{}
	for _, r := range part(all, number, size) {
		out = append(out, p.shown(r, s.User.Name))
	}
	if number*size < len(all) {
		next := url.Values{"show": {strconv.Itoa(size)}, "from": {fmt.Sprintf("s%d", number+1)}}
		if find := q.URL.Query().Get("q"); find != "" {
			next.Set("q", find)
		}
		w.Header().Set("Link", fmt.Sprintf(`<%s/rest/nests?%s>; rel="next"`, baseOf(q), next.Encode()))
	}
	return answer(w, 200, out)
}

// find looks a repository up by its path, or by its opaque id.
func (p petrelAt) find(user, what string) (*Repo, error) {
	if owner, name, found := cutLast(what); found {
		return p.store.Find(user, owner, name)
	}
	for _, r := range p.store.List(user, "") {
		if oid("n", r.ID) == what {
			return r, nil
		}
	}
	return nil, problem("none", "there is no nest %s, or not for you", what)
}

func cutLast(path string) (owner, name string, found bool) {
	i := strings.LastIndexByte(path, '/')
	if i < 0 {
		return "", "", false
	}
	return path[:i], path[i+1:], true
}

func (p petrelAt) one(w http.ResponseWriter, status int, r *Repo, s Session) error {
	w.Header().Set("ETag", etag(r))
	return answer(w, status, p.shown(r, s.User.Name))
}

func (p petrelAt) show(w http.ResponseWriter, q *http.Request, s Session) error {
	r, err := p.find(s.User.Name, q.PathValue("path"))
	if err != nil {
		return err
	}
	return p.one(w, 200, r, s)
}

// petrelTakes is how long petrel takes to make a repository that it accepted.
const petrelTakes = 120 * time.Millisecond

// settle does the accepted work whose time has come.
func (p petrelAt) settle(ctx context.Context) {
	p.jobs.mu.Lock()
	defer p.jobs.mu.Unlock()
	for _, j := range p.jobs.all {
		if j.made == nil && j.err == nil && time.Now().After(j.due) {
			j.made, j.err = p.store.Create(ctx, j.user, j.want)
		}
	}
}

// create accepts the work and does it later.
func (p petrelAt) create(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		Label, Blurb, Group string
		Closed              bool
		Options             struct{ Head string }
	}
	if err := read(q, &in); err != nil {
		return err
	}
	want := Repo{Owner: s.User.Name, Name: in.Label, Description: in.Blurb, Visibility: text.Either(in.Closed, "private", "public"), Default: strings.TrimPrefix(in.Options.Head, "refs/heads/")}
	if in.Group != "" {
		owners := p.store.Owners(s.User.Name)
		i := slices.IndexFunc(owners, func(o string) bool { return oid("g", o) == in.Group })
		if i < 0 {
			return wrongIn("group", "invalid", "is not known")
		}
		want.Owner = owners[i]
	}
	if _, err := p.store.Find(s.User.Name, want.Owner, want.Name); err == nil {
		return wrongIn("name", "taken", "there is a nest of that label already")
	}
	p.jobs.mu.Lock()
	defer p.jobs.mu.Unlock()
	if p.jobs.all == nil {
		p.jobs.all = map[string]*petrelJob{}
	}
	p.jobs.next++
	id := fmt.Sprint("j", p.jobs.next)
	p.jobs.all[id] = &petrelJob{due: time.Now().Add(petrelTakes), want: want, user: s.User.Name}
	w.Header().Set("Location", "/rest/jobs/"+id)
	w.WriteHeader(http.StatusAccepted)
	return nil
}

func (p petrelAt) job(w http.ResponseWriter, q *http.Request, s Session) error {
	p.jobs.mu.Lock()
	defer p.jobs.mu.Unlock()
	j := p.jobs.all[q.PathValue("id")]
	if j == nil || j.user != s.User.Name {
		return problem("none", "there is no job %s", q.PathValue("id"))
	}
	switch {
	case j.err != nil:
		return answer(w, 200, map[string]any{"state": "refused", "why": j.err.Error()})
	case j.made == nil:
		return answer(w, 200, map[string]any{"state": "working"})
	}
	return answer(w, 200, map[string]any{"state": "ready", "nest": p.shown(j.made, j.user)})
}

// change takes the whole of what may be changed: what is left out is cleared.
func (p petrelAt) change(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		Label, Blurb, Head string
		Closed             bool
	}
	if err := read(q, &in); err != nil {
		return err
	}
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	r, err = p.store.Change(q.Context(), s.User.Name, r.Owner, r.Name, version(q), func(r *Repo) error {
		r.Name, r.Description, r.Default = in.Label, in.Blurb, strings.TrimPrefix(in.Head, "refs/heads/")
		r.Visibility = text.Either(in.Closed, "private", "public")
		return nil
	})
	if err != nil {
		return err
	}
	return p.one(w, 200, r, s)
}

func (p petrelAt) delete(w http.ResponseWriter, q *http.Request, s Session) error {
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	if err := p.store.Delete(s.User.Name, r.Owner, r.Name, version(q)); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (p petrelAt) keys(w http.ResponseWriter, _ *http.Request, s Session) error {
	out := []map[string]any{}
	for _, k := range p.store.Keys(s.User.Name) {
		out = append(out, map[string]any{"oid": oid("k", k.ID), "label": k.Title, "public": k.Line, "since": k.Added.Unix()})
	}
	return answer(w, 200, out)
}

func (p petrelAt) addKey(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Label, Public string }
	if err := read(q, &in); err != nil {
		return err
	}
	k, err := p.store.AddKey(Key{User: s.User.Name, Title: in.Label, Line: in.Public})
	if err != nil {
		return err
	}
	return answer(w, 201, map[string]any{"oid": oid("k", k.ID)})
}

func (p petrelAt) removeKey(w http.ResponseWriter, q *http.Request, s Session) error {
	for _, k := range p.store.Keys(s.User.Name) {
		if oid("k", k.ID) == q.PathValue("id") {
			if err := p.store.RemoveKey(KeyFilter{User: s.User.Name}, k.ID); err != nil {
				return err
			}
			w.WriteHeader(http.StatusNoContent)
			return nil
		}
	}
	return problem("none", "there is no key %s", q.PathValue("id"))
}

// page serves git and, for a person, a repository's page, both below /p/.
func (p petrelAt) page(w http.ResponseWriter, q *http.Request) {
	s := p.basic(q, "token")
	path := strings.Trim(strings.TrimPrefix(q.URL.Path, "/p/"), "/")
	if repository, rest, ok := splitGit("/" + path); ok {
		owner, name, _ := cutLast(strings.Trim(repository, "/"))
		p.git(w, q, s, owner, name, rest)
		return
	}
	servePage(p.engine, w, q, s, path)
}

// servePage shows a repository's page to whoever may see it.
func servePage(e *engine, w http.ResponseWriter, q *http.Request, s Session, path string) {
	owner, name, _ := cutLast(path)
	user := ""
	if s.User != nil {
		user = s.User.Name
	}
	r, err := e.store.Find(user, owner, name)
	if err != nil {
		demand(w, e.name, "sign in with your user name and a token")
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	// The reader may be gone; there is nobody else to tell.
	_, _ = io.WriteString(w, pageOf(r, baseOf(q)+q.URL.Path+".git", e.store.Log(q.Context(), r.ID)))
}
