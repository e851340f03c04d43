package history

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// MakeOptions say what branches are wanted.
type MakeOptions struct {
	Folder  string
	Names   []string
	For     []string // people, each of whom gets one of the name
	From    string   // where they begin; "" for the commit that is checked out
	Switch  bool
	Publish bool
}

// names are those of the branches.
func (o MakeOptions) names() []string {
	if len(o.For) == 0 {
		return o.Names
	}
	var names []string
	for _, n := range o.Names {
		for _, who := range o.For {
			names = append(names, who+"/"+n)
		}
	}
	return names
}

// line is the command that makes the rest of them.
func (o MakeOptions) line() []string {
	line := append([]string{"branch", "make"}, o.Names...)
	for _, who := range o.For {
		line = append(line, "--for", who)
	}
	if o.From != "" {
		line = append(line, "--from", o.From)
	}
	if o.Switch {
		line = append(line, "--switch")
	}
	if o.Publish {
		line = append(line, "--publish")
	}
	return line
}

// MakeBranches plans to make branches.
func MakeBranches(ctx context.Context, d *desk.Desk, o MakeOptions) (*BranchPlan, error) {
	return planBranches(ctx, d, o.Folder, "To make branches:", o.line(), func(b *Branching, p *BranchPlan) error {
		f := b.folder
		start, err := b.begin(ctx, cmp.Or(o.From, "HEAD"))
		if err != nil {
			return err
		}
		if p.before != nil { // where it was checked out, another one may be by now
			start = cmp.Or(p.before.From, start)
		}
		p.From = start
		names := o.names()
		for _, n := range names {
			if err := checkBranch(ctx, f, n); err != nil {
				return err
			}
			there := b.Refs["refs/remotes/"+b.Remote+"/"+n] != "" && !slices.Contains(b.gone, n)
			if b.Refs["refs/heads/"+n] == start && (o.Publish && !there || p.before != nil) {
				continue // it was made before, and only the rest is left
			}
			if there || b.Refs["refs/heads/"+n] != "" {
				return fault.New(fault.Decision, "there is a branch %s already", text.Visible(n)).Try("switch to it", text.Command("uncinate", "branch", "switch", n))
			}
			p.add("make "+n, plan.Here, fmt.Sprintf("Make the branch %s at %.10s", text.Visible(n), start), func(ctx context.Context) error {
				_, err := f.Repo.Do(ctx, "branch", "--no-track", "--", n, start)
				return git.Fault(err, "git cannot make the branch %s", text.Visible(n))
			})
			p.Steps[len(p.Steps)-1].Undo = func(ctx context.Context) error { return worktree.DropBranch(ctx, f.Repo, n) }
		}
		if o.Publish {
			h, err := b.tie(ctx)
			if err != nil {
				return err
			}
			p.add("send", plan.Host, "Send "+text.Count(len(names), "branch"), func(ctx context.Context) error {
				all := project.Sending{Follows: true, Whole: true}
				for _, n := range names {
					all.Refs = append(all.Refs, project.SendBranch(n))
				}
				return project.Push(ctx, d, h, all)
			})
		}
		if o.Switch && f.Branch != names[0] {
			return p.switches(ctx, d, b, names[0], start)
		}
		return nil
	})
}

// sided is a command that acts on one side only, where that is wanted.
func sided(hereOnly, hostOnly bool, words ...string) []string {
	switch {
	case hereOnly:
		return append(words, "--here")
	case hostOnly:
		return append(words, "--on-host")
	}
	return words
}

// begin finds the commit at which a branch is to begin.
func (b *Branching) begin(ctx context.Context, from string) (string, error) {
	start, err := b.folder.Repo.Resolve(ctx, from+"^{commit}")
	if err == nil {
		return start, nil
	}
	if start, err = b.folder.Repo.Resolve(ctx, "refs/remotes/"+b.Remote+"/"+from+"^{commit}"); err != nil {
		return "", b.NoBranch(from)
	}
	return start, nil
}

// switches adds the step that goes to a branch which is made by then, with the care of
// SwitchBranch: what would be written over stops it now, and again when it is done.
func (p *BranchPlan) switches(ctx context.Context, d *desk.Desk, b *Branching, name, start string) error {
	way, err := carries(ctx, b.folder, start)
	if err != nil {
		return err
	}
	if len(way) > 0 {
		p.Notes = append(p.Notes, "A rescue copy of "+text.Count(len(way), "file")+" in the way is kept.")
	}
	p.add("switch", plan.Here, "Switch to "+text.Visible(name), func(ctx context.Context) error {
		out, err := switchBranch(ctx, d, b.folder, name, false)
		if err == nil && out.Rescued > 0 {
			d.Tell.Note("What was in the way is kept as rescue copy %d.", out.Rescued)
		}
		return err
	})
	return nil
}

// ask asks the host what its branches are just now; here is the command that does without.
func (b *Branching) ask(ctx context.Context, here ...string) (*project.Tie, web.Refs, error) {
	h, err := b.tie(ctx)
	if err != nil {
		return nil, web.Refs{}, err
	}
	told, err := project.Refs(ctx, b.desk, h, "")
	if err != nil {
		return nil, web.Refs{}, fault.Of(err).Try("do it here only", text.Command(append([]string{"uncinate"}, here...)...))
	}
	return h, told, nil
}

