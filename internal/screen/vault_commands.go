package screen

import (
	"context"
	"flag"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/job"
	"uncinate/internal/world/vault"
)

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
	return e.protect(d, by, "made", d.Vault.Make)
}

// protect makes or changes the vault, with a new passphrase if it takes one.
func (e *Env) protect(d *job.Desk, by, done string, how func(by, passphrase string) error) error {
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
				return fault.New(fault.Usage, "the two passphrases are not the same; nothing was %s", done)
			}
		}
	}
	if err := how(by, passphrase); err != nil {
		return err
	}
	if by == vault.ByFile {
		e.Say("The vault is %s. Its key lies in a file beside it: whoever can read your files can open it.", done)
		return nil
	}
	until, err := d.Vault.Unlock(d.Program, passphrase, defaultUnlock)
	if err != nil {
		return err
	}
	e.Say("The vault is %s, and open until %s.", done, until.Format("15:04"))
	return nil
}

const defaultUnlock = 8 * time.Hour

func vaultCommand() *Command {
	return &Command{Name: "vault", Short: "keep secrets: make, show, unlock, lock, change",
		Long: "The vault is one encrypted file (age). What opens it is wrapped by a passphrase, or lies in a key file.",
		Subs: []*Command{
			{Name: "make", Short: "make the vault of this machine",
				Examples: []string{"uncinate vault make --by passphrase", "uncinate vault make --by file"},
				Options: func(o *flag.FlagSet) Run {
					by := o.String("by", "", "the `way` in which it is protected: passphrase or file")
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
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, _ []string) error {
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
					})
				}},
			{Name: "unlock", Short: "open the vault for a time",
				Long: "Asks for the passphrase, or takes it from standard input, and starts a small process that holds the vault open for you alone and ends by itself.",
				Options: func(o *flag.FlagSet) Run {
					long := o.Duration("for", defaultUnlock, "how long, a `time` such as 30m or 8h")
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, _ []string) error {
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
					})
				}},
			{Name: "lock", Short: "lock the vault now",
				Options: func(*flag.FlagSet) Run {
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, _ []string) error {
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
					})
				}},
			{Name: "change", Short: "protect the vault in another way, or by another passphrase",
				Long:     "The secrets are encrypted anew; what opened the vault before opens it no more. The vault must be open, or its passphrase is asked for.",
				Examples: []string{"uncinate vault change --by passphrase"},
				Options: func(o *flag.FlagSet) Run {
					by := o.String("by", "", "the `way` in which it is protected from now on: passphrase or file")
					return withDesk(func(_ context.Context, e *Env, d *job.Desk, _ []string) error {
						if *by == "" {
							return fault.New(fault.Usage, "say how the vault is to be protected").
								Try("by a passphrase that you type", "uncinate vault change --by passphrase").
								Try("or by a key file that anyone who can read your files can use", "uncinate vault change --by file")
						}
						if err := d.Vault.Ready(); err != nil {
							return err
						}
						return e.protect(d, *by, "changed", d.Vault.Change)
					})
				}},
			{Name: "hold", Hidden: true, Short: "hold the vault open; started by unlock",
				Options: func(*flag.FlagSet) Run {
					return func(ctx context.Context, e *Env, _ []string) error { return vault.Hold(ctx, e.In) }
				}},
		}}
}
