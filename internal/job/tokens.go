package job

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// When a token's life is worth a word.
const (
	soon   = 14 * 24 * time.Hour  // before its end it is warned of
	tooFar = 366 * 24 * time.Hour // an end farther off is longer than a token should live
)

// Token is an account's token as it is told of, never itself.
type Token struct {
	Account     string    `json:"account"`
	On          string    `json:"on"`
	User        string    `json:"user"`
	State       State     `json:"state" says:"good, doubtful or bad"`
	Says        string    `json:"says"`
	Ends        time.Time `json:"ends,omitzero"`
	Scopes      []string  `json:"scopes,omitempty"`
	Superfluous []string  `json:"superfluous,omitempty" says:"scopes that nothing described needs for publishing"`
	Remedy      []string  `json:"remedy,omitempty"`
}

// ending tells how a token's end stands.
func ending(a *Account, now time.Time) (State, string) {
	left := a.Expires.Sub(now)
	switch {
	case a.OAuth && a.Doubtful.IsZero():
		return Good, "renewed by itself"
	case !a.Doubtful.IsZero():
		return Doubtful, "the host refused it on " + a.Doubtful.Format(time.DateOnly)
	case a.Expires.IsZero():
		return Good, "no end told"
	case left <= 0:
		return Bad, "ended on " + a.Expires.Format(time.DateOnly)
	case left < soon:
		return Doubtful, fmt.Sprintf("ends on %s, in %s", a.Expires.Format(time.DateOnly), text.Count(int(left/(24*time.Hour)), "day"))
	}
	return Good, "good until " + a.Expires.Format(time.DateOnly)
}

// hush keeps a job from warning of the very token that it replaces or takes away.
func (d *Desk) hush(a *Account) {
	s := d.common()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.warned == nil {
		s.warned = map[string]bool{}
	}
	s.warned[a.Name] = true
}

func (d *Desk) hushed(a *Account) bool {
	s := d.common()
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.warned[a.Name]
}

// warn says one line when the account's token ends soon.
func (d *Desk) warn(a *Account) {
	if left := a.Expires.Sub(d.Now()); !a.Expires.IsZero() && left < soon && left > 0 && !a.OAuth && !d.hushed(a) {
		d.hush(a)
		_, says := ending(a, d.Now())
		d.Tell.Note("Note: the token of account %s %s. Replace it: %s", a.Name, says, text.Command("uncinate", "token", "replace", a.Name))
	}
}

// Tokens lists the accounts' tokens as they were last known.
func (d *Desk) Tokens() ([]Token, error) {
	all, err := d.Accounts()
	out := []Token{}
	for _, a := range all {
		if a.NoToken {
			continue
		}
		t := Token{Account: a.Name, On: a.Where(), User: a.User, Ends: a.Expires, Scopes: a.Scopes}
		t.State, t.Says = ending(a, d.Now())
		if t.State != Good {
			t.Remedy = []string{text.Command("uncinate", "token", "replace", a.Name)}
		}
		out = append(out, t)
	}
	return out, err
}

// TestToken asks an account's host whether its token is good, and notes what it says.
func (d *Desk) TestToken(ctx context.Context, name string) (Token, error) {
	a, err := d.Account(name)
	if err != nil {
		return Token{}, err
	}
	t := Token{Account: a.Name, On: a.Where(), User: a.User, Ends: a.Expires, Scopes: a.Scopes}
	bad := func(err error) (Token, error) {
		f := fault.Of(err)
		if f.Kind == fault.Interrupted {
			return t, err
		}
		l := lineOf("", "", err)
		t.State, t.Says, t.Remedy = Bad, f.Says, l.Remedy
		return t, nil
	}
	if a.Host == "" {
		at, token, err := d.plainLogin(ctx, a)
		if err == nil {
			_, err = d.Web.Refs(ctx, at, a.User, token)
		}
		if err != nil {
			return bad(err)
		}
		t.State, t.Says = Good, "good for its address"
		return t, nil
	}
	l, err := d.login(ctx, a)
	if err != nil {
		return bad(err)
	}
	id, err := l.identify(ctx)
	if err != nil {
		return bad(err)
	}
	now := *a
	now.Scopes, now.ScopesTold, now.Expires, now.Doubtful = id.Scopes, id.ScopesTold, id.Expires, time.Time{}
	if err := d.noteAccount(&now); err != nil {
		return t, err
	}
	t.Scopes, t.Ends = id.Scopes, id.Expires
	t.State, t.Says = ending(&now, d.Now())
	if t.State != Good {
		t.Remedy = []string{text.Command("uncinate", "token", "replace", a.Name)}
	}
	t.Superfluous = superfluous(l.Host.Description, id)
	return t, nil
}

