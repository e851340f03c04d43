package attach

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/handover"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/job/surveying"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// CloneOptions say what to bring and where to.
type CloneOptions struct {
	Over     string // "https" or "ssh"
	What     string // a name, owner/name, or any address of the repository
	Folder   string // "" for the repository's name in the current folder
	Account  string
	Key      string // the file of an SSH key, for a server without an account
	Branch   string // which to start on; "" for the default one
	Remote   string // what git calls the repository; "" for origin
	Depth    int    // so many of the newest commits; 0 for all
	Partial  bool   // old contents come when they are asked for
	Snapshot bool   // files only, without git

	Submodules bool // the repositories inside too

	ReadOnly bool // only to be brought up to date: nothing is ever sent
}

// Clone is one hosted repository to be brought onto this machine.
type Clone struct {
	desk    *desk.Desk
	what    string
	folder  string
	made    bool // the folder is not there yet
	options CloneOptions
	target  *target.Target
	held    *files.Held // the folder's lock
	refs    web.Refs
	steps   []desk.Step
}

// Cloned is what came of it.
type Cloned struct {
	Folder     string            `json:"folder"`
	Address    string            `json:"address"`
	Page       string            `json:"page,omitempty"`
	Account    string            `json:"account,omitempty"`
	Branch     string            `json:"branch,omitempty"` // empty: the repository has no commit yet
	Commit     string            `json:"commit,omitempty"`
	Files      int               `json:"files"`
	Bytes      int64             `json:"bytes"`
	Inside     []Inside          `json:"inside,omitempty" says:"what the projects in it are made of, and where they are"`
	Pointers   bool              `json:"large_files_missing,omitempty" says:"its large files are still only pointers: git lfs pull brings them"`
	Submodules []string          `json:"submodules,omitempty" says:"folders of submodules that were brought too"`
	Empty      []string          `json:"submodules_empty,omitempty" says:"folders of submodules, whose repositories were not brought"`
	Alike      map[string]string `json:"names_alike,omitempty" says:"files that cannot be beside another, since this folder does not tell upper and lower case apart"`
	Snapshot   bool              `json:"snapshot,omitempty"`
	ReadOnly   bool              `json:"read_only,omitempty"`
	HandOver   *handover.Note    `json:"handover,omitempty" says:"what the copy needs besides what git brought"`
}

// Inside is a project within a repository.
type Inside struct {
	Kind    string   `json:"kind"`
	Folders []string `json:"folders" says:"from the top; . is the top itself"`
}

// PlanClone finds the repository and checks the folder it is to be in, before anything
// is fetched: an error about a folder blames the folder.
func PlanClone(ctx context.Context, d *desk.Desk, o CloneOptions) (*Clone, error) {
	g, err := d.Git(ctx)
	if err != nil {
		return nil, err
	}
	c := &Clone{desk: d, what: o.What, options: o}
	c.target = &target.Target{Work: target.Work{Desk: d, Options: target.Options{Account: o.Account, Over: o.Over, Key: o.Key, Remote: cmp.Or(o.Remote, "origin")}}, Clones: true}
	name := ""
	if at, err := address.Parse(o.What); err == nil {
		name = at.Name()
	} else {
		_, name = naming.Split(o.What)
	}
	if h, _, recognised, err := hosts.Recognise(d, o.What); err != nil {
		return nil, err
	} else if h != nil {
		name = recognised
	}
	if err := c.chooseFolder(o.Folder, name); err != nil {
		return nil, err
	}
	if c.held, err = d.Alone(ctx, c.folder); err != nil {
		return nil, err
	}
	if err := c.prepare(ctx, g, o, name); err != nil {
		return nil, errors.Join(err, c.held.Release())
	}
	return c, nil
}

