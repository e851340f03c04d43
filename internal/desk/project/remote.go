package project

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Refs asks an address for its refs on behalf of an account.
func Refs(ctx context.Context, d *desk.Desk, h *Tie, token string) (web.Refs, error) {
	var beyond error // what this program cannot do, and git perhaps can
	if h.Account != nil && h.Address.Scheme != "ssh" {
		if token == "" {
			var err error
			if token, err = accounts.Token(ctx, d, h.Account, true); err != nil {
				return web.Refs{}, err
			}
		}
		accounts.Warn(d, h.Account)
		refs, err := login.GitRefs(ctx, d, h.Account, token, h.Address)
		if noted := noteAccepted(ctx, d, h.Account, err); noted != nil {
			return refs, noted
		}
		if !web.Beyond(err) {
			return refs, rightAccount(ctx, d, h, err)
		}
		beyond = err
	}
	if err := h.WriteInclude(ctx); err != nil {
		return web.Refs{}, err
	}
	if err := files.MakeFolder(d.Home.State, 0o700); err != nil {
		return web.Refs{}, err
	}
	ids, head, err := h.Repo.Refs(ctx, d.Home.State, h.Address.String(), h.Config()...)
	if err != nil {
		if r := h.Route(); r != nil {
			if why := sshCause(ctx, d, r, err); why != nil {
				return web.Refs{}, rightAccount(ctx, d, h, why)
			}
		}
		if beyond != nil { // git cannot either
			return web.Refs{}, beyond
		}
		if why := unknownKey(ctx, d, h, err); why != nil {
			return web.Refs{}, why
		}
		return web.Refs{}, unregistered(d, h, Diagnose(ctx, d, h.Address, err))
	}
	return web.Refs{IDs: ids, Head: head, Format: web.FormatOf(ids)}, nil
}

// unknownKey is the fault when the person's own ssh refused a host since it does not know its key; else nil.
func unknownKey(ctx context.Context, d *desk.Desk, h *Tie, err error) error {
	var said *git.Error
	if h.Address.Scheme != "ssh" || !errors.As(err, &said) || !strings.Contains(said.Says, "Host key verification failed") || git.OverridesSSH() != "" {
		return nil
	}
	var unknown *login.UnknownHost
	if _, why := login.KnownHereAlone(ctx, d, h.Address); errors.As(why, &unknown) {
		return why
	}
	return nil
}

// Vacant asks a repository without any commit what its first branch is to be called, and how its objects are named; ""
// for what it does not say. sends says that the person means to send there, and may be asked for more.
func Vacant(ctx context.Context, d *desk.Desk, h *Tie, told web.Refs, sends bool) (head, format string) {
	if h.Address.Scheme == "ssh" {
		head, format, err := h.Repo.Vacant(ctx, d.Home.State, h.Address.String(), sends, h.Config()...)
		if err != nil {
			d.Log.Debug("what an empty repository says of itself", "address", h.Address.String(), "why", err)
		}
		return head, format
	}
	user, secret := "", ""
	if h.Account != nil {
		token, err := accounts.Token(ctx, d, h.Account, true)
		if err == nil {
			user, secret, err = login.GitLogin(ctx, d, h.Account, token)
		}
		if err != nil {
			return "", told.Format
		}
	}
	head, format = d.Web.Vacant(ctx, h.Address, user, secret)
	return head, cmp.Or(format, told.Format)
}

// NoteHeadless tells, of a repository to which a branch was just sent, that whoever clones it gets no files, since its
// default branch is another one that is not there.
func NoteHeadless(d *desk.Desk, at address.Address, told web.Refs, branch string) {
	if told.IDs["HEAD"] == "" && told.Branch(branch) != "" {
		d.Tell.Note("Note: whoever clones %s gets an empty folder, since its default branch is not there. On the server: git symbolic-ref HEAD %s", at.String(), text.Quote("refs/heads/"+branch))
	}
}