// superfluous names the scopes of a token beyond those that publishing and keys take.
func superfluous(d *description.Description, id description.Identity) []string {
	least := d.LeastScopes("publish", "delete", "keys")
	if !id.ScopesTold || least == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(id.Scopes), func(s string) bool { return slices.Contains(least, s) })
}

// noteAccount writes an account's entry anew; the token stays as it is.
func (d *Desk) noteAccount(a *Account) error {
	all, err := d.Accounts()
	if err != nil {
		return err
	}
	for i, b := range all {
		if b.Name == a.Name {
			all[i] = a
		}
	}
	return files.WriteJSON(d.accountsFile(), all)
}

// TokenAdvice says, before a token is made, which scopes it takes and where it is made.
func (h *Host) TokenAdvice(wants ...string) []string {
	var out []string
	if least := h.LeastScopes(wants...); len(least) > 0 {
		out = append(out, "It takes the scopes: "+strings.Join(least, ", ")+".")
	}
	if t := h.Pages["token"]; t != nil {
		if page, err := h.Expand(t, nil); err == nil {
			out = append(out, "Tokens are made at "+page+" ; let it end within a year.")
		}
	}
	if o := h.SignIn.OAuth; o != nil && len(o.Ways) > 0 {
		out = append(out, "Without a token: "+text.Command("uncinate", "account", "add", "--host", h.Name, "--by", o.Ways[0]))
	}
	return out
}

// tokenDoubts are what is worth a word about a token that is good.
func (d *Desk) tokenDoubts(h *Host, id description.Identity) []string {
	var doubts []string
	switch left := id.Expires.Sub(d.Now()); {
	case id.Expires.IsZero():
	case left < soon:
		doubts = append(doubts, "the token ends soon, on "+id.Expires.Format(time.DateOnly))
	case left > tooFar:
		doubts = append(doubts, "the token ends only on "+id.Expires.Format(time.DateOnly)+"; whoever finds it can use it until then, so a nearer end is safer")
	}
	if more := superfluous(h.Description, id); len(more) > 0 {
		doubts = append(doubts, "the token may do more than is needed here: it has the "+map[bool]string{true: "scope ", false: "scopes "}[len(more) == 1]+strings.Join(more, " and "))
	}
	return doubts
}

// TokenChange is a change of an account's token: planned, to be shown, then done.
type TokenChange struct {
	desk  *Desk
	steps []Step

	Account *Account
	Renews  bool // the host renews it, so no new token need be given
	Head    string
}

// Items is the plan as it is shown.
func (t *TokenChange) Items() []plan.Item { return Items(t.steps) }

// HostName is where the host's steps act.
func (t *TokenChange) HostName() string { return t.Account.Host }

// Do carries the plan out.
func (t *TokenChange) Do(ctx context.Context) error {
	r, _, err := t.desk.begin("token", t.Account.Name)
	if err != nil {
		return err
	}
	r.asWas = "The token stays as it was."
	return r.run(ctx, t.steps)
}

