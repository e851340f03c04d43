package job

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/semver"
	"uncinate/internal/core/text"
	"uncinate/internal/world/git"
)

// Branch is a branch, here or on the host.
type Branch struct {
	Name    string    `json:"name"`
	Current bool      `json:"current,omitempty"`
	Here    bool      `json:"here"`
	There   bool      `json:"there" says:"as far as the host was asked"`
	Commit  string    `json:"commit"`
	Ahead   int       `json:"ahead" says:"commits that only it has, against the default branch"`
	Behind  int       `json:"behind"`
	Unsent  int       `json:"unsent" says:"commits that only here has, against the same branch there"`
	Missing int       `json:"missing" says:"commits that only there has"`
	Joined  bool      `json:"joined" says:"the default branch holds all of it"`
	Who     string    `json:"who" says:"who made its last commit"`
	When    time.Time `json:"when"`
}

// branching is a project whose branches are worked on.
type branching struct {
	desk    *Desk
	folder  *folder
	remote  string // "" where it is hooked to nothing
	base    string // the default branch's name
	baseRef string
	refs    map[string]string
}

func (d *Desk) branching(ctx context.Context, f *folder) (*branching, error) {
	b := &branching{desk: d, folder: f}
	if p, err := d.projectOf(f); err == nil {
		b.remote = p.Remote
	}
	_, common, err := git.Folders(f.path)
	if err != nil {
		return nil, err
	}
	if b.refs, err = f.repo.LocalRefs(ctx, common); err != nil {
		return nil, gitFault(err, "git cannot list the branches")
	}
	if head, err := f.repo.Do(ctx, "symbolic-ref", "-q", "refs/remotes/"+b.remote+"/HEAD"); err == nil && b.remote != "" {
		b.base, b.baseRef = strings.TrimPrefix(head, "refs/remotes/"+b.remote+"/"), head
	}
	for _, name := range []string{"main", "master", "trunk", f.branch} {
		for _, ref := range []string{"refs/remotes/" + b.remote + "/" + name, "refs/heads/" + name} {
			if b.baseRef == "" && b.refs[ref] != "" {
				b.base, b.baseRef = name, ref
			}
		}
	}
	return b, nil
}