// Receive runs git fetch for what args name, and tells how far it is. What is received goes where args say, and
// nowhere else (git-fetch documentation, --refmap).
func Receive(ctx context.Context, d *desk.Desk, work *git.Work, config []git.Set, args ...string) error {
	_, err := work.Run(ctx, git.Cmd{Config: config, Stall: git.Stall, Watch: Watch(d, "Receiving", "Receiving objects"),
		Args: append([]string{"fetch", "--progress", "--no-auto-maintenance", "--refmap="}, args...)})
	d.Tell.Progress("Receiving", 0, 0, "")
	return err
}

// noteAccepted notes that the host refused an account's token, or that it takes it again, and says in
// the first case what to do; nil where the token is not what it failed by.
func noteAccepted(ctx context.Context, d *desk.Desk, a *accounts.Account, err error) error {
	switch {
	case err == nil && a.Doubtful.IsZero():
		return nil
	case err == nil:
		return accounts.NoDoubt(ctx, d, a.Name)
	case !errors.Is(err, web.ErrNotAccepted):
		return nil
	}
	f := *fault.Of(err)
	if err := accounts.Doubt(ctx, d, a.Name); err != nil {
		return err
	}
	return f.Try("give the account a token that is valid", a.Again()).Try("see what the host says of the present one", text.Command("uncinate", "token", "test", a.Name))
}

// unregistered says of a copy to which no account belongs how it gets one, where there is one for its host.
func unregistered(d *desk.Desk, h *Tie, err error) error {
	host, _, _, known := hosts.Recognise(d, h.Address.String())
	if h.Account != nil || known != nil || host == nil || !fault.Is(err, fault.HostSaidNo) {
		return err
	}
	if all, listed := accounts.On(d, host.Name); listed != nil || len(all) == 0 {
		return err
	}
	f := *fault.Of(err)
	f.Remedies = nil
	return f.Try("register this copy, so that your account signs in", text.Command("uncinate", "project", "find", filepath.Dir(h.Repo.Dir)))
}

// Diagnose finds the true cause of a failed talk of git with an address.
func Diagnose(ctx context.Context, d *desk.Desk, at address.Address, err error) error {
	if ctx.Err() != nil {
		return git.Fault(err, "git cannot reach %s", at.String())
	}
	if at.Scheme == "ssh" {
		return overSSH(at, err)
	}
	if _, probed := d.Web.Refs(ctx, at, "", ""); probed != nil {
		h, _, _, known := hosts.Recognise(d, at.String())
		if known == nil && h != nil && h.Actions["identify"] != nil && fault.Is(probed, fault.HostSaidNo) {
			f := *fault.Of(probed)
			f.Remedies = nil
			return f.Try("add your account there", text.Command("uncinate", "account", "add", "--host", h.Name))
		}
		return probed
	}
	return git.Fault(err, "git cannot work with %s", at.String())
}

// overSSH names the cause of a failed talk of git over SSH, by the person's own way, from what the SSH
// client and the server said; their words are kept.
func overSSH(at address.Address, err error) error {
	f := fault.Of(git.Fault(err, "git cannot reach %s", at.String()))
	var said *git.Error
	if !errors.As(err, &said) {
		return f
	}
	host, port, split := strings.Cut(at.Host, ":")
	scan := []string{"ssh-keyscan", host}
	if split {
		scan = []string{"ssh-keyscan", "-p", port, host}
	}
	switch has := func(words string) bool { return strings.Contains(said.Says, words) }; {
	case has("REMOTE HOST IDENTIFICATION HAS CHANGED"):
		f.Kind, f.Says = fault.Unreachable, at.Host+" shows another SSH key than the one by which it is known here"
		return f.Try("see which keys it shows, and ask its operator whether they are its own", text.Command(scan...))
	case has("Host key verification failed"):
		f.Kind, f.Says = fault.Unreachable, "nothing confirms yet that the SSH key of "+at.Host+" is the right one"
		return f.Try("see which keys it shows, and ask its operator whether they are its own", text.Command(scan...))
	case has("Permission denied"):
		f.Kind, f.Says = fault.HostSaidNo, at.Host+" accepts none of the SSH keys that were offered"
		return f.Try("see your keys", "uncinate key list")
	case has("Could not resolve hostname"):
		f.Kind, f.Says = fault.Unreachable, "there is no host named "+host
	case has("Connection refused"):
		f.Kind, f.Says = fault.Unreachable, at.Host+" cannot be reached over SSH: nothing listens there (connection refused)"
	case has("timed out"), has("No route to host"), has("Network is unreachable"):
		f.Kind, f.Says = fault.Unreachable, at.Host+" cannot be reached over SSH: it did not answer"
	case has("does not appear to be a git repository"), has("no such repository"), has("not found"), has("does not exist"):
		f.Kind, f.Says = fault.HostSaidNo, "there is no repository at "+at.String()+", or you may not see it"
	case has("bad line length character"):
		f.Kind, f.Says = fault.Unreachable, "what "+at.Host+" sends first is not git's: something there speaks at the door, such as a script that runs at each sign-in"
	case has("Could not read from remote repository"):
		f.Kind, f.Says = fault.HostSaidNo, at.Host+" was reached, and did not let git have "+at.String()
	}
	return f
}

