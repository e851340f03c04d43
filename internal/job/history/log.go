package history

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/histories"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
)

// HistoryOptions say which commits are wanted.
type HistoryOptions struct {
	Folder string
	Path   string // one file's, or one folder's, history; through its earlier names for a file
	Branch string // "" for the one that is checked out, and its counterpart there
	Most   int    // how many; 0 for 30
	Side   string // "" for all, "here" or "host" for what only one side has
	Full   bool   // the files that each touched
	Graph  bool   // where branches meet
}

// History is a list of commits.
type History struct {
	Folder  string   `json:"folder"`
	Branch  string   `json:"branch"`
	Commits []Commit `json:"commits"`
	More    bool     `json:"more,omitempty" says:"there are older ones"`
}

// Commit is one of them.
type Commit struct {
	ID     string       `json:"id"`
	Who    string       `json:"who"`
	Email  string       `json:"email"`
	When   time.Time    `json:"when"`
	Title  string       `json:"title"`
	Where  string       `json:"where" says:"here, host or both, as last seen"`
	Names  []string     `json:"names,omitempty" says:"branches and tags that are at it"`
	Merges bool         `json:"merges,omitempty"`
	Files  []CommitFile `json:"files,omitempty"`
	Lead   string       `json:"-"` // the graph's part of its line
}

// CommitFile is a file that a commit touched.
type CommitFile struct {
	Path    string `json:"path"`
	Added   int    `json:"added" says:"lines; -1 for a binary file"`
	Removed int    `json:"removed"`
}

// Read lists the commits of a branch and of its counterpart there, the newest first,
// each marked by where it is.
func Read(ctx context.Context, d *desk.Desk, o HistoryOptions) (*History, error) {
	f, err := worktree.LooseAt(ctx, d, o.Folder)
	if err != nil {
		return nil, err
	}
	if o.Most <= 0 {
		o.Most = 30
	}
	branch := cmp.Or(o.Branch, f.Branch)
	out := &History{Folder: f.Path, Branch: branch, Commits: []Commit{}}
	ours := f.Head
	if o.Branch != "" {
		if ours, err = CommitNamed(ctx, f, o.Branch); err != nil {
			return nil, err
		}
	}
	theirs, remote := "", ""
	if p, err := project.ProjectOf(ctx, d, f); err == nil && branch != "" {
		remote = p.Remote
		theirs = verified(ctx, f, "refs/remotes/"+remote+"/"+branch)
	}
	if ours == "" && theirs == "" || o.Side == "host" && theirs == "" {
		return out, nil
	}
	where, err := sidesOf(ctx, f, remote, ours, theirs)
	if err != nil {
		return nil, err
	}
	said, err := f.Repo.Do(ctx, logWords(o, remote, ours, theirs)...)
	if err != nil {
		return nil, git.Fault(err, "git cannot tell the history")
	}
	out.Commits = readLog(said, where, remote != "")
	if out.More = len(out.Commits) > o.Most; out.More {
		out.Commits = out.Commits[:o.Most]
	}
	if o.Graph && o.Path == "" {
		ids := make([]string, len(out.Commits))
		for i, c := range out.Commits {
			ids[i] = c.ID
		}
		for i, lead := range histories.Graph(ids, parentsOf(said)) {
			out.Commits[i].Lead = lead
		}
	}
	return out, nil
}

// verified gives the commit that a name stands for; "" for none.
func verified(ctx context.Context, f *project.Folder, name string) string {
	id, err := f.Repo.Resolve(ctx, name+"^{commit}")
	if err != nil {
		return ""
	}
	return id
}

// CommitNamed gives the commit of a branch, a tag or a commit's own name.
func CommitNamed(ctx context.Context, f *project.Folder, name string) (string, error) {
	for _, ref := range []string{"refs/heads/" + name, name} {
		if id := verified(ctx, f, ref); id != "" {
			return id, nil
		}
	}
	list, err := f.Repo.Do(ctx, "for-each-ref", "--format=%(refname:short)", "refs/heads/", "refs/remotes/", "refs/tags/")
	fail := fault.New(fault.Failed, "there is no branch, tag or commit %s here", text.Visible(name))
	if near := text.Nearest(name, strings.Fields(list)); err == nil && near != "" {
		fail.Try("there is one of a like name", text.Command("uncinate", "history", "--branch", near))
	}
	return "", fail.Try("see the branches", "uncinate branch list")
}

