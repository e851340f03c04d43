package history

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
)

// Branch is a branch, here or on the host.
type Branch struct {
	Name    string    `json:"name"`
	Current bool      `json:"current,omitempty"`
	Here    bool      `json:"here"`
	OnHost  bool      `json:"on_host" says:"as last seen"`
	Commit  string    `json:"commit"`
	Ahead   int       `json:"ahead" says:"commits that only it has, against the default branch"`
	Behind  int       `json:"behind"`
	Unsent  int       `json:"unsent" says:"commits that are only here, against the same branch on the host"`
	Missing int       `json:"missing" says:"commits that are only on the host"`
	Joined  bool      `json:"joined" says:"the default branch holds all of it"`
	Who     string    `json:"who" says:"who made its last commit"`
	When    time.Time `json:"when"`
}

// Branching is a project whose branches are worked on.
type Branching struct {
	desk    *desk.Desk
	folder  *project.Folder
	Remote  string // "" where it is attached to nothing
	base    string // the default branch's name
	baseRef string
	Refs    map[string]string
}

// LookAtBranches reads the branches here, and those that git knows of the host.
func LookAtBranches(ctx context.Context, d *desk.Desk, f *project.Folder) (*Branching, error) {
	b := &Branching{desk: d, folder: f}
	if p, err := project.ProjectOf(d, f); err == nil {
		b.Remote = p.Remote
	}
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return nil, err
	}
	if b.Refs, err = f.Repo.LocalRefs(ctx, common); err != nil {
		return nil, git.Fault(err, "git cannot list the branches")
	}
	if head, err := f.Repo.Do(ctx, "symbolic-ref", "-q", "refs/remotes/"+b.Remote+"/HEAD"); err == nil && b.Remote != "" {
		b.base, b.baseRef = strings.TrimPrefix(head, "refs/remotes/"+b.Remote+"/"), head
	}
	for _, name := range []string{"main", "master", "trunk", f.Branch} {
		for _, ref := range []string{"refs/remotes/" + b.Remote + "/" + name, "refs/heads/" + name} {
			if b.baseRef == "" && b.Refs[ref] != "" {
				b.base, b.baseRef = name, ref
			}
		}
	}
	return b, nil
}

// Branches lists the branches, here and there, the youngest first.
func Branches(ctx context.Context, d *desk.Desk, given string) ([]Branch, error) {
	f, err := worktree.LooseAt(ctx, d, given)
	if err != nil {
		return nil, err
	}
	b, err := LookAtBranches(ctx, d, f)
	if err != nil {
		return nil, err
	}
	list, err := f.Repo.Do(ctx, "for-each-ref", "--format=%(refname)%00%(objectname)%00%(authorname)%00%(committerdate:unix)%00%(symref)", "refs/heads/", "refs/remotes/"+b.Remote+"/")
	if err != nil {
		return nil, git.Fault(err, "git cannot list the branches")
	}
	all := map[string]*Branch{}
	for line := range strings.Lines(list) {
		x := strings.Split(strings.TrimSuffix(line, "\n"), "\x00")
		if len(x) != 5 || x[4] != "" {
			continue
		}
		name, here := strings.CutPrefix(x[0], "refs/heads/")
		if !here {
			name = strings.TrimPrefix(x[0], "refs/remotes/"+b.Remote+"/")
		}
		one := all[name]
		if one == nil {
			one = &Branch{Name: name}
			all[name] = one
		}
		if here || !one.Here {
			seconds, _ := strconv.ParseInt(x[3], 10, 64)
			one.Commit, one.Who, one.When = x[1], x[2], time.Unix(seconds, 0).UTC()
		}
		one.Here, one.OnHost = one.Here || here, one.OnHost || !here
		one.Current = one.Current || here && name == f.Branch
	}
	out := []Branch{}
	for _, one := range all {
		if b.baseRef != "" {
			if one.Ahead, one.Behind, err = project.Apart(ctx, f.Repo, one.Commit, b.Refs[b.baseRef]); err != nil {
				return nil, err
			}
			one.Joined = one.Ahead == 0 && one.Name != b.base
		}
		if there := b.Refs["refs/remotes/"+b.Remote+"/"+one.Name]; one.Here && one.OnHost && there != one.Commit {
			if one.Unsent, one.Missing, err = project.Apart(ctx, f.Repo, one.Commit, there); err != nil {
				return nil, err
			}
		}
		out = append(out, *one)
	}
	slices.SortFunc(out, func(x, y Branch) int {
		if c := y.When.Compare(x.When); c != 0 {
			return c
		}
		return strings.Compare(x.Name, y.Name)
	})
	return out, ctx.Err()
}

