package rehearse

import (
	"fmt"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/practice"
)

// others is the part of the tour in which three people work together: tern on pier, knot on jetty,
// dunlin in the hut, on two hosts.
type others struct {
	petrel *practice.Running
	gannet *practice.Running
	token  map[string]string // by host and user
}

// startOthers starts the second host, and readies the people and groups of the story.
func (t *tour) startOthers() (*others, error) {
	g := t.gannet
	o := &others{gannet: g, token: map[string]string{}}
	var err error
	if o.petrel, err = practice.Start("petrel", filepath.Join(t.top, "petrel"), "127.0.0.1:0", nil); err != nil {
		return nil, fault.New(fault.Failed, "the practice host cannot be started").Because(err)
	}
	tokens, err := o.petrel.Demo()
	if err != nil {
		return nil, err
	}
	for _, k := range tokens {
		o.token["petrel "+k.User] = k.Secret
	}
	for _, group := range []string{"inlet", "watch"} { // of tern alone
		if err := g.Store.AddGroup(practice.Group{Name: group, Members: map[string]int{"tern": practice.Admin}}); err != nil {
			return nil, err
		}
	}
	for _, user := range []string{"knot", "dunlin"} { // who told the host of their e-mail addresses
		if err := g.Store.AddUser(practice.User{Name: user, FullName: strings.ToUpper(user[:1]) + user[1:], Email: user + "@gannet.example", MailConfirmed: true}); err != nil {
			return nil, err
		}
		k, err := g.NewToken(user, tokens[0].Expires)
		if err != nil {
			return nil, err
		}
		o.token["gannet "+user] = k.Secret
	}
	return o, nil
}

// offers is what comes of an offer that clashes, and of one by who may only read.
func (o *others) offers() []scene {
	const p, j, h = "pier", "jetty", "hut"
	decision := int(fault.Decision)
	return []scene{
		{p, "10. An offer that clashes: seen before anybody opens it, brought up to date by its author, accepted as one commit", "", "uncinate repository create inlet/levels --readme --visibility members --account tern --yes", "", 0},
		{p, "", "", "uncinate access grant knot --right write --repository inlet/levels --account tern --yes", "", 0},
		{p, "", "", "uncinate clone inlet/levels --account tern", "", 0},
		{j, "", "", "uncinate invitation accept inlet/levels --yes --clone", "", 0},
		{j, "", "levels", "uncinate branch make reef --switch", "", 0},
		{j, "", "levels", "edit README.md 'The reef is north of the gauge.'", "", 0},
		{j, "", "levels", "uncinate save 'Say where the reef is'", "", 0},
		{j, "", "levels", "uncinate offer create --yes", "", 0},
		{p, "", "levels", "edit README.md 'The bar is south of the gauge.'", "", 0},
		{p, "", "levels", "uncinate sync --save --message 'Say where the bar is'", "", 0},
		{p, "", "levels", "uncinate offer list", "", 0},
		{j, "", "levels", "uncinate sync", "", 0},
		{j, "", "levels", "uncinate branch join main --yes", "", decision},
		{j, "", "levels", "uncinate settle mine README.md", "", 0},
		{j, "", "levels", "uncinate sync", "", 0},
		{p, "", "levels", "uncinate offer show 1", "", 0},
		{p, "", "levels", "uncinate offer accept 1 --way one --remove-branch --yes", "", 0},
		{h, "11. dunlin may only read: one command from \"I cannot push\" to \"offered\", by a copy of dunlin's own", "", "uncinate clone inlet/levels", "", 0},
		{h, "", "levels", "edit README.md 'dunlin reads the gauge.'", "", 0},
		{h, "", "levels", "uncinate save 'Say who reads the gauge'", "", 0},
		{h, "", "levels", "uncinate sync", "", int(fault.HostSaidNo)},
		{h, "", "levels", "uncinate offer create --preview", "", 0},
		{h, "", "levels", "uncinate offer create --yes", "", 0},
		{p, "", "levels", "uncinate offer list", "", 0},
		{p, "", "levels", "uncinate offer accept 2 --way replay --yes", "", 0},
		{h, "", "levels", "uncinate sync", "", 0},
		{h, "", "levels", "uncinate branch remove say-who-reads-the-gauge --yes", "", 0},
		{h, "", "levels", "uncinate sync", "", 0},
	}
}

// onPetrel is the same on a host of another shape.
func (o *others) onPetrel() []scene {
	const p, refused = "pier", int(fault.HostSaidNo)
	return []scene{
		{p, "9. The same on petrel, as far as it can", "", "uncinate host add petrel --at " + o.petrel.URL, "", 0},
		{p, "", "", "uncinate account add tern-petrel --host petrel", o.token["petrel tern"], 0},
		{p, "", "", "uncinate repository create saltmarsh/tide-notes --readme --account tern-petrel --yes", "", 0},
		{p, "", "", "uncinate access list --repository saltmarsh/tide-notes --account tern-petrel", "", 0},
		{p, "", "", "uncinate access withdraw dunlin --repository saltmarsh/tide-notes --account tern-petrel", "", refused},
		{p, "", "", "uncinate repository transfer saltmarsh/tide-notes saltmarsh/gauges --account tern-petrel --yes", "", 0},
		{p, "", "", "uncinate repository archive saltmarsh/gauges/tide-notes --account tern-petrel", "", refused},
	}
}

