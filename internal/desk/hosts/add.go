package hosts

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
)

// Adding is a description that was looked at, to make a host known by it. To do that is to trust
// it with the tokens of the host's accounts.
type Adding struct {
	Host     *Host
	Accounts []string // those of a host of that name, which it would serve from then on
	Gone     []string // lines of the description in whose place it comes, where it has accounts
	New      []string
	From     string // where it was published; "" where it is the person's own, or came with the program
	desk     *desk.Desk
	at       string
	text     []byte
}

// Asks reports whether the person has to agree: it names origins beside the host's own, or it
// changes the description of a host with accounts, or somebody else published it.
func (a *Adding) Asks() bool {
	return a.From != "" || len(a.Host.Trust) > 0 || len(a.Gone)+len(a.New) > 0
}

// PlanAdd looks at a description: source as for CheckDescription, at another base address or "",
// name another name or "". accountsOn names the accounts that a host has.
func PlanAdd(d *desk.Desk, source, at, name string, accountsOn func(host string) ([]string, error)) (*Adding, error) {
	at = strings.TrimSuffix(at, "/")
	c, err := checkAt(d, source, at)
	if err != nil {
		return nil, err
	}
	if len(c.Mistakes) > 0 {
		return nil, MistakesFault(c)
	}
	return planChecked(d, c, at, name, accountsOn)
}

// planChecked looks at a description without mistakes.
func planChecked(d *desk.Desk, c Checked, at, name string, accountsOn func(host string) ([]string, error)) (*Adding, error) {
	source := c.File
	at = strings.TrimSuffix(at, "/")
	name = cmp.Or(name, c.Description.Name)
	if strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
		return nil, fault.New(fault.Usage, "a host's name is made of small letters, digits and dashes, and %s is not", text.Quote(name))
	}
	if at != "" {
		if why := c.Description.CheckBase(at); why != "" {
			return nil, fault.New(fault.Refused, "the address %s cannot be taken: %s", text.Excerpt(at, 80), why)
		}
	}
	entries, err := hostEntries(d)
	if err != nil {
		return nil, err
	}
	a := &Adding{Host: &Host{Name: name, At: c.Description.Base, Description: c.Description}, desk: d, at: at, text: c.Text}
	if _, known := entries[name]; !known {
		return a, nil
	}
	if a.Accounts, err = accountsOn(name); err != nil || len(a.Accounts) == 0 {
		return a, err
	}
	old, err := Named(d, name)
	if err != nil || old.At != a.Host.At {
		return nil, fault.New(fault.Refused, "%s is known already, at another address, and has %s that would be sent to the new one", name, text.Count(len(a.Accounts), "account")).
			Try("know the new address under another name", text.Command("uncinate", "host", "add", source, "--at", a.Host.At, "--as", name+"-2")).
			Try("or forget the old one first", text.Command("uncinate", "host", "forget", name))
	}
	stands, err := files.Read(DescriptionFile(d, name), description.Most)
	if err != nil {
		return nil, err
	}
	a.Gone, a.New = apart(string(stands), string(c.Text)), apart(string(c.Text), string(stands))
	return a, nil
}

// apart gives the lines of a text that another does not have.
func apart(one, other string) []string {
	has := strings.Split(other, "\n")
	slices.Sort(has)
	return slices.DeleteFunc(strings.Split(one, "\n"), func(line string) bool {
		_, found := slices.BinarySearch(has, line)
		return found || strings.TrimSpace(line) == ""
	})
}

// Do makes the host known; one that somebody else described has to answer first as that says.
func (a *Adding) Do(ctx context.Context) (*Host, error) {
	d, name := a.desk, a.Host.Name
	if a.From != "" && a.Host.Shell == nil {
		if err := answers(ctx, d, a.Host.Description); err != nil {
			return nil, err
		}
	}
	err := desk.Alter(ctx, d, hostsFile(d), func(entries map[string]hostEntry) (map[string]hostEntry, error) {
		if entries == nil {
			entries = map[string]hostEntry{}
		}
		entries[name] = hostEntry{At: a.at}
		return entries, files.Write(DescriptionFile(d, name), a.text, 0o600)
	})
	if err != nil {
		return nil, err
	}
	return Named(d, name)
}
