package screen

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/job"
	"uncinate/internal/world/vault"
)

func hostCommand() *Command {
	return &Command{Name: "host", Short: "know hosts: add, list, show, check a description, forget",
		Long: `A host description says how to talk to a host; docs/host-descriptions.md explains the
language. Descriptions of the practice hosts ship with the program.`,
		Subs: []*Command{
			{Name: "add", Args: "NAME|FILE", Least: 1, Most: 1, Short: "make a host known by its description",
				Long:     "NAME is a description that ships with the program; FILE is one of your own, given with its path, such as ./petrel.toml.",
				Examples: []string{"uncinate host add gannet --at http://127.0.0.1:8765", "uncinate host add ./petrel.toml"},
				Options: func(o *flag.FlagSet) Run {
					at := o.String("at", "", "the host's `address`, if it is another than the description's")
					as := o.String("as", "", "know it under another `name`")
					return func(_ context.Context, e *Env, args []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						h, err := d.AddHost(args[0], *at, *as)
						if err != nil {
							return err
						}
						e.Say("%s is known, at %s.", h.Name, h.At)
						e.Aside("Next: uncinate account add --host %s", h.Name)
						return nil
					}
				}},
			{Name: "list", Short: "list the known hosts",
				Options: func(o *flag.FlagSet) Run {
					asJSON := o.Bool("json", false, "one JSON document on standard output")
					return func(_ context.Context, e *Env, _ []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						hosts, err := d.Hosts()
						if err != nil {
							return err
						}
						rows, docs := [][]string{}, []map[string]any{}
						for _, h := range hosts {
							accounts, err := d.AccountsOn(h.Name)
							if err != nil {
								return err
							}
							rows = append(rows, []string{h.Name, h.At, fmt.Sprint(len(accounts)), h.Title})
							docs = append(docs, map[string]any{"name": h.Name, "at": h.At, "accounts": len(accounts), "title": h.Title})
						}
						if *asJSON {
							return e.JSON(docs)
						}
						if len(rows) == 0 {
							e.Say("No host is known yet.")
							e.Aside("Next: uncinate host add FILE   (docs/host-descriptions.md), or to try it: uncinate practice")
							return nil
						}
						e.Table([]string{"host", "at", "accounts", "what it is"}, rows)
						return nil
					}
				}},
			{Name: "show", Args: "NAME", Least: 1, Most: 1, Short: "show what a host's description says it can do",
				Options: func(o *flag.FlagSet) Run {
					asJSON := o.Bool("json", false, "one JSON document on standard output")
					return func(_ context.Context, e *Env, args []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						h, err := d.Host(args[0])
						if err != nil {
							return err
						}
						if *asJSON {
							return e.JSON(map[string]any{"name": h.Name, "at": h.At, "title": h.Title, "actions": h.Can(), "later": h.Later, "limits": h.Limits})
						}
						e.Say("%s", e.bold(h.Name))
						e.Facts([2]string{"what", h.Title}, [2]string{"at", h.At}, [2]string{"can", strings.Join(h.Can(), ", ")},
							[2]string{"not yet", strings.Join(h.Later, "; ")}, [2]string{"described in", d.DescriptionFile(h.Name)})
						return nil
					}
				}},
			{Name: "check", Args: "NAME|FILE", Least: 1, Most: 1, Short: "check a description: every mistake with line and column",
				Options: func(*flag.FlagSet) Run {
					return func(_ context.Context, e *Env, args []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						c, err := d.CheckDescription(args[0])
						if err != nil {
							return err
						}
						if len(c.Mistakes) > 0 {
							return job.MistakesFault(c)
						}
						e.Say("%s has no mistakes.", text.Visible(c.File))
						e.Facts([2]string{"host", c.Description.Name}, [2]string{"can", strings.Join(c.Description.Can(), ", ")},
							[2]string{"not yet", strings.Join(c.Description.Later, "; ")})
						if len(c.Description.Later) > 0 {
							e.Aside("What stands under \"not yet\" is described rightly; this version does not carry it out.")
						}
						return nil
					}
				}},
			{Name: "forget", Args: "NAME", Least: 1, Most: 1, Short: "make this machine forget a host",
				Options: func(*flag.FlagSet) Run {
					return func(_ context.Context, e *Env, args []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						if err := d.ForgetHost(args[0]); err != nil {
							return err
						}
						e.Say("%s is forgotten here. Nothing was changed on the host.", args[0])
						return nil
					}
				}},
		}}
}

