package offers

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/repositories"
	"uncinate/internal/world/web"
)

// Without the right to write a branch is offered from a copy of one's own on the host.

// route finds where the branch is sent: to the repository itself, or to a copy of one's own.
func (c *Creating) route(ctx context.Context) (err error) {
	if c.r.Right != "read" {
		if c.to, err = c.tie(ctx); err != nil {
			return err
		}
		told, err := c.refs(ctx)
		if err == nil {
			c.there = told.Branch(c.branch)
			err = c.ahead(ctx, c.there)
		}
		return err
	}
	own, found, err := project.OwnCopy(c.desk, c.folder.Path)
	if err != nil {
		return err
	}
	if found {
		return c.from(ctx, own)
	}
	for _, action := range []string{"repository-copy", "repository-show"} {
		if err := c.l.May(action, "copy repositories"); err != nil {
			f := fault.New(fault.HostSaidNo, "account %s may only read %s, and so it takes a copy of your own to offer from; %s", c.l.Account.Name, c.r.Path(), fault.Of(err).Says)
			f.Remedies = fault.Of(err).Remedies
			return repositories.ByHand(c.l, c.r, "settings", "Whoever sees to it gives you the right", f)
		}
	}
	if act := c.l.Host.Actions["offer-make"]; !act.Takes("from_owner") && !act.Takes("from_name") {
		return fault.New(fault.HostSaidNo, "account %s may only read %s, and %s takes no offers from another repository", c.l.Account.Name, c.r.Path(), c.l.Host.Name)
	}
	return c.copyThere(ctx)
}

// from goes by a copy that is known here.
func (c *Creating) from(ctx context.Context, own project.Project) (err error) {
	c.own = &own
	if c.to, err = project.TieOf(ctx, c.desk, c.folder, own); err != nil {
		return err
	}
	owner, name, found := c.l.Host.Recognise(own.Address)
	if !found {
		return fault.New(fault.Decision, "the address of your copy, %s, is none of %s", text.Visible(own.Address), c.l.Host.Name)
	}
	there, known, err := c.l.Repository(ctx, owner, name)
	if err == nil && !known {
		now, moved := project.WentTo(ctx, c.desk, []project.Project{own})[c.folder.Path]
		if !moved {
			return fault.New(fault.HostSaidNo, "your copy %s/%s is no longer on %s", owner, name, c.l.Host.Name).
				Try("forget it here; the next offer makes another one", text.Command("uncinate", "detach", "--remote", own.Remote, c.folder.Path))
		}
		if err := project.Follow(ctx, c.desk, []project.Project{own}, now); err != nil {
			return err
		}
		if own, _, err = project.OwnCopy(c.desk, c.folder.Path); err != nil {
			return err
		}
		c.own, there = &own, now
		c.to, err = project.TieOf(ctx, c.desk, c.folder, own)
	}
	if err != nil {
		return err
	}
	c.copy = there
	told, err := project.Refs(ctx, c.desk, c.to, "")
	if err == nil {
		c.there = told.Branch(c.branch)
		err = c.ahead(ctx, c.there)
	}
	return err
}

// ahead stops where the branch has commits there that are not here.
func (c *Creating) ahead(ctx context.Context, there string) error {
	if there == "" || there == c.folder.Head {
		return nil
	}
	if _, err := c.place.Do(ctx, "merge-base", "--is-ancestor", there, c.folder.Head); err == nil {
		return nil
	}
	return fault.New(fault.Decision, "%s on %s holds commits that yours does not have", text.Visible(c.branch), c.l.Host.Name).
		Try("bring them in first", text.Command("uncinate", "sync", c.folder.Path))
}

// copyThere finds a name for a copy on the host, or the copy that is there already.
func (c *Creating) copyThere(ctx context.Context) error {
	user := c.l.Account.User
	for i, name := 2, c.r.Name; i < 20; i++ {
		there, found, err := c.l.Repository(ctx, user, name)
		if err != nil {
			return err
		}
		if !found {
			c.copy = description.Repository{Owner: user, Name: name}
			return nil
		}
		if there.Right != "read" && !strings.EqualFold(there.Path(), c.r.Path()) {
			same, told, err := c.isCopy(ctx, there)
			if err != nil {
				return err
			}
			if same {
				c.copy, c.there = there, told.Branch(c.branch)
				return c.ahead(ctx, c.there)
			}
		}
		name = fmt.Sprintf("%s-%d", c.r.Name, i)
	}
	return fault.New(fault.Decision, "%s has many repositories named like %s, and none is a copy of it", user, c.r.Name)
}

// isCopy reports whether a repository has the same commits: a branch of the same name stands for one that
// is known of the original.
func (c *Creating) isCopy(ctx context.Context, there description.Repository) (bool, web.Refs, error) {
	h, err := repositories.TieTo(c.desk, c.l, there)
	if err != nil {
		return false, web.Refs{}, err
	}
	h.Repo = c.folder.Repo
	told, err := project.Refs(ctx, c.desk, h, "")
	if err != nil {
		return false, told, err
	}
	for _, b := range told.Branches() {
		id := told.Branch(b)
		if c.place.Has(ctx, id) {
			if _, err := c.place.Do(ctx, "merge-base", id, c.theirs); err == nil {
				return true, told, nil
			}
		}
	}
	return false, told, nil
}

