package history

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// RemoveBranch plans to remove a branch, on both sides. Commits that are nowhere else are
// kept as a rescue copy.
func RemoveBranch(ctx context.Context, d *desk.Desk, given, name string, hereOnly, hostOnly bool) (*BranchPlan, error) {
	line := sided(hereOnly, hostOnly, "branch", "remove", name)
	return planBranches(ctx, d, given, "To remove the branch "+name+":", line, func(b *Branching, p *BranchPlan) error {
		f := b.folder
		own, track := b.Refs["refs/heads/"+name], "refs/remotes/"+b.Remote+"/"+name
		if hostOnly {
			own = ""
		}
		onHost, told, goes := "", web.Refs{}, false
		var h *project.Tie
		if b.Remote != "" && !hereOnly {
			var err error
			if h, told, err = b.ask(ctx, "branch", "remove", name, "--here"); err != nil {
				return err
			}
			onHost = told.Branch(name)
		}
		switch {
		case own == "" && onHost == "" && p.before != nil:
			p.Notes = append(p.Notes, "It was removed before this was cut off.")
			return nil
		case own == "" && onHost == "":
			return b.NoBranch(name)
		case name == f.Branch && !hostOnly && own != "":
			var err error
			if goes, err = b.done(ctx, name, own); err != nil {
				return err
			}
			if goes {
				break
			}
			return fault.New(fault.Decision, "%s is checked out", text.Visible(name)).Try("switch to another one first", text.Command("uncinate", "branch", "switch", b.base))
		case own != "":
			if err := free(f, name); err != nil {
				return err
			}
		}
		switch {
		case name == cmp.Or(told.Head, b.base) && !hereOnly:
			return fault.New(fault.Refused, "%s is the default branch on the host", text.Visible(name))
		}
		if err := b.receive(ctx, h, name, onHost); err != nil {
			return err
		}
		var going []worktree.Moving
		if own != "" {
			going = append(going, worktree.Moving{Ref: "refs/heads/" + name, ID: own})
		}
		if onHost != "" && onHost != own {
			going = append(going, worktree.Moving{Ref: track, ID: onHost})
		}
		if err := p.keeps(ctx, b, name, going, told); err != nil {
			return err
		}
		return p.removes(ctx, b, name, removing{own, onHost, goes, h, told.Head})
	})
}

// removing is a branch that is removed.
type removing struct {
	own, onHost string // its commits; "" where it is not, or stays
	goes        bool   // it is checked out, and left for the default one
	tie         *project.Tie
	head        string // the host's default branch
}

// removes adds the steps: on the host first, which may refuse; then it is here as it was too.
func (p *BranchPlan) removes(ctx context.Context, b *Branching, name string, x removing) error {
	if x.onHost != "" {
		p.add("remove on host", plan.Host, "Remove "+text.Visible(name)+" on the host, if nobody sent to it meanwhile", func(ctx context.Context) error {
			return b.dropThere(ctx, x.tie, name, x.onHost, x.head)
		})
	}
	if x.goes {
		if err := p.switches(ctx, b.desk, b, b.base, cmp.Or(b.Refs["refs/heads/"+b.base], b.Refs[b.baseRef])); err != nil {
			return err
		}
	}
	if x.own != "" {
		p.add("remove", plan.Here, "Remove the branch "+text.Visible(name)+text.Either(x.onHost == "", "", " here"), func(ctx context.Context) error {
			if err := worktree.DropBranch(ctx, b.folder.Repo, name); err != nil {
				return err
			}
			return offering.Forget(ctx, b.desk, b.folder.Path, name)
		})
	}
	return nil
}

// done reports whether nothing more is done on a branch, so that it can be left for the default one: that holds
// all of it by now, or the host told that it was accepted.
func (b *Branching) done(ctx context.Context, name, own string) (bool, error) {
	if b.Refs[b.baseRef] == "" || name == b.base {
		return false, nil
	}
	if m := offering.NotesOf(b.desk, b.folder.Path).Made[name]; m.State == "accepted" && (m.Head == "" || m.Head == own) {
		return true, nil
	}
	return worktree.HoldsAll(ctx, b.folder, b.Refs[b.baseRef], own, "")
}