func accountCommand() *Command {
	return &Command{Name: "account", Short: "know who you are on a host: add, list, show, forget",
		Subs: []*Command{
			{Name: "add", Args: "[NAME]", Most: 1, Short: "add your account, tested at once, with its token in the vault",
				Long: `Asks for the token without showing it, or takes it from standard input. The host is
asked at once whose it is, what it may do and when it ends. NAME is the account's name
on this machine; the user name on the host unless said. Given again, it takes a new
token for the same account.`,
				Examples: []string{"uncinate account add --host gannet", "uncinate account add tern-own --host gannet",
					"uncinate account add --at https://git.skerry.example/tides/almanac --user tern"},
				Options: func(o *flag.FlagSet) Run {
					var a job.Account
					o.StringVar(&a.Host, "host", "", "on which known `host`")
					o.StringVar(&a.Address, "at", "", "for one repository's `address` on a host that nobody described")
					o.StringVar(&a.User, "user", "", "your user `name` there; needed with --at only")
					o.StringVar(&a.FullName, "full-name", "", "whose `name` commits carry; the host's unless said")
					o.StringVar(&a.Email, "email", "", "whose `address` commits carry; the host's unless said")
					return func(ctx context.Context, e *Env, args []string) error {
						if len(args) > 0 {
							a.Name = args[0]
						}
						d, err := e.Desk()
						if err != nil {
							return err
						}
						return e.addAccount(ctx, d, a)
					}
				}},
			{Name: "list", Short: "list the accounts of this machine",
				Options: func(o *flag.FlagSet) Run {
					asJSON := o.Bool("json", false, "one JSON document on standard output")
					return func(_ context.Context, e *Env, _ []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						accounts, err := d.Accounts()
						if err != nil {
							return err
						}
						if *asJSON {
							if accounts == nil {
								accounts = []*job.Account{}
							}
							return e.JSON(accounts)
						}
						if len(accounts) == 0 {
							e.Say("There is no account on this machine yet.")
							e.Aside("Next: uncinate account add --host HOST")
							return nil
						}
						var rows [][]string
						for _, a := range accounts {
							rows = append(rows, []string{a.Name, a.Where(), a.User, ends(a, time.Now())})
						}
						e.Table([]string{"account", "on", "user", "token"}, rows)
						return nil
					}
				}},
			{Name: "show", Args: "NAME", Least: 1, Most: 1, Short: "show an account, without its secret",
				Options: func(o *flag.FlagSet) Run {
					asJSON := o.Bool("json", false, "one JSON document on standard output")
					return func(_ context.Context, e *Env, args []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						a, err := d.Account(args[0])
						if err != nil {
							return err
						}
						if *asJSON {
							return e.JSON(a)
						}
						e.account(a)
						return nil
					}
				}},
			{Name: "forget", Args: "NAME", Least: 1, Most: 1, Short: "make this machine forget an account and its token",
				Options: func(*flag.FlagSet) Run {
					return func(_ context.Context, e *Env, args []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						hooked, err := d.ForgetAccount(args[0])
						if err != nil {
							return err
						}
						e.Say("%s is forgotten here, and its token is gone from the vault. On the host the token still stands.", args[0])
						if hooked > 0 {
							e.Say("%s hooked with it can sign in no more.", text.Count(hooked, "project"))
						}
						return nil
					}
				}},
		}}
}

func ends(a *job.Account, now time.Time) string {
	switch {
	case !a.Doubtful.IsZero():
		return "doubtful: the host refused it on " + a.Doubtful.Format(time.DateOnly)
	case a.Expires.IsZero():
		return "good, no end told"
	case a.Expires.Before(now):
		return "ended on " + a.Expires.Format(time.DateOnly)
	}
	return "good until " + a.Expires.Format(time.DateOnly)
}

func (e *Env) account(a *job.Account) {
	scopes := strings.Join(a.Scopes, ", ")
	if scopes == "" && a.Host != "" {
		scopes = "not told by the host"
	}
	signs := ""
	if a.FullName != "" || a.Email != "" {
		signs = fmt.Sprintf("%s <%s>", a.FullName, a.Email)
	}
	e.Facts([2]string{"account", a.Name}, [2]string{"on", a.Where()}, [2]string{"user", a.User}, [2]string{"commits carry", signs},
		[2]string{"token", ends(a, time.Now())}, [2]string{"scopes", scopes})
}

