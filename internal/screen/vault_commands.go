package screen

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/credentials"
	"uncinate/internal/world/vault"
)

// readyVault makes the vault if there is none, asking how, and opens it.
func (e *Env) readyVault(ctx context.Context, d *desk.Desk) error {
	_, found, err := d.Vault.Info(ctx)
	if err != nil {
		return err
	}
	if !found {
		if !e.asks {
			return vault.Missing()
		}
		e.Aside("There is no vault yet to keep tokens in. How should it be protected?")
		e.Aside("  passphrase   you type it, once for some hours (good for a laptop)")
		e.Aside("  keyring      your system's keyring opens it when you sign in (good for a desktop)")
		e.Aside("  file         a key file; whoever can read your files can open it")
		by, err := e.ask(ctx, strings.Join(vault.Ways[:2], ", ")+" or file? (Enter for passphrase) ")
		if err != nil {
			return err
		}
		by = cmp.Or(by, vault.ByPassphrase)
		says, err := e.protect(ctx, d, by, "made", d.Vault.Make)
		if err != nil {
			return err
		}
		e.Aside("%s", says)
	}
	return d.Vault.Ready(ctx)
}

// protect makes or changes the vault, with a new passphrase if it takes one, and
// gives a sentence about it.
func (e *Env) protect(ctx context.Context, d *desk.Desk, by, done string, how func(ctx context.Context, by, passphrase string) error) (string, error) {
	passphrase := ""
	if by == vault.ByPassphrase {
		var err error
		if passphrase, err = e.secret("New passphrase of the vault (8 characters or more): "); err != nil {
			return "", err
		}
		if e.asks {
			second, err := e.secret("Repeat it: ")
			if err != nil {
				return "", err
			}
			if second != passphrase {
				return "", fault.New(fault.Usage, "the two passphrases are not the same; nothing was %s", done)
			}
		}
	}
	if err := how(ctx, by, passphrase); err != nil {
		return "", err
	}
	switch by {
	case vault.ByFile:
		return "Vault " + done + ". Its key is in a file beside it: whoever can read your files can open it.", nil
	case vault.ByKeyring:
		return "Vault " + done + ". Its key is in your system's keyring; it is open while that is.", nil
	}
	if !vault.CanHold {
		return "Vault " + done + ". Its passphrase is asked for each time: on this system nothing holds it open.", nil
	}
	until, err := d.Vault.Unlock(ctx, d.Program, passphrase, defaultUnlock)
	if err != nil {
		return "", err
	}
	return "Vault " + done + "; it is open until " + until.Format("15:04") + ".", nil
}

const defaultUnlock = 8 * time.Hour

// Vaulted is the vault as a JSON document.
type Vaulted struct {
	By        string    `json:"by" says:"what protects it: passphrase, keyring or file"`
	Open      bool      `json:"open" says:"it can be read without asking anyone"`
	Until     time.Time `json:"until,omitzero" says:"when it locks by itself"`
	Folder    string    `json:"folder"`
	Secrets   string    `json:"secrets" says:"path of the encrypted file"`
	Identity  string    `json:"identity" says:"what opens it: a path, or the system's keyring"`
	Recipient string    `json:"recipient" says:"the public half of the identity"`
	Created   time.Time `json:"created"`
}

// giveVault tells of the vault as it is now.
func (e *Env) giveVault(ctx context.Context, d *desk.Desk, show func(vault.Info)) error {
	i, found, err := d.Vault.Info(ctx)
	if err != nil {
		return err
	}
	if !found {
		return vault.Missing()
	}
	return e.Give(Vaulted{i.By, i.Open, i.Until, i.Folder, i.Secrets, i.Identity, i.Recipient, i.Made}, func() { show(i) })
}

// unlock opens the vault for a time, and gives a sentence about it.
func (e *Env) unlock(ctx context.Context, d *desk.Desk, long time.Duration) (string, error) {
	i, found, err := d.Vault.Info(ctx)
	switch {
	case err != nil:
		return "", err
	case !found:
		return "", vault.Missing()
	case i.By == vault.ByFile:
		return "The vault is protected by a key file, so it is always open to you.", nil
	case i.By == vault.ByKeyring:
		if err := d.Vault.UnlockRing(ctx); err != nil {
			return "", err
		}
		return "The vault is open while your system's keyring is.", nil
	case long < time.Second || long > 7*24*time.Hour:
		return "", fault.New(fault.Usage, "the vault is unlocked for one second to seven days")
	}
	passphrase, err := e.secret("Passphrase of the vault: ")
	if err != nil {
		return "", err
	}
	until, err := d.Vault.Unlock(ctx, d.Program, passphrase, long)
	if err != nil {
		return "", err
	}
	return "The vault is open until " + until.Format("2006-01-02 15:04") + ".", nil
}

