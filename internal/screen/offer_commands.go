package screen

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/offering"
	"uncinate/internal/job/offers"
)

// MadeOffer is an offer that was made, as a JSON document.
type MadeOffer struct {
	Done  []string       `json:"done"`
	Offer offering.Offer `json:"offer"`
	Notes []string       `json:"notes,omitempty"`
}

func offerCommand() *Command {
	return &Command{Name: "offer", Short: "offer work to be merged, look at offers, and accept them: list, show, create, fetch, accept, close",
		Long: `An offer asks whoever sees to a repository to merge a branch. The repository is the current project's,
unless --repository names another.`,
		Means: map[string]string{"new": "create", "make": "create", "open": "create", "propose": "create", "send": "create", "merge": "accept", "take": "accept", "approve": "accept", "view": "show", "see": "show", "diff": "show",
			"changes": "show", "checkout": "fetch", "try": "fetch", "switch": "fetch", "reject": "close", "decline": "close", "drop": "close", "cancel": "close", "remove": "close", "delete": "close", "ls": "list", "status": "list"},
		Subs: []*Command{
			offerList(),
			offerShow(),
			offerCreate(),
			offerFetch(),
			offerAccept(),
			offerClose(),
		}}
}

// offered is a repository whose offers are meant.
type offered struct {
	which
	in *place
}

func (w *offered) add(o *flag.FlagSet) {
	w.which.add(o)
	w.in = inFolder(o)
}

func (w *offered) of() offers.Which {
	return offers.Which{Folder: w.in.in(), Repository: w.repository, Account: w.account}
}

func offerCreate() *Command {
	return &Command{Name: "create", Gives: MadeOffer{}, Short: "offer the current branch to be merged; its commits are sent first",
		Long: `Title and text are proposed from the commits, and shown before. Where the commits are on the branch into
which they are to come, they get a branch of their own. Who may only read the repository offers from a
copy of their own, which is made on the host and added as a second remote; sync keeps it in step.`,
		Examples: []string{"uncinate offer create", `uncinate offer create --title "Add the neap table" --remove-branch`, "uncinate offer create --into survey --preview"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var c offers.CreateOptions
			in := inFolder(o)
			o.StringVar(&c.Account, "account", "", "which `account` to use")
			o.StringVar(&c.Into, "into", "", "the `branch` that is to have it (default: the host's default branch)")
			o.StringVar(&c.Branch, "branch", "", "the `name` of the branch, where one is made for the commits")
			o.StringVar(&c.Title, "title", "", "its `title` (default: of the first commit)")
			o.StringVar(&c.Text, "text", "", "what it is about, in `words` (default: of the commits)")
			o.BoolVar(&c.Removes, "remove-branch", false, "the branch goes with the acceptance")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				c.Folder = in.in()
				made, err := offers.Create(ctx, d, c)
				if err != nil {
					return err
				}
				doc := MadeOffer{Done: []string{}, Offer: made.Made}
				if len(made.Items()) == 0 && !p.preview {
					if err := made.Release(); err != nil {
						return err
					}
					return e.Give(doc, func() {
						e.Say("%s is offered already, as number %s, and has all that is committed here.", text.Visible(made.About), text.Visible(made.Made.Number))
						e.Say("To look at it: %s", desk.FolderCommand(c.Folder, "offer", "show", made.Made.Number))
					})
				}
				head := made.Head
				if made.Text != "" {
					head += "\n\n" + e.indented(made.Title+"\n\n"+made.Text) + "\n"
				}
				if done, err := e.carryOut(ctx, p, head, made, made.Notes); err != nil || !done {
					return err
				}
				doc.Offer, doc.Notes = made.Made, made.Notes
				for _, i := range made.Items() {
					doc.Done = append(doc.Done, i.Sentence)
				}
				return e.Give(doc, func() {
					e.Say("%s", e.Out.strong("Offered as number "+text.Visible(made.Made.Number)+", and checked with "+made.HostName()+"."))
					if made.Made.Page != "" {
						e.Say("Its page: %s", text.Visible(made.Made.Page))
					}
					e.Say("What you send to %s from now on is in it too: uncinate sync", text.Visible(made.About))
				})
			})
		}}
}

