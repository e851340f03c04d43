// Package credentials is the work with keys and tokens: making, installing, rotating and revoking
// SSH keys, testing and replacing tokens, signing in, handing a token out, looking for copies of
// tokens, and answering git's credential protocol. Secrets go to the vault and to whoever is asked
// for them by a protocol, and nowhere else.
package credentials

import (
	"context"
	"io"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/gitcred"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
)

// Credential answers git's credential protocol for one account and one repository's
// address. action is get, store or erase; others are passed over, as git demands of
// helpers. A request for any other address gets no answer.
func Credential(ctx context.Context, d *desk.Desk, action, account, only string, in io.Reader, out io.Writer) error {
	target, err := address.Parse(only)
	if err != nil {
		return err
	}
	q, err := gitcred.Read(in)
	if err != nil {
		return err
	}
	if action != "get" && action != "erase" {
		return nil
	}
	a, err := accounts.Named(d, account)
	if err != nil {
		return stop(out, err)
	}
	if action == "erase" {
		user, _, err := login.GitLogin(ctx, d, a, "")
		if err != nil || !q.For(target, user) {
			return err
		}
		return accounts.Doubt(ctx, d, a.Name)
	}
	if !address.Guarded(q.Protocol, q.Host) {
		return stop(out, fault.New(fault.Refused, "plain http to %s would send the token unencrypted", q.Host))
	}
	if !q.For(target, q.User) {
		return nil
	}
	if err := login.MayGo(d, a, target); err != nil {
		return stop(out, err)
	}
	token, err := accounts.Token(ctx, d, a, false)
	if err != nil {
		return stop(out, err)
	}
	user, secret, err := login.GitLogin(ctx, d, a, token)
	if err != nil {
		return stop(out, err)
	}
	if !q.For(target, user) {
		return nil // git asks for another user than the account's
	}
	accounts.Warn(d, a)
	return gitcred.Answer(out, user, secret)
}

// stop keeps git from asking anyone else, and hands the reason on.
func stop(out io.Writer, why error) error {
	if err := gitcred.Stop(out); err != nil {
		return err
	}
	return why
}
