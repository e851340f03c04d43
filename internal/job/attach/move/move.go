// Package move takes a project to another host or account, with all branches and tags; the old
// repository stays, as a remote called former. Where to is decided by target.
package move

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/world/git"
)

// StepBringAll receives all branches and tags of the old repository.
func (m *Move) StepBringAll() desk.Step {
	remote := func() string {
		if target.FactFormer.Of(m.Run) != "" {
			return m.Former
		}
		return m.Options.Remote
	}
	return m.bareBringAll().Planned(plan.Here, "Receive all branches and tags of "+text.Visible(project.WithoutSecret(m.Folder.Remotes[remote()])),
		func(context.Context) (bool, error) { return target.FactFormer.Of(m.Run) != "", nil },
		func(ctx context.Context) error {
			before, err := m.tags(ctx)
			if err != nil {
				return err
			}
			work, err := m.Folder.Work() // signs in as the project always does
			if err != nil {
				return err
			}
			// What will come is noted before it comes: git may go on where this is cut off.
			if err := m.noteComing(ctx, remote(), before); err != nil {
				return err
			}
			tracking := "refs/remotes/" + remote() + "/"
			_, err = work.Run(ctx, git.Cmd{Stall: git.Stall, Watch: project.Watch(m.Desk, "Receiving", "Receiving objects"),
				Args: []string{"fetch", "--progress", "--no-auto-maintenance", "--no-write-fetch-head", "--", remote(), "+refs/heads/*:" + tracking + "*", "refs/tags/*:refs/tags/*"}})
			m.Desk.Tell.Progress("Receiving", 0, 0, "")
			if err != nil {
				return git.Fault(err, "git cannot receive what the old repository holds")
			}
			after, err := m.tags(ctx)
			if err != nil {
				return err
			}
			brought := slices.DeleteFunc(after, func(t string) bool { return slices.Contains(before, t) })
			if err := target.FactBrought.Note(m.Run, brought); err != nil {
				return err
			}
			_, err = m.moving(ctx, remote())
			return err
		})
}

// noteComing notes the tags that the old repository holds and that are not here yet.
func (m *Move) noteComing(ctx context.Context, remote string, here []string) error {
	p := m.Project
	if p.Address == "" {
		p = project.Project{Folder: m.Folder.Path, Remote: remote, Address: project.WithoutSecret(m.Folder.Remotes[remote])}
	}
	tie, err := project.TieOf(ctx, m.Desk, m.Folder, p)
	if err != nil {
		return err
	}
	refs, err := project.Refs(ctx, m.Desk, tie, "")
	if err != nil {
		return err
	}
	var coming []string
	for _, ref := range project.TagNames(refs) {
		if line := refs.IDs[ref] + " " + ref; !slices.Contains(here, line) {
			coming = append(coming, line)
		}
	}
	return target.FactBrought.Note(m.Run, coming)
}

// tags lists the tags, each as its id and name.
func (m *Move) tags(ctx context.Context) ([]string, error) {
	out, err := m.Folder.Repo.Do(ctx, "for-each-ref", "--format=%(objectname) %(refname)", "refs/tags/")
	if err != nil {
		return nil, git.Fault(err, "git cannot list the tags")
	}
	return strings.Split(out, "\n"), nil
}

// undoBringAll forgets the tags that were received.
func (m *Move) undoBringAll(ctx context.Context) error {
	for line := range slices.Values(target.FactBrought.Of(m.Run)) {
		id, ref, ok := strings.Cut(line, " ")
		if now, err := m.Folder.Repo.Resolve(ctx, ref); !ok || err != nil || now != id {
			continue
		}
		if err := worktree.DropRef(ctx, m.Folder.Repo, ref, id); err != nil {
			return err
		}
	}
	return nil
}

// moving gives what moves: the name of each branch and tag there → the id that is sent to
// it. A branch is sent from whichever side has more.
func (m *Move) moving(ctx context.Context, from string) (map[string]string, error) {
	list, err := m.Folder.Repo.Do(ctx, "for-each-ref", "--format=%(objectname) %(refname)", "refs/heads/", "refs/tags/", "refs/remotes/"+from+"/")
	if err != nil {
		return nil, git.Fault(err, "git cannot list the branches")
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
		if _, err := m.Folder.Repo.Do(ctx, "merge-base", "--is-ancestor", theirs, here); err == nil {
			continue
		}
		if _, err := m.Folder.Repo.Do(ctx, "merge-base", "--is-ancestor", here, theirs); err == nil {
			out["refs/heads/"+b] = theirs
			continue
		}
		return nil, fault.New(fault.Decision, "the branch %s holds commits here that are not there, and there that are not here", text.Quote(b)).
			Try("bring both together first", text.Command("uncinate", "sync", m.Folder.Path))
	}
	return out, nil
}

