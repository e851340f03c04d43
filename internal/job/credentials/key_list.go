package credentials

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/world/openssh"
)

// KeyRow is one key and where it is: on this machine, in the agent, on the host.
type KeyRow struct {
	Fingerprint string    `json:"fingerprint"`
	Kind        string    `json:"kind"`
	Account     string    `json:"account,omitempty"`
	Host        string    `json:"host,omitempty" says:"the host whose account it belongs to"`
	Machine     string    `json:"machine,omitempty" says:"the machine that it was made on, as its name tells"`
	Title       string    `json:"title,omitempty"`
	Here        string    `json:"here,omitempty" says:"where its private half is on this machine"`
	Agent       bool      `json:"agent" says:"the SSH agent offers it"`
	OnHost      bool      `json:"on_host" says:"the host lists it"`
	Signs       bool      `json:"signs,omitempty" says:"the host verifies signatures by it"`
	Created     time.Time `json:"created,omitzero"`
	Used        time.Time `json:"used,omitzero" says:"when the host last saw it used, where it tells"`
	Doubts      []string  `json:"doubts,omitempty" says:"what does not fit together"`
	Remedies    []string  `json:"remedies,omitempty"`
}

// KeyList is all of them, and what could not be looked at.
type KeyList struct {
	Machine string   `json:"machine"`
	Keys    []KeyRow `json:"keys"`
	Agent   string   `json:"agent" says:"the SSH agent's state"`
	Unseen  []string `json:"unseen,omitempty" says:"what could not be looked at, and why"`
}

// ListKeys puts the keys side by side: those of the named accounts, or all.
func ListKeys(ctx context.Context, d *desk.Desk, holders []string) (KeyList, error) {
	out := KeyList{Agent: "answers"}
	var err error
	if out.Machine, err = d.Machine(); err != nil {
		out.Machine = ""
	}
	wanted := func(name string) bool { return len(holders) == 0 || slices.Contains(holders, name) }
	mine, err := accounts.Keys(d)
	if err != nil {
		return out, err
	}
	for _, k := range mine {
		if wanted(k.Account) {
			out.find(k.Half()).own(k)
		}
	}
	all, err := accounts.All(d)
	if err != nil {
		return out, err
	}
	looked := map[string]bool{}
	for _, name := range holders {
		if _, err := accounts.Named(d, name); err != nil {
			return out, err
		}
	}
	for _, a := range all {
		if a.Host == "" || !wanted(a.Name) {
			continue
		}
		if err := listHosted(ctx, d, a, out.find); err != nil {
			if ctx.Err() != nil {
				return out, ctx.Err()
			}
			out.Unseen = append(out.Unseen, a.Name+" on "+a.Host+": "+fault.Of(err).Says)
			continue
		}
		looked[a.Name] = true
	}
	out.offered(len(holders) == 0)
	for i := range out.Keys {
		fits(d, &out.Keys[i], out.Machine, looked)
	}
	slices.SortStableFunc(out.Keys, func(a, b KeyRow) int {
		return strings.Compare(a.Account+"\x00"+a.Machine, b.Account+"\x00"+b.Machine)
	})
	return out, nil
}

// find gives the row of a key, a new one where there is none yet.
func (l *KeyList) find(half sshkey.Public) *KeyRow {
	print := half.Fingerprint()
	for i := range l.Keys {
		if l.Keys[i].Fingerprint == print {
			return &l.Keys[i]
		}
	}
	l.Keys = append(l.Keys, KeyRow{Fingerprint: print, Kind: half.Type, Title: half.Comment})
	return &l.Keys[len(l.Keys)-1]
}