// ReplaceToken plans to give an account another token: one that is given, or, with an
// empty one, one that the host makes. The old one is taken out of force on the host,
// where it offers that.
func (d *Desk) ReplaceToken(ctx context.Context, name, token string, renew bool) (*TokenChange, error) {
	a, err := d.Account(name)
	if err != nil {
		return nil, err
	}
	d.hush(a)
	t := &TokenChange{desk: d, Account: a, Head: "To replace the token of account " + a.Name + ":"}
	if a.Host == "" {
		t.steps = []Step{{Item: plan.Item{ID: "store", Place: plan.Vault, Sentence: "Put the new token, once tested, in the place of the old one"},
			Do: func(ctx context.Context) error { _, _, err := d.AddAccount(ctx, *a, token); return err }}}
		return t, nil
	}
	h, err := d.hostOf(a)
	if err != nil {
		return nil, err
	}
	offers := func(action string) bool { return h.Actions[action] != nil && h.Actions[action].By == "request" }
	t.Renews = offers("token-renew")
	if renew {
		if !t.Renews {
			return nil, d.noRenewal(h, a)
		}
		l, err := d.login(ctx, a)
		if err != nil {
			return nil, err
		}
		old := l.token
		t.steps = []Step{
			{Item: plan.Item{ID: "ready", Place: plan.Vault, Sentence: "Make sure that the vault can be written, so that no new token is lost"},
				Do: func(ctx context.Context) error { return d.store(ctx, a, old) }},
			{Item: plan.Item{ID: "renew", Place: plan.Host, Sentence: "Let " + h.Name + " put a new token in the place of the old one"},
				Do: func(ctx context.Context) error {
					f, err := l.do(ctx, "token-renew", "renew the token", nil)
					if err != nil {
						if fault.Is(err, fault.Unreachable) {
							f := *fault.Of(err)
							return f.Detail("It is not certain whether the old token is still in force.").Try("see", text.Command("uncinate", "token", "test", a.Name))
						}
						return err
					}
					fresh, _ := f["secret"].(string)
					if fresh == "" {
						return fault.New(fault.Unreachable, "%s renewed the token and did not tell the new one", h.Name)
					}
					if err := d.store(ctx, a, fresh); err != nil {
						return err
					}
					_, err = d.TestToken(ctx, a.Name)
					return err
				}},
		}
		return t, nil
	}
	var old *login
	t.steps = []Step{{Item: plan.Item{ID: "store", Place: plan.Vault, Sentence: "Put the new token, once tested with " + h.Name + ", in the place of the old one"},
		Do: func(ctx context.Context) error {
			if l, err := d.login(ctx, a); err == nil {
				old = l
			}
			given := *a
			given.Doubtful, given.OAuth = time.Time{}, false
			_, _, err := d.AddAccount(ctx, given, token)
			return err
		}}}
	if offers("token-revoke") {
		t.steps = append(t.steps, Step{Item: plan.Item{ID: "revoke", Place: plan.Host, Sentence: "Take the old token out of force on " + h.Name},
			Do: func(ctx context.Context) error {
				if old == nil || old.token == strings.TrimSpace(token) {
					return nil
				}
				_, err := old.do(ctx, "token-revoke", "revoke the old token", nil)
				if means(err, description.TokenEnded) || means(err, description.NotSignedIn) {
					return nil // it is out of force already
				}
				return err
			}})
	}
	return t, nil
}

func (d *Desk) noRenewal(h *Host, a *Account) error {
	f := fault.New(fault.HostSaidNo, "%s does not renew tokens by itself", h.Name)
	for _, line := range h.TokenAdvice("publish", "keys") {
		f.Detail("%s", line)
	}
	return f.Try("give the account one that you made", text.Command("uncinate", "token", "replace", a.Name))
}

// store puts an account's token where it is kept, with what renews it, if there is that.
func (d *Desk) store(ctx context.Context, a *Account, token string) error {
	secrets := map[string]string{a.secretName(): token}
	if a.refresh != "" || !a.OAuth {
		secrets[a.refreshName()] = a.refresh // a token that was given takes an older sign-in's place
	}
	if !a.Unkept {
		return d.Vault.Put(ctx, secrets)
	}
	for name, secret := range secrets {
		if secret == "" {
			if err := d.Vault.RemoveUnkept(name); err != nil {
				return err
			}
			continue
		}
		if err := d.Vault.PutUnkept(d.Program, name, secret, d.Now().Add(unkeptFor)); err != nil {
			return err
		}
	}
	return nil
}

// drop takes an account's secrets away from where they are kept.
func (d *Desk) drop(ctx context.Context, a *Account) error {
	if !a.Unkept {
		return d.Vault.Remove(ctx, a.secretName(), a.refreshName())
	}
	for _, name := range []string{a.secretName(), a.refreshName()} {
		if err := d.Vault.RemoveUnkept(name); err != nil {
			return err
		}
	}
	return nil
}

// RevokeToken plans to take an account's token out of force on the host, and out of
// the vault.
func (d *Desk) RevokeToken(ctx context.Context, name string) (*TokenChange, error) {
	a, err := d.Account(name)
	if err != nil {
		return nil, err
	}
	d.hush(a)
	t := &TokenChange{desk: d, Account: a, Head: "To revoke the token of account " + a.Name + ":"}
	if a.Host == "" {
		return nil, fault.New(fault.HostSaidNo, "nobody described the host of %s, so its tokens are revoked on its own page", a.Address).
			Try("forget it here", text.Command("uncinate", "token", "forget", a.Name))
	}
	l, err := d.login(ctx, a)
	if err != nil {
		return nil, err
	}
	if err := l.may("token-revoke", "revoke a token"); err != nil && !a.OAuth {
		f := *fault.Of(err)
		for _, line := range l.Host.TokenAdvice() {
			f.Detail("%s", line)
		}
		return nil, f.Try("forget it here", text.Command("uncinate", "token", "forget", a.Name))
	}
	t.steps = []Step{
		{Item: plan.Item{ID: "revoke", Place: plan.Host, Sentence: "Take the token out of force on " + l.Host.Name + "; this cannot be taken back"},
			Do: func(ctx context.Context) error {
				if a.OAuth {
					return d.revokeSignIn(ctx, l)
				}
				_, err := l.do(ctx, "token-revoke", "revoke the token", nil)
				if means(err, description.TokenEnded) || means(err, description.NotSignedIn) {
					return nil // it is out of force already
				}
				return err
			}},
		{Item: plan.Item{ID: "forget", Place: plan.Vault, Sentence: "Take it out of the vault"}, Do: func(ctx context.Context) error { return d.drop(ctx, a) }},
	}
	return t, nil
}

