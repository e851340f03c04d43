package many

import (
	"context"
	"strings"
	"sync"

	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/project"
)

// mostWaiting is of how many offers of an account it is counted whose they are.
const mostWaiting = 300

// askOffers counts the offers to merge that wait, by a project's folder: for each account whose host tells of
// all at once, by one list. It is a hint: what cannot be asked is left out.
func askOffers(ctx context.Context, d *desk.Desk, all []project.Project) map[string]int {
	out := map[string]int{}
	var mu sync.Mutex
	var work sync.WaitGroup
	groups := map[string][]project.Project{}
	for _, p := range all {
		if p.Account != "" {
			groups[p.Account] = append(groups[p.Account], p)
		}
	}
	d.Common()
	for name, group := range groups {
		work.Go(func() {
			a, err := accounts.Named(d, name)
			if err != nil || a.Host == "" || a.NoToken {
				return
			}
			h, err := accounts.HostOf(d, a)
			if err != nil || h.Actions["offer-all-list"] == nil {
				return
			}
			l, err := login.Open(ctx, d, a)
			if err != nil {
				return // the host's branches are asked for with the same token, and its end is told there
			}
			waiting, err := offering.Waiting(ctx, l, mostWaiting)
			if err != nil {
				d.Log.Debug("offers not asked for", "account", name, "why", err)
				return
			}
			mu.Lock()
			defer mu.Unlock()
			for _, p := range group {
				_, owner, repository := hosts.RecogniseAmong([]*hosts.Host{l.Host}, p.Address)
				out[p.Folder] = waiting[strings.ToLower(owner+"/"+repository)]
			}
		})
	}
	work.Wait()
	return out
}