// addAccount makes sure of the vault before it asks for the token, so that nobody
// pastes one in vain.
func (e *Env) addAccount(ctx context.Context, d *job.Desk, a job.Account) error {
	switch {
	case a.Host == "" && a.Address == "":
		hosts, err := d.Hosts()
		if err != nil {
			return err
		}
		if len(hosts) != 1 {
			f := fault.New(fault.Usage, "it is not said on which host")
			for _, h := range hosts {
				f.Try("", text.Command("uncinate", "account", "add", "--host", h.Name))
			}
			if len(hosts) == 0 {
				f.Says = "no host is known yet, so there is none to have an account on"
				f.Try("make one known by its description", "uncinate host add FILE")
			}
			return f
		}
		a.Host = hosts[0].Name
	case a.Host != "":
		if _, err := d.HostWithAccounts(a.Host); err != nil {
			return err
		}
	}
	if err := e.readyVault(ctx, d); err != nil {
		return err
	}
	question := "Token of your account on " + a.Host + " (it is not shown): "
	if a.Host == "" {
		question = "Token for " + a.Address + " (it is not shown): "
	}
	token, err := e.secret(question)
	if err != nil {
		return err
	}
	added, doubts, err := d.AddAccount(ctx, a, token)
	if err != nil {
		return err
	}
	e.Say("%s", e.bold("The token is good, and lies in the vault."))
	e.account(added)
	for _, doubt := range doubts {
		e.Aside("Note: %s.", doubt)
	}
	return nil
}

// readyVault makes the vault if there is none, asking how, and opens it.
func (e *Env) readyVault(ctx context.Context, d *job.Desk) error {
	_, found, err := d.Vault.Info()
	if err != nil {
		return err
	}
	if !found {
		if !e.asks {
			return vault.Missing()
		}
		e.Aside("There is no vault yet to keep tokens in. How is it to be protected?")
		e.Aside("  passphrase   you type it, once for some hours (good for a laptop)")
		e.Aside("  file         a key file; whoever can read your files can open it")
		by, err := e.ask(ctx, "passphrase or file? ")
		if err != nil {
			return err
		}
		if err := e.makeVault(d, by); err != nil {
			return err
		}
	}
	return d.Vault.Ready()
}

func (e *Env) makeVault(d *job.Desk, by string) error {
	passphrase := ""
	if by == vault.ByPassphrase {
		var err error
		if passphrase, err = e.secret("New passphrase of the vault (8 characters or more): "); err != nil {
			return err
		}
		if e.asks {
			second, err := e.secret("The same again: ")
			if err != nil {
				return err
			}
			if second != passphrase {
				return fault.New(fault.Usage, "the two passphrases are not the same; nothing was made").Try("", "uncinate vault make --by passphrase")
			}
		}
	}
	if err := d.Vault.Make(by, passphrase); err != nil {
		return err
	}
	if by == vault.ByFile {
		e.Say("The vault is made. Its key lies in a file beside it: whoever can read your files can open it.")
		return nil
	}
	until, err := d.Vault.Unlock(d.Program, passphrase, defaultUnlock)
	if err != nil {
		return err
	}
	e.Say("The vault is made, and open until %s.", until.Format("15:04"))
	return nil
}

const defaultUnlock = 8 * time.Hour

// setUp sets an account up in the middle of another command. again says that the
// command is worth another try.
func (e *Env) setUp(ctx context.Context, d *job.Desk, host string, why error) (again bool, err error) {
	accounts, listErr := d.Accounts()
	if listErr != nil || len(accounts) > 0 || !fault.Is(why, fault.Decision) {
		return false, errors.Join(why, listErr)
	}
	hosts, err := d.Hosts()
	if err != nil {
		return false, err
	}
	if len(hosts) == 0 {
		return false, fault.New(fault.Decision, "no host is known yet on this machine").
			Try("make one known by its description", "uncinate host add FILE").
			Try("or hook to an address made on a host before", "uncinate attach --to ADDRESS")
	}
	if host == "" {
		var known []string
		for _, h := range hosts {
			known = append(known, h.Name)
		}
		if host = known[0]; len(known) > 1 {
			if host, err = e.ask(ctx, "On which host is your account ("+strings.Join(known, ", ")+")? "); err != nil {
				return false, err
			}
		}
	}
	e.Aside("There is no account on this machine yet; this sets one up on %s, then goes on.", host)
	return true, e.addAccount(ctx, d, job.Account{Host: host})
}