// withAgent adds what became of the SSH keys in the agent; one that refuses is told of,
// and hinders nothing.
func (e *Env) withAgent(says string, n int, words string, err error) string {
	if err != nil {
		e.Aside("Note: %s.", text.Visible(fault.Of(err).Says))
		return says
	}
	if n > 0 {
		says += " " + fmt.Sprintf(words, text.Count(n, "key"))
	}
	return says
}

// lock locks the vault, and gives a sentence about it.
func (e *Env) lock(ctx context.Context, d *desk.Desk) (string, error) {
	was, err := d.Vault.Lock() // what is kept for one sign-in only goes too
	if err != nil {
		return "", err
	}
	i, found, err := d.Vault.Info(ctx)
	switch {
	case !found && err == nil && was:
		return "What was held in memory for this session is forgotten.", nil
	case !found && err == nil:
		return "", vault.Missing()
	case i.By == vault.ByFile:
		return "", fault.New(fault.Refused, "a vault protected by a key file cannot be locked: the file opens it").
			Try("protect it by a passphrase", "uncinate vault change --by passphrase")
	case i.By == vault.ByKeyring:
		return "", fault.New(fault.Refused, "a vault protected by the system's keyring is locked with that, not by itself")
	case err != nil:
		return "", err
	case was:
		return "The vault is locked.", nil
	}
	return "The vault was locked already.", nil
}

// sayHow is the fault when it is not said how the vault is to be protected.
func sayHow(verb string) error {
	return fault.New(fault.Usage, "how should the vault be protected? Use --by").
		Try("by a passphrase that you type", "uncinate vault "+verb+" --by passphrase").
		Try("or by the keyring that your system opens when you sign in", "uncinate vault "+verb+" --by keyring").
		Try("or by a key file that anyone who can read your files can use", "uncinate vault "+verb+" --by file")
}

func vaultCommand() *Command {
	return &Command{Name: "vault", Short: "manage the vault, which keeps secrets: show, make, unlock, lock, change",
		Long: "The vault is one encrypted file (age). What opens it is protected by a passphrase, or is in the system's keyring or in a key file.",
		Subs: []*Command{
			vaultShow(),
			vaultMake(),
			vaultUnlock(),
			vaultLock(),
			vaultChange(),
			vaultHold(),
		}}
}

// vaultWay names a way of protecting the vault.
func vaultWay(by string) string {
	return map[string]string{vault.ByPassphrase: "a passphrase", vault.ByKeyring: "your system's keyring", vault.ByFile: "a key file"}[by]
}

// vaultWork makes a Run of work that changes the vault and says so in one sentence; with preview
// that is what it would do.
func vaultWork(preview *bool, work func(ctx context.Context, e *Env, d *desk.Desk) (string, error)) Run {
	return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
		says, err := work(ctx, e, d)
		if err != nil {
			return err
		}
		if *preview {
			return e.would(ctx, "", plan.Item{Place: plan.Vault, Sentence: says})
		}
		if _, found, err := d.Vault.Info(ctx); err == nil && !found {
			return e.Give(Vaulted{}, func() { e.Say("%s", says) })
		}
		return e.giveVault(ctx, d, func(vault.Info) { e.Say("%s", says) })
	})
}

func vaultMake() *Command {
	return &Command{Name: "make", Short: "make the vault of this machine", Gives: Vaulted{},
		Examples: []string{"uncinate vault make --by passphrase", "uncinate vault make --by keyring"},
		Options: func(o *flag.FlagSet) Run {
			by := o.String("by", "", "`how` it is protected: passphrase, keyring or file")
			preview := previewOption(o)
			return vaultWork(preview, func(ctx context.Context, e *Env, d *desk.Desk) (string, error) {
				if !slices.Contains(vault.Ways, *by) {
					return "", sayHow("make")
				}
				if *preview {
					if _, found, err := d.Vault.Info(ctx); err != nil || found {
						return "", cmp.Or(err, error(fault.New(fault.Decision, "there is a vault already").Try("see it", "uncinate vault show")))
					}
					return "Make a vault, protected by " + vaultWay(*by), nil
				}
				return e.protect(ctx, d, *by, "made", d.Vault.Make)
			})
		}}
}

