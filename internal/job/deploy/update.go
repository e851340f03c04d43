package deploy

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"uncinate/internal/core/deploying"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/live"
	"uncinate/internal/world/web"
)

// Updated is what came of an update.
type Updated struct {
	Name     string   `json:"name"`
	State    string   `json:"state" says:"in use, already, received, waiting, held or failed"`
	Commit   string   `json:"commit,omitempty" says:"the newest one of the branch"`
	InUse    string   `json:"in_use,omitempty"`
	Before   string   `json:"before,omitempty" says:"what was in use until now"`
	Rewrite  bool     `json:"rewritten,omitempty" says:"the branch was rewritten: what was in use is not part of it any longer"`
	Failed   *Failure `json:"failed,omitempty"`
	GoesOn   []string `json:"went_on,omitempty" says:"tasks that failed, and were let"`
	Files    int      `json:"files,omitempty"`
	Missing  []string `json:"lasting_missing,omitempty" says:"lasting files that are not there yet"`
	Pointers bool     `json:"large_files_missing,omitempty" says:"large files outside of git are only pointers"`
}

// UpdateOptions say how far an update goes.
type UpdateOptions struct {
	FetchOnly bool // receive, and leave what is in use
	Again     bool // also a commit from which a person went back
	Ring      bool // it is not asked for by a person: what failed is not tried once more
}

// update is a run of one.
type update struct {
	x     Deploy
	desk  *desk.Desk
	o     UpdateOptions
	state *State
	repo  *git.Repo
	out   *Updated
}

// Update brings the newest commit of the branch into use, whole, or leaves what is in use as it is.
func Update(ctx context.Context, d *desk.Desk, x Deploy, o UpdateOptions) (_ *Updated, err error) {
	held, err := x.alone(ctx)
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, held.Release)
	u := &update{x: x, desk: d, o: o, out: &Updated{Name: x.Name}}
	if u.state, err = x.read(); err != nil {
		return nil, err
	}
	if u.repo, err = x.store(ctx, d); err != nil {
		return nil, err
	}
	if err := u.receive(ctx); err != nil {
		return nil, err
	}
	if err := u.follow(ctx); err != nil {
		return nil, err
	}
	u.out.Commit, u.out.InUse = u.state.Head, x.InUse()
	if err := u.sweep(); err != nil {
		return u.out, err
	}
	return u.out, nil
}

// Newest asks the host for the newest commit of the branch, and receives nothing.
func Newest(ctx context.Context, d *desk.Desk, x Deploy) (string, error) {
	tie, err := x.tie(ctx, d)
	if err != nil {
		return "", err
	}
	told, err := project.Refs(ctx, d, tie, "")
	if err == nil && told.Branch(x.Branch) == "" {
		err = x.gone(told)
	}
	return told.Branch(x.Branch), err
}

// gone is the fault where the branch is no longer on the host.
func (x Deploy) gone(told web.Refs) error {
	return fault.New(fault.HostSaidNo, "%s has no branch %s any longer", x.Address, text.Visible(x.Branch)).
		Detail("What is in use stays.").Detail("It has: %s", text.Excerpt(strings.Join(told.Branches(), ", "), 200))
}

// receive asks the host for the branch, and receives what is new.
func (u *update) receive(ctx context.Context) error {
	tie, err := u.x.tie(ctx, u.desk)
	if err != nil {
		return err
	}
	if err := tie.WriteInclude(ctx); err != nil {
		return err
	}
	told, err := project.Refs(ctx, u.desk, tie, "")
	if err != nil {
		return err
	}
	head := told.Branch(u.x.Branch)
	if head == "" {
		return u.x.gone(told)
	}
	if files.KindOf(u.repo.Dir) == files.None {
		if err := project.MakeStore(u.repo.Dir, len(head), ""); err != nil {
			return err
		}
	}
	if _, err := u.repo.Resolve(ctx, head+"^{commit}"); err != nil {
		if err := project.Receive(ctx, u.desk, u.repo.Works(), tie.Config(), "--no-tags", "--no-write-fetch-head", "--", tie.Address.String(), "+refs/heads/"+u.x.Branch+":refs/heads/"+u.x.Branch); err != nil {
			return project.Diagnose(ctx, u.desk, tie.Address, err)
		}
		if head, err = u.repo.Resolve(ctx, "refs/heads/"+u.x.Branch+"^{commit}"); err != nil { // it may have gone on meanwhile
			return git.Fault(err, "the branch was not received")
		}
	}
	u.state.Head, u.state.Asked = head, u.desk.Now().UTC()
	return u.x.write(u.state)
}