// holds reports whether all that one commit leads to is led to by another; false too where the
// first is not here.
func (b *Branching) holds(ctx context.Context, all, part string) bool {
	_, err := b.folder.Repo.Do(ctx, "merge-base", "--is-ancestor", part, all)
	return err == nil
}

// RenameBranch plans to rename a branch, here and on the host.
func RenameBranch(ctx context.Context, d *desk.Desk, given, from, to string, hereOnly bool) (*BranchPlan, error) {
	line := sided(hereOnly, false, "branch", "rename", from, to)
	return planBranches(ctx, d, given, "To rename a branch:", line, func(b *Branching, p *BranchPlan) error {
		f := b.folder
		if err := checkBranch(ctx, f, to); err != nil {
			return err
		}
		own := b.Refs["refs/heads/"+from]
		half, err := p.renamed(ctx, b, from, to) // only the host's part is left
		if err != nil {
			return err
		}
		if half {
			own = b.Refs["refs/heads/"+to]
		}
		if own == "" {
			return b.NoBranch(from)
		}
		there, newThere, head := "", "", ""
		var h *project.Tie
		if b.Remote != "" && !hereOnly {
			var told web.Refs
			if h, told, err = b.ask(ctx, "branch", "rename", from, to, "--here"); err != nil {
				return err
			}
			there, newThere, head = told.Branch(from), told.Branch(to), told.Head
		} else if hereOnly {
			newThere = b.Refs["refs/remotes/"+b.Remote+"/"+to]
		}
		switch {
		case half && newThere != "" && newThere != own && !b.holds(ctx, own, newThere), !half && (b.Refs["refs/heads/"+to] != "" || newThere != "" && !hereOnly):
			return errors.Join(p.GiveUp(), fault.New(fault.Decision, "there is a branch %s already", text.Visible(to)).Try("see it", text.Command("uncinate", "history", "--branch", to)))
		case there != "" && from == cmp.Or(head, b.base):
			return fault.New(fault.Decision, "%s is the default branch on the host; there another one must become it first", text.Visible(from)).
				Try("rename it here only", text.Command("uncinate", "branch", "rename", from, to, "--here")).
				Try("and on the host, once the new one was sent", text.Command("uncinate", "repository", "change", h.Address.String(), "--default-branch", to))
		case there != "" && !b.holds(ctx, own, there):
			return errors.Join(p.GiveUp(), b.holdsMore(from, half))
		}
		p.From = own
		if there != "" {
			if err := p.keepsKnown(ctx, b, "branch rename ", from, nil); err != nil {
				return err
			}
		}
		if !half {
			p.add("rename", plan.Here, fmt.Sprintf("Rename the branch %s to %s", text.Visible(from), text.Visible(to)), func(ctx context.Context) error {
				return b.rename(ctx, from, to, newThere != "")
			})
			p.undo(f, "branch", "-m", "--", to, from)
		}
		if there == "" && (!half || newThere != "" || h == nil) {
			return nil
		}
		if newThere != own {
			p.add("send", plan.Host, "Send it under the new name", func(ctx context.Context) error {
				return project.Push(ctx, d, h, project.Sending{Refs: []project.Sent{project.SendBranch(to)}, Follows: true})
			})
		}
		if there != "" {
			p.add("remove on host", plan.Host, "Remove the old name on the host, if nobody sent to it meanwhile", func(ctx context.Context) error {
				return b.dropThere(ctx, h, from, there, head)
			})
		}
		return nil
	})
}

// dropThere removes a branch on the host, if it is where it was when the host was asked. Where
// git takes it for the host's default branch still, it is told which that is now.
func (b *Branching) dropThere(ctx context.Context, h *project.Tie, name, id, head string) error {
	if err := project.Push(ctx, b.desk, h, project.Sending{Refs: []project.Sent{{To: "refs/heads/" + name, Was: id}}}); err != nil {
		return err
	}
	if b.base != name {
		return nil
	}
	to := "--delete"
	if head != "" && b.Refs["refs/remotes/"+b.Remote+"/"+head] != "" {
		to = head
	}
	_, err := b.folder.Repo.Do(ctx, "remote", "set-head", b.Remote, to)
	return git.Fault(err, "git cannot note the host's default branch")
}

// holdsMore says that the host's branch of a name holds what is not here.
func (b *Branching) holdsMore(name string, renamed bool) error {
	f := fault.New(fault.Decision, "the branch %s on the host holds commits that yours does not have", text.Visible(name))
	switch {
	case renamed:
		return f.Detail("It stays on the host as it is.").Try("see what was sent there", text.Command("uncinate", "branch", "switch", name))
	case name == b.folder.Branch:
		return f.Detail("Nothing changed, on either side.").Try("bring them in first", "uncinate sync")
	}
	return f.Detail("Nothing changed, on either side.").
		Try("bring them in first", text.Command("uncinate", "branch", "switch", name)+" && uncinate sync")
}
