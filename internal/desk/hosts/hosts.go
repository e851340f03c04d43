// Package hosts knows the hosts of this machine and their descriptions: which there are, how to
// add and forget one, whose address a spelling is, and what a description advises. It reads and
// writes files of the program's own; it never asks a host anything.
package hosts

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
)

// Host is a host that this machine knows.
type Host struct {
	Name string
	At   string // the base address that is used
	*description.Description
}

// hostEntry is how a host is noted in hosts.json; its description is beside it.
type hostEntry struct {
	At string `json:"at,omitempty"` // another base address than the description's own
}

func hostsFile(d *desk.Desk) string { return filepath.Join(d.Home.Config, "hosts.json") }

// DescriptionFile is where the description of a known host is.
func DescriptionFile(d *desk.Desk, name string) string {
	return filepath.Join(d.Home.Config, "hosts", name+".toml")
}

func hostEntries(d *desk.Desk) (map[string]hostEntry, error) {
	entries := map[string]hostEntry{}
	_, err := files.ReadJSON(hostsFile(d), &entries)
	return entries, err
}

// Checked is what came of checking a description.
type Checked struct {
	File        string
	Description *description.Description
	Mistakes    []description.Mistake
	Text        []byte
}

// CheckDescription reads a description: a file, or the name of one that ships with
// the program.
func CheckDescription(d *desk.Desk, source string) (Checked, error) { return checkAt(d, source, "") }

// checkAt is the same for a host that is at another base address than the description's own.
func checkAt(d *desk.Desk, source, at string) (Checked, error) {
	c := Checked{File: source}
	var err error
	shipped := !strings.ContainsAny(source, `/\.`)
	if shipped {
		c.Text, err = fs.ReadFile(d.Shipped, source+".toml")
	} else {
		c.Text, err = files.Read(source, description.Most)
	}
	if errors.Is(err, fs.ErrNotExist) {
		f := fault.New(fault.Failed, "there is no file %s", text.Visible(source))
		if shipped {
			f = fault.New(fault.Failed, "no description named %s ships with the program, and it is not a file", text.Quote(source)).
				Detail("Shipped are: %s", strings.Join(ShippedNames(d), ", "))
			f.Detail("A file is given with its path, such as ./%s.toml", text.Visible(source))
		} else if host, _, _ := strings.Cut(source, "/"); strings.Contains(host, ".") && host != "." && host != ".." && !strings.HasSuffix(source, ".toml") {
			scheme := "https://"
			if address.Guarded("http", host) { // this machine's own
				scheme = "http://"
			}
			f.Try("if it is a host that publishes its description", text.Command("uncinate", "host", "add", scheme+source))
		}
		return c, f
	}
	if err != nil {
		return c, err
	}
	c.Description, c.Mistakes = description.LoadAt(c.Text, at)
	return c, nil
}

// ShippedNames lists the descriptions that ship with the program.
func ShippedNames(d *desk.Desk) []string {
	var names []string
	entries, err := fs.ReadDir(d.Shipped, ".")
	if err == nil {
		for _, e := range entries {
			if name, ok := strings.CutSuffix(e.Name(), ".toml"); ok {
				names = append(names, name)
			}
		}
	}
	return names
}

// MistakesFault is the fault of a description with mistakes.
func MistakesFault(c Checked) *fault.Fault {
	f := fault.New(fault.Usage, "the description %s has %s", text.Visible(c.File), text.Count(len(c.Mistakes), "mistake"))
	for i, m := range c.Mistakes {
		if i == 12 {
			return f.Detail("and %d more", len(c.Mistakes)-i)
		}
		f.Detail("%s", m.String())
	}
	return f
}

// Forget makes this machine forget a host; nothing is changed on the host. accountsOn
// names the accounts that a host has. With preview it is only checked.
func Forget(ctx context.Context, d *desk.Desk, name string, accountsOn func(host string) ([]string, error), preview bool) error {
	entries, err := hostEntries(d)
	if err != nil {
		return err
	}
	if _, known := entries[name]; !known {
		return unknownHost(d, name, entries)
	}
	accounts, err := accountsOn(name)
	if err != nil {
		return err
	}
	if len(accounts) > 0 {
		f := fault.New(fault.Refused, "%s still has %s on this machine", name, text.Count(len(accounts), "account"))
		for _, a := range accounts {
			f.Try("", text.Command("uncinate", "account", "forget", a))
		}
		return f
	}
	if preview {
		return nil
	}
	return desk.Alter(ctx, d, hostsFile(d), func(entries map[string]hostEntry) (map[string]hostEntry, error) {
		delete(entries, name)
		return entries, nil
	})
}

