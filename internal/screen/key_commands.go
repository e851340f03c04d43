package screen

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/job/credentials"
)

// MadeKey is a key that was made or taken in, as a JSON document.
type MadeKey struct {
	accounts.Key
	Fingerprint string `json:"fingerprint"`
}

// ChangedKeys is what was done to keys, as a JSON document.
type ChangedKeys struct {
	Done []string `json:"done" says:"what was done, in order"`
	Said string   `json:"said,omitempty" says:"what the host said when it let the key in"`
}

func keyCommand() *Command {
	return &Command{Name: "key", Short: "manage SSH keys: list, make, install, rotate, revoke",
		Long: `Each account has one key on each machine, named after both. Its private half is in a file of
its own, encrypted with a passphrase that is in the vault; ssh asks the vault by itself. A
project that uses SSH offers its account's key to its host, and no other; your own SSH
configuration needs no change, and holds for everything else.`,
		Subs: []*Command{
			keyList(),
			keyMake(),
			keyInstall(),
			keyRotate(),
			keyRevoke(),
			keyAnswer(),
		}}
}

func keyMake() *Command {
	return &Command{Name: "make", Args: "ACCOUNT", Least: 1, Most: 1, Takes: []string{"account"}, Gives: MadeKey{}, Apart: [][]string{{"public", "kind"}, {"public", "open"}}, Short: "make an account's key on this machine",
		Long: `With --public a key that you have is registered by its public half: the private one stays
where it is, beside it, in an agent, or in a security key. The machine's name in it is that
of "settings set machine" (default: its name on the network).`,
		Examples: []string{"uncinate key make tern", "uncinate key make tern --public ~/.ssh/id_ed25519_sk.pub"},
		Options: func(o *flag.FlagSet) Run {
			k := credentials.KeyOptions{}
			o.StringVar(&k.Kind, "kind", "", "the `kind` of key: "+strings.Join(sshkey.Kinds, ", ")+" (default: the first)")
			o.StringVar(&k.Public, "public", "", "register the key whose public half is in this `file`")
			o.BoolVar(&k.Open, "open", false, "without a passphrase: whoever can read its file can use it")
			o.BoolVar(&k.Preview, "preview", false, "show what would be done and stop")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				k.Account = args[0]
				made, err := credentials.MakeKey(ctx, d, k)
				if err != nil {
					return err
				}
				if k.Preview {
					switch {
					case k.Public != "":
						return e.would(ctx, "", here("Register the key in "+text.Visible(k.Public)+" for the account "+k.Account))
					case k.Open:
						return e.would(ctx, "", here("Make a key for the account "+k.Account+", without a passphrase"))
					}
					return e.would(ctx, "", here("Make a key for the account "+k.Account), plan.Item{Place: plan.Vault, Sentence: "Keep its passphrase"})
				}
				return e.Give(MadeKey{*made, made.Fingerprint()}, func() { e.madeKey(made) })
			})
		}}
}

func keyList() *Command {
	return &Command{Name: "list", Args: "[ACCOUNT]...", Most: -1, Takes: []string{"account"}, Gives: credentials.KeyList{}, Short: "list this machine's keys, the agent's and the hosts'",
		Long: "Shows each key's age and last use, whose it is, and what does not match.",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				all, err := credentials.ListKeys(ctx, d, args)
				if err != nil {
					return err
				}
				return e.Give(all, func() { e.keys(all) })
			})
		}}
}

func keyInstall() *Command {
	return &Command{Name: "install", Args: "ACCOUNT", Least: 1, Most: 1, Takes: []string{"account"}, Gives: ChangedKeys{}, Short: "install the account's key on its host, and sign in with it",
		Long: `Where the host takes keys only by hand, the page and the key are shown; --done goes on
from there. With --signs the host also verifies signatures by the key, and the commits and
tags of the account's projects are signed with it.`,
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			done := o.Bool("done", false, "it was installed by hand; only sign in")
			signs := o.Bool("signs", false, "sign commits and tags with it, too")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				c, err := credentials.InstallKey(ctx, d, args[0], *done, *signs)
				if err != nil {
					return err
				}
				return e.changeKeys(ctx, d, c, p, "Installed; signing in to "+c.HostName()+" works.")
			})
		}}
}

