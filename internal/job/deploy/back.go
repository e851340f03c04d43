package deploy

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
)

// Back brings a state into use that is whole still: the one before, or the commit that is named. The newest commit is not
// taken again until another one comes, or a person says so.
func Back(ctx context.Context, d *desk.Desk, x Deploy, to string, preview bool) (_ *Updated, err error) {
	held, err := x.alone(ctx)
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, held.Release)
	u := &update{x: x, desk: d, out: &Updated{Name: x.Name}}
	if u.state, err = x.read(); err != nil {
		return nil, err
	}
	if u.repo, err = x.store(ctx, d); err != nil {
		return nil, err
	}
	commit, err := u.which(to)
	if err != nil {
		return nil, err
	}
	now := x.InUse()
	u.out.Commit, u.out.Before, u.out.InUse = u.state.Head, now, commit
	if preview {
		return u.out, nil
	}
	if err := u.point(commit); err != nil {
		return nil, err
	}
	s := u.state
	s.Since, s.Failed, s.Waiting, u.out.State = d.Now().UTC(), nil, "", "in use"
	if s.Held = ""; commit != s.Head {
		s.Held = s.Head
	}
	if err := x.write(s); err != nil {
		return nil, err
	}
	t, err := readTasks(ctx, u.repo, commit, x.Branch)
	if err != nil {
		return nil, err
	}
	if s.approved(t) {
		f, err := u.after(ctx, commit, t)
		if err != nil {
			return nil, err
		}
		if f != nil {
			f.Commit, f.When = commit, d.Now().UTC()
			u.out.Failed = f
		}
	}
	s.After = commit
	return u.out, x.write(s)
}

// which finds the state that is meant.
func (u *update) which(to string) (string, error) {
	now := u.x.InUse()
	var there []string
	for _, c := range slices.SortedFunc(maps.Keys(u.state.Built), func(a, b string) int {
		return cmp.Or(u.state.Built[b].left().Compare(u.state.Built[a].left()), strings.Compare(a, b))
	}) {
		if c != now && files.Reached(u.x.at(c)) == files.Folder {
			there = append(there, c)
		}
	}
	none := fault.New(fault.Decision, "there is no other state of %s to go back to", u.x.Name)
	if len(there) == 0 {
		return "", none
	}
	if to == "" {
		if slices.Contains(there, u.state.Before) {
			return u.state.Before, nil
		}
		return there[0], nil
	}
	var found []string
	for _, c := range there {
		if len(to) >= 4 && strings.HasPrefix(c, strings.ToLower(to)) {
			found = append(found, c)
		}
	}
	if len(found) == 1 {
		return found[0], nil
	}
	f := fault.New(fault.Failed, "no state that is kept is %s", text.Quote(text.Excerpt(to, 60)))
	if len(to) >= 4 && strings.HasPrefix(now, strings.ToLower(to)) {
		f = fault.New(fault.Decision, "%s is in use", text.Quote(to))
	}
	for _, c := range there[:min(len(there), 10)] {
		f.Try("go back to that of "+u.state.Built[c].Made.Local().Format("2006-01-02 15:04"), text.Command("uncinate", "deploy", "back", u.x.Name, c[:10]))
	}
	return "", f
}

// left is when a state was in use last.
func (b Built) left() time.Time {
	if b.Left.IsZero() {
		return b.Made
	}
	return b.Left
}