// follow brings the head into use, if nothing speaks against it.
func (u *update) follow(ctx context.Context) error {
	s, head, now := u.state, u.state.Head, u.x.InUse()
	if now != "" && now != head {
		_, err := u.repo.Do(ctx, "merge-base", "--is-ancestor", now, head)
		u.out.Rewrite = err != nil
	}
	done := func(state string) error {
		u.out.State = state
		return u.x.write(s)
	}
	switch {
	case now == head && s.After == head && (s.Failed == nil || s.Failed.Commit != head):
		s.Waiting, s.Failed = "", nil
		return done("already")
	case s.Held == head && now != head && !u.o.Again:
		return done("held")
	case u.o.Ring && s.Failed != nil && s.Failed.Commit == head:
		u.out.Failed = s.Failed
		return done("failed")
	case u.o.FetchOnly:
		return done(text.Either(now == head, "already", "received"))
	}
	t, err := readTasks(ctx, u.repo, head, u.x.Branch)
	if fault.Is(err, fault.Refused) { // it is the commit that cannot be used; anything else may pass
		return u.failed(&Failure{Says: strings.Join(append([]string{fault.Of(err).Says}, fault.Of(err).Details...), "; ")})
	}
	if err != nil {
		return err
	}
	if !s.approved(t) {
		s.Waiting, s.Failed = head, nil
		return done("waiting")
	}
	s.Waiting = ""
	if _, whole := s.Built[head]; now != head && (!whole || files.Reached(u.x.at(head)) != files.Folder) { // what is in use is whole
		if f, err := u.make(ctx, head, t); err != nil || f != nil {
			if f != nil {
				return u.failed(f)
			}
			return err
		}
	}
	return u.use(ctx, head, t)
}

// failed notes why the head is not in use.
func (u *update) failed(f *Failure) error {
	f.Commit, f.When = u.state.Head, u.desk.Now().UTC()
	u.state.Failed, u.out.Failed, u.out.State = f, f, "failed"
	return u.x.write(u.state)
}

// make writes a commit's files out, runs its tasks among them, and notes that it is whole.
func (u *update) make(ctx context.Context, commit string, t *tasksOf) (*Failure, error) {
	at, fresh := u.x.at(commit), u.x.at("new-"+commit)
	delete(u.state.Built, commit)
	for _, old := range []string{fresh, at} {
		if err := files.RemoveAll(old); err != nil {
			return nil, fault.New(fault.Failed, "%s cannot be removed: %s", text.Visible(old), files.Plain(err)).Because(err)
		}
	}
	if err := u.lay(ctx, commit, fresh, t); fault.Is(err, fault.Refused) {
		return &Failure{Says: fault.Of(err).Says}, nil
	} else if err != nil {
		return nil, err
	}
	if err := files.Move(fresh, at); err != nil {
		return nil, err
	}
	for i, task := range t.Tasks.Tasks {
		if task.After {
			continue
		}
		if f, err := u.run(ctx, commit, i, task); err != nil || f != nil {
			return f, err
		}
	}
	if err := live.Settle(at); err != nil {
		return nil, fault.New(fault.Failed, "what was made cannot be put onto the disk: %s", files.Plain(err)).Because(err)
	}
	if err := files.Settle(u.x.Beside()); err != nil {
		return nil, err
	}
	u.state.Built[commit] = Built{Made: u.desk.Now().UTC()}
	return nil, u.x.write(u.state)
}

