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

// PetrelScopes are all the scopes that petrel knows: read, write, create and change, keys, people.
var PetrelScopes = []string{"hear", "feed", "dig", "rings", "flock"}

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

func (petrel) token() (string, []string) { return "burrow+", PetrelScopes }

func (petrel) scope(sends bool) string { return text.Either(sends, "feed", "hear") }

// refuse tells what is wrong, under the name of the thing that it is wrong with.
func (petrel) refuse(w http.ResponseWriter, r *refusal) {
	about, fault := "nest", r.kind
	switch r.kind {
	case "taken":
		about, fault = "label", "occupied"
	case "invalid":
		fault = "misshapen"
	case "none":
		fault = "empty"
	case "denied":
		fault = "not-yours"
	case "full":
		about, fault = "cliff", "crowded"
	case "changed":
		fault = "moved"
	case "sign-in":
		about, fault = "ring", "unknown"
	case "ended":
		about, fault = "ring", "moulted"
	case "scope":
		about, fault = "ring", "too-weak"
	case "rate":
		about, fault = "calls", "spent"
	case "failed", "told":
		about, fault = "cliff", "storm"
	}
	if r.field != "" {
		r.status = http.StatusBadRequest
		if about = map[string]string{"name": "label", "visibility": "closed", "owner": "cliff", "who": "bird"}[r.field]; about == "" {
			about = r.field
		}
	}
	if r.wait > 0 {
		petrel{}.count(w, 0, r.wait)
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(r.status)
	// The caller may be gone; there is nobody else to tell.
	_ = json.NewEncoder(w).Encode(map[string]any{about: map[string]string{"fault": fault, "says": r.says}})
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
	do   func(context.Context) (*Repo, error)
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
	api("GET /burrow/whoami", "", p.whoami)
	api("POST /burrow/token/renew", "", p.renew)
	api("DELETE /burrow/token", "", p.revoke)
	api("GET /burrow/cliffs", "hear", p.cliffs)
	api("GET /burrow/seek", "hear", p.seek)
	api("GET /burrow/nests", "hear", p.list)
	api("POST /burrow/nests", "dig", p.create)
	api("GET /burrow/nests/{oid}", "hear", p.show)
	api("PUT /burrow/nests/{oid}", "dig", p.change)
	api("DELETE /burrow/nests/{oid}", "dig", p.delete)
	p.flockRoutes(api)
	p.fledglingRoutes(api)
	p.cryRoutes(api)
	api("GET /burrow/jobs/{id}", "dig", p.job)
	api("GET /burrow/keys", "rings", p.keys)
	api("POST /burrow/keys", "rings", p.addKey)
	api("DELETE /burrow/keys/{id}", "rings", p.removeKey)
	m.HandleFunc("/nest/", p.page)
	m.HandleFunc("/perch/{what}", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "On this practice host, tokens are not made on a page: \"uncinate practice\" prints one for each demo user when it starts.\n")
	})
	m.HandleFunc("/", func(w http.ResponseWriter, q *http.Request) { e.refuse(w, no("none", "nothing is at %s", q.URL.Path)) })
	return m
}

// oid is the opaque id of a thing: what is inside is nobody's business.
func oid(kind, id string) string { return kind + hash("petrel " + kind + id)[:12] }

func (p petrelAt) shown(r *Repo, user string) map[string]any {
	out := map[string]any{"oid": oid("n", r.ID), "path": r.Owner + "/" + r.Name, "blurb": r.Description, "closed": r.Visibility != "public",
		"head": "refs/heads/" + r.Default, "born": r.Created.Unix(), "by": r.Creator, "metres": []int{0, 3, 12, 27}[p.store.Right(r, user)]}
	return out
}

func (p petrelAt) whoami(w http.ResponseWriter, _ *http.Request, s Session) error {
	return answer(w, 200, map[string]any{"login": s.User.Name, "name": s.User.FullName, "mail": s.User.Email, "rights": strings.Join(s.Token.Scopes, ",")})
}

