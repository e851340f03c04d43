// Package offering is what a host tells of offers to merge, by the actions of its description, and what
// this machine notes of them: which branch was offered as which number, and which commit of an offer was
// looked at. It changes nothing on a host.
package offering

import (
	"context"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/login"
)

// Offer is work on a branch that somebody offers to be merged, as the host tells of it. What it does not
// tell is empty.
type Offer struct {
	Number    string    `json:"number"`
	Owner     string    `json:"owner,omitempty"`
	Name      string    `json:"name,omitempty"`
	Title     string    `json:"title"`
	Text      string    `json:"text,omitempty"`
	Creator   string    `json:"creator,omitempty"`
	Created   time.Time `json:"created,omitzero"`
	State     string    `json:"state" says:"open, accepted or closed"`
	Branch    string    `json:"branch" says:"what is offered"`
	FromOwner string    `json:"from_owner,omitempty" says:"whose repository has the branch"`
	FromName  string    `json:"from_name,omitempty"`
	Target    string    `json:"into" says:"the branch into which"`
	Head      string    `json:"commit,omitempty" says:"the commit that is offered; none where the branch is no longer there"`
	Removes   bool      `json:"removes_branch,omitempty" says:"the branch goes with the acceptance"`
	Merged    string    `json:"came,omitempty" says:"the commit that came of it"`
	EndedBy   string    `json:"ended_by,omitempty" says:"who accepted or closed it"`
	Page      string    `json:"page,omitempty"`
	ref       string
	version   string
}

// Path is the repository into which.
func (o Offer) Path() string { return o.Owner + "/" + o.Name }

// From is the repository that has the branch.
func (o Offer) From() string { return o.FromOwner + "/" + o.FromName }

// Apart reports whether the branch is in another repository.
func (o Offer) Apart() bool { return !strings.EqualFold(o.From(), o.Path()) }

// Open reports whether it waits.
func (o Offer) Open() bool { return o.State == "open" }

// Ref is the ref, in the repository into which, that has the offered commit; "" where none is told.
func (o Offer) Ref() string {
	switch {
	case o.ref != "":
		return o.ref
	case !o.Apart():
		return "refs/heads/" + o.Branch
	}
	return ""
}

// Vars are an offer's variables for a description.
func (o Offer) Vars() description.Vars {
	return description.Vars{"owner": o.Owner, "name": o.Name, "path": o.Path(), "number": o.Number, "head": o.Head, "branch": o.Branch, "target": o.Target,
		"from_owner": o.FromOwner, "from_name": o.FromName, "version": o.version, "title": o.Title, "text": o.Text}
}

// mostText is how much of an offer's text is read, in bytes.
const mostText = 64 << 10

// read makes an offer of what was read; r is the repository that was asked about, where it was one.
func read(l *login.Login, f map[string]any, r description.Repository) (Offer, error) {
	w := func(name string) string { return description.Written(f[name]) }
	o := Offer{Number: w("number"), Owner: w("owner"), Name: w("name"), Title: text.Excerpt(w("title"), 500), Text: w("text"), Creator: w("creator"), State: w("state"), Branch: w("branch"),
		FromOwner: w("from_owner"), FromName: w("from_name"), Target: w("target"), Head: w("head"), Merged: w("merged"), EndedBy: w("ended_by"), Page: w("page"), ref: w("ref"), version: w("version")}
	o.Text = o.Text[:min(len(o.Text), mostText)]
	if r.Owner != "" {
		o.Owner, o.Name = r.Owner, r.Name
	}
	if o.FromOwner == "" && o.FromName == "" {
		o.FromOwner, o.FromName = o.Owner, o.Name
	}
	o.Removes = f["removing"] == true
	o.Created, _ = f["created"].(time.Time)
	for _, id := range []string{o.Head, o.Merged} {
		if id != "" && !isCommit(id) {
			return o, odd(l, "a commit of an offer is "+text.Quote(text.Excerpt(id, 60)))
		}
	}
	for _, ref := range []string{o.Ref(), "refs/heads/" + o.Branch, "refs/heads/" + o.Target} {
		if ref != "" && (!strings.HasPrefix(ref, "refs/") || strings.ContainsAny(ref, " :^~?*[\\\x00\n\r\x1b") || strings.Contains(ref, "..")) {
			return o, odd(l, "a branch of an offer is "+text.Quote(text.Excerpt(ref, 60)))
		}
	}
	if o.Number == "" || o.Branch == "" || o.Target == "" || o.Owner == "" {
		return o, odd(l, "an offer without number, branch or target")
	}
	if o.Page != "" && !l.Host.Trusts(o.Page) {
		o.Page = "" // a page elsewhere is nobody's to open
	}
	return o, nil
}

// odd is the fault of an answer that cannot be an offer.
func odd(l *login.Login, what string) error {
	return fault.New(fault.Unreachable, "what answers at %s is not the API that the description expects: %s", l.Host.Base, what)
}

