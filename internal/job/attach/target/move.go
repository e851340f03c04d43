package target

import (
	"cmp"
	"context"
	"fmt"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/world/git"
)

// Moving a project to another repository: all branches and tags go along, and the old
// repository stays as it is, under another name here.

// chooseMove decides where a project moves to. to names a repository that was made
// before; "" means a new one, on another host or account.
func (t *Target) chooseMove(ctx context.Context, to string) error {
	o := &t.Options
	t.Former = FactFormer.Of(t.Run)
	from := cmp.Or(t.Folder.Remotes[t.Former], t.Folder.Remotes[o.Remote]) // it may have been cut off just before the renaming
	if t.Former == "" {
		for n := 1; t.Former == "" || t.Folder.Remotes[t.Former] != ""; n++ {
			if t.Former = "former"; n > 1 {
				t.Former = fmt.Sprintf("former-%d", n)
			}
		}
	}
	if from == "" || t.Folder.Head == "" {
		return fault.New(fault.Decision, "%s has no remote %s, so there is nothing to move from", text.Visible(t.Folder.Path), text.Quote(o.Remote)).
			TryWithout("attach it for the first time", t.Again(t.ToArgs()...), "move")
	}
	old, err := address.Parse(from)
	if err != nil {
		return err
	}
	if to == "" && o.Account == "" && o.Host == "" {
		f := fault.New(fault.Decision, "say where to: to another account, or to a repository that was made before")
		all, err := accounts.All(t.Desk)
		if err != nil {
			return err
		}
		for _, b := range all {
			if b.Name != t.Project.Account {
				f.Try("to "+b.Name+" on "+b.Where(), t.Again("--move", "--account", b.Name))
			}
		}
		return f.Try("to one that is there", t.Again("--move", "--to", "ADDRESS"))
	}
	if o.Name == "" && to == "" {
		o.Name = old.Name()
	}
	if to == "" {
		if account, err := accounts.Pick(t.Desk, o.Account, o.Host); err == nil && FactFormer.Of(t.Run) == "" {
			owner, name := naming.Split(o.Name)
			if owner == "" {
				owner = cmp.Or(o.Owner, account.User)
			}
			if h, is, there, err := hosts.Recognise(t.Desk, from); err == nil && h != nil && h.Name == account.Host && is == owner && there == name {
				t.Former, o.Move = "", false // it has moved there already
				return t.ChooseTarget(ctx)
			}
		}
		if o.Visibility == "" && FactFormer.Of(t.Run) == "" {
			o.Visibility = t.visibleBefore(ctx, from)
		}
		return t.chooseNew(ctx)
	}
	if given, err := address.Parse(to); err == nil && given.Same(old) {
		return fault.New(fault.Usage, "it is there already: %s", old.Bare().String())
	}
	return t.ChooseExisting(ctx, to)
}

// visibleBefore gives who can see the repository that is moved from, as its host tells, and notes it:
// the new one is to be seen by the same people. "" where the host does not tell.
func (t *Target) visibleBefore(ctx context.Context, from string) string {
	h, owner, name, err := hosts.Recognise(t.Desk, from)
	if err != nil || h == nil || t.Project.Account == "" {
		return ""
	}
	account, err := accounts.Named(t.Desk, t.Project.Account)
	if err != nil {
		return ""
	}
	l, err := login.Open(ctx, t.Desk, account)
	if err != nil {
		return ""
	}
	there, found, err := l.Repository(ctx, owner, name)
	switch {
	case err != nil || !found:
		t.Notes = append(t.Notes, "Who can see it on "+h.Name+" is not known, so it becomes private.")
		return ""
	case there.Visibility == "public":
		t.Notes = append(t.Notes, "It is public on "+h.Name+", and stays so.")
		return there.Visibility
	case there.Visibility != "private":
		t.Notes = append(t.Notes, "It becomes private; on "+h.Name+" it is visible to "+there.Visibility+".")
	}
	return ""
}

// CheckMove makes sure that what is moved to is empty.
func (t *Target) CheckMove() error {
	if t.Create || t.Vacant || FactFormer.Of(t.Run) != "" {
		return nil
	}
	return fault.New(fault.Decision, "%s holds work already, and a whole project moves only to an empty repository", t.Tie.Address.String()).
		Try("join with it instead, this branch alone", t.Again("--remote", "other", "--to", t.Tie.Address.String()))
}

// follow lets the branches that followed the old remote follow the new one.
func (t *Target) follow(ctx context.Context) error {
	for _, b := range t.Folder.Branches {
		key := "branch." + b + ".remote"
		if now, _, err := t.Folder.Repo.Own(key); err != nil || now != t.Former {
			continue
		}
		if _, err := t.Folder.Repo.Do(ctx, "config", "--local", key, t.Options.Remote); err != nil {
			return git.Fault(err, "git's configuration cannot be written")
		}
	}
	return nil
}
