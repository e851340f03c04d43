package machine

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/credentials"
	"uncinate/internal/job/deploy"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// ClearOptions say what is taken away.
type ClearOptions struct {
	Here     bool // what is on hosts stays valid
	Projects bool // folders too of which nothing is only here
	Ignored  bool // also where they hold ignored files
}

// Clearing is what this program left on a machine, to be taken away. Nothing is journalled: each part is found by what
// still stands of it, so that the same command goes on after a cut.
type Clearing struct {
	desk  *desk.Desk
	o     ClearOptions
	steps []desk.Step
	Name  string
	Stays []Staying // projects' folders that stay, with the cause
	Notes []string
}

// Staying is a folder that stays.
type Staying struct {
	Folder string `json:"folder"`
	Says   string `json:"says,omitempty" says:"what of it is only here"`
}

// PlanClear looks at all that this program left on the machine.
func PlanClear(ctx context.Context, d *desk.Desk, o ClearOptions) (_ *Clearing, err error) {
	c := &Clearing{desk: d, o: o, Stays: []Staying{}}
	if c.Name, err = d.Machine(); err != nil {
		return nil, err
	}
	if err := c.unfinished(); err != nil {
		return nil, err
	}
	stay, err := c.projects(ctx) // first, while the hosts can be asked
	if err != nil {
		return nil, err
	}
	if !o.Here {
		steps, notes, err := credentials.EndHere(ctx, d)
		if err != nil {
			return nil, err
		}
		c.steps, c.Notes = append(c.steps, steps...), append(c.Notes, notes...)
	} else if all, err := accounts.All(d); err == nil && len(all) > 0 {
		c.Notes = append(c.Notes, "On the hosts the keys and tokens of this machine stay valid.")
	}
	c.untiesAll(stay)
	return c, c.rest()
}

// unfinished refuses where files of the person's are put aside for work that is not finished.
func (c *Clearing) unfinished() error {
	following, err := deploy.All(c.desk)
	if err == nil && len(following) > 0 {
		f := fault.New(fault.Decision, "%s on this machine %s a branch", text.Count(len(following), "folder"), text.Either(len(following) == 1, "follows", "follow"))
		for _, x := range following {
			f.Try("end that first", text.Command("uncinate", "deploy", "remove", x.Name))
		}
		err = f
	}
	if err != nil {
		return err
	}
	for _, job := range []string{"attach", "clone"} {
		begun, err := c.desk.Home.Unfinished(job)
		if err != nil {
			return err
		}
		for _, folder := range begun {
			f := fault.New(fault.Decision, "the %s of %s is not finished", job, text.Visible(folder))
			if job == "clone" {
				return f.Try("take what there is of it away, if nothing in it is yours", text.Command("rm", "-r", "--", folder))
			}
			return f.Try("finish it", text.Command("uncinate", "attach", folder)).Try("or put back what it began", text.Command("uncinate", "detach", folder))
		}
	}
	return nil
}

// add adds a step.
func (c *Clearing) add(id string, place plan.Place, sentence string, do func(context.Context) error) {
	c.steps = append(c.steps, desk.Step{Item: plan.Item{ID: id, Place: place, Sentence: sentence}, Do: do})
}

// going is what a folder is called while it is removed: what is left of it is known by that.
func going(folder string) string {
	return filepath.Join(filepath.Dir(folder), ".uncinate-going-"+files.Short(folder))
}

// projects adds the steps for the projects that are removed, and gives the folders that stay.
func (c *Clearing) projects(ctx context.Context) (stay []string, err error) {
	all, err := project.Register(c.desk)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, p := range all {
		if seen[p.Folder] {
			continue
		}
		seen[p.Folder] = true
		if !project.FolderExists(p) && files.Missing(going(p.Folder)) {
			continue // its entry goes with the register
		}
		says := ""
		if c.o.Projects && project.FolderExists(p) {
			if says, err = c.onlyIn(ctx, p.Folder); err != nil {
				return nil, err
			}
		}
		if c.o.Projects && says == "" {
			c.add("remove "+p.Folder, plan.Here, "Remove "+text.Visible(p.Folder)+", of which nothing is only here", func(ctx context.Context) error { return c.remove(ctx, p.Folder) })
			continue
		}
		stay = append(stay, p.Folder)
		c.Stays = append(c.Stays, Staying{p.Folder, says})
	}
	return stay, nil
}

