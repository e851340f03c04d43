package credentials

import (
	"context"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/world/files"
	"uncinate/internal/world/openssh"
)

// AnswerSSH gives ssh the passphrase of a key: what it asks must name the key's file.
// Nobody is asked for what opens the vault.
func AnswerSSH(ctx context.Context, d *desk.Desk, fingerprint, prompt string) (string, error) {
	all, err := accounts.Keys(d)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(all, func(k *accounts.Key) bool { return k.Fingerprint() == fingerprint })
	if i < 0 {
		return "", fault.New(fault.Failed, "this machine no longer knows a key %s", text.Quote(fingerprint)).Try("see the known ones", "uncinate key list")
	}
	k := all[i]
	if !asksFor(prompt, k.File) {
		return "", fault.New(fault.Refused, "ssh asks for something else than the passphrase of %s, and that is not answered", text.Visible(k.File))
	}
	return accounts.Passphrase(ctx, d, k, false)
}

// mostNamed is how many bytes of a file's name ssh puts into its question.
const mostNamed = 100

// asksFor reports whether a question is for the passphrase of a key's file. ssh names the file, or the
// beginning of a long name; ssh-keygen, which only the account's own signing runs with this program,
// may not.
func asksFor(prompt, file string) bool {
	asked := strings.TrimRight(prompt, ": ")
	named := strings.TrimSuffix(strings.TrimSuffix(asked, "'"), "\"")
	return asked == "Enter passphrase" || strings.HasSuffix(named, file) || len(file) > mostNamed && strings.HasSuffix(named, "'"+file[:mostNamed])
}

// AgentUntil gives this machine's sealed keys to the session's SSH agent until a time, and
// tells how many it took.
func AgentUntil(ctx context.Context, d *desk.Desk, until time.Time) (int, error) {
	return inAgent(d, func(x *openssh.Agent, k *accounts.Key) error {
		private, err := files.Read(k.File, 64<<10)
		if err != nil {
			return err
		}
		passphrase, err := accounts.Passphrase(ctx, d, k, false)
		if err != nil {
			return err
		}
		return x.Add(private, passphrase, k.Half().Comment, until.Sub(d.Now()))
	})
}

// OutOfAgent takes them out of the agent again.
func OutOfAgent(d *desk.Desk) (int, error) {
	return inAgent(d, func(x *openssh.Agent, k *accounts.Key) error { return x.Remove(k.Half()) })
}

func inAgent(d *desk.Desk, do func(*openssh.Agent, *accounts.Key) error) (int, error) {
	x, err := openssh.FindAgent()
	if err != nil {
		return 0, nil // none is needed: ssh asks for the passphrase, and the vault answers
	}
	all, err := accounts.Keys(d)
	n := 0
	for _, k := range all {
		if k.Sealed && err == nil {
			if err = do(x, k); err == nil {
				n++
			}
		}
	}
	return n, err
}
