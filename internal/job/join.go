package job

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Joining a project to a hosted repository that holds work already. Nothing is
// rewritten: without commits here the first one is made on top of what is there; with
// commits here both histories become parents of one merge commit. What only one side
// has is kept, equal files are one, ignore rules are put together, and where both sides
// hold something else the person decides.

// The ways of joining.
const (
	joinOnto  = "onto"  // there are no commits here
	joinMerge = "merge" // both sides have commits that the other has not
	joinAhead = "ahead" // the host has all that is here, and more
)

// join is what an attach does to bring two sides together. It is kept in the journal
// from the first of its steps on.
type join struct {
	Mode    string          `json:"mode"`
	Branch  string          `json:"branch"` // there, and here from then on
	Was     string          `json:"was"`    // the branch that is checked out here
	Tip     string          `json:"tip"`    // the commit there
	From    string          `json:"from"`   // the commit here; "" for none
	Commits int             `json:"commits"`
	Added   []joining.Entry `json:"added"` // only there; laid out here
	Decided []decided       `json:"decided"`
	Rules   string          `json:"rules"` // their ignore rules at the top; "" where ours are the same, or there are none
	Same    int             `json:"same"`
	Folders []string        `json:"folders"` // that have to be made for what is laid out
}

// decided is a clash and how it ends.
type decided struct {
	Path   string        `json:"path"`
	Mine   joining.Entry `json:"mine"`
	Theirs joining.Entry `json:"theirs"`
	Way    string        `json:"way"`
	Beside string        `json:"beside,omitempty"` // where the other side is kept
}

// Undecided is the fault about files that both sides hold, each something else.
type Undecided struct {
	*fault.Fault
	Paths []string
}

// Unwrap gives the fault.
func (u *Undecided) Unwrap() error { return u.Fault }

// asideDir is where what the host holds is looked at, away from the project.
func (a *Attach) asideDir() string {
	return filepath.Join(a.desk.Home.State, "aside", files.Short(a.folder.path)+".git")
}

// Close removes what was brought in only to be looked at.
func (a *Attach) Close() error {
	if a == nil || a.folder == nil {
		return nil
	}
	return os.RemoveAll(a.asideDir())
}

// planJoin looks at what the host holds, and decides how the two sides become one.
// Nothing in the project is touched.
func (a *Attach) planJoin(ctx context.Context, refs web.Refs) error {
	j := &join{Was: a.folder.branch, From: a.folder.head}
	if kept := a.run.fact("join"); kept != "" {
		if err := json.Unmarshal([]byte(kept), j); err != nil {
			return fault.New(fault.Failed, "the journal of this attach is damaged").Because(err).Try("put back what it did", text.Command("uncinate", "detach", a.folder.path))
		}
		a.join, a.branch = j, j.Branch
		if refs.Branch(j.Branch) != j.Tip && refs.Branch(j.Branch) != a.folder.head {
			return fault.New(fault.Decision, "%s was pushed to since this attach was cut off", a.hook.address.String()).
				Try("put back what was begun, then attach again", text.Command("uncinate", "detach", a.folder.path))
		}
		return nil
	}
	if j.Branch = j.Was; refs.Branch(j.Was) == "" {
		if j.Branch = a.mainBranch(refs); j.Branch == "" {
			return fault.New(fault.Decision, "%s has several branches and says of none that it is the main one: %s", a.hook.address.String(), text.Excerpt(strings.Join(refs.Branches(), ", "), 100)).
				Try("give the branch here the name of the right one", text.Command("git", "-C", a.folder.path, "branch", "-m", "NAME"))
		}
		if slices.Contains(a.folder.branches, j.Branch) && a.folder.head != "" {
			return fault.New(fault.Decision, "the main branch there is %s, and here is a branch of that name too, which is not the one checked out", text.Quote(j.Branch)).
				Try("join that one", text.Command("git", "-C", a.folder.path, "switch", j.Branch))
		}
	}
	j.Tip = refs.Branch(j.Branch)
	aside, err := a.bringAside(ctx)
	if err != nil {
		return err
	}
	count, err := aside.Do(ctx, "rev-list", "--count", j.Tip)
	if err != nil {
		return gitFault(err, "what %s holds cannot be read", a.hook.address.String())
	}
	if _, err := fmt.Sscan(count, &j.Commits); err != nil {
		return fault.New(fault.Failed, "git counts commits oddly: %s", text.Excerpt(count, 40))
	}
	a.join, a.branch = j, j.Branch
	if j.From == "" {
		return a.joinFiles(ctx, aside)
	}
	return a.joinHistories(ctx, aside)
}

