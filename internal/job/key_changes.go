package job

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/openssh"
)

// Change is a change of an account's keys: planned, to be shown, then done.
type Change struct {
	desk    *Desk
	steps   []Step
	job     string
	subject string
	host    string
	asWas   string

	Head  string
	Notes []string
	Said  string // what the host said when it let the key in
}

// Items is the plan as it is shown.
func (c *Change) Items() []plan.Item { return Items(c.steps) }

// HostName is where the host's steps act.
func (c *Change) HostName() string { return c.host }

// Do carries the plan out; cut off, the same command goes on from there.
func (c *Change) Do(ctx context.Context) error {
	held, holder, err := files.Lock(filepath.Join(c.desk.Home.State, "locks", "change-"+files.Short(c.subject)+".lock"))
	if err != nil {
		return err
	}
	if held == nil {
		return fault.New(fault.Failed, "another uncinate (process %d) is at work on %s just now; let it end, then run this again", holder, text.Visible(c.subject))
	}
	defer held.Release()
	r, _, err := c.desk.begin(c.job, c.subject)
	if err != nil {
		return err
	}
	r.asWas = c.asWas
	return r.run(ctx, c.steps)
}

// hostKeyEntry is a person's key as the host lists it.
type hostKeyEntry struct {
	ID, Title string
	Half      sshkey.Public
	Fields    map[string]any
}

// hostKeys lists the account's keys on the host; kind is "" or "signing-".
func (l *login) hostKeys(ctx context.Context, kind string) ([]hostKeyEntry, error) {
	items, err := l.list(ctx, kind+"key-list", "list keys", nil)
	if err != nil {
		return nil, err
	}
	var out []hostKeyEntry
	for _, f := range items {
		e := hostKeyEntry{ID: description.Written(f["id"]), Title: description.Written(f["title"]), Fields: f}
		if half, err := sshkey.Read(description.Written(f["key"])); err == nil {
			e.Half = half
			if e.Title == "" {
				e.Title = half.Comment
			}
		}
		out = append(out, e)
	}
	return out, nil
}

// onHost finds a key among those of the account on the host.
func (l *login) onHost(ctx context.Context, kind string, half sshkey.Public) (hostKeyEntry, bool, error) {
	all, err := l.hostKeys(ctx, kind)
	i := slices.IndexFunc(all, func(e hostKeyEntry) bool { return e.Half.Same(half) })
	if err != nil || i < 0 {
		return hostKeyEntry{}, false, err
	}
	return all[i], true, nil
}

// sshAddress is where the host's SSH server is, by its description.
func (h *Host) sshAddress() (address.Address, error) {
	if h.SSH == nil {
		return address.Address{}, fault.New(fault.HostSaidNo, "the description of %s names no address over SSH (address.ssh)", h.Name).
			Try("work over https, which needs no key", "uncinate attach --over https")
	}
	at, err := h.Expand(h.SSH, description.Vars{"owner": "owner", "name": "name", "path": "owner/name", "id": "id"})
	if err != nil {
		return address.Address{}, err
	}
	return address.Parse(at)
}