// run runs one task in a commit's files; a failure that stops is given, one that is let is noted.
func (u *update) run(ctx context.Context, commit string, i int, task deploying.Task) (*Failure, error) {
	dir := filepath.Join(u.x.at(commit), filepath.FromSlash(task.Folder))
	if real, err := filepath.EvalSymlinks(dir); err != nil || real != dir && !strings.HasPrefix(real, u.x.at(commit)+string(filepath.Separator)) {
		return &Failure{Says: "the folder " + text.Quote(task.Folder) + " leads out of the files in use", Task: task.Words()}, nil
	}
	var said strings.Builder
	u.desk.Tell.Progress("Running "+task.Words(), 0, 1, "")
	says, err := live.Run(ctx, live.Task{Folder: dir, Words: task.Do, Within: task.Within,
		More: []string{"UNCINATE_COMMIT=" + commit, "UNCINATE_BRANCH=" + u.x.Branch, "UNCINATE_FOLDER=" + u.x.Folder, "UNCINATE_STATE=" + u.x.at(commit)}}, &said)
	u.desk.Tell.Progress("", 0, 0, "")
	if err != nil {
		return nil, err
	}
	output := u.x.at("output", fmt.Sprintf("%.10s-%d.txt", commit, i+1))
	if err := files.Write(output, []byte(said.String()), 0o600); err != nil {
		return nil, err
	}
	switch {
	case says == "":
		return nil, nil
	case task.GoesOn:
		u.out.GoesOn = append(u.out.GoesOn, task.Words()+": "+says)
		return nil, nil
	}
	return &Failure{Says: says, Task: task.Words(), Output: output, After: task.After}, nil
}

// use lets the folder lead to a commit that is whole, and runs the tasks that come after that. Where one of these fails,
// what was in use before is in use again.
func (u *update) use(ctx context.Context, commit string, t *tasksOf) error {
	s, before := u.state, u.x.InUse()
	earlier := s.Before
	if before != commit {
		if err := u.point(commit); err != nil {
			return err
		}
		u.out.Before = before
		s.Since = u.desk.Now().UTC()
	}
	s.Failed, s.Held = nil, ""
	if err := u.x.write(s); err != nil {
		return err
	}
	f, err := u.after(ctx, commit, t)
	if err != nil {
		return err
	}
	if f != nil {
		return u.backTo(ctx, s.Before, earlier, f)
	}
	s.After, u.out.State = commit, "in use"
	return u.x.write(s)
}

// after runs the tasks that need the new files in use.
func (u *update) after(ctx context.Context, commit string, t *tasksOf) (*Failure, error) {
	for i, task := range t.Tasks.Tasks {
		if !task.After {
			continue
		}
		if f, err := u.run(ctx, commit, i, task); err != nil || f != nil {
			return f, err
		}
	}
	return nil, nil
}

// backTo lets the folder lead back to what was in use, after a task behind the switch failed.
func (u *update) backTo(ctx context.Context, before, earlier string, f *Failure) error {
	if _, whole := u.state.Built[before]; !whole || before == u.state.Head {
		f.Says += "; nothing was in use before, so the new files stay"
		return u.failed(f)
	}
	if err := u.point(before); err != nil {
		return err
	}
	u.state.Since, u.out.Before, u.state.Before = u.desk.Now().UTC(), "", earlier
	if t, err := readTasks(ctx, u.repo, before, u.x.Branch); err == nil && u.state.approved(t) {
		again, err := u.after(ctx, before, t)
		if err != nil {
			return err
		}
		if again != nil {
			f.Says += "; and after going back " + again.Task + " failed too: " + again.Says
		}
	}
	u.state.After = before
	return u.failed(f)
}

// point lets the folder lead to a commit; when the one in use until now goes out of use is noted before.
func (u *update) point(commit string) error {
	now := u.desk.Now().UTC()
	if before := u.x.InUse(); before != "" {
		b := u.state.Built[before]
		if b.Made.IsZero() {
			b.Made = now
		}
		b.Left = now
		u.state.Built[before] = b
	}
	b := u.state.Built[commit]
	b.Left = time.Time{}
	u.state.Built[commit] = b
	if before := u.x.InUse(); before != commit {
		u.state.Before = before
	}
	if err := u.x.write(u.state); err != nil {
		return err
	}
	return live.Point(u.x.Folder, filepath.Join(filepath.Base(u.x.Beside()), commit))
}
