// Package deploy lets a server hold the files of one branch, and follow it: it takes over new commits whole, runs the
// tasks that the repository lists once a person has approved them, and changes what is in use by one rename.
package deploy

import (
	"context"
	"encoding/json"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/deploying"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/live"
)

// Deploy is one folder that follows a branch.
type Deploy struct {
	Name    string    `json:"name"`
	Folder  string    `json:"folder" says:"a link to the files in use"`
	Address string    `json:"address"`
	Branch  string    `json:"branch"`
	Account string    `json:"account,omitempty" says:"by whose sign-in it is read; none where it has a key of its own, or is public"`
	Host    string    `json:"host,omitempty"`
	Key     *Key      `json:"key,omitempty" says:"the key that opens this repository alone"`
	Hook    *Hook     `json:"hook,omitempty" says:"the web hook by which its host rings"`
	Days    int       `json:"days" says:"how long states are kept that are no longer in use"`
	Made    time.Time `json:"made"`
}

// Key is a key for one repository.
type Key struct {
	File   string `json:"file" says:"its private half"`
	Public string `json:"public"`
}

// State is what came of following: it is kept beside the folder. What is in use is what the folder's link says.
type State struct {
	Head     string           `json:"head,omitempty"`     // as the host told last
	Asked    time.Time        `json:"asked,omitzero"`     // when it did
	Since    time.Time        `json:"since,omitzero"`     // since when what is in use is so
	Before   string           `json:"before,omitempty"`   // what was in use before
	After    string           `json:"after,omitempty"`    // of which commit the tasks after the switch ran last
	Held     string           `json:"held,omitempty"`     // from which commit a person went back: it is not taken again
	Built    map[string]Built `json:"built,omitempty"`    // the commits whose files are whole
	Approved []Approval       `json:"approved,omitempty"` // the newest last
	Waiting  string           `json:"waiting,omitempty"`  // a commit whose tasks wait for approval
	Failed   *Failure         `json:"failed,omitempty"`   // why the newest commit is not in use
}

// Built is a commit whose files are whole.
type Built struct {
	Made time.Time `json:"made"`
	Left time.Time `json:"left,omitzero"` // when it went out of use
}

// Approval is that a person agreed to tasks, by their contents.
type Approval struct {
	Digest  string         `json:"digest"`
	When    time.Time      `json:"when"`
	Commit  string         `json:"commit"`
	Covered deploying.Tree `json:"covered"`
}

// Failure is why a commit is not in use.
type Failure struct {
	Commit string    `json:"commit"`
	Says   string    `json:"says"`
	Task   string    `json:"task,omitempty" says:"the task that failed"`
	Output string    `json:"output,omitempty" says:"the file with what it said"`
	When   time.Time `json:"when"`
	After  bool      `json:"after,omitempty"`
}

func registerFile(d *desk.Desk) string { return filepath.Join(d.Home.State, "deploys.json") }

// All lists the folders that follow a branch.
func All(d *desk.Desk) ([]Deploy, error) {
	var all []Deploy
	_, err := files.ReadJSON(registerFile(d), &all)
	return all, err
}

// Named finds one by its name, by its folder, or, for "", the only one.
func Named(d *desk.Desk, name string) (Deploy, error) {
	all, err := All(d)
	if err != nil {
		return Deploy{}, err
	}
	if name == "" && len(all) == 1 {
		return all[0], nil
	}
	at, _ := filepath.Abs(name)
	i := slices.IndexFunc(all, func(x Deploy) bool { return x.Name == name || name != "" && x.Folder == at })
	switch {
	case i >= 0:
		return all[i], nil
	case len(all) == 0:
		return Deploy{}, fault.New(fault.Decision, "nothing on this machine follows a branch yet").Try("let a folder follow one", "uncinate deploy make REPOSITORY FOLDER")
	case name == "":
		return Deploy{}, fault.New(fault.Usage, "%s follow a branch here; name one", text.Count(len(all), "folder")).Try("see them", "uncinate deploy list")
	}
	names := make([]string, len(all))
	for i, x := range all {
		names[i] = x.Name
	}
	f := fault.New(fault.Failed, "nothing named %s follows a branch here", text.Quote(name))
	if near := text.Nearest(name, names); near != "" {
		f.Detail("There is %s.", near)
	}
	return Deploy{}, f.Try("see what does", "uncinate deploy list")
}

// alter changes the list.
func alter(ctx context.Context, d *desk.Desk, how func([]Deploy) []Deploy) error {
	return desk.Alter(ctx, d, registerFile(d), func(all []Deploy) ([]Deploy, error) { return how(all), nil })
}

// Beside is the folder with all states, next to the one in use.
func (x Deploy) Beside() string { return x.Folder + ".uncinate" }

func (x Deploy) at(parts ...string) string {
	return filepath.Join(append([]string{x.Beside()}, parts...)...)
}

// InUse is the commit that is in use, "" for none, also where its files are gone.
func (x Deploy) InUse() string {
	to := live.LeadsTo(x.Folder)
	commit := filepath.Base(to)
	if filepath.Dir(filepath.Join(filepath.Dir(x.Folder), to)) != x.Beside() || !isCommit(commit) || files.Reached(x.at(commit)) != files.Folder {
		return ""
	}
	return commit
}

func isCommit(s string) bool {
	return (len(s) == 40 || len(s) == 64) && strings.Trim(s, "0123456789abcdef") == ""
}