// Sent is one ref that a push sets on the host.
type Sent struct {
	From string // a ref or commit here; "" takes the ref there away
	To   string // the whole name of the ref there
	Was  string // the commit that must be there, for one that is not only moved forward; "" for any that is older
}

// Sending is what a push sends.
type Sending struct {
	Refs    []Sent
	Follows bool // the branches here follow those there from then on
	Whole   bool // all of it, or nothing
}

// how tells whether a ref is rewritten, or taken away, by what is sent.
func (s Sending) how(ref string) (rewrites, deletes bool) {
	for _, r := range s.Refs {
		if r.To == ref {
			return r.Was != "" && r.From != "", r.From == ""
		}
	}
	return false, false
}

// SendBranch sends a branch under its own name.
func SendBranch(name string) Sent {
	return Sent{From: "refs/heads/" + name, To: "refs/heads/" + name}
}

// words are the words of git push (its documentation).
func (s Sending) words(remote string) []string {
	args, refs := []string{"push", "--progress", "--porcelain"}, []string{"--", remote}
	if s.Whole {
		args = append(args, "--atomic")
	}
	if s.Follows {
		args = append(args, "--set-upstream")
	}
	for _, r := range s.Refs {
		if r.Was != "" {
			args = append(args, "--force-with-lease="+r.To+":"+r.Was)
		}
		refs = append(refs, r.From+":"+r.To)
	}
	return append(args, refs...)
}

// Push runs git push with its progress handed on, and finds the cause of a failure.
func Push(ctx context.Context, d *desk.Desk, h *Tie, sending Sending) error {
	work, err := h.Work()
	if err != nil {
		return err
	}
	out, err := work.Run(ctx, git.Cmd{Args: sending.words(h.Remote), Config: h.Shared(), Watch: Watch(d, "Sending", "Writing objects")})
	d.Tell.Progress("Sending", 0, 0, "")
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	for line := range strings.SplitSeq(string(out), "\n") {
		if flag, rest, ok := strings.Cut(line, "\t"); ok && flag == "!" {
			_, summary, _ := strings.Cut(rest, "\t")
			if strings.Contains(summary, "fetch first") || strings.Contains(summary, "non-fast-forward") {
				return fault.New(fault.Decision, "%s was pushed to by someone else meanwhile", h.Address.String()).Because(err).
					Try("bring that in first", "uncinate sync")
			}
			_, ref, _ := strings.Cut(rest[:max(0, strings.IndexByte(rest, '\t'))], ":")
			f := git.Fault(err, "%s did not take the work: %s", h.Address.String(), text.Excerpt(summary, 120))
			return guarded(ctx, d, h, sending, ref, f)
		}
	}
	if _, look := Refs(ctx, d, h, ""); look != nil {
		return look
	}
	if why := ReadOnly(ctx, d, h); why != nil {
		return why
	}
	var said *git.Error
	if errors.As(err, &said) && strings.Contains(said.Says, "git-http-push failed") { // git's last way, without a git server
		return fault.New(fault.HostSaidNo, "%s serves files alone: one receives from it, and nothing can be sent there", h.Address.String()).Because(err).
			Detail("Your commits stay here.")
	}
	if errors.As(err, &said) && h.Address.Scheme == "ssh" && strings.Contains(said.Says, "Could not read from remote repository") { // it gave its refs just now
		return git.Fault(err, "%s lets you read, and not send", h.Address.String())
	}
	if errors.As(err, &said) && h.Account != nil && (strings.Contains(said.Says, "returned error: 403") || strings.Contains(said.Says, "Authentication failed")) { // it was let in to read just now
		if why := login.MaySend(d, h.Account); why != nil {
			return fault.Of(why).Because(err).Detail("Your commits stay here.")
		}
		return fault.New(fault.HostSaidNo, "%s lets %s read, and not send", h.Address.String(), text.Visible(h.Account.User)).Because(err).
			Detail("Your commits stay here.")
	}
	return git.Fault(err, "git could not send the work to %s", h.Address.String())
}

