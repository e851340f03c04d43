package screen

import (
	"context"
	"encoding/base64"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/job/credentials"
)

// FoundTokens is what was found by looking for copies of tokens, as a JSON document.
type FoundTokens struct {
	Found    []credentials.FoundToken `json:"found"`
	Searched int                      `json:"searched" says:"how many files were searched"`
	Unread   int                      `json:"unread" says:"how many could not be read"`
}

// ChangedToken is a token that was replaced or revoked, as a JSON document.
type ChangedToken struct {
	Account string    `json:"account"`
	Done    []string  `json:"done" says:"what was done, in order"`
	Expires time.Time `json:"expires,omitzero" says:"when the valid token expires"`
}

func tokenCommand() *Command {
	return &Command{Name: "token", Short: "manage access tokens: list, add, test, replace, revoke, forget, show, find",
		Long: `Each account has one token, in the vault. In the last two weeks of its life every command
that uses it says so in one line.`,
		Subs: []*Command{
			tokenList(),
			tokenAdd(),
			tokenTest(),
			tokenReplace(),
			tokenRevoke(),
			tokenForget(),
			tokenShow(),
			tokenFind(),
		}}
}

func tokenAdd() *Command {
	return &Command{Name: "add", Args: "ACCOUNT", Least: 1, Most: 1, Takes: []string{"account"}, Gives: AddedAccount{}, Short: "give an account a token",
		Long: `Says first which of the host's scopes the token needs, the least that will do, and where
it is made; then asks for it without showing it, or takes it from standard input, and
tests it at once. --may says what it should be able to do: ` + strings.Join(wants(), ", ") + `
(default: publish, with the ones before it, and keys).`,
		Examples: []string{"uncinate token add tern", "uncinate token add tern --may read"},
		Options: func(o *flag.FlagSet) Run {
			var may list
			o.Var(&may, "may", "`what` the token should be able to do; may be repeated")
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *preview {
					a, err := accounts.Named(d, args[0])
					if err != nil {
						return err
					}
					return e.wouldAdd(ctx, d, *a, "token")
				}
				return e.addToken(ctx, d, args[0], may)
			})
		}}
}

func tokenList() *Command {
	return &Command{Name: "list", Short: "list the tokens, without showing them, and when they expire", Gives: []credentials.Token{},
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				all, err := credentials.Tokens(ctx, d)
				if err != nil {
					return err
				}
				return e.Give(all, func() {
					e.tokens(all)
					if len(all) > 0 {
						e.Aside("To ask the hosts whether they are valid: uncinate token test")
					}
				})
			})
		}}
}

func tokenTest() *Command {
	return &Command{Name: "test", Args: "[ACCOUNT]...", Most: -1, Takes: []string{"account"}, Gives: []credentials.Token{}, Short: "ask the hosts whether the tokens are valid",
		Long: "Asks for the named accounts, or for all, and notes what the hosts say of scopes and expiry. The exit code is 1 if a token is not valid.",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				return e.testTokens(ctx, d, args)
			})
		}}
}

func tokenReplace() *Command {
	return &Command{Name: "replace", Args: "ACCOUNT", Least: 1, Most: 1, Takes: []string{"account"}, Gives: ChangedToken{}, Short: "replace a token by a new one, everywhere it is used",
		Long: `With --renew the host makes the new token, where it offers that. Otherwise the new one is
asked for without showing it, or taken from standard input, and tested; then the old one
is revoked on the host, where it offers that. Every attached project uses the new one from
then on.`,
		Examples: []string{"uncinate token replace tern", "uncinate token replace tern --renew"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			renew := o.Bool("renew", false, "let the host make the new token")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				return e.replaceToken(ctx, d, args[0], *renew, p)
			})
		}}
}

