package practice

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"log"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

// GannetScopes are all the scopes that gannet knows.
var GannetScopes = []string{"me", "repo.read", "repo.write", "repo.create", "repo.admin", "keys", "people", "offers"}

// gannet is the face of the practice host gannet: the token in a header of its own,
// lists with a cursor in the body, refusals as problem details (RFC 9457), tokens by
// introspection (RFC 7662), entity tags.
type gannet struct {
	store *Store
}

// Running is a practice host that runs.
type Running struct {
	URL    string
	Store  *Store
	Faults *Faults
	stop   func() error
}

// Close stops it and waits until it has.
func (r *Running) Close() error { return r.stop() }

// StartGannet starts gannet on a loopback address, "127.0.0.1:0" for any free port,
// with its state in a folder. faults may be nil; they can be set while it runs.
func StartGannet(dir, listen string, faults *Faults) (*Running, error) {
	host, _, err := net.SplitHostPort(listen)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return nil, fmt.Errorf("a practice host listens on a loopback address only, and %q is none", listen)
	}
	st, err := OpenStore(dir)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, err
	}
	url := "http://" + l.Addr().String()
	g := &gannet{store: st}
	if faults == nil {
		if faults, err = NewFaults(1); err != nil {
			return nil, err
		}
	}
	secretOf := func(q *http.Request) string {
		if _, secret, given := q.BasicAuth(); given {
			return secret
		}
		return q.Header.Get("Gannet-Token")
	}
	srv := &http.Server{Handler: faults.wrap(st, secretOf, g.routes()), ErrorLog: log.New(io.Discard, "", 0), ReadHeaderTimeout: 10 * time.Second}
	ended := make(chan error, 1)
	go func() { ended <- srv.Serve(l) }()
	return &Running{URL: url, Store: st, Faults: faults, stop: func() error {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		if err := srv.Shutdown(ctx); err != nil {
			err = srv.Close()
			if err != nil {
				return err
			}
		}
		if err := <-ended; !errors.Is(err, http.ErrServerClosed) {
			return err
		}
		return nil
	}}, nil
}

func (g *gannet) routes() http.Handler {
	m := http.NewServeMux()
	api := func(pattern, scope string, h func(w http.ResponseWriter, q *http.Request, s Session) error) {
		m.HandleFunc(pattern, func(w http.ResponseWriter, q *http.Request) {
			s := g.store.SignIn(q.Header.Get("Gannet-Token"))
			var err error
			switch {
			case s.Ended:
				err = &tell{401, "urn:gannet:token-ended", "Your token has ended", "It ended on " + s.Token.Expires.Format(time.DateOnly) + "."}
			case s.User == nil:
				err = &tell{401, "urn:gannet:sign-in", "Sign in first", "The header Gannet-Token holds no token that is in force."}
			case scope != "" && !s.May(scope):
				err = &tell{403, "urn:gannet:scope", "Your token may not do this", "It lacks the scope " + scope + "."}
			default:
				q.Body = http.MaxBytesReader(w, q.Body, 1<<20)
				err = h(w, q, s)
			}
			if err != nil {
				refuse(w, err)
			}
		})
	}
	api("GET /v1/me", "me", g.me)
	api("POST /v1/introspect", "", g.introspect)
	api("GET /v1/me/owners", "me", g.owners)
	api("GET /v1/repos", "repo.read", g.list)
	api("GET /v1/repos/{owner}/{name}", "repo.read", g.show)
	api("POST /v1/owners/{owner}/repos", "repo.create", g.create)
	api("PATCH /v1/repos/{owner}/{name}", "repo.admin", g.change)
	api("POST /v1/repos/{owner}/{name}/move", "repo.admin", g.move)
	api("DELETE /v1/repos/{owner}/{name}", "repo.admin", g.delete)
	m.HandleFunc("/settings/{what}", func(w http.ResponseWriter, q *http.Request) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = io.WriteString(w, "On this practice host, tokens are not made on a page: \"uncinate practice\" prints one for each demo user when it starts.\n")
	})
	m.HandleFunc("/{owner}/{name}", g.page)
	m.HandleFunc("/{owner}/{name}/{rest...}", g.git)
	m.HandleFunc("/", func(w http.ResponseWriter, q *http.Request) {
		refuse(w, &tell{404, "about:blank", "There is nothing here", q.URL.Path})
	})
	return m
}

// tell is a refusal as problem details.
type tell struct {
	status             int
	kind, title, extra string
}

func (t *tell) Error() string { return t.title }

