package practice

import (
	"net/http"
	"time"

	"uncinate/internal/core/text"
)

// keyRoutes serves gannet's keys: a person's for signing in and for signatures, a
// repository's deploy keys, and the host's own.
func (g gannetAt) keyRoutes(api func(pattern, scope string, h func(http.ResponseWriter, *http.Request, Session) error)) {
	api("GET /deck/passes", "self", func(w http.ResponseWriter, q *http.Request, s Session) error {
		items := []map[string]any{}
		seen := map[string]bool{}
		for _, t := range g.store.Tokens(s.User.Name) {
			if seen[t.id()] { // the tokens of one sign-in are one pass
				continue
			}
			seen[t.id()] = true
			one := map[string]any{"id": t.id(), "name": t.Name, "signed": t.Signed}
			if !t.Made.IsZero() {
				one["made"] = t.Made.Format(time.RFC3339)
			}
			items = append(items, one)
		}
		return answer(w, 200, cut(q, items))
	})
	api("DELETE /deck/passes/{id}", "self", func(w http.ResponseWriter, q *http.Request, s Session) error {
		return nothing(w, g.store.EndByID(s.User.Name, q.PathValue("id")))
	})
	mine := func(signs bool) func(*http.Request, Session) (KeyFilter, error) {
		return func(_ *http.Request, s Session) (KeyFilter, error) {
			return KeyFilter{User: s.User.Name, Signs: signs}, nil
		}
	}
	deploy := func(q *http.Request, s Session) (KeyFilter, error) {
		r, err := g.store.Find(s.User.Name, q.PathValue("owner"), q.PathValue("name"))
		if err == nil && g.store.Right(r, s.User.Name) < Admin {
			err = problem("denied", "only who runs %s/%s manages its deploy keys", r.Owner, r.Name)
		}
		if err != nil {
			return KeyFilter{}, err
		}
		return KeyFilter{User: s.User.Name, Repo: r.ID}, nil
	}
	for _, c := range []struct {
		path, scope string
		which       func(*http.Request, Session) (KeyFilter, error)
	}{
		{"/deck/lines", "lines", mine(false)},
		{"/deck/seals", "lines", mine(true)},
		{"/deck/hull-lines/{owner}/{name}", "steer", deploy},
	} {
		g.keysAt(api, c.path, c.scope, c.which)
	}
	api("GET /deck/ssh", "", func(w http.ResponseWriter, _ *http.Request, _ Session) error {
		return answer(w, 200, map[string]any{"items": []map[string]string{{"line": g.ssh.publicLine()}}})
	})
}

// keysAt serves one list of keys: all of it, one more, one less.
func (g gannetAt) keysAt(api func(pattern, scope string, h func(http.ResponseWriter, *http.Request, Session) error), path, scope string,
	which func(*http.Request, Session) (KeyFilter, error)) {
	api("GET "+path, scope, func(w http.ResponseWriter, q *http.Request, s Session) error {
		f, err := which(q, s)
		if err != nil {
			return err
		}
		items := []map[string]any{}
		for _, k := range g.store.KeysOf(f) {
			item := map[string]any{"id": k.ID, "title": k.Title, "line": k.Line, "added": k.Added.Format(time.RFC3339)}
			if !k.Used.IsZero() {
				item["used"] = k.Used.Format(time.RFC3339)
			}
			if k.Repo != "" {
				item["right"] = gannetRights[text.Either(k.Writes, Write, Read)]
			}
			items = append(items, item)
		}
		return answer(w, 200, map[string]any{"items": items})
	})
	api("POST "+path, scope, func(w http.ResponseWriter, q *http.Request, s Session) error {
		var in struct{ Title, Line, Right string }
		f, err := which(q, s)
		if err == nil {
			err = read(q, &in)
		}
		if err != nil {
			return err
		}
		k, err := g.store.AddKey(Key{User: s.User.Name, Title: in.Title, Line: in.Line, Signs: f.Signs, Repo: f.Repo, Writes: in.Right == gannetRights[Write]})
		if err != nil {
			return err
		}
		return answer(w, 201, map[string]any{"id": k.ID})
	})
	api("DELETE "+path+"/{id}", scope, func(w http.ResponseWriter, q *http.Request, s Session) error {
		f, err := which(q, s)
		if err == nil {
			err = g.store.RemoveKey(f, q.PathValue("id"))
		}
		if err != nil {
			return err
		}
		w.WriteHeader(http.StatusNoContent)
		return nil
	})
}
