package practice

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"uncinate/internal/world/git"
)

// Bell is an address on this machine that is called when something was sent to a repository.
type Bell struct {
	ID     string `json:"id"`
	To     string `json:"to"`
	Secret string `json:"secret"`
}

// bellsOf finds a repository of which a user may see the bells.
func (st *Store) bellsOf(user, owner, name string) (*Repo, error) {
	r := st.byPath(owner, name)
	switch {
	case r == nil || st.right(r, user) < Read:
		return nil, problem("none", "there is no repository %s/%s, or you may not see it", owner, name)
	case st.right(r, user) < Admin:
		return nil, problem("denied", "only who runs %s/%s hangs its bells", owner, name)
	}
	return r, nil
}

// Bells lists a repository's.
func (st *Store) Bells(user, owner, name string) ([]Bell, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	r, err := st.bellsOf(user, owner, name)
	if err != nil {
		return nil, err
	}
	return slices.Clone(r.Bells), nil
}

// HangBell adds one: a practice host calls nothing but this machine.
func (st *Store) HangBell(user, owner, name string, b Bell) (Bell, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	r, err := st.bellsOf(user, owner, name)
	if err != nil {
		return b, err
	}
	u, err := url.Parse(b.To)
	if err != nil || u.Scheme != "http" || !loopback(u.Hostname()) {
		return b, &Problem{Kind: "invalid", Says: "a practice host calls http on a loopback address only", Field: "to"}
	}
	if len(b.Secret) < 16 {
		return b, &Problem{Kind: "invalid", Says: "the secret has 16 characters at least", Field: "secret"}
	}
	b.ID = randomText(4)
	r.Bells = append(r.Bells, b)
	return b, st.save()
}

// TakeBell removes one.
func (st *Store) TakeBell(user, owner, name, id string) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	r, err := st.bellsOf(user, owner, name)
	if err != nil {
		return err
	}
	n := len(r.Bells)
	if r.Bells = slices.DeleteFunc(r.Bells, func(b Bell) bool { return b.ID == id }); len(r.Bells) == n {
		return problem("none", "there is no bell %s", id)
	}
	return st.save()
}

// bellsAt are the bells of a repository by its id.
func (st *Store) bellsAt(id string) (path string, all []Bell) {
	st.mu.Lock()
	defer st.mu.Unlock()
	r := st.s.Repos[id]
	if r == nil {
		return "", nil
	}
	return r.Owner + "/" + r.Name, slices.Clone(r.Bells)
}

// rings gives what is to be called once a push is over: the bells of a repository, where its refs changed.
func (st *Store) rings(host, id string) (over func()) {
	_, bells := st.bellsAt(id)
	if len(bells) == 0 {
		return func() {}
	}
	before, err := git.ReadRefs(st.GitDir(id))
	if err != nil {
		before = nil
	}
	return func() {
		after, err := git.ReadRefs(st.GitDir(id))
		if err != nil || maps.Equal(before, after) {
			return
		}
		path, bells := st.bellsAt(id)
		for _, b := range bells {
			go call(host, path, b, after, st.now())
		}
	}
}

// call calls one, signed as the host's description says; nobody waits for it, or hears of how it went.
func call(host, path string, b Bell, refs map[string]string, now time.Time) {
	body, err := json.Marshal(map[string]any{"where": path, "heads": refs, "rung": now.UnixNano()})
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, b.To, bytes.NewReader(body))
	if err != nil {
		return
	}
	q.Header.Set("Content-Type", "application/json")
	Sign(host, b.Secret, q.Header, body, now)
	c := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if r, err := c.Do(q); err == nil {
		_, _ = io.Copy(io.Discard, io.LimitReader(r.Body, 1<<10)) // what it answers is of no interest
		r.Body.Close()
	}
}