// phases are what git tells of its work, in our words.
var phases = map[string]string{"Enumerating objects": "Looking", "Counting objects": "Counting", "Compressing objects": "Packing", "Resolving deltas": "Putting together",
	"Unpacking objects": "Putting together", "Updating files": "Writing files", "Checking out files": "Writing files", "Checking connectivity": "Checking"}

// Watch turns lines of git's progress into told progress: those about one thing under a label, the others under their own.
func Watch(d *desk.Desk, label, about string) func(string) {
	return func(line string) {
		p, ok := git.ParseProgress(line)
		if !ok {
			return
		}
		what, more := phases[p.What], p.Speed
		if p.What == about {
			what = label
		}
		if p.Size != "" {
			more = p.Size + ", " + p.Speed
		}
		if what != "" && p.Total > 0 {
			d.Tell.Progress(what, p.Done, p.Total, more)
		}
	}
}

// WithoutSecret gives an address without user and secret, to be shown.
func WithoutSecret(to string) string {
	if a, err := address.Parse(to); err == nil {
		return a.Bare().String()
	}
	return to
}

// rightAccount adds to a refusal, met in a attached project, which other account can see
// the repository.
func rightAccount(ctx context.Context, d *desk.Desk, h *Tie, err error) error {
	if h.Account == nil || h.Account.Host == "" || !fault.Is(err, fault.HostSaidNo) || ctx.Err() != nil {
		return err
	}
	_, owner, name, known := hosts.Recognise(d, h.Address.String())
	if known != nil || name == "" {
		return err
	}
	names := login.WhoSees(ctx, d, h.Account.Host, h.Account, owner, name, false)
	if errors.Is(err, web.ErrNoRepository) && len(names) == 0 {
		f := *fault.Of(err)
		where := []string{"uncinate", "status", h.Repo.Dir}
		f.Says = fmt.Sprintf("there is no repository at %s, or %s may not see it", h.Address.String(), text.Visible(h.Account.User))
		if was, look := h.Repo.Do(ctx, "for-each-ref", "--count=1", "refs/remotes/"+h.Remote+"/"); h.Remote != "" && look == nil && was != "" {
			f.Detail("It was there before: it was deleted or moved, or the access of %s was taken back. Whoever owns it knows.", text.Visible(h.Account.User))
			f.Try("see whether it was moved", text.Command(where...))
		}
		return f.Try("see those that there are", text.Command("uncinate", "repository", "list", "--account", h.Account.Name)).
			Try("if it was deleted, untie the project, and attach it to a new one", text.Command("uncinate", "detach", h.Repo.Dir))
	}
	return login.Others(fault.Of(err), names, "see it", func(account string) string {
		return text.Command("uncinate", "attach", "--account", account, h.Repo.Dir)
	})
}