// keyLogin opens an account for work on its keys.
func (d *Desk) keyLogin(ctx context.Context, name string) (*login, *route, *Key, error) {
	a, err := d.Account(name)
	if err != nil {
		return nil, nil, nil, err
	}
	if a.Host == "" {
		return nil, nil, nil, fault.New(fault.Usage, "the account %s is kept for one address, and keys belong to accounts on a host", a.Name)
	}
	k, err := d.keyOf(a.Name, keyInForce)
	if err == nil && k == nil {
		err = d.NoKey(a)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	l, err := d.login(ctx, a)
	if err != nil {
		return nil, nil, k, err
	}
	at, err := l.Host.sshAddress()
	if err != nil {
		return nil, nil, k, err
	}
	return l, d.route(k, at), k, nil
}

// byHand is the fault where a key is put on the host on a page.
func (l *login) byHand(k *Key) error {
	f := fault.New(fault.Decision, "%s takes keys only by hand, on a page", l.Host.Name)
	page := l.Host.Pages["key"]
	if act := l.Host.Actions["key-add"]; act != nil && act.Page != nil {
		page = act.Page
	}
	if page != nil {
		if at, err := l.Host.Expand(page, nil); err == nil {
			f.Detail("The page is %s", at)
		}
	}
	return f.Detail("Put this in, as one line:").Detail("%s", k.Public).
		Try("then test it", text.Command("uncinate", "key", "install", k.Account, "--done"))
}

// InstallKey plans to put an account's key on its host, and to sign in with it. done says
// that it was put there by hand. signs also lets it verify the account's signatures.
func (d *Desk) InstallKey(ctx context.Context, name string, done, signs bool) (*Change, error) {
	l, r, k, err := d.keyLogin(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := k.guarded(); err != nil {
		return nil, err
	}
	c := &Change{desk: d, job: "key-install", subject: name, host: l.Host.Name, asWas: "The host's keys are as they were.", Head: "To put the key of account " + name + " on " + l.Host.Name + ":"}
	if act := l.Host.Actions["key-add"]; !done && (act == nil || act.By == "page") {
		return nil, l.byHand(k)
	}
	if !done {
		c.steps = append(c.steps, l.stepInstall(k, ""))
	}
	c.steps = append(c.steps, c.stepTest(r))
	if signs {
		if err := l.may("signing-key-add", "take a key for signatures"); err != nil {
			return nil, err
		}
		if err := l.Account.signs(); err != nil {
			return nil, err
		}
		c.steps = append(c.steps, l.stepInstall(k, "signing-"), Step{Item: plan.Item{ID: "sign", Place: plan.Here, Sentence: "Sign the commits and tags of the account's projects with it"},
			Do: func(ctx context.Context) error { return d.signWith(ctx, k, true) }})
	}
	return c, nil
}

// stepInstall puts a key on the host; kind is "" or "signing-".
func (l *login) stepInstall(k *Key, kind string) Step {
	what := "Put the key " + k.Fingerprint() + " on " + l.Host.Name + ", named " + k.Half().Comment
	if kind != "" {
		what = "Let " + l.Host.Name + " verify signatures by it"
	}
	title := k.Half().Comment
	if k.TakenIn {
		title = sshkey.Name(k.Account, k.Host, k.Machine)
		if kind == "" {
			what = "Put the key " + k.Fingerprint() + " on " + l.Host.Name + ", named " + title
		}
	}
	id := "install"
	if kind != "" {
		id = "install-signing"
	}
	return Step{Item: plan.Item{ID: id, Place: plan.Host, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			_, found, err := l.onHost(ctx, kind, k.Half())
			return found, err
		},
		Do: func(ctx context.Context) error {
			_, err := l.do(ctx, kind+"key-add", "take the key of this machine", description.Vars{"title": title, "key": k.Public})
			if fault.Is(err, fault.Unreachable) { // the answer may be lost, and the work done
				if _, found, look := l.onHost(ctx, kind, k.Half()); look == nil && found {
					return nil
				}
			}
			if means(err, description.NameTaken) || means(err, description.Invalid) {
				return l.keyTaken(ctx, k, err)
			}
			return err
		},
		Undo: func(ctx context.Context) error { return l.removeKey(ctx, kind, k.Half()) }}
}

// keyTaken names the account that has the key, where that is one of ours.
func (l *login) keyTaken(ctx context.Context, k *Key, err error) error {
	names := l.desk.whoCan(ctx, l.Host.Name, l.Account, func(o *login) bool {
		_, found, e := o.onHost(ctx, "", k.Half())
		return e == nil && found
	})
	if len(names) == 0 {
		return err
	}
	f := *fault.Of(err)
	f.Says = "the key is that of your account " + names[0] + " on " + l.Host.Name + "; a key opens one account only"
	f.Remedies = nil
	return f.Try("make another one for "+l.Account.Name, text.Command("uncinate", "key", "rotate", l.Account.Name))
}

// removeKey takes a key off the host; one that is not there is fine.
func (l *login) removeKey(ctx context.Context, kind string, half sshkey.Public) error {
	e, found, err := l.onHost(ctx, kind, half)
	if err != nil || !found {
		return err
	}
	_, err = l.do(ctx, kind+"key-remove", "remove the key "+half.Fingerprint(), description.Vars{"id": e.ID})
	if means(err, description.NotFound) {
		return nil
	}
	if fault.Is(err, fault.Unreachable) {
		if _, found, look := l.onHost(ctx, kind, half); look == nil && !found {
			return nil
		}
	}
	return err
}

func (c *Change) stepTest(r *route) Step {
	return Step{Item: plan.Item{ID: "test", Place: plan.Host, Sentence: "Sign in over SSH with it, and with no other key"},
		Do: func(ctx context.Context) (err error) { c.Said, err = r.signsIn(ctx); return err }}
}

// signWith turns signing with a key on or off, in the account's hooked projects too.
func (d *Desk) signWith(ctx context.Context, k *Key, on bool) error {
	err := d.changeKeys(func(all []*Key) []*Key {
		for _, x := range all {
			if x.Half().Same(k.Half()) {
				x.Signs = on
			}
		}
		return all
	})
	if err != nil {
		return err
	}
	return d.mendAll(ctx, k.Account)
}

// RotateKey plans to put a new key in the place of an account's: made, installed, tested
// and in force everywhere before the old one is removed.
func (d *Desk) RotateKey(ctx context.Context, name, kind string, open bool) (*Change, error) {
	l, r, old, err := d.keyLogin(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, action := range []string{"key-list", "key-add", "key-remove"} {
		if err := l.may(action, "exchange keys"); err != nil {
			return nil, err
		}
	}
	next, err := d.keyOf(name, keyNext)
	if err != nil {
		return nil, err
	}
	left, err := d.keyOf(name, keyOld)
	if err != nil {
		return nil, err
	}
	signs := old.Signs && l.may("signing-key-add", "") == nil
	c := &Change{desk: d, job: "key-rotate", subject: name, host: l.Host.Name, asWas: "The old key is in force still.", Head: "To exchange the key of account " + name + ":"}
	if left != nil { // all but the removal was done before an interruption
		c.steps, c.asWas = []Step{l.stepRemoveOld(left), d.stepDropFile(left)}, "The new key is in force; the old one is not removed yet."
		c.Notes = append(c.Notes, "An earlier exchange was cut off when the new key was in force already.")
		return c, nil
	}
	add := func(s Step) { c.steps = append(c.steps, s) }
	fresh := func() *Key {
		if next == nil {
			return &Key{}
		}
		return next
	}
	add(Step{Item: plan.Item{ID: "make", Place: plan.Here, Sentence: "Make a new key"},
		Done: func(context.Context) (bool, error) { return next != nil, nil },
		Do: func(ctx context.Context) (err error) {
			if kind == "" && !old.TakenIn {
				kind = kindOf(old.Half().Type)
			}
			next, err = d.makeKey(ctx, l.Account, kind, open || !old.Sealed && !old.TakenIn, keyNext)
			return err
		},
		Undo: func(ctx context.Context) error {
			if next == nil {
				return nil
			}
			err := errors.Join(d.changeKeys(func(all []*Key) []*Key {
				return slices.DeleteFunc(all, func(k *Key) bool { return k.State == keyNext && k.Account == name })
			}), dropFiles(next))
			if next.Sealed {
				err = errors.Join(err, d.Vault.Remove(ctx, next.secretName()))
			}
			return err
		}})
	kinds := []string{""}
	if signs {
		kinds = append(kinds, "signing-")
	}
	for _, kind := range kinds {
		s := l.stepInstall(&Key{}, kind)
		s.Sentence = "Put it on " + l.Host.Name + ", beside the old one"
		if kind != "" {
			s.Sentence = "Let " + l.Host.Name + " verify signatures by it"
		}
		s.Done = func(ctx context.Context) (bool, error) { return l.stepInstall(fresh(), kind).Done(ctx) }
		s.Do = func(ctx context.Context) error { return l.stepInstall(fresh(), kind).Do(ctx) }
		s.Undo = func(ctx context.Context) error { return l.removeKey(ctx, kind, fresh().Half()) }
		add(s)
	}
	add(Step{Item: plan.Item{ID: "test", Place: plan.Host, Sentence: "Sign in over SSH with it, and with no other key"},
		Do: func(ctx context.Context) (err error) {
			trial := *r
			trial.key = next
			if c.Said, err = trial.signsIn(ctx); err != nil {
				// The old key is in force: the way that plain git uses goes by it again.
				err = errors.Join(err, r.write(ctx))
			}
			return err
		}})
	add(Step{Firm: true, Item: plan.Item{ID: "switch", Place: plan.Here, Sentence: "Let every hooked project of the account use it"},
		Do: func(ctx context.Context) error {
			err := d.changeKeys(func(all []*Key) []*Key {
				for _, k := range all {
					switch {
					case k.Account == name && k.State == keyInForce:
						k.State = keyOld
					case k.Account == name && k.State == keyNext:
						k.State, k.Signs = keyInForce, old.Signs
					}
				}
				return all
			})
			if err != nil {
				return err
			}
			return d.mendAll(ctx, name)
		}})
	add(l.stepRemoveOld(old))
	add(d.stepDropFile(old))
	return c, nil
}

func (l *login) stepRemoveOld(old *Key) Step {
	return Step{Item: plan.Item{ID: "remove-old", Place: plan.Host, Sentence: "Remove the old key " + old.Fingerprint() + " from " + l.Host.Name},
		Do: func(ctx context.Context) error {
			if l.Host.Actions["signing-key-remove"] != nil && old.Signs {
				// What it signed stays verifiable here; the host shows it as unverified.
				if err := l.removeKey(ctx, "signing-", old.Half()); err != nil {
					return err
				}
			}
			return l.removeKey(ctx, "", old.Half())
		}}
}

func (d *Desk) stepDropFile(old *Key) Step {
	what := "Delete the old key's file"
	if old.TakenIn {
		what = "Use the old key no more; its file stays, since it was not made here"
	}
	return Step{Item: plan.Item{ID: "drop-file", Place: plan.Here, Sentence: what},
		Do: func(ctx context.Context) error {
			if x, err := openssh.FindAgent(); err == nil && old.Sealed {
				if err := x.Remove(old.Half()); err != nil {
					d.Log.Debug("the agent keeps an old key", "key", old.Fingerprint()) // it forgets it by itself
				}
			}
			if !old.TakenIn {
				if err := dropFiles(old); err != nil {
					return err
				}
			}
			if old.Sealed {
				if err := d.Vault.Remove(ctx, old.secretName()); err != nil {
					return err
				}
			}
			return d.changeKeys(func(all []*Key) []*Key {
				return slices.DeleteFunc(all, func(k *Key) bool { return k.Half().Same(old.Half()) })
			})
		}}
}

func dropFiles(k *Key) error {
	for _, path := range []string{k.File, k.File + ".pub"} {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fault.New(fault.Failed, "%s cannot be removed", text.Visible(path)).Because(err)
		}
	}
	return nil
}

func kindOf(kind string) string {
	for _, k := range sshkey.Kinds {
		if contains(kind, k) {
			return k
		}
	}
	return ""
}

// mendAll writes anew what git and ssh are told for an account's hooked projects.
func (d *Desk) mendAll(ctx context.Context, account string) error {
	projects, err := d.Register()
	if err != nil {
		return err
	}
	for _, p := range projects {
		if p.Account == account {
			err = errors.Join(err, d.mend(ctx, p))
		}
	}
	return err
}

// RevokeKeys plans to remove the keys of a machine from the hosts of the accounts, or of
// all accounts.
func (d *Desk) RevokeKeys(ctx context.Context, machine string, accounts []string) (*Change, error) {
	if err := sshkey.CheckMachine(machine); err != nil {
		return nil, err
	}
	all, err := d.Accounts()
	if err != nil {
		return nil, err
	}
	for _, name := range accounts {
		if _, err := d.Account(name); err != nil {
			return nil, err
		}
	}
	mine, err := d.Machine()
	if err != nil {
		mine = ""
	}
	c := &Change{desk: d, job: "key-revoke", subject: machine, asWas: "What was removed stays removed; the rest is as it was.", Head: "To shut the machine " + machine + " out:"}
	seen := map[string]bool{}
	for _, a := range all {
		if a.Host == "" || len(accounts) > 0 && !slices.Contains(accounts, a.Name) {
			continue
		}
		l, err := d.login(ctx, a)
		if err == nil {
			err = l.may("key-remove", "remove keys")
		}
		var kinds []string
		for _, kind := range []string{"", "signing-"} {
			if err == nil && l.Host.Actions[kind+"key-list"] != nil && l.Host.Actions[kind+"key-remove"] != nil {
				kinds = append(kinds, kind)
			}
		}
		for _, kind := range kinds {
			var entries []hostKeyEntry
			if entries, err = l.hostKeys(ctx, kind); err != nil {
				break
			}
			for _, e := range entries {
				if sshkey.MachineOf(e.Title) != machine {
					c.others(seen, e.Title)
					continue
				}
				what := "Remove the key " + e.Half.Fingerprint() + " (" + text.Visible(e.Title) + ") of account " + a.Name + " from " + l.Host.Name
				if kind != "" {
					what = "Remove the signing key " + e.Half.Fingerprint() + " of account " + a.Name + " from " + l.Host.Name
				}
				c.host = l.Host.Name
				c.steps = append(c.steps, Step{Item: plan.Item{ID: "remove " + kind + e.ID + " " + a.Name, Place: plan.Host, Sentence: what},
					Do: func(ctx context.Context) error { return l.removeKey(ctx, kind, e.Half) }})
			}
		}
		if err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			c.Notes = append(c.Notes, "Account "+a.Name+" could not be looked at: "+fault.Of(err).Says+".")
		}
	}
	if len(c.steps) == 0 {
		f := fault.New(fault.Failed, "no host shows a key of a machine named %s", text.Quote(machine))
		for _, n := range c.Notes {
			f.Detail("%s", n)
		}
		for other := range seen {
			f.Detail("There are keys of the machine %s.", other)
		}
		return nil, f.Try("see the keys there are", "uncinate key list")
	}
	c.Notes = append(c.Notes, "Tokens that lie on that machine are not keys: replace them too, by uncinate token replace.")
	if machine == mine {
		c.Notes = append(c.Notes, "This is the machine you are on: its own keys will not open anything any more.")
	}
	return c, nil
}

// others notes the machines whose keys were seen.
func (c *Change) others(seen map[string]bool, title string) {
	if m := sshkey.MachineOf(title); m != "" {
		seen[m] = true
	}
}