func keyRotate() *Command {
	return &Command{Name: "rotate", Args: "ACCOUNT", Least: 1, Most: 1, Takes: []string{"account"}, Gives: ChangedKeys{}, Short: "replace the account's key by a new one, everywhere it is used",
		Long: `Makes the new one, installs it on the host, signs in with it, lets every attached project
use it, and only then removes the old one. If interrupted, the same command goes on from
there; there is a working key at every moment.`,
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			kind := o.String("kind", "", "the `kind` of the new key: "+strings.Join(sshkey.Kinds, ", ")+" (default: the old one's)")
			open := o.Bool("open", false, "without a passphrase: whoever can read its file can use it")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				c, err := credentials.RotateKey(ctx, d, args[0], *kind, *open)
				if err != nil {
					return err
				}
				return e.changeKeys(ctx, d, c, p, "Rotated: the new key works, and the old one no longer opens anything.")
			})
		}}
}

func keyRevoke() *Command {
	return &Command{Name: "revoke", Args: "[ACCOUNT]...", Most: -1, Takes: []string{"account"}, Gives: ChangedKeys{}, Short: "remove a lost machine's keys from the hosts",
		Long:     "Looks on the hosts of the named accounts, or of all, for keys that were made on that machine, as their names tell.",
		Examples: []string{"uncinate key revoke --machine launch"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			machine := o.String("machine", "", "the `name` of the machine whose keys are removed")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *machine == "" {
					return fault.New(fault.Usage, "name the machine whose keys should be removed").Try("see the machines there are keys of", "uncinate key list").
						Try("then", "uncinate key revoke --machine NAME")
				}
				c, err := credentials.RevokeKeys(ctx, d, *machine, args)
				if err != nil {
					return err
				}
				return e.changeKeys(ctx, d, c, p, "Removed: "+text.Count(len(c.Steps), "key")+" of the machine "+*machine+".")
			})
		}}
}

func keyAnswer() *Command {
	return &Command{Name: "answer", Args: "PROMPT", Most: 1, Hidden: true, Short: "answer ssh with a key's passphrase; run by ssh",
		Options: func(o *flag.FlagSet) Run {
			key := o.String("key", "", "the key's `fingerprint`")
			home := o.String("home", "", "`folder` in which the program's own things are")
			return func(ctx context.Context, e *Env, args []string) error {
				e.home = *home
				d, err := e.Desk()
				if err != nil {
					return err
				}
				passphrase, err := credentials.AnswerSSH(ctx, d, *key, strings.Join(args, " "))
				if err != nil {
					return err
				}
				_, err = fmt.Fprintln(e.answers, passphrase)
				return err
			}
		}}
}

func (e *Env) madeKey(k *accounts.Key) {
	head, sealed := "The key is made.", "by a passphrase in the vault"
	if !k.Sealed {
		sealed = "not by a passphrase: whoever can read its file can use it"
	}
	if k.Registered {
		head, sealed = "The key is registered.", "as it was before"
	}
	e.Say("%s", e.Out.strong(head))
	e.Facts([2]string{"fingerprint", k.Fingerprint()}, [2]string{"account", k.Account + " on " + k.Host}, [2]string{"machine", k.Machine},
		[2]string{"file", k.File}, [2]string{"protected", sealed})
	e.Aside("Next: %s", text.Command("uncinate", "key", "install", k.Account))
}