func tokenRevoke() *Command {
	return &Command{Name: "revoke", Args: "[ACCOUNT]...", Most: -1, Takes: []string{"account"}, Gives: ChangedToken{}, Short: "revoke an account's token on its host, or those of a lost machine",
		Long: `With --machine, all tokens that have that machine's name on the hosts are ended, of all accounts or of those that
are named. A token is told apart by the name that it was given on the host's page; account add says which.`,
		Examples: []string{"uncinate token revoke tern", "uncinate token revoke --machine launch"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			lost := o.String("machine", "", "the `name` of a machine that was lost")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *lost != "" {
					c, err := credentials.EndTokens(ctx, d, *lost, args)
					if err != nil {
						return err
					}
					return e.endTokens(ctx, c, p)
				}
				if len(args) != 1 {
					return fault.New(fault.Usage, "name one account, or by --machine a machine that was lost").Try("see the accounts", "uncinate account list")
				}
				t, err := credentials.RevokeToken(ctx, d, args[0])
				if err != nil {
					return err
				}
				return e.changeToken(ctx, d, t, p, "Revoked: "+t.HostName()+" no longer accepts the token, and it is no longer in the vault.")
			})
		}}
}

// endTokens ends the tokens of a machine.
func (e *Env) endTokens(ctx context.Context, c *desk.Change, p plans) error {
	if done, err := e.carryOut(ctx, p, c.Head, c, c.Notes); err != nil || !done {
		return err
	}
	return e.Give(Planned{Plan: c.Items(), Notes: c.Notes}, func() {
		e.Say("%s", e.Out.strong("Ended: "+text.Count(len(c.Steps), "token")+" of the machine "+c.About+"."))
	})
}

func tokenForget() *Command {
	return &Command{Name: "forget", Args: "ACCOUNT", Least: 1, Most: 1, Takes: []string{"account"}, Gives: Forgotten{}, Short: "delete an account's token from the vault",
		Long: "The account stays here, and the token stays valid on the host.",
		Options: func(o *flag.FlagSet) Run {
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if err := credentials.ForgetToken(ctx, d, args[0], *preview); err != nil {
					return err
				}
				if *preview {
					return e.would(ctx, "", plan.Item{Place: plan.Vault, Sentence: "Delete the token of " + args[0] + ", which stays valid on the host"})
				}
				return e.Give(Forgotten{Name: args[0]}, func() {
					e.Say("The token of %s is forgotten here. On the host it is still valid.", args[0])
					e.Aside("To end it there, revoke it before you forget it, or use the host's page.")
				})
			})
		}}
}

func tokenShow() *Command {
	return &Command{Name: "show", Args: "ACCOUNT", Least: 1, Most: 1, Takes: []string{"account"}, Short: "hand a token to a program that has a sign-in of its own",
		Long: `Prints the token itself on standard output; or, with --clipboard, gives it to the terminal's
clipboard (by the control sequence OSC 52, which the terminal may be set to refuse). It asks
first, and a log in the state folder notes that it was handed out.`,
		Examples: []string{"uncinate token show tern --clipboard"},
		Options: func(o *flag.FlagSet) Run {
			yes := o.Bool("yes", false, "go ahead without asking")
			clipboard := o.Bool("clipboard", false, "give it to the terminal's clipboard instead of printing it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				return e.showToken(ctx, d, args[0], *yes, *clipboard)
			})
		}}
}

func tokenFind() *Command {
	return &Command{Name: "find", Args: "FOLDER...", Least: 1, Most: -1, Takes: []string{"folder"}, Gives: FoundTokens{}, Short: "find copies of your tokens left in plain files",
		Long: `Searches every file below the folders for the tokens of this machine's accounts, also in
the form that HTTP Basic uses, and names file and line, never the token. The exit code is 4
if one is found.`,
		Examples: []string{"uncinate token find ~"},
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				return e.findTokens(ctx, d, args)
			})
		}}
}

func wants() []string {
	var names []string
	for _, w := range description.Wants {
		names = append(names, w.Name)
	}
	return names
}

