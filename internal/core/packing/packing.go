// Package packing is what is carried from one machine to another: hosts, accounts, settings and
// projects, and never a secret. A pack from elsewhere is read strictly, within bounds, and no folder in it
// leads out of the one that it is put into.
package packing

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"io"
	"path"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
)

// Version is the form of a pack that this program writes and reads.
const Version = 1

// The bounds of a pack.
const (
	MostBytes    = 16 << 20 // of the whole, before it is sealed
	MostHosts    = 100
	MostAccounts = 500
	MostProjects = 10_000
	MostKinds    = 100
	MostPins     = 1000
	MostRemotes  = 20     // of a project, besides its own
	MostBranches = 10_000 // of a project
	mostWord     = 4096
)

// Pack is what a machine hands on.
type Pack struct {
	Version  int               `json:"version"`
	Machine  string            `json:"machine"`
	Made     time.Time         `json:"made"`
	Hosts    []Host            `json:"hosts"`
	Accounts []Account         `json:"accounts"`
	Settings Settings          `json:"settings"`
	Pins     []string          `json:"pins,omitempty"`  // hosts' own SSH keys that were confirmed: name, kind and key, as in known_hosts of sshd(8)
	Kinds    map[string]string `json:"kinds,omitempty"` // by file name: descriptions of one's own kinds of projects
	Projects []Project         `json:"projects"`
}

// Host is a known host.
type Host struct {
	Name        string `json:"name"`
	At          string `json:"at,omitempty"` // another base address than the description's own
	Description string `json:"description"`
}

// Account is an account without its secrets.
type Account struct {
	Name     string   `json:"name"`
	Host     string   `json:"host,omitempty"`
	Address  string   `json:"address,omitempty"` // of the one repository that it is for, where no host is known
	User     string   `json:"user"`
	FullName string   `json:"full_name,omitempty"`
	Email    string   `json:"email,omitempty"`
	May      []string `json:"may,omitempty"`
	Over     string   `json:"over,omitempty"`
	Default  bool     `json:"default,omitempty"`
	NoToken  bool     `json:"no_token,omitempty"`
	Key      bool     `json:"key,omitempty"` // it had an SSH key there, and gets a new one here
}

// Settings are those that hold on every machine.
type Settings struct {
	RescueDays int  `json:"rescue_days,omitempty"`
	Foresee    int  `json:"foresee,omitempty"`
	Flat       bool `json:"flat,omitempty"`
}

// Project is an attached project.
type Project struct {
	Folder       string   `json:"folder"` // below the folder into which all are put, with slashes
	Address      string   `json:"address"`
	Account      string   `json:"account,omitempty"`
	Remote       string   `json:"remote,omitempty"` // what git calls its repository; "" for origin
	Remotes      []Remote `json:"remotes,omitempty"`
	Branch       string   `json:"branch,omitempty"` // that is checked out
	Branches     []Branch `json:"branches,omitempty"`
	ReceivesOnly bool     `json:"receives_only,omitempty"`
}

// Remote is a further remote of a project: one that only receives, or a copy of one's own.
type Remote struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Account string `json:"account,omitempty"`
	Own     bool   `json:"own_copy,omitempty"`
}

// Branch is a branch of a project.
type Branch struct {
	Name   string `json:"name"`
	Remote string `json:"remote,omitempty"` // where that is; "" for the project's own repository
	On     string `json:"on,omitempty"`     // what it is called there; "" for the same
	Commit string `json:"commit,omitempty"` // where it is, for one without a counterpart
}

// At is the counterpart, as git knows it here: its remote, main for the project's own, and its name there.
func (b Branch) At(main string) string {
	return cmp.Or(b.Remote, main, "origin") + "/" + cmp.Or(b.On, b.Name)
}

// Read reads a pack strictly.
func Read(data []byte) (*Pack, error) {
	bad := func(format string, args ...any) error {
		return fault.New(fault.Refused, "the packed file cannot be used: "+format, args...)
	}
	if len(data) > MostBytes {
		return nil, bad("it is larger than %s", text.Size(MostBytes))
	}
	var head struct{ Version int }
	if json.Unmarshal(data, &head) == nil && head.Version > Version {
		return nil, bad("it was made by a newer version of this program (form %d; this one knows %d)", head.Version, Version)
	}
	in := json.NewDecoder(bytes.NewReader(data))
	in.DisallowUnknownFields()
	p := &Pack{}
	if err := in.Decode(p); err != nil {
		return nil, fault.Of(bad("it does not hold what machine pack writes")).Because(err)
	}
	if _, err := in.Token(); !errors.Is(err, io.EOF) {
		return nil, bad("there is something behind what machine pack writes")
	}
	if why := p.wrong(); why != "" {
		return nil, bad("%s", why)
	}
	return p, nil
}

