package history

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/mod/semver"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
)

// ListedTag is a tag of a project.
type ListedTag struct {
	Name    string    `json:"name"`
	Commit  string    `json:"commit"`
	Created time.Time `json:"created"`
	Who     string    `json:"who" says:"who made the tag, or the commit of one without a message"`
	Message string    `json:"message,omitempty" says:"its first line"`
}

// Tags lists the tags here, the newest first (git-for-each-ref documentation, FIELD NAMES).
func Tags(ctx context.Context, d *desk.Desk, given string) ([]ListedTag, error) {
	f, err := worktree.LooseAt(ctx, d, given)
	if err != nil {
		return nil, err
	}
	out, err := f.Repo.Do(ctx, "for-each-ref", "--sort=-creatordate", "refs/tags/",
		"--format=%(refname:strip=2)%00%(objectname)%00%(*objectname)%00%(creatordate:unix)%00%(taggername)%00%(authorname)%00%(contents:subject)")
	if err != nil {
		return nil, git.Fault(err, "git cannot list the tags")
	}
	var all []ListedTag
	for line := range strings.Lines(out) {
		x := strings.Split(strings.TrimSuffix(line, "\n"), "\x00")
		if len(x) != 7 {
			continue
		}
		seconds, _ := strconv.ParseInt(x[3], 10, 64) // "" for what is not a commit
		t := ListedTag{Name: x[0], Commit: cmp.Or(x[2], x[1]), Created: time.Unix(seconds, 0).UTC(), Who: cmp.Or(x[4], x[5])}
		if x[2] != "" {
			t.Message = x[6]
		}
		all = append(all, t)
	}
	return all, nil
}

// RemoveTag plans to remove a tag, here and on the host. Commits that nothing else holds are
// kept as a rescue copy.
func RemoveTag(ctx context.Context, d *desk.Desk, given, name string, hereOnly, hostOnly bool) (*BranchPlan, error) {
	line := sided(hereOnly, hostOnly, "tag", "remove", name)
	return planBranches(ctx, d, given, "To remove the tag "+name+":", line, func(b *Branching, p *BranchPlan) error {
		f, ref := b.folder, "refs/tags/"+name
		p.AsWas = "The tags are as they were."
		if _, err := f.Repo.Do(ctx, "check-ref-format", ref); err != nil || strings.HasPrefix(name, "-") {
			return fault.New(fault.Usage, "%s is not a name for a tag", text.Quote(name))
		}
		own, onHost := b.Refs[ref], ""
		var h *project.Tie
		if !hereOnly && b.Remote != "" {
			var err error
			if h, err = b.tie(ctx); err != nil {
				return err
			}
			told, err := project.Refs(ctx, d, h, "")
			if err != nil {
				return fault.Of(err).Try("remove it here only", text.Command("uncinate", "tag", "remove", name, "--here"))
			}
			onHost = told.IDs[ref]
		}
		if hostOnly {
			own = ""
		}
		if own == "" && onHost == "" && p.before != nil {
			p.Notes = append(p.Notes, "It was removed before this was cut off.")
			return nil
		}
		if own == "" && onHost == "" {
			return fault.New(fault.Failed, "there is no tag %s", text.Visible(name)).Try("see the tags", "uncinate tag list")
		}
		if onHost != "" {
			if _, err := f.Repo.Resolve(ctx, onHost+"^{}"); err != nil {
				return fault.New(fault.Decision, "the host's tag %s is another one, which is not here", text.Visible(name)).
					Try("remove yours first, then receive the host's to look at", text.Command("uncinate", "tag", "remove", name, "--here"))
			}
		}
		if err := keepTagged(ctx, d, p, f, name, own, onHost); err != nil {
			return err
		}
		if own != "" {
			p.add("remove", plan.Here, "Remove the tag "+text.Visible(name), func(ctx context.Context) error {
				return worktree.DropRef(ctx, f.Repo, ref, own)
			})
		}
		if onHost != "" {
			p.add("remove on host", plan.Host, "Remove the tag "+text.Visible(name)+" on the host, if nobody moved it meanwhile", func(ctx context.Context) error {
				return project.Push(ctx, d, h, project.Sending{Refs: []project.Sent{{To: ref, Was: onHost}}})
			})
		}
		return nil
	})
}

// keepTagged keeps a rescue copy of commits that only a tag that goes holds.
func keepTagged(ctx context.Context, d *desk.Desk, p *BranchPlan, f *project.Folder, name string, ids ...string) error {
	args := []string{"rev-list", "--count"}
	var going []worktree.Moving
	for _, id := range ids {
		if id == "" {
			continue
		}
		commit, err := f.Repo.Resolve(ctx, id+"^{commit}")
		if err != nil {
			continue // a tag of what is not a commit holds none
		}
		going, args = append(going, worktree.Moving{Ref: "refs/tags/" + name, ID: commit}), append(args, commit)
	}
	if len(going) == 0 {
		return nil
	}
	out, err := f.Repo.Do(ctx, append(args, "--not", "--exclude=refs/tags/"+name, "--glob=refs/*")...)
	if err != nil || out == "0" {
		return git.Fault(err, "git cannot tell what would be lost")
	}
	r, err := worktree.RescuerOf(d, f)
	if err != nil {
		return err
	}
	p.Notes = append(p.Notes, "No branch holds its commit.")
	p.add("rescue", plan.Here, "Keep a rescue copy of its commits", func(ctx context.Context) error {
		n, err := r.Keep(ctx, "tag remove "+name, going, nil)
		if err == nil && n > 0 {
			d.Tell.Note("What it held is kept as rescue copy %d.", n)
		}
		return err
	})
	return nil
}