// free refuses a branch that is checked out in another work tree of the same repository: git
// neither removes it nor checks it out twice (git-worktree documentation).
func free(f *project.Folder, name string) error {
	own, common, err := git.Folders(f.Path)
	if err != nil {
		return err
	}
	where, err := git.Elsewhere(own, common, name)
	if err != nil || where == "" {
		return err
	}
	out := fault.New(fault.Decision, "%s is checked out in another work tree, %s", text.Visible(name), text.Visible(where)).
		Try("work on it there", text.Command("uncinate", "status", where))
	if where == filepath.Dir(common) { // git takes no main one away
		return out
	}
	return out.Try("or give that work tree up, once all in it is saved", text.Command("git", "-C", f.Path, "worktree", "remove", "--", where))
}

// receive receives the commits of a branch of the host that are not here, so that it can be
// told what would be lost with it.
func (b *Branching) receive(ctx context.Context, h *project.Tie, name, id string) error {
	if id == "" {
		return nil
	}
	if _, err := b.folder.Repo.Do(ctx, "rev-list", "--quiet", "--objects", id, "--not", "--all"); err == nil {
		return nil // it is here, whole
	}
	repo := b.folder.Repo
	work, err := b.folder.Work()
	if err != nil {
		return err
	}
	if err = project.Receive(ctx, b.desk, work, h.Shared(), "--no-tags", "--no-write-fetch-head", "--", h.Remote, "refs/heads/"+name); err == nil {
		_, err = repo.Do(ctx, "cat-file", "-e", id+"^{commit}")
	}
	return git.Fault(err, "what the host's branch %s holds cannot be received, so it is not removed", text.Visible(name))
}

// keeps adds the step that keeps a rescue copy, where branches that go hold commits that no
// branch or tag holds which stays: here, or on the host as it told just now.
func (p *BranchPlan) keeps(ctx context.Context, b *Branching, name string, going []worktree.Moving, told web.Refs) error {
	f := b.folder
	var in strings.Builder
	for _, m := range going {
		in.WriteString(m.ID + "\n")
	}
	for ref, id := range b.Refs {
		tracked, remote := strings.CutPrefix(ref, "refs/remotes/"+b.Remote+"/")
		switch {
		case ref == "refs/heads/"+name && len(going) > 0 && going[0].Ref == ref, remote && tracked == name && told.IDs != nil:
		case strings.HasPrefix(ref, "refs/heads/"), strings.HasPrefix(ref, "refs/tags/"), remote && (told.IDs == nil || told.Branch(tracked) == id):
			in.WriteString("^" + id + "\n")
		}
	}
	out, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, In: strings.NewReader(in.String()), Args: []string{"rev-list", "--count", "--stdin"}})
	if err != nil {
		return git.Fault(err, "git cannot tell what would be lost")
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(out)))
	if err != nil {
		return err
	}
	if n > 0 && len(going) == 1 && b.baseRef != "" && name != b.base {
		held, err := worktree.HoldsAll(ctx, f, b.Refs[b.baseRef], going[0].ID, "")
		if err != nil {
			return err
		}
		if held {
			p.Notes = append(p.Notes, "All of it is in "+text.Visible(b.base)+" already, by commits of other names: they were replayed there, or made one.")
			return p.keepsKnown(ctx, b, "branch remove ", name, nil)
		}
	}
	if n > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("%s of it %s in no other branch.", text.Count(n, "commit"), desk.IsAre(n)))
	}
	if n == 0 && told.IDs == nil {
		return nil
	}
	return p.keepsKnown(ctx, b, "branch remove ", name, going[:text.Either(n > 0, len(going), 0)])
}

// keepsKnown adds the step that keeps a rescue copy of refs that go, and of what git knows of the
// host's branch of a name, or once knew, and nothing here leads to; none where there is nothing of it.
func (p *BranchPlan) keepsKnown(ctx context.Context, b *Branching, before, name string, going []worktree.Moving) error {
	known, err := worktree.OnlyKnown(ctx, b.folder, b.Refs, "refs/remotes/"+b.Remote+"/"+name, going)
	if going = append(slices.Clone(going), known...); err != nil || len(going) == 0 {
		return err
	}
	r, err := worktree.RescuerOf(b.desk, b.folder)
	if err != nil {
		return err
	}
	p.add("rescue", plan.Here, "Keep a rescue copy of it", func(ctx context.Context) error {
		n, err := r.Keep(ctx, before+name, going, nil)
		if err == nil && n > 0 {
			b.desk.Tell.Note("What it held is kept as rescue copy %d.", n)
		}
		return err
	})
	return nil
}
