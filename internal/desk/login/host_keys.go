package login

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshconfig"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/world/files"
	"uncinate/internal/world/openssh"
)

// A host is known over SSH by its own key. That key is pinned before anything is sent:
// by the host's description, by what its API tells, by what the person's own ssh knows
// already, or by the person who is shown the fingerprint and asked, once. Nothing else
// is ever accepted, and a key that changed stops the work.

// UnknownHost is the fault when nobody vouches for a host's keys yet.
type UnknownHost struct {
	*fault.Fault
	Host string // as in the address
	Keys []sshkey.Public
}

// Unwrap gives the fault to errors.As.
func (u *UnknownHost) Unwrap() error { return u.Fault }

// Knows makes sure that the key of the host at the end of a way is pinned, before anything is sent.
func Knows(ctx context.Context, d *desk.Desk, r *Route) error { return knowsHost(ctx, d, r) }

// knowsHost makes sure that the host's key is pinned.
func knowsHost(ctx context.Context, d *desk.Desk, r *Route) error {
	ours, err := openssh.Known(ctx, KnownHosts(d), r.Host)
	if err != nil || len(ours) > 0 {
		return err
	}
	ssh, err := openssh.Find(d.Log)
	if err != nil {
		return err
	}
	if theirs, _, err := ownKnows(ctx, ssh, r); err != nil || theirs { // what the person's own ssh knows holds for us too
		return err
	}
	vouched, by, err := vouched(ctx, d, r)
	if err != nil {
		return err
	}
	if len(vouched) > 0 {
		d.Tell.Note("SSH key of %s, confirmed by its %s: %s", text.Visible(r.Host), by, vouched[0].Fingerprint())
		return pin(ctx, d, ssh, r.User, r.Host, vouched)
	}
	keys, err := ssh.HostKeys(ctx, r.User, r.Host)
	if err != nil {
		return err
	}
	f := fault.New(fault.Decision, "nothing confirms yet that this SSH key belongs to %s", text.Visible(r.Host))
	for _, k := range keys {
		f.Detail("It shows %s (%s).", k.Fingerprint(), k.Type)
	}
	f.Try("compare it with what the host's operator publishes; if it is the same", text.Command("uncinate", "host", "pin", r.Host, "--fingerprint", keys[0].Fingerprint()))
	return &UnknownHost{f, r.Host, keys}
}

// ownKnows reports whether the person's own ssh knows the host's key, and whether it would take any without asking
// (ssh_config(5), UserKnownHostsFile, GlobalKnownHostsFile, StrictHostKeyChecking).
func ownKnows(ctx context.Context, ssh *openssh.Client, r *Route) (knows, takes bool, err error) {
	settings, err := ssh.Settings(ctx, "", r.User, r.Host)
	if err != nil {
		return false, false, err
	}
	name := realName(settings)
	for _, s := range settings {
		key, value, _ := strings.Cut(s, " ")
		switch key {
		case "stricthostkeychecking":
			takes = value == "no" || value == "off" || value == "false" || value == "accept-new"
		case "userknownhostsfile", "globalknownhostsfile":
			for path := range strings.FieldsSeq(value) {
				if theirs, err := openssh.Known(ctx, path, name); err == nil && len(theirs) > 0 {
					knows = true
				}
			}
		}
	}
	return knows, takes, nil
}

// realName is the host by which ssh looks for a key, by what its settings say of a name that may be one of the person's
// own (ssh_config(5), HostName, HostKeyAlias).
func realName(settings []string) string {
	var host, port, alias string
	for _, s := range settings {
		key, value, _ := strings.Cut(s, " ")
		switch key {
		case "hostname":
			host = value
		case "port":
			port = value
		case "hostkeyalias":
			alias = value
		}
	}
	if alias != "" && alias != "none" {
		return alias
	}
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	return host + ":" + port
}

