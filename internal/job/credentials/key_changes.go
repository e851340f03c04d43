package credentials

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/openssh"
)

// keyLogin opens an account for work on its keys.
func keyLogin(ctx context.Context, d *desk.Desk, name string) (*login.Login, *login.Route, *accounts.Key, error) {
	a, err := accounts.Named(d, name)
	if err != nil {
		return nil, nil, nil, err
	}
	if a.Host == "" {
		return nil, nil, nil, fault.New(fault.Usage, "the account %s is kept for one address, and keys belong to accounts on a host", a.Name)
	}
	k, err := accounts.KeyOf(d, a.Name, accounts.KeyInForce)
	if err == nil && k == nil {
		err = accounts.NoKey(d, a)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return nil, nil, k, err
	}
	at, err := l.Host.SshAddress()
	if err != nil {
		return nil, nil, k, err
	}
	return l, login.FindRoute(d, k, at), k, nil
}

// byHand is the fault where a key is put on the host on a page.
func byHand(l *login.Login, k *accounts.Key) error {
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

// KeyChange is a change of an account's keys: planned, to be shown, then done.
type KeyChange struct {
	desk.Change
	Said string // what the host said when it let the key in; empty before, and where none is tried
}

// InstallKey plans to put an account's key on its host, and to sign in with it. done says
// that it was put there by hand. signs also lets it verify the account's signatures.
func InstallKey(ctx context.Context, d *desk.Desk, name string, done, signs bool) (*KeyChange, error) {
	l, r, k, err := keyLogin(ctx, d, name)
	if err != nil {
		return nil, err
	}
	if err := k.Guarded(); err != nil {
		return nil, err
	}
	c := &KeyChange{Change: desk.Change{Desk: d, Job: "key-install", Subject: name, Host: l.Host.Name, AsWas: "The host's keys are as they were.", Head: "To put the key of account " + name + " on " + l.Host.Name + ":"}}
	if act := l.Host.Actions["key-add"]; !done && (act == nil || act.By == "page") {
		return nil, byHand(l, k)
	}
	if !done {
		c.Steps = append(c.Steps, stepInstall(l, k, ""))
	}
	c.Steps = append(c.Steps, stepTest(c, r))
	if signs {
		if err := l.May("signing-key-add", "take a key for signatures"); err != nil {
			return nil, err
		}
		if err := l.Account.Signs(); err != nil {
			return nil, err
		}
		c.Steps = append(c.Steps, stepInstall(l, k, "signing-"), desk.Step{Item: plan.Item{ID: "sign", Place: plan.Here, Sentence: "Sign the commits and tags of the account's projects with it"},
			Do: func(ctx context.Context) error { return signWith(ctx, d, k, true) }})
	}
	return c, nil
}

// stepInstall puts a key on the host; kind is "" or "signing-".
func stepInstall(l *login.Login, k *accounts.Key, kind string) desk.Step {
	what := "Put the key " + k.Fingerprint() + " on " + l.Host.Name + ", named \"" + k.Half().Comment + "\""
	if kind != "" {
		what = "Let " + l.Host.Name + " verify signatures by it"
	}
	title := k.Half().Comment
	if k.Registered {
		title = sshkey.Name(k.Account, k.Host, k.Machine)
		if kind == "" {
			what = "Put the key " + k.Fingerprint() + " on " + l.Host.Name + ", named \"" + title + "\""
		}
	}
	id := "install"
	if kind != "" {
		id = "install-signing"
	}
	return desk.Step{Item: plan.Item{ID: id, Place: plan.Host, Sentence: what},
		Done: func(ctx context.Context) (bool, error) {
			_, found, err := l.OnHost(ctx, kind, k.Half())
			return found, err
		},
		Do: func(ctx context.Context) error {
			_, err := l.Do(ctx, kind+"key-add", "take the key of this machine", description.Vars{"title": title, "key": k.Public})
			err = login.Lost(err, func() (bool, error) {
				_, found, err := l.OnHost(ctx, kind, k.Half())
				return found, err
			})
			if login.Means(err, description.NameTaken) || login.Means(err, description.Invalid) {
				return keyTaken(ctx, l, k, err)
			}
			return err
		},
		Undo: func(ctx context.Context) error { return removeKey(ctx, l, kind, k.Half()) }}
}

// keyTaken names the account that has the key, where that is one of ours.
func keyTaken(ctx context.Context, l *login.Login, k *accounts.Key, err error) error {
	names := login.WhoCan(ctx, l.Desk, l.Host.Name, l.Account, func(o *login.Login) bool {
		_, found, e := o.OnHost(ctx, "", k.Half())
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
func removeKey(ctx context.Context, l *login.Login, kind string, half sshkey.Public) error {
	e, found, err := l.OnHost(ctx, kind, half)
	if err != nil || !found {
		return err
	}
	_, err = l.Do(ctx, kind+"key-remove", "remove the key "+half.Fingerprint(), description.Vars{"id": e.ID})
	if login.Means(err, description.NotFound) {
		return nil
	}
	return login.Lost(err, func() (bool, error) {
		_, found, err := l.OnHost(ctx, kind, half)
		return !found, err
	})
}

func stepTest(c *KeyChange, r *login.Route) desk.Step {
	return desk.Step{Item: plan.Item{ID: "test", Place: plan.Host, Sentence: "Sign in over SSH with it, and with no other key"},
		Do: func(ctx context.Context) (err error) { c.Said, err = r.SignsIn(ctx); return err }}
}

// signWith turns signing with a key on or off, in the account's attached projects too.
func signWith(ctx context.Context, d *desk.Desk, k *accounts.Key, on bool) error {
	err := accounts.ChangeKeys(ctx, d, func(all []*accounts.Key) []*accounts.Key {
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
	return project.MendAll(ctx, d, k.Account)
}

// RotateKey plans to put a new key in the place of an account's: made, installed, tested
// and used everywhere before the old one is removed.
func RotateKey(ctx context.Context, d *desk.Desk, name, kind string, open bool) (*KeyChange, error) {
	l, r, old, err := keyLogin(ctx, d, name)
	if err != nil {
		return nil, err
	}
	for _, action := range []string{"key-list", "key-add", "key-remove"} {
		if err := l.May(action, "exchange keys"); err != nil {
			return nil, err
		}
	}
	x := &rotation{desk: d, login: l, route: r, name: name, kind: kind, open: open, old: old}
	if x.next, err = accounts.KeyOf(d, name, accounts.KeyNext); err != nil {
		return nil, err
	}
	left, err := accounts.KeyOf(d, name, accounts.KeyOld)
	if err != nil {
		return nil, err
	}
	c := &KeyChange{Change: desk.Change{Desk: d, Job: "key-rotate", Subject: name, Host: l.Host.Name, AsWas: "The old key is still valid.", Head: "To exchange the key of account " + name + ":"}}
	if left != nil { // all but the removal was done before an interruption
		c.Steps, c.AsWas = []desk.Step{stepRemoveOld(l, left), stepDropFile(d, left)}, "The new key works; the old one is not removed yet."
		c.Notes = append(c.Notes, "An earlier rotation was interrupted when the new key worked already.")
		return c, nil
	}
	c.Steps = []desk.Step{x.stepMake(), x.stepInstall("")}
	if old.Signs && l.May("signing-key-add", "") == nil {
		c.Steps = append(c.Steps, x.stepInstall("signing-"))
	}
	c.Steps = append(c.Steps, x.stepTry(c), x.stepSwitch(), stepRemoveOld(l, old), stepDropFile(d, old))
	return c, nil
}

// rotation is a key that takes another one's place.
type rotation struct {
	desk       *desk.Desk
	login      *login.Login
	route      *login.Route
	name, kind string // of the account, and of the key that is wanted
	open       bool   // without a passphrase
	old, next  *accounts.Key
}

// stepMake makes the new key.
func (x *rotation) stepMake() desk.Step {
	return desk.Step{Item: plan.Item{ID: "make", Place: plan.Here, Sentence: "Make a new key"},
		Done: func(context.Context) (bool, error) { return x.next != nil, nil },
		Do: func(ctx context.Context) (err error) {
			if x.kind == "" && !x.old.Registered {
				x.kind = accounts.KindOf(x.old.Half().Type)
			}
			x.next, err = makeKey(ctx, x.desk, x.login.Account, x.kind, x.open || !x.old.Sealed && !x.old.Registered, accounts.KeyNext)
			return err
		},
		Undo: func(ctx context.Context) error {
			if x.next == nil {
				return nil
			}
			err := errors.Join(accounts.ChangeKeys(ctx, x.desk, func(all []*accounts.Key) []*accounts.Key {
				return slices.DeleteFunc(all, func(k *accounts.Key) bool { return k.State == accounts.KeyNext && k.Account == x.name })
			}), accounts.DropFiles(x.next))
			if x.next.Sealed {
				err = errors.Join(err, x.desk.Vault.Remove(ctx, x.next.SecretName()))
			}
			return err
		}}
}

// stepInstall puts the new key on the host, to sign in or, with "signing-", to verify
// signatures by.
func (x *rotation) stepInstall(kind string) desk.Step {
	fresh := func() *accounts.Key { return cmp.Or(x.next, &accounts.Key{}) }
	s := stepInstall(x.login, &accounts.Key{}, kind)
	s.Sentence = "Put it on " + x.login.Host.Name + ", beside the old one"
	if kind != "" {
		s.Sentence = "Let " + x.login.Host.Name + " verify signatures by it"
	}
	s.Done = func(ctx context.Context) (bool, error) { return stepInstall(x.login, fresh(), kind).Done(ctx) }
	s.Do = func(ctx context.Context) error { return stepInstall(x.login, fresh(), kind).Do(ctx) }
	s.Undo = func(ctx context.Context) error { return removeKey(ctx, x.login, kind, fresh().Half()) }
	return s
}

// stepTry signs in with the new key alone.
func (x *rotation) stepTry(c *KeyChange) desk.Step {
	return desk.Step{Item: plan.Item{ID: "test", Place: plan.Host, Sentence: "Sign in over SSH with it, and with no other key"},
		Do: func(ctx context.Context) (err error) {
			trial := *x.route
			trial.Key = x.next
			if c.Said, err = trial.SignsIn(ctx); err != nil {
				// The old key is used: the way that plain git uses goes by it again.
				err = errors.Join(err, x.route.Write(ctx))
			}
			return err
		}}
}

// stepSwitch lets all projects of the account go by the new key.
func (x *rotation) stepSwitch() desk.Step {
	return desk.Step{Stays: desk.Always, Item: plan.Item{ID: "switch", Place: plan.Here, Sentence: "Let every attached project of the account use it"},
		Do: func(ctx context.Context) error {
			err := accounts.ChangeKeys(ctx, x.desk, func(all []*accounts.Key) []*accounts.Key {
				for _, k := range all {
					switch {
					case k.Account == x.name && k.State == accounts.KeyInForce:
						k.State = accounts.KeyOld
					case k.Account == x.name && k.State == accounts.KeyNext:
						k.State, k.Signs = accounts.KeyInForce, x.old.Signs
					}
				}
				return all
			})
			if err != nil {
				return err
			}
			return project.MendAll(ctx, x.desk, x.name)
		}}
}

func stepRemoveOld(l *login.Login, old *accounts.Key) desk.Step {
	return desk.Step{Item: plan.Item{ID: "remove-old", Place: plan.Host, Sentence: "Remove the old key " + old.Fingerprint() + " from " + l.Host.Name},
		Do: func(ctx context.Context) error {
			if l.Host.Actions["signing-key-remove"] != nil && old.Signs {
				// What it signed stays verifiable here; the host shows it as unverified.
				if err := removeKey(ctx, l, "signing-", old.Half()); err != nil {
					return err
				}
			}
			return removeKey(ctx, l, "", old.Half())
		}}
}

func stepDropFile(d *desk.Desk, old *accounts.Key) desk.Step {
	what := "Delete the old key's file"
	if old.Registered {
		what = "Use the old key no more; its file stays, since it was not made here"
	}
	return desk.Step{Item: plan.Item{ID: "drop-file", Place: plan.Here, Sentence: what},
		Do: func(ctx context.Context) error {
			if x, err := openssh.FindAgent(); err == nil && old.Sealed {
				if err := x.Remove(old.Half()); err != nil {
					d.Log.Debug("the agent keeps an old key", "key", old.Fingerprint()) // it forgets it by itself
				}
			}
			if !old.Registered {
				if err := accounts.DropFiles(old); err != nil {
					return err
				}
			}
			if old.Sealed {
				if err := d.Vault.Remove(ctx, old.SecretName()); err != nil {
					return err
				}
			}
			return accounts.ChangeKeys(ctx, d, func(all []*accounts.Key) []*accounts.Key {
				return slices.DeleteFunc(all, func(k *accounts.Key) bool { return k.Half().Same(old.Half()) })
			})
		}}
}