// untiesAll adds the step for the projects that stay.
func (c *Clearing) untiesAll(stay []string) {
	if len(stay) > 0 {
		c.add("untie", plan.Here, "Take the sign-in out of git's configuration of "+text.Count(len(stay), "project")+"; files, commits and remotes stay", func(ctx context.Context) error {
			for _, folder := range stay {
				if err := c.untie(ctx, folder); err != nil {
					return err
				}
			}
			return nil
		})
	}
}

// onlyIn says what of a folder is only here, also where that cannot be told.
func (c *Clearing) onlyIn(ctx context.Context, folder string) (string, error) {
	d, err := c.desk.Beside(ctx, desk.Silence{})
	if err != nil {
		return "", err
	}
	f, err := project.Look(ctx, d, folder)
	says := ""
	if err == nil {
		says, err = onlyIn(ctx, d, f, c.o.Ignored)
	}
	if err != nil && ctx.Err() == nil {
		return "it cannot be told what is only here: " + fault.Of(err).Says, nil
	}
	return says, err
}

// remove removes a project's folder, once more only where nothing of it is only here.
func (c *Clearing) remove(ctx context.Context, folder string) (err error) {
	held, err := c.desk.Alone(ctx, folder)
	if err != nil {
		return err
	}
	defer fault.Also(&err, held.Release)
	if !files.Missing(folder) {
		says, err := c.onlyIn(ctx, folder)
		if err == nil && says != "" {
			err = fault.New(fault.Decision, "%s is not removed: %s", text.Visible(folder), says)
		}
		if err == nil {
			err = files.RemoveAll(going(folder))
		}
		if err == nil {
			err = files.Move(folder, going(folder))
		}
		if err != nil {
			return err
		}
	}
	if err := files.RemoveAll(going(folder)); err != nil {
		return fault.New(fault.Failed, "%s cannot be removed: %s", text.Visible(going(folder)), files.Plain(err)).Because(err)
	}
	return project.Alter(ctx, c.desk, func(all []project.Project) []project.Project {
		return slices.DeleteFunc(all, func(p project.Project) bool { return p.Folder == folder })
	})
}

// untie takes the sign-ins out of a project that stays, and what this program keeps beside git's own files, but for
// rescue copies.
func (c *Clearing) untie(ctx context.Context, folder string) (err error) {
	if files.Reached(filepath.Join(folder, ".git")) == files.None {
		return nil // it is no repository any longer, so nothing of it is there
	}
	held, err := c.desk.Alone(ctx, folder)
	if err != nil {
		return err
	}
	defer fault.Also(&err, held.Release)
	f, err := project.LookLoosely(ctx, c.desk, folder)
	if err != nil {
		return err
	}
	if _, err := worktree.Heal(ctx, c.desk, f); err != nil {
		return err
	}
	if err := project.DropAllIncludes(ctx, c.desk, f.Repo); err != nil {
		return err
	}
	if err := f.BringBack(ctx, c.desk); err != nil {
		return err
	}
	own, common, err := git.Folders(folder)
	if err != nil {
		return err
	}
	for _, at := range []string{own, common} {
		if err := project.OwnPlace(at); err != nil {
			return err
		}
		if worktree.CopiesKept(at) > 0 {
			c.Notes = append(c.Notes, "The rescue copies of "+text.Visible(folder)+" stay in "+text.Visible(filepath.Join(at, "uncinate"))+".")
			continue
		}
		if err := files.RemoveAll(filepath.Join(at, "uncinate")); err != nil {
			return err
		}
	}
	return nil
}

// The names of what this program writes into its folders; rescue copies of deleted repositories, and a person's own
// kinds of projects, are not among them.
var (
	inConfig = []string{"hosts.json", "hosts", "accounts.json", "keys.json", "settings.json"}
	inState  = []string{"answers", "git", "git.json", "journal", "locks", "register.json", "deploys.json", "vault-seen.json", "offers", "settling", "known_hosts", "allowed_signers", "trusted", "unchosen",
		"put-aside", "let", "looked", "ask", "aside", "handed-out.log", "unpack-*", "first-*", "look-*"}
)