// KnownHereAlone makes sure, before the person's own ssh goes to a host, that it will be known there: by what that ssh
// knows itself, or by a key that was confirmed for this program alone, which is told then.
func KnownHereAlone(ctx context.Context, d *desk.Desk, at address.Address) (bool, error) {
	r := FindRoute(d, nil, at)
	ssh, err := openssh.Find(d.Log)
	if err != nil {
		return false, err
	}
	if knows, takes, err := ownKnows(ctx, ssh, r); err != nil || knows || takes {
		return false, err
	}
	return true, knowsHost(ctx, d, r)
}

// Confirmed reports whether a host's key was confirmed on this machine.
func Confirmed(d *desk.Desk, host string) (bool, error) {
	lines, err := Pins(d)
	name := sshconfig.KnownHost(host) + " "
	return slices.ContainsFunc(lines, func(line string) bool { return strings.HasPrefix(line, name) }), err
}

// vouched gives the keys for which the host's description, or its API, vouches.
func vouched(ctx context.Context, d *desk.Desk, r *Route) ([]sshkey.Public, string, error) {
	if r.known == "" {
		return nil, "", nil
	}
	h, err := hosts.Named(d, r.known)
	if err != nil {
		return nil, "", err
	}
	if !h.Trusts("ssh://" + r.Host) {
		return nil, "", nil // a host vouches for itself alone
	}
	if len(h.HostKeys) > 0 {
		ssh, err := openssh.Find(d.Log)
		if err != nil {
			return nil, "", err
		}
		shown, err := ssh.HostKeys(ctx, r.User, r.Host, openssh.HostKeyTypes...)
		if err != nil {
			return nil, "", err
		}
		for _, k := range shown {
			if slices.Contains(h.HostKeys, k.Fingerprint()) {
				return []sshkey.Public{k}, "description", nil
			}
		}
		return nil, "", changedKey(r.Host, h.HostKeys, shown)
	}
	if act := h.Actions["host-key-list"]; act == nil || act.By != "request" {
		return nil, "", nil
	}
	a, err := accounts.Named(d, r.account)
	if all, listed := accounts.On(d, h.Name); err != nil && listed == nil { // the key of a repository: any account may ask
		if len(all) == 0 {
			return nil, "", nil
		}
		a, err = all[0], nil
	}
	if err != nil {
		return nil, "", err
	}
	l, err := Open(ctx, d, a)
	if err != nil {
		return nil, "", err
	}
	items, err := l.List(ctx, "host-key-list", "tell its SSH keys", description.Vars{})
	if err != nil {
		return nil, "", err
	}
	var keys []sshkey.Public
	for _, item := range items {
		line, _ := item["key"].(string)
		k, err := sshkey.Read(line)
		if err != nil {
			return nil, "", fault.New(fault.Unreachable, "%s tells an SSH key of its own that cannot be read: %s", h.Name, text.Excerpt(line, 60))
		}
		keys = append(keys, k)
	}
	return keys, "API", nil
}

// pin writes keys of a host into our own file of known hosts, by the name that it is given here, and by the one for which
// ssh looks.
func pin(ctx context.Context, d *desk.Desk, ssh *openssh.Client, user, host string, keys []sshkey.Public) error {
	old, err := Pins(d)
	if err != nil {
		return err
	}
	settings, err := ssh.Settings(ctx, "", user, host)
	if err != nil {
		return err
	}
	names := []string{sshconfig.KnownHost(host)}
	if real := sshconfig.KnownHost(realName(settings)); real != names[0] {
		names = append(names, real)
	}
	var b strings.Builder
	for _, line := range old {
		if name, _, _ := strings.Cut(line, " "); !slices.Contains(names, name) {
			b.WriteString(line + "\n")
		}
	}
	for _, name := range names {
		for _, k := range keys {
			k.Comment = ""
			b.WriteString(name + " " + k.Line() + "\n")
		}
	}
	return files.Write(KnownHosts(d), []byte(b.String()), 0o600)
}

// Pins are the lines of our own file of known hosts: name, kind and key of each that was confirmed on this machine.
func Pins(d *desk.Desk) ([]string, error) {
	old, err := files.Read(KnownHosts(d), 1<<20)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var lines []string
	for line := range strings.SplitSeq(string(old), "\n") {
		if line != "" {
			lines = append(lines, line)
		}
	}
	return lines, nil
}

