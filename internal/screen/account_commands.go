package screen

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/job/credentials"
	"uncinate/internal/world/oauth"
)

// AddedAccount is an account that was added, as a JSON document.
type AddedAccount struct {
	accounts.Account
	Doubts []string `json:"doubts,omitempty"`
}

func accountCommand() *Command {
	return &Command{Name: "account", Short: "know who you are on a host: add, list, show, choose, forget",
		Subs: []*Command{
			accountAdd(),
			accountList(),
			accountShow(),
			accountChoose(),
			accountForget(),
		}}
}

func accountAdd() *Command {
	return &Command{Name: "add", Args: "[NAME]", Most: 1, Gives: AddedAccount{}, Short: "add your account, tested at once, with its token in the vault",
		Long: `Asks for the token without showing it, or takes it from standard input. The host is
asked at once whose it is, what it may do and when it ends. NAME is the account's name
on this machine; the user name on the host unless said. Given again, it takes a new
token for the same account.

With --unkept the token is not written anywhere: a small process holds it until this
terminal session ends, or "vault lock" is run, at most for twelve hours.`,
		Examples: []string{"uncinate account add --host gannet", "uncinate account add --host gannet --by device", "uncinate account add tern-own --host gannet",
			"uncinate account add --at https://git.skerry.example/tides/almanac --user tern"},
		Options: func(o *flag.FlagSet) Run {
			var a accounts.Account
			o.StringVar(&a.Host, "host", "", "on which known `host`")
			o.StringVar(&a.Address, "at", "", "for one repository's `address` on a host that nobody described")
			o.StringVar(&a.User, "user", "", "your user `name` there; needed with --at, and where the host signs in by name and password")
			o.BoolVar(&a.Unkept, "unkept", false, "keep the token for this sign-in only, in memory; nothing is written (for a shared computer)")
			o.StringVar(&a.FullName, "full-name", "", "whose `name` commits carry; the host's unless said")
			o.StringVar(&a.Email, "email", "", "whose `address` commits carry; the host's unless said")
			by := o.String("by", "token", "the `way` to sign in: token (pasted), device (a code entered on the host's page) or browser (this machine's)")
			return func(ctx context.Context, e *Env, args []string) error {
				if len(args) > 0 {
					a.Name = args[0]
				}
				d, err := e.Desk()
				if err != nil {
					return err
				}
				if !slices.Contains([]string{"token", oauth.ByDevice, oauth.ByBrowser}, *by) {
					return fault.New(fault.Usage, "one signs in by token, device or browser, not by %s", text.Quote(*by)).Try("", "uncinate help account add")
				}
				return e.addAccount(ctx, d, a, *by, false)
			}
		}}
}

func accountList() *Command {
	return &Command{Name: "list", Gives: []accounts.Account{}, Short: "list the accounts of this machine",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(_ context.Context, e *Env, d *desk.Desk, _ []string) error {
				holders, err := accounts.All(d)
				if err != nil {
					return err
				}
				if holders == nil {
					holders = []*accounts.Account{}
				}
				return e.Give(holders, func() {
					if len(holders) == 0 {
						e.Say("There is no account on this machine yet.")
						e.Aside("Next: uncinate account add --host HOST")
						return
					}
					var rows [][]string
					for _, a := range holders {
						rows = append(rows, []string{a.Name, a.Where(), a.User, ends(a, time.Now())})
					}
					e.Table([]string{"account", "on", "user", "token"}, rows)
				})
			})
		}}
}

func accountShow() *Command {
	return &Command{Name: "show", Args: "NAME", Least: 1, Most: 1, Takes: []string{"account"}, Gives: accounts.Account{}, Short: "show an account, without its secret",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(_ context.Context, e *Env, d *desk.Desk, args []string) error {
				a, err := accounts.Named(d, args[0])
				if err != nil {
					return err
				}
				return e.Give(a, func() { e.account(a) })
			})
		}}
}

