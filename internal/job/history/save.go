// Package history is the everyday work with commits, here only: Save, Reword, what changed, the
// log, branches and tags. What is sent at once (a published branch, a tag) is sent by its plan's
// own step; receiving is the work of syncing.
package history

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/foreseeing"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/claims"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// SaveOptions say what is to be committed.
type SaveOptions struct {
	Folder string
	Text   string   // the commit's message
	Only   []string // files, folders or patterns from the project's top
	Except []string
	Paths  []string // exactly these, for what was picked; nil for all that the rules give
	Let    []string // what is let through although it would be stopped
	Reason string
	Ask    func(path string) (bool, error) // asks about a path that is always asked about; nil: nobody can be asked
	Quiet  bool                            // nothing to save is not an error
	Many   bool                            // very many new files are meant

	Preview bool // only say what would be committed
}

// Saved is what was committed.
type Saved struct {
	Folder  string         `json:"folder"`
	Branch  string         `json:"branch"`
	Commit  string         `json:"commit,omitempty" says:"empty: there was nothing to save"`
	Title   string         `json:"title" says:"the first line of its message"`
	Files   map[string]int `json:"files" says:"how many, by what happened to them: new, changed, renamed, deleted, or untracked: they go from the commit and stay here"`
	Bytes   int64          `json:"bytes" says:"of the files as they go in"`
	Folders []FolderTotal  `json:"folders,omitempty" says:"where they are: the project's folders, . for the files at the top"`
	Left    []LeftOut      `json:"left,omitempty" says:"what differs and was left out"`
	Rules   []string       `json:"rules,omitempty" says:"ignore rules that would keep out for good what can be made again"`
	Rescued int            `json:"rescued,omitempty" says:"the number of the rescue copy that was kept"`

	Meets []project.Meets `json:"changed_there_too,omitempty" says:"files that are not sent, and that others are known to have changed on the host"`
}

// LeftOut is a file that differs and was not saved.
type LeftOut struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Quick looks at a repository for work that changes it: its configuration is trusted, nothing of
// plain git's is unfinished, no lock was left, and no other run of ours is at work.
func Quick(ctx context.Context, d *desk.Desk, given string) (*project.Folder, *files.Held, error) {
	return quick(ctx, d, given, true)
}

func quick(ctx context.Context, d *desk.Desk, given string, works bool) (*project.Folder, *files.Held, error) {
	f, err := worktree.LooseAt(ctx, d, given)
	if err == nil && works {
		_, err = f.Work()
	}
	if err != nil {
		return nil, nil, err
	}
	held, err := d.Alone(ctx, f.Path)
	if err != nil {
		return nil, nil, err
	}
	_, err = worktree.Heal(ctx, d, f)
	if err = errors.Join(err, f.Finished(ctx), f.Unlocked()); err != nil {
		return nil, nil, errors.Join(err, held.Release())
	}
	if project.CutOff(d, f.Path) {
		d.Tell.Note("Note: an attach of this project was cut off, and is not finished. To go on with it: %s", text.Command("uncinate", "attach", f.Path))
	}
	return f, held, nil
}

// Save commits what is chosen, here only.
func Save(ctx context.Context, d *desk.Desk, o SaveOptions) (*Saved, error) {
	f, held, err := quick(ctx, d, o.Folder, !o.Preview)
	if err != nil {
		return nil, err
	}
	saved, err := SaveLocked(ctx, d, f, o)
	if err == nil && saved.Commit != "" {
		saved.Meets = foreseeing.Unsent(ctx, d, f, saved.Commit)
	}
	return saved, errors.Join(err, held.Release())
}

