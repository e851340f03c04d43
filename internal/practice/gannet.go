package practice

import (
	"encoding/json"
	"fmt"
	"html"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/text"
	"uncinate/internal/world/git"
)

// GannetScopes are all the scopes that gannet knows.
var GannetScopes = []string{"self", "look", "work", "launch", "steer", "sink", "lines", "crew", "offers", "bells"}

// gannet is the face of the practice host gannet: the token in a header of its own,
// lists with a cursor in the body, refusals as problem details (RFC 9457), tokens by
// introspection (RFC 7662), entity tags.
type gannet struct{}

func (gannet) secret(q *http.Request) string {
	if _, secret, given := q.BasicAuth(); given {
		return secret
	}
	return q.Header.Get("Gannet-Token")
}

func (gannet) token() (string, []string) { return "plunge~", GannetScopes }

func (gannet) scope(sends bool) string {
	return text.Either(sends, "work", "look")
}

// gannetAt is gannet's face on a running engine.
type gannetAt struct{ *engine }

func (f gannet) routes(e *engine) http.Handler {
	g := gannetAt{e}
	m := http.NewServeMux()
	api := func(pattern, scope string, h func(w http.ResponseWriter, q *http.Request, s Session) error) {
		m.HandleFunc(pattern, e.handle(scope, h))
	}
	api("GET /deck/self", "self", g.self)
	api("POST /deck/introspect", "", g.introspect)
	api("POST /deck/revoke", "", g.revoke)
	api("GET /deck/flags", "self", g.flags)
	api("GET /deck/ballast", "self", func(w http.ResponseWriter, _ *http.Request, s Session) error {
		return answer(w, 200, map[string]any{"used": e.store.Used(s.User.Name)})
	})
	g.keyRoutes(api)
	g.bellRoutes(api)
	api("GET /deck/hulls", "look", g.list)
	api("POST /deck/hulls", "launch", g.launch)
	api("GET /deck/hull/{owner}/{name}", "look", g.show)
	api("PATCH /deck/hull/{owner}/{name}", "steer", g.change)
	api("DELETE /deck/hull/{owner}/{name}", "sink", g.sink)
	api("POST /deck/tow/{owner}/{name}", "steer", g.tow)
	api("GET /deck/heads", "look", g.heads)
	g.crewRoutes(api)
	g.lifeRoutes(api)
	g.parleyRoutes(api)
	g.oauthRoutes(m)
	for _, part := range []string{"trim", "crew", "wake"} {
		m.HandleFunc("/"+part+"/{owner}/{name}", g.page)
	}
	m.HandleFunc("/chest/{what}", func(w http.ResponseWriter, q *http.Request) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = io.WriteString(w, "On this practice host, tokens are not made on a page: \"uncinate practice\" prints one for each demo user when it starts.\n")
	})
	m.HandleFunc("/{owner}/{name}", g.page)
	m.HandleFunc("/{owner}/{name}/{rest...}", g.serve)
	m.HandleFunc("/", func(w http.ResponseWriter, q *http.Request) { e.refuse(w, no("none", "%s", q.URL.Path)) })
	return m
}

// gannetRefusal is how the types of gannet's refusals begin: a name of its own (RFC 4151).
const gannetRefusal = "tag:gannet.example,2026:"

