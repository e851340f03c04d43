package attach

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// keepJoin writes into the journal what is about to be done, before it is begun.
func (a *Attach) keepJoin() error {
	if a.run.Fact("join") != "" {
		return nil
	}
	data, err := json.Marshal(a.join)
	if err != nil {
		return err
	}
	return a.run.Note("join", string(data))
}

// stepBranchName calls the branch here as it is called there.
func (a *Attach) stepBranchName() desk.Step {
	j := a.join
	return desk.Step{Item: plan.Item{ID: "branch-name", Place: plan.Here, Sentence: fmt.Sprintf("Call the branch %s, as there, and no longer %s", text.Visible(j.Branch), text.Visible(j.Was))},
		Done: func(ctx context.Context) (bool, error) {
			now, err := a.folder.Repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD")
			return err == nil && now == j.Branch, nil
		},
		Do: func(ctx context.Context) error {
			if err := a.keepJoin(); err != nil {
				return err
			}
			return a.callBranch(ctx, j.Was, j.Branch)
		},
		Undo: a.undoBranchName}
}

// callBranch renames the branch that is checked out, also where it has no commit yet.
func (a *Attach) callBranch(ctx context.Context, from, to string) error {
	repo := a.folder.Repo
	if _, err := repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/heads/"+from); err != nil {
		_, err := repo.Do(ctx, "symbolic-ref", "HEAD", "refs/heads/"+to)
		return desk.GitFault(err, "git cannot name the branch")
	}
	_, err := repo.Do(ctx, "branch", "-m", "--", from, to)
	return desk.GitFault(err, "git cannot rename the branch")
}

func (a *Attach) undoBranchName(ctx context.Context) error {
	j := a.join
	if a.run.Fact("made-git") == "yes" || j == nil {
		return nil
	}
	now, err := a.folder.Repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD")
	if err != nil || now != j.Branch {
		return nil
	}
	return a.callBranch(ctx, j.Branch, j.Was)
}

// stepBringIn brings the host's commits into the repository here, beside what is there.
func (a *Attach) stepBringIn() desk.Step {
	j := a.join
	tracking := "refs/remotes/" + a.Options.Remote + "/"
	return desk.Step{Item: plan.Item{ID: "bring-in", Place: plan.Here, Sentence: fmt.Sprintf("Bring in what is there: %s on branch %s", text.Count(j.Commits, "commit"), text.Visible(j.Branch))},
		Done: func(ctx context.Context) (bool, error) {
			if a.run.Fact("join") == "" {
				return false, nil
			}
			_, err := a.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", tracking+j.Branch)
			if err == nil {
				_, err = a.folder.Repo.Do(ctx, "cat-file", "-e", j.Tip+"^{commit}")
			}
			return err == nil, nil
		},
		Do: func(ctx context.Context) error {
			if err := a.keepJoin(); err != nil {
				return err
			}
			stood, err := a.folder.Repo.Do(ctx, "for-each-ref", "--format=%(refname)", tracking)
			if err != nil {
				return desk.GitFault(err, "git cannot list the remote's branches")
			}
			if stood == "" {
				if err := a.run.Note("tracking", "new"); err != nil {
					return err
				}
			}
			from, config := a.asideDir(), []string(nil)
			if _, err := os.Stat(from); err != nil { // it was looked at by an earlier run
				from, config = a.Hook.Address.String(), a.Hook.Config()
				if err := a.Hook.WriteInclude(ctx); err != nil {
					return err
				}
			}
			_, err = a.folder.Repo.Run(ctx, git.Cmd{Dir: a.folder.Path, Config: append(slices.Clone(a.folder.Repo.Safe), config...), Watch: project.Watch(a.Desk, "Bringing in", "Receiving objects"),
				Args: []string{"fetch", "--progress", "--no-tags", "--no-auto-maintenance", "--no-write-fetch-head", "--", from, "+refs/heads/*:" + tracking + "*"}})
			a.Desk.Tell.Progress("Bringing in", 0, 0, "")
			return desk.GitFault(err, "git cannot bring in what %s holds", a.Hook.Address.String())
		},
		Undo: a.undoBringIn}
}

