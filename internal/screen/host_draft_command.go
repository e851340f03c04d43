package screen

import (
	"context"
	"flag"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/draft"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/checks"
)

// DraftedHost is a first description, as a JSON document.
type DraftedHost struct {
	TOML      string                `json:"toml" says:"the description"`
	From      string                `json:"from" says:"where the document is from"`
	Found     []draft.Found         `json:"found"`
	Missing   []string              `json:"missing"`
	Mistakes  []description.Mistake `json:"mistakes" says:"what has to be mended before it can be used"`
	Tried     []checks.Tried        `json:"tried,omitempty" says:"what the live host was asked"`
	Questions []string              `json:"questions,omitempty" says:"what neither the document nor the host tells"`
}

func hostDraft() *Command {
	return &Command{Name: "draft", Args: "[FILE]", Most: 1, Takes: []string{"file"}, Gives: DraftedHost{}, Short: "write a first description from a host's OpenAPI document",
		Long: `FILE is an OpenAPI 3 document, JSON or YAML. The draft is printed, for you to read line
by line and to correct: each action says how certain it is, and which operation would have
been the next best.

With --ask the live host helps: without FILE, the document is the one that it publishes. Your
token is asked for without showing it, or taken from standard input; it goes to ADDRESS alone,
in requests that only read (GET), and is kept nowhere. What the answers have not is taken out
of the draft, a repository's addresses are taken from one that was seen, and each action says
what came of it.`,
		Examples: []string{"uncinate host draft openapi.json > my-host.toml", "uncinate host draft --ask https://git.example > my-host.toml"},
		Options: func(o *flag.FlagSet) Run {
			var want checks.AskOptions
			o.StringVar(&want.Address, "ask", "", "ask the live host at `ADDRESS`, with your token, by GET alone")
			o.StringVar(&want.User, "user", "", "your `name` on a host that signs in with one")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if len(args) > 0 {
					want.File = args[0]
				}
				if want.File == "" && want.Address == "" {
					return fault.New(fault.Usage, "a draft is made from a file, or from what a host publishes").
						Try("from a file", "uncinate host draft ./openapi.json").Try("from a host", "uncinate host draft --ask https://git.example")
				}
				return e.draftHost(ctx, d, want)
			})
		}}
}

// draftHost makes a draft, asks the live host if that is wanted, and prints it.
func (e *Env) draftHost(ctx context.Context, d *desk.Desk, want checks.AskOptions) error {
	plan, err := checks.PlanDraft(ctx, d, want)
	if err != nil {
		return err
	}
	r, err := plan.Draft()
	if err != nil {
		return err
	}
	unasked := error(nil)
	if want.Address != "" {
		if unasked = plan.Asks(r); fault.Is(unasked, fault.Usage) {
			return unasked
		}
	}
	if want.Address != "" && unasked == nil {
		e.Aside("The document is %s. Your token goes to %s alone, in requests that only read, and is kept nowhere.", text.Visible(r.From), text.Visible(want.Address))
		token, err := e.secret("Your token on " + text.Visible(want.Address) + " (it is not shown): ")
		if err != nil {
			return err
		}
		if r, err = plan.Ask(ctx, strings.TrimSpace(token)); err != nil {
			return err
		}
	}
	doc := DraftedHost{r.Text, r.From, append([]draft.Found{}, r.Found...), append([]string{}, r.Missing...), append([]description.Mistake{}, r.Mistakes...), r.Tried, r.Questions}
	return e.Give(doc, func() {
		e.Say("%s", strings.TrimRight(r.Text, "\n"))
		for _, q := range r.Questions {
			e.Say("# Question: %s", text.Visible(q))
		}
		if unasked != nil {
			e.Aside("Note: %s.", fault.Of(unasked).Says)
		}
		e.told(r)
		for _, m := range r.Mistakes {
			e.Aside("  To be mended: %s", text.Visible(m.String()))
		}
	})
}

// told says how much of a draft there is, and what is next.
func (e *Env) told(r *checks.Asked) {
	good, bad := 0, 0
	for _, t := range r.Tried {
		switch t.State {
		case desk.Good:
			good++
		case desk.Bad:
			bad++
		}
	}
	asked := ""
	if good+bad > 0 {
		asked = ", " + text.Number(good) + " of " + text.Number(good+bad) + " that were asked answered as drafted"
	}
	questions := ""
	if len(r.Questions) > 0 {
		questions = "; " + text.Count(len(r.Questions), "question") + " at its end"
	}
	e.Aside("%s in the draft%s%s. Next: put it into a file, read it, and then", text.Count(len(r.Found), "action"), asked, questions)
	e.Aside("  uncinate host add ./FILE.toml")
}
