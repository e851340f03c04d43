package target

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/surveying"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// ChooseSigner decides whose name and e-mail the commits have: what was asked for,
// else what is in this repository, else the account's, else git's own.
func (t *Target) ChooseSigner(ctx context.Context) error {
	setting := func(scope, key string) string {
		value := ""
		for _, s := range t.Folder.Settings {
			if strings.EqualFold(s.Key, key) && (scope == "" || s.Scope == scope) {
				value = s.Value
			}
		}
		return value
	}
	choose := func(asked, key, account, former string) string {
		local := setting("local", key)
		if local == former && account != "" { // the account that it was attached with set it
			local = ""
		}
		for _, s := range []string{asked, local, account, setting("", key)} {
			if s != "" {
				return s
			}
		}
		if out, err := t.Folder.Repo.Do(ctx, "config", "--get", key); err == nil {
			return out
		}
		return ""
	}
	var of, former accounts.Account
	if t.Login != nil {
		of = *t.Login.Account
		if before, err := accounts.Named(t.Desk, t.Project.Account); err == nil && before.Name != of.Name {
			former = *before
		}
	}
	t.Name = choose(t.Options.FullName, "user.name", of.FullName, former.FullName)
	t.Email = choose(t.Options.Email, "user.email", of.Email, former.Email)
	if t.Name == "" || t.Email == "" {
		return fault.New(fault.Decision, "git has no name and e-mail for the commits").
			Try("say it for this project", t.Again("--full-name", "NAME", "--email", "ADDRESS"))
	}
	if strings.ContainsAny(t.Name+t.Email, "<>\n\x00") {
		return fault.New(fault.Usage, "a name or e-mail for commits cannot hold '<', '>' or a line end")
	}
	return nil
}

// CheckAddress settles the address, and what in the person's own configuration
// would lead git astray on the way to it.
func (t *Target) CheckAddress(ctx context.Context) error {
	over, err := t.transport()
	if err != nil {
		return err
	}
	at, err := address.Parse(over)
	if err != nil {
		return fault.New(fault.Unreachable, "the host names a clone address that cannot be used: %s", text.Excerpt(over, 80)).Because(err)
	}
	if at.Scheme == "http" && !address.Guarded("http", at.Host) {
		return fault.New(fault.Refused, "plain http to %s would send the token unencrypted", at.Host)
	}
	t.Tie = &project.Tie{Desk: t.Desk, Repo: t.Folder.Repo, Folder: t.Folder, Remote: t.Options.Remote, Address: at}
	user := ""
	if t.Login != nil {
		t.Tie.Account = t.Login.Account
	} else if t.Move != "" {
		t.Tie.Account = &t.moveFor
	} else if t.Tie.Account, err = t.plainAccount(); err != nil {
		return err
	}
	if t.Tie.Account == nil {
		if err := t.byItself(ctx); err != nil {
			return err
		}
	} else {
		if t.Options.Key != "" {
			return fault.New(fault.Usage, "the account %s signs in there, so no key is named besides", t.Tie.Account.Name)
		}
		if t.Tie.Key, err = accounts.KeyOf(t.Desk, t.Tie.Account.Name, accounts.KeyInForce); err != nil {
			return err
		}
		if err := t.checkKey(ctx); err != nil {
			return err
		}
		if user, _, err = login.GitLogin(ctx, t.Desk, t.Tie.Account, ""); err != nil {
			return err
		}
		if err := project.CheckNetrc(t.Desk, at, user); err != nil {
			return err
		}
	}
	if err := t.readSettings(ctx); err != nil {
		return err
	}
	if s := project.Rewrites(t.settings, at); s != nil && s.Scope != "local" {
		t.Tie.Rewrite = t.Login != nil
		if t.Tie.Rewrite {
			t.Notes = append(t.Notes, "Your git configuration turns this address into another ("+text.Visible(s.Key)+" in "+text.Visible(s.Origin)+"); for this project it is kept as it is.")
		}
	}
	return nil
}

// byItself settles the way over SSH without an account.
func (t *Target) byItself(ctx context.Context) error {
	if err := t.readSettings(ctx); err != nil {
		return err
	}
	if t.Options.Key != "" && t.Tie.Address.Scheme != "ssh" {
		return fault.New(fault.Usage, "a key opens repositories over SSH; %s is not gone to by SSH", t.Tie.Address.String())
	}
	if err := t.Tie.ByItself(t.Options.Key, t.settings); err != nil {
		return err
	}
	if t.Tie.Key != nil {
		return t.checkKey(ctx)
	}
	if t.Tie.Pinned || t.Tie.Address.Scheme == "ssh" && git.OverridesSSH() == "" && !t.Tie.OwnCommand(t.settings) {
		var err error
		t.Tie.Pinned, err = login.KnownHereAlone(ctx, t.Desk, t.Tie.Address)
		return err
	}
	return nil
}

// readSettings reads git's settings that hold for the folder, once.
func (t *Target) readSettings(ctx context.Context) (err error) {
	if t.settings != nil {
		return nil
	}
	if t.settings = t.Folder.Settings; !t.Folder.IsRepo || t.settings == nil {
		t.settings, err = t.Folder.Repo.Settings(ctx)
	}
	return git.Fault(err, "git's configuration cannot be read")
}

// RemoteRefs asks the hosted repository for its branches: over HTTP by ourselves
// with the account's secret, otherwise through git with the sign-in it has.
func (t *Target) RemoteRefs(ctx context.Context) (web.Refs, error) {
	if t.Move != "" && t.Login == nil {
		return t.Desk.Web.Refs(ctx, t.Tie.Address, t.moveFor.User, t.Move)
	}
	token := ""
	if t.Login != nil {
		token = t.Login.Token
	}
	return project.Refs(ctx, t.Desk, t.Tie, token)
}

// HostName is the known host that is attached to, "" for an address that no
// description covers.
func (t *Target) HostName() string {
	if t.Login == nil {
		return ""
	}
	return t.Login.Host.Name
}

// Again is an attach of the same folder with other options, as a command to paste.
func (w *Work) Again(options ...string) string {
	words := append([]string{"uncinate", "attach"}, options...)
	if given := w.Options.Folder; given != "." && given != "" {
		words = append(words, given)
	}
	return text.Command(words...)
}

// Headline says in a few words what the plan is for.
func (t *Target) Headline() string {
	what := t.Tie.Address.String()
	if t.Login != nil {
		what = t.Repository.Path() + " on " + t.Login.Host.Name
	}
	verb := "a new repository, "
	if !t.Create {
		verb = ""
	}
	return "To attach " + text.Visible(filepath.Base(t.Folder.Path)) + " to " + verb + what + ":"
}

// Lets are what the person lets through now; each needs a reason.
func (w *Work) Lets() ([]surveying.Let, error) {
	var let []surveying.Let
	for _, p := range w.Options.Let {
		let = append(let, surveying.Let{Path: p, Reason: w.Options.Reason, Since: w.Desk.Now().UTC().Truncate(time.Second)})
	}
	if len(let) > 0 && strings.TrimSpace(w.Options.Reason) == "" {
		return nil, fault.New(fault.Usage, "a file that is let up needs a reason, to be read later").
			Try("", w.Again("--let", w.Options.Let[0], "--reason", "TEXT"))
	}
	return let, nil
}