// mostSaid is how much of a text of somebody else's is shown, in bytes.
const mostSaid = 6000

// indented is a text of somebody else's, line by line, as it may be shown.
func (e *Env) indented(s string) string {
	if len(s) > mostSaid {
		s = strings.ToValidUTF8(s[:mostSaid], "") + "\n(and more)"
	}
	lines := strings.Split(strings.TrimRight(strings.ReplaceAll(s, "\r\n", "\n"), "\n"), "\n")
	for i, l := range lines {
		if l != "" {
			lines[i] = "    " + e.Out.wrap(e.Out.visible(strings.ReplaceAll(l, "\t", "    ")), 4)
		}
	}
	return strings.Join(lines, "\n")
}

func offerList() *Command {
	return &Command{Name: "list", Gives: offers.List{}, Short: "list the offers, the newest first, and whether each still merges cleanly", Apart: [][]string{{"mine", "to-me"}, {"all", "repository"}},
		Long: `Those that wait, to the current project's repository; whether they merge cleanly is tried aside, and nothing
here changes. With --all, those of all repositories of your accounts.`,
		Examples: []string{"uncinate offer list", "uncinate offer list --all --to-me", "uncinate offer list --state accepted"},
		Options: func(o *flag.FlagSet) Run {
			var w offered
			w.add(o)
			var l offers.ListOptions
			o.BoolVar(&l.All, "all", false, "of all repositories")
			o.BoolVar(&l.Mine, "mine", false, "those that you made")
			o.BoolVar(&l.ToMe, "to-me", false, "those of others that you may accept")
			o.StringVar(&l.State, "state", "open", "open, accepted, closed or any: in which `state`")
			o.IntVar(&l.Most, "most", mostLines, "at most this `many`")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				l.Which = w.of()
				l.Most = max(l.Most, 1)
				r, err := offers.ListOffers(ctx, d, l)
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.offers(r, l) })
			})
		}}
}

// merges says how it is with merging an offer.
func merges(x offers.Listed) string {
	if x.Merges != "clashes" {
		return x.Merges
	}
	says := "clashes: " + x.Clashes[0]
	if len(x.Clashes) > 1 {
		says += fmt.Sprintf(" and %d more", len(x.Clashes)-1)
	}
	return says
}

func (e *Env) offers(r *offers.List, o offers.ListOptions) {
	if len(r.Offers) == 0 {
		e.Say("There is no %s%s.", text.Either(o.State == "any", "", o.State+" "), text.Either(r.Path == "", "offer", "offer to "+text.Visible(r.Path)))
	} else {
		rows := [][]string{}
		for _, x := range r.Offers {
			from := x.Branch
			if x.Apart() {
				from = x.From() + " " + x.Branch
			}
			made, state := "", ""
			if !x.Created.IsZero() {
				made = x.Created.Local().Format("2006-01-02")
			}
			if o.State != "open" {
				state = x.State
			}
			rows = append(rows, []string{x.Number, text.Either(r.Path == "", x.Path(), ""), x.Title, x.Creator, from + " → " + x.Target, made, state, merges(x)})
		}
		e.Table([]string{"offer", "repository", "title", "by", "branch", "since", "state", "merges"}, rows)
		e.Say("")
		first := r.Offers[0]
		words := []string{"offer", "show", first.Number}
		if r.Path == "" {
			words = append(words, "--repository", first.Path(), "--account", first.Account)
		} else if o.Repository != "" {
			words = append(words, "--repository", o.Repository)
		}
		e.Say("To look at one: %s", desk.FolderCommand(o.Folder, words...))
		for _, x := range r.Offers {
			if x.Mine && x.Merges == "clashes" {
				e.Say("To bring offer %s up to date: %s", text.Visible(x.Number), strings.Join(x.UpToDate(o.Folder), " && "))
			}
		}
	}
	if r.More {
		e.Say("There are more: %s", typed(withoutOption(os.Args[1:], "most"))+" --most "+fmt.Sprint(5*o.Most))
	}
	for _, n := range r.Notes {
		e.Aside("%s", e.Out.visible(n))
	}
}