// hosted asks the host of a tie's account for its repository, to find the cause of what failed; false
// where it cannot be asked, or shows none.
func hosted(ctx context.Context, d *desk.Desk, h *Tie) (*login.Login, description.Repository, bool) {
	var none description.Repository
	if h.Account == nil || h.Account.Host == "" {
		return nil, none, false
	}
	_, owner, name, err := hosts.Recognise(d, h.Address.String())
	if err != nil || name == "" {
		return nil, none, false
	}
	l, err := login.Open(ctx, d, h.Account)
	if err != nil {
		return nil, none, false
	}
	there, found, err := l.Repository(ctx, owner, name)
	return l, there, found && err == nil
}

// guarded adds to a push that the host refused that the branch is protected, where the host tells so, and
// the way that works.
func guarded(ctx context.Context, d *desk.Desk, h *Tie, sending Sending, ref string, err error) error {
	branch, is := strings.CutPrefix(ref, "refs/heads/")
	if !is || ctx.Err() != nil {
		return err
	}
	l, there, found := hosted(ctx, d, h)
	if !found || l.Host.Actions["protection-list"] == nil {
		return err
	}
	all, look := l.Protections(ctx, there)
	i := slices.IndexFunc(all, func(p login.Protection) bool { return p.Branch == branch })
	if look != nil || i < 0 {
		return err
	}
	says := all[i].Says()
	rewrites, deletes := sending.how(ref)
	if !all[i].Forbids(l.Account.User, there.Right, rewrites, deletes) { // it may be of another cause
		f := *fault.Of(err)
		return f.Detail("%s is protected there%s.", text.Visible(branch), text.Either(says == "", "", ": "+says))
	}
	f := fault.New(fault.HostSaidNo, "%s is protected on %s, so it did not take the work", text.Visible(branch), l.Host.Name).Because(err)
	if says != "" {
		f.Detail("Its protection: %s.", says)
	}
	for _, line := range fault.Of(err).Details {
		if strings.HasPrefix(line, "git says: remote:") && !strings.Contains(line, "hook declined") {
			f.Detail("%s", line)
		}
	}
	f.Detail("Your commits are kept here, unsent.")
	if l.Host.Actions["offer-make"] != nil && l.Host.Actions["offer-list"] != nil {
		return f.Try("offer them, on a branch of their own, to be merged there", text.Command("uncinate", "offer", "create", "--into", branch, "--folder", h.Repo.Dir))
	}
	return f.Try("send them on a branch of their own, to be merged there", text.Command("uncinate", "branch", "make", h.Account.User+"-"+strings.ReplaceAll(branch, "/", "-"), "--publish", "--folder", h.Repo.Dir))
}

// ReadOnly finds out whether a failed push failed because the account may only read.
func ReadOnly(ctx context.Context, d *desk.Desk, h *Tie) error {
	l, there, found := hosted(ctx, d, h)
	if !found {
		return nil
	}
	if there.Archived {
		f := fault.New(fault.HostSaidNo, "%s is archived on %s: it may only be read", there.Path(), l.Host.Name)
		if there.Right == "write" || there.Right == "read" {
			return f.Detail("Who sees to its settings can end that.")
		}
		return f.Try("if that is to end", text.Command("uncinate", "repository", "archive", there.Path(), "--end", "--account", h.Account.Name))
	}
	if there.Right != "read" {
		return nil
	}
	f := fault.New(fault.HostSaidNo, "account %s may only read %s", h.Account.Name, there.Path())
	if act := l.Host.Actions["offer-make"]; h.Folder != nil && act != nil && act.Takes("from_owner") && l.Host.Actions["repository-copy"] != nil {
		f.Try("offer your commits to be merged there", text.Command("uncinate", "offer", "create", "--folder", h.Repo.Dir))
	}
	return login.Others(f, login.WhoSees(ctx, d, h.Account.Host, h.Account, there.Owner, there.Name, true), "send to it", func(account string) string {
		return text.Command("uncinate", "attach", "--account", account, h.Repo.Dir)
	})
}