// checkBranch makes sure that a name is fit for a branch (git-check-ref-format documentation).
func checkBranch(ctx context.Context, f *project.Folder, name string) error {
	if _, err := f.Repo.Do(ctx, "check-ref-format", "--branch", name); err != nil || strings.HasPrefix(name, "-") {
		return fault.New(fault.Usage, "%s is not a name for a branch", text.Quote(name))
	}
	return nil
}

// NoBranch says that there is none of a name.
func (b *Branching) NoBranch(name string) error {
	f := fault.New(fault.Failed, "there is no branch %s, neither here nor, as last seen, on the host", text.Visible(name))
	var names []string
	for ref := range b.Refs {
		if n, is := strings.CutPrefix(ref, "refs/heads/"); is {
			names = append(names, n)
		}
	}
	if near := text.Nearest(name, names); near != "" {
		f.Detail("Did you mean %s?", text.Visible(near))
	}
	return f.Try("see the branches", "uncinate branch list")
}

// BranchPlan is work on branches that is shown before it is done.
type BranchPlan struct {
	*desk.Change
	held interface{ Release() error }
}

// Do carries it out.
func (p *BranchPlan) Do(ctx context.Context) error {
	return errors.Join(p.Change.Do(ctx), p.held.Release())
}

// Release gives it up.
func (p *BranchPlan) Release() error { return p.held.Release() }

func planBranches(ctx context.Context, d *desk.Desk, given, head string, make func(b *Branching, p *BranchPlan) error) (*BranchPlan, error) {
	f, held, err := Quick(ctx, d, given)
	if err != nil {
		return nil, err
	}
	p := &BranchPlan{Change: &desk.Change{Desk: d, Job: "branch", Subject: f.Path, AsWas: "The branches are as they were.", Head: head}, held: held}
	b, err := LookAtBranches(ctx, d, f)
	if err == nil {
		err = make(b, p)
	}
	if err != nil {
		return nil, errors.Join(err, held.Release())
	}
	return p, nil
}

func (p *BranchPlan) add(id string, place plan.Place, sentence string, do func(ctx context.Context) error) {
	p.Steps = append(p.Steps, desk.Step{Item: plan.Item{ID: id, Place: place, Sentence: sentence}, Do: do})
}

// undo says how the last step is put back where a later one is refused.
func (p *BranchPlan) undo(f *project.Folder, args ...string) {
	p.Steps[len(p.Steps)-1].Undo = func(ctx context.Context) error {
		_, err := f.Repo.Do(ctx, args...)
		return git.Fault(err, "git cannot put the branches back")
	}
}

// tie gives the tie by which branches are sent.
func (b *Branching) tie(ctx context.Context) (*project.Tie, error) {
	p, err := project.ProjectOf(b.desk, b.folder)
	if err != nil {
		return nil, err
	}
	return project.TieOf(ctx, b.desk, b.folder, p)
}

// MakeOptions say what branches are wanted.
type MakeOptions struct {
	Folder  string
	Names   []string
	For     []string // people, each of whom gets one of the name
	From    string   // where they begin; "" for the commit that is checked out
	Switch  bool
	Publish bool
}

