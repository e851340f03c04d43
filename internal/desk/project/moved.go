package project

import (
	"context"
	"slices"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// AttachedTo lists this machine's projects that are attached to a repository.
func AttachedTo(d *desk.Desk, r description.Repository) ([]Project, error) {
	all, err := Register(d)
	var out []Project
	for _, p := range all {
		at, e := address.Parse(p.Address)
		if e != nil {
			continue
		}
		for _, s := range []string{r.HTTPS, r.SSH} {
			if own, e := address.Parse(s); e == nil && own.Same(at) {
				out = append(out, p)
				break
			}
		}
	}
	return out, err
}

// Follow ties projects to a repository's new addresses, over the transport that each has.
func Follow(ctx context.Context, d *desk.Desk, projects []Project, r description.Repository) error {
	for _, p := range projects {
		if files.Reached(p.Folder) == files.None {
			d.Tell.Note("Note: the project %s is no longer there.", text.Visible(p.Folder))
			continue
		}
		f, err := Look(ctx, d, p.Folder)
		if err != nil {
			return err
		}
		h, err := TieOf(ctx, d, f, p)
		if err != nil {
			return err
		}
		to := r.HTTPS
		if h.Address.Scheme == "ssh" {
			to = r.SSH
		}
		if h.Address, err = address.Parse(to); err != nil {
			return err
		}
		if err := h.Set(ctx); err != nil {
			return git.Fault(err, "git's configuration cannot be written")
		}
		p.Address, p.Page = h.Address.String(), r.Page
		if err := Enter(ctx, d, p); err != nil {
			return err
		}
	}
	return nil
}

// WentTo finds, of projects whose hosts have no such repository any more, where the ones
// with the same ids are now: a repository may be renamed, or given to another owner. It
// gives them by folder; a project of which the host tells nothing is not among them.
func WentTo(ctx context.Context, d *desk.Desk, some []Project) map[string]description.Repository {
	out := map[string]description.Repository{}
	lists := map[string][]description.Repository{}
	for _, p := range some {
		if p.ID == "" || p.Account == "" {
			continue
		}
		a, err := accounts.Named(d, p.Account)
		if err != nil || a.Host == "" || a.NoToken {
			continue // nobody can be asked, so that the refusal stands
		}
		l, err := login.Open(ctx, d, a)
		if err != nil {
			continue
		}
		if _, listed := lists[p.Account]; !listed {
			if lists[p.Account], err = l.Repositories(ctx, ""); err != nil {
				d.Log.Debug("where a repository went", "account", p.Account, "why", err)
			}
		}
		i := slices.IndexFunc(lists[p.Account], func(r description.Repository) bool { return r.ID == p.ID })
		if i < 0 {
			continue
		}
		there, err := l.Host.WithSSH(lists[p.Account][i])
		if err != nil || KeyOf(there.HTTPS) == KeyOf(p.Address) || KeyOf(there.SSH) == KeyOf(p.Address) {
			continue // it is where it was, so the refusal has another cause
		}
		out[p.Folder] = there
	}
	return out
}