// remote is a name for the remote of the copy: one that leads there already, as in another work tree, or one that
// is free here.
func (c *Creating) remote() string {
	for name, url := range c.folder.Remotes {
		if key := project.KeyOf(url); c.copy.ID != "" && (key == project.KeyOf(c.copy.HTTPS) || key == project.KeyOf(c.copy.SSH)) {
			return name
		}
	}
	for i, name := 2, "own"; ; i++ {
		if c.folder.Remotes[name] == "" {
			return name
		}
		name = fmt.Sprintf("own-%d", i)
	}
}

// isThere looks for the copy on the host.
func (c *Creating) isThere(ctx context.Context) (bool, error) {
	there, found, err := c.l.Repository(ctx, c.copy.Owner, c.copy.Name)
	if err != nil || !found || there.Creator != "" && !strings.EqualFold(there.Creator, c.l.Account.User) {
		return false, err
	}
	c.copy = there
	return true, nil
}

// copies adds the steps that make the copy, and tie it.
func (c *Creating) copies() {
	user, name, made := c.copy.Owner, c.copy.Name, c.copy.ID != ""
	if !made {
		c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "copy", Place: plan.Host, Sentence: fmt.Sprintf("Make a copy of your own, %s/%s, since you may only read %s", user, name, c.r.Path())},
			Done: func(ctx context.Context) (bool, error) {
				if c.before == nil {
					return false, nil
				}
				return c.isThere(ctx)
			},
			Do: func(ctx context.Context) error {
				vars := login.RepositoryVars(c.r)
				vars["new_owner"], vars["new_name"] = user, name
				_, err := c.l.Do(ctx, "repository-copy", "copy "+c.r.Path(), vars)
				if err := login.Lost(err, func() (bool, error) { return c.isThere(ctx) }); err != nil {
					return err
				}
				done, err := c.isThere(ctx)
				if err == nil && !done {
					err = fault.New(fault.Failed, "%s took the request, and does not show %s/%s", c.l.Host.Name, user, name)
				}
				return err
			},
			Stays: func(done bool) bool { return done }})
	}
	c.ties(made)
}

// ties adds the step that ties the copy, made before or just now.
func (c *Creating) ties(made bool) {
	user, name, remote := c.copy.Owner, c.copy.Name, c.remote()
	words := fmt.Sprintf("Add the copy as the second remote %s; sync keeps it in step with %s", remote, c.r.Path())
	if made {
		words = fmt.Sprintf("Add your copy %s as the second remote %s; sync keeps it in step with %s", c.copy.Path(), remote, c.r.Path())
	}
	c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "remote", Place: plan.Here, Sentence: words},
		Do: func(ctx context.Context) error {
			if c.copy.ID == "" && c.copy.HTTPS == "" && c.copy.SSH == "" {
				if done, err := c.isThere(ctx); err != nil || !done {
					return cmp.Or(err, error(fault.New(fault.HostSaidNo, "your copy %s/%s is no longer there", user, name)))
				}
			}
			p, err := c.entry(remote)
			if err != nil {
				return err
			}
			c.to, err = project.Bind(ctx, c.desk, c.folder, p)
			return err
		},
		Undo: func(ctx context.Context) error {
			p, found, err := project.EntryOf(c.desk, c.folder.Path, remote)
			if err != nil || !found || !p.Own {
				return err
			}
			h, err := project.TieOf(ctx, c.desk, c.folder, p)
			if err == nil {
				err = h.Unset(ctx)
			}
			if err == nil {
				err = project.Strike(ctx, c.desk, c.folder.Path, remote)
			}
			return err
		}})
}

// entry is what the register says of the copy: over the same transport as the original.
func (c *Creating) entry(remote string) (project.Project, error) {
	to := c.copy.HTTPS
	main, err := address.Parse(c.main.Address)
	if err != nil {
		return project.Project{}, err
	}
	if main.Scheme == "ssh" && c.copy.SSH != "" || to == "" {
		to = c.copy.SSH
	}
	at, err := address.Parse(to)
	if err != nil {
		return project.Project{}, err
	}
	if at.Scheme == "ssh" {
		if key, err := accounts.KeyOf(c.desk, c.l.Account.Name, accounts.KeyInForce); err != nil || key == nil {
			return project.Project{}, cmp.Or(err, error(accounts.NoKey(c.desk, c.l.Account)))
		}
	}
	return project.Project{Folder: c.folder.Path, Remote: remote, Address: at.String(), Account: c.l.Account.Name, Host: c.l.Host.Name, ID: c.copy.ID, Page: c.copy.Page,
		Attached: c.desk.Now().UTC(), Second: true, Own: true}, nil
}