// Branches lists the branches, here and there, the youngest first.
func (d *Desk) Branches(ctx context.Context, given string) ([]Branch, error) {
	f, err := d.looseAt(ctx, given)
	if err != nil {
		return nil, err
	}
	b, err := d.branching(ctx, f)
	if err != nil {
		return nil, err
	}
	list, err := f.repo.Do(ctx, "for-each-ref", "--format=%(refname)%00%(objectname)%00%(authorname)%00%(committerdate:unix)%00%(symref)", "refs/heads/", "refs/remotes/"+b.remote+"/")
	if err != nil {
		return nil, gitFault(err, "git cannot list the branches")
	}
	all := map[string]*Branch{}
	for line := range strings.Lines(list) {
		x := strings.Split(strings.TrimSuffix(line, "\n"), "\x00")
		if len(x) != 5 || x[4] != "" {
			continue
		}
		name, here := strings.CutPrefix(x[0], "refs/heads/")
		if !here {
			name = strings.TrimPrefix(x[0], "refs/remotes/"+b.remote+"/")
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
		one.Here, one.There = one.Here || here, one.There || !here
		one.Current = one.Current || here && name == f.branch
	}
	out := []Branch{}
	for _, one := range all {
		if b.baseRef != "" {
			if one.Ahead, one.Behind, err = apart(ctx, f.repo, one.Commit, b.refs[b.baseRef]); err != nil {
				return nil, err
			}
			one.Joined = one.Ahead == 0 && one.Name != b.base
		}
		if there := b.refs["refs/remotes/"+b.remote+"/"+one.Name]; one.Here && one.There && there != one.Commit {
			if one.Unsent, one.Missing, err = apart(ctx, f.repo, one.Commit, there); err != nil {
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
func (f *folder) checkBranch(ctx context.Context, name string) error {
	if _, err := f.repo.Do(ctx, "check-ref-format", "--branch", name); err != nil || strings.HasPrefix(name, "-") {
		return fault.New(fault.Usage, "%s is no name for a branch", text.Quote(name))
	}
	return nil
}

// noBranch says that there is none of a name.
func (b *branching) noBranch(name string) error {
	f := fault.New(fault.Failed, "there is no branch %s, here or as far as known on the host", text.Visible(name))
	var names []string
	for ref := range b.refs {
		if n, is := strings.CutPrefix(ref, "refs/heads/"); is {
			names = append(names, n)
		}
	}
	if near := text.Nearest(name, names); near != "" {
		f.Detail("Did you mean %s?", text.Visible(near))
	}
	return f.Try("see what there is", "uncinate branch list")
}

// BranchPlan is work on branches that is shown before it is done.
type BranchPlan struct {
	*Change
	held interface{ Release() error }
}

// Do carries it out.
func (p *BranchPlan) Do(ctx context.Context) error {
	return errors.Join(p.Change.Do(ctx), p.held.Release())
}

// Release gives it up.
func (p *BranchPlan) Release() error { return p.held.Release() }

func (d *Desk) planBranches(ctx context.Context, given, head string, make func(b *branching, p *BranchPlan) error) (*BranchPlan, error) {
	f, held, err := d.quick(ctx, given)
	if err != nil {
		return nil, err
	}
	p := &BranchPlan{Change: &Change{desk: d, job: "branch", subject: f.path, asWas: "The branches are as they were.", Head: head}, held: held}
	b, err := d.branching(ctx, f)
	if err == nil {
		err = make(b, p)
	}
	if err != nil {
		return nil, errors.Join(err, held.Release())
	}
	return p, nil
}

func (p *BranchPlan) add(id string, place plan.Place, sentence string, do func(ctx context.Context) error) {
	p.steps = append(p.steps, Step{Item: plan.Item{ID: id, Place: place, Sentence: sentence}, Do: do})
}

// undo says how the last step is put back where a later one is refused.
func (p *BranchPlan) undo(f *folder, args ...string) {
	p.steps[len(p.steps)-1].Undo = func(ctx context.Context) error {
		_, err := f.repo.Do(ctx, args...)
		return gitFault(err, "git cannot put the branches back")
	}
}

// hook gives the hook by which branches are sent.
func (b *branching) hook(ctx context.Context) (*hook, error) {
	p, err := b.desk.projectOf(b.folder)
	if err != nil {
		return nil, err
	}
	return b.desk.hookOf(ctx, b.folder, p)
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
func (d *Desk) MakeBranches(ctx context.Context, o MakeOptions) (*BranchPlan, error) {
	return d.planBranches(ctx, o.Folder, "To make branches:", func(b *branching, p *BranchPlan) error {
		f := b.folder
		from := orElse(o.From, "HEAD")
		start, err := f.repo.Do(ctx, "rev-parse", "-q", "--verify", from+"^{commit}")
		if err != nil {
			if start, err = f.repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/remotes/"+b.remote+"/"+from+"^{commit}"); err != nil {
				return b.noBranch(from)
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
			if err := f.checkBranch(ctx, n); err != nil {
				return err
			}
			there := b.refs["refs/remotes/"+b.remote+"/"+n] != ""
			if o.Publish && !there && b.refs["refs/heads/"+n] == start {
				continue // it was made before, and only the sending is left
			}
			if there || b.refs["refs/heads/"+n] != "" {
				return fault.New(fault.Decision, "there is a branch %s already", text.Visible(n)).Try("go to it", text.Command("uncinate", "branch", "switch", n))
			}
			p.add("make "+n, plan.Here, fmt.Sprintf("Make the branch %s at %.10s", text.Visible(n), start), func(ctx context.Context) error {
				_, err := f.repo.Do(ctx, "branch", "--no-track", "--", n, start)
				return gitFault(err, "git cannot make the branch %s", text.Visible(n))
			})
			p.undo(f, "branch", "-q", "-D", "--", n)
		}
		if o.Publish {
			h, err := b.hook(ctx)
			if err != nil {
				return err
			}
			p.add("send", plan.Host, "Send "+text.Count(len(names), "branch"), func(ctx context.Context) error {
				args := []string{"push", "--progress", "--porcelain", "--atomic", "--set-upstream", "--", h.remote}
				for _, n := range names {
					args = append(args, "refs/heads/"+n+":refs/heads/"+n)
				}
				return d.push(ctx, h, args)
			})
		}
		if o.Switch {
			p.add("switch", plan.Here, "Go to "+text.Visible(names[0]), func(ctx context.Context) error {
				_, err := f.repo.Do(ctx, "switch", "-q", "--no-guess", names[0])
				return gitFault(err, "git cannot go to the branch")
			})
		}
		return nil
	})
}

// Switched is where one went.
type Switched struct {
	Branch  string         `json:"branch"`
	Commit  string         `json:"commit"`
	Changed map[string]int `json:"changed" says:"what is not saved, and came along"`
	InWay   int            `json:"in_way,omitempty" says:"files that were in the way, of which a rescue copy is kept"`
	OnNone  int            `json:"on_no_branch,omitempty" says:"commits that were checked out and are on no branch, of which it is kept too"`
	Rescued int            `json:"rescued,omitempty" says:"the copy's number"`
}

// SwitchBranch goes to a branch. Changes that are not saved come along, unless they would
// be written over.
func (d *Desk) SwitchBranch(ctx context.Context, given, name string) (*Switched, error) {
	f, held, err := d.quick(ctx, given)
	if err != nil {
		return nil, err
	}
	out, err := d.switchBranch(ctx, f, name)
	return out, errors.Join(err, held.Release())
}

func (d *Desk) switchBranch(ctx context.Context, f *folder, name string) (*Switched, error) {
	b, err := d.branching(ctx, f)
	if err != nil {
		return nil, err
	}
	if err := f.checkBranch(ctx, name); err != nil {
		return nil, err
	}
	target, args := b.refs["refs/heads/"+name], []string{"switch", "-q", "--no-guess", "--no-overwrite-ignore", name}
	if target == "" {
		there := "refs/remotes/" + b.remote + "/" + name
		if target = b.refs[there]; target == "" || b.remote == "" {
			return nil, b.noBranch(name)
		}
		args = []string{"switch", "-q", "--no-overwrite-ignore", "--track", "-c", name, b.remote + "/" + name}
	}
	way, err := f.carries(ctx, target)
	if err != nil {
		return nil, err
	}
	lost, err := f.onNone(ctx)
	if err != nil {
		return nil, err
	}
	kept := 0
	if len(way)+lost > 0 {
		var refs []moving
		if lost > 0 {
			refs = []moving{{"HEAD", f.head, target}}
		}
		r, err := d.rescuer(f)
		if err == nil {
			kept, err = r.keep(ctx, "branch switch", refs, way)
		}
		if err == nil {
			err = f.clear(way)
		}
		if err != nil {
			return nil, err
		}
	}
	if _, err := f.repo.Git.In(f.path).Do(ctx, args...); err != nil {
		err = gitFault(err, "git cannot go to the branch %s", text.Visible(name))
		if kept > 0 {
			return nil, fault.Of(err).Try("bring back what was in the way", text.Command("uncinate", "rescue", "bring", strconv.Itoa(kept)))
		}
		return nil, err
	}
	st, err := f.repo.Status(ctx, false)
	if err != nil {
		return nil, gitFault(err, "git cannot tell what changed")
	}
	return &Switched{Branch: st.Branch, Commit: st.Commit, Changed: st.Counts(), InWay: len(way), OnNone: lost, Rescued: kept}, nil
}

// onNone counts the commits that are checked out and that no branch or tag holds.
func (f *folder) onNone(ctx context.Context) (int, error) {
	if f.branch != "" || f.head == "" {
		return 0, nil
	}
	out, err := f.repo.Do(ctx, "rev-list", "--count", f.head, "--not", "--glob=refs/*")
	if err != nil {
		return 0, gitFault(err, "git cannot tell which commits are on no branch")
	}
	return strconv.Atoi(out)
}

// carries stops where files that are not saved would be written over by going to a commit,
// and gives those in the way of which a rescue copy is to be kept.
func (f *folder) carries(ctx context.Context, target string) (way []string, err error) {
	st, err := f.repo.Status(ctx, true)
	if err != nil {
		return nil, gitFault(err, "git cannot tell what changed")
	}
	from := f.head
	if from == "" {
		if from, err = f.emptyTree(ctx); err != nil {
			return nil, err
		}
	}
	coming, err := f.repo.Lines(ctx, "diff-tree", "-r", "-z", "--name-only", "--no-renames", from, target)
	if err != nil {
		return nil, gitFault(err, "git cannot compare the branches")
	}
	clash, way, err := f.inWay(ctx, st, coming, &weaver{repo: f.repo}, target)
	if err != nil || len(clash) == 0 {
		return way, err
	}
	return nil, writtenOver(clash).Try("save them first", `uncinate save "What was done"`).Try("or lay them aside", text.Command("git", "-C", f.path, "stash", "--include-untracked"))
}

// RenameBranch plans to call a branch otherwise, here and there.
func (d *Desk) RenameBranch(ctx context.Context, given, from, to string, hereOnly bool) (*BranchPlan, error) {
	return d.planBranches(ctx, given, "To rename a branch:", func(b *branching, p *BranchPlan) error {
		f := b.folder
		if err := f.checkBranch(ctx, to); err != nil {
			return err
		}
		there, newThere := b.refs["refs/remotes/"+b.remote+"/"+from], b.refs["refs/remotes/"+b.remote+"/"+to]
		half := b.refs["refs/heads/"+from] == "" && b.refs["refs/heads/"+to] != "" && there != "" && !hereOnly // only the sending is left
		if b.refs["refs/heads/"+from] == "" && !half {
			return b.noBranch(from)
		}
		if !half && (b.refs["refs/heads/"+to] != "" || newThere != "" && !hereOnly) {
			return fault.New(fault.Decision, "there is a branch %s already", text.Visible(to)).Try("see it", text.Command("uncinate", "history", "--branch", to))
		}
		rename := func(ctx context.Context) error {
			if _, err := f.repo.Do(ctx, "branch", "-m", "--", from, to); err != nil {
				return gitFault(err, "git cannot rename the branch")
			}
			if newThere == "" {
				return nil
			}
			_, err := f.repo.Do(ctx, "branch", "-q", "--set-upstream-to="+b.remote+"/"+to, to)
			return gitFault(err, "git cannot note the branch's counterpart")
		}
		if !half {
			p.add("rename", plan.Here, fmt.Sprintf("Call the branch %s %s", text.Visible(from), text.Visible(to)), rename)
			p.undo(f, "branch", "-m", "--", to, from)
		}
		if hereOnly || there == "" {
			return nil
		}
		if from == b.base {
			return fault.New(fault.Decision, "%s is the default branch on the host; there another one has to become it first", text.Visible(from)).
				Try("rename it here only", text.Command("uncinate", "branch", "rename", from, to, "--here")).
				Try("and there, once the new one was sent", text.Command("uncinate", "hosted", "change", "REPOSITORY", "--branch", to))
		}
		h, err := b.hook(ctx)
		if err != nil {
			return err
		}
		p.add("send", plan.Host, "Send it under the new name", func(ctx context.Context) error {
			return d.push(ctx, h, []string{"push", "--progress", "--porcelain", "--set-upstream", "--", h.remote, "refs/heads/" + to + ":refs/heads/" + to})
		})
		p.add("remove there", plan.Host, "Remove the old name there, if nobody sent to it meanwhile", func(ctx context.Context) error {
			return d.push(ctx, h, []string{"push", "--porcelain", "--force-with-lease=" + from + ":" + there, "--", h.remote, ":refs/heads/" + from})
		})
		return nil
	})
}

// RemoveBranch plans to remove a branch, here and there. Commits that are nowhere else are
// kept as a rescue copy.
func (d *Desk) RemoveBranch(ctx context.Context, given, name string, hereOnly, thereOnly bool) (*BranchPlan, error) {
	return d.planBranches(ctx, given, "To remove the branch "+name+":", func(b *branching, p *BranchPlan) error {
		f := b.folder
		here, there := "refs/heads/"+name, "refs/remotes/"+b.remote+"/"+name
		switch {
		case b.refs[here] == "" && b.refs[there] == "":
			return b.noBranch(name)
		case name == f.branch && !thereOnly:
			return fault.New(fault.Decision, "%s is checked out", text.Visible(name)).Try("go to another one first", text.Command("uncinate", "branch", "switch", b.base))
		case name == b.base && !hereOnly:
			return fault.New(fault.Refused, "%s is the default branch on the host", text.Visible(name))
		}
		var going []moving
		if !thereOnly && b.refs[here] != "" {
			going = append(going, moving{here, b.refs[here], ""})
		}
		sent := !hereOnly && b.refs[there] != "" && b.remote != ""
		if sent {
			going = append(going, moving{there, b.refs[there], ""})
		}
		args := []string{"rev-list", "--count"}
		for _, m := range going {
			args = append(args, m.id)
		}
		args = append(args, "--not")
		for _, m := range going {
			args = append(args, "--exclude="+m.ref)
		}
		out, err := f.repo.Do(ctx, append(args, "--glob=refs/*")...)
		if err != nil {
			return gitFault(err, "git cannot tell what would be lost")
		}
		if out != "0" {
			r, err := d.rescuer(f)
			if err != nil {
				return err
			}
			n, err := strconv.Atoi(out)
			if err != nil {
				return err
			}
			p.Notes = append(p.Notes, fmt.Sprintf("%s of it is in no other branch.", text.Count(n, "commit")))
			p.add("rescue", plan.Here, "Keep a rescue copy of it", func(ctx context.Context) error {
				n, err := r.keep(ctx, "branch remove "+name, going, nil)
				d.Tell.Note("What it held is kept as rescue copy %d.", n)
				return err
			})
		}
		if !thereOnly && b.refs[here] != "" {
			p.add("remove", plan.Here, "Remove the branch "+text.Visible(name), func(ctx context.Context) error {
				_, err := f.repo.Do(ctx, "branch", "-q", "-D", "--", name)
				return gitFault(err, "git cannot remove the branch")
			})
		}
		if sent {
			h, err := b.hook(ctx)
			if err != nil {
				return err
			}
			p.add("remove there", plan.Host, "Remove it on the host, if nobody sent to it meanwhile", func(ctx context.Context) error {
				return d.push(ctx, h, []string{"push", "--porcelain", "--force-with-lease=" + name + ":" + b.refs[there], "--", h.remote, ":refs/heads/" + name})
			})
		}
		return nil
	})
}

// JoinBranch merges a branch into the one that is checked out, tried out aside first.
func (d *Desk) JoinBranch(ctx context.Context, given, name string) (*Sync, error) {
	f, held, err := d.quick(ctx, given)
	if err != nil {
		return nil, err
	}
	s := &Sync{desk: d, folder: f, held: held, options: SyncOptions{Folder: given}}
	if err := s.joins(ctx, name); err != nil {
		return nil, errors.Join(err, held.Release())
	}
	return s, nil
}

func (s *Sync) joins(ctx context.Context, name string) error {
	d, f := s.desk, s.folder
	b, err := d.branching(ctx, f)
	if err != nil {
		return err
	}
	theirs := orElse(b.refs["refs/heads/"+name], b.refs["refs/remotes/"+b.remote+"/"+name])
	switch {
	case theirs == "":
		return b.noBranch(name)
	case f.branch == "" || f.head == "":
		return fault.New(fault.Decision, "no branch with a commit is checked out here, into which it could be joined")
	}
	if s.rescuer, err = d.rescuer(f); err != nil {
		return err
	}
	if s.run, _, err = d.begin("sync", f.path); err != nil {
		return err
	}
	st, err := f.repo.Status(ctx, true)
	if err != nil {
		return gitFault(err, "git cannot tell what changed")
	}
	s.stand = &Standing{Folder: f.path, Branch: f.branch, Commit: f.head, Changed: st.Counts(), status: st, ours: f.head, theirs: theirs}
	if s.SentOut, s.BroughtIn, err = apart(ctx, f.repo, f.head, theirs); err != nil {
		return err
	}
	s.text, s.joining = fmt.Sprintf("Merge branch '%s'\n", name), name
	if b.refs["refs/heads/"+name] == "" {
		s.joining = b.remote + "/" + name
	}
	switch {
	case s.BroughtIn == 0:
		return nil
	case s.SentOut == 0:
		s.need = histories.FastForward
	default:
		s.need = histories.Merge
		if err := f.signed(ctx); err != nil {
			return err
		}
	}
	return s.planIn(ctx)
}

// Join carries a join out.
func (s *Sync) Join(ctx context.Context) (*Synced, error) {
	err := s.run.journal.Close()
	if len(s.steps) > 0 {
		err = s.run.run(ctx, s.steps)
	}
	out := &Synced{Folder: s.folder.path, Branch: s.stand.Branch, Commit: s.folder.head, BroughtIn: s.BroughtIn, Changed: s.stand.Changed, Rescued: s.rescued}
	if s.need == histories.Merge {
		out.Together = "merge"
	}
	return out, errors.Join(err, s.held.Release())
}

// TagOptions say what is to be marked.
type TagOptions struct {
	Folder string
	Name   string
	At     string // a commit; "" for the one that is checked out
	Text   string
	Any    bool // the name need not be a version
	Here   bool // do not send it
}

// Tag plans to mark a version and to send the mark.
func (d *Desk) Tag(ctx context.Context, o TagOptions) (*BranchPlan, error) {
	return d.planBranches(ctx, o.Folder, "To mark "+o.Name+":", func(b *branching, p *BranchPlan) error {
		f := b.folder
		p.job = "tag"
		if _, err := f.repo.Do(ctx, "check-ref-format", "refs/tags/"+o.Name); err != nil || strings.HasPrefix(o.Name, "-") {
			return fault.New(fault.Usage, "%s is no name for a tag", text.Quote(o.Name))
		}
		v, is := semver.Parse(o.Name)
		if !is && !o.Any {
			return fault.New(fault.Usage, "%s is no version number of the form 1.2.3", text.Quote(o.Name)).
				Try("if it is to be called so all the same", text.Command("uncinate", "tag", o.Name, "--any-name"))
		}
		at, err := f.repo.Do(ctx, "rev-parse", "-q", "--verify", orElse(o.At, "HEAD")+"^{commit}")
		if err != nil {
			return fault.New(fault.Failed, "there is no commit %s here", text.Visible(orElse(o.At, "yet"))).Because(err)
		}
		stands, _ := f.repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/tags/"+o.Name+"^{commit}") // "" for none
		if b.refs["refs/tags/"+o.Name] != "" && (stands != at || o.Here) {
			return fault.New(fault.Refused, "there is a tag %s already, and what a tag stands for never changes", text.Visible(o.Name)).
				Try("see what it stands for", text.Command("git", "-C", f.path, "show", "--stat", "refs/tags/"+o.Name))
		}
		for ref := range b.refs {
			name, _ := strings.CutPrefix(ref, "refs/tags/")
			if other, tagged := semver.Parse(name); is && tagged && semver.Compare(other, v) > 0 {
				p.Notes = append(p.Notes, "There is a later version already: "+text.Visible(name)+".")
				break
			}
		}
		if err := f.signed(ctx); err != nil {
			return err
		}
		title, err := f.repo.Do(ctx, "log", "-1", "--no-show-signature", "--format=%s", at)
		if err != nil {
			return gitFault(err, "git cannot read the commit")
		}
		if stands == "" {
			p.add("tag", plan.Here, fmt.Sprintf("Mark %.10s (%s) as %s", at, text.Excerpt(title, 60), text.Visible(o.Name)), func(ctx context.Context) error {
				_, err := f.repo.Do(ctx, "tag", "-a", "-m", orElse(o.Text, o.Name), "--", o.Name, at)
				return gitFault(err, "git cannot make the tag")
			})
			p.undo(f, "tag", "-d", "--", o.Name)
		}
		if o.Here {
			return nil
		}
		h, err := b.hook(ctx)
		if err != nil {
			return err
		}
		out, err := f.repo.Do(ctx, "rev-list", "--count", "-1", at, "--not", "--remotes="+b.remote)
		if err != nil {
			return gitFault(err, "git cannot compare here and there")
		}
		if out != "0" {
			p.Notes = append(p.Notes, "Its commit was not sent so far; it goes along, and the branch does not.")
		}
		p.add("send", plan.Host, "Send the tag", func(ctx context.Context) error {
			return d.push(ctx, h, []string{"push", "--porcelain", "--", h.remote, "refs/tags/" + o.Name + ":refs/tags/" + o.Name})
		})
		return nil
	})
}
