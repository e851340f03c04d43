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
func (j *Join) keepJoin() error {
	if j.run.Fact("join") != "" {
		return nil
	}
	data, err := json.Marshal(j.way)
	if err != nil {
		return err
	}
	return j.run.Note("join", string(data))
}

// stepBranchName calls the branch here as it is called there.
func (joins *Join) stepBranchName() desk.Step {
	j := joins.way
	return desk.Step{Item: plan.Item{ID: "branch-name", Place: plan.Here, Sentence: fmt.Sprintf("Call the branch %s, as there, and no longer %s", text.Visible(j.Branch), text.Visible(j.Was))},
		Done: func(ctx context.Context) (bool, error) {
			now, err := joins.folder.Repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD")
			return err == nil && now == j.Branch, nil
		},
		Do: func(ctx context.Context) error {
			if err := joins.keepJoin(); err != nil {
				return err
			}
			return joins.callBranch(ctx, j.Was, j.Branch)
		},
		Undo: joins.undoBranchName}
}

// callBranch renames the branch that is checked out, also where it has no commit yet.
func (j *Join) callBranch(ctx context.Context, from, to string) error {
	repo := j.folder.Repo
	if _, err := repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/heads/"+from); err != nil {
		_, err := repo.Do(ctx, "symbolic-ref", "HEAD", "refs/heads/"+to)
		return desk.GitFault(err, "git cannot name the branch")
	}
	_, err := repo.Do(ctx, "branch", "-m", "--", from, to)
	return desk.GitFault(err, "git cannot rename the branch")
}

func (joins *Join) undoBranchName(ctx context.Context) error {
	j := joins.way
	if joins.run.Fact("made-git") == "yes" || j == nil {
		return nil
	}
	now, err := joins.folder.Repo.Do(ctx, "symbolic-ref", "-q", "--short", "HEAD")
	if err != nil || now != j.Branch {
		return nil
	}
	return joins.callBranch(ctx, j.Branch, j.Was)
}

// stepBringIn brings the host's commits into the repository here, beside what is there.
func (joins *Join) stepBringIn() desk.Step {
	j := joins.way
	tracking := "refs/remotes/" + joins.Options.Remote + "/"
	return desk.Step{Item: plan.Item{ID: "bring-in", Place: plan.Here, Sentence: fmt.Sprintf("Bring in what is there: %s on branch %s", text.Count(j.Commits, "commit"), text.Visible(j.Branch))},
		Done: func(ctx context.Context) (bool, error) {
			if joins.run.Fact("join") == "" {
				return false, nil
			}
			_, err := joins.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", tracking+j.Branch)
			if err == nil {
				_, err = joins.folder.Repo.Do(ctx, "cat-file", "-e", j.Tip+"^{commit}")
			}
			return err == nil, nil
		},
		Do: func(ctx context.Context) error {
			if err := joins.keepJoin(); err != nil {
				return err
			}
			stood, err := joins.folder.Repo.Do(ctx, "for-each-ref", "--format=%(refname)", tracking)
			if err != nil {
				return desk.GitFault(err, "git cannot list the remote's branches")
			}
			if stood == "" {
				if err := joins.run.Note("tracking", "new"); err != nil {
					return err
				}
			}
			from, config := joins.asideDir(), []string(nil)
			if _, err := os.Stat(from); err != nil { // it was looked at by an earlier run
				from, config = joins.Hook.Address.String(), joins.Hook.Config()
				if err := joins.Hook.WriteInclude(ctx); err != nil {
					return err
				}
			}
			_, err = joins.folder.Repo.Run(ctx, git.Cmd{Dir: joins.folder.Path, Config: append(slices.Clone(joins.folder.Repo.Safe), config...), Watch: project.Watch(joins.Desk, "Bringing in", "Receiving objects"),
				Args: []string{"fetch", "--progress", "--no-tags", "--no-auto-maintenance", "--no-write-fetch-head", "--", from, "+refs/heads/*:" + tracking + "*"}})
			joins.Desk.Tell.Progress("Bringing in", 0, 0, "")
			return desk.GitFault(err, "git cannot bring in what %s holds", joins.Hook.Address.String())
		},
		Undo: joins.undoBringIn}
}