func offerShow() *Command {
	return &Command{Name: "show", Takes: []string{"offer"}, Args: "NUMBER", Least: 1, Most: 1, Gives: offers.Shown{}, Short: "show an offer: its commits and files, and what people and checks said",
		Examples: []string{"uncinate offer show 3", "uncinate offer show 3 --full"},
		Options: func(o *flag.FlagSet) Run {
			var w offered
			w.add(o)
			full := o.Bool("full", false, "the differences themselves")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				s, err := offers.Show(ctx, d, w.of(), args[0], *full)
				if err != nil {
					return err
				}
				return e.Give(s, func() { e.offer(ctx, s, w.of(), *full) })
			})
		}}
}

// offer shows one.
func (e *Env) offer(ctx context.Context, s *offers.Shown, w offers.Which, full bool) {
	e.Say("%s", e.Out.strong("Offer "+text.Visible(s.Number)+": "+text.Visible(s.Title)))
	from := s.Branch
	if s.Apart() {
		from += " of " + s.From()
	}
	made, state, commit := "", s.State, s.Head
	if !s.Created.IsZero() {
		made = ", " + s.Created.Local().Format("2006-01-02 15:04")
	}
	if s.EndedBy != "" {
		state += " by " + s.EndedBy
	}
	if s.State == "open" {
		state = ""
	}
	guard := ""
	if s.Guarded != nil {
		guard = s.Target + text.Either(s.Guarded.Says() == "", "", ": "+s.Guarded.Says())
	}
	var checks []string
	for _, c := range s.Checks {
		checks = append(checks, c.Title+" "+c.Outcome+text.Either(c.Text == "", "", " ("+c.Text+")"))
	}
	e.Facts([][2]string{{"by", s.Creator + made}, {"branch", from + " → " + s.Target}, {"commit", commit[:min(10, len(commit))]}, {"state", state}, {"merges", text.Either(s.Merges == "clean", "cleanly", merges(s.Listed))},
		{"checks", text.Either(len(checks) == 0 && s.Checks != nil, "none", some(checks))}, {"protected", guard}, {"page", s.Page}}...)
	if s.Text != "" {
		e.Say("\n%s", e.indented(s.Text))
	}
	if len(s.Commits) > 0 {
		e.Say("")
		rows := [][]string{}
		for _, c := range s.Commits {
			rows = append(rows, []string{c.ID[:min(10, len(c.ID))], c.When.Local().Format("2006-01-02"), c.Who, c.Title})
		}
		e.Table([]string{"commit", "when", "who", "what"}, rows)
		if s.Older > 0 {
			e.Say("and %s before them", text.Count(s.Older, "commit"))
		}
	}
	e.offerFiles(ctx, s, full)
	if len(s.Remarks) > 0 {
		e.Say("")
		for _, r := range s.Remarks {
			at := ""
			if !r.When.IsZero() {
				at = ", " + r.When.Local().Format("2006-01-02 15:04")
			}
			e.Say("%s%s%s:", e.Out.strong(text.Visible(r.Who)), at, text.Either(r.File == "", "", ", of "+text.Visible(r.File)))
			e.Say("%s", e.indented(r.Text))
		}
	}
	e.offerNext(s, w, full)
}

// offerFiles shows what an offer changes.
func (e *Env) offerFiles(ctx context.Context, s *offers.Shown, full bool) {
	if s.Changes == nil || len(s.Changes.Files) == 0 {
		return
	}
	e.Say("")
	if full {
		if !e.Out.terminal {
			e.Say("%s", s.Changes.Patch)
			return
		}
		var b strings.Builder
		for _, f := range s.Changes.Files {
			e.difference(&b, f)
		}
		e.page(ctx, b.String())
		return
	}
	var rows [][]string
	for _, f := range s.Changes.Files {
		rows = append(rows, []string{f.Kind, text.Either(f.From == "", "", f.From+" → ") + f.Path, extent(f)})
	}
	if len(rows) > mostLines {
		e.Table([]string{"", "folder", "files"}, folded(s.Changes.Files))
		return
	}
	e.Table([]string{"", text.Count(len(rows), "file"), "lines"}, rows)
}

