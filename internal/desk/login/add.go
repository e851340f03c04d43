package login

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/world/web"
)

// HostWithAccounts finds a host whose description says how a token is tested, or one on whose repository it is tested.
func HostWithAccounts(d *desk.Desk, name, repository string) (*hosts.Host, error) {
	h, err := hosts.Named(d, name)
	if err == nil && h.Actions["identify"] == nil && repository == "" {
		return nil, fault.New(fault.HostSaidNo, "the description of %s does not say how a token is tested (it has no action identify)", h.Name).
			Try("name a repository there, on which it is tested", text.Command("uncinate", "account", "add", "--host", h.Name, "--user", "NAME", "--repository", "OWNER/NAME"))
	}
	return h, err
}

// AddAccount tests a token against its host at once and, if it is good, stores it in
// the vault. A known account of that name on that host gets the new token.
func AddAccount(ctx context.Context, d *desk.Desk, want accounts.Account, token string) (*accounts.Account, []string, error) {
	if token = strings.TrimRight(token, "\r\n"); want.Address == "" && want.Repository == "" { // a password may begin or end with a blank
		token = strings.TrimSpace(token)
	}
	h, err := hosts.Named(d, want.Host)
	if want.Host != "" && err == nil && h.Shell != nil {
		return addOnServer(ctx, d, h, want)
	}
	if err := canBe(token, want.Address != "" || want.Repository != ""); err != nil {
		return nil, nil, err
	}
	if want.Address != "" {
		return addAtAddress(ctx, d, want, token)
	}
	if h, err = HostWithAccounts(d, want.Host, want.Repository); err != nil {
		return nil, nil, err
	}
	if h.Actions["identify"] == nil {
		return addOnRepository(ctx, d, h, want, token)
	}
	if h.SignIn.TakesUser() && want.User == "" {
		return nil, nil, fault.New(fault.Usage, "%s also needs a user name", h.Name).
			Try("", want.Again("--user", "NAME"))
	}
	if err := beginsRight(h, token); err != nil && !want.OAuth {
		return nil, nil, err
	}
	asked := want
	l := &Login{Desk: d, Host: h, Account: &asked, Token: token}
	id, err := l.Identify(ctx)
	if err != nil {
		return nil, nil, err
	}
	if id.Active != nil && !*id.Active {
		return nil, nil, fault.New(fault.HostSaidNo, "%s says that the token is not valid", h.Name)
	}
	if id.User == "" {
		return nil, nil, fault.New(fault.Unreachable, "what answers at %s does not say whose token it is", h.At)
	}
	if want.User != "" && want.User != id.User {
		return nil, nil, fault.New(fault.Usage, "the token belongs to %s on %s, not to %s", text.Visible(id.User), h.Name, want.User)
	}
	a := want
	if before, err := accounts.Named(d, a.Name); err == nil && len(a.May) == 0 && before.Host == a.Host {
		a.May = before.May // it gets another token for the same
	}
	a.Origin = h.Origin()
	a.User, a.Scopes, a.ScopesTold, a.Expires, a.Added = id.User, id.Scopes, id.ScopesTold, id.Expires, d.Now().UTC().Truncate(time.Second)
	if a.OAuth && a.Expires.IsZero() {
		a.Expires = a.Ends
	}
	if a.Name == "" {
		a.Name = id.User
	}
	if a.FullName == "" {
		a.FullName = id.FullName
	}
	if a.Email == "" {
		a.Email = id.Email
	}
	var doubts []string
	if id.EmailConfirmed != nil && !*id.EmailConfirmed {
		doubts = append(doubts, "the e-mail "+text.Visible(a.Email)+" is not yet confirmed on "+h.Name)
	}
	if !a.OAuth {
		doubts = append(doubts, tokenDoubts(d, h, id, a.Wants())...)
	}
	l.Account = &a
	return &a, append(doubts, unfit(l)...), accounts.KeepAccount(ctx, d, &a, token)
}

// canBe refuses what can be no token, or, where that may be given, no password.
func canBe(token string, password bool) error {
	switch {
	case token == "":
		return fault.New(fault.Usage, "no token was given")
	case password && (strings.ContainsFunc(token, unicode.IsControl) || !utf8.ValidString(token)):
		return fault.New(fault.Usage, "what was given is not a password or token: there is a control character inside it")
	case !password && strings.ContainsFunc(token, func(r rune) bool { return r <= ' ' || r >= 0x7f }):
		return fault.New(fault.Usage, "what was given is not a token: there is a blank or a control character inside it")
	}
	return nil
}