// mainBranch is the branch of the hosted repository that is joined: its default one,
// else the only one.
func (a *Attach) mainBranch(refs web.Refs) string {
	for _, b := range []string{refs.Head, a.target.DefaultBranch} {
		if b != "" && refs.Branch(b) != "" {
			return b
		}
	}
	if all := refs.Branches(); len(all) == 1 {
		return all[0]
	}
	return ""
}

// bringAside brings what the host holds into a repository of its own, which borrows
// the project's objects, so that both can be held together.
func (a *Attach) bringAside(ctx context.Context) (*git.Repo, error) {
	dir := a.asideDir()
	if err := os.RemoveAll(dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return nil, err
	}
	g := a.folder.repo.Git
	if _, err := g.Run(ctx, git.Cmd{Args: []string{"init", "-q", "--bare", "--template=", dir}}); err != nil {
		return nil, gitFault(err, "git cannot make a repository in %s", text.Visible(dir))
	}
	aside := g.In(dir)
	if a.folder.isRepo {
		objects, err := a.folder.repo.Do(ctx, "rev-parse", "--git-path", "objects")
		if err != nil {
			return nil, gitFault(err, "git cannot work with the repository in %s", text.Visible(a.folder.path))
		}
		if !filepath.IsAbs(objects) {
			objects = filepath.Join(a.folder.path, objects)
		}
		if err := os.WriteFile(filepath.Join(dir, "objects/info/alternates"), []byte(objects+"\n"), 0o600); err != nil {
			return nil, err
		}
	}
	if err := a.hook.writeInclude(ctx); err != nil {
		return nil, err
	}
	_, err := g.Run(ctx, git.Cmd{Dir: dir, Args: []string{"fetch", "--progress", "--no-tags", "--no-auto-maintenance", "--no-write-fetch-head", "--", a.hook.address.String(), "+refs/heads/*:refs/heads/*"},
		Config: a.hook.config(), Watch: a.desk.watch("Looking at what is there", "Receiving objects")})
	a.desk.Tell.Progress("Looking at what is there", 0, 0, "")
	if err != nil {
		return nil, a.desk.diagnose(ctx, a.hook.address, err)
	}
	return aside, nil
}