func refuse(w http.ResponseWriter, err error) {
	var t *tell
	var p *Problem
	switch {
	case errors.As(err, &t):
	case errors.As(err, &p):
		t = map[string]*tell{
			"taken":   {409, "urn:gannet:name-taken", "The name is taken", ""},
			"none":    {404, "urn:gannet:none", "Not found", ""},
			"denied":  {403, "urn:gannet:denied", "You may not", ""},
			"invalid": {422, "urn:gannet:invalid", "This cannot be taken", ""},
			"changed": {412, "urn:gannet:changed", "It was changed meanwhile", ""},
		}[p.Kind]
		t.extra = p.Says
	default:
		t = &tell{500, "about:blank", "The host failed", err.Error()}
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(t.status)
	// The caller may be gone; there is nobody else to tell.
	_ = json.NewEncoder(w).Encode(map[string]any{"type": t.kind, "title": t.title, "detail": t.extra, "status": t.status})
}

func answer(w http.ResponseWriter, status int, v any) error {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	return json.NewEncoder(w).Encode(v)
}

func (g *gannet) me(w http.ResponseWriter, _ *http.Request, s Session) error {
	return answer(w, 200, map[string]any{"name": s.User.Name, "called": s.User.FullName, "mail": s.User.Email, "mail_confirmed": s.User.MailConfirmed})
}

func (g *gannet) introspect(w http.ResponseWriter, q *http.Request, _ Session) error {
	if err := q.ParseForm(); err != nil {
		return &tell{400, "about:blank", "The form cannot be read", ""}
	}
	t := g.store.SignIn(q.PostForm.Get("token"))
	if t.User == nil {
		return answer(w, 200, map[string]any{"active": false})
	}
	out := map[string]any{"active": true, "username": t.User.Name, "scope": strings.Join(t.Token.Scopes, " ")}
	if !t.Token.Expires.IsZero() {
		out["exp"] = t.Token.Expires.Unix()
	}
	return answer(w, 200, out)
}

func (g *gannet) owners(w http.ResponseWriter, _ *http.Request, s Session) error {
	items := []map[string]any{}
	for i, o := range g.store.Owners(s.User.Name) {
		items = append(items, map[string]any{"name": o, "kind": []string{"group", "person"}[min(1, max(0, 1-i))]})
	}
	return answer(w, 200, map[string]any{"items": items})
}

var reach = map[string]string{"private": "private", "members": "team", "public": "open"}

func ours(theirs string) string {
	for o, t := range reach {
		if t == theirs {
			return o
		}
	}
	return theirs
}

// baseOf is the address under which the host was asked, which may be a proxy's.
func baseOf(q *http.Request) string { return "http://" + q.Host }

func (g *gannet) shown(q *http.Request, r *Repo) map[string]any {
	base := baseOf(q) + "/" + r.Owner + "/" + r.Name
	empty, err := g.store.Empty(q.Context(), r.ID)
	out := map[string]any{"id": r.ID, "owner": r.Owner, "name": r.Name, "about": r.Description, "reach": reach[r.Visibility],
		"main": r.Default, "made": r.Created.Format(time.RFC3339), "made_by": r.Creator,
		"page": base, "clone": map[string]string{"https": base + ".git"}}
	if err == nil {
		out["empty"] = empty
	}
	return out
}

func (g *gannet) one(w http.ResponseWriter, q *http.Request, status int, r *Repo) error {
	w.Header().Set("ETag", etag(r))
	if q.Method == http.MethodGet && q.Header.Get("If-None-Match") == etag(r) {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	return answer(w, status, g.shown(q, r))
}

func etag(r *Repo) string { return fmt.Sprintf(`"%s-%d"`, r.ID, r.Version) }

func (g *gannet) list(w http.ResponseWriter, q *http.Request, s Session) error {
	many, err := strconv.Atoi(q.URL.Query().Get("many"))
	if err != nil || many < 1 || many > 100 {
		many = 30
	}
	after := q.URL.Query().Get("after")
	items := []map[string]any{}
	var next any
	for _, r := range g.store.List(s.User.Name, q.URL.Query().Get("find")) {
		if after != "" && r.Owner+"/"+r.Name <= after {
			continue
		}
		if len(items) == many {
			next = items[many-1]["owner"].(string) + "/" + items[many-1]["name"].(string)
			break
		}
		items = append(items, g.shown(q, r))
	}
	return answer(w, 200, map[string]any{"items": items, "next": next})
}

func (g *gannet) show(w http.ResponseWriter, q *http.Request, s Session) error {
	r, err := g.store.Find(s.User.Name, q.PathValue("owner"), q.PathValue("name"))
	if err != nil {
		return err
	}
	return g.one(w, q, 200, r)
}

func read(q *http.Request, v any) error {
	in := json.NewDecoder(q.Body)
	in.DisallowUnknownFields()
	if err := in.Decode(v); err != nil {
		return &tell{400, "urn:gannet:invalid", "The body cannot be read", err.Error()}
	}
	return nil
}

func (g *gannet) create(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Name, About, Reach, Main string }
	if err := read(q, &in); err != nil {
		return err
	}
	r, err := g.store.Create(q.Context(), s.User.Name, Repo{Owner: q.PathValue("owner"), Name: in.Name, Description: in.About, Visibility: ours(in.Reach), Default: in.Main})
	if err != nil {
		return err
	}
	return g.one(w, q, 201, r)
}

func version(q *http.Request) int {
	_, after, found := strings.Cut(strings.Trim(q.Header.Get("If-Match"), `"`), "-")
	if !found {
		return 0
	}
	n, err := strconv.Atoi(after)
	if err != nil {
		return -1
	}
	return n
}

func (g *gannet) change(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ About, Reach, Main, Name *string }
	if err := read(q, &in); err != nil {
		return err
	}
	r, err := g.store.Change(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), version(q), func(r *Repo) error {
		if in.About != nil {
			r.Description = *in.About
		}
		if in.Reach != nil {
			if r.Visibility = ours(*in.Reach); !slices.Contains([]string{"private", "members", "public"}, r.Visibility) {
				return problem("invalid", "no such reach")
			}
		}
		if in.Main != nil {
			r.Default = *in.Main
		}
		if in.Name != nil {
			r.Name = *in.Name
		}
		return nil
	})
	if err != nil {
		return err
	}
	return g.one(w, q, 200, r)
}