// Sign signs a call as a host does: gannet its time too, petrel the body alone.
func Sign(host, secret string, header http.Header, body []byte, now time.Time) {
	switch host {
	case "gannet":
		at := now.UTC().Format(time.RFC3339)
		mac := hmac.New(sha512.New, []byte(secret))
		mac.Write(body)
		mac.Write([]byte(" rung " + at))
		header.Set("Gannet-Bell", base64.StdEncoding.EncodeToString(mac.Sum(nil)))
		header.Set("Gannet-Bell-At", at)
		header.Set("Gannet-Bell-For", "sent")
	case "petrel":
		mac := hmac.New(sha256.New, []byte(secret))
		mac.Write(body)
		header.Set("Petrel-Cry", "cry "+hex.EncodeToString(mac.Sum(nil)))
	}
}

// bellRoutes serves gannet's bells.
func (g gannetAt) bellRoutes(api func(pattern, scope string, h func(http.ResponseWriter, *http.Request, Session) error)) {
	api("GET /deck/bells/{owner}/{name}", "bells", func(w http.ResponseWriter, q *http.Request, s Session) error {
		all, err := g.store.Bells(s.User.Name, q.PathValue("owner"), q.PathValue("name"))
		if err != nil {
			return err
		}
		items := []map[string]any{}
		for _, b := range all {
			items = append(items, map[string]any{"id": b.ID, "to": b.To})
		}
		return answer(w, 200, cut(q, items))
	})
	api("POST /deck/bells/{owner}/{name}", "bells", func(w http.ResponseWriter, q *http.Request, s Session) error {
		var in struct{ To, Clapper string }
		if err := read(q, &in); err != nil {
			return err
		}
		b, err := g.store.HangBell(s.User.Name, q.PathValue("owner"), q.PathValue("name"), Bell{To: in.To, Secret: in.Clapper})
		if err != nil {
			return err
		}
		return answer(w, 201, map[string]any{"id": b.ID, "to": b.To})
	})
	api("DELETE /deck/bells/{owner}/{name}/{id}", "bells", func(w http.ResponseWriter, q *http.Request, s Session) error {
		return nothing(w, g.store.TakeBell(s.User.Name, q.PathValue("owner"), q.PathValue("name"), q.PathValue("id")))
	})
}

// cryRoutes serves petrel's.
func (p petrelAt) cryRoutes(api func(pattern, scope string, h func(http.ResponseWriter, *http.Request, Session) error)) {
	at := func(h func(http.ResponseWriter, *http.Request, Session, *Repo) error) func(http.ResponseWriter, *http.Request, Session) error {
		return func(w http.ResponseWriter, q *http.Request, s Session) error {
			r, err := p.find(s.User.Name, q.PathValue("oid"))
			if err != nil {
				return err
			}
			return h(w, q, s, r)
		}
	}
	api("GET /burrow/nests/{oid}/cries", "dig", at(func(w http.ResponseWriter, q *http.Request, s Session, r *Repo) error {
		all, err := p.store.Bells(s.User.Name, r.Owner, r.Name)
		if err != nil {
			return err
		}
		var items []map[string]any
		for _, b := range all {
			items = append(items, map[string]any{"no": b.ID, "heard_at": b.To})
		}
		return linked(w, q, items)
	}))
	api("POST /burrow/nests/{oid}/cries", "dig", at(func(w http.ResponseWriter, q *http.Request, s Session, r *Repo) error {
		var in struct {
			HeardAt string `json:"heard_at"`
			Voice   string `json:"voice"`
		}
		if err := read(q, &in); err != nil {
			return err
		}
		b, err := p.store.HangBell(s.User.Name, r.Owner, r.Name, Bell{To: in.HeardAt, Secret: in.Voice})
		if err != nil {
			return err
		}
		return answer(w, 201, map[string]any{"no": b.ID, "heard_at": b.To})
	}))
	api("DELETE /burrow/nests/{oid}/cries/{id}", "dig", at(func(w http.ResponseWriter, q *http.Request, s Session, r *Repo) error {
		return nothing(w, p.store.TakeBell(s.User.Name, r.Owner, r.Name, strings.TrimSpace(q.PathValue("id"))))
	}))
}
