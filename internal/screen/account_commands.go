package screen

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/sshkey"
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
	return &Command{Name: "account", Short: "manage your accounts on hosts: list, add, show, change, forget",
		Subs: []*Command{
			accountList(),
			accountAdd(),
			accountShow(),
			accountChange(),
			accountForget(),
		}}
}

func accountAdd() *Command {
	return &Command{Name: "add", First: []string{"host", "user", "by", "default", "over", "full-name", "email"}, Args: "[NAME]", Most: 1, Gives: AddedAccount{}, Apart: [][]string{{"host", "at"}, {"at", "default"}}, Short: "add your account: its token is tested at once and kept in the vault",
		Long: `Asks for the token without showing it, or takes it from standard input. The host is
asked at once whose it is, what it may do and when it expires; a host that cannot tell is
asked for a repository (--repository), with a password or a token. NAME is the account's name
on this machine (default: the user name on the host). For an account that is there already,
it takes a new token.

With --in-memory the token is not written anywhere: a small process holds it until this
terminal session ends, or "vault lock" is run, at most for twelve hours.`,
		Examples: []string{"uncinate account add --host gannet", "uncinate account add --host gannet --by device", "uncinate account add tern-own --host gannet",
			"uncinate account add --at https://git.skerry.example/tides/almanac --user tern", "uncinate account add --at https://git.skerry.example/tides --user tern --repository almanac.git"},
		Options: func(o *flag.FlagSet) Run {
			var a accounts.Account
			o.StringVar(&a.Host, "host", "", "which known `host`")
			o.StringVar(&a.Address, "at", "", "the `address` of a repository on a host without a description, or of the server or folder that it is in")
			o.StringVar(&a.Repository, "repository", "", "a `repository` there on which the sign-in is tested, where --at names no single one, or the host does not tell")
			o.StringVar(&a.User, "user", "", "your user `name` on the host; needed with --at, and where the host signs in by name and password")
			o.BoolVar(&a.InMemory, "in-memory", false, "hold the token in memory for this session only; nothing is written (for a shared computer)")
			o.StringVar(&a.FullName, "full-name", "", "the `name` for commits (default: the host's)")
			o.StringVar(&a.Email, "email", "", "the e-mail `address` for commits (default: the host's)")
			o.BoolVar(&a.Default, "default", false, "make it the default account on its host")
			o.Var((*list)(&a.May), "may", "`what` its token should be able to do; may be repeated (default: publish and keys)")
			preview := previewOption(o)
			by := o.String("by", "token", "`how` to sign in: token (pasted), device (a code entered on the host's page) or browser (this machine's)")
			return func(ctx context.Context, e *Env, args []string) error {
				if len(args) > 0 {
					a.Name = args[0]
				}
				d, err := e.Desk()
				if err != nil {
					return err
				}
				if !slices.Contains([]string{"token", oauth.ByDevice, oauth.ByBrowser}, *by) {
					return fault.New(fault.Usage, "sign in by token, device or browser, not by %s", text.Quote(*by)).Try("", "uncinate help account add")
				}
				if err := knownWants(a.May); err != nil {
					return err
				}
				if *preview {
					return e.wouldAdd(ctx, d, a, *by)
				}
				return e.addAccount(ctx, d, a, *by, false)
			}
		}}
}

func accountList() *Command {
	return &Command{Name: "list", Gives: []accounts.Account{}, Short: "list the accounts of this machine",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				holders, err := accounts.All(d)
				if err != nil {
					return err
				}
				accounts.LookInVault(ctx, d, holders...)
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
						rows = append(rows, []string{a.Name, a.Where(), a.User, text.Either(a.Default, "yes", ""), expiry(a)})
					}
					e.Table([]string{"account", "host", "user", "default", "token"}, rows)
				})
			})
		}}
}

func accountShow() *Command {
	return &Command{Name: "show", Args: "NAME", Least: 1, Most: 1, Takes: []string{"account"}, Gives: accounts.Account{}, Short: "show an account, without its secret",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				a, err := accounts.Named(d, args[0])
				if err != nil {
					return err
				}
				accounts.LookInVault(ctx, d, a)
				return e.Give(a, func() { e.account(a) })
			})
		}}
}

