package attach

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/project"
)

// Moving a project to another repository: all branches and tags go along, and the old
// repository stays as it is, under another name here.

// chooseMove decides where a project moves to. to names a repository that was made
// before; "" means a new one, on another host or account.
func (t *Target) chooseMove(ctx context.Context, to string) error {
	o := &t.Options
	t.former = t.run.Fact("former")
	from := cmp.Or(t.folder.Remotes[t.former], t.folder.Remotes[o.Remote]) // it may have been cut off just before the renaming
	if t.former == "" {
		for n := 1; t.former == "" || t.folder.Remotes[t.former] != ""; n++ {
			if t.former = "former"; n > 1 {
				t.former = fmt.Sprintf("former-%d", n)
			}
		}
	}
	if from == "" || t.folder.Head == "" {
		return fault.New(fault.Decision, "%s has no remote %s, so there is nothing to move from", text.Visible(t.folder.Path), text.Quote(o.Remote)).
			Try("hook it for the first time", t.Again(t.toArgs()...))
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
			if b.Name != t.project.Account {
				f.Try("to "+b.Name+" on "+b.Where(), t.Again("--move", "--account", b.Name))
			}
		}
		return f.Try("to one that is there", t.Again("--move", "--to", "ADDRESS"))
	}
	if o.Name == "" && to == "" {
		o.Name = old.Name()
	}
	if to == "" {
		if account, err := accounts.Pick(t.Desk, o.Account, o.Host); err == nil && t.run.Fact("former") == "" {
			owner, name := naming.Split(o.Name)
			if owner == "" {
				owner = cmp.Or(o.Owner, account.User)
			}
			if h, is, there, err := hosts.Recognise(t.Desk, from); err == nil && h != nil && h.Name == account.Host && is == owner && there == name {
				t.former, o.Move = "", false // it has moved there already
				return t.chooseTarget(ctx)
			}
		}
		return t.chooseNew(ctx)
	}
	if given, err := address.Parse(to); err == nil && given.Same(old) {
		return fault.New(fault.Usage, "it is there already: %s", old.Bare().String())
	}
	return t.chooseExisting(ctx, to)
}

// checkMove makes sure that what is moved to is empty.
func (t *Target) checkMove() error {
	if t.Create || t.vacant || t.run.Fact("former") != "" {
		return nil
	}
	return fault.New(fault.Decision, "%s holds work already, and a whole project moves only to an empty repository", t.Hook.Address.String()).
		Try("join with it instead, this branch alone", t.Again("--remote", "other", "--to", t.Hook.Address.String()))
}

// follow lets the branches that followed the old remote follow the new one.
func (t *Target) follow(ctx context.Context) error {
	for _, b := range t.folder.Branches {
		key := "branch." + b + ".remote"
		if now, err := t.folder.Repo.Do(ctx, "config", "--local", "--get", key); err != nil || now != t.former {
			continue
		}
		if _, err := t.folder.Repo.Do(ctx, "config", "--local", key, t.Options.Remote); err != nil {
			return desk.GitFault(err, "git's configuration cannot be written")
		}
	}
	return nil
}

// stepBringAll brings in all branches and tags of the old repository.
func (m *Move) stepBringAll() desk.Step {
	remote := func() string {
		if m.run.Fact("former") != "" {
			return m.former
		}
		return m.Options.Remote
	}
	return desk.Step{Item: plan.Item{ID: "bring-all", Place: plan.Here, Sentence: "Bring in all branches and tags of " + text.Visible(project.WithoutSecret(m.folder.Remotes[remote()]))},
		Done: func(context.Context) (bool, error) { return m.run.Fact("former") != "", nil },
		Do: func(ctx context.Context) error {
			before, err := m.tags(ctx)
			if err != nil {
				return err
			}
			plain := m.folder.Repo.Git.In(m.folder.Path) // signs in as the project always does
			tracking := "refs/remotes/" + remote() + "/"
			if _, err := plain.Do(ctx, "fetch", "-q", "--no-auto-maintenance", "--no-write-fetch-head", "--", remote(), "+refs/heads/*:"+tracking+"*", "refs/tags/*:refs/tags/*"); err != nil {
				return desk.GitFault(err, "git cannot bring in what the old repository holds")
			}
			after, err := m.tags(ctx)
			if err != nil {
				return err
			}
			brought := slices.DeleteFunc(after, func(t string) bool { return slices.Contains(before, t) })
			if err := m.run.Note("brought", strings.Join(brought, "\n")); err != nil {
				return err
			}
			_, err = m.moving(ctx, remote())
			return err
		},
		Undo: m.undoBringAll}
}

// tags lists the tags, each as its id and name.
func (m *Move) tags(ctx context.Context) ([]string, error) {
	out, err := m.folder.Repo.Do(ctx, "for-each-ref", "--format=%(objectname) %(refname)", "refs/tags/")
	if err != nil {
		return nil, desk.GitFault(err, "git cannot list the tags")
	}
	return strings.Split(out, "\n"), nil
}

// undoBringAll forgets the tags that were brought in.
func (m *Move) undoBringAll(ctx context.Context) error {
	for line := range strings.SplitSeq(m.run.Fact("brought"), "\n") {
		id, ref, ok := strings.Cut(line, " ")
		if now, err := m.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", ref); !ok || err != nil || now != id {
			continue
		}
		if _, err := m.folder.Repo.Do(ctx, "update-ref", "-d", ref, id); err != nil {
			return desk.GitFault(err, "git cannot forget the tag")
		}
	}
	return nil
}

