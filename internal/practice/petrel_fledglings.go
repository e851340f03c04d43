package practice

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
)

// fledglingRoutes are what petrel has of offers to merge: fledglings, of heads of the same nest only. They are
// taken whole or as one, and only as they were looked at.
func (p petrelAt) fledglingRoutes(api apiOf) {
	api("GET /burrow/nests/{oid}/fledglings", "hear", p.fledglings)
	api("POST /burrow/nests/{oid}/fledglings", "feed", p.hatch)
	api("GET /burrow/nests/{oid}/fledglings/{number}", "hear", p.fledgling)
	api("PUT /burrow/nests/{oid}/fledglings/{number}", "feed", p.decide)
}

// fledglingState are the numbers for how one stands, by the store's words.
var fledglingState = map[string]int{"open": 0, "accepted": 1, "closed": 2}

func fledglingTag(o Offered) string { return fmt.Sprintf(`"f%d-%d-%.12s"`, o.Number, o.Version, o.Tip) }

func fledglingShown(o Offered) map[string]any {
	out := map[string]any{"no": o.Number, "label": o.Title, "blurb": o.Text, "bird": o.By, "since": o.Made.Unix(), "state": fledglingState[o.State],
		"chick": "refs/heads/" + o.Branch, "toward": "refs/heads/" + o.Target}
	if o.Tip != "" {
		out["at"] = o.Tip
	}
	if ref := o.Ref(); ref != "" {
		out["kept"] = ref
	}
	if o.Ended != "" {
		out["ended"] = map[string]any{"bird": o.Ended, "at": o.Came}
	}
	return out
}

func (p petrelAt) fledglings(w http.ResponseWriter, q *http.Request, s Session) error {
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	state := ""
	for ours, theirs := range fledglingState {
		if q.URL.Query().Get("state") == strconv.Itoa(theirs) {
			state = ours
		}
	}
	from, err := strconv.Atoi(strings.TrimPrefix(q.URL.Query().Get("from"), "s"))
	if err != nil || from < 0 {
		from = 0
	}
	all, more, err := p.store.Offers(q.Context(), s.User.Name, r.Owner, r.Name, state, from, petrelPage)
	if err != nil {
		return err
	}
	out := []map[string]any{}
	for _, o := range all {
		out = append(out, fledglingShown(o))
	}
	if more {
		next := q.URL.Query()
		next.Set("from", fmt.Sprintf("s%d", from+petrelPage))
		w.Header().Set("Link", fmt.Sprintf(`<%s%s?%s>; rel="next"`, baseOf(q), q.URL.Path, next.Encode()))
	}
	return answer(w, 200, out)
}

func (p petrelAt) oneFledgling(w http.ResponseWriter, status int, o Offered) error {
	w.Header().Set("ETag", fledglingTag(o))
	return answer(w, status, fledglingShown(o))
}

func (p petrelAt) hatch(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct{ Chick, Toward, Label, Blurb string }
	if err := read(q, &in); err != nil {
		return err
	}
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	made, err := p.store.MakeOffer(s.User.Name, r.Owner, r.Name, r.Owner, r.Name, Offer{Branch: strings.TrimPrefix(in.Chick, "refs/heads/"), Target: strings.TrimPrefix(in.Toward, "refs/heads/"), Title: in.Label, Text: in.Blurb})
	if err != nil {
		return err
	}
	o, err := p.store.Offer(q.Context(), s.User.Name, r.Owner, r.Name, made.Number)
	if err != nil {
		return err
	}
	return p.oneFledgling(w, 201, o)
}

func (p petrelAt) fledgling(w http.ResponseWriter, q *http.Request, s Session) error {
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	o, err := p.store.Offer(q.Context(), s.User.Name, r.Owner, r.Name, numbered(q, "number"))
	if err != nil {
		return err
	}
	return p.oneFledgling(w, 200, o)
}

// decide lets one fly (whole, or as one commit), or go.
func (p petrelAt) decide(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		State int
		How   string
		Says  string
	}
	if err := read(q, &in); err != nil {
		return err
	}
	r, err := p.find(s.User.Name, q.PathValue("oid"))
	if err != nil {
		return err
	}
	o, err := p.store.Offer(q.Context(), s.User.Name, r.Owner, r.Name, numbered(q, "number"))
	if err != nil {
		return err
	}
	if tag := q.Header.Get("If-Match"); tag != "" && tag != fledglingTag(o) {
		return problem("changed", "it is not as it was looked at")
	}
	switch {
	case in.State == fledglingState["closed"]:
		err = p.store.CloseOffer(q.Context(), s.User.Name, r.Owner, r.Name, o.Number)
	case in.State != fledglingState["accepted"]:
		err = no("invalid", "there is no such state")
	case q.Header.Get("If-Match") == "":
		err = no("invalid", "say by If-Match which one you looked at")
	case in.How != "whole" && in.How != "single":
		err = no("invalid", "it flies whole or single")
	default:
		how := map[string]string{"whole": "merge", "single": "one"}[in.How]
		_, err = p.store.Accept(q.Context(), s.User.Name, r.Owner, r.Name, o.Number, Accepting{How: how, Tip: o.Tip, Version: o.Version, Text: in.Says})
	}
	if err == nil {
		o, err = p.store.Offer(q.Context(), s.User.Name, r.Owner, r.Name, o.Number)
	}
	if err != nil {
		return err
	}
	return p.oneFledgling(w, 200, o)
}