func accountChange() *Command {
	return &Command{Name: "change", Args: "NAME", Least: 1, Most: 1, Takes: []string{"account"}, Gives: DoneThings{}, Short: "change an account: default, transport, name and e-mail for commits",
		Long: `The default account of a host is used where none is named. The transport is that of projects that
are attached or cloned from now on; attach --over switches one that is attached already.`,
		Examples: []string{"uncinate account change tern --default", "uncinate account change tern --over ssh"},
		Options: func(o *flag.FlagSet) Run {
			var c credentials.AccountChange
			o.StringVar(&c.Over, "over", "", "the `transport` of new projects: https or ssh")
			o.BoolVar(&c.Default, "default", false, "make it the default account on its host")
			o.StringVar(&c.FullName, "full-name", "", "the `name` for commits")
			o.StringVar(&c.Email, "email", "", "the e-mail `address` for commits")
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if c == (credentials.AccountChange{}) {
					return fault.New(fault.Usage, "nothing to change: use --default, --over, --full-name or --email").
						Try("make it the default account on its host", text.Command("uncinate", "account", "change", args[0], "--default")).
						Try("let its new projects use SSH", text.Command("uncinate", "account", "change", args[0], "--over", "ssh"))
				}
				change, err := credentials.ChangeAccount(d, args[0], c)
				if err != nil {
					return err
				}
				return e.doChange(ctx, change, plans{preview: *preview, yes: !*preview}, "Changed.")
			})
		}}
}

// wouldAdd says what adding an account does.
func (e *Env) wouldAdd(ctx context.Context, d *desk.Desk, a accounts.Account, by string) error {
	if a.Host == "" && a.Address == "" {
		var err error
		if a.Host, err = onlyHost(d); err != nil {
			return err
		}
	}
	where := a.Address
	if a.Host != "" {
		h, err := login.HostWithAccounts(d, a.Host, a.Repository)
		if err != nil {
			return err
		}
		if by != "token" {
			if err := h.SignInWay(by); err != nil {
				return err
			}
		}
		where = a.Host
	}
	ask := here("Ask for your token, without showing it")
	if by != "token" {
		ask = plan.Item{Place: plan.Host, Sentence: "Sign in on the host's page"}
	}
	items := []plan.Item{ask, {Place: plan.Host, Sentence: "Ask " + text.Visible(where) + " whose it is, what it may do and when it expires"}}
	if a.InMemory {
		return e.would(ctx, a.Host, append(items, here("Hold it in memory for this session, and add the account"))...)
	}
	return e.would(ctx, a.Host, append(items, plan.Item{Place: plan.Vault, Sentence: "Keep it"}, here("Add the account"))...)
}

func accountForget() *Command {
	return &Command{Name: "forget", Args: "NAME", Least: 1, Most: 1, Takes: []string{"account"}, Gives: Forgotten{}, Short: "forget an account and its token on this machine",
		Options: func(o *flag.FlagSet) Run {
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				attached, err := credentials.ForgetAccount(ctx, d, args[0], *preview)
				if err != nil {
					return err
				}
				if *preview {
					items := []plan.Item{here("Forget the account " + args[0])}
					if attached > 0 {
						items[0].Sentence += "; " + text.Count(attached, "project") + " attached with it can then no longer sign in"
					}
					return e.would(ctx, "", append(items, plan.Item{Place: plan.Vault, Sentence: "Delete its token, which stays valid on the host"})...)
				}
				return e.Give(Forgotten{args[0], attached}, func() {
					e.Say("The account %s and its token are forgotten here. On the host the token is still valid.", args[0])
					if key, err := accounts.KeyFileOf(d, args[0]); err == nil && key != "" {
						e.Say("Its SSH key is still there too, on the host and here: %s", text.Visible(key))
					}
					if attached > 0 {
						e.Say("%s attached with it can no longer sign in.", text.Count(attached, "project"))
					}
				})
			})
		}}
}

// expiry says what is known here of an account's token.
func expiry(a *accounts.Account) string {
	_, says := accounts.Ending(a, time.Now())
	return says
}

// account shows an account.
func (e *Env) account(a *accounts.Account) {
	scopes := strings.Join(a.Scopes, ", ")
	if scopes == "" && a.Host != "" && !a.NoToken {
		scopes = "not given by the host"
	}
	signs := ""
	if a.FullName != "" || a.Email != "" {
		signs = fmt.Sprintf("%s <%s>", a.FullName, a.Email)
	}
	e.Facts([2]string{"account", a.Name}, [2]string{"host", a.Where()}, [2]string{"user", a.User}, [2]string{"commits as", signs},
		[2]string{"token", expiry(a)}, [2]string{"scopes", scopes}, [2]string{"transport", a.Over}, [2]string{"default", text.Either(a.Default, "yes, on "+a.Host, "")})
}