// treeOf lists the files of a commit or tree.
func treeOf(ctx context.Context, repo *git.Repo, id string) ([]joining.Entry, error) {
	lines, err := repo.Lines(ctx, "ls-tree", "-r", "-z", "--full-tree", id)
	if err != nil {
		return nil, gitFault(err, "git cannot list the files of %.10s", id)
	}
	var out []joining.Entry
	for _, l := range lines {
		meta, p, _ := strings.Cut(l, "\t")
		if f := strings.Fields(meta); len(f) == 3 {
			out = append(out, joining.Entry{Mode: f[0], ID: f[2], Path: p})
		}
	}
	slices.SortFunc(out, func(a, b joining.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// joinFiles plans the first commit on top of what is there: the union of the files
// that would go up and those that are there.
func (a *Attach) joinFiles(ctx context.Context, aside *git.Repo) error {
	j := a.join
	j.Mode = joinOnto
	theirs, err := treeOf(ctx, aside, j.Tip)
	if err != nil {
		return err
	}
	mine, err := a.entriesOf(ctx, theirs)
	if err != nil {
		return err
	}
	u := joining.Union(mine, theirs)
	if err := a.blocked(u.Blocked); err != nil {
		return err
	}
	j.Added, j.Same = u.Added, u.Same
	for _, c := range u.Clashes {
		if c.Path == ".gitignore" {
			j.Rules, err = rulesOf(ctx, aside, c.Theirs.ID)
		}
	}
	if i := slices.IndexFunc(j.Added, func(e joining.Entry) bool { return e.Path == ".gitignore" }); i >= 0 && len(a.travel.rules) > 0 {
		// Ours is only about to be written.
		j.Rules, err = rulesOf(ctx, aside, j.Added[i].ID)
		j.Added = slices.Delete(slices.Clone(j.Added), i, i+1)
	}
	if err != nil {
		return err
	}
	if err := a.decide(slices.DeleteFunc(u.Clashes, func(c joining.Clash) bool { return c.Path == ".gitignore" })); err != nil {
		return err
	}
	met := map[string]bool{}
	for _, e := range j.Added {
		for i := range e.Path {
			if f := e.Path[:i]; e.Path[i] == '/' && !met[f] {
				if met[f] = true; missing(a.at(f)) {
					j.Folders = append(j.Folders, f)
				}
			}
		}
	}
	return nil
}

// rulesOf reads an ignore file that is there.
func rulesOf(ctx context.Context, repo *git.Repo, id string) (string, error) {
	data, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: []string{"cat-file", "blob", id}})
	if err != nil {
		return "", gitFault(err, "their ignore rules cannot be read")
	}
	if len(data) > 1<<20 {
		return "", fault.New(fault.Refused, "their ignore rules are longer than a megabyte")
	}
	return string(data), nil
}

// entriesOf gives the files that would go up as a tree's entries. Only those are
// hashed whose path is there too: of the others it is enough that they are here.
func (a *Attach) entriesOf(ctx context.Context, theirs []joining.Entry) ([]joining.Entry, error) {
	there := map[string]bool{}
	for _, t := range theirs {
		there[t.Path] = true
	}
	var out []joining.Entry
	var hash []string
	var places []int // of those in out
	for _, f := range a.travel.files {
		e := joining.Entry{Mode: "100644", Path: f.Path}
		switch {
		case f.Target != "":
			e.Mode = "120000"
		case f.Exec:
			e.Mode = "100755"
		}
		if there[f.Path] {
			if f.Target != "" {
				var err error
				if e.ID, err = a.hashText(ctx, f.Target); err != nil {
					return nil, err
				}
			} else {
				hash, places = append(hash, f.Path), append(places, len(out))
			}
		}
		out = append(out, e)
	}
	if len(hash) == 0 {
		return out, nil
	}
	for _, p := range hash {
		if strings.ContainsAny(p, "\n\"") { // hash-object reads a path a line
			return nil, fault.New(fault.Refused, "%s has a line end or a quote in its name, so that it cannot be held against the one there", text.Quote(p))
		}
	}
	ids, err := a.folder.repo.Run(ctx, git.Cmd{Dir: a.folder.path, Config: a.folder.repo.Safe, Args: []string{"hash-object", "--stdin-paths"}, In: strings.NewReader(strings.Join(hash, "\n") + "\n")})
	if err != nil {
		return nil, gitFault(err, "git cannot hash the files")
	}
	list := strings.Fields(string(ids))
	if len(list) != len(hash) {
		return nil, fault.New(fault.Failed, "git hashed %d files of %d", len(list), len(hash))
	}
	for n, i := range places {
		out[i].ID = list[n]
	}
	return out, nil
}

// hashText gives the id that git gives to a text, such as a link's target.
func (a *Attach) hashText(ctx context.Context, s string, more ...string) (string, error) {
	out, err := a.folder.repo.Run(ctx, git.Cmd{Dir: a.folder.path, Args: append([]string{"hash-object", "--stdin"}, more...), In: strings.NewReader(s)})
	return strings.TrimSpace(string(out)), gitFault(err, "git cannot hash a text")
}

func (a *Attach) blocked(paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	return fault.New(fault.Decision, "where one side has a file the other has a folder: %s", text.Excerpt(strings.Join(paths, ", "), 120)).
		Detail("Nothing was changed, here or there.").
		Try("give yours another name", text.Command("mv", "--", filepath.Join(a.folder.path, firstPart(paths[0])), filepath.Join(a.folder.path, firstPart(paths[0])+"-2")))
}

func firstPart(p string) string {
	first, _, _ := strings.Cut(p, "/")
	return first
}

// decide settles clashes as the person said, or asks.
func (a *Attach) decide(clashes []joining.Clash) error {
	way := a.options.Clash
	if len(clashes) > 0 && way == "" {
		f := fault.New(fault.Decision, "%s %s here and there, and not the same", text.Count(len(clashes), "file"), isAre(len(clashes)))
		u := &Undecided{Fault: f}
		for _, c := range clashes {
			u.Paths = append(u.Paths, c.Path)
		}
		firstOf(f, visible(u.Paths))
		f.Detail("Nothing was changed, here or there.")
		args := append(a.toArgs(), "--clash")
		f.Try("keep yours; theirs stays in the history", a.again(append(args, "mine")...))
		f.Try("or take theirs, yours being kept", a.again(append(args, "theirs")...))
		f.Try("or keep yours and lay theirs beside it", a.again(append(args, "both")...))
		return u
	}
	date := a.desk.Now().Format(time.DateOnly)
	for _, c := range clashes {
		d := decided{Path: c.Path, Mine: c.Mine, Theirs: c.Theirs, Way: way}
		taken := func(p string) bool { return !missing(a.at(p)) }
		switch {
		case way == joining.Theirs && a.join.Mode == joinOnto:
			machine, err := a.desk.Machine()
			if err != nil {
				machine = "here"
			}
			d.Beside = joining.Beside(c.Path, joining.Mine, machine, date, taken)
		case way == joining.Both && c.Theirs.ID != "":
			d.Beside = joining.Beside(c.Path, joining.Theirs, a.whose(), date, taken)
		}
		a.join.Decided = append(a.join.Decided, d)
	}
	return nil
}

// toArgs are the options that name what is hooked to, as they were given.
func (a *Attach) toArgs() []string {
	if a.options.To != "" {
		return []string{"--to", withoutSecret(a.options.To)}
	}
	return nil
}

// whose names the other side in a few words.
func (a *Attach) whose() string {
	if a.login != nil {
		return a.login.Host.Name
	}
	return a.hook.address.Host
}

// joinHistories plans how two histories become one, with a merge tried out aside.
func (a *Attach) joinHistories(ctx context.Context, aside *git.Repo) error {
	j := a.join
	if _, err := aside.Do(ctx, "merge-base", "--is-ancestor", j.From, j.Tip); err == nil {
		j.Mode = joinAhead
		return a.joinChanges(ctx, aside, j.Tip)
	}
	j.Mode = joinMerge
	tree, clashes, err := mergeTrees(ctx, aside, j.From, j.Tip)
	if err != nil {
		return err
	}
	var rest []joining.Clash
	for _, c := range clashes {
		if c.Path == ".gitignore" && c.Mine.ID != "" && c.Theirs.ID != "" {
			if j.Rules, err = rulesOf(ctx, aside, c.Theirs.ID); err != nil {
				return err
			}
			continue
		}
		rest = append(rest, c)
	}
	if err := a.decide(rest); err != nil {
		return err
	}
	theirs, err := treeOf(ctx, aside, j.Tip)
	if err != nil {
		return err
	}
	mine, err := treeOf(ctx, aside, j.From)
	if err != nil {
		return err
	}
	u := joining.Union(mine, theirs)
	j.Added, j.Same = u.Added, u.Same
	return a.joinChanges(ctx, aside, tree)
}

// joinChanges makes sure that what changes in the folder meets no work that is not
// saved.
func (a *Attach) joinChanges(ctx context.Context, aside *git.Repo, tree string) error {
	coming, err := aside.Lines(ctx, "diff-tree", "-r", "-z", "--name-only", "--no-renames", a.join.From+"^{tree}", tree+"^{tree}")
	if err != nil {
		return gitFault(err, "git cannot compare the two sides")
	}
	changes := map[string]bool{}
	for _, p := range coming {
		changes[p] = true
	}
	for _, d := range a.join.Decided {
		changes[d.Path] = d.Way == joining.Theirs
	}
	if a.join.Rules != "" {
		changes[".gitignore"] = true
	}
	unsaved, err := a.folder.repo.Lines(ctx, "diff-index", "-z", "--name-only", "HEAD")
	if err != nil {
		return gitFault(err, "git cannot tell what is changed here")
	}
	tracked, err := a.folder.repo.Lines(ctx, "ls-files", "-z", "-c", "--deduplicate")
	if err != nil {
		return gitFault(err, "git cannot list the files")
	}
	known := map[string]bool{}
	for _, p := range tracked {
		known[p] = true
	}
	bad := []string{}
	for _, p := range unsaved {
		if changes[p] {
			bad = append(bad, p)
		}
	}
	for _, p := range coming {
		if !known[p] && !missing(a.at(p)) {
			bad = append(bad, p)
		}
	}
	if len(bad) == 0 {
		return nil
	}
	return writtenOver(bad).Detail("Nothing was changed, here or there.").
		Try("save your changes first", text.Command("git", "-C", a.folder.path, "add", "-A")+" && "+text.Command("git", "-C", a.folder.path, "commit"))
}

// mergeTrees tries a merge out without touching anything (git-merge-tree documentation,
// --write-tree). Where both sides hold something else at a path, the tree holds a text
// with marks, and the clash is told.
func mergeTrees(ctx context.Context, repo *git.Repo, mine, theirs string) (tree string, clashes []joining.Clash, err error) {
	out, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Config: repo.Safe, Args: []string{"merge-tree", "--write-tree", "--allow-unrelated-histories", "--messages", "-z", mine, theirs}})
	if err != nil && git.Code(err) != 1 {
		return "", nil, gitFault(err, "git cannot try the joining out")
	}
	parts := strings.Split(string(out), "\x00")
	tree = parts[0]
	byPath := map[string]*joining.Clash{}
	i := 1
	for ; i < len(parts) && parts[i] != ""; i++ {
		meta, p, ok := strings.Cut(parts[i], "\t")
		f := strings.Fields(meta)
		if !ok || len(f) != 3 {
			return "", nil, fault.New(fault.Failed, "git tells of a clash in a way that is not understood: %s", text.Excerpt(parts[i], 80))
		}
		if byPath[p] == nil {
			byPath[p] = &joining.Clash{Path: p}
		}
		switch e := (joining.Entry{Mode: f[0], ID: f[1], Path: p}); f[2] {
		case "2":
			byPath[p].Mine = e
		case "3":
			byPath[p].Theirs = e
		}
	}
	for i++; i < len(parts); { // messages: how many paths, the paths, the kind, the text
		n := 0
		if _, err := fmt.Sscan(parts[i], &n); err != nil || i+n+2 >= len(parts) {
			break
		}
		kind := parts[i+n+1]
		if strings.Contains(kind, "file/directory") || strings.Contains(kind, "distinct") || strings.Contains(kind, "rename") && strings.HasPrefix(kind, "CONFLICT") || strings.Contains(kind, "submodule") {
			p, _, _ := strings.Cut(parts[i+1], "~") // git puts a side's commit after it
			f := fault.New(fault.Decision, "the two sides cannot be joined by themselves at %s", text.Quote(p))
			if strings.Contains(kind, "file/directory") {
				f = fault.New(fault.Decision, "where one side has a file the other has a folder: %s", text.Quote(p))
			}
			return "", nil, f.Detail("Nothing was changed, here or there.").
				Try("give it another name here, commit that, and attach again", text.Command("git", "mv", "--", p, p+"-2"))
		}
		i += n + 3
	}
	for _, c := range byPath {
		clashes = append(clashes, *c)
	}
	slices.SortFunc(clashes, func(a, b joining.Clash) int { return strings.Compare(a.Path, b.Path) })
	return tree, clashes, nil
}