// knownWants refuses what no token can be wanted for.
func knownWants(may []string) error {
	for _, w := range may {
		if !slices.Contains(wants(), w) {
			return unknown("a token may "+strings.Join(wants(), ", ")+", and not "+text.Quote(w), w, wants(), "uncinate help token add")
		}
	}
	return nil
}

func (e *Env) addToken(ctx context.Context, d *desk.Desk, name string, may []string) error {
	a, err := accounts.Named(d, name)
	if err != nil {
		return err
	}
	if err := knownWants(may); err != nil {
		return err
	}
	if len(may) == 0 {
		may = a.Wants()
	}
	if a.Host != "" {
		h, err := hosts.Named(d, a.Host)
		if err != nil {
			return err
		}
		for _, w := range may {
			if !h.Gives(w) {
				return fault.New(fault.HostSaidNo, "%s offers nothing that --may %s would be for (its description has no action for it)", h.Name, w).
					Try("see what it offers", text.Command("uncinate", "host", "check", h.Name))
			}
		}
		for _, line := range h.TokenAdvice(may...) {
			e.Aside("%s", e.Err.wrap(line, 0))
		}
	}
	token, err := e.secret("Token of account " + a.Name + " (it is not shown): ")
	if err != nil {
		return err
	}
	given := *a
	given.May = may
	given.Doubtful = time.Time{}
	added, doubts, err := login.AddAccount(ctx, d, given, token)
	if err != nil {
		return err
	}
	for i := range doubts {
		doubts[i] += "."
	}
	return e.Give(AddedAccount{*added, doubts}, func() {
		e.Say("%s", e.Out.strong("The token works and is in the vault."))
		e.account(added)
		for _, doubt := range doubts {
			e.Aside("Note: %s", e.Err.wrap(doubt, 6))
		}
	})
}

func (e *Env) tokens(all []credentials.Token) {
	if len(all) == 0 {
		e.Say("There is no account on this machine yet, so there is no token.")
		return
	}
	var rows [][]string
	for _, t := range all {
		rows = append(rows, []string{string(t.State), t.Account, t.Host, t.Says, strings.Join(t.Scopes, ", ")})
	}
	e.Table([]string{"state", "account", "host", "token", "scopes"}, rows)
	for _, t := range all {
		if len(t.Superfluous) > 0 {
			e.Say("%s has scopes that nothing here needs: %s", t.Account, text.Visible(strings.Join(t.Superfluous, ", ")))
		}
		for _, r := range t.Remedies {
			e.Say("Next for %s: %s", t.Account, text.Visible(r))
		}
	}
}

func (e *Env) testTokens(ctx context.Context, d *desk.Desk, names []string) error {
	if len(names) == 0 {
		all, err := accounts.All(d)
		if err != nil {
			return err
		}
		for _, a := range all {
			names = append(names, a.Name)
		}
	}
	tested := []credentials.Token{}
	bad := 0
	for _, name := range names {
		t, err := credentials.TestToken(ctx, d, name)
		if err != nil {
			return err
		}
		if t.State == desk.Bad {
			bad++
		}
		tested = append(tested, t)
	}
	if err := e.Give(tested, func() { e.tokens(tested) }); err != nil {
		return err
	}
	if bad > 0 {
		return fault.New(fault.Failed, "%s not valid", strings.Replace(text.Count(bad, "token")+" is", "tokens is", "tokens are", 1))
	}
	return nil
}

func (e *Env) replaceToken(ctx context.Context, d *desk.Desk, name string, renew bool, p plans) error {
	token := ""
	if !renew && !p.preview {
		a, err := accounts.Named(d, name)
		if err != nil {
			return err
		}
		half, err := credentials.HalfReplaced(ctx, d, a)
		if err != nil {
			return err
		}
		if half {
			e.Aside("A new token is in use already; what is left is to revoke the old one.")
		} else if token, err = e.newToken(d, a); err != nil {
			return err
		}
	}
	t, err := credentials.ReplaceToken(ctx, d, name, token, renew)
	if err != nil {
		return err
	}
	return e.changeToken(ctx, d, t, p, "Replaced.")
}

