package deploy

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/job/repositories"
	"uncinate/internal/world/bell"
	"uncinate/internal/world/files"
)

// Hook is a web hook by which the host rings.
type Hook struct {
	Address string `json:"address" says:"that the host calls"`
	Account string `json:"account" says:"by which it was added"`
	File    string `json:"file" says:"where the secret is that signs"`
}

// PlanHook plans to let the host call an address whenever something is sent. What comes there only rings.
func PlanHook(ctx context.Context, d *desk.Desk, x Deploy, at, account string) (*desk.Change, error) {
	if !strings.HasPrefix(at, "https://") && !strings.HasPrefix(at, "http://127.0.0.1") && !strings.HasPrefix(at, "http://[::1]") {
		return nil, fault.New(fault.Usage, "%s is not an https address that leads to this machine", text.Quote(text.Excerpt(at, 80))).
			Try("", text.Command("uncinate", "deploy", "hook", x.Name, "--at", "https://SERVER/"+x.Name))
	}
	h, owner, name, err := hosts.Recognise(d, x.Address)
	if err == nil && h == nil {
		err = fault.New(fault.HostSaidNo, "nobody described the host of %s, so it cannot be told to ring", x.Address).Try("follow it at an interval", "uncinate deploy watch --every 30s")
	}
	if err == nil && h.Hook == nil {
		err = fault.New(fault.HostSaidNo, "the description of %s does not say how it signs its web hooks", h.Name).Try("follow it at an interval", "uncinate deploy watch --every 30s")
	}
	if err != nil {
		return nil, err
	}
	l, r, err := repositories.Find(ctx, d, account, x.Address)
	if err != nil {
		return nil, err
	}
	if err := l.May("hook-add", "add web hooks to "+owner+"/"+name); err != nil {
		return nil, err
	}
	c := &desk.Change{Desk: d, Job: "deploy-hook", Subject: x.Folder, Host: h.Name, AsWas: "The host rings nothing more than before.", About: x.Name, Head: "To let " + h.Name + " ring " + x.Name + ":"}
	file := keyFile(d, x.Name) + ".hook"
	c.Steps = []desk.Step{
		{Item: plan.Item{ID: "secret", Place: plan.Here, Sentence: "Make a secret that signs, in a file that only you can read"}, Do: func(context.Context) error {
			random := make([]byte, 32)
			if _, err := rand.Read(random); err != nil {
				return err
			}
			return files.Write(file, []byte(hex.EncodeToString(random)), 0o600)
		}, Done: func(context.Context) (bool, error) { return files.KindOf(file) != files.None, nil }},
		{Item: plan.Item{ID: "hook", Place: plan.Host, Sentence: "Let it call " + text.Visible(at) + " when something is sent to " + r.Path()}, Stays: desk.Always, Do: func(ctx context.Context) error {
			secret, err := files.Read(file, 1<<10)
			if err != nil {
				return err
			}
			d.Vault.Hide(string(secret))
			if err := dropHooks(ctx, l, r, at); err != nil { // one of before has another secret
				return err
			}
			vars := login.RepositoryVars(r)
			vars["address"], vars["secret"] = at, string(secret)
			_, err = l.Do(ctx, "hook-add", "add a web hook to "+r.Path(), vars)
			return login.Lost(err, func() (bool, error) {
				all, err := hooksTo(ctx, l, r, at)
				return len(all) > 0, err
			})
		}},
		{Item: plan.Item{ID: "note", Place: plan.Here, Sentence: "Note it, for deploy watch --listen"}, Do: func(ctx context.Context) error {
			return alter(ctx, d, func(all []Deploy) []Deploy {
				for i := range all {
					if all[i].Folder == x.Folder {
						all[i].Hook = &Hook{Address: at, Account: l.Account.Name, File: file}
					}
				}
				return all
			})
		}},
	}
	return c, nil
}

// hooksTo lists the ids of a repository's web hooks to an address.
func hooksTo(ctx context.Context, l *login.Login, r description.Repository, at string) ([]string, error) {
	if l.Host.Actions["hook-list"] == nil {
		return nil, nil
	}
	items, err := l.List(ctx, "hook-list", "list the web hooks of "+r.Path(), login.RepositoryVars(r))
	var out []string
	for _, x := range items {
		if description.Written(x["address"]) == at {
			out = append(out, description.Written(x["id"]))
		}
	}
	return out, err
}

