package history

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

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
		onHost, told := "", web.Refs{}
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
		case name == f.Branch && !hostOnly:
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
		if own != "" {
			p.add("remove", plan.Here, "Remove the branch "+text.Visible(name), func(ctx context.Context) error {
				return worktree.DropBranch(ctx, f.Repo, name)
			})
		}
		if onHost != "" {
			p.add("remove on host", plan.Host, "Remove it on the host, if nobody sent to it meanwhile", func(ctx context.Context) error {
				return b.dropThere(ctx, h, name, onHost, told.Head)
			})
		}
		return nil
	})
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
	_, err = work.Run(ctx, git.Cmd{Config: h.Shared(), Stall: git.Stall, Watch: project.Watch(b.desk, "Receiving", "Receiving objects"),
		Args: []string{"fetch", "--progress", "--no-tags", "--no-auto-maintenance", "--no-write-fetch-head", "--refmap=", "--", h.Remote, "refs/heads/" + name}})
	b.desk.Tell.Progress("Receiving", 0, 0, "")
	if err == nil {
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
