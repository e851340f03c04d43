package practice

import (
	"net/http"
	"strconv"
	"time"
)

// gannetHow are the words for the ways of taking an offer, by the store's.
var gannetHow = map[string]string{"lash": "merge", "splice": "replay", "bundle": "one"}

// gannetStands are the words for how an offer stands, by the store's.
var gannetStands = map[string]string{"open": "held", "accepted": "agreed", "closed": "broken-off"}

// parleyRoutes are parleys (offers to merge), with what is said in them, and soundings (checks).
func (g gannetAt) parleyRoutes(api apiOf) {
	api("GET /deck/parleys", "offers", g.parleys)
	api("GET /deck/parleys/{owner}/{name}", "look", g.parleys)
	api("POST /deck/parleys/{owner}/{name}", "offers", g.callParley)
	api("GET /deck/parleys/{owner}/{name}/{number}", "look", g.parley)
	api("POST /deck/parleys/{owner}/{name}/{number}/agree", "offers", g.agree)
	api("POST /deck/parleys/{owner}/{name}/{number}/break-off", "offers", g.breakOff)
	api("GET /deck/parleys/{owner}/{name}/{number}/words", "look", g.words)
	api("POST /deck/parleys/{owner}/{name}/{number}/words", "offers", g.say)
	api("GET /deck/soundings/{owner}/{name}/{commit}", "look", g.soundings)
	api("POST /deck/soundings/{owner}/{name}", "work", g.sound)
}

// numbered is a number in an address.
func numbered(q *http.Request, name string) int {
	n, err := strconv.Atoi(q.PathValue(name))
	if err != nil || n < 1 {
		return -1 // there is none of it
	}
	return n
}

func (g gannetAt) parleyShown(q *http.Request, o Offered) map[string]any {
	out := map[string]any{"number": o.Number, "flag": o.Into.Owner, "hull": o.Into.Name, "title": o.Title, "about": o.Text, "by": o.By, "called": o.Made.Format(time.RFC3339), "stands": gannetStands[o.State],
		"branch": o.Branch, "haven": o.Target, "sink_after": o.Removes, "page": baseOf(q) + "/" + o.Into.Owner + "/" + o.Into.Name + "/parley/" + strconv.Itoa(o.Number)}
	if o.Tip != "" {
		out["tip"] = o.Tip
	}
	if o.Source != nil {
		out["from_flag"], out["from_hull"] = o.Source.Owner, o.Source.Name
	}
	if ref := o.Ref(); ref != "" {
		out["ref"] = ref
	}
	if o.Ended != "" {
		out["ended_by"], out["came"] = o.Ended, o.Came
	}
	return out
}

// parleys lists those of a repository, or without one those that are the user's, or the user's to decide.
func (g gannetAt) parleys(w http.ResponseWriter, q *http.Request, s Session) error {
	state := ""
	if is := q.URL.Query().Get("stands"); is != "" {
		for ours, theirs := range gannetStands {
			if theirs == is {
				state = ours
			}
		}
		if state == "" {
			return no("invalid", "A parley is held, agreed or broken-off, and not %q.", is)
		}
	}
	many, err := strconv.Atoi(q.URL.Query().Get("many"))
	if err != nil || many < 1 || many > 100 {
		many = 30
	}
	after, err := strconv.Atoi(q.URL.Query().Get("after"))
	if err != nil || after < 0 {
		after = 0
	}
	all, more, err := g.store.Offers(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), state, after, many)
	if err != nil {
		return err
	}
	items := []map[string]any{}
	for _, o := range all {
		items = append(items, g.parleyShown(q, o))
	}
	out := map[string]any{"items": items, "next": nil}
	if more {
		out["next"] = strconv.Itoa(after + many)
	}
	return answer(w, 200, out)
}

func (g gannetAt) callParley(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		FromFlag                    string `json:"from_flag"`
		FromHull                    string `json:"from_hull"`
		Branch, Haven, Title, About string
		SinkAfter                   bool `json:"sink_after"`
	}
	if err := read(q, &in); err != nil {
		return err
	}
	o, err := g.store.MakeOffer(s.User.Name, q.PathValue("owner"), q.PathValue("name"), in.FromFlag, in.FromHull, Offer{Branch: in.Branch, Target: in.Haven, Title: in.Title, Text: in.About, Removes: in.SinkAfter})
	if err != nil {
		return err
	}
	return g.oneParley(w, q, s, 201, o.Number)
}

func (g gannetAt) oneParley(w http.ResponseWriter, q *http.Request, s Session, status, number int) error {
	o, err := g.store.Offer(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), number)
	if err != nil {
		return err
	}
	return answer(w, status, g.parleyShown(q, o))
}

func (g gannetAt) parley(w http.ResponseWriter, q *http.Request, s Session) error {
	return g.oneParley(w, q, s, 200, numbered(q, "number"))
}

func (g gannetAt) agree(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		How, Tip, Says string
		Sink           bool
	}
	if err := read(q, &in); err != nil {
		return err
	}
	how, there := gannetHow[in.How]
	if !there {
		return no("invalid", "There is no way %q.", in.How)
	}
	o, err := g.store.Accept(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), numbered(q, "number"), Accepting{How: how, Tip: in.Tip, Text: in.Says, Removes: in.Sink})
	if err != nil {
		return err
	}
	return answer(w, 200, g.parleyShown(q, o))
}

func (g gannetAt) breakOff(w http.ResponseWriter, q *http.Request, s Session) error {
	return nothing(w, g.store.CloseOffer(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), numbered(q, "number")))
}

func (g gannetAt) words(w http.ResponseWriter, q *http.Request, s Session) error {
	o, err := g.store.Offer(q.Context(), s.User.Name, q.PathValue("owner"), q.PathValue("name"), numbered(q, "number"))
	if err != nil {
		return err
	}
	items := []map[string]any{}
	for _, x := range o.Words {
		items = append(items, map[string]any{"by": x.By, "at": x.When.Format(time.RFC3339), "says": x.Says, "file": x.File})
	}
	return answer(w, 200, cut(q, items))
}

func (g gannetAt) say(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Says, File string }
	if err := read(q, &in); err != nil {
		return err
	}
	return nothing(w, g.store.SayOf(s.User.Name, q.PathValue("owner"), q.PathValue("name"), numbered(q, "number"), in.Says, in.File))
}

func (g gannetAt) soundings(w http.ResponseWriter, q *http.Request, s Session) error {
	all, err := g.store.Soundings(s.User.Name, q.PathValue("owner"), q.PathValue("name"), q.PathValue("commit"))
	if err != nil {
		return err
	}
	items := []map[string]any{}
	for _, x := range all {
		items = append(items, map[string]any{"name": x.Name, "depth": map[string]string{"passed": "clear", "failed": "aground", "running": "sounding"}[x.State], "says": x.Says})
	}
	return answer(w, 200, cut(q, items))
}

func (g gannetAt) sound(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Commit, Name, Depth, Says string }
	if err := read(q, &in); err != nil {
		return err
	}
	state := map[string]string{"clear": "passed", "aground": "failed", "sounding": "running"}[in.Depth]
	if state == "" {
		return no("invalid", "There is no depth %q.", in.Depth)
	}
	return nothing(w, g.store.Sound(s.User.Name, q.PathValue("owner"), q.PathValue("name"), Sounding{Commit: in.Commit, Name: in.Name, State: state, Says: in.Says}))
}
