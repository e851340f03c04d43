package login

import (
	"context"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/world/openssh"
)

// overSSH does an action by a command that the host offers over SSH. What it prints is
// read like an answer; how it ended counts as a status: 200 where it went well, 422 where
// it did not, with what it said on standard error as the host's own words.
func (l *Login) overSSH(ctx context.Context, act *description.Action, what string, vars description.Vars, got func(description.Result)) error {
	at, err := l.Host.SshAddress()
	if err != nil {
		return err
	}
	k, err := accounts.KeyOf(l.Desk, l.Account.Name, accounts.KeyInForce)
	if err == nil && k == nil {
		err = accounts.NoKey(l.Desk, l.Account)
	}
	if err != nil {
		return err
	}
	r := FindRoute(l.Desk, k, at)
	if _, err := r.SignsIn(ctx); err != nil {
		return err
	}
	q := act.Requests[0]
	all := description.Vars{"user": l.user()}
	maps.Copy(all, vars)
	words, err := q.Words(l.Host.Description, all)
	if err != nil {
		return err
	}
	ssh, err := openssh.Find(l.Desk.Log)
	if err != nil {
		return err
	}
	args := []string{"-F", r.File(), "-T", "-o", "ConnectTimeout=15", "-o", "LogLevel=ERROR"}
	result, err := ssh.Run(ctx, openssh.Cmd{Args: append(slices.Concat(args, openssh.Target(at.User, at.Host)), words), Env: r.Environment()})
	if err != nil {
		return err
	}
	if result.Code == openssh.Failed {
		return r.refusal(ctx, result.Errs)
	}
	answer := description.Answer{Status: 200, Body: result.Out}
	if result.Code != 0 {
		answer.Status = 422
	}
	if m, said, refused := l.Host.Refused(answer); refused {
		if said == "" {
			said = text.Excerpt(strings.TrimSpace(result.Errs), 300)
		}
		return l.refused(m, said, answer, what, act)
	}
	if q.Fields == nil && q.Items == nil {
		return nil // what it prints is for people
	}
	read, err := q.Read(l.Host.Description, answer, all)
	if err != nil {
		return fault.New(fault.Unreachable, "what %s printed is not what its description expects, when asked to %s", l.Host.Name, what).Because(err).
			Detail("It begins: %s", text.Excerpt(string(result.Out[:min(len(result.Out), 200)]), 80))
	}
	if l.Trace != nil {
		l.Trace(Exchange{Action: act.Name, Call: description.Call{Method: "ssh", URL: words}, Result: read})
	}
	got(read)
	return nil
}