func accountChoose() *Command {
	return &Command{Name: "choose", Args: "NAME", Least: 1, Most: 1, Takes: []string{"account"}, Gives: accounts.Account{}, Short: "choose how an account's projects go: over https or ssh",
		Long:     "Holds for projects that are hooked or cloned from now on; attach --over switches one that is hooked already.",
		Examples: []string{"uncinate account choose tern --over ssh"},
		Options: func(o *flag.FlagSet) Run {
			over := o.String("over", "", "the `transport`: https or ssh")
			return withDesk(func(_ context.Context, e *Env, d *desk.Desk, args []string) error {
				a, err := credentials.ChooseOver(d, args[0], *over)
				if err != nil {
					return err
				}
				return e.Give(a, func() { e.account(a) })
			})
		}}
}

func accountForget() *Command {
	return &Command{Name: "forget", Args: "NAME", Least: 1, Most: 1, Takes: []string{"account"}, Gives: Forgotten{}, Short: "make this machine forget an account and its token",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				hooked, err := credentials.ForgetAccount(ctx, d, args[0])
				if err != nil {
					return err
				}
				return e.Give(Forgotten{args[0], hooked}, func() {
					e.Say("%s is forgotten here, and its token is gone from the vault. On the host the token still stands.", args[0])
					if key, err := accounts.KeyFileOf(d, args[0]); err == nil && key != "" {
						e.Say("Its SSH key stays too, on the host and here: %s", text.Visible(key))
					}
					if hooked > 0 {
						e.Say("%s hooked with it can sign in no more.", text.Count(hooked, "project"))
					}
				})
			})
		}}
}

func ends(a *accounts.Account, now time.Time) string {
	switch {
	case a.NoToken:
		return "none: an SSH key"
	case !a.Doubtful.IsZero():
		return "doubtful: the host refused it on " + a.Doubtful.Format(time.DateOnly)
	case a.Unkept:
		return "for one sign-in only"
	case a.OAuth:
		return "renewed by itself"
	case a.Expires.IsZero():
		return "good, no end told"
	case a.Expires.Before(now):
		return "ended on " + a.Expires.Format(time.DateOnly)
	}
	return "good until " + a.Expires.Format(time.DateOnly)
}

// account shows an account.
func (e *Env) account(a *accounts.Account) {
	scopes := strings.Join(a.Scopes, ", ")
	if scopes == "" && a.Host != "" && !a.NoToken {
		scopes = "not told by the host"
	}
	signs := ""
	if a.FullName != "" || a.Email != "" {
		signs = fmt.Sprintf("%s <%s>", a.FullName, a.Email)
	}
	e.Facts([2]string{"account", a.Name}, [2]string{"on", a.Where()}, [2]string{"user", a.User}, [2]string{"commits carry", signs},
		[2]string{"token", ends(a, time.Now())}, [2]string{"scopes", scopes}, [2]string{"over", a.Over})
}

// addAccount makes sure of the vault before it asks for the token, so that nobody
// pastes one in vain. inside says that it happens within another command.
func (e *Env) addAccount(ctx context.Context, d *desk.Desk, a accounts.Account, by string, inside bool) error {
	if a.Host == "" && a.Address == "" {
		var err error
		if a.Host, err = onlyHost(d); err != nil {
			return err
		}
	}
	if a.Host != "" {
		h, err := login.HostWithAccounts(d, a.Host)
		if err != nil {
			return err
		}
		if h.SignIn.TakesUser() && a.User == "" && e.asks {
			if a.User, err = e.ask(ctx, "Your user name on "+a.Host+": "); err != nil {
				return err
			}
		}
	}
	if h, err := hosts.Named(d, a.Host); a.Host != "" && err == nil && h.Shell != nil {
		added, doubts, err := login.AddAccount(ctx, d, a, "")
		if again, vouch := e.vouch(ctx, d, err); again {
			added, doubts, err = login.AddAccount(ctx, d, a, "")
		} else {
			err = vouch
		}
		return e.addedAccount(d, added, doubts, inside, err)
	}
	if !a.Unkept {
		if err := e.readyVault(ctx, d); err != nil {
			return err
		}
	}
	if by != "token" {
		if a.Host == "" {
			return fault.New(fault.Usage, "an address that nobody described takes a token")
		}
		added, doubts, err := credentials.SignIn(ctx, d, a, by, shower{e})
		return e.addedAccount(d, added, doubts, inside, err)
	}
	if h, err := hosts.Named(d, a.Host); a.Host != "" && err == nil && e.asks {
		for _, line := range h.TokenAdvice("publish", "keys") {
			e.Aside("%s", e.Err.wrap(line, 0))
		}
	}
	question := "Token of your account on " + a.Host + " (it is not shown): "
	if a.Host == "" {
		question = "Token for " + a.Address + " (it is not shown): "
	}
	token, err := e.secret(question)
	if err != nil {
		return err
	}
	added, doubts, err := login.AddAccount(ctx, d, a, token)
	return e.addedAccount(d, added, doubts, inside, err)
}