// MakeBranches plans to make branches.
func MakeBranches(ctx context.Context, d *desk.Desk, o MakeOptions) (*BranchPlan, error) {
	return planBranches(ctx, d, o.Folder, "To make branches:", func(b *Branching, p *BranchPlan) error {
		f := b.folder
		from := cmp.Or(o.From, "HEAD")
		start, err := f.Repo.Resolve(ctx, from+"^{commit}")
		if err != nil {
			if start, err = f.Repo.Resolve(ctx, "refs/remotes/"+b.Remote+"/"+from+"^{commit}"); err != nil {
				return b.NoBranch(from)
			}
		}
		var names []string
		for _, n := range o.Names {
			for _, who := range o.For {
				names = append(names, who+"/"+n)
			}
			if len(o.For) == 0 {
				names = append(names, n)
			}
		}
		for _, n := range names {
			if err := checkBranch(ctx, f, n); err != nil {
				return err
			}
			there := b.Refs["refs/remotes/"+b.Remote+"/"+n] != ""
			if o.Publish && !there && b.Refs["refs/heads/"+n] == start {
				continue // it was made before, and only the sending is left
			}
			if there || b.Refs["refs/heads/"+n] != "" {
				return fault.New(fault.Decision, "there is a branch %s already", text.Visible(n)).Try("switch to it", text.Command("uncinate", "branch", "switch", n))
			}
			p.add("make "+n, plan.Here, fmt.Sprintf("Make the branch %s at %.10s", text.Visible(n), start), func(ctx context.Context) error {
				_, err := f.Repo.Do(ctx, "branch", "--no-track", "--", n, start)
				return git.Fault(err, "git cannot make the branch %s", text.Visible(n))
			})
			p.undo(f, "branch", "-q", "-D", "--", n)
		}
		if o.Publish {
			h, err := b.tie(ctx)
			if err != nil {
				return err
			}
			p.add("send", plan.Host, "Send "+text.Count(len(names), "branch"), func(ctx context.Context) error {
				args := []string{"push", "--progress", "--porcelain", "--atomic", "--set-upstream", "--", h.Remote}
				for _, n := range names {
					args = append(args, "refs/heads/"+n+":refs/heads/"+n)
				}
				return project.Push(ctx, d, h, args)
			})
		}
		if o.Switch {
			p.add("switch", plan.Here, "Switch to "+text.Visible(names[0]), func(ctx context.Context) error {
				_, err := f.Repo.Do(ctx, "switch", "-q", "--no-guess", names[0])
				return git.Fault(err, "git cannot switch to the branch")
			})
		}
		return nil
	})
}

// repositoryName is the project's repository, as repository commands take it.
func repositoryName(b *Branching) string {
	p, err := project.ProjectOf(b.desk, b.folder)
	if err != nil {
		return "REPOSITORY"
	}
	return p.Address
}

// RenameBranch plans to rename a branch, here and on the host.
func RenameBranch(ctx context.Context, d *desk.Desk, given, from, to string, hereOnly bool) (*BranchPlan, error) {
	return planBranches(ctx, d, given, "To rename a branch:", func(b *Branching, p *BranchPlan) error {
		f := b.folder
		if err := checkBranch(ctx, f, to); err != nil {
			return err
		}
		there, newThere := b.Refs["refs/remotes/"+b.Remote+"/"+from], b.Refs["refs/remotes/"+b.Remote+"/"+to]
		half := b.Refs["refs/heads/"+from] == "" && b.Refs["refs/heads/"+to] != "" && there != "" && !hereOnly // only the sending is left
		if b.Refs["refs/heads/"+from] == "" && !half {
			return b.NoBranch(from)
		}
		if !half && (b.Refs["refs/heads/"+to] != "" || newThere != "" && !hereOnly) {
			return fault.New(fault.Decision, "there is a branch %s already", text.Visible(to)).Try("see it", text.Command("uncinate", "history", "--branch", to))
		}
		rename := func(ctx context.Context) error {
			if _, err := f.Repo.Do(ctx, "branch", "-m", "--", from, to); err != nil {
				return git.Fault(err, "git cannot rename the branch")
			}
			if newThere == "" {
				return nil
			}
			_, err := f.Repo.Do(ctx, "branch", "-q", "--set-upstream-to="+b.Remote+"/"+to, to)
			return git.Fault(err, "git cannot note the branch's counterpart")
		}
		if !half {
			p.add("rename", plan.Here, fmt.Sprintf("Rename the branch %s to %s", text.Visible(from), text.Visible(to)), rename)
			p.undo(f, "branch", "-m", "--", to, from)
		}
		if hereOnly || there == "" {
			return nil
		}
		if from == b.base {
			return fault.New(fault.Decision, "%s is the default branch on the host; there another one must become it first", text.Visible(from)).
				Try("rename it here only", text.Command("uncinate", "branch", "rename", from, to, "--here")).
				Try("and on the host, once the new one was sent", text.Command("uncinate", "repository", "change", repositoryName(b), "--default-branch", to))
		}
		h, err := b.tie(ctx)
		if err != nil {
			return err
		}
		p.add("send", plan.Host, "Send it under the new name", func(ctx context.Context) error {
			return project.Push(ctx, d, h, []string{"push", "--progress", "--porcelain", "--set-upstream", "--", h.Remote, "refs/heads/" + to + ":refs/heads/" + to})
		})
		p.add("remove on host", plan.Host, "Remove the old name on the host, if nobody sent to it meanwhile", func(ctx context.Context) error {
			return project.Push(ctx, d, h, []string{"push", "--porcelain", "--force-with-lease=" + from + ":" + there, "--", h.Remote, ":refs/heads/" + from})
		})
		return nil
	})
}