// refuse tells a refusal as problem details.
func (gannet) refuse(w http.ResponseWriter, r *refusal) {
	kind, title := gannetRefusal+r.kind, map[string]string{"sign-in": "Sign in first", "ended": "Your token has ended", "scope": "Your token may not do this",
		"taken": "The name is taken", "none": "Not found", "denied": "You may not", "invalid": "This cannot be taken", "changed": "It was changed meanwhile", "already": "That is so already", "full": "There is no berth left", "archived": "It is laid up", "over": "It is over", "clash": "They clash", "checks": "A sounding says no",
		"rate": "Too many requests", "told": "The host was told to fail"}[r.kind]
	switch r.kind {
	case "taken":
		kind = gannetRefusal + "name-taken"
	case "ended":
		kind = gannetRefusal + "pass-ended"
	case "scope":
		kind = gannetRefusal + "pass-too-small"
	case "already":
		kind = gannetRefusal + "aboard-already"
	case "full":
		kind = gannetRefusal + "no-berth"
	case "archived":
		kind = gannetRefusal + "laid-up"
	case "rate", "told", "failed":
		kind = "about:blank"
	}
	if title == "" {
		title = "The host failed"
	}
	if r.wait > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(r.wait))
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(r.status)
	// The caller may be gone; there is nobody else to tell.
	_ = json.NewEncoder(w).Encode(map[string]any{"type": kind, "title": title, "detail": r.says, "status": r.status})
}

func (g gannetAt) self(w http.ResponseWriter, _ *http.Request, s Session) error {
	return answer(w, 200, map[string]any{"name": s.User.Name, "called": s.User.FullName, "mail": s.User.Email, "mail_confirmed": s.User.MailConfirmed})
}