// own notes what this machine knows of a key of its own.
func (r *KeyRow) own(k *accounts.Key) {
	r.Account, r.Host, r.Machine, r.Here, r.Created = k.Account, k.Host, k.Machine, k.File, k.Created
	if err := k.Guarded(); err != nil {
		f := fault.Of(err)
		r.Doubts = append(r.Doubts, f.Says)
		for _, x := range f.Remedies {
			r.Remedies = append(r.Remedies, x.Command)
		}
	}
	if k.State != accounts.KeyInForce {
		r.Doubts = append(r.Doubts, map[string]string{accounts.KeyNext: "an exchange was cut off before it came into force", accounts.KeyOld: "an exchange was cut off before it was removed"}[k.State])
		r.Remedies = append(r.Remedies, text.Command("uncinate", "key", "rotate", k.Account))
	}
	if why := k.Half().Weak(); why != "" {
		r.Doubts = append(r.Doubts, why)
	}
}

// offered notes which keys the agent offers; with all, those too that nobody knows.
func (l *KeyList) offered(all bool) {
	x, err := openssh.FindAgent()
	var keys []sshkey.Public
	if err == nil {
		keys, err = x.Keys()
	}
	switch {
	case errors.Is(err, openssh.ErrNoAgent):
		l.Agent = "not running; not needed"
	case err != nil:
		l.Agent = fault.Of(err).Says
	}
	for _, half := range keys {
		if all || slices.ContainsFunc(l.Keys, func(r KeyRow) bool { return r.Fingerprint == half.Fingerprint() }) {
			l.find(half).Agent = true
		}
	}
}

func listHosted(ctx context.Context, d *desk.Desk, a *accounts.Account, find func(sshkey.Public) *KeyRow) error {
	l, err := login.Open(ctx, d, a)
	if err != nil {
		return err
	}
	if err := l.May("key-list", "list keys"); err != nil {
		return err
	}
	entries, err := l.HostKeys(ctx, "")
	if err != nil {
		return err
	}
	for _, e := range entries {
		if len(e.Half.Blob) == 0 {
			continue // a host that lists keys without themselves
		}
		r := find(e.Half)
		if r.Account != "" && r.Account != a.Name {
			r.Doubts = append(r.Doubts, "it is the key of account "+r.Account+" here, and "+l.Host.Name+" lists it for "+a.Name)
		}
		r.OnHost, r.Account, r.Host, r.Title = true, a.Name, a.Host, e.Title
		if r.Machine == "" {
			r.Machine = sshkey.MachineOf(e.Title)
		}
		if t, ok := e.Fields["created"].(time.Time); ok && r.Created.IsZero() {
			r.Created = t
		}
		if t, ok := e.Fields["used"].(time.Time); ok {
			r.Used = t
		}
	}
	if l.Host.Actions["signing-key-list"] == nil {
		return nil
	}
	signing, err := l.HostKeys(ctx, "signing-")
	for _, e := range signing {
		if len(e.Half.Blob) > 0 {
			r := find(e.Half)
			r.Signs = true
			if r.Account == "" {
				r.Account, r.Host, r.Title, r.Machine = a.Name, a.Host, e.Title, sshkey.MachineOf(e.Title)
			}
		}
	}
	return err
}

// fits tells what does not fit together about a key.
func fits(d *desk.Desk, r *KeyRow, machine string, looked map[string]bool) {
	say := func(words, remedy string) {
		r.Doubts = append(r.Doubts, words)
		if remedy != "" {
			r.Remedies = append(r.Remedies, remedy)
		}
	}
	switch {
	case r.Here != "" && !r.OnHost && looked[r.Account]:
		say("it is not on "+r.Host, text.Command("uncinate", "key", "install", r.Account))
	case r.Here == "" && r.OnHost && r.Machine == machine && machine != "":
		say("it was made on this machine, and its private half is gone", text.Command("uncinate", "key", "revoke", "--machine", machine, r.Account))
	case r.Here == "" && !r.OnHost && !r.Signs && r.Agent:
		say("only the agent knows it", "")
	case r.OnHost && r.Machine == "" && r.Here == "":
		say("it was not made by this program, so its machine is not known", "")
	}
	if strings.HasPrefix(r.Here, accounts.KeysFolder(d)) && strings.HasSuffix(r.Here, ".pub") && !r.Agent && !strings.HasPrefix(r.Kind, "sk-") {
		say("its private half is in no file that is known, and not in the agent", "ssh-add")
	}
}