// newToken asks for the token that is to take the place of an account's.
func (e *Env) newToken(d *desk.Desk, a *accounts.Account) (string, error) {
	if h, err := hosts.Named(d, a.Host); a.Host != "" && err == nil {
		for _, line := range h.TokenAdvice(a.Wants()...) {
			e.Aside("%s", e.Err.wrap(line, 0))
		}
	}
	return e.secret("New token of account " + a.Name + " (it is not shown): ")
}

func (e *Env) changeToken(ctx context.Context, d *desk.Desk, t *credentials.TokenChange, p plans, done string) error {
	if done, err := e.carryOut(ctx, p, t.Head, t, nil); err != nil || !done {
		return err
	}
	doc := ChangedToken{Account: t.Account.Name, Done: []string{}}
	for _, i := range t.Items() {
		doc.Done = append(doc.Done, i.Sentence)
	}
	if a, err := accounts.Named(d, t.Account.Name); err == nil {
		doc.Expires = a.Expires
	}
	return e.Give(doc, func() {
		e.Say("%s", e.Out.strong(done))
		if !doc.Expires.IsZero() && done == "Replaced." {
			e.Say("The new token expires on %s.", doc.Expires.Format(time.DateOnly))
		}
	})
}

func (e *Env) showToken(ctx context.Context, d *desk.Desk, name string, yes, clipboard bool) error {
	if _, err := accounts.Named(d, name); err != nil {
		return err
	}
	how := "printing"
	if clipboard {
		how = "the clipboard"
		if !e.Err.terminal {
			return fault.New(fault.Failed, "there is no terminal here, so it has no clipboard either")
		}
	}
	if !yes {
		e.Aside("This hands out the token itself: whoever sees it, or reads the terminal's history, can use it.")
		if err := e.Agree(ctx, false, again(os.Args[1:])); err != nil {
			return err
		}
	}
	token, err := credentials.HandOut(ctx, d, name, how)
	if err != nil {
		return err
	}
	if clipboard {
		// OSC 52 (XTerm Control Sequences, "Manipulate Selection Data").
		if _, err := fmt.Fprintf(os.Stderr, "\x1b]52;c;%s\a", base64.StdEncoding.EncodeToString([]byte(token))); err != nil {
			return err
		}
		e.Aside("The token was given to the terminal's clipboard, if the terminal allows that. Paste it where it is wanted, then copy something else.")
		return nil
	}
	_, err = fmt.Fprintln(e.answers, token)
	e.Aside("That was the token itself; the log notes that it was shown.")
	return err
}

func (e *Env) findTokens(ctx context.Context, d *desk.Desk, folders []string) error {
	found, searched, unread, err := credentials.FindTokens(ctx, d, folders)
	if err != nil {
		return err
	}
	doc := FoundTokens{append([]credentials.FoundToken{}, found...), searched, unread}
	if err := e.Give(doc, func() {
		var rows [][]string
		for _, c := range found {
			rows = append(rows, []string{c.Account, fmt.Sprintf("%s:%d", c.File, c.Line), c.Form})
		}
		if len(rows) > 0 {
			e.Table([]string{"token of", "found in", "form"}, rows)
		}
		e.Say("%s searched; %s found.", text.Count(searched, "file"), text.Either(len(found) == 0, "no token", text.Count(len(found), "token")))
		if unread > 0 {
			e.Say("%s could not be read.", text.Count(unread, "file"))
		}
	}); err != nil {
		return err
	}
	if len(found) == 0 {
		return nil
	}
	f := fault.New(fault.Refused, "%s of your tokens %s in plain files", text.Count(len(found), "copy"), desk.IsAre(len(found)))
	told := []string{}
	for _, c := range found {
		if !slices.Contains(told, c.Account) {
			told = append(told, c.Account)
			f.Try("remove it from the file, and replace the token: whoever read the file can use it", text.Command("uncinate", "token", "replace", c.Account))
		}
	}
	return f
}