// StepFormer keeps the old remote under another name.
func (m *Move) StepFormer() desk.Step {
	config := filepath.Join(m.Folder.Path, ".git", "config")
	return m.bareFormer().Planned(plan.Here, fmt.Sprintf("Keep the old remote under the name %s; the repository there stays as it is", m.Former),
		func(context.Context) (bool, error) {
			return target.FactFormer.Of(m.Run) != "" && m.Folder.Remotes[m.Former] != "" && m.Folder.Remotes[m.Options.Remote] == "" || target.FactNewRemote.Of(m.Run), nil
		},
		func(ctx context.Context) error {
			if err := m.SetAside(config, "config-before"); err != nil {
				return err
			}
			if err := target.FactFormer.Note(m.Run, m.Former); err != nil {
				return err
			}
			if _, err := m.Folder.Repo.Do(ctx, "remote", "rename", "--no-progress", m.Options.Remote, m.Former); err != nil {
				return git.Fault(err, "git cannot rename the remote")
			}
			if err := m.Wrote(config, "config-before"); err != nil {
				return err
			}
			if err := project.RenameRemote(ctx, m.Desk, m.Folder.Path, m.Options.Remote, m.Former); err != nil {
				return err
			}
			m.Folder.Remotes[m.Former] = m.Folder.Remotes[m.Options.Remote]
			delete(m.Folder.Remotes, m.Options.Remote)
			return nil
		})
}

// undoFormer gives the old remote its name again.
func (m *Move) undoFormer(ctx context.Context) error {
	former := target.FactFormer.Of(m.Run)
	if former == "" {
		return nil
	}
	if _, set, err := m.Folder.Repo.Own("remote." + former + ".url"); err != nil || !set {
		return err // it did not come to it
	}
	config := filepath.Join(m.Folder.Path, ".git", "config")
	touched, err := m.Touched(config, "config-before")
	if err != nil {
		return err
	}
	if _, err := m.Folder.Repo.Do(ctx, "remote", "rename", "--no-progress", former, m.Options.Remote); err != nil {
		return git.Fault(err, "git cannot rename the remote")
	}
	if !touched {
		if err := m.BringBack(config, "config-before"); err != nil {
			return err
		}
	}
	return project.RenameRemote(ctx, m.Desk, m.Folder.Path, former, m.Options.Remote)
}

// StepSendAll sends all branches and tags.
func (m *Move) StepSendAll() desk.Step {
	return m.BareSend().Planned(plan.Here, "Send all branches and tags",
		func(ctx context.Context) (bool, error) {
			if m.Create && target.FactID.Of(m.Run) == "" || target.FactFormer.Of(m.Run) == "" {
				return false, nil
			}
			return m.MovedAll(ctx)
		},
		func(ctx context.Context) error {
			all, err := m.moving(ctx, m.Former)
			if err != nil {
				return err
			}
			sending := project.Sending{}
			for _, to := range slices.Sorted(maps.Keys(all)) {
				id := all[to]
				sending.Refs = append(sending.Refs, project.Sent{From: id, To: to})
				if b, is := strings.CutPrefix(to, "refs/heads/"); is {
					if err := target.FactSent.About(b).Note(m.Run, id); err != nil {
						return err
					}
				}
			}
			if m.Vacant {
				if err := target.FactVacant.Note(m.Run, true); err != nil {
					return err
				}
			}
			err = project.Push(ctx, m.Desk, m.Tie, sending)
			m.Went = err == nil
			return err
		})
}

// MovedAll compares all branches and tags with what the new repository holds.
func (m *Move) MovedAll(ctx context.Context) (bool, error) {
	all, err := m.moving(ctx, m.Former)
	if err != nil {
		return false, err
	}
	refs, err := m.RemoteRefs(ctx)
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

// Move takes a project to another host, with all branches and tags.
type Move struct{ *target.Target }

// BareSteps are what can be said of the steps of this room without a plan.
func (m *Move) BareSteps() []desk.Step { return []desk.Step{m.bareBringAll(), m.bareFormer()} }

func (m *Move) bareBringAll() desk.Step {
	return desk.Bare("bring-all", plan.Here, text.Either(len(target.FactBrought.Of(m.Run)) > 0, "Forget the tags that were received", ""), m.undoBringAll)
}

func (m *Move) bareFormer() desk.Step {
	return desk.Bare("former", plan.Here, "Give the old remote its name again", m.undoFormer)
}