// script is the story of three people, in order.
func (o *others) script() []scene {
	refused := int(fault.HostSaidNo)
	here := func(m, user string) []scene {
		return []scene{
			{m, "", "", "uncinate host add gannet --at " + o.gannet.URL, "", 0},
			{m, "", "", "uncinate vault make --by file", "", 0},
			{m, "", "", fmt.Sprintf("uncinate account add %s --host gannet --user %s", user, user), o.token["gannet "+user], 0},
		}
	}
	const p, j, h = "pier", "jetty", "hut"
	all := []scene{
		{p, "1. tern makes a repository in a group, and invites knot by name and dunlin by e-mail", "", "uncinate repository create inlet/tide-notes --readme --yes", "", 0},
		{p, "", "", "uncinate access grant knot dunlin@gannet.example --right write --repository inlet/tide-notes --yes", "", 0},
	}
	all = append(all, here(j, "knot")...)
	all[2].about = "2. On jetty, knot accepts, and clones by the line that tern was shown; in the hut dunlin does"
	all = append(all, scene{j, "", "", "uncinate invitation list", "", 0}, scene{j, "", "", "uncinate invitation accept inlet/tide-notes --yes", "", 0}, scene{j, "", "", "uncinate clone inlet/tide-notes", "", 0})
	all = append(all, here(h, "dunlin")...)
	return append(append(all,
		scene{h, "", "", "uncinate invitation accept inlet/tide-notes --yes --clone", "", 0},
		scene{p, "3. A branch for each of both, and main protected: what is sent to it is refused, with the way that works", "", "uncinate clone inlet/tide-notes", "", 0},
		scene{p, "", "tide-notes", "uncinate access list", "", 0},
		scene{p, "", "tide-notes", "uncinate branch make notes --for knot --for dunlin --publish", "", 0},
		scene{p, "", "tide-notes", "uncinate repository protect main --only tern --yes", "", 0},
		scene{j, "", "tide-notes", "edit README.md", "", 0},
		scene{j, "", "tide-notes", "uncinate save 'Say where the gauge stands'", "", 0},
		scene{j, "", "tide-notes", "uncinate sync", "", refused},
		scene{j, "", "tide-notes", "uncinate offer create --into main --remove-branch --yes", "", 0},
		scene{p, "    tern looks at what knot offers, and accepts it; both end on main", "tide-notes", "uncinate offer list", "", 0},
		scene{p, "", "tide-notes", "uncinate offer show 1", "", 0},
		scene{p, "", "tide-notes", "uncinate offer accept 1 --yes", "", 0},
		scene{j, "", "tide-notes", "uncinate sync", "", int(fault.Decision)},
		scene{j, "", "tide-notes", "uncinate branch remove say-where-the-gauge-stands --yes", "", 0},
		scene{j, "", "tide-notes", "uncinate sync", "", 0},
		scene{j, "", "tide-notes", "uncinate branch make more-notes --switch", "", 0},
		scene{p, "4. It is renamed, then given to another group: all three copies follow at their next sync", "", "uncinate repository change inlet/tide-notes --name notes --yes", "", 0},
		scene{p, "", "", "uncinate repository transfer inlet/notes watch --preview", "", 0},
		scene{p, "", "", "uncinate repository transfer inlet/notes watch --yes", "", 0},
		scene{p, "", "tide-notes", "uncinate sync", "", 0},
		scene{j, "", "tide-notes", "uncinate sync --yes", "", 0},
		scene{h, "", "tide-notes", "uncinate sync --yes", "", 0},
		scene{p, "5. dunlin is withdrawn, can no longer see it, and is told so", "", "uncinate access withdraw dunlin --repository watch/notes --yes", "", 0},
		scene{h, "", "tide-notes", "uncinate sync", "", refused},
		scene{p, "6. Archived, and back", "", "uncinate repository archive watch/notes --yes", "", 0},
		scene{j, "", "tide-notes", "edit README.md", "", 0},
		scene{j, "", "tide-notes", "uncinate sync --save --message 'Say it again'", "", refused},
		scene{p, "", "", "uncinate repository archive watch/notes --end --yes", "", 0},
		scene{j, "", "tide-notes", "uncinate sync", "", 0},
		scene{p, "7. Made public, after what everybody would see was shown", "", "uncinate repository change watch/notes --visibility public --yes", "", 0},
		scene{p, "", "", "uncinate repository show watch/notes", "", 0},
		scene{p, "8. Deleted, and brought back whole under another name", "", "uncinate repository delete watch/notes --yes", "", 0},
		scene{p, "", "", "uncinate rescue list --deleted", "", 0},
		scene{p, "", "", "uncinate rescue bring --deleted watch/notes --into notes-again", "", 0},
		scene{p, "", "notes-again", "uncinate attach --yes --branches", "", 0},
		scene{p, "", "", "uncinate project forget tide-notes --yes", "", 0},
	), append(o.onPetrel(), o.offers()...)...)
}