func (g *gannet) move(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Owner string }
	if err := read(q, &in); err != nil {
		return err
	}
	if !slices.Contains(g.store.Owners(s.User.Name), in.Owner) {
		return problem("denied", "you may not make repositories for %s", in.Owner)
	}
	r, err := g.store.Change(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), version(q), func(r *Repo) error { r.Owner = in.Owner; return nil })
	if err != nil {
		return err
	}
	return g.one(w, q, 200, r)
}

func (g *gannet) delete(w http.ResponseWriter, q *http.Request, s Session) error {
	if err := g.store.Delete(s.User.Name, q.PathValue("owner"), q.PathValue("name"), version(q)); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// basic signs a request in by HTTP Basic, for git and for pages.
func (g *gannet) basic(q *http.Request) Session {
	user, secret, given := q.BasicAuth()
	if !given {
		return Session{}
	}
	s := g.store.SignIn(secret)
	if s.User == nil || s.User.Name != user {
		return Session{}
	}
	return s
}

func demand(w http.ResponseWriter, says string) {
	w.Header().Set("WWW-Authenticate", `Basic realm="gannet"`)
	http.Error(w, says, http.StatusUnauthorized)
}

func (g *gannet) git(w http.ResponseWriter, q *http.Request) {
	name := strings.TrimSuffix(q.PathValue("name"), ".git")
	rest := "/" + q.PathValue("rest")
	if slices.Contains([]string{"/settings", "/people", "/history"}, rest) {
		g.page(w, q)
		return
	}
	if !slices.Contains([]string{"/info/refs", "/git-upload-pack", "/git-receive-pack"}, rest) {
		refuse(w, &tell{404, "about:blank", "There is nothing here", q.URL.Path})
		return
	}
	s := g.basic(q)
	user := ""
	if s.User != nil {
		user = s.User.Name
	}
	sends := rest == "/git-receive-pack" || q.URL.Query().Get("service") == "git-receive-pack"
	r, err := g.store.Find(user, q.PathValue("owner"), name)
	switch {
	case err != nil && user == "":
		demand(w, "sign in first")
	case err != nil:
		http.Error(w, "there is no such repository, or not for you", http.StatusNotFound)
	case user != "" && !s.May(map[bool]string{true: "repo.write", false: "repo.read"}[sends]):
		http.Error(w, "your token lacks a scope for this", http.StatusForbidden)
	case sends && g.store.Right(r, user) < Write && user == "":
		demand(w, "sign in first")
	case sends && g.store.Right(r, user) < Write:
		http.Error(w, "you may only read this repository", http.StatusForbidden)
	default:
		serveGit(w, q, g.store.GitDir(r.ID), rest, user)
	}
}

// pageOf writes a repository's page. Strings are escaped one by one: a template engine
// would cost every start of the program more than this page is worth.
func pageOf(r *Repo, clone string, commits []string) string {
	esc := html.EscapeString
	name := esc(r.Owner + "/" + r.Name)
	page := `<!doctype html><meta charset="utf-8"><title>` + name + `</title>
<style>body{font:16px/1.5 sans-serif;max-width:44em;margin:3em auto;color:#223}code{background:#eef;padding:.1em .3em}</style>
<h1>` + name + "</h1><p>" + esc(r.Description) + "</p><p>" + esc(r.Visibility) + " · default branch " + esc(r.Default) +
		" · made by " + esc(r.Creator) + " on " + r.Created.Format(time.DateOnly) + "</p>\n<p><code>" + esc(clone) + "</code></p>"
	if len(commits) > 0 {
		page += "<h2>Newest commits</h2><pre>" + esc(strings.Join(commits, "\n")) + "</pre>"
	}
	return page + "<p>A practice host; everything here is invented.</p>"
}

func (g *gannet) page(w http.ResponseWriter, q *http.Request) {
	s := g.basic(q)
	user := ""
	if s.User != nil {
		user = s.User.Name
	}
	r, err := g.store.Find(user, q.PathValue("owner"), q.PathValue("name"))
	if err != nil {
		demand(w, "sign in with your user name and a token")
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	// The reader may be gone; there is nobody else to tell.
	_, _ = io.WriteString(w, pageOf(r, baseOf(q)+"/"+r.Owner+"/"+r.Name+".git", g.store.Log(q.Context(), r.ID)))
}
