package deploy

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/deploying"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/git"
)

// Approving is tasks that are to be approved, by their contents.
type Approving struct {
	X      Deploy
	Commit string
	Tasks  []deploying.Task
	Files  []Shown
	Any    bool // each commit waits for an approval of its own
	GoesOn bool // it is approved, and a run was cut off before it was in use

	Updated *Updated
	desk    *desk.Desk
	t       *tasksOf
}

// Shown is a file that the approval covers.
type Shown struct {
	Path  string   `json:"path"`
	State string   `json:"state" says:"new, changed, same or gone, since the last approval"`
	Lines []string `json:"lines,omitempty" says:"its difference to what was approved, or all of a new one"`
}

// mostLines is how many lines of one file are shown.
const mostLines = 400

// PlanApprove reads the tasks of the newest commit, and what changed of them since the last approval. Nothing is waiting
// where there is none: then Tasks is empty.
func PlanApprove(ctx context.Context, d *desk.Desk, x Deploy) (*Approving, error) {
	s, err := x.read()
	if err != nil {
		return nil, err
	}
	a := &Approving{X: x, desk: d, Commit: s.Head}
	if s.Head == "" {
		return nil, fault.New(fault.Decision, "nothing of %s was received yet", x.Name).Try("receive it", text.Command("uncinate", "deploy", "update", x.Name))
	}
	repo, err := x.store(ctx, d)
	if err != nil {
		return nil, err
	}
	if a.t, err = readTasks(ctx, repo, s.Head, x.Branch); err != nil {
		return nil, err
	}
	if s.approved(a.t) {
		a.GoesOn = x.InUse() != s.Head && s.Held != s.Head
		return a, nil
	}
	a.Tasks, a.Any = a.t.Tasks.Tasks, a.t.AnyOf()
	var before deploying.Tree
	if n := len(s.Approved); n > 0 {
		before = s.Approved[n-1].Covered
	}
	paths := slices.Collect(maps.Keys(a.t.covered))
	for p := range before {
		if a.t.covered[p] == (deploying.Entry{}) {
			paths = append(paths, p)
		}
	}
	slices.Sort(paths)
	for _, p := range paths {
		one, err := show(ctx, repo, p, before[p], a.t.covered[p])
		if err != nil {
			return nil, err
		}
		a.Files = append(a.Files, one)
	}
	return a, nil
}

// show gives a file's difference to what was approved.
func show(ctx context.Context, repo *git.Repo, p string, was, now deploying.Entry) (Shown, error) {
	one := Shown{Path: p, State: "same"}
	var out []byte
	var err error
	switch {
	case now == (deploying.Entry{}):
		one.State = "gone"
	case was == (deploying.Entry{}):
		one.State = "new"
		if now.Mode == "160000" {
			one.Lines = []string{"(another repository, at " + now.ID + ")"}
			return one, nil
		}
		out, err = repo.Run(ctx, git.Cmd{Args: []string{"cat-file", "blob", now.ID}})
	case was != now:
		one.State = "changed"
		if was.ID == now.ID {
			one.Lines = []string{"mode " + was.Mode + " before, " + now.Mode + " now"}
			return one, nil
		}
		out, err = repo.Run(ctx, git.Cmd{Args: []string{"diff", "--no-color", "--no-ext-diff", "--no-textconv", "--unified=3", was.ID, now.ID}})
	}
	if err != nil {
		return one, git.Fault(err, "%s cannot be compared", text.Visible(p))
	}
	if strings.ContainsRune(string(out), 0) {
		one.Lines = []string{"(not text: " + text.Size(int64(len(out))) + ")"}
		return one, nil
	}
	lines := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	if one.State == "changed" {
		if i := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "@@") }); i >= 0 {
			lines = lines[i:]
		}
	}
	for i, l := range lines {
		if len(out) == 0 {
			break
		}
		if i == mostLines {
			one.Lines = append(one.Lines, "("+text.Number(len(lines)-i)+" more lines, which are approved too; to see all: "+text.Command("git", "--git-dir="+repo.Dir, "cat-file", "blob", now.ID)+")")
			break
		}
		one.Lines = append(one.Lines, l)
	}
	return one, nil
}

// Items is the plan as it is shown.
func (a *Approving) Items() []plan.Item {
	return []plan.Item{{ID: "approve", Place: plan.Here, Sentence: "Approve " + text.Count(len(a.Tasks), "task") + ", by the contents of " + text.Count(len(a.t.covered), "file")},
		{ID: "use", Place: plan.Here, Sentence: "Run them for " + a.Commit[:10] + ", and let " + text.Visible(a.X.Folder) + " lead to it"}}
}

// Release gives it up.
func (a *Approving) Release() error { return nil }

// Do notes the approval, and brings the newest commit into use.
func (a *Approving) Do(ctx context.Context) error {
	held, err := a.X.alone(ctx)
	if err != nil {
		return err
	}
	s, err := a.X.read()
	if err == nil && !s.approved(a.t) {
		s.Approved = append(s.Approved, Approval{Digest: a.t.digest, When: a.desk.Now().UTC(), Commit: a.Commit, Covered: a.t.covered})
		s.Approved = s.Approved[max(0, len(s.Approved)-100):]
		s.Failed = nil
		err = a.X.write(s)
	}
	if err = errors.Join(err, held.Release()); err != nil {
		return err
	}
	a.Updated, err = Update(ctx, a.desk, a.X, UpdateOptions{})
	return err
}
