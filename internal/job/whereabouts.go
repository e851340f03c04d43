package job

import (
	"context"
	"slices"

	"uncinate/internal/core/description"
)

// wentTo finds, of projects whose hosts have no such repository any more, where the ones
// with the same ids lie now: a repository may be renamed, or given to another owner. It
// gives them by folder; a project of which the host tells nothing is not among them.
func (d *Desk) wentTo(ctx context.Context, some []Project) map[string]description.Repository {
	out := map[string]description.Repository{}
	lists := map[string][]description.Repository{}
	for _, p := range some {
		if p.ID == "" || p.Account == "" {
			continue
		}
		a, err := d.Account(p.Account)
		if err != nil || a.Host == "" || a.NoToken {
			continue // nobody can be asked, so that the refusal stands
		}
		l, err := d.login(ctx, a)
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
		if err != nil || keyOf(there.HTTPS) == keyOf(p.Address) || keyOf(there.SSH) == keyOf(p.Address) {
			continue // it is where it was, so the refusal has another cause
		}
		out[p.Folder] = there
	}
	return out
}
