package practice

import (
	"maps"
	"net/http"
	"slices"
	"strconv"
	"time"

	"uncinate/internal/core/text"
)

// gannetMost is how many people gannet's plan allows in a private repository.
const gannetMost = 7

// apiOf adds a pattern, with the scope that it takes.
type apiOf func(pattern, scope string, h func(w http.ResponseWriter, q *http.Request, s Session) error)

// crewRoutes are what gannet has of people: the crew, hails (invitations), and souls to be found.
func (g gannetAt) crewRoutes(api apiOf) {
	api("GET /deck/crew/{owner}/{name}", "crew", g.crew)
	api("POST /deck/crew/{owner}/{name}", "crew", g.sign)
	api("GET /deck/souls", "self", g.souls)
	api("GET /deck/hails", "self", g.hails)
	api("POST /deck/hails/{id}", "self", g.answers)
	api("GET /deck/hails/{owner}/{name}", "crew", g.hailed)
	api("POST /deck/hails/{owner}/{name}", "crew", g.hail)
	api("DELETE /deck/hails/{owner}/{name}/{id}", "crew", func(w http.ResponseWriter, q *http.Request, s Session) error {
		return nothing(w, g.store.TakeBack(s.User.Name, q.PathValue("owner"), q.PathValue("name"), q.PathValue("id")))
	})
}

// nothing answers that what was asked is done.
func nothing(w http.ResponseWriter, err error) error {
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}

// cut gives the part of a list after a cursor, which is the place in it, and the next cursor.
func cut(q *http.Request, items []map[string]any) map[string]any {
	many, err := strconv.Atoi(q.URL.Query().Get("many"))
	if err != nil || many < 1 || many > 100 {
		many = 30
	}
	after, err := strconv.Atoi(q.URL.Query().Get("after"))
	if err != nil || after < 0 {
		after = 0
	}
	after = min(after, len(items))
	end := min(after+many, len(items))
	out := map[string]any{"items": append([]map[string]any{}, items[after:end]...), "next": nil}
	if end < len(items) {
		out["next"] = strconv.Itoa(end)
	}
	return out
}

// gannetRights are the words for rights, by the store's; ashore is who has none.
var gannetRights = []string{"ashore", "look", "work", "steer"}

func (g gannetAt) crew(w http.ResponseWriter, q *http.Request, s Session) error {
	r, err := g.store.Find(s.User.Name, q.PathValue("owner"), q.PathValue("name"))
	if err != nil {
		return err
	}
	items := []map[string]any{}
	for _, m := range g.store.Members(r) {
		item := map[string]any{"name": m.User, "called": m.FullName, "right": gannetRights[m.Right]}
		if !m.Since.IsZero() {
			item["since"] = m.Since.Format(time.RFC3339)
		}
		if m.From != "" {
			item["flag"] = m.From
		}
		items = append(items, item)
	}
	return answer(w, 200, cut(q, items))
}

// may reads a right that can be given.
func gannetMay(word string) (int, error) {
	right := slices.Index(gannetRights, word)
	if right <= None {
		return None, no("invalid", "There is no right %q.", word)
	}
	return right, nil
}

// sign says what somebody of the crew may do; "ashore" takes every right back. Who is not of it is hailed.
func (g gannetAt) sign(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Who, May string }
	if err := read(q, &in); err != nil {
		return err
	}
	right := None
	if in.May != "ashore" {
		var err error
		if right, err = gannetMay(in.May); err != nil {
			return err
		}
	}
	owner, name := q.PathValue("owner"), q.PathValue("name")
	r, err := g.store.Find(s.User.Name, owner, name)
	if err != nil {
		return err
	}
	if right > None && g.store.Knows(in.Who) && !slices.ContainsFunc(g.store.Members(r), func(m Member) bool { return m.User == in.Who }) {
		return no("invalid", "%s is not of the crew: hail them first.", in.Who)
	}
	return nothing(w, g.store.SetRight(q.Context(), s.User.Name, owner, name, in.Who, right, gannetMost))
}

func (g gannetAt) souls(w http.ResponseWriter, q *http.Request, _ Session) error {
	items := []map[string]any{}
	for _, u := range g.store.Search(q.URL.Query().Get("find")) {
		items = append(items, map[string]any{"name": u.Name, "called": u.FullName})
	}
	return answer(w, 200, cut(q, items))
}

func (g gannetAt) hails(w http.ResponseWriter, q *http.Request, s Session) error {
	items := []map[string]any{}
	for _, i := range g.store.InvitesTo(s.User.Name) {
		items = append(items, map[string]any{"id": i.ID, "owner": i.Owner, "name": i.Name, "right": gannetRights[i.Right], "by": i.By, "sent": i.Sent.Format(time.RFC3339)})
	}
	return answer(w, 200, cut(q, items))
}

