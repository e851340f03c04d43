package screen

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
)

func hostAdd() *Command {
	return &Command{Name: "add", Args: "NAME|FILE|ADDRESS", Least: 1, Most: 1, Takes: []string{"description"}, Gives: KnownHost{}, Short: "make a host known by its description",
		Long: `NAME is a description that ships with the program; FILE is one of your own, given with its path, such as
./petrel.toml. ADDRESS is where whoever runs the host publishes one: an https address of the file, or the
host's own address, where ` + hosts.WellKnown + ` is looked for. What it says is shown and asked.`,
		Examples: []string{"uncinate host add gannet --at http://127.0.0.1:8765", "uncinate host add ./petrel.toml", "uncinate host add https://git.example"},
		Options: func(o *flag.FlagSet) Run {
			at := o.String("at", "", "the host's `address`, if it is another than the description's")
			as := o.String("as", "", "another `name` for it here")
			var p plans
			p.add(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				a, err := planHost(ctx, d, args[0], *at, *as)
				if err != nil {
					return err
				}
				return e.addHost(ctx, d, a, args[0], p, false)
			})
		}}
}

// planHost finds the description that is meant: one that ships, a file, or what a host publishes.
func planHost(ctx context.Context, d *desk.Desk, source, at, as string) (*hosts.Adding, error) {
	holders := func(host string) ([]string, error) { return accounts.NamesOn(d, host) }
	if hosts.IsAddress(source) {
		return hosts.PlanFetch(ctx, d, source, at, as, holders)
	}
	return hosts.PlanAdd(d, source, at, as, holders)
}

// published says what a description that somebody else published has in it: what it can do, and what its tokens may be asked to.
func published(d *description.Description) []plan.Item {
	var not []string
	all := d.Abilities()
	for _, a := range all {
		if a.State == "no" {
			not = append(not, a.What)
		}
	}
	says := fmt.Sprintf("Let it say how %d of the %d things are done for which hosts are asked", len(all)-len(not), len(all))
	if len(not) > 0 && len(not) < 8 {
		says += "; not: " + strings.Join(not, "; ")
	}
	items := []plan.Item{here(says)}
	scopes := d.LeastScopes("read", "write", "publish", "delete", "keys", "people", "offers", "protect", "hooks")
	if len(scopes) > 0 {
		items = append(items, here("Ask for these scopes, of an account that is wanted for all of that: "+text.Visible(strings.Join(scopes, ", "))))
	}
	return items
}

// replaces says what a description takes the place of, by which accounts sign in.
func replaces(a *hosts.Adding) (notes []string) {
	if len(a.Accounts) > 0 {
		notes = append(notes, "The description of "+a.Host.Name+" comes in the place of the one by which "+text.Count(len(a.Accounts), "account")+" "+text.Either(len(a.Accounts) == 1, "signs", "sign")+" in: "+strings.Join(a.Accounts, ", ")+".")
	}
	for _, side := range []struct {
		sign  string
		lines []string
	}{{"-", a.Gone}, {"+", a.New}} {
		for i, line := range side.lines {
			if i == 12 {
				notes = append(notes, fmt.Sprintf("%s and %d more lines", side.sign, len(side.lines)-i))
				break
			}
			notes = append(notes, side.sign+" "+text.Excerpt(line, 100))
		}
	}
	return notes
}

// addHost makes a host known; where its description leads to more than the host itself, or
// changes what accounts rely on, that is shown and asked.
func (e *Env) addHost(ctx context.Context, d *desk.Desk, a *hosts.Adding, source string, p plans, inside bool) error {
	items := []plan.Item{here("Add the host " + a.Host.Name + ", at " + a.Host.At + ", by the description " + text.Visible(cmp.Or(a.From, source)))}
	if p.preview && !a.Asks() {
		return e.would(ctx, "", items...)
	}
	if a.Asks() {
		for _, u := range a.Host.Origins() {
			items = append(items, here("Send what its accounts sign in with to "+sent(u)))
		}
		if a.From != "" {
			items = append(items, published(a.Host.Description)...)
		}
		if goes, err := e.show(ctx, p, "To trust a description with your tokens:", items, "", replaces(a)); err != nil || !goes {
			return err
		}
	}
	h, err := a.Do(ctx)
	if err != nil {
		return err
	}
	if inside {
		e.Aside("The host %s is added, at %s.", h.Name, h.At)
		return nil
	}
	return e.Give(knownHost(d, h, len(a.Accounts)), func() {
		e.Say("The host %s is added, at %s.", h.Name, h.At)
		e.Say("%s", e.Out.wrap(goesTo("Its accounts' tokens go", h.Description), 0))
		name := ""
		if h.Shell != nil {
			name = "YOUR-NAME "
		}
		e.Aside("Next: uncinate account add %s--host %s", name, h.Name)
	})
}

// goesTo says where tokens are sent.
func goesTo(what string, h *description.Description) string {
	if h.Shell != nil {
		return "It is reached over SSH; no token is sent to it."
	}
	return what + " to " + strings.Join(tokensTo(h), ", to ") + ", and nowhere else."
}

// sent shows an origin, and what is sent there.
func sent(u description.Use) string {
	return text.Visible(u.Origin) + " (" + cmp.Or(strings.Join(u.For, ", "), "named as trusted") + ")"
}

// tokensTo lists where the tokens of a host's accounts are sent, and what for.
func tokensTo(h *description.Description) []string {
	var out []string
	for _, u := range h.Origins() {
		if !strings.HasPrefix(u.Origin, "ssh://") {
			out = append(out, sent(u))
		}
	}
	return out
}