// unfit says what a token may not that it is wanted for.
func unfit(l *Login) []string {
	var doubts []string
	a, h := l.Account, l.Host
	for _, need := range []struct{ action, what string }{{"repository-list", "list repositories"}, {"repository-create", "create repositories"}} {
		if missing := l.Lacks(need.action); len(a.May) == 0 && len(missing) > 0 {
			doubts = append(doubts, "the token may not "+need.what+": it lacks the scope "+strings.Join(missing, " and "))
		}
	}
	for _, w := range description.Wants {
		if missing := h.Lacking(a.Scopes, w.Needs); slices.Contains(a.May, w.Name) && a.ScopesTold && len(missing) > 0 {
			doubts = append(doubts, "the token may not "+w.Says+": it lacks the scope "+strings.Join(missing, " and "))
		}
	}
	return doubts
}

// beginsRight tells a password, or another host's token, from a token of the host, where the
// description knows how those begin. Nothing is sent to find out.
func beginsRight(h *hosts.Host, token string) error {
	if len(h.SignIn.Begins) == 0 || slices.ContainsFunc(h.SignIn.Begins, func(b string) bool { return strings.HasPrefix(token, b) }) {
		return nil
	}
	f := fault.New(fault.Usage, "this is not a token of %s: those begin with %s", h.Name, strings.Join(h.SignIn.Begins, " or "))
	if page := h.PageFor("token"); page != "" {
		f.Says = fmt.Sprintf("this is not a token of %s; tokens are made at %s", h.Name, page)
		f.Detail("They begin with %s. A password is of no use here.", strings.Join(h.SignIn.Begins, " or "))
	}
	return f
}

// addOnServer adds an account on a plain server: one gets in over SSH, and no token is kept.
func addOnServer(ctx context.Context, d *desk.Desk, h *hosts.Host, want accounts.Account) (*accounts.Account, []string, error) {
	if want.Name == "" {
		want.Name = want.User
	}
	if want.Name == "" {
		return nil, nil, fault.New(fault.Usage, "say whose the repositories on %s are to be: your name there, a folder of its own", h.Name).
			Try("", text.Command("uncinate", "account", "add", "NAME", "--host", h.Name))
	}
	if want.User == "" {
		want.User = want.Name
	}
	if err := shellPath(want.User); err != nil {
		return nil, nil, err
	}
	want.Origin, want.Added, want.NoToken = h.Origin(), d.Now().UTC().Truncate(time.Second), true
	l := &Login{Desk: d, Host: h, Account: &want}
	if _, err := l.Identify(ctx); err != nil {
		return nil, nil, err
	}
	var doubts []string
	if l.ownWay {
		doubts = append(doubts, "its key is not on "+h.Name+" yet; until then your own SSH configuration lets you in")
	}
	return &want, doubts, accounts.KeepAccount(ctx, d, &want, "")
}

// addAtAddress tests a user name and a token or password on a repository, at the address for which they are kept or below
// it.
func addAtAddress(ctx context.Context, d *desk.Desk, want accounts.Account, token string) (*accounts.Account, []string, error) {
	place, err := address.ParsePlace(want.Address)
	if err != nil {
		return nil, nil, err
	}
	if place.Scheme == "ssh" {
		return nil, nil, fault.New(fault.Usage, "an ssh address takes a key, not a token")
	}
	want.User = cmp.Or(want.User, place.User)
	again := func(more ...string) string {
		words := []string{"uncinate", "account", "add", "--at", place.Bare().String(), "--user", cmp.Or(want.User, "NAME")}
		return text.Command(append(words, more...)...)
	}
	if want.User == "" {
		return nil, nil, fault.New(fault.Usage, "the user name that belongs to the token is missing").Try("", again())
	}
	at := place
	switch {
	case want.Repository != "":
		if !strings.Contains(want.Repository, "://") {
			want.Repository = strings.TrimSuffix(place.Bare().String(), "/") + "/" + strings.Trim(want.Repository, "/")
		}
		if at, err = address.Parse(want.Repository); err != nil {
			return nil, nil, err
		}
		if !at.Within(place) {
			return nil, nil, fault.New(fault.Usage, "%s is not below %s, for which the account is", at.Bare().String(), place.Bare().String())
		}
	case place.Path == "":
		return nil, nil, fault.New(fault.Usage, "%s names a server; name a repository on it too, on which the sign-in is tested", place.Bare().String()).
			Try("", again("--repository", "NAME"))
	}
	if _, err := d.Web.Refs(ctx, at, want.User, token); err != nil {
		switch f := *fault.Of(err); {
		case errors.Is(err, web.ErrNoRepository):
			f.Says = fmt.Sprintf("there is no repository at %s, or %s may not see it", at.Bare().String(), text.Visible(want.User))
			if want.Repository == "" {
				f.Try("if several repositories are below it, name one, on which the sign-in is tested", again("--repository", "NAME"))
			}
			return nil, nil, &f
		case f.Kind == fault.HostSaidNo:
			f.Says = fmt.Sprintf("%s does not accept this user name and token", at.Bare().String())
			return nil, nil, &f
		}
		return nil, nil, err
	}
	want.Address, want.Added = place.Bare().String(), d.Now().UTC().Truncate(time.Second)
	if want.Repository = at.Bare().String(); want.Repository == want.Address {
		want.Repository = ""
	}
	if want.Name == "" {
		name, _, _ := strings.Cut(place.Host, ":")
		if place.Path != "" {
			name = place.Name()
		}
		want.Name = want.User + "-" + name
	}
	return &want, nil, accounts.KeepAccount(ctx, d, &want, token)
}

