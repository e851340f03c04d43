package job

import (
	"context"
	"maps"
	"slices"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Visit gives the address of a project's page, or of a part of it.
func (d *Desk) Visit(ctx context.Context, given, part string) (string, error) {
	var h *Host
	var owner, name string
	_, p, err := d.projectFor(ctx, given)
	if err != nil {
		return "", err
	}
	if h, owner, name, err = d.Recognise(p.Address); err != nil {
		return "", err
	}
	if h == nil {
		if part != "" {
			return "", fault.New(fault.Failed, "nobody described the host of %s, so its pages are not known", p.Address)
		}
		at, err := address.Parse(p.Address)
		if err != nil {
			return "", err
		}
		if at.Scheme == "ssh" {
			return "", fault.New(fault.Failed, "nobody described the host of %s, so its pages are not known", p.Address)
		}
		at.Suffix = false
		return at.String(), nil
	}
	t := h.Page
	if part != "" {
		if t = h.Pages[part]; t == nil {
			var known []string
			for k := range h.Pages {
				known = append(known, k)
			}
			f := fault.New(fault.Usage, "the description of %s names no page for %s", h.Name, text.Quote(part))
			if near := text.Nearest(part, known); near != "" {
				f.Detail("Did you mean %s?", near)
			}
			return "", f
		}
	}
	if t == nil {
		return "", fault.New(fault.Failed, "the description of %s names no page for a repository", h.Name)
	}
	return h.Expand(t, description.Vars{"owner": owner, "name": name, "path": owner + "/" + name})
}

// projectFor finds the project that a folder, or one above it, is.
func (d *Desk) projectFor(ctx context.Context, given string) (*folder, Project, error) {
	f, err := d.lookAround(ctx, given)
	if err != nil {
		return nil, Project{}, err
	}
	p, err := d.projectOf(f)
	return f, p, err
}

// projectOf finds a looked-at folder in the register, or takes what its remote says.
func (d *Desk) projectOf(f *folder) (Project, error) {
	p, found, err := d.ProjectAt(f.path)
	if err != nil {
		return p, err
	}
	if found {
		if name := remoteNow(p, f.remotes); name != p.Remote {
			if err := d.renameRemote(f.path, p.Remote, name); err != nil {
				return p, err
			}
			p.Remote = name
		}
		if url := f.remotes[p.Remote]; url != "" {
			if at, err := address.Parse(url); err == nil && at.Key() != keyOf(p.Address) {
				// Plain git moved the remote since; what counts is what stands there.
				return Project{Folder: f.path, Remote: p.Remote, Address: at.Bare().String()}, nil
			}
			return p, nil
		}
	}
	if url := f.remotes["origin"]; url != "" {
		at, err := address.Parse(url)
		if err != nil {
			return p, fault.New(fault.Decision, "the remote origin leads to an address that is not supported: %s", fault.Of(err).Says)
		}
		return Project{Folder: f.path, Remote: "origin", Address: at.Bare().String()}, nil
	}
	if found {
		return p, fault.New(fault.Decision, "the remote %s, by which %s was hooked to %s, is not there any more", text.Visible(p.Remote), text.Visible(f.path), text.Visible(p.Address)).
			Try("hook it again", text.Command("uncinate", "attach", "--to", p.Address, f.path))
	}
	return p, fault.New(fault.Decision, "%s is not hooked to a repository yet", text.Visible(f.path)).
		Try("hook it", text.Command("uncinate", "attach", f.path))
}

// remoteNow is what a project's remote is called: plain git may have renamed it since.
func remoteNow(p Project, remotes map[string]string) string {
	if remotes[p.Remote] != "" {
		return p.Remote
	}
	for _, name := range slices.Sorted(maps.Keys(remotes)) {
		if keyOf(remotes[name]) == keyOf(p.Address) {
			return name
		}
	}
	return p.Remote
}

func keyOf(s string) string {
	at, err := address.Parse(s)
	if err != nil {
		return s
	}
	return at.Key()
}

// hookOf gives the hook of a project that stands.
func (d *Desk) hookOf(ctx context.Context, f *folder, p Project) (*hook, error) {
	at, err := address.Parse(p.Address)
	if err != nil {
		return nil, err
	}
	h := &hook{desk: d, repo: f.repo, remote: p.Remote, address: at}
	if p.Account != "" {
		if h.account, err = d.Account(p.Account); err != nil {
			return nil, fault.New(fault.Decision, "the account %s, with which this project was hooked, is not known any more", p.Account).
				Try("add it again", text.Command("uncinate", "account", "add", p.Account, "--host", p.Host))
		}
		d.warn(h.account)
		if err := d.mend(ctx, p); err != nil {
			return nil, err
		}
		if h.key, err = d.keyOf(h.account.Name, keyInForce); err != nil {
			return nil, err
		}
		if at.Scheme == "ssh" && h.key == nil {
			return nil, d.NoKey(h.account)
		}
		user, _, err := d.gitLogin(ctx, h.account, "")
		if err != nil {
			return nil, err
		}
		if err := d.checkNetrc(at, user); err != nil {
			return nil, err
		}
	}
	return h, nil
}