// beforeToken asks for the user's name where that is needed, and says where a token would go.
func (e *Env) beforeToken(ctx context.Context, d *desk.Desk, h *hosts.Host, a *accounts.Account) (err error) {
	if before, err := accounts.Named(d, a.Name); err == nil && before.Host == a.Host && a.User == "" && h.SignIn.TakesUser() {
		a.User = before.User // it gets another token
	}
	if h.SignIn.TakesUser() && a.User == "" && e.asks {
		mine := os.Getenv("USER")
		if a.User, err = e.ask(ctx, "Your user name on "+a.Host+text.Either(mine == "", "", " (Enter for "+text.Visible(mine)+")")+": "); a.User == "" {
			a.User = mine
		}
	}
	if err == nil && h.Shell == nil {
		e.Aside("%s", e.Err.wrap(goesTo("The token goes", h.Description), 0))
	}
	return err
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
		h, err := login.HostWithAccounts(d, a.Host, a.Repository)
		if err != nil {
			return err
		}
		if err := e.beforeToken(ctx, d, h, &a); err != nil {
			return err
		}
	}
	if before, err := accounts.Named(d, a.Name); err == nil && len(a.May) == 0 && before.Host == a.Host {
		a.May = before.May // another token for the same
	}
	if h, err := hosts.Named(d, a.Host); a.Host != "" && err == nil && h.Shell != nil {
		if by != "token" || a.InMemory {
			return fault.New(fault.Usage, "%s is a plain server: you get in with an SSH key, so there is nothing to sign in to", a.Host).
				Try("", text.Command("uncinate", "account", "add", cmp.Or(a.Name, "YOUR-NAME"), "--host", a.Host))
		}
		added, doubts, err := login.AddAccount(ctx, d, a, "")
		if again, vouch := e.vouch(ctx, d, err); again {
			added, doubts, err = login.AddAccount(ctx, d, a, "")
		} else {
			err = vouch
		}
		return e.addedAccount(d, added, doubts, inside, err)
	}
	if !a.InMemory {
		if err := e.readyVault(ctx, d); err != nil {
			return err
		}
	}
	if by != "token" {
		if a.Host == "" {
			return fault.New(fault.Usage, "an address without a description takes a token only")
		}
		added, doubts, err := credentials.SignIn(ctx, d, a, by, shower{e})
		return e.addedAccount(d, added, doubts, inside, err)
	}
	if h, err := hosts.Named(d, a.Host); a.Host != "" && err == nil && e.asks {
		e.advise(d, h, a, inside)
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

// advise says where a token is made, with which scopes, and what to call it there.
func (e *Env) advise(d *desk.Desk, h *hosts.Host, a accounts.Account, inside bool) {
	for _, line := range h.TokenAdvice(a.Wants()...) {
		e.Aside("%s", e.Err.wrap(line, 0))
	}
	if other := h.WithoutToken(); other != "" && !inside {
		e.Aside("%s", e.Err.wrap(other, 0))
	}
	if name, err := d.Machine(); err == nil && h.Actions["token-list"] != nil {
		e.Aside("%s", e.Err.wrap("Call it: "+sshkey.Name(cmp.Or(a.Name, a.User, "NAME"), a.Host, name)+" (by which a lost machine's is found).", 0))
	}
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
	f := fault.New(fault.Usage, "several hosts are known; choose one with --host")
	for _, h := range known {
		f.Try("", text.Command("uncinate", "account", "add", "--host", h.Name))
	}
	if len(known) == 0 {
		f.Says = "no host is known yet, so there is none to have an account on"
		f.Try("add one by its description", "uncinate host add FILE")
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
	case added.OAuth && !added.InMemory:
		say("%s", e.Out.strong("Signed in; the sign-in renews itself from the vault."))
	case added.InMemory:
		say("%s", e.Out.strong("The token works, and is held in memory for this session only."))
	default:
		say("%s", e.Out.strong("The token works and is in the vault."))
	}
	if !inside {
		e.account(added)
	}
	for _, doubt := range doubts {
		e.Aside("Note: %s", doubt)
	}
	return nil
}
