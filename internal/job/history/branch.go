package history

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Branch is a branch, here or on the host.
type Branch struct {
	Name    string    `json:"name"`
	Current bool      `json:"current,omitempty"`
	Here    bool      `json:"here"`
	OnHost  bool      `json:"on_host" says:"as last seen"`
	Gone    bool      `json:"gone,omitempty" says:"the host had it, and was found to have it no longer"`
	Commit  string    `json:"commit"`
	Ahead   int       `json:"ahead" says:"commits that only it has, against the default branch"`
	Behind  int       `json:"behind"`
	Unsent  int       `json:"unsent" says:"commits that are only here, against the same branch on the host"`
	Missing int       `json:"missing" says:"commits that are only on the host"`
	Joined  bool      `json:"joined" says:"the default branch holds all of it, be it as commits of other ids"`
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
	gone    []string // branches that the host was found to have no longer
}

// LookAtBranches reads the branches here, and those that git knows of the host.
func LookAtBranches(ctx context.Context, d *desk.Desk, f *project.Folder) (*Branching, error) {
	b := &Branching{desk: d, folder: f}
	if p, err := project.ProjectOf(ctx, d, f); err == nil {
		b.Remote = p.Remote
	}
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return nil, err
	}
	b.gone = project.Gone(common)
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

// Newest gives the commit of a branch that is to be joined or looked at: here, or on the host as last
// seen where that has all that is here and more. More is how many commits only the host's has, where
// each of the two has some. "" where there is no such branch.
func (b *Branching) Newest(ctx context.Context, name string) (commit string, more int, err error) {
	own, there := b.Refs["refs/heads/"+name], b.Refs["refs/remotes/"+b.Remote+"/"+name]
	if own == "" || there == "" || own == there {
		return cmp.Or(own, there), 0, nil
	}
	ahead, behind, err := project.Apart(ctx, b.folder.Repo, own, there)
	if ahead == 0 {
		return there, 0, err
	}
	return own, behind, err
}

// Branches lists the branches, on both sides, the youngest first.
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
		if name == web.ClaimsBranch && !here { // nobody works on it
			continue
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
	for _, name := range b.gone {
		if one := all[name]; one != nil && one.Here {
			one.Gone, one.OnHost = one.OnHost, false
		} else {
			delete(all, name)
		}
	}
	out := []Branch{}
	apart, err := b.apart(ctx, all)
	if err != nil {
		return nil, err
	}
	for _, one := range all { // against the default branch first, of which the walk remembers what it leads to
		if err := b.against(ctx, one, apart); err != nil {
			return nil, err
		}
	}
	for _, one := range all {
		if there := b.Refs["refs/remotes/"+b.Remote+"/"+one.Name]; one.Here && one.OnHost && there != one.Commit {
			if one.Unsent, one.Missing, err = apart(one.Commit, there); err != nil {
				return nil, err
			}
		}
		out = append(out, *one)
	}
	slices.SortFunc(out, func(x, y Branch) int { return cmp.Or(y.When.Compare(x.When), strings.Compare(x.Name, y.Name)) })
	return out, ctx.Err()
}

// against tells how a branch is to the default one. Of one that was accepted, or is no longer on the host, it
// is looked whether that holds all of it by commits of other ids.
func (b *Branching) against(ctx context.Context, one *Branch, apart func(ours, theirs string) (int, int, error)) (err error) {
	if b.baseRef == "" {
		return nil
	}
	if one.Ahead, one.Behind, err = apart(one.Commit, b.Refs[b.baseRef]); err != nil {
		return err
	}
	one.Joined = one.Ahead == 0 && one.Name != b.base
	if one.Joined || !one.Here || one.Name == b.base || !one.Gone && offering.NotesOf(b.desk, b.folder.Path).Made[one.Name].State != "accepted" {
		return nil
	}
	one.Joined, err = worktree.HoldsAll(ctx, b.folder, b.Refs[b.baseRef], one.Commit, "")
	return err
}