func (a *Attach) undoBringIn(ctx context.Context) error {
	if a.run.Fact("made-git") == "yes" || a.run.Fact("tracking") != "new" {
		return nil
	}
	return a.dropTracking(ctx)
}

// commit makes a commit of a tree by plumbing, at the time that the journal says, so that
// making it again makes the same. It is signed where the person signs.
func (a *Attach) commit(ctx context.Context, tree, message string, parents ...string) (string, error) {
	repo := a.folder.Repo.Git.In(a.folder.Path) // with the person's own settings
	when := a.run.Fact("when")
	if when == "" {
		now := a.Desk.Now()
		when = strconv.FormatInt(now.Unix(), 10) + " " + now.Format("-0700")
		if err := a.run.Note("when", when); err != nil {
			return "", err
		}
	}
	args := []string{"commit-tree", "-F", message}
	for _, p := range parents {
		args = append(args, "-p", p)
	}
	var config []string
	if a.Hook.Key != nil && a.Hook.Key.Signs { // the account signs, also before the hook stands
		if err := a.Hook.WriteInclude(ctx); err != nil {
			return "", err
		}
		config = a.Hook.Config()
	}
	if signs, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: []string{"config", "--type=bool", "--get", "commit.gpgSign"}, Config: config}); err == nil && strings.TrimSpace(string(signs)) == "true" {
		args = append(args, "-S")
	}
	out, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Config: config, Args: append(args, tree), Env: []string{"GIT_AUTHOR_DATE=" + when, "GIT_COMMITTER_DATE=" + when}})
	if err != nil {
		return "", desk.GitFault(err, "git cannot make the commit")
	}
	return strings.TrimSpace(string(out)), nil
}

// stepJoin makes the two histories one, and brings the folder to it.
func (a *Attach) stepJoin() desk.Step {
	j := a.join
	sentence := fmt.Sprintf("Join both histories by a merge commit; no commit is rewritten%s", j.outcome())
	if j.Mode == joinAhead {
		sentence = "Take over the commits that are only there"
	}
	return desk.Step{Item: plan.Item{ID: "join", Place: plan.Here, Sentence: sentence},
		Done: func(ctx context.Context) (bool, error) {
			id := a.run.Fact("joined")
			if id == "" {
				return false, nil
			}
			head, err := a.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}")
			if err == nil && head == id {
				a.folder.Head = id
				return true, nil
			}
			return false, nil
		},
		Do: func(ctx context.Context) error {
			id, err := a.joinedCommit(ctx)
			if err != nil {
				return err
			}
			if err := a.run.Note("joined", id); err != nil {
				return err
			}
			// The person's own filters and hooks run, as with plain git. What is in the way
			// stops it before anything is touched.
			plain := a.folder.Repo.Git.In(a.folder.Path)
			if _, err := plain.Do(ctx, "merge", "--ff-only", "--no-overwrite-ignore", "-q", id); err != nil {
				return desk.GitFault(err, "git cannot bring the joined work into the folder")
			}
			a.folder.Head = id
			return nil
		},
		Undo: a.undoJoin}
}