func vaultCommand() *Command {
	return &Command{Name: "vault", Short: "keep secrets: make, show, unlock, lock",
		Long: "The vault is one encrypted file (age). What opens it is wrapped by a passphrase, or lies in a key file.",
		Subs: []*Command{
			{Name: "make", Short: "make the vault of this machine",
				Examples: []string{"uncinate vault make --by passphrase", "uncinate vault make --by file"},
				Options: func(o *flag.FlagSet) Run {
					by := o.String("by", "", "how it is protected: passphrase or file (which `way`)")
					return func(_ context.Context, e *Env, _ []string) error {
						if *by == "" {
							return fault.New(fault.Usage, "say how the vault is to be protected").
								Try("by a passphrase that you type", "uncinate vault make --by passphrase").
								Try("or by a key file that anyone who can read your files can use", "uncinate vault make --by file")
						}
						d, err := e.Desk()
						if err != nil {
							return err
						}
						return e.makeVault(d, *by)
					}
				}},
			{Name: "show", Short: "show where the vault lies, how it is protected and whether it is open",
				Options: func(o *flag.FlagSet) Run {
					asJSON := o.Bool("json", false, "one JSON document on standard output")
					return func(_ context.Context, e *Env, _ []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						i, found, err := d.Vault.Info()
						if err != nil {
							return err
						}
						if !found {
							return vault.Missing()
						}
						state := "locked"
						switch {
						case !i.Until.IsZero():
							state = "open until " + i.Until.Local().Format("2006-01-02 15:04")
						case i.Open:
							state = "open to whoever can read the key file"
						}
						if *asJSON {
							return e.JSON(map[string]any{"by": i.By, "folder": i.Folder, "open": i.Open, "state": state, "secrets": i.Secrets, "identity": i.Identity, "recipient": i.Recipient})
						}
						e.Facts([2]string{"protected by", map[string]string{vault.ByFile: "key file", vault.ByPassphrase: "passphrase"}[i.By]},
							[2]string{"state", state}, [2]string{"secrets", i.Secrets}, [2]string{"opened by", i.Identity}, [2]string{"made", i.Made.Format(time.DateOnly)})
						return nil
					}
				}},
			{Name: "unlock", Short: "open the vault for a time",
				Long: "Asks for the passphrase, or takes it from standard input, and starts a small process that holds the vault open for you alone and ends by itself.",
				Options: func(o *flag.FlagSet) Run {
					long := o.Duration("for", defaultUnlock, "how long, such as 30m or 8h (a `time`)")
					return func(_ context.Context, e *Env, _ []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						i, found, err := d.Vault.Info()
						switch {
						case err != nil:
							return err
						case !found:
							return vault.Missing()
						case i.By == vault.ByFile:
							e.Say("The vault is protected by a key file, so it is always open to you.")
							return nil
						case *long < time.Second || *long > 7*24*time.Hour:
							return fault.New(fault.Usage, "the vault is unlocked for one second to seven days")
						}
						passphrase, err := e.secret("Passphrase of the vault: ")
						if err != nil {
							return err
						}
						until, err := d.Vault.Unlock(d.Program, passphrase, *long)
						if err != nil {
							return err
						}
						e.Say("The vault is open until %s.", until.Format("2006-01-02 15:04"))
						return nil
					}
				}},
			{Name: "lock", Short: "lock the vault now",
				Options: func(*flag.FlagSet) Run {
					return func(_ context.Context, e *Env, _ []string) error {
						d, err := e.Desk()
						if err != nil {
							return err
						}
						i, found, err := d.Vault.Info()
						if err != nil {
							return err
						}
						if !found {
							return vault.Missing()
						}
						if i.By == vault.ByFile {
							return fault.New(fault.Refused, "a vault protected by a key file cannot be locked: the file opens it")
						}
						was, err := d.Vault.Lock()
						if err != nil {
							return err
						}
						if was {
							e.Say("The vault is locked.")
						} else {
							e.Say("The vault was locked already.")
						}
						return nil
					}
				}},
			{Name: "hold", Hidden: true, Short: "hold the vault open; started by unlock",
				Options: func(*flag.FlagSet) Run {
					return func(ctx context.Context, e *Env, _ []string) error { return vault.Hold(ctx, e.In) }
				}},
		}}
}
