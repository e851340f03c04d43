package claims

import (
	"context"
	"slices"
	"strings"

	"uncinate/internal/core/claiming"
	"uncinate/internal/desk"
	"uncinate/internal/world/git"
)

// Listed is a claim as it is listed.
type Listed struct {
	claiming.Claim
	Mine    bool     `json:"mine"`
	Over    bool     `json:"over,omitempty" says:"it has ended"`
	Changed []string `json:"changed_here,omitempty" says:"files under it that are changed here"`
}

// List is all claims of a project.
type List struct {
	Folder  string   `json:"folder"`
	Ref     string   `json:"ref,omitempty" says:"where they are on the host; empty: nobody has claimed anything yet"`
	Claims  []Listed `json:"claims"`
	Clock   bool     `json:"host_tells_time" says:"they end by the host's clock; otherwise by this machine's, 15 minutes later"`
	Dropped string   `json:"dropped,omitempty" says:"that the host no longer has them"`
	Taken   []string `json:"taken_from_you,omitempty"`
}

// All lists the claims, as the host has them now; with ended, those too that have ended.
func All(ctx context.Context, d *desk.Desk, given string, ended bool) (*List, error) {
	c, err := open(ctx, d, given)
	if err != nil {
		return nil, err
	}
	out := &List{Folder: c.folder.Path, Ref: c.Ref, Claims: []Listed{}, Clock: c.Ahead != nil, Dropped: c.Dropped()}
	if len(c.Claims) == 0 {
		return out, nil
	}
	st, err := c.folder.Repo.Status(ctx, false)
	if err != nil {
		return nil, git.Fault(err, "git cannot tell what changed")
	}
	for _, x := range c.Claims {
		l := Listed{Claim: x, Mine: x.Key == c.Me, Over: c.over(x)}
		if l.Over && !ended {
			continue
		}
		for _, e := range st.Entries {
			if !e.Inner && x.Covers(e.Path) {
				l.Changed = append(l.Changed, e.Path)
			}
		}
		out.Claims = append(out.Claims, l)
	}
	slices.SortStableFunc(out.Claims, func(a, b Listed) int { return strings.Compare(a.Path, b.Path) })
	out.Taken, err = c.TakenFromMe()
	return out, err
}