// onlyHost names the host where one alone is known.
func onlyHost(d *desk.Desk) (string, error) {
	known, err := hosts.All(d)
	if err != nil {
		return "", err
	}
	if len(known) == 1 {
		return known[0].Name, nil
	}
	f := fault.New(fault.Usage, "it is not said on which host")
	for _, h := range known {
		f.Try("", text.Command("uncinate", "account", "add", "--host", h.Name))
	}
	if len(known) == 0 {
		f.Says = "no host is known yet, so there is none to have an account on"
		f.Try("make one known by its description", "uncinate host add FILE")
	}
	return "", f
}

// shower shows a person where to sign in.
type shower struct{ e *Env }

// Enter implements job.Shower.
func (s shower) Enter(page, code string, until time.Time) {
	s.e.Aside("Open  %s", text.Visible(page))
	s.e.Aside("and enter the code  %s", s.e.Err.strong(text.Visible(code)))
	s.e.Aside("on this or any other device, by %s. Waiting for that ...", until.Local().Format("15:04"))
}

// Open implements job.Shower.
func (s shower) Open(page string) {
	if o := opener(); o != nil && exec.Command(o[0], append(o[1:], page)...).Start() == nil {
		s.e.Aside("Your browser opens the host's page. If it does not, open")
	} else {
		s.e.Aside("Open in a browser on this machine")
	}
	s.e.Aside("  %s", text.Visible(page))
	s.e.Aside("Waiting for that ...")
}

// addedAccount tells of an account that was added.
func (e *Env) addedAccount(d *desk.Desk, added *accounts.Account, doubts []string, inside bool, err error) error {
	if err != nil {
		return err
	}
	for i := range doubts {
		doubts[i] += "."
	}
	if e.json && !inside {
		return e.JSON(AddedAccount{*added, doubts})
	}
	say := e.Say
	if inside {
		say = e.Aside // the result is another command's
	}
	switch h, err := hosts.Named(d, added.Host); {
	case added.Host != "" && err == nil && h.Shell != nil:
		say("%s", e.Out.strong(added.Host+" lets you in over SSH."))
		defer e.Aside("Next: %s", text.Command("uncinate", "key", "make", added.Name))
	case added.OAuth && !added.Unkept:
		say("%s", e.Out.strong("Signed in; what renews it lies in the vault."))
	case added.Unkept:
		say("%s", e.Out.strong("The token is good, and is kept for this sign-in only."))
	default:
		say("%s", e.Out.strong("The token is good, and lies in the vault."))
	}
	if !inside {
		e.account(added)
	}
	for _, doubt := range doubts {
		e.Aside("Note: %s", doubt)
	}
	return nil
}

// setUp sets an account up in the middle of another command. again says that the
// command is worth another try.
func (e *Env) setUp(ctx context.Context, d *desk.Desk, host string, why error) (again bool, err error) {
	holders, listErr := accounts.All(d)
	if listErr != nil || len(holders) > 0 || !fault.Is(why, fault.Decision) {
		return false, errors.Join(why, listErr)
	}
	listed, err := hosts.All(d)
	if err != nil {
		return false, err
	}
	if len(listed) == 0 {
		return false, fault.New(fault.Decision, "no host is known yet on this machine").
			Try("make one known by its description", "uncinate host add FILE").
			Try("or hook to an address made on a host before", "uncinate attach --to ADDRESS")
	}
	if host == "" {
		var known []string
		for _, h := range listed {
			known = append(known, h.Name)
		}
		if host = known[0]; len(known) > 1 {
			if host, err = e.ask(ctx, "On which host is your account ("+strings.Join(known, ", ")+")? "); err != nil {
				return false, err
			}
		}
	}
	e.Aside("There is no account on this machine yet; this sets one up on %s, then goes on.", host)
	return true, e.addAccount(ctx, d, accounts.Account{Host: host}, "token", true)
}