// fewBranches is up to how many git is asked about each by itself.
const fewBranches = 8

// apart gives a way to count how far two commits of some branches are apart: by a run of git for
// each pair where they are few, otherwise by one walk through the history of all.
func (b *Branching) apart(ctx context.Context, all map[string]*Branch) (func(ours, theirs string) (int, int, error), error) {
	repo := b.folder.Repo
	if len(all) <= fewBranches {
		return func(ours, theirs string) (int, int, error) { return project.Apart(ctx, repo, ours, theirs) }, nil
	}
	var in strings.Builder
	for _, one := range all {
		in.WriteString(one.Commit + "\n")
		if there := b.Refs["refs/remotes/"+b.Remote+"/"+one.Name]; there != "" {
			in.WriteString(there + "\n")
		}
	}
	if b.baseRef != "" {
		in.WriteString(b.Refs[b.baseRef] + "\n")
	}
	out, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: []string{"rev-list", "--parents", "--stdin"}, In: strings.NewReader(in.String())})
	if err != nil {
		return nil, git.Fault(err, "git cannot list the commits of the branches")
	}
	w, err := histories.ReadWalk(string(out))
	if err != nil {
		return nil, err
	}
	return w.Apart, nil
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
	for _, ref := range slices.Sorted(maps.Keys(b.Refs)) {
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
	held   interface{ Release() error }
	before *desk.Cut // what the same command noted before it was cut off; nil where it was not
}

// Do carries it out.
func (p *BranchPlan) Do(ctx context.Context) error {
	return errors.Join(p.Change.Do(ctx), p.held.Release())
}

// Release gives it up.
func (p *BranchPlan) Release() error { return p.held.Release() }

// planBranches looks at the branches and plans a change of them; line is the command that
// goes on with it where it is cut off.
func planBranches(ctx context.Context, d *desk.Desk, given, head string, line []string, make func(b *Branching, p *BranchPlan) error) (*BranchPlan, error) {
	f, held, err := Quick(ctx, d, given)
	if err != nil {
		return nil, err
	}
	p := &BranchPlan{Change: &desk.Change{Desk: d, Job: line[0], Subject: f.Path, AsWas: "The branches are as they were.", Head: head}, held: held}
	p.Line = text.Command(append([]string{"uncinate"}, line...)...)
	b, err := LookAtBranches(ctx, d, f)
	if err == nil {
		p.before, err = p.GoesOn()
	}
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
	p, err := project.ProjectOf(ctx, b.desk, b.folder)
	if err != nil {
		return nil, err
	}
	return project.TieOf(ctx, b.desk, b.folder, p)
}

// renamed reports whether a run that was cut off renamed the branch already. Its journal tells
// of which commit it was; what is under the new name must have come of that.
func (p *BranchPlan) renamed(ctx context.Context, b *Branching, from, to string) (bool, error) {
	if p.before == nil {
		return false, nil
	}
	was, now := p.before.From, b.Refs["refs/heads/"+to]
	if b.Refs["refs/heads/"+from] == "" && now != "" && was != "" && b.holds(ctx, now, was) {
		return true, worktree.SettleLog(b.folder, to)
	}
	return false, p.GiveUp() // it had not come that far, or was finished by hand
}

// rename renames a branch here.
func (b *Branching) rename(ctx context.Context, from, to string, followed bool) error {
	if _, err := b.folder.Repo.Do(ctx, "branch", "-m", "--", from, to); err != nil {
		return git.Fault(err, "git cannot rename the branch")
	}
	if b.folder.Branch == from {
		b.folder.Branch = to
	}
	if err := worktree.SettleLog(b.folder, to); err != nil {
		return err
	}
	if !followed {
		return nil
	}
	_, err := b.folder.Repo.Do(ctx, "branch", "-q", "--set-upstream-to="+b.Remote+"/"+to, to)
	return git.Fault(err, "git cannot note the branch's counterpart")
}