// SaveLocked saves for a caller that holds the folder's lock.
func SaveLocked(ctx context.Context, d *desk.Desk, f *project.Folder, o SaveOptions) (*Saved, error) {
	if strings.TrimSpace(o.Text) == "" && !o.Preview {
		return nil, fault.New(fault.Usage, "a commit needs a message").Try("", `uncinate save --message "What was done"`)
	}
	if f.Branch == "" && f.Head != "" {
		return nil, project.OnNoBranch(f.Path) // a commit that no branch holds is soon lost sight of
	}
	st, err := f.Repo.Status(ctx, false)
	if err != nil {
		return nil, git.Fault(err, "git cannot tell what changed")
	}
	out := &Saved{Folder: f.Path, Branch: f.Branch, Title: desk.FirstLine(strings.TrimSpace(o.Text)), Files: map[string]int{}}
	chosen, err := choose(ctx, d, f, st, o, out)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(chosen, func(e git.Entry) bool { return e.XY != "AD" }) { // of these alone nothing would be committed
		for _, e := range chosen {
			out.Left = append(out.Left, LeftOut{e.Path, addedAndGone})
		}
		chosen = nil
	}
	if len(chosen) == 0 {
		if o.Quiet {
			return out, nil
		}
		return nil, nothingToSave(f, st, o, out)
	}
	if err := project.Signed(f); err != nil {
		return nil, err
	}
	for _, e := range chosen {
		kind := e.Kind
		if kind == "deleted" && files.KindOf(filepath.Join(f.Path, filepath.FromSlash(e.Path))) == files.Regular {
			kind = "untracked"
		}
		out.Files[kind]++
	}
	if o.Preview {
		return out, nil
	}
	return out, commit(ctx, d, f, st, chosen, o.Text, out)
}

// takenOut gives the files that were taken out of git's index and may be here still.
func takenOut(st *git.Status) map[string]bool {
	taken := map[string]bool{}
	for _, e := range st.Entries {
		if e.XY == "D " || e.XY == "D." {
			taken[e.Path] = true
		}
	}
	return taken
}

// addedAndGone is why a file is left out that was added to git and never committed, and is no longer here.
const addedAndGone = "it was added to git, and is no longer in the folder"

func nothingToSave(f *project.Folder, st *git.Status, o SaveOptions, out *Saved) error {
	switch {
	case len(st.Entries) == 0:
		return fault.New(fault.Failed, "there is nothing to save: every file is as in the last commit")
	case len(out.Left) > 0:
		left := fault.New(fault.Decision, "nothing was saved: all that differs was left out")
		var lines []string
		able := ""
		for _, l := range out.Left {
			lines = append(lines, text.Visible(l.Path)+": "+l.Why)
			if l.Why == addedAndGone {
				if len(left.Remedies) == 0 {
					left.Try("to have "+text.Visible(l.Path)+" back as it was added", text.Command("git", "-C", f.Path, "checkout", "--", l.Path))
				}
				continue
			}
			if able == "" && !strings.HasSuffix(l.Path, "/") { // a repository inside is never a part of this one
				able = l.Path
			}
		}
		if desk.FirstOf(left, lines); able != "" {
			left.Try("to save one all the same", text.Command("uncinate", "save", "--message", o.Text, "--only", able))
		}
		return left
	}
	return fault.New(fault.Failed, "there is nothing to save at the paths that you named").Try("see what differs", "uncinate changes")
}

