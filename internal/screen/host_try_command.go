package screen

import (
	"context"
	"flag"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/job/checks"
)

// TriedHost is what came of trying a host, as a JSON document.
type TriedHost struct {
	Host        string         `json:"host"`
	Account     string         `json:"account"`
	Good        bool           `json:"good" says:"no action is bad"`
	Actions     []checks.Tried `json:"actions" says:"every action that a command uses and the description has"`
	Undescribed []string       `json:"undescribed,omitempty" says:"actions that a command would use, and that the description has not"`
}

func (e *Env) tryHost(ctx context.Context, d *desk.Desk, o checks.TryOptions, requests bool, p plans) error {
	t, err := checks.PlanTry(ctx, d, o, func(action string) { e.Progress("Trying", 1, 2, action) })
	if err != nil {
		return err
	}
	if o.Write {
		items := []plan.Item{{ID: "look", Place: plan.Host, Sentence: "Do every action that only reads"},
			{ID: "write", Place: plan.Host, Sentence: "Create a scratch repository and scratch keys; send commits, change and list them, make and end offers, protect a branch, add a web hook, archive it, where the host has that; and remove all again"}}
		if who := t.Person(); who != "" {
			items = append(items, plan.Item{ID: "person", Place: plan.Host, Sentence: "Let " + text.Visible(who) + " into the scratch repository, and out again (the host may send a message of that)"})
		}
		if goes, err := e.show(ctx, p, "To try "+o.Host+":", items, o.Host, nil); err != nil || !goes {
			return err
		}
	}
	err = t.Look(ctx)
	if err == nil && o.Write {
		err = t.Write(ctx)
	}
	e.Progress("Trying", 0, 0, "")
	doc := TriedHost{Host: o.Host, Account: t.AccountName(), Good: true}
	doc.Actions, doc.Undescribed = t.Came()
	tried, bad := 0, 0
	for _, r := range doc.Actions {
		if r.How != checks.NotTried {
			tried++
		}
		if r.State == desk.Bad {
			doc.Good = false
			bad++
		}
	}
	if e := e.Give(doc, func() { e.tried(doc, requests) }); e != nil || err != nil {
		return text.Either(err != nil, err, e)
	}
	if bad > 0 {
		return fault.New(fault.Failed, "%s of %s that were tried went wrong on %s", text.Number(bad), text.Count(tried, "action"), o.Host).
			Try("check the description against the host's API reference", text.Command("uncinate", "host", "check", hosts.DescriptionFile(d, o.Host)))
	}
	return nil
}

// tried shows a row for each action, and more of what went wrong; with requests, of all.
func (e *Env) tried(doc TriedHost, requests bool) {
	var rows [][]string
	for _, r := range doc.Actions {
		says := r.Says
		if len(r.Unread) > 0 {
			says += "; no answer had " + strings.Join(r.Unread, ", ")
		}
		how := string(r.How)
		if r.How != checks.NotTried {
			how = string(r.State) + ", " + how
		}
		rows = append(rows, []string{r.Action, how, strings.Join(r.Answered, ", "), says})
	}
	e.Table([]string{"action", "tried", "answered", "what came of it"}, rows)
	for _, r := range doc.Actions {
		if len(r.Asked)+len(r.Read) == 0 || !requests && r.State != desk.Bad {
			continue
		}
		e.Say("")
		e.Say("%s: %s", r.Action, text.Either(r.State == desk.Bad, "went wrong", "as it should be"))
		for _, line := range r.Asked {
			e.Say("  %s", e.Out.wrap(text.Visible(line), 4))
		}
		for _, line := range r.Read {
			e.Say("    %s", e.Out.wrap(text.Visible(line), 6))
		}
	}
	if len(doc.Undescribed) > 0 {
		e.Aside("Not described, so that no command can do it here: %s.", strings.Join(doc.Undescribed, ", "))
	}
	if !requests {
		e.Aside("Each request, and what was read from it: add --requests.")
	}
}

func hostTry() *Command {
	return &Command{Name: "try", Args: "NAME", Least: 1, Most: 1, Takes: []string{"host"}, Gives: TriedHost{}, Needs: map[string][]string{"yes": {"write"}, "preview": {"write"}, "person": {"write"}}, Short: "try a host's actions on the live host",
		Long: `Does every action that only looks, with your account, and tells of each action that a command
uses: whether it was tried and how, what the host answered, and what came of it; more of what went wrong.
With --write it also makes a scratch repository and what belongs to one, a key and a key for signatures:
sends commits, changes and archives it, protects a branch, adds a web hook and a key of its own, makes an
offer and closes it, and another that it accepts. Somebody else, --person NAME or whoever has an account
on this machine, is let in and out again. Whatever fails, nothing is left behind.`,
		Examples: []string{"uncinate host try gannet", "uncinate host try gannet --write --person knot"},
		Options: func(o *flag.FlagSet) Run {
			var t checks.TryOptions
			var p plans
			var requests bool
			o.StringVar(&t.Account, "account", "", "which `account` to use")
			o.BoolVar(&t.Write, "write", false, "also make, change and remove a scratch repository and keys")
			o.StringVar(&t.Person, "person", "", "the `name` there of somebody else, who is let in and out again (default: of another account on this machine)")
			o.BoolVar(&requests, "requests", false, "show each request, the answer's status and what was read from it; secrets are blanked")
			p.add(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				t.Host = args[0]
				return e.tryHost(ctx, d, t, requests, p)
			})
		}}
}