func vaultShow() *Command {
	return &Command{Name: "show", Short: "show where the vault is, how it is protected and whether it is open", Gives: Vaulted{},
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				return e.giveVault(ctx, d, func(i vault.Info) {
					state := "locked"
					switch {
					case !i.Until.IsZero():
						state = "open until " + i.Until.Local().Format("2006-01-02 15:04")
					case i.Open && i.By == vault.ByKeyring:
						state = "open while the system's keyring is"
					case i.Open:
						state = "open to whoever can read the key file"
					}
					way := map[string]string{vault.ByFile: "key file", vault.ByKeyring: "the system's keyring"}[i.By]
					if way == "" {
						way = i.By
					}
					e.Facts([2]string{"protected by", way}, [2]string{"state", state}, [2]string{"secrets", i.Secrets}, [2]string{"opened by", i.Identity},
						[2]string{"created", i.Made.Format(time.DateOnly)})
				})
			})
		}}
}

func vaultUnlock() *Command {
	return &Command{Name: "unlock", Short: "open the vault for a time", Gives: Vaulted{},
		Long: `Asks for the passphrase, or takes it from standard input, and starts a small process
that holds the vault open for you alone and ends by itself. A vault that the system's
keyring protects is opened by that: the keyring asks for its own password.`,
		Options: func(o *flag.FlagSet) Run {
			long := o.Duration("within", defaultUnlock, "lock it again within this `time`, such as 30m or 8h")
			preview := previewOption(o)
			return vaultWork(preview, func(ctx context.Context, e *Env, d *desk.Desk) (string, error) {
				if *preview {
					_, found, err := d.Vault.Info(ctx)
					if err == nil && !found {
						err = vault.Missing()
					}
					return "Ask for what opens the vault, and open it for " + long.String(), err
				}
				says, err := e.unlock(ctx, d, *long)
				if err != nil {
					return "", err
				}
				n, err := credentials.AgentUntil(ctx, d, time.Now().Add(*long))
				return e.withAgent(says, n, "The SSH agent has %s until then.", err), nil
			})
		}}
}

func vaultLock() *Command {
	return &Command{Name: "lock", Short: "lock the vault now", Gives: Vaulted{},
		Long: "Tokens that were held in memory for this session are forgotten too.",
		Options: func(o *flag.FlagSet) Run {
			preview := previewOption(o)
			return vaultWork(preview, func(ctx context.Context, e *Env, d *desk.Desk) (string, error) {
				if *preview {
					_, found, err := d.Vault.Info(ctx)
					if err == nil && !found {
						err = vault.Missing()
					}
					return "Lock the vault, and take its keys out of the SSH agent", err
				}
				n, agent := credentials.OutOfAgent(d) // also where the vault itself cannot be locked
				says, err := e.lock(ctx, d)
				if err != nil {
					return "", err
				}
				return e.withAgent(says, n, "The SSH agent no longer has %s.", agent), nil
			})
		}}
}

func vaultChange() *Command {
	return &Command{Name: "change", Short: "protect the vault in another way, or by another passphrase", Gives: Vaulted{},
		Long:     "The secrets are encrypted again; what opened the vault before no longer does. The vault must be open,\nor its passphrase is asked for.",
		Examples: []string{"uncinate vault change --by passphrase"},
		Options: func(o *flag.FlagSet) Run {
			by := o.String("by", "", "`how` it is protected from now on: passphrase, keyring or file")
			preview := previewOption(o)
			return vaultWork(preview, func(ctx context.Context, e *Env, d *desk.Desk) (string, error) {
				if !slices.Contains(vault.Ways, *by) {
					return "", sayHow("change")
				}
				if *preview {
					_, found, err := d.Vault.Info(ctx)
					if err == nil && !found {
						err = vault.Missing()
					}
					return "Encrypt the secrets again, protected by " + vaultWay(*by), err
				}
				if err := d.Vault.Ready(ctx); err != nil {
					return "", err
				}
				return e.protect(ctx, d, *by, "changed", d.Vault.Change)
			})
		}}
}

func vaultHold() *Command {
	return &Command{Name: "hold", Hidden: true, Short: "hold the vault open; started by unlock",
		Options: func(*flag.FlagSet) Run {
			return func(ctx context.Context, e *Env, _ []string) error { return vault.Hold(ctx, e.In) }
		}}
}