// choose finds the files to be saved, and judges them.
func choose(ctx context.Context, d *desk.Desk, f *project.Folder, st *git.Status, o SaveOptions, out *Saved) ([]git.Entry, error) {
	only, except := survey.Named(o.Only), survey.Named(o.Except)
	asked, err := alwaysAsked(d, f.Path)
	if err != nil {
		return nil, err
	}
	ask := survey.Named(asked)
	meets := map[string]string{}
	if f.Head != "" {
		if meets, err = worktree.Alike(ctx, f, &git.Weaver{Repo: f.Repo}, f.Head); err != nil {
			return nil, err
		}
	}
	taken := takenOut(st)
	claimed, err := claims.ByWhom(d, f, st.Entries)
	if err != nil {
		return nil, err
	}
	var chosen []git.Entry
	for _, e := range st.Entries {
		named := slices.Contains(o.Paths, e.Path) || len(o.Only) > 0 && (only(e.Path) || e.From != "" && only(e.From))
		switch {
		case e.Kind == "clashing":
			return nil, fault.New(fault.Decision, "%s is not decided: plain git could not merge it", text.Visible(e.Path)).Try("see how it stands", text.Command("git", "-C", f.Path, "status")).
				Try("once it is right, tell git", text.Command("git", "-C", f.Path, "add", "--", e.Path))
		case !named && (o.Paths != nil || len(o.Only) > 0), len(o.Except) > 0 && except(e.Path):
			continue
		case !named && (claimed[e.Path] != "" || len(asked) > 0 && ask(e.Path)):
			goes := false
			if o.Ask != nil {
				if claimed[e.Path] != "" {
					d.Tell.Note("%s is %s.", text.Visible(e.Path), claimed[e.Path])
				}
				if goes, err = o.Ask(e.Path); err != nil {
					return nil, err
				}
			}
			if !goes {
				out.Left = append(out.Left, LeftOut{e.Path, text.Either(claimed[e.Path] != "", claimed[e.Path], "it is always asked about")})
				continue
			}
		case e.Untracked() && taken[e.Path] && !named:
			out.Left = append(out.Left, LeftOut{e.Path, "it was taken out of git here, on purpose"})
			continue
		case meets[e.Path] != "" && !named:
			out.Left = append(out.Left, LeftOut{e.Path, "it cannot be beside " + meets[e.Path] + " here, so what is here may be the other's"})
			continue
		case e.Inner:
			out.Left = append(out.Left, LeftOut{e.Path, "it is a repository of its own, and the changes in it are saved there"})
			continue
		case e.Untracked() && strings.HasSuffix(e.Path, "/"):
			out.Left = append(out.Left, LeftOut{e.Path, "it is a repository of its own"})
			continue
		}
		chosen = append(chosen, e)
	}
	if len(chosen) == 0 {
		return nil, nil
	}
	if err := claims.Refuse(ctx, d, f, o.Folder, chosen); err != nil {
		return nil, err
	}
	return judge(ctx, d, f, chosen, o, out)
}

// hooked runs something of git's that runs the person's own hooks, and names the one that
// stopped it: git tells of them in its event log (api-trace2 documentation, child_start).
func hooked(ctx context.Context, f *project.Folder, run func(env []string) error) (err error) {
	events, done, err := files.Temporary("uncinate-events-", "")
	defer fault.Also(&err, done)
	if err != nil {
		return err
	}
	err = run([]string{"GIT_TRACE2_EVENT=" + events, "GIT_EDITOR=:"})
	if err == nil || ctx.Err() != nil {
		return err
	}
	names := map[int]string{}
	told, e := files.Read(events, 16<<20)
	if e != nil {
		return err // which hook it was is not known then
	}
	lines := bufio.NewScanner(bytes.NewReader(told))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var e struct {
			Event string `json:"event"`
			Child int    `json:"child_id"`
			Hook  string `json:"hook_name"`
			Code  int    `json:"code"`
		}
		if json.Unmarshal(lines.Bytes(), &e) != nil {
			continue
		}
		if e.Event == "child_start" && e.Hook != "" {
			names[e.Child] = e.Hook
		}
		if hook := names[e.Child]; e.Event == "child_exit" && e.Code != 0 && hook != "" {
			out := fault.New(fault.Refused, "your own check %s stopped it (it ended with %d); nothing was committed", text.Visible(hook), e.Code).Because(err)
			var said *git.Error
			if errors.As(err, &said) {
				for i, line := range strings.Split(said.Says, "\n") {
					if i < 12 && line != "" {
						out.Detail("it says: %s", text.Excerpt(line, 200))
					}
				}
			}
			where, e := f.Repo.Works().Do(ctx, "rev-parse", "--git-path", "hooks/"+hook)
			if e != nil {
				where = "hooks/" + hook
			}
			return out.Detail("It is %s.", text.Visible(where))
		}
	}
	return git.Fault(err, "git did not take the commit")
}