// rest adds the step for all that this program keeps of its own.
func (c *Clearing) rest() error {
	home := c.desk.Home
	var there []string
	for _, folder := range []string{home.Config, home.State, home.Vault, accounts.KeysFolder(c.desk)} {
		if files.Reached(folder) == files.Folder {
			there = append(there, text.Visible(folder))
		}
	}
	for _, at := range append(c.around(), home.Run) {
		names, err := files.Names(at)
		if err != nil {
			return err
		}
		others := slices.ContainsFunc(names, func(n string) bool { return !strings.HasPrefix(n, "vault.sock") })
		if len(there) == 0 && !others && files.Reached(at) == files.Folder {
			there = append(there, text.Visible(at)) // what a run that was cut off left
		}
	}
	for folder, what := range map[string]string{filepath.Join(home.State, "deleted"): "copies of deleted repositories", kindsFolder(c.desk): "your own kinds of projects"} {
		names, err := files.Names(folder)
		if err != nil {
			return err
		}
		if len(names) > 0 {
			c.Notes = append(c.Notes, text.Visible(folder)+" stays: "+what+".")
		}
	}
	if len(there) > 0 {
		c.add("files", plan.Vault, "Remove the vault with its secrets, the keys, and all that was noted here: "+strings.Join(there, ", "), c.wipe)
	}
	return nil
}

// around are the folders around those in which this program keeps something, and which it made for them.
func (c *Clearing) around() []string {
	out := []string{filepath.Dir(c.desk.Home.Vault)}
	if top := c.desk.Home.Top; top != "" && top != out[0] {
		out = append(out, top)
	}
	return out
}

// wipe removes what this program keeps: the accounts before the vault, so that after a cut no token that was ended is
// said to be valid.
func (c *Clearing) wipe(ctx context.Context) error {
	home := c.desk.Home
	if _, err := credentials.OutOfAgent(c.desk); err != nil {
		return err
	}
	keys, err := accounts.Keys(c.desk)
	if err != nil {
		return err
	}
	var names, left []string
	for _, k := range keys {
		if filepath.Dir(k.File) == accounts.KeysFolder(c.desk) {
			names = append(names, filepath.Base(k.File), filepath.Base(k.File)+".pub")
		}
	}
	for _, x := range []struct {
		folder string
		names  []string
	}{{accounts.KeysFolder(c.desk), names}, {home.Config, inConfig}, {home.Vault, nil}, {home.State, inState}, {home.Run, []string{"vault.sock*"}}} {
		var more []string
		if x.folder == home.Vault {
			more, err = c.desk.Vault.Destroy(ctx)
		} else {
			more, err = files.Clear(x.folder, x.names...)
		}
		if err != nil {
			return fault.New(fault.Failed, "%s cannot be removed: %s", text.Visible(x.folder), files.Plain(err)).Because(err)
		}
		left = append(left, more...)
	}
	for _, at := range left {
		if at == filepath.Join(home.State, "deleted") || at == kindsFolder(c.desk) {
			continue // it was said
		}
		c.Notes = append(c.Notes, text.Visible(at)+" stays: this program did not write it.")
	}
	for _, at := range c.around() {
		if names, err := files.Names(at); err != nil || len(names) > 0 {
			continue // it is another's too
		}
		if err := files.Remove(at); err != nil {
			return err
		}
	}
	return nil
}

// Items is the plan as it is shown.
func (c *Clearing) Items() []plan.Item { return desk.Items(c.steps) }

// Release gives it up.
func (c *Clearing) Release() error { return nil }

// Do carries it out.
func (c *Clearing) Do(ctx context.Context) error {
	for _, s := range c.steps {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := s.Do(ctx); err != nil {
			f := *fault.Of(err)
			f.Cause = errors.Join(f.Cause, err)
			f.Details = append(slices.Clone(f.Details), "What is taken away is away; the same command goes on from here.")
			return &f
		}
		c.desk.Tell.Step(s.Item, false)
	}
	return nil
}