// logWords are the words for git log, in the form that readLog reads.
func logWords(o HistoryOptions, remote, ours, theirs string) []string {
	args := []string{"log", "-z", "--no-show-signature", "--no-ext-diff", "--no-textconv", "--no-color", "--date-order", "-n", strconv.Itoa(o.Most + 1),
		"--format=%x01%H%x00%P%x00%an%x00%ae%x00%at%x00%s%x00%D", "--decorate=full"}
	if o.Full {
		args = append(args, "--numstat", "--no-renames", "-m", "--first-parent")
	}
	switch o.Side {
	case "here":
		args = append(args, cmp.Or(ours, theirs))
		if remote != "" { // what another branch of the host holds is there too
			args = append(args, "--not", "--remotes="+remote)
		}
	case "host":
		args = append(args, theirs)
		if ours != "" {
			args = append(args, "--not", ours)
		}
	default:
		for _, id := range []string{ours, theirs} {
			if id != "" && !slices.Contains(args, id) {
				args = append(args, id)
			}
		}
	}
	args = append(args, "--")
	if o.Path != "" {
		args = append(args, o.Path)
	}
	return args
}

// sidesOf lists the commits that only one of two sides has: here, which no branch of the host holds
// as last seen, and on the host, which the branch here does not hold.
func sidesOf(ctx context.Context, f *project.Folder, remote, ours, theirs string) (map[string]string, error) {
	where := map[string]string{}
	if remote == "" || ours == theirs {
		return where, nil
	}
	for side, words := range map[string][]string{"here": {ours, "--not", "--remotes=" + remote}, "host": {theirs, "--not", ours}} {
		if words[0] == "" {
			continue
		}
		list, err := f.Repo.Do(ctx, append([]string{"rev-list"}, slices.DeleteFunc(words, func(w string) bool { return w == "" })...)...)
		if err != nil {
			return nil, git.Fault(err, "git cannot compare both sides")
		}
		for id := range strings.FieldsSeq(list) {
			where[id] = side
		}
	}
	return where, nil
}

// readLog reads what git log was asked for: a commit's fields, each up to NUL, then, where
// wanted, a line for each file (git-diff documentation, --numstat -z).
func readLog(s string, where map[string]string, attached bool) []Commit {
	var out []Commit
	for item := range strings.SplitSeq(s, "\x01") {
		fields := strings.SplitN(item, "\x00", 8)
		if len(fields) < 7 {
			continue
		}
		seconds, _ := strconv.ParseInt(fields[4], 10, 64)
		c := Commit{ID: fields[0], Merges: strings.Contains(fields[1], " "), Who: fields[2], Email: fields[3], When: time.Unix(seconds, 0).UTC(), Title: fields[5], Where: "both"}
		if w := where[c.ID]; w != "" {
			c.Where = w
		} else if !attached {
			c.Where = "here"
		}
		for name := range strings.SplitSeq(strings.TrimSpace(fields[6]), ", ") {
			name = strings.TrimPrefix(strings.TrimPrefix(name, "HEAD -> "), "tag: ")
			if name != "" && name != "HEAD" && name != "grafted" && !strings.HasSuffix(name, "/HEAD") { // grafted: a shallow copy ends here
				c.Names = append(c.Names, name)
			}
		}
		if len(fields) == 8 {
			for line := range strings.SplitSeq(fields[7], "\x00") {
				parts := strings.SplitN(strings.TrimLeft(line, "\n"), "\t", 3)
				if len(parts) == 3 {
					x := CommitFile{Path: parts[2], Added: -1, Removed: -1}
					if n, err := strconv.Atoi(parts[0]); err == nil {
						x.Added = n
						x.Removed, _ = strconv.Atoi(parts[1])
					}
					c.Files = append(c.Files, x)
				}
			}
		}
		out = append(out, c)
	}
	return out
}

func parentsOf(s string) map[string][]string {
	out := map[string][]string{}
	for item := range strings.SplitSeq(s, "\x01") {
		if fields := strings.SplitN(item, "\x00", 3); len(fields) == 3 {
			out[fields[0]] = strings.Fields(fields[1])
		}
	}
	return out
}
