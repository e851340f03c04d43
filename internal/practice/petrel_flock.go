package practice

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// petrelMost is how many people petrel's plan allows in a closed nest.
const petrelMost = 4

// petrelMetres are the numbers for rights, by the store's.
var petrelMetres = []int{0, 3, 12, 27}

// flockRoutes are what petrel has of people, of sheltered heads (protected branches), and of nests that
// fly to another cliff (transfer).
func (p petrelAt) flockRoutes(api apiOf) {
	api("GET /burrow/nests/{oid}/flock", "flock", p.flock)
	api("PUT /burrow/nests/{oid}/flock/{bird}", "flock", p.perch)
	api("DELETE /burrow/nests/{oid}/flock/{bird}", "flock", func(w http.ResponseWriter, q *http.Request, s Session) error {
		r, err := p.find(s.User.Name, q.PathValue("oid"))
		if err != nil {
			return err
		}
		return nothing(w, p.store.SetRight(q.Context(), s.User.Name, r.Owner, r.Name, q.PathValue("bird"), None, petrelMost))
	})
	api("GET /burrow/birds", "hear", p.birds)
	api("GET /burrow/nests/{oid}/shelter", "hear", p.shelters)
	api("PUT /burrow/nests/{oid}/shelter", "dig", p.shelter)
	api("DELETE /burrow/nests/{oid}/shelter", "dig", func(w http.ResponseWriter, q *http.Request, s Session) error {
		r, err := p.find(s.User.Name, q.PathValue("oid"))
		if err != nil {
			return err
		}
		return nothing(w, p.store.Guard(q.Context(), s.User.Name, r.Owner, r.Name, strings.TrimPrefix(q.URL.Query().Get("head"), "refs/heads/"), nil))
	})
	api("POST /burrow/nests/{oid}/fly", "dig", p.fly)
}

// linked answers with a page of a list, and where the next one is (RFC 8288).
func linked(w http.ResponseWriter, q *http.Request, all []map[string]any) error {
	number := 1
	if from, found := strings.CutPrefix(q.URL.Query().Get("from"), "s"); found {
		var err error
		if number, err = strconv.Atoi(from); err != nil {
			return no("invalid", "from cannot be read")
		}
	}
	if number*petrelPage < len(all) {
		next := url.Values{"from": {fmt.Sprintf("s%d", number+1)}}
		w.Header().Set("Link", fmt.Sprintf(`<%s%s?%s>; rel="next"`, baseOf(q), q.URL.Path, next.Encode()))
	}
	return answer(w, 200, append([]map[string]any{}, part(all, number, petrelPage)...))
}

func (p petrelAt) flock(w http.ResponseWriter, q *http.Request, s Session) error {
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	var all []map[string]any
	for _, m := range p.store.Members(r) {
		one := map[string]any{"bird": m.User, "called": m.FullName, "metres": petrelMetres[m.Right]}
		if !m.Since.IsZero() {
			one["since"] = m.Since.Unix()
		}
		if m.From != "" {
			one["cliff"] = m.From
		}
		all = append(all, one)
	}
	return linked(w, q, all)
}

func (p petrelAt) perch(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Metres int }
	if err := read(q, &in); err != nil {
		return err
	}
	right := slices.Index(petrelMetres, in.Metres)
	if right <= None {
		return wrongIn("metres", "invalid", "nobody flies at %d metres", in.Metres)
	}
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	return nothing(w, p.store.SetRight(q.Context(), s.User.Name, r.Owner, r.Name, q.PathValue("bird"), right, petrelMost))
}

func (p petrelAt) birds(w http.ResponseWriter, q *http.Request, _ Session) error {
	var all []map[string]any
	for _, u := range p.store.Search(q.URL.Query().Get("q")) {
		all = append(all, map[string]any{"bird": u.Name, "called": u.FullName})
	}
	return answer(w, 200, append([]map[string]any{}, part(all, 1, petrelPage)...))
}

func (p petrelAt) shelters(w http.ResponseWriter, q *http.Request, s Session) error {
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	var all []map[string]any
	for _, branch := range slices.Sorted(maps.Keys(r.Guards)) {
		all = append(all, map[string]any{"head": "refs/heads/" + branch, "metres": petrelMetres[r.Guards[branch].Least]})
	}
	return linked(w, q, all)
}

// shelter protects a branch: it is never rewritten nor deleted then, and takes a right to send to.
func (p petrelAt) shelter(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		Head   string
		Metres int
	}
	if err := read(q, &in); err != nil {
		return err
	}
	least := slices.Index(petrelMetres, in.Metres)
	if least < None {
		return wrongIn("metres", "invalid", "nobody flies at %d metres", in.Metres)
	}
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	return nothing(w, p.store.Guard(q.Context(), s.User.Name, r.Owner, r.Name, strings.TrimPrefix(in.Head, "refs/heads/"), &Guard{Least: least}))
}

// fly accepts the move of a nest to another cliff, and does it later.
func (p petrelAt) fly(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Onto string }
	if err := read(q, &in); err != nil {
		return err
	}
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	owners := p.store.Owners(s.User.Name)
	i := slices.IndexFunc(owners, func(o string) bool { return oid("g", o) == in.Onto })
	switch {
	case p.store.Right(r, s.User.Name) < Admin:
		return problem("denied", "only who may do everything lets a nest fly")
	case i < 0:
		return wrongIn("owner", "denied", "you may not put a nest there")
	}
	p.later(w, s, func(ctx context.Context) (*Repo, error) {
		return p.store.Change(ctx, s.User.Name, r.Owner, r.Name, 0, func(r *Repo) error { r.Owner = owners[i]; return nil })
	})
	return nil
}