// TagOptions say what is to be tagged.
type TagOptions struct {
	Folder string
	Name   string
	At     string // a commit; "" for the one that is checked out
	Text   string
	Any    bool // the name need not be a version
	Here   bool // do not send it
}

// line is the command that makes the tag.
func (o TagOptions) line() []string {
	line := []string{"tag", "make", o.Name}
	if o.At != "" {
		line = append(line, o.At)
	}
	if o.Text != "" {
		line = append(line, "--message", o.Text)
	}
	if o.Any {
		line = append(line, "--any-name")
	}
	if o.Here {
		line = append(line, "--here")
	}
	return line
}

// MadeTag is a tag that was made.
type MadeTag struct {
	Tag     string `json:"tag"`
	Commit  string `json:"commit"`
	Message string `json:"message"`
	Sent    bool   `json:"sent" says:"the host has it too"`
}

// TagPlan is a plan to make a tag.
type TagPlan struct {
	BranchPlan
	Made MadeTag // once it is carried out
}

// Tag plans to tag a version and to send the tag.
func Tag(ctx context.Context, d *desk.Desk, o TagOptions) (*TagPlan, error) {
	made := MadeTag{Tag: o.Name, Message: cmp.Or(o.Text, o.Name), Sent: !o.Here}
	p, err := planBranches(ctx, d, o.Folder, "To tag "+o.Name+":", o.line(), func(b *Branching, p *BranchPlan) error {
		f := b.folder
		if _, err := f.Repo.Do(ctx, "check-ref-format", "refs/tags/"+o.Name); err != nil || strings.HasPrefix(o.Name, "-") {
			return fault.New(fault.Usage, "%s is not a name for a tag", text.Quote(o.Name))
		}
		v, is := version(o.Name)
		if !is && !o.Any {
			return fault.New(fault.Usage, "%s is not a version number such as 1.2.3", text.Quote(o.Name)).
				Try("to use that name anyway", text.Command("uncinate", "tag", "make", o.Name, "--any-name"))
		}
		at, err := f.Repo.Resolve(ctx, cmp.Or(o.At, "HEAD")+"^{commit}")
		if err != nil {
			return fault.New(fault.Failed, "there is no commit %s here", text.Visible(cmp.Or(o.At, "yet"))).Because(err)
		}
		made.Commit = at
		stands, _ := f.Repo.Resolve(ctx, "refs/tags/"+o.Name+"^{commit}") // "" for none
		if b.Refs["refs/tags/"+o.Name] != "" && (stands != at || o.Here && p.before == nil) {
			return fault.New(fault.Refused, "there is a tag %s already, and a tag is never moved", text.Visible(o.Name)).
				Try("see its commit", text.Command("git", "-C", f.Path, "show", "--stat", "refs/tags/"+o.Name))
		}
		if newest := latest(b.Refs); is && newest != "" {
			if other, _ := version(newest); semver.Compare(other, v) > 0 {
				p.Notes = append(p.Notes, "There is a later version already: "+text.Visible(newest)+".")
			}
		}
		if err := project.Signed(f); err != nil {
			return err
		}
		title, err := f.Repo.Do(ctx, "log", "-1", "--no-show-signature", "--format=%s", at)
		if err != nil {
			return git.Fault(err, "git cannot read the commit")
		}
		if stands == "" {
			p.add("tag", plan.Here, fmt.Sprintf("Tag %.10s (%s) as %s", at, text.Excerpt(title, 60), text.Visible(o.Name)), func(ctx context.Context) error {
				_, err := f.Repo.Do(ctx, "tag", "-a", "-m", cmp.Or(o.Text, o.Name), "--", o.Name, at)
				return git.Fault(err, "git cannot make the tag")
			})
			p.undo(f, "tag", "-d", "--", o.Name)
		}
		if o.Here {
			return nil
		}
		h, err := b.tie(ctx)
		if err != nil {
			return err
		}
		out, err := f.Repo.Do(ctx, "rev-list", "--count", "-1", at, "--not", "--remotes="+b.Remote)
		if err != nil {
			return git.Fault(err, "git cannot compare both sides")
		}
		if out != "0" {
			p.Notes = append(p.Notes, "Its commit was not sent yet; it is sent with the tag, and the branch is not.")
		}
		p.add("send", plan.Host, "Send the tag", func(ctx context.Context) error {
			return project.Push(ctx, d, h, project.Sending{Refs: []project.Sent{{From: "refs/tags/" + o.Name, To: "refs/tags/" + o.Name}}})
		})
		return nil
	})
	if err != nil {
		return nil, err
	}
	return &TagPlan{*p, made}, nil
}

// latest gives the tag of the highest version; "" where no tag is one.
func latest(refs map[string]string) string {
	newest := ""
	for _, ref := range slices.Sorted(maps.Keys(refs)) {
		name, tag := strings.CutPrefix(ref, "refs/tags/")
		v, is := version(name)
		if !tag || !is {
			continue
		}
		if was, _ := version(newest); newest == "" || semver.Compare(v, was) > 0 {
			newest = name
		}
	}
	return newest
}

// version reads a version number (Semantic Versioning 2.0.0), with the "v" before it that many
// write, and without; false where it is none, or a part of one.
func version(name string) (string, bool) {
	v := "v" + strings.TrimPrefix(name, "v")
	return v, semver.IsValid(v) && strings.HasPrefix(v, semver.Canonical(v))
}
