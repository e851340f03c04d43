package project

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Signed makes sure that git knows who commits.
func Signed(f *Folder) error {
	set := map[string]string{}
	for _, s := range f.Settings {
		set[strings.ToLower(s.Key)] = s.Value
	}
	for _, key := range []string{"user.name", "user.email"} {
		if set[key] == "" {
			return fault.New(fault.Decision, "nothing says who commits here: git has no %s", key).
				Try("say it for this project", text.Command("git", "-C", f.Path, "config", key, map[string]string{"user.name": "YOUR NAME", "user.email": "YOU@EXAMPLE"}[key])).
				Try("or attach the project, which takes it from the account", text.Command("uncinate", "attach", f.Path))
		}
	}
	return nil
}

// sshCause finds out whether a failed talk of git is the sign-in's fault: nil if not.
func sshCause(ctx context.Context, d *desk.Desk, r *login.Route, failed error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var said *git.Error
	if !errors.As(failed, &said) {
		return nil
	}
	if r.Key == nil { // the person's own way: what ssh said is told as it is
		return nil
	}
	if _, err := r.SignsIn(ctx); err != nil {
		return err
	}
	f := fault.New(fault.HostSaidNo, "%s lets %s in, and not to this repository: there is none of that name, or it may not see it", text.Visible(r.Host), r.Key.Whose())
	for line := range strings.SplitSeq(said.Says, "\n") {
		if line = strings.TrimSpace(line); line != "" {
			f.Detail("git says: %s", text.Excerpt(line, 200))
		}
	}
	return f
}

// signersFile is where git finds whose signatures are good (ssh-keygen(1), ALLOWED SIGNERS).
func signersFile(d *desk.Desk) string { return filepath.Join(d.Home.State, "allowed_signers") }

// signing is what git is told to sign with (git-config documentation, gpg.format).
func (h *Tie) signing() string {
	var b strings.Builder
	fmt.Fprintf(&b, "[gpg]\n\tformat = ssh\n[gpg \"ssh\"]\n\tallowedSignersFile = %s\n", quoted(filepath.ToSlash(signersFile(h.Desk))))
	if h.Key.Sealed {
		fmt.Fprintf(&b, "\tprogram = %s\n", quoted(filepath.ToSlash(signProgram(h.Desk, h.Key))))
	}
	fmt.Fprintf(&b, "[user]\n\tsigningKey = %s\n[commit]\n\tgpgSign = true\n[tag]\n\tgpgSign = true\n", quoted(filepath.ToSlash(h.Key.File)))
	return b.String()
}

func signProgram(d *desk.Desk, k *accounts.Key) string {
	return filepath.Join(d.Home.State, "git", k.Account, "sign.sh")
}

// writeSigners lets the account's signatures be verified here: those of older keys too.
func writeSigners(d *desk.Desk, k *accounts.Key) error {
	a, err := accounts.Named(d, k.Account)
	if err != nil {
		return err
	}
	if err := a.Signs(); err != nil {
		return err
	}
	half := k.Half()
	half.Comment = ""
	line := a.Email + " namespaces=\"git\" " + half.Line()
	old, err := files.Read(signersFile(d), 1<<20)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if !strings.Contains("\n"+string(old), "\n"+line+"\n") {
		if err := files.Write(signersFile(d), append(old, line+"\n"...), 0o600); err != nil {
			return err
		}
	}
	if !k.Sealed {
		return nil
	}
	r := &login.Route{Desk: d, Key: k}
	if err := r.WriteAsks(); err != nil {
		return err
	}
	return desk.Keep(signProgram(d, k), "#!/bin/sh\nSSH_ASKPASS="+text.Quote(filepath.ToSlash(r.Asks()))+" SSH_ASKPASS_REQUIRE=force exec ssh-keygen \"$@\"\n", 0o700)
}