// joinedCommit gives the commit in which both histories meet.
func (a *Attach) joinedCommit(ctx context.Context) (string, error) {
	j, repo := a.join, a.folder.Repo
	if j.Mode == joinAhead {
		return j.Tip, nil
	}
	tree, clashes, err := worktree.MergeTrees(ctx, repo, j.From, j.Tip)
	if err != nil {
		return "", err
	}
	var over []joining.Entry
	for _, c := range clashes {
		i := slices.IndexFunc(j.Decided, func(d worktree.Decided) bool { return d.Path == c.Path })
		switch {
		case c.Path == ".gitignore" && j.Rules != "":
			mine, err := worktree.RulesOf(ctx, repo, c.Mine.ID)
			if err != nil {
				return "", err
			}
			id, err := a.hashText(ctx, joining.Rules(mine, j.Rules, a.whose()), "-w")
			if err != nil {
				return "", err
			}
			over = append(over, joining.Entry{Mode: c.Mine.Mode, ID: id, Path: c.Path})
		case i < 0:
			return "", fault.New(fault.Failed, "%s clashes, and did not when we looked", text.Visible(c.Path))
		default:
			e := c.Mine
			if j.Decided[i].Way == joining.Theirs || e.ID == "" && j.Decided[i].Way == joining.Both {
				e = c.Theirs
			}
			e.Path = c.Path
			over = append(over, e)
		}
	}
	if len(over) > 0 {
		index := a.besideGit("join.index")
		defer os.Remove(index)
		env := []string{"GIT_INDEX_FILE=" + index}
		if _, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Config: repo.Safe, Env: env, Args: []string{"read-tree", tree}}); err != nil {
			return "", desk.GitFault(err, "git cannot read the joined tree")
		}
		if _, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Config: repo.Safe, Env: env, Args: []string{"update-index", "-z", "--index-info"}, In: strings.NewReader(worktree.IndexLines(over))}); err != nil {
			return "", desk.GitFault(err, "git cannot put the joined tree together")
		}
		out, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Config: repo.Safe, Env: env, Args: []string{"write-tree"}})
		if err != nil {
			return "", desk.GitFault(err, "git cannot write the joined tree")
		}
		tree = strings.TrimSpace(string(out))
	}
	message := a.run.Journal.Aside("message")
	if err := files.WriteBy(message, message+".new", []byte("Join with what was on "+a.whose()+"\n"), 0o600); err != nil {
		return "", err
	}
	defer os.Remove(message)
	return a.commit(ctx, tree, message, j.From, j.Tip)
}

func (a *Attach) undoJoin(ctx context.Context) error {
	j, id := a.join, a.run.Fact("joined")
	if j == nil || id == "" {
		return nil
	}
	head, err := a.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}")
	if err != nil || head != id {
		return nil // it did not come to it
	}
	_, err = a.folder.Repo.Git.In(a.folder.Path).Do(ctx, "reset", "-q", "--keep", j.From)
	return desk.GitFault(err, "git cannot bring the folder back to what it was before the joining")
}

// stepLay lays out here what is only there, and the copies that are kept beside.
func (a *Attach) stepLay() desk.Step {
	j := a.join
	var names []string
	if j.Mode == joinOnto {
		for _, e := range j.theirEntries() {
			names = append(names, text.Visible(e.Path))
		}
	}
	for _, d := range j.Decided {
		if d.Beside != "" {
			names = append(names, text.Visible(d.Beside))
		}
	}
	shown := strings.Join(names[:min(len(names), 4)], ", ")
	if len(names) > 4 {
		shown += ", ..."
	}
	return desk.Step{Item: plan.Item{ID: "lay", Place: plan.Here, Sentence: fmt.Sprintf("Lay out %s in the folder: %s", text.Count(len(names), "file"), shown)},
		Done: func(context.Context) (bool, error) {
			return a.run.Fact("laid") == "yes", nil
		},
		Do: func(ctx context.Context) error {
			if err := a.lay(ctx); err != nil {
				return err
			}
			return a.run.Note("laid", "yes")
		},
		Undo: a.undoLay}
}

func (a *Attach) at(p string) string { return filepath.Join(a.folder.Path, filepath.FromSlash(p)) }