// All lists the known hosts by name.
func All(d *desk.Desk) ([]*Host, error) {
	entries, err := hostEntries(d)
	if err != nil {
		return nil, err
	}
	var out []*Host
	for _, name := range slices.Sorted(maps.Keys(entries)) {
		h, err := Named(d, name)
		if err != nil {
			return nil, err
		}
		out = append(out, h)
	}
	return out, nil
}

// readOnce are the hosts that were read in this run.
type readOnce struct {
	mu    sync.Mutex
	hosts map[string]*Host
}

// Named loads a known host.
func Named(d *desk.Desk, name string) (*Host, error) {
	if !d.Among {
		return readHost(d, name)
	}
	s := desk.Memory[readOnce](d)
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.hosts[name]; h != nil {
		own := *h
		return &own, nil
	}
	h, err := readHost(d, name)
	if err == nil {
		if s.hosts == nil {
			s.hosts = map[string]*Host{}
		}
		own := *h
		s.hosts[name] = &own
	}
	return h, err
}

func readHost(d *desk.Desk, name string) (*Host, error) {
	entries, err := hostEntries(d)
	if err != nil {
		return nil, err
	}
	entry, known := entries[name]
	if !known {
		return nil, unknownHost(d, name, entries)
	}
	c, err := checkAt(d, DescriptionFile(d, name), entry.At)
	if err != nil {
		return nil, err
	}
	if len(c.Mistakes) > 0 {
		return nil, MistakesFault(c)
	}
	return &Host{Name: name, At: c.Description.Base, Description: c.Description}, nil
}

func unknownHost(d *desk.Desk, name string, entries map[string]hostEntry) error {
	f := fault.New(fault.Failed, "no host named %s is known on this machine", text.Quote(name))
	if strings.Contains(name, "://") { // its address, where its name is wanted
		for _, known := range slices.Sorted(maps.Keys(entries)) {
			if h, err := readHost(d, known); err == nil && description.OriginOf(h.At) == description.OriginOf(name) {
				return f.Detail("The host at this address is called %s.", known).Try("see it", text.Command("uncinate", "host", "show", known))
			}
		}
	}
	if near := text.Nearest(name, slices.Sorted(maps.Keys(entries))); near != "" {
		f.Detail("Did you mean %s?", near)
	}
	if slices.Contains(ShippedNames(d), name) {
		return f.Try("make it known, with the address that \"uncinate practice\" prints", text.Command("uncinate", "host", "add", name, "--at", "http://127.0.0.1:PORT"))
	}
	return f.Try("see the known ones", "uncinate host list")
}

// Recognise finds the known host that an address belongs to; nil if none.
func Recognise(d *desk.Desk, spelling string) (h *Host, owner, name string, err error) {
	hosts, err := All(d)
	if err != nil {
		return nil, "", "", err
	}
	h, owner, name = RecogniseAmong(hosts, spelling)
	return h, owner, name, nil
}

// PageOf finds the repository to one of whose pages on a known host an address leads; false for none.
func PageOf(d *desk.Desk, spelling string) (h *Host, owner, name string, found bool) {
	a, err := address.Parse(strings.SplitN(spelling, "?", 2)[0])
	if err != nil || a.Scheme == "ssh" {
		return nil, "", "", false
	}
	all, err := All(d)
	if err != nil {
		return nil, "", "", false
	}
	for parts := strings.Split(a.Path, "/"); len(parts) > 2; {
		parts = parts[:len(parts)-1]
		up := a
		up.Path, up.Suffix = strings.Join(parts, "/"), false
		if h, owner, name = RecogniseAmong(all, up.String()); h != nil {
			return h, owner, name, true
		}
	}
	return nil, "", "", false
}

// RecogniseAmong is Recognise among hosts that were read already.
func RecogniseAmong(hosts []*Host, spelling string) (h *Host, owner, name string) {
	rooted := spelling
	if a, err := address.Parse(spelling); err == nil {
		spelling = a.Bare().String()
		if a.Scheme == "ssh" {
			spelling = a.String()
		}
		if rooted = spelling; a.Home { // most hosts know of no home folder
			rooted = a.Rooted().String()
		}
	}
	for _, h := range hosts {
		one := rooted
		if h.Shell != nil {
			one = spelling
		}
		if owner, name, ok := h.Recognise(one); ok {
			return h, owner, name
		}
	}
	return nil, "", ""
}