// isCommit reports whether a word is the id of an object.
func isCommit(id string) bool {
	return (len(id) == 40 || len(id) == 64) && strings.Trim(id, "0123456789abcdef") == ""
}

// all reads a list.
func all(l *login.Login, items []map[string]any, r description.Repository) ([]Offer, error) {
	out := []Offer{}
	for _, f := range items {
		o, err := read(l, f, r)
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, nil
}

// List lists the offers to a repository in a state ("" for any), as the host orders them; more tells that
// there are others than the first most.
func List(ctx context.Context, l *login.Login, r description.Repository, state string, most int) (_ []Offer, more bool, err error) {
	vars := login.RepositoryVars(r)
	vars["state"] = state
	items, more, err := l.Some(ctx, "offer-list", "list the offers to "+r.Path(), vars, most)
	if err != nil {
		return nil, false, err
	}
	out, err := all(l, items, r)
	return out, more, err
}

// Everywhere lists those of all repositories that an account made, or may accept.
func Everywhere(ctx context.Context, l *login.Login, state string, most int) (_ []Offer, more bool, err error) {
	items, more, err := l.Some(ctx, "offer-all-list", "list the offers of all repositories", description.Vars{"state": state}, most)
	if err != nil {
		return nil, false, err
	}
	out, err := all(l, items, description.Repository{})
	return out, more, err
}

// Show asks for one; false where the host has none of that number.
func Show(ctx context.Context, l *login.Login, r description.Repository, number string) (Offer, bool, error) {
	vars := login.RepositoryVars(r)
	vars["number"] = number
	f, err := l.Do(ctx, "offer-show", "show offer "+text.Excerpt(number, 20)+" to "+r.Path(), vars)
	if login.Means(err, description.NotFound) || login.Means(err, description.Invalid) {
		return Offer{}, false, nil
	}
	if err != nil {
		return Offer{}, false, err
	}
	o, err := read(l, f, r)
	if err == nil && o.Number != number {
		err = fault.New(fault.Unreachable, "%s was asked for offer %s, and told of %s", l.Host.Name, text.Excerpt(number, 20), text.Quote(text.Excerpt(o.Number, 20)))
	}
	return o, err == nil, err
}

// Remark is what somebody said of an offer.
type Remark struct {
	Who  string    `json:"who"`
	When time.Time `json:"when,omitzero"`
	Text string    `json:"text"`
	File string    `json:"file,omitempty"`
}

// Check is what a check said of the offered commit.
type Check struct {
	Title   string `json:"title"`
	Outcome string `json:"outcome" says:"passed, failed or running"`
	Text    string `json:"text,omitempty"`
}

// Lacks says what a check that did not pass stands at, by its title; "" for one that passed.
func (c Check) Lacks() string {
	switch c.Outcome {
	case "failed":
		return text.Visible(c.Title) + " failed"
	case "running":
		return text.Visible(c.Title) + " has not ended yet"
	}
	return ""
}

// mostSaid is how many remarks and checks are read.
const mostSaid = 500

// Remarks lists what people said of an offer; nil where the host tells of none at all.
func Remarks(ctx context.Context, l *login.Login, o Offer) ([]Remark, error) {
	if l.Host.Actions["offer-remark-list"] == nil {
		return nil, nil
	}
	items, _, err := l.Some(ctx, "offer-remark-list", "list the remarks on offer "+o.Number, o.Vars(), mostSaid)
	out := []Remark{}
	for _, f := range items {
		r := Remark{Who: description.Written(f["creator"]), Text: description.Written(f["text"]), File: description.Written(f["file"])}
		r.When, _ = f["created"].(time.Time)
		r.Text = r.Text[:min(len(r.Text), mostText)]
		out = append(out, r)
	}
	return out, err
}

// Checks lists what checks said of the offered commit; nil where the host tells of none at all.
func Checks(ctx context.Context, l *login.Login, o Offer) ([]Check, error) {
	if l.Host.Actions["offer-check-list"] == nil || o.Head == "" {
		return nil, nil
	}
	items, _, err := l.Some(ctx, "offer-check-list", "list the checks of offer "+o.Number, o.Vars(), mostSaid)
	out := []Check{}
	for _, f := range items {
		out = append(out, Check{Title: description.Written(f["title"]), Outcome: description.Written(f["outcome"]), Text: text.Excerpt(description.Written(f["text"]), 500)})
	}
	return out, err
}

// Ways are the ways in which a host can take an offer, of description.Ways; none where it cannot be told.
func Ways(l *login.Login) []string {
	act := l.Host.Actions["offer-accept"]
	if act == nil || !act.Takes("way") {
		return nil
	}
	words := l.Host.Words["way"]
	var out []string
	for _, w := range description.Ways {
		if words == nil || words[w] != nil {
			out = append(out, w)
		}
	}
	return out
}