// NewPins gives of such lines those of hosts of which no key is known here.
func NewPins(d *desk.Desk, lines []string) ([]string, error) {
	ours, err := Pins(d)
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, line := range ours {
		name, _, _ := strings.Cut(line, " ")
		known[name] = true
	}
	return slices.DeleteFunc(slices.Clone(lines), func(line string) bool {
		name, _, _ := strings.Cut(line, " ")
		return known[name]
	}), nil
}

// TakePins adds such lines of hosts of which no key is known here.
func TakePins(d *desk.Desk, lines []string) error {
	fresh, err := NewPins(d, lines)
	if err != nil || len(fresh) == 0 {
		return err
	}
	ours, err := Pins(d)
	if err != nil {
		return err
	}
	return files.Write(KnownHosts(d), []byte(strings.Join(append(ours, fresh...), "\n")+"\n"), 0o600)
}

// PinHost pins a host's key, once the person said which fingerprint is right: the host
// must show that very key now.
func PinHost(ctx context.Context, d *desk.Desk, host, fingerprint string, preview bool) (sshkey.Public, error) {
	ssh, err := openssh.Find(d.Log)
	if err != nil {
		return sshkey.Public{}, err
	}
	user := ""
	if u, rest, ok := strings.Cut(host, "@"); ok {
		user, host = u, rest
	}
	at, err := address.Parse("ssh://" + host + "/x")
	if err != nil {
		return sshkey.Public{}, fault.New(fault.Usage, "%s is not a host's name, with or without a port", text.Quote(host)).Because(err)
	}
	host = at.Host
	keys, err := ssh.HostKeys(ctx, user, host, openssh.HostKeyTypes...)
	if err != nil {
		return sshkey.Public{}, err
	}
	var shown []string
	for _, k := range keys {
		if k.Fingerprint() == fingerprint {
			if preview {
				return k, nil
			}
			return k, pin(ctx, d, ssh, user, host, []sshkey.Public{k})
		}
		shown = append(shown, k.Fingerprint())
	}
	return sshkey.Public{}, fault.New(fault.Refused, "%s does not show the key %s", text.Visible(host), text.Quote(fingerprint)).
		Detail("It shows %s.", strings.Join(shown, ", ")).Detail("Nothing was pinned. Ask the host's operator which one is right.")
}

// checkHostKey tells, after a failure, whether the host shows another key than the one
// that is pinned.
func checkHostKey(ctx context.Context, d *desk.Desk, r *Route) error {
	pinned, err := openssh.Known(ctx, KnownHosts(d), r.Host)
	if err != nil || len(pinned) == 0 {
		return err
	}
	ssh, err := openssh.Find(d.Log)
	if err != nil {
		return err
	}
	var types []string
	for _, p := range pinned {
		types = append(types, p.Type)
	}
	shown, err := ssh.HostKeys(ctx, r.User, r.Host, types...)
	if err != nil {
		shown, err = ssh.HostKeys(ctx, r.User, r.Host) // it may have none of those types any more
	}
	if err != nil {
		return nil // it cannot be reached, which is told as such
	}
	var prints []string
	for _, p := range pinned {
		for _, s := range shown {
			if s.Same(p) {
				return nil
			}
		}
		prints = append(prints, p.Fingerprint())
	}
	return changedKey(r.Host, prints, shown)
}

func changedKey(host string, known []string, shown []sshkey.Public) error {
	f := fault.New(fault.Refused, "%s shows another SSH key than the one it is known by", text.Visible(host)).
		Detail("Known: %s", strings.Join(known, ", "))
	for _, k := range shown {
		f.Detail("Shown: %s (%s)", k.Fingerprint(), k.Type)
	}
	return f.Detail("Either its operator changed it, or someone is in between. Nothing was sent.").
		Try("only if the operator says that the new one is right", text.Command("uncinate", "host", "pin", host, "--fingerprint", shown[0].Fingerprint()))
}