// wrong says what is wrong with a pack; "" for nothing.
func (p *Pack) wrong() string {
	switch {
	case p.Version != Version:
		return "its form is not known"
	case len(p.Hosts) > MostHosts, len(p.Accounts) > MostAccounts, len(p.Projects) > MostProjects, len(p.Kinds) > MostKinds, len(p.Pins) > MostPins:
		return "it holds more than any machine has"
	}
	hosts, accounts, folders := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, h := range p.Hosts {
		if !isName(h.Name) || hosts[h.Name] || len(h.Description) > description.Most || len(h.At) > mostWord {
			return "one of its hosts, " + text.Quote(text.Excerpt(h.Name, 60)) + ", is none"
		}
		hosts[h.Name] = true
	}
	for _, a := range p.Accounts {
		if !isWord(a.Name) || accounts[a.Name] || !hosts[a.Host] && (a.Host != "" || a.Address == "") || a.Host != "" && a.Address != "" || a.Host == "" && a.Key || len(a.Address) > mostWord || len(a.User)+len(a.FullName)+len(a.Email) > mostWord || len(a.May) > 20 || a.Over != "" && a.Over != "https" && a.Over != "ssh" {
			return "one of its accounts, " + text.Quote(text.Excerpt(a.Name, 60)) + ", is none"
		}
		accounts[a.Name] = true
	}
	for name, says := range p.Kinds {
		if !isWord(name) || path.Ext(name) != ".toml" || len(says) > 1<<20 {
			return "one of its kinds of projects, " + text.Quote(text.Excerpt(name, 60)) + ", is none"
		}
	}
	for _, line := range p.Pins {
		name, key, _ := strings.Cut(line, " ")
		if k, err := sshkey.Read(key); err != nil || k.Line() != key || k.Comment != "" || name == "" || len(name) > 300 || strings.Trim(strings.ToLower(name), "abcdefghijklmnopqrstuvwxyz0123456789.-_:[]%") != "" {
			return "one of its hosts' SSH keys, " + text.Quote(text.Excerpt(line, 60)) + ", is none"
		}
	}
	for _, x := range p.Projects {
		fold := strings.ToLower(x.Folder)
		if Inside(x.Folder) != nil || folders[fold] || x.Account != "" && !accounts[x.Account] || len(x.Address) > mostWord || len(x.Branch) > mostWord || x.Address == "" {
			return "one of its projects, " + text.Quote(text.Excerpt(x.Folder, 60)) + ", is none, is there twice, or leads out of its folder"
		}
		if what := x.wrong(accounts); what != "" {
			return "of its project " + text.Quote(text.Excerpt(x.Folder, 60)) + " " + text.Quote(text.Excerpt(what, 60)) + " cannot be a remote or a branch"
		}
		folders[fold] = true
	}
	return ""
}

// wrong gives what of a project's remotes and branches cannot be; "" for nothing.
func (x Project) wrong(accounts map[string]bool) string {
	names := map[string]bool{cmp.Or(x.Remote, "origin"): true}
	switch {
	case x.Remote != "" && !isRef(x.Remote):
		return x.Remote
	case x.Branch != "" && !isRef(x.Branch):
		return x.Branch
	case len(x.Remotes) > MostRemotes || len(x.Branches) > MostBranches:
		return "(too many)"
	}
	for _, r := range x.Remotes {
		if !isRef(r.Name) || names[r.Name] || r.Address == "" || len(r.Address) > mostWord || r.Account != "" && !accounts[r.Account] {
			return r.Name
		}
		names[r.Name] = true
	}
	for _, b := range x.Branches {
		if !isRef(b.Name) || b.On != "" && !isRef(b.On) || b.Commit != "" && !isCommit(b.Commit) || b.Remote != "" && !names[b.Remote] {
			return b.Name
		}
	}
	return ""
}

// isCommit reports whether a word is a commit's whole id, in SHA-1 or SHA-256.
func isCommit(s string) bool {
	return (len(s) == 40 || len(s) == 64) && strings.Trim(s, "0123456789abcdef") == ""
}

// isRef reports whether a word is fit for a remote or a branch (git-check-ref-format documentation), and is no option.
func isRef(s string) bool {
	if s == "" || len(s) > 1000 || s == "@" || strings.ContainsAny(s, " ~^:?*[\\") || strings.Contains(s, "..") || strings.Contains(s, "@{") || strings.HasSuffix(s, ".") || s[0] == '-' ||
		strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return false
	}
	for part := range strings.SplitSeq(s, "/") {
		if part == "" || part[0] == '.' || strings.HasSuffix(part, ".lock") {
			return false
		}
	}
	return true
}

// Inside refuses a folder that is not below the one that it is put into, or that a system cannot hold.
func Inside(folder string) error {
	bad := folder == "" || len(folder) > mostWord || path.IsAbs(folder) || path.Clean(folder) != folder || folder == "." || strings.ContainsAny(folder, "\\\x00") ||
		strings.ContainsFunc(folder, func(r rune) bool { return r < ' ' || r == 0x7f })
	for part := range strings.SplitSeq(folder, "/") {
		bad = bad || part == ".." || strings.EqualFold(part, ".git") || strings.ContainsAny(part, ":") || strings.HasSuffix(part, ".") || strings.HasSuffix(part, " ")
	}
	if bad {
		return fault.New(fault.Refused, "%s cannot be a project's folder", text.Quote(text.Excerpt(folder, 80)))
	}
	return nil
}

// isName reports whether a word is fit for a host's name.
func isName(s string) bool {
	return s != "" && len(s) < 100 && strings.Trim(s, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}

// isWord reports whether a word is fit for a file's name of ours.
func isWord(s string) bool {
	return s != "" && len(s) < 200 && s[0] != '.' && s[0] != '-' && !strings.ContainsAny(s, "/\\:\x00") && !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f })
}