// moving gives what moves: the name of each branch and tag there → the id that is sent to
// it. A branch is sent from whichever side has more.
func (m *Move) moving(ctx context.Context, from string) (map[string]string, error) {
	list, err := m.folder.Repo.Do(ctx, "for-each-ref", "--format=%(objectname) %(refname)", "refs/heads/", "refs/tags/", "refs/remotes/"+from+"/")
	if err != nil {
		return nil, desk.GitFault(err, "git cannot list the branches")
	}
	out, ids := map[string]string{}, map[string]string{}
	var there []string
	for line := range strings.SplitSeq(list, "\n") {
		id, ref, _ := strings.Cut(line, " ")
		ids[ref] = id
		if b, is := strings.CutPrefix(ref, "refs/remotes/"+from+"/"); is {
			if b != "HEAD" {
				there = append(there, b)
			}
		} else if ref != "" {
			out[ref] = id
		}
	}
	for _, b := range there {
		here, theirs := ids["refs/heads/"+b], ids["refs/remotes/"+from+"/"+b]
		if here == theirs {
			continue
		}
		if here == "" {
			out["refs/heads/"+b] = theirs
			continue
		}
		if _, err := m.folder.Repo.Do(ctx, "merge-base", "--is-ancestor", theirs, here); err == nil {
			continue
		}
		if _, err := m.folder.Repo.Do(ctx, "merge-base", "--is-ancestor", here, theirs); err == nil {
			out["refs/heads/"+b] = theirs
			continue
		}
		return nil, fault.New(fault.Decision, "the branch %s holds commits here that are not there, and there that are not here", text.Quote(b)).
			Try("bring both together first", text.Command("uncinate", "sync", m.folder.Path))
	}
	return out, nil
}

// stepFormer keeps the old remote under another name.
func (m *Move) stepFormer() desk.Step {
	config := filepath.Join(m.folder.Path, ".git", "config")
	return desk.Step{Item: plan.Item{ID: "former", Place: plan.Here, Sentence: fmt.Sprintf("Keep the old remote under the name %s; the repository there stays as it is", m.former)},
		Done: func(context.Context) (bool, error) {
			return m.run.Fact("former") != "" && m.folder.Remotes[m.former] != "" && m.folder.Remotes[m.Options.Remote] == "" || m.run.Fact("new remote") == "yes", nil
		},
		Do: func(ctx context.Context) error {
			if err := m.setAside(config, "config-before"); err != nil {
				return err
			}
			if err := m.run.Note("former", m.former); err != nil {
				return err
			}
			if _, err := m.folder.Repo.Do(ctx, "remote", "rename", "--no-progress", m.Options.Remote, m.former); err != nil {
				return desk.GitFault(err, "git cannot rename the remote")
			}
			if err := m.wrote(config, "config-before"); err != nil {
				return err
			}
			if err := project.RenameRemote(m.Desk, m.folder.Path, m.Options.Remote, m.former); err != nil {
				return err
			}
			m.folder.Remotes[m.former] = m.folder.Remotes[m.Options.Remote]
			delete(m.folder.Remotes, m.Options.Remote)
			return nil
		},
		Undo: m.undoFormer}
}

func (m *Move) undoFormer(ctx context.Context) error {
	former := m.run.Fact("former")
	if former == "" {
		return nil
	}
	if _, err := m.folder.Repo.Do(ctx, "config", "--local", "--get", "remote."+former+".url"); err != nil {
		return nil // it did not come to it
	}
	config := filepath.Join(m.folder.Path, ".git", "config")
	touched, err := m.touched(config, "config-before")
	if err != nil {
		return err
	}
	if _, err := m.folder.Repo.Do(ctx, "remote", "rename", "--no-progress", former, m.Options.Remote); err != nil {
		return desk.GitFault(err, "git cannot rename the remote")
	}
	if !touched {
		if err := m.bringBack(config, "config-before"); err != nil {
			return err
		}
	}
	return project.RenameRemote(m.Desk, m.folder.Path, former, m.Options.Remote)
}

// stepSendAll sends all branches and tags.
func (m *Move) stepSendAll() desk.Step {
	return desk.Step{Item: plan.Item{ID: "send", Place: plan.Here, Sentence: "Send all branches and tags"},
		Done: func(ctx context.Context) (bool, error) {
			if m.Create && m.run.Fact("id") == "" || m.run.Fact("former") == "" {
				return false, nil
			}
			return m.movedAll(ctx)
		},
		Do: func(ctx context.Context) error {
			all, err := m.moving(ctx, m.former)
			if err != nil {
				return err
			}
			args := []string{"push", "--progress", "--porcelain", "--", m.Options.Remote}
			for to, id := range all {
				args = append(args, id+":"+to)
				if b, is := strings.CutPrefix(to, "refs/heads/"); is {
					if err := m.run.Note("sent "+b, id); err != nil {
						return err
					}
				}
			}
			slices.Sort(args[5:])
			if m.vacant {
				if err := m.run.Note("vacant", "yes"); err != nil {
					return err
				}
			}
			err = project.Push(ctx, m.Desk, m.Hook, args)
			m.Went = err == nil
			return err
		}}
}

// movedAll compares all branches and tags with what the new repository holds.
func (m *Move) movedAll(ctx context.Context) (bool, error) {
	all, err := m.moving(ctx, m.former)
	if err != nil {
		return false, err
	}
	refs, err := m.remoteRefs(ctx)
	if err != nil {
		return false, err
	}
	for to, id := range all {
		if refs.IDs[to] != id {
			return false, nil
		}
	}
	return true, nil
}