// offerNext says what comes next.
func (e *Env) offerNext(s *offers.Shown, w offers.Which, full bool) {
	e.Say("")
	for _, n := range s.Notes {
		e.Aside("%s", e.Out.visible(n))
	}
	if s.Changes != nil && !full {
		e.Say("To see the lines: %s", w.Line("show", s.Number, "--full"))
	}
	if s.State != "open" {
		return
	}
	if s.Changes != nil && !s.Mine {
		e.Say("To try it here: %s", w.Line("fetch", s.Number))
	}
	switch {
	case s.Merges == "clashes" && s.Mine:
		e.Say("To bring it up to date: %s", strings.Join(s.UpToDate(w.Folder), " && "))
	case s.Merges == "clashes":
		e.Say("It cannot be accepted before its author brings it up to date.")
	case s.Merges == "branch gone":
		e.Say("To close it: %s", w.Line("close", s.Number))
	case s.May:
		e.Say("To accept it: %s", w.Line("accept", s.Number))
	}
}

func offerFetch() *Command {
	return &Command{Name: "fetch", Takes: []string{"offer"}, Args: "NUMBER", Least: 1, Most: 1, Gives: DoneThings{}, Short: "bring an offered branch here, and switch to it, to try it",
		Long: `A branch of somebody else's copy gets their name before its own. It is not sent by sync.`,
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			account := accountOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				c, err := offers.Fetch(ctx, d, offers.Which{Folder: in.in(), Account: *account}, args[0])
				if err != nil {
					return err
				}
				p.yes = p.yes || len(c.Notes) == 0
				done := fmt.Sprintf("On branch %s, as it is offered. To go back: %s", text.Visible(c.Branch), desk.FolderCommand(in.in(), "branch", "switch", c.Offer.Target))
				return e.doChange(ctx, c.Change, p, done)
			})
		}}
}

func offerAccept() *Command {
	return &Command{Name: "accept", Takes: []string{"offer"}, Args: "NUMBER", Least: 1, Most: 1, Gives: DoneThings{}, Short: "accept an offer as it was looked at: merged, replayed, or as one commit", Apart: [][]string{{"remove-branch", "keep-branch"}},
		Long: `Only the commit is accepted that you looked at: one that has others by now is shown again first. What came of it
is received here, where the branch that has it is checked out.`,
		Examples: []string{"uncinate offer accept 3", "uncinate offer accept 3 --way one --remove-branch", "uncinate offer accept 3 --way replay --preview"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var w offered
			w.add(o)
			var a offers.AcceptOptions
			o.StringVar(&a.Way, "way", "", "merge, replay or one: the `way` (default: merge, if the host can)")
			o.StringVar(&a.Commit, "commit", "", "the `commit` that you looked at")
			o.StringVar(&a.Text, "text", "", "what the commit says, in `words`, with --way one")
			o.BoolVar(&a.Removes, "remove-branch", false, "remove the branch, on the host and here")
			o.BoolVar(&a.Keeps, "keep-branch", false, "keep it, whatever the offer says")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				a.Which, a.Number = w.of(), args[0]
				c, err := offers.Accept(ctx, d, a)
				if err != nil {
					return err
				}
				err = e.doChange(ctx, c.Change, p, "Accepted, and checked with "+c.HostName()+".")
				for _, s := range c.Said {
					e.Aside("%s", s)
				}
				return err
			})
		}}
}

func offerClose() *Command {
	return &Command{Name: "close", Takes: []string{"offer"}, Args: "NUMBER", Least: 1, Most: 1, Gives: DoneThings{}, Short: "close an offer without merging it",
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var w offered
			w.add(o)
			removes := o.Bool("remove-branch", false, "remove its branch too, on the host and here")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				c, err := offers.Close(ctx, d, w.of(), args[0], *removes)
				if err != nil {
					return err
				}
				return e.doChange(ctx, c.Change, p, "Closed, and checked with "+c.HostName()+".")
			})
		}}
}