// Reword gives the last commit another message, as long as nobody else has it; with preview it
// only says which commit that is.
func Reword(ctx context.Context, d *desk.Desk, given, message string, preview bool) (*Saved, error) {
	f, held, err := Quick(ctx, d, given)
	if err != nil {
		return nil, err
	}
	saved, err := reword(ctx, d, f, message, preview)
	return saved, errors.Join(err, held.Release())
}

func reword(ctx context.Context, d *desk.Desk, f *project.Folder, message string, preview bool) (_ *Saved, err error) {
	if strings.TrimSpace(message) == "" {
		return nil, fault.New(fault.Usage, "a commit needs a message").Try("", `uncinate save --reword --message "What was done"`)
	}
	if f.Head == "" {
		return nil, fault.New(fault.Failed, "there is no commit here that could be reworded")
	}
	where, err := f.Repo.Do(ctx, "for-each-ref", "--count=1", "--format=%(refname:short)", "--contains", f.Head, "refs/remotes/")
	if err != nil {
		return nil, git.Fault(err, "git cannot tell whether the commit was sent")
	}
	if where != "" {
		return nil, fault.New(fault.Refused, "the last commit was sent already (%s holds it); rewording makes it another commit, and others have this one", text.Visible(where)).
			TryWithout("say it with the next one", `uncinate save --message "What was done"`, "reword")
	}
	out := &Saved{Folder: f.Path, Branch: f.Branch, Title: desk.FirstLine(strings.TrimSpace(message)), Files: map[string]int{}}
	if preview {
		out.Commit = f.Head
		return out, nil
	}
	r, err := worktree.RescuerOf(d, f)
	if err != nil {
		return nil, err
	}
	if out.Rescued, err = r.Keep(ctx, "save --reword", []worktree.Moving{{Ref: "refs/heads/" + f.Branch, ID: f.Head, Next: f.Head + "^@"}}, nil); err != nil {
		return nil, err
	}
	file, done, err := files.Temporary("uncinate-text-", strings.TrimSpace(message)+"\n")
	defer fault.Also(&err, done)
	if err != nil {
		return nil, err
	}
	err = hooked(ctx, f, func(env []string) error {
		work, err := f.Work()
		if err != nil {
			return err
		}
		_, err = work.Run(ctx, git.Cmd{Env: env, Args: []string{"commit", "-q", "--amend", "--only", "--allow-empty", "--cleanup=whitespace", "-F", file}})
		return err
	})
	if err != nil {
		return nil, err
	}
	out.Commit, err = f.Repo.Do(ctx, "rev-parse", "HEAD")
	return out, git.Fault(err, "the commit cannot be found")
}

func askFile(d *desk.Desk, folder string) string {
	return filepath.Join(d.Home.State, "ask", files.Short(folder)+".json")
}

// alwaysAsked gives the paths of a project that are always asked about before they are saved.
func alwaysAsked(d *desk.Desk, folder string) ([]string, error) {
	var all []string
	_, err := files.ReadJSON(askFile(d, folder), &all)
	return all, err
}

// AskAbout sets the paths of a project that are always asked about, and gives those before.
func AskAbout(ctx context.Context, d *desk.Desk, given string, set func([]string) []string) (folder string, all []string, err error) {
	f, err := worktree.LooseAt(ctx, d, given)
	if err != nil {
		return "", nil, err
	}
	if set == nil {
		all, err = alwaysAsked(d, f.Path)
		return f.Path, all, err
	}
	err = desk.Alter(ctx, d, askFile(d, f.Path), func(old []string) ([]string, error) {
		all = set(old)
		slices.Sort(all)
		all = slices.Compact(all)
		return all, nil
	})
	return f.Path, all, err
}