// prepare asks the host and makes the plan.
func (c *Clone) prepare(ctx context.Context, g *git.Git, o CloneOptions, name string) (err error) {
	t := c.target
	if t.Run, _, err = c.desk.Begin("clone", c.folder); err != nil {
		return err
	}
	t.Folder = &project.Folder{Path: c.folder, Repo: g.In(c.folder), Remotes: map[string]string{}}
	t.Folder.Repo.Dir = filepath.Dir(c.folder) // until the folder is made
	if err := t.ChooseExisting(ctx, o.What); err != nil {
		var r *login.Refusal
		f := fault.Of(err)
		if errors.As(err, &r) || f.Kind != fault.HostSaidNo {
			return err
		}
		// A missing repository is not to be made by clone.
		out := *f
		out.Remedies = nil
		for _, account := range t.Others {
			words := []string{"uncinate", "clone", "--account", account, o.What}
			if o.Folder != "" {
				words = append(words, o.Folder)
			}
			out.Try("use "+account, text.Command(words...))
		}
		if t.Login != nil && len(t.Others) == 0 {
			if near := t.NearName(ctx, name); near != "" {
				words := []string{"uncinate", "clone", near}
				if o.Folder != "" {
					words = append(words, o.Folder)
				}
				out.Try("", text.Command(words...))
			}
			out.Try("see the repositories that there are", text.Command("uncinate", "repository", "list", "--account", t.Login.Account.Name))
		}
		return &out
	}
	for dir := filepath.Dir(c.folder); ; dir = filepath.Dir(dir) {
		if files.Reached(dir) == files.Folder {
			t.Folder.Repo.Dir = dir
			break
		}
		if filepath.Dir(dir) == dir {
			break
		}
	}
	if t.Folder.Settings, err = t.Folder.Repo.Settings(ctx); err != nil {
		return git.Fault(err, "git's configuration cannot be read")
	}
	t.Folder.IsRepo = true // its settings are read already
	if err := t.CheckAddress(ctx); err != nil {
		return err
	}
	if c.refs, err = t.RemoteRefs(ctx); err != nil {
		return err
	}
	if t.Format = c.refs.Format; c.refs.Empty() {
		var head string
		if head, t.Format = project.Vacant(ctx, c.desk, t.Tie, c.refs, false); c.refs.Head == "" {
			c.refs.Head = head
		}
	}
	if err := c.signer(ctx); err != nil {
		return err
	}
	return c.plan()
}

// chooseFolder checks the target: made if missing, taken if empty, else refused.
func (c *Clone) chooseFolder(given, name string) error {
	if given == "" {
		if given = name; naming.Propose(name) != name {
			given = naming.Propose(name)
		}
		if given == "" {
			return fault.New(fault.Usage, "no folder name can be made of %s", text.Quote(c.what)).
				Try("name one", text.Command("uncinate", "clone", c.what, "FOLDER"))
		}
	}
	abs, err := filepath.Abs(given)
	if err != nil {
		return err
	}
	c.folder = abs
	empty, err := files.IsEmptyFolder(abs)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		c.made = true
		return nil
	case err != nil:
		if k := files.Reached(abs); k != files.None && k != files.Folder {
			return fault.New(fault.Refused, "%s is here already, and it is a file", text.Visible(abs)).
				Try("bring it into another folder", text.Command("uncinate", "clone", c.what, name+"-2"))
		}
		return fault.New(fault.Failed, "the folder %s cannot be looked into", text.Visible(abs)).Because(err)
	case !empty:
		if _, resumed, err := c.desk.Begin("clone", abs); err != nil || resumed {
			return err
		}
		f := fault.New(fault.Refused, "the folder %s is here already and is not empty", text.Visible(abs))
		p, found, err := project.ProjectAt(c.desk, abs)
		if err != nil {
			return err
		}
		if found {
			f.Detail("It is a copy of %s.", p.Address)
			f.Try("bring that copy up to date", text.Command("uncinate", "sync", abs))
		}
		return f.Try("bring it into another folder", text.Command("uncinate", "clone", c.what, name+"-2"))
	}
	if real, err := filepath.EvalSymlinks(abs); err == nil {
		c.folder = real
	}
	return nil
}

// signer sets who signs commits made in the copy; without any, git's own is left.
func (c *Clone) signer(ctx context.Context) error {
	err := c.target.ChooseSigner(ctx)
	if fault.Is(err, fault.Decision) {
		return nil
	}
	return err
}