func (p petrelAt) renew(w http.ResponseWriter, q *http.Request, s Session) error {
	until := p.store.now().AddDate(1, 0, 0).UTC().Truncate(24 * time.Hour)
	fresh, err := p.store.Renew("burrow+", p.face.secret(q), until)
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

func (p petrelAt) cliffs(w http.ResponseWriter, _ *http.Request, s Session) error {
	out := []map[string]any{}
	for _, o := range p.store.Owners(s.User.Name) {
		out = append(out, map[string]any{"oid": oid("g", o), "path": o, "person": o == s.User.Name})
	}
	return answer(w, 200, out)
}

// seek gives the id of a group, or of a nest in it: everything else goes by ids.
func (p petrelAt) seek(w http.ResponseWriter, q *http.Request, s Session) error {
	cliff, nest := q.URL.Query().Get("cliff"), q.URL.Query().Get("nest")
	if nest != "" {
		r, err := p.store.Find(s.User.Name, cliff, nest)
		if err != nil {
			return err
		}
		return answer(w, 200, map[string]any{"oid": oid("n", r.ID)})
	}
	if !slices.Contains(p.store.Owners(s.User.Name), cliff) {
		return problem("none", "there is no cliff %s, or you may not see it", cliff)
	}
	return answer(w, 200, map[string]any{"oid": oid("g", cliff)})
}

const petrelPage = 100

// list gives pages that follow one another by Link header (RFC 8288). What is in
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
		w.Header().Set("Link", fmt.Sprintf(`<%s/burrow/nests?%s>; rel="next"`, baseOf(q), next.Encode()))
	}
	return answer(w, 200, out)
}

// find looks a repository up by its opaque id.
func (p petrelAt) find(user, what string) (*Repo, error) {
	for _, r := range p.store.List(user, "") {
		if oid("n", r.ID) == what {
			return r, nil
		}
	}
	return nil, problem("none", "there is no nest %s, or you may not see it", what)
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
	r, err := p.find(s.User.Name, q.PathValue("oid"))
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
			j.made, j.err = j.do(ctx)
		}
	}
}

// create accepts the work and does it later.
func (p petrelAt) create(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		Label, Blurb, Cliff string
		Closed              bool
		Options             struct{ Head string }
	}
	if err := read(q, &in); err != nil {
		return err
	}
	want := Repo{Owner: s.User.Name, Name: in.Label, Description: in.Blurb, Visibility: text.Either(in.Closed, "private", "public"), Default: strings.TrimPrefix(in.Options.Head, "refs/heads/")}
	if in.Cliff != "" {
		owners := p.store.Owners(s.User.Name)
		i := slices.IndexFunc(owners, func(o string) bool { return oid("g", o) == in.Cliff })
		if i < 0 {
			return wrongIn("cliff", "invalid", "this cliff is not known")
		}
		want.Owner = owners[i]
	}
	if _, err := p.store.Find(s.User.Name, want.Owner, want.Name); err == nil {
		return wrongIn("name", "taken", "there is a nest of that label already")
	}
	p.later(w, s, func(ctx context.Context) (*Repo, error) { return p.store.Create(ctx, s.User.Name, want) })
	return nil
}

// later accepts work, and names the address that tells how far it is.
func (p petrelAt) later(w http.ResponseWriter, s Session, do func(context.Context) (*Repo, error)) {
	p.jobs.mu.Lock()
	defer p.jobs.mu.Unlock()
	if p.jobs.all == nil {
		p.jobs.all = map[string]*petrelJob{}
	}
	p.jobs.next++
	id := fmt.Sprint("j", p.jobs.next)
	p.jobs.all[id] = &petrelJob{due: time.Now().Add(petrelTakes), do: do, user: s.User.Name}
	w.Header().Set("Location", "/burrow/jobs/"+id)
	w.WriteHeader(http.StatusAccepted)
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
		return answer(w, 200, map[string]any{"state": "addled", "why": j.err.Error()})
	case j.made == nil:
		return answer(w, 200, map[string]any{"state": "brooding"})
	}
	return answer(w, 200, map[string]any{"state": "hatched", "nest": p.shown(j.made, j.user)})
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

// page serves git and, for a person, a repository's page, both below /nest/.
func (p petrelAt) page(w http.ResponseWriter, q *http.Request) {
	s := p.basic(q, "petrel")
	path := strings.Trim(strings.TrimPrefix(q.URL.Path, "/nest/"), "/")
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