func (g gannetAt) introspect(w http.ResponseWriter, q *http.Request, _ Session) error {
	if err := q.ParseForm(); err != nil {
		return no("invalid", "The form cannot be read.")
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

func (g gannetAt) revoke(w http.ResponseWriter, q *http.Request, _ Session) error {
	if err := q.ParseForm(); err != nil {
		return no("invalid", "The form cannot be read.")
	}
	if err := g.store.Revoke(q.PostForm.Get("token")); err != nil {
		return err
	}
	return answer(w, 200, map[string]any{})
}

func (g gannetAt) flags(w http.ResponseWriter, _ *http.Request, s Session) error {
	items := []map[string]any{}
	for i, o := range g.store.Owners(s.User.Name) {
		items = append(items, map[string]any{"name": o, "kind": []string{"group", "person"}[min(1, max(0, 1-i))]})
	}
	return answer(w, 200, map[string]any{"items": items})
}

var reach = map[string]string{"private": "hold", "members": "deck", "public": "shore"}

func ours(theirs string) string {
	for o, t := range reach {
		if t == theirs {
			return o
		}
	}
	return theirs
}

func (g gannetAt) shown(q *http.Request, r *Repo, s Session) map[string]any {
	base := baseOf(q) + "/" + r.Owner + "/" + r.Name
	out := map[string]any{"id": r.ID, "owner": r.Owner, "name": r.Name, "about": r.Description, "reach": reach[r.Visibility],
		"main": r.Default, "made": r.Created.Format(time.RFC3339), "made_by": r.Creator,
		"page": base, "clone": map[string]string{"https": base + ".git", "ssh": "ssh://git@" + q.Host + "/" + r.Owner + "/" + r.Name + ".git"},
		"empty": g.store.Empty(r.ID), "laid_up": r.Archived}
	if right := g.store.Right(r, s.User.Name); right > None {
		out["you_may"] = gannetRights[right]
	}
	return out
}

func (g gannetAt) one(w http.ResponseWriter, q *http.Request, status int, r *Repo, s Session) error {
	w.Header().Set("ETag", etag(r))
	if q.Method == http.MethodGet && q.Header.Get("If-None-Match") == etag(r) {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	out := g.shown(q, r, s)
	out["tonnage"] = g.store.Size(r.ID)
	return answer(w, status, out)
}

func etag(r *Repo) string { return fmt.Sprintf(`"%s-%d"`, r.ID, r.Version) }

func (g gannetAt) list(w http.ResponseWriter, q *http.Request, s Session) error {
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
		items = append(items, g.shown(q, r, s))
	}
	return tagged(w, q, map[string]any{"items": items, "next": next})
}

// tagged answers with an entity tag, or that nothing changed since the one that was named.
func tagged(w http.ResponseWriter, q *http.Request, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	tag := `"` + hash(string(body))[:16] + `"`
	w.Header().Set("ETag", tag)
	if q.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	w.Header().Set("Content-Type", "application/json")
	_, err = w.Write(body)
	return err
}

// heads lists the branches and tags of all repositories that the user sees, with what they
// stand for: a commit, or a tag object.
func (g gannetAt) heads(w http.ResponseWriter, q *http.Request, s Session) error {
	many, err := strconv.Atoi(q.URL.Query().Get("many"))
	if err != nil || many < 1 || many > 500 {
		many = 100
	}
	after := q.URL.Query().Get("after")
	items := []map[string]any{}
	var next any
	for i, all := 0, g.store.List(s.User.Name, ""); i < len(all); i++ {
		r := all[i]
		if after != "" && r.Owner+"/"+r.Name <= after {
			continue
		}
		if many--; many < 0 {
			next = all[i-1].Owner + "/" + all[i-1].Name
			break
		}
		refs, err := git.ReadRefs(g.store.GitDir(r.ID))
		if err != nil {
			return err
		}
		found := false
		for _, ref := range slices.Sorted(maps.Keys(refs)) {
			for prefix, kind := range map[string]string{"refs/heads/": "branch", "refs/tags/": "tag"} {
				if name, is := strings.CutPrefix(ref, prefix); is {
					items = append(items, map[string]any{"owner": r.Owner, "name": r.Name, kind: name, "at": refs[ref]})
					found = true
				}
			}
		}
		if !found {
			items = append(items, map[string]any{"owner": r.Owner, "name": r.Name})
		}
	}
	return tagged(w, q, map[string]any{"items": items, "next": next})
}

func (g gannetAt) show(w http.ResponseWriter, q *http.Request, s Session) error {
	r, err := g.store.Find(s.User.Name, q.PathValue("owner"), q.PathValue("name"))
	if err != nil {
		return err
	}
	return g.one(w, q, 200, r, s)
}

func (g gannetAt) launch(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Flag, Name, About, Reach, Main, Naming string }
	if err := read(q, &in); err != nil {
		return err
	}
	r, err := g.store.Create(q.Context(), s.User.Name, Repo{Owner: in.Flag, Name: in.Name, Description: in.About, Visibility: ours(in.Reach), Default: in.Main, Naming: in.Naming})
	if err != nil {
		return err
	}
	return g.one(w, q, 201, r, s)
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

func (g gannetAt) change(w http.ResponseWriter, q *http.Request, s Session) error {
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
	return g.one(w, q, 200, r, s)
}

func (g gannetAt) tow(w http.ResponseWriter, q *http.Request, s Session) error {
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
	return g.one(w, q, 200, r, s)
}

func (g gannetAt) sink(w http.ResponseWriter, q *http.Request, s Session) error {
	if err := g.store.Delete(s.User.Name, q.PathValue("owner"), q.PathValue("name"), version(q)); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (g gannetAt) serve(w http.ResponseWriter, q *http.Request) {
	rest := "/" + q.PathValue("rest")
	switch {
	case strings.HasPrefix(rest, "/parley/"):
		g.page(w, q)
	case slices.Contains(gitRest, rest) || strings.HasPrefix(rest, "/info/lfs/"):
		g.git(w, q, g.basic(q, ""), q.PathValue("owner"), strings.TrimSuffix(q.PathValue("name"), ".git"), rest)
	default:
		g.engine.refuse(w, no("none", "%s", q.URL.Path))
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

func (g gannetAt) page(w http.ResponseWriter, q *http.Request) {
	s := g.basic(q, "")
	user := ""
	if s.User != nil {
		user = s.User.Name
	}
	r, err := g.store.Find(user, q.PathValue("owner"), q.PathValue("name"))
	if err != nil {
		demand(w, g.name, "sign in with your user name and a token")
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	// The reader may be gone; there is nobody else to tell.
	_, _ = io.WriteString(w, pageOf(r, baseOf(q)+"/"+r.Owner+"/"+r.Name+".git", g.store.Log(q.Context(), r.ID)))
}