func (a *Attach) lay(ctx context.Context) error {
	j := a.join
	var out []string
	for _, d := range j.Decided {
		switch {
		case d.Way == joining.Theirs && j.Mode == joinOnto:
			if worktree.Missing(a.at(d.Beside)) {
				if err := os.Rename(a.at(d.Path), a.at(d.Beside)); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
		case d.Beside != "" && worktree.Missing(a.at(d.Beside)):
			data, err := a.folder.Repo.Run(ctx, git.Cmd{Dir: a.folder.Path, Args: []string{"cat-file", "blob", d.Theirs.ID}})
			if err != nil {
				return desk.GitFault(err, "their %s cannot be read", text.Visible(d.Path))
			}
			if err := files.WriteBy(a.at(d.Beside), a.besideGit("beside.new"), data, 0o644); err != nil {
				return err
			}
		}
	}
	if j.Mode == joinOnto {
		for _, e := range j.theirEntries() {
			if worktree.Missing(a.at(e.Path)) && e.Mode != "160000" {
				out = append(out, e.Path)
			}
		}
	}
	if len(out) > 0 {
		// Without force: what has come to stand in the way since stays.
		plain := a.folder.Repo.Git.In(a.folder.Path)
		if _, err := plain.Run(ctx, git.Cmd{Dir: a.folder.Path, Args: []string{"checkout-index", "-q", "-u", "-z", "--stdin"}, In: strings.NewReader(strings.Join(out, "\x00") + "\x00")}); err != nil {
			return desk.GitFault(err, "git cannot lay out what is there")
		}
	}
	return a.exclude()
}

// exclude keeps git from carrying the copies beside: by the repository's private ignore
// rules (gitignore documentation, $GIT_DIR/info/exclude).
func (a *Attach) exclude() error {
	var rules []kinds.Rule
	for _, d := range a.join.Decided {
		if d.Beside != "" {
			rules = append(rules, kinds.Rule{Pattern: "/" + kinds.Escape(d.Beside), Why: "copies that were kept when two sides were joined"})
		}
	}
	if len(rules) == 0 {
		return nil
	}
	path := filepath.Join(a.folder.Path, ".git", "info", "exclude")
	if err := a.setAside(path, "exclude"); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	old, err := files.Read(path, 4<<20)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := files.WriteBy(path, a.besideGit("exclude.new"), []byte(kinds.Merge(string(old), rules)), 0o644); err != nil {
		return err
	}
	return a.wrote(path, "exclude")
}

// undoLay takes out what was laid out, where it is still as it was laid out, and brings
// back what made way.
func (a *Attach) undoLay(ctx context.Context) error {
	j := a.join
	if j == nil {
		return nil
	}
	remove := func(p, id string) error {
		if worktree.Missing(a.at(p)) {
			return nil
		}
		if now, err := a.hashOf(ctx, p); err != nil || now != id {
			return err // the person has changed it since
		}
		return os.Remove(a.at(p))
	}
	if j.Mode == joinOnto {
		for _, e := range j.Added {
			if err := remove(e.Path, e.ID); err != nil {
				return err
			}
		}
	}
	for _, d := range j.Decided {
		switch {
		case d.Beside == "":
		case d.Way == joining.Both:
			if err := remove(d.Beside, d.Theirs.ID); err != nil {
				return err
			}
		case !worktree.Missing(a.at(d.Beside)):
			if err := remove(d.Path, d.Theirs.ID); err != nil {
				return err
			}
			if worktree.Missing(a.at(d.Path)) {
				if err := os.Rename(a.at(d.Beside), a.at(d.Path)); err != nil {
					return err
				}
			}
		}
	}
	for _, f := range slices.Backward(j.Folders) {
		if empty, err := files.IsEmptyFolder(a.at(f)); err != nil || !empty {
			continue // it went before, or holds something of the person's
		}
		if err := os.Remove(a.at(f)); err != nil {
			return err
		}
	}
	exclude := filepath.Join(a.folder.Path, ".git", "info", "exclude")
	if touched, err := a.touched(exclude, "exclude"); err != nil || touched {
		return err // what the person wrote in it since stays
	}
	return a.bringBack(exclude, "exclude")
}

func (a *Attach) hashOf(ctx context.Context, p string) (string, error) {
	info, err := os.Lstat(a.at(p))
	if err != nil {
		return "", err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(a.at(p))
		if err != nil {
			return "", err
		}
		return a.hashText(ctx, target)
	}
	out, err := a.folder.Repo.Do(ctx, "hash-object", "--", p)
	return out, desk.GitFault(err, "git cannot hash %s", text.Visible(p))
}
