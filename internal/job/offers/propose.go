package offers

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"unicode"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// nothing says that there is nothing to offer, and why.
func (c *Creating) nothing(ctx context.Context) error {
	f := c.folder
	x := fault.New(fault.Decision, "there is nothing to offer: %s on %s has all that is committed here", text.Visible(c.target), c.l.Host.Name)
	if err := c.GiveUp(); err != nil {
		return err
	}
	st, err := f.Repo.Status(ctx, false)
	if err != nil {
		return git.Fault(err, "git cannot tell what changed")
	}
	if changed := st.Counts(); len(changed) > 0 {
		x.Detail("Not saved yet: %s.", board.Changes(changed))
		if f.Branch == c.target {
			return x.Try("make a branch for it", text.Command("uncinate", "branch", "make", "NAME", "--switch", "--folder", f.Path)).
				Try("save it there, then offer it", text.Command("uncinate", "save", "--message", "What was done", "--folder", f.Path))
		}
		return x.Try("save it first", text.Command("uncinate", "save", "--message", "What was done", "--folder", f.Path))
	}
	return x.Try("see the branches", text.Command("uncinate", "branch", "list", f.Path))
}

// proposed makes title and text of commits, where they are not given.
func (c *Creating) proposed(commits []string) {
	var bodies []string
	for _, one := range commits {
		title, body, _ := strings.Cut(strings.TrimSpace(one), "\n")
		if title != "" {
			c.lines, bodies = append(c.lines, title), append(bodies, strings.TrimSpace(body))
		}
	}
	switch {
	case len(c.lines) == 0: // merges alone
		c.Title = c.branch
	case len(c.lines) == 1:
		c.Title, c.Text = c.lines[0], bodies[0]
	default:
		c.Title = c.lines[0]
		var b strings.Builder
		for i, title := range c.lines {
			if i == mostTitles {
				fmt.Fprintf(&b, "- and %d more\n", len(c.lines)-i)
				break
			}
			b.WriteString("- " + title + "\n")
		}
		c.Text = strings.TrimSpace(b.String())
	}
	c.Title, c.Text = cmp.Or(c.o.Title, c.Title), cmp.Or(c.o.Text, c.Text)
}

// mostTitles is how many commits' titles a proposed text has.
const mostTitles = 50

// fresh is a name for a branch that is made: of the newest commit's title, free here and there.
func (c *Creating) fresh(ctx context.Context, told *web.Refs) string {
	if c.o.Branch != "" {
		return c.o.Branch
	}
	var b strings.Builder
	for _, r := range strings.ToLower(c.lines[len(c.lines)-1]) {
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r):
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
		if b.Len() > 40 {
			break
		}
	}
	name := cmp.Or(strings.Trim(b.String(), "-"), c.l.Account.User+"-"+c.target)
	taken := func(n string) bool {
		at, err := c.folder.Repo.Resolve(ctx, "refs/heads/"+n)
		return err == nil && at != c.folder.Head || told.Branch(n) != "" && told.Branch(n) != c.folder.Head
	}
	for i, free := 2, name; ; i++ {
		if !taken(free) {
			return free
		}
		free = fmt.Sprintf("%s-%d", name, i)
	}
}

// aside makes the branch of the commits, goes to it, and puts the one into which they are to come back to
// where the host has it: nothing of the files changes.
func (c *Creating) aside() {
	f := c.folder
	name, target, head := c.branch, c.target, f.Head
	old, known := "refs/heads/"+target, "refs/remotes/"+c.main.Remote+"/"+target
	c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: "branch", Place: plan.Here, Sentence: fmt.Sprintf("Put your commits on a branch of their own, %s, and %s back to where %s has it", text.Visible(name), text.Visible(target), c.l.Host.Name)},
		Do: func(ctx context.Context) error {
			if f.Branch != name {
				if at, err := f.Repo.Resolve(ctx, "refs/heads/"+name); err != nil || at != head {
					if _, err := f.Repo.Do(ctx, "branch", "--no-track", "--", name, head); err != nil {
						return git.Fault(err, "git cannot make the branch %s", text.Visible(name))
					}
				}
				if _, err := f.Repo.Do(ctx, "symbolic-ref", "-m", "uncinate: offer "+name, "HEAD", "refs/heads/"+name); err != nil {
					return git.Fault(err, "git cannot go to the branch %s", text.Visible(name))
				}
				f.Branch = name
			}
			now, err := f.Repo.Resolve(ctx, old)
			if err != nil || now != head {
				return nil // it is somewhere else by now
			}
			back, err := f.Repo.Do(ctx, "merge-base", head, known)
			if err != nil {
				return nil // nothing is known of it
			}
			_, err = f.Repo.Do(ctx, "update-ref", "-m", "uncinate: as on the host", old, back, head)
			return git.Fault(err, "git cannot put %s back", text.Visible(target))
		},
		Undo: func(ctx context.Context) error {
			if _, err := f.Repo.Do(ctx, "update-ref", "-m", "uncinate: put back", old, head); err != nil {
				return git.Fault(err, "git cannot put %s back", text.Visible(target))
			}
			if _, err := f.Repo.Do(ctx, "symbolic-ref", "-m", "uncinate: put back", "HEAD", old); err != nil {
				return git.Fault(err, "git cannot go back to %s", text.Visible(target))
			}
			f.Branch = target
			return worktree.DropBranch(ctx, f.Repo, name)
		}})
}