func (j *Join) undoBringIn(ctx context.Context) error {
	if j.run.Fact("made-git") == "yes" || j.run.Fact("tracking") != "new" {
		return nil
	}
	return j.dropTracking(ctx)
}

// commit makes a commit of a tree by plumbing, at the time that the journal says, so that
// making it again makes the same. It is signed where the person signs.
func (t *Target) commit(ctx context.Context, tree, message string, parents ...string) (string, error) {
	repo := t.folder.Repo.Git.In(t.folder.Path) // with the person's own settings
	when := t.run.Fact("when")
	if when == "" {
		now := t.Desk.Now()
		when = strconv.FormatInt(now.Unix(), 10) + " " + now.Format("-0700")
		if err := t.run.Note("when", when); err != nil {
			return "", err
		}
	}
	args := []string{"commit-tree", "-F", message}
	for _, p := range parents {
		args = append(args, "-p", p)
	}
	var config []string
	if t.Hook.Key != nil && t.Hook.Key.Signs { // the account signs, also before the hook stands
		if err := t.Hook.WriteInclude(ctx); err != nil {
			return "", err
		}
		config = t.Hook.Config()
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
func (joins *Join) stepJoin() desk.Step {
	j := joins.way
	sentence := fmt.Sprintf("Join both histories by a merge commit; no commit is rewritten%s", j.outcome())
	if j.Mode == joinAhead {
		sentence = "Take over the commits that are only there"
	}
	return desk.Step{Item: plan.Item{ID: "join", Place: plan.Here, Sentence: sentence},
		Done: func(ctx context.Context) (bool, error) {
			id := joins.run.Fact("joined")
			if id == "" {
				return false, nil
			}
			head, err := joins.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}")
			if err == nil && head == id {
				joins.folder.Head = id
				return true, nil
			}
			return false, nil
		},
		Do: func(ctx context.Context) error {
			id, err := joins.joinedCommit(ctx)
			if err != nil {
				return err
			}
			if err := joins.run.Note("joined", id); err != nil {
				return err
			}
			// The person's own filters and hooks run, as with plain git. What is in the way
			// stops it before anything is touched.
			plain := joins.folder.Repo.Git.In(joins.folder.Path)
			if _, err := plain.Do(ctx, "merge", "--ff-only", "--no-overwrite-ignore", "-q", id); err != nil {
				return desk.GitFault(err, "git cannot bring the joined work into the folder")
			}
			joins.folder.Head = id
			return nil
		},
		Undo: joins.undoJoin}
}

// joinedCommit gives the commit in which both histories meet.
func (joins *Join) joinedCommit(ctx context.Context) (string, error) {
	j, repo := joins.way, joins.folder.Repo
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
			id, err := joins.hashText(ctx, joining.Rules(mine, j.Rules, joins.whose()), "-w")
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
		index := joins.besideGit("join.index")
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
	message := joins.run.Journal.Aside("message")
	if err := files.WriteBy(message, message+".new", []byte("Join with what was on "+joins.whose()+"\n"), 0o600); err != nil {
		return "", err
	}
	defer os.Remove(message)
	return joins.commit(ctx, tree, message, j.From, j.Tip)
}

func (joins *Join) undoJoin(ctx context.Context) error {
	j, id := joins.way, joins.run.Fact("joined")
	if j == nil || id == "" {
		return nil
	}
	head, err := joins.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", "HEAD^{commit}")
	if err != nil || head != id {
		return nil // it did not come to it
	}
	_, err = joins.folder.Repo.Git.In(joins.folder.Path).Do(ctx, "reset", "-q", "--keep", j.From)
	return desk.GitFault(err, "git cannot bring the folder back to what it was before the joining")
}

// stepLay lays out here what is only there, and the copies that are kept beside.
func (joins *Join) stepLay() desk.Step {
	j := joins.way
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
			return joins.run.Fact("laid") == "yes", nil
		},
		Do: func(ctx context.Context) error {
			if err := joins.lay(ctx); err != nil {
				return err
			}
			return joins.run.Note("laid", "yes")
		},
		Undo: joins.undoLay}
}

func (w *Work) at(p string) string { return filepath.Join(w.folder.Path, filepath.FromSlash(p)) }