// ForgetToken takes an account's token out of the vault; on the host it stands.
func (d *Desk) ForgetToken(ctx context.Context, name string) error {
	a, err := d.Account(name)
	if err != nil {
		return err
	}
	if _, err := d.token(ctx, a, true); err != nil {
		return err
	}
	return d.drop(ctx, a)
}

// HandOut gives an account's token itself, once it was noted that it was handed out.
func (d *Desk) HandOut(ctx context.Context, name, how string) (string, error) {
	a, err := d.Account(name)
	if err != nil {
		return "", err
	}
	token, err := d.token(ctx, a, true)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(d.Home.State, 0o700); err != nil {
		return "", fault.New(fault.Failed, "the folder %s cannot be made", text.Visible(d.Home.State)).Because(err)
	}
	f, err := os.OpenFile(d.handedOut(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err == nil {
		_, err = fmt.Fprintf(f, "%s account %s by %s\n", d.Now().UTC().Format(time.RFC3339), a.Name, how)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		return "", fault.New(fault.Failed, "it cannot be noted that the token is handed out, so it is not").Because(err)
	}
	return token, nil
}

func (d *Desk) handedOut() string { return filepath.Join(d.Home.State, "handed-out.log") }

// Copy is a place where one of our tokens lies in a plain file.
type Copy struct {
	Account string `json:"account"`
	File    string `json:"file"`
	Line    int    `json:"line"`
	Form    string `json:"form" says:"plain, or as HTTP Basic"`
}

// mostLooked is the largest file, in bytes, that is looked into.
const mostLooked = 64 << 20

// LookForTokens looks for copies of this machine's own tokens in plain files below
// folders. What cannot be read is counted.
func (d *Desk) LookForTokens(ctx context.Context, folders []string) (found []Copy, looked, unread int, err error) {
	accounts, err := d.Accounts()
	if err != nil {
		return nil, 0, 0, err
	}
	type needle struct {
		account, form string
		text          []byte
	}
	var needles []needle
	for _, a := range accounts {
		token, err := d.token(ctx, a, true)
		if fault.Is(err, fault.Decision) {
			continue // it has none
		}
		if err != nil {
			return nil, 0, 0, err
		}
		needles = append(needles, needle{a.Name, "plain", []byte(token)})
		if basic := base64.StdEncoding.EncodeToString([]byte(a.User + ":" + token)); len(basic) > 12 {
			needles = append(needles, needle{a.Name, "as HTTP Basic", []byte(strings.TrimRight(basic, "="))})
		}
	}
	if len(needles) == 0 {
		return nil, 0, 0, fault.New(fault.Decision, "this machine has no token whose copies could be looked for").Try("see the accounts", "uncinate account list")
	}
	own := filepath.Clean(d.Home.Vault)
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(4)
	look := func(path string) {
		data, err := files.Read(path, mostLooked)
		mu.Lock()
		defer mu.Unlock()
		if err != nil {
			unread++
			return
		}
		looked++
		for _, n := range needles {
			if i := bytes.Index(data, n.text); i >= 0 {
				found = append(found, Copy{n.account, path, 1 + bytes.Count(data[:i], []byte("\n")), n.form})
			}
		}
	}
	for _, folder := range folders {
		top, err := d.findFolder(folder)
		if err != nil {
			return nil, 0, 0, err
		}
		err = filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
			switch {
			case ctx.Err() != nil:
				return ctx.Err()
			case err != nil && path == top:
				return err
			case err != nil:
				mu.Lock()
				unread++
				mu.Unlock()
				return nil
			case e.IsDir() && filepath.Clean(path) == own:
				return fs.SkipDir
			case e.Type().IsRegular():
				group.Go(func() error { look(path); return nil })
			}
			return nil
		})
		if err != nil {
			return nil, 0, 0, errors.Join(err, group.Wait())
		}
	}
	err = group.Wait()
	slices.SortFunc(found, func(a, b Copy) int {
		return strings.Compare(fmt.Sprintf("%s\x00%08d", a.File, a.Line), fmt.Sprintf("%s\x00%08d", b.File, b.Line))
	})
	return found, looked, unread, err
}