// RemoveBranch plans to remove a branch, here and there. Commits that are nowhere else are
// kept as a rescue copy.
func RemoveBranch(ctx context.Context, d *desk.Desk, given, name string, hereOnly, hostOnly bool) (*BranchPlan, error) {
	return planBranches(ctx, d, given, "To remove the branch "+name+":", func(b *Branching, p *BranchPlan) error {
		f := b.folder
		here, there := "refs/heads/"+name, "refs/remotes/"+b.Remote+"/"+name
		switch {
		case b.Refs[here] == "" && b.Refs[there] == "":
			return b.NoBranch(name)
		case name == f.Branch && !hostOnly:
			return fault.New(fault.Decision, "%s is checked out", text.Visible(name)).Try("switch to another one first", text.Command("uncinate", "branch", "switch", b.base))
		case name == b.base && !hereOnly:
			return fault.New(fault.Refused, "%s is the default branch on the host", text.Visible(name))
		}
		var going []worktree.Moving
		if !hostOnly && b.Refs[here] != "" {
			going = append(going, worktree.Moving{Ref: here, ID: b.Refs[here]})
		}
		sent := !hereOnly && b.Refs[there] != "" && b.Remote != ""
		if sent {
			going = append(going, worktree.Moving{Ref: there, ID: b.Refs[there]})
		}
		args := []string{"rev-list", "--count"}
		for _, m := range going {
			args = append(args, m.ID)
		}
		args = append(args, "--not")
		for _, m := range going {
			args = append(args, "--exclude="+m.Ref)
		}
		out, err := f.Repo.Do(ctx, append(args, "--glob=refs/*")...)
		if err != nil {
			return git.Fault(err, "git cannot tell what would be lost")
		}
		if out != "0" {
			r, err := worktree.RescuerOf(d, f)
			if err != nil {
				return err
			}
			n, err := strconv.Atoi(out)
			if err != nil {
				return err
			}
			p.Notes = append(p.Notes, fmt.Sprintf("%s of it is in no other branch.", text.Count(n, "commit")))
			p.add("rescue", plan.Here, "Keep a rescue copy of it", func(ctx context.Context) error {
				n, err := r.Keep(ctx, "branch remove "+name, going, nil)
				d.Tell.Note("What it held is kept as rescue copy %d.", n)
				return err
			})
		}
		if !hostOnly && b.Refs[here] != "" {
			p.add("remove", plan.Here, "Remove the branch "+text.Visible(name), func(ctx context.Context) error {
				_, err := f.Repo.Do(ctx, "branch", "-q", "-D", "--", name)
				return git.Fault(err, "git cannot remove the branch")
			})
		}
		if sent {
			h, err := b.tie(ctx)
			if err != nil {
				return err
			}
			p.add("remove on host", plan.Host, "Remove it on the host, if nobody sent to it meanwhile", func(ctx context.Context) error {
				return project.Push(ctx, d, h, []string{"push", "--porcelain", "--force-with-lease=" + name + ":" + b.Refs[there], "--", h.Remote, ":refs/heads/" + name})
			})
		}
		return nil
	})
}