// dropHooks removes a repository's web hooks to an address.
func dropHooks(ctx context.Context, l *login.Login, r description.Repository, at string) error {
	all, err := hooksTo(ctx, l, r, at)
	if err != nil || l.Host.Actions["hook-remove"] == nil {
		return err
	}
	for _, id := range all {
		vars := login.RepositoryVars(r)
		vars["id"] = id
		if _, err := l.Do(ctx, "hook-remove", "remove a web hook of "+r.Path(), vars); err != nil && !login.Means(err, description.NotFound) {
			return err
		}
	}
	return nil
}

// stepUnhook takes the web hook off the host; nil where there is none, or where it cannot be.
func stepUnhook(ctx context.Context, d *desk.Desk, x Deploy) *desk.Step {
	if x.Hook == nil {
		return nil
	}
	l, r, err := repositories.Find(ctx, d, x.Hook.Account, x.Address)
	if err != nil || l.May("hook-remove", "remove a web hook") != nil {
		return nil
	}
	return &desk.Step{Item: plan.Item{ID: "unhook", Place: plan.Host, Sentence: "Take the web hook off " + l.Host.Name}, Stays: desk.Always, Do: func(ctx context.Context) error { return dropHooks(ctx, l, r, x.Hook.Address) }}
}

// mostRung is how many signatures are remembered, so that a repeated call rings nothing.
const mostRung = 2000

// bells judges calls of web hooks.
type bells struct {
	desk *desk.Desk
	ring func(name string) bool
	mu   sync.Mutex
	of   map[string]*rung // by name
}

// rung is what is known of one's web hook.
type rung struct {
	x      Deploy
	hook   *description.Hook
	secret string
	seen   []string // of the signatures that rang, in order
	known  map[string]bool
	fresh  bool // not noted yet
}

// Listen lets web hooks ring: each at the path that ends with its name.
func (w *Watching) Listen(address string) (at string, err error) {
	b := &bells{desk: w.desk, ring: w.Ring, of: map[string]*rung{}}
	for _, x := range w.all {
		if x.Hook == nil {
			continue
		}
		h, err := hosts.Named(w.desk, x.Host)
		if err != nil {
			return "", err
		}
		secret, err := files.Read(x.Hook.File, 1<<10)
		if err != nil {
			return "", fault.New(fault.Failed, "the secret of %s's web hook cannot be read: %s", x.Name, files.Plain(err)).Because(err).
				Try("make another one", text.Command("uncinate", "deploy", "hook", x.Name, "--at", x.Hook.Address))
		}
		w.desk.Vault.Hide(string(secret))
		r := &rung{x: x, hook: h.Hook, secret: string(secret), known: map[string]bool{}}
		if _, err := files.ReadJSON(x.at("rung.json"), &r.seen); err != nil {
			r.seen = nil // it is only a note
		}
		for _, mark := range r.seen {
			r.known[mark] = true
		}
		b.of[x.Name] = r
	}
	if len(b.of) == 0 {
		return "", fault.New(fault.Decision, "no host was told to ring here yet").Try("tell one", "uncinate deploy hook NAME --at https://SERVER/NAME")
	}
	w.bells = b
	w.bell, err = bell.Listen(address, b.judge)
	if err != nil {
		return "", err
	}
	return w.bell.Address(), nil
}

// judge says whether a call is the host's, comes now, and for the first time; then it rings.
func (b *bells) judge(path string, header bell.Header, body []byte) bool {
	r := b.of[filepath.Base(path)]
	if r == nil || r.hook == nil || !r.hook.Genuine(r.secret, header, body, b.desk.Now()) {
		return false
	}
	sum := sha256.Sum256(slices.Concat([]byte(header.Get(r.hook.Signature)), body))
	mark := hex.EncodeToString(sum[:12])
	b.mu.Lock()
	defer b.mu.Unlock()
	if r.known[mark] {
		return false
	}
	r.seen, r.known[mark], r.fresh = append(r.seen, mark), true, true
	if len(r.seen) > mostRung {
		delete(r.known, r.seen[0])
		r.seen = r.seen[1:]
	}
	return b.ring(r.x.Name)
}

// note keeps, for another run, which signatures rang.
func (b *bells) note(name string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	r := b.of[name]
	if r == nil || !r.fresh {
		return
	}
	if err := files.WriteUnsynced(r.x.at("rung.json"), r.seen); err != nil {
		b.desk.Log.Debug("deploy", "not noted", err)
	}
	r.fresh = false
}