func (g gannetAt) answers(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Answer string }
	if err := read(q, &in); err != nil {
		return err
	}
	if in.Answer != "aboard" && in.Answer != "ashore" {
		return no("invalid", "An answer is aboard or ashore.")
	}
	return nothing(w, g.store.Answer(s.User.Name, q.PathValue("id"), in.Answer == "aboard"))
}

func (g gannetAt) hailed(w http.ResponseWriter, q *http.Request, s Session) error {
	all, err := g.store.Invites(s.User.Name, q.PathValue("owner"), q.PathValue("name"))
	if err != nil {
		return err
	}
	items := []map[string]any{}
	for _, i := range all {
		items = append(items, map[string]any{"id": i.ID, "who": i.To, "mail": i.Mail, "right": gannetRights[i.Right], "sent": i.Sent.Format(time.RFC3339)})
	}
	return answer(w, 200, cut(q, items))
}

func (g gannetAt) hail(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Who, Mail, May string }
	if err := read(q, &in); err != nil {
		return err
	}
	right, err := gannetMay(in.May)
	if err != nil {
		return err
	}
	i, err := g.store.Invite(s.User.Name, q.PathValue("owner"), q.PathValue("name"), in.Who, in.Mail, right, gannetMost)
	if err != nil {
		return err
	}
	return answer(w, 201, map[string]any{"id": i.ID})
}

// lifeRoutes are moorings (protected branches), laying up (archiving), sister ships (copies) and salvage
// (import).
func (g gannetAt) lifeRoutes(api apiOf) {
	api("GET /deck/moorings/{owner}/{name}", "look", g.moorings)
	api("POST /deck/moorings/{owner}/{name}", "steer", g.moor)
	api("DELETE /deck/moorings/{owner}/{name}", "steer", func(w http.ResponseWriter, q *http.Request, s Session) error {
		return nothing(w, g.store.Guard(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), q.URL.Query().Get("branch"), nil))
	})
	api("POST /deck/slip/{owner}/{name}", "steer", g.slip)
	api("POST /deck/sister/{owner}/{name}", "launch", g.sister)
	api("POST /deck/salvage", "launch", g.salvage)
}

func (g gannetAt) moorings(w http.ResponseWriter, q *http.Request, s Session) error {
	r, err := g.store.Find(s.User.Name, q.PathValue("owner"), q.PathValue("name"))
	if err != nil {
		return err
	}
	items := []map[string]any{}
	for _, branch := range slices.Sorted(maps.Keys(r.Guards)) {
		x := r.Guards[branch]
		item := map[string]any{"branch": branch, "rewrite": x.Rewrite, "sink": x.Delete, "haulers": append([]string{}, x.Mergers...)}
		if x.Least > None {
			item["least"] = gannetRights[x.Least]
		}
		items = append(items, item)
	}
	return answer(w, 200, cut(q, items))
}

func (g gannetAt) moor(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		Branch, Least string
		Rewrite, Sink bool
		Haulers       []string
	}
	if err := read(q, &in); err != nil {
		return err
	}
	least := None
	if in.Least != "" {
		var err error
		if least, err = gannetMay(in.Least); err != nil {
			return err
		}
	}
	for _, who := range in.Haulers {
		if !g.store.Knows(who) {
			return problem("none", "there is nobody named %s", who)
		}
	}
	return nothing(w, g.store.Guard(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), in.Branch, &Guard{in.Rewrite, in.Sink, least, in.Haulers}))
}

// slip lays a repository up, or launches it again.
func (g gannetAt) slip(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		LaidUp bool `json:"laid_up"`
	}
	if err := read(q, &in); err != nil {
		return err
	}
	r, err := g.store.Change(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), 0, func(r *Repo) error {
		if r.Archived && in.LaidUp {
			return problem("archived", "it is laid up already")
		}
		r.Archived = in.LaidUp
		return nil
	})
	if err != nil {
		return err
	}
	return g.one(w, q, 200, r, s)
}

func (g gannetAt) sister(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Flag, Name string }
	if err := read(q, &in); err != nil {
		return err
	}
	r, err := g.store.Copy(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), text.Either(in.Flag == "", s.User.Name, in.Flag), in.Name)
	if err != nil {
		return err
	}
	return g.one(w, q, 201, r, s)
}

func (g gannetAt) salvage(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ From, Flag, Name, About, Reach string }
	if err := read(q, &in); err != nil {
		return err
	}
	r, err := g.store.Import(q.Context(), s.User.Name, Repo{Owner: in.Flag, Name: in.Name, Description: in.About, Visibility: ours(in.Reach)}, in.From)
	if err != nil {
		return err
	}
	return g.one(w, q, 201, r, s)
}
