package job

import (
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/draft"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// Host is a host that this machine knows.
type Host struct {
	Name string
	At   string // the base address in force
	*description.Description
}

// hostEntry is how a host is noted in hosts.json; its description lies beside it.
type hostEntry struct {
	At string `json:"at,omitempty"` // another base address than the description's own
}

func (d *Desk) hostsFile() string { return filepath.Join(d.Home.Config, "hosts.json") }

// DescriptionFile is where the description of a known host lies.
func (d *Desk) DescriptionFile(name string) string {
	return filepath.Join(d.Home.Config, "hosts", name+".toml")
}

func (d *Desk) hostEntries() (map[string]hostEntry, error) {
	entries := map[string]hostEntry{}
	_, err := files.ReadJSON(d.hostsFile(), &entries)
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
func (d *Desk) CheckDescription(source string) (Checked, error) {
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
			f = fault.New(fault.Failed, "no description named %s ships with the program, and it is no file", text.Quote(source)).
				Detail("Shipped are: %s", strings.Join(d.ShippedNames(), ", "))
			f.Detail("A file is given with its path, such as ./%s.toml", text.Visible(source))
		}
		return c, f
	}
	if err != nil {
		return c, err
	}
	c.Description, c.Mistakes = description.Load(c.Text)
	return c, nil
}

// ShippedNames lists the descriptions that ship with the program.
func (d *Desk) ShippedNames() []string {
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

// DraftHost writes a first description from an OpenAPI document.
func (d *Desk) DraftHost(path string) (draft.Draft, error) {
	data, err := files.Read(path, draft.Most)
	if errors.Is(err, fs.ErrNotExist) {
		return draft.Draft{}, fault.New(fault.Failed, "there is no file %s", text.Visible(path))
	}
	if err != nil {
		return draft.Draft{}, err
	}
	root, err := draft.Read(data)
	if err != nil {
		return draft.Draft{}, fault.New(fault.Failed, "%s can be read neither as JSON nor as YAML: %s", text.Visible(path), text.Excerpt(err.Error(), 160))
	}
	out, why := draft.FromOpenAPI(root)
	if why != "" {
		return out, fault.New(fault.Failed, "%s cannot be used: %s", text.Visible(path), why)
	}
	return out, nil
}

// AddHost makes a host known: source as for CheckDescription, at another base
// address or "", name another name or "". accountsOn names the accounts that a host has.
func (d *Desk) AddHost(source, at, name string, accountsOn func(host string) ([]string, error)) (*Host, error) {
	c, err := d.CheckDescription(source)
	if err != nil {
		return nil, err
	}
	if len(c.Mistakes) > 0 {
		return nil, MistakesFault(c)
	}
	if name == "" {
		name = c.Description.Name
	}
	if strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
		return nil, fault.New(fault.Usage, "a host's name is made of small letters, digits and dashes, and %s is not", text.Quote(name))
	}
	at = strings.TrimSuffix(at, "/")
	if at != "" {
		if why := c.Description.CheckBase(at); why != "" {
			return nil, fault.New(fault.Refused, "the address %s cannot be taken: %s", text.Excerpt(at, 80), why)
		}
	}
	entries, err := d.hostEntries()
	if err != nil {
		return nil, err
	}
	if _, known := entries[name]; known {
		accounts, err := accountsOn(name)
		if err != nil {
			return nil, err
		}
		base := at
		if base == "" {
			base = c.Description.Base
		}
		old, err := d.Host(name)
		if len(accounts) > 0 && (err != nil || old.At != base) {
			return nil, fault.New(fault.Refused, "%s is known already, at another address, and has %s that would be sent to the new one", name, text.Count(len(accounts), "account")).
				Try("know the new address under another name", text.Command("uncinate", "host", "add", source, "--at", base, "--as", name+"-2")).
				Try("or forget the old one first", text.Command("uncinate", "host", "forget", name))
		}
	}
	if err := files.Write(d.DescriptionFile(name), c.Text, 0o600); err != nil {
		return nil, err
	}
	entries[name] = hostEntry{At: at}
	if err := files.WriteJSON(d.hostsFile(), entries); err != nil {
		return nil, err
	}
	return d.Host(name)
}

// ForgetHost makes this machine forget a host; nothing is changed on the host. accountsOn
// names the accounts that a host has.
func (d *Desk) ForgetHost(name string, accountsOn func(host string) ([]string, error)) error {
	entries, err := d.hostEntries()
	if err != nil {
		return err
	}
	if _, known := entries[name]; !known {
		return d.unknownHost(name, entries)
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
	delete(entries, name)
	return files.WriteJSON(d.hostsFile(), entries)
}

// Hosts lists the known hosts by name.
func (d *Desk) Hosts() ([]*Host, error) {
	entries, err := d.hostEntries()
	if err != nil {
		return nil, err
	}
	var out []*Host
	for _, name := range slices.Sorted(maps.Keys(entries)) {
		h, err := d.Host(name)
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

// Host loads a known host.
func (d *Desk) Host(name string) (*Host, error) {
	if !d.among {
		return d.readHost(name)
	}
	s := Memory[readOnce](d)
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.hosts[name]; h != nil {
		own := *h
		return &own, nil
	}
	h, err := d.readHost(name)
	if err == nil {
		if s.hosts == nil {
			s.hosts = map[string]*Host{}
		}
		own := *h
		s.hosts[name] = &own
	}
	return h, err
}

func (d *Desk) readHost(name string) (*Host, error) {
	entries, err := d.hostEntries()
	if err != nil {
		return nil, err
	}
	entry, known := entries[name]
	if !known {
		return nil, d.unknownHost(name, entries)
	}
	c, err := d.CheckDescription(d.DescriptionFile(name))
	if err != nil {
		return nil, err
	}
	if len(c.Mistakes) > 0 {
		return nil, MistakesFault(c)
	}
	if entry.At != "" {
		c.Description.Base = entry.At
	}
	return &Host{Name: name, At: c.Description.Base, Description: c.Description}, nil
}

func (d *Desk) unknownHost(name string, entries map[string]hostEntry) error {
	f := fault.New(fault.Failed, "no host named %s is known on this machine", text.Quote(name))
	if near := text.Nearest(name, slices.Sorted(maps.Keys(entries))); near != "" {
		f.Detail("Did you mean %s?", near)
	}
	if slices.Contains(d.ShippedNames(), name) {
		return f.Try("make it known, with the address that \"uncinate practice\" prints", text.Command("uncinate", "host", "add", name, "--at", "http://127.0.0.1:PORT"))
	}
	return f.Try("see the known ones", "uncinate host list")
}

// Recognise finds the known host that an address belongs to; nil if none.
func (d *Desk) Recognise(spelling string) (h *Host, owner, name string, err error) {
	hosts, err := d.Hosts()
	if err != nil {
		return nil, "", "", err
	}
	h, owner, name = recogniseAmong(hosts, spelling)
	return h, owner, name, nil
}

// recogniseAmong is Recognise among hosts that were read already.
func recogniseAmong(hosts []*Host, spelling string) (h *Host, owner, name string) {
	if a, err := address.Parse(spelling); err == nil {
		spelling = a.Bare().String()
		if a.Scheme == "ssh" {
			spelling = a.String()
		}
	}
	for _, h := range hosts {
		if owner, name, ok := h.Recognise(spelling); ok {
			return h, owner, name
		}
	}
	return nil, "", ""
}