func (joins *Join) lay(ctx context.Context) error {
	j := joins.way
	var out []string
	for _, d := range j.Decided {
		switch {
		case d.Way == joining.Theirs && j.Mode == joinOnto:
			if worktree.Missing(joins.at(d.Beside)) {
				if err := os.Rename(joins.at(d.Path), joins.at(d.Beside)); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
		case d.Beside != "" && worktree.Missing(joins.at(d.Beside)):
			data, err := joins.folder.Repo.Run(ctx, git.Cmd{Dir: joins.folder.Path, Args: []string{"cat-file", "blob", d.Theirs.ID}})
			if err != nil {
				return desk.GitFault(err, "their %s cannot be read", text.Visible(d.Path))
			}
			if err := files.WriteBy(joins.at(d.Beside), joins.besideGit("beside.new"), data, 0o644); err != nil {
				return err
			}
		}
	}
	if j.Mode == joinOnto {
		for _, e := range j.theirEntries() {
			if worktree.Missing(joins.at(e.Path)) && e.Mode != "160000" {
				out = append(out, e.Path)
			}
		}
	}
	if len(out) > 0 {
		// Without force: what has come to stand in the way since stays.
		plain := joins.folder.Repo.Git.In(joins.folder.Path)
		if _, err := plain.Run(ctx, git.Cmd{Dir: joins.folder.Path, Args: []string{"checkout-index", "-q", "-u", "-z", "--stdin"}, In: strings.NewReader(strings.Join(out, "\x00") + "\x00")}); err != nil {
			return desk.GitFault(err, "git cannot lay out what is there")
		}
	}
	return joins.exclude()
}

// exclude keeps git from carrying the copies beside: by the repository's private ignore
// rules (gitignore documentation, $GIT_DIR/info/exclude).
func (j *Join) exclude() error {
	var rules []kinds.Rule
	for _, d := range j.way.Decided {
		if d.Beside != "" {
			rules = append(rules, kinds.Rule{Pattern: "/" + kinds.Escape(d.Beside), Why: "copies that were kept when two sides were joined"})
		}
	}
	if len(rules) == 0 {
		return nil
	}
	path := filepath.Join(j.folder.Path, ".git", "info", "exclude")
	if err := j.setAside(path, "exclude"); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	old, err := files.Read(path, 4<<20)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := files.WriteBy(path, j.besideGit("exclude.new"), []byte(kinds.Merge(string(old), rules)), 0o644); err != nil {
		return err
	}
	return j.wrote(path, "exclude")
}

// undoLay takes out what was laid out, where it is still as it was laid out, and brings
// back what made way.
func (joins *Join) undoLay(ctx context.Context) error {
	j := joins.way
	if j == nil {
		return nil
	}
	remove := func(p, id string) error {
		if worktree.Missing(joins.at(p)) {
			return nil
		}
		if now, err := joins.hashOf(ctx, p); err != nil || now != id {
			return err // the person has changed it since
		}
		return os.Remove(joins.at(p))
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
		case !worktree.Missing(joins.at(d.Beside)):
			if err := remove(d.Path, d.Theirs.ID); err != nil {
				return err
			}
			if worktree.Missing(joins.at(d.Path)) {
				if err := os.Rename(joins.at(d.Beside), joins.at(d.Path)); err != nil {
					return err
				}
			}
		}
	}
	for _, f := range slices.Backward(j.Folders) {
		if empty, err := files.IsEmptyFolder(joins.at(f)); err != nil || !empty {
			continue // it went before, or holds something of the person's
		}
		if err := os.Remove(joins.at(f)); err != nil {
			return err
		}
	}
	exclude := filepath.Join(joins.folder.Path, ".git", "info", "exclude")
	if touched, err := joins.touched(exclude, "exclude"); err != nil || touched {
		return err // what the person wrote in it since stays
	}
	return joins.bringBack(exclude, "exclude")
}

func (w *Work) hashOf(ctx context.Context, p string) (string, error) {
	info, err := os.Lstat(w.at(p))
	if err != nil {
		return "", err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(w.at(p))
		if err != nil {
			return "", err
		}
		return w.hashText(ctx, target)
	}
	out, err := w.folder.Repo.Do(ctx, "hash-object", "--", p)
	return out, desk.GitFault(err, "git cannot hash %s", text.Visible(p))
}