// Items is the plan as it is shown.
func (c *Clone) Items() []plan.Item { return desk.Items(c.steps) }

// Notes are what the person should know before agreeing.
func (c *Clone) Notes() []string { return c.target.Notes }

func (c *Clone) plan() error {
	t := c.target
	if b := c.options.Branch; b != "" && c.refs.Branch(b) == "" {
		f := fault.New(fault.Failed, "%s has no branch %s", t.Tie.Address.String(), text.Visible(b))
		if near := text.Nearest(b, c.refs.Branches()); near != "" {
			f.Try("there is one of a like name", text.Command("uncinate", "clone", c.what, "--branch", near))
		}
		return f.Detail("It has: %s", text.Excerpt(strings.Join(c.refs.Branches(), ", "), 200))
	}
	t.Branch = cmp.Or(c.options.Branch, c.refs.Head)
	if t.Branch == "" {
		t.Branch = t.Repository.DefaultBranch
	}
	if t.Branch == "" || !c.refs.Empty() && c.refs.Branch(t.Branch) == "" {
		t.Branch = ""
		for _, b := range []string{"main", "master", "trunk"} {
			if c.refs.Branch(b) != "" {
				t.Branch = b
				break
			}
		}
	}
	something := !c.refs.Empty() && t.Branch != ""
	if t.Branch == "" {
		t.Branch = "main"
	}
	made := c.stepFolder()
	if t.Move != "" {
		c.steps = append(c.steps, t.StepMove())
	}
	c.steps = append(c.steps, made, t.StepInit())
	if t.Name != "" && t.Email != "" {
		c.steps = append(c.steps, t.StepIdentity())
	}
	c.steps = append(c.steps, t.StepTie())
	if !c.refs.Empty() {
		c.steps = append(c.steps, c.stepFetch())
	}
	if something {
		c.steps = append(c.steps, c.stepCheckout())
	}
	if something && c.options.Submodules {
		c.steps = append(c.steps, c.stepSubmodules())
	}
	// An interrupted clone that is put back leaves no folder of ours behind.
	for i, s := range c.steps {
		if s.ID == "init" {
			c.steps[i].Sentence = "Make it a git repository, on branch " + t.Branch
		}
	}
	return nil
}

func (c *Clone) stepFolder() desk.Step {
	sentence := "Make the folder " + text.Visible(c.folder)
	if !c.made {
		sentence = "Take the empty folder " + text.Visible(c.folder)
	}
	return desk.Step{Item: plan.Item{ID: "folder", Place: plan.Here, Sentence: sentence},
		Do: func(context.Context) error {
			if err := files.MakeFolder(c.folder, 0o777); err != nil {
				return fault.New(fault.Failed, "the folder %s cannot be made: %s", text.Visible(c.folder), files.Plain(err)).Because(err)
			}
			if real, err := filepath.EvalSymlinks(c.folder); err == nil {
				c.folder = real
			}
			c.target.Folder.Path, c.target.Folder.Repo.Dir = c.folder, c.folder
			return nil
		},
		Undo: func(context.Context) error {
			if !c.made {
				return nil
			}
			return files.Remove(c.folder)
		}}
}

func (c *Clone) stepFetch() desk.Step {
	t := c.target
	repo := t.Folder.Repo
	return desk.Step{Item: plan.Item{ID: "fetch", Place: plan.Here, Sentence: c.extent() + " from " + t.Tie.Address.String()},
		Do: func(ctx context.Context) error {
			args := []string{"fetch", "--progress", "--no-auto-maintenance"}
			if c.options.Depth > 0 {
				args = append(args, "--depth="+strconv.Itoa(c.options.Depth))
			}
			if c.options.Partial {
				args = append(args, "--filter=blob:none")
			}
			if err := t.Folder.SweepPacks(); err != nil {
				return err
			}
			work, err := t.Folder.Work()
			if err != nil {
				return err
			}
			_, err = work.Run(ctx, git.Cmd{Args: append(args, "--", t.Options.Remote), Stall: git.Stall, Watch: project.Watch(c.desk, "Receiving", "Receiving objects")})
			c.desk.Tell.Progress("Receiving", 0, 0, "")
			if err != nil {
				return project.Diagnose(ctx, c.desk, t.Tie.Address, err)
			}
			if c.refs.Head == "" {
				return nil
			}
			_, err = repo.Do(ctx, "symbolic-ref", "refs/remotes/"+t.Options.Remote+"/HEAD", "refs/remotes/"+t.Options.Remote+"/"+c.refs.Head)
			return git.Fault(err, "the default branch cannot be noted")
		}}
}