func (e *Env) keys(all credentials.KeyList) {
	if len(all.Keys) == 0 && len(all.Unseen) == 0 {
		e.Say("There is no SSH key, neither here nor in the agent nor on the hosts.")
		return
	}
	yes := func(b bool, words string) string {
		if b {
			return words
		}
		return "-"
	}
	day := func(t time.Time) string {
		if t.IsZero() {
			return "-"
		}
		return t.Format(time.DateOnly)
	}
	// On a narrow screen a fingerprint would be broken, and could not be compared: it gets
	// a line of its own.
	narrow := e.Out.width > 0 && e.Out.width < 125
	var rows [][]string
	for i, k := range all.Keys {
		name := k.Fingerprint
		if narrow {
			name = fmt.Sprint(i + 1)
		}
		whose := k.Account
		if k.Host != "" {
			whose += " on " + k.Host
		}
		machine := k.Machine
		if machine != "" && machine == all.Machine {
			machine += " (this)"
		}
		hosted := yes(k.OnHost, "yes")
		if k.Signs {
			hosted = strings.TrimPrefix(hosted+", signs", "-, ")
		}
		rows = append(rows, []string{name, strings.TrimPrefix(k.Kind, "ssh-"), yes(whose != "", whose), yes(machine != "", machine), yes(k.Here != "", "yes"), yes(k.Agent, "yes"), hosted, day(k.Created), day(k.Used)})
	}
	e.Table([]string{"key", "kind", "whose", "machine", "here", "agent", "host", "created", "used"}, rows)
	for i, k := range all.Keys {
		if narrow {
			e.Say("%d is %s", i+1, k.Fingerprint)
		}
	}
	for _, k := range all.Keys {
		for _, doubt := range k.Doubts {
			e.Say("%s: %s", text.Excerpt(k.Fingerprint, 20), e.Out.wrap(text.Visible(doubt), 4))
		}
		for _, r := range k.Remedies {
			e.Say("    %s", text.Visible(r))
		}
	}
	for _, u := range all.Unseen {
		e.Say("Not looked at: %s", text.Visible(u))
	}
	e.Aside("SSH agent: %s.", text.Visible(all.Agent))
}

func (e *Env) changeKeys(ctx context.Context, d *desk.Desk, c *credentials.KeyChange, p plans, done string) error {
	if goes, err := e.propose(ctx, p, c.Head, c, c.Notes); err != nil || !goes {
		return err
	}
	err := c.Do(ctx)
	for {
		again, e2 := e.vouch(ctx, d, err)
		if !again {
			err = e2
			break
		}
		err = c.Do(ctx)
	}
	if err != nil {
		return err
	}
	doc := ChangedKeys{Done: []string{}, Said: text.Excerpt(strings.TrimSpace(c.Said), 200)}
	for _, i := range c.Items() {
		doc.Done = append(doc.Done, i.Sentence)
	}
	return e.Give(doc, func() {
		e.Say("%s", e.Out.strong(done))
		if doc.Said != "" {
			e.Say("The host says: %s", text.Visible(doc.Said))
		}
	})
}

// vouch asks, once, whether a host's SSH key is its own, and pins it; true says that the
// work can be begun again.
func (e *Env) vouch(ctx context.Context, d *desk.Desk, err error) (bool, error) {
	var unknown *login.UnknownHost
	if !errors.As(err, &unknown) || !e.asks || len(unknown.Keys) == 0 {
		return false, err
	}
	e.Aside("Nothing confirms yet that this SSH key belongs to %s:", text.Visible(unknown.Host))
	for _, k := range unknown.Keys {
		e.Aside("    %s  (%s)", k.Fingerprint(), k.Type)
	}
	answer, asked := e.ask(ctx, "Compare it with what the host's operator publishes. Is it the same? (yes or no) ")
	if asked != nil {
		return false, asked
	}
	if a := strings.ToLower(answer); a != "yes" {
		return false, fault.New(fault.Decision, "the SSH key of %s is not confirmed, so nothing was sent to it", unknown.Host)
	}
	_, err = login.PinHost(ctx, d, unknown.Host, unknown.Keys[0].Fingerprint(), false)
	return err == nil, err
}