// read reads what is known of it.
func (x Deploy) read() (*State, error) {
	s := &State{}
	if _, err := files.ReadJSON(x.at("state.json"), s); err != nil {
		return nil, err
	}
	if s.Built == nil {
		s.Built = map[string]Built{}
	}
	return s, nil
}

func (x Deploy) write(s *State) error { return files.WriteJSON(x.at("state.json"), s) }

// alone makes sure that one run works on it at a time.
func (x Deploy) alone(ctx context.Context) (*files.Held, error) {
	held, holder, err := files.Lock(ctx, x.at("lock"))
	if err == nil && held == nil {
		f := fault.New(fault.Failed, "another uncinate is at work on %s just now", x.Name)
		if holder > 0 {
			f.Detail("It is process %d.", holder)
		}
		return nil, f.Try("see how far it is", text.Command("uncinate", "deploy", "list"))
	}
	return held, err
}

// store is the repository with its commits.
func (x Deploy) store(ctx context.Context, d *desk.Desk) (*git.Repo, error) {
	g, err := d.Git(ctx)
	if err != nil {
		return nil, err
	}
	return project.Store(g, x.at("commits.git")), nil
}

// tie is how its host is reached: by a key for this repository alone, by an account's sign-in, or by none.
func (x Deploy) tie(ctx context.Context, d *desk.Desk) (*project.Tie, error) {
	repo, err := x.store(ctx, d)
	if err != nil {
		return nil, err
	}
	if x.Key == nil {
		return project.TieOf(ctx, d, &project.Folder{Path: x.Beside(), Repo: repo}, project.Project{Folder: x.Beside(), Remote: "origin", Address: x.Address, Account: x.Account, Host: x.Host})
	}
	at, err := address.Parse(x.Address)
	if err != nil {
		return nil, err
	}
	k := x.key()
	return &project.Tie{Desk: d, Repo: repo, Remote: "origin", Address: at, Account: &accounts.Account{Name: k.Account, Host: x.Host, NoToken: true}, Key: k}, nil
}

// key is its key as routes know keys.
func (x Deploy) key() *accounts.Key {
	return &accounts.Key{Account: "deploy-" + x.Name, Host: x.Host, File: x.Key.File, Public: x.Key.Public, Created: x.Made}
}

// tree lists the files of a commit.
func tree(ctx context.Context, repo *git.Repo, commit string) (deploying.Tree, error) {
	lines, err := repo.Lines(ctx, "ls-tree", "-r", "-z", "--full-tree", commit)
	if err != nil {
		return nil, git.Fault(err, "git cannot list the files of %.10s", commit)
	}
	out := deploying.Tree{}
	for _, l := range lines {
		meta, p, _ := strings.Cut(l, "\t")
		if f := strings.Fields(meta); len(f) == 3 {
			out[p] = deploying.Entry{Mode: f[0], ID: f[2]}
		}
	}
	return out, nil
}

// tasksOf reads the tasks of a commit, and what an approval of them covers; nil where it has no tasks file.
type tasksOf struct {
	*deploying.Tasks
	data    []byte
	tree    deploying.Tree
	covered deploying.Tree
	digest  string
}

func readTasks(ctx context.Context, repo *git.Repo, commit, branch string) (*tasksOf, error) {
	t := &tasksOf{Tasks: &deploying.Tasks{}}
	var err error
	if t.tree, err = tree(ctx, repo, commit); err != nil {
		return nil, err
	}
	e, found := t.tree[deploying.File]
	if !found {
		return t, nil
	}
	if e.Mode == deploying.Link {
		return nil, fault.New(fault.Refused, "%s is a link, and has to be a file", deploying.File)
	}
	size, err := repo.Do(ctx, "cat-file", "-s", e.ID)
	if err != nil {
		return nil, git.Fault(err, "%s cannot be read", deploying.File)
	}
	var n int64
	if json.Unmarshal([]byte(size), &n) != nil || n > deploying.Most {
		return nil, fault.New(fault.Refused, "%s is larger than %s", deploying.File, text.Size(deploying.Most))
	}
	blob := func(id string) ([]byte, error) { return repo.Run(ctx, git.Cmd{Args: []string{"cat-file", "blob", id}}) }
	if t.data, err = blob(e.ID); err != nil {
		return nil, git.Fault(err, "%s cannot be read", deploying.File)
	}
	tasks, mistakes := deploying.Load(t.data)
	if len(mistakes) == 0 {
		mistakes = tasks.Missing(t.data, t.tree)
	}
	if len(mistakes) > 0 {
		f := fault.New(fault.Refused, "%s has %s", deploying.File, text.Count(len(mistakes), "mistake"))
		for _, m := range mistakes[:min(len(mistakes), 10)] {
			f.Detail("%s", m)
		}
		return nil, f
	}
	if tasks.Branch != "" && tasks.Branch != branch {
		return nil, fault.New(fault.Refused, "%s is for the branch %s, and this folder follows %s", deploying.File, text.Visible(tasks.Branch), text.Visible(branch))
	}
	t.Tasks = tasks
	t.covered, err = tasks.Covered(t.tree, func(p string) (string, error) {
		to, err := blob(t.tree[p].ID)
		return string(to), err
	})
	if err != nil {
		return nil, fault.New(fault.Refused, "%s names a link: %s", deploying.File, err.Error())
	}
	t.digest = tasks.Digest(t.covered, commit)
	return t, nil
}

// approved reports whether a person agreed to these tasks; without any there is nothing to agree to.
func (s *State) approved(t *tasksOf) bool {
	return len(t.Tasks.Tasks) == 0 || slices.ContainsFunc(s.Approved, func(a Approval) bool { return a.Digest == t.digest })
}
