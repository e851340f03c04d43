package history

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/semver"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// TagOptions say what is to be marked.
type TagOptions struct {
	Folder string
	Name   string
	At     string // a commit; "" for the one that is checked out
	Text   string
	Any    bool // the name need not be a version
	Here   bool // do not send it
}

// Tag plans to mark a version and to send the mark.
func Tag(ctx context.Context, d *desk.Desk, o TagOptions) (*BranchPlan, error) {
	return planBranches(ctx, d, o.Folder, "To mark "+o.Name+":", func(b *Branching, p *BranchPlan) error {
		f := b.folder
		p.Job = "tag"
		if _, err := f.Repo.Do(ctx, "check-ref-format", "refs/tags/"+o.Name); err != nil || strings.HasPrefix(o.Name, "-") {
			return fault.New(fault.Usage, "%s is no name for a tag", text.Quote(o.Name))
		}
		v, is := semver.Parse(o.Name)
		if !is && !o.Any {
			return fault.New(fault.Usage, "%s is no version number of the form 1.2.3", text.Quote(o.Name)).
				Try("if it is to be called so all the same", text.Command("uncinate", "tag", o.Name, "--any-name"))
		}
		at, err := f.Repo.Resolve(ctx, cmp.Or(o.At, "HEAD")+"^{commit}")
		if err != nil {
			return fault.New(fault.Failed, "there is no commit %s here", text.Visible(cmp.Or(o.At, "yet"))).Because(err)
		}
		stands, _ := f.Repo.Resolve(ctx, "refs/tags/"+o.Name+"^{commit}") // "" for none
		if b.Refs["refs/tags/"+o.Name] != "" && (stands != at || o.Here) {
			return fault.New(fault.Refused, "there is a tag %s already, and what a tag stands for never changes", text.Visible(o.Name)).
				Try("see what it stands for", text.Command("git", "-C", f.Path, "show", "--stat", "refs/tags/"+o.Name))
		}
		for ref := range b.Refs {
			name, _ := strings.CutPrefix(ref, "refs/tags/")
			if other, tagged := semver.Parse(name); is && tagged && semver.Compare(other, v) > 0 {
				p.Notes = append(p.Notes, "There is a later version already: "+text.Visible(name)+".")
				break
			}
		}
		if err := Signed(ctx, f); err != nil {
			return err
		}
		title, err := f.Repo.Do(ctx, "log", "-1", "--no-show-signature", "--format=%s", at)
		if err != nil {
			return git.Fault(err, "git cannot read the commit")
		}
		if stands == "" {
			p.add("tag", plan.Here, fmt.Sprintf("Mark %.10s (%s) as %s", at, text.Excerpt(title, 60), text.Visible(o.Name)), func(ctx context.Context) error {
				_, err := f.Repo.Do(ctx, "tag", "-a", "-m", cmp.Or(o.Text, o.Name), "--", o.Name, at)
				return git.Fault(err, "git cannot make the tag")
			})
			p.undo(f, "tag", "-d", "--", o.Name)
		}
		if o.Here {
			return nil
		}
		h, err := b.hook(ctx)
		if err != nil {
			return err
		}
		out, err := f.Repo.Do(ctx, "rev-list", "--count", "-1", at, "--not", "--remotes="+b.Remote)
		if err != nil {
			return git.Fault(err, "git cannot compare here and there")
		}
		if out != "0" {
			p.Notes = append(p.Notes, "Its commit was not sent so far; it goes along, and the branch does not.")
		}
		p.add("send", plan.Host, "Send the tag", func(ctx context.Context) error {
			return project.Push(ctx, d, h, []string{"push", "--porcelain", "--", h.Remote, "refs/tags/" + o.Name + ":refs/tags/" + o.Name})
		})
		return nil
	})
}