// extent says how much is received.
func (c *Clone) extent() string {
	switch {
	case c.options.Depth > 0:
		return "Receive " + text.Count(c.options.Depth, "newest commit") + " of each branch"
	case c.options.Partial:
		return "Receive all commits, and old contents when they are asked for,"
	}
	return "Receive everything"
}

func (c *Clone) stepCheckout() desk.Step {
	t := c.target
	return desk.Step{Item: plan.Item{ID: "checkout", Place: plan.Here, Sentence: "Write the files of branch " + text.Visible(t.Branch)},
		Do: func(ctx context.Context) error {
			if err := worktree.First(ctx, c.desk, t.Folder, t.Branch, "refs/remotes/"+t.Options.Remote+"/"+t.Branch); err != nil {
				return err
			}
			id, err := t.Folder.Repo.Do(ctx, "rev-parse", "HEAD")
			if err != nil {
				return git.Fault(err, "the copy cannot be checked")
			}
			if want := c.refs.Branch(t.Branch); id != want {
				t.Notes = append(t.Notes, "The branch moved on the host while it was received.")
			}
			return nil
		}}
}

// Release gives the plan up.
func (c *Clone) Release() error { return c.held.Release() }

// Do carries the plan out.
func (c *Clone) Do(ctx context.Context) (_ *Cloned, err error) {
	t := c.target
	defer fault.Also(&err, c.held.Release)
	if err := t.Run.Run(ctx, c.steps); err != nil {
		return nil, err
	}
	out := &Cloned{Folder: c.folder, Address: t.Tie.Address.String(), Page: t.Repository.Page, Account: t.AccountName(), Branch: t.Branch}
	if out.Commit, out.Files, out.Bytes, err = t.Counted(ctx); err != nil {
		return nil, err
	}
	if out.Pointers, err = notePointers(ctx, c.desk, t.Folder.Repo); err != nil {
		return nil, err
	}
	if out.Submodules, out.Empty, err = noteParts(ctx, c.desk, t.Folder, c.options.Submodules); err != nil {
		return nil, err
	}
	if out.Branch != "" && out.Commit != "" {
		if out.Alike, err = worktree.NoteAlike(ctx, c.desk, t.Folder); err != nil {
			return nil, err
		}
	}
	if out.Inside, err = inside(ctx, c.desk, t.Folder); err != nil {
		return nil, err
	}
	if c.options.ReadOnly {
		out.ReadOnly = true
		p, found, err := project.ProjectAt(c.desk, c.folder)
		if err == nil && found {
			p.ReceivesOnly = true
			err = project.Enter(ctx, c.desk, p)
		}
		if err != nil {
			return nil, err
		}
	}
	if c.options.Snapshot {
		out.Snapshot = true
		if err := project.Strike(ctx, c.desk, c.folder, t.Options.Remote); err != nil {
			return nil, err
		}
		if err := files.RemoveAll(filepath.Join(c.folder, ".git")); err != nil {
			return nil, fault.New(fault.Failed, "git's folder cannot be taken out of %s", text.Visible(c.folder)).Because(err)
		}
	}
	if out.HandOver, err = surveying.HandedOver(c.folder); err != nil {
		t.Notes = append(t.Notes, fault.Of(err).Says)
		c.desk.Tell.Note("Note: %s.", fault.Of(err).Says)
	}
	return out, nil
}