// addOnRepository tests a user name and a token or password on a repository of a host whose description has no other way
// to test them.
func addOnRepository(ctx context.Context, d *desk.Desk, h *hosts.Host, want accounts.Account, token string) (*accounts.Account, []string, error) {
	if want.User == "" {
		return nil, nil, fault.New(fault.Usage, "%s also needs a user name", h.Name).Try("", want.Again("--user", "NAME", "--repository", want.Repository))
	}
	if !strings.Contains(want.Repository, "://") {
		owner, name := naming.Split(want.Repository)
		at, err := h.Expand(h.HTTPS, description.Vars{"owner": owner, "name": name, "path": want.Repository})
		if err != nil || h.HTTPS == nil {
			return nil, nil, fault.New(fault.Failed, "the description of %s does not say at which address its repositories are over HTTP", h.Name).Because(err)
		}
		want.Repository = at
	}
	at, err := address.Parse(want.Repository)
	if err != nil {
		return nil, nil, err
	}
	want.Repository, want.Origin, want.Added = at.Bare().String(), h.Origin(), d.Now().UTC().Truncate(time.Second)
	if _, err := GitRefs(ctx, d, &want, token, at); err != nil {
		return nil, nil, err
	}
	if want.Name == "" {
		want.Name = want.User
	}
	return &want, nil, accounts.KeepAccount(ctx, d, &want, token)
}

// OnRepository tests the sign-in of an account that nothing else tests on its repository; false where the host tells
// whose token it is.
func OnRepository(ctx context.Context, d *desk.Desk, a *accounts.Account) (bool, error) {
	if a.Host != "" && a.Repository == "" {
		return false, nil
	}
	at, token, err := accounts.PlainLogin(ctx, d, a)
	if err == nil {
		_, err = GitRefs(ctx, d, a, token, at)
	}
	return true, err
}

// Superfluous names the scopes of a token beyond those that what it is wanted for, and deleting, take.
func Superfluous(d *description.Description, id description.Identity, wants []string) []string {
	least := d.LeastScopes(append([]string{"delete"}, wants...)...)
	if !id.ScopesTold || least == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(id.Scopes), func(s string) bool { return slices.Contains(least, s) })
}

// tokenDoubts are what is worth a word about a token that is good.
func tokenDoubts(d *desk.Desk, h *hosts.Host, id description.Identity, wants []string) []string {
	var doubts []string
	switch left := id.Expires.Sub(d.Now()); {
	case id.Expires.IsZero():
	case left < accounts.Soon:
		doubts = append(doubts, "the token ends soon, on "+id.Expires.Format(time.DateOnly))
	case left > accounts.TooFar:
		doubts = append(doubts, "the token ends only on "+id.Expires.Format(time.DateOnly)+"; whoever finds it can use it until then, so a nearer end is safer")
	}
	if more := Superfluous(h.Description, id, wants); len(more) > 0 {
		doubts = append(doubts, "the token may do more than is needed here: it has the "+text.Either(len(more) == 1, "scope ", "scopes ")+strings.Join(more, ", "))
	}
	return doubts
}
