package job

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Standing is where a project's work stands.
type Standing struct {
	Folder   string         `json:"folder"`
	Address  string         `json:"address"`
	Page     string         `json:"page,omitempty"`
	Account  string         `json:"account,omitempty"`
	Branch   string         `json:"branch"`
	Commit   string         `json:"commit,omitempty"`
	Ahead    int            `json:"ahead"`  // commits that are only here
	Behind   int            `json:"behind"` // commits that are only there, as far as they were brought in
	Unsent   bool           `json:"unsent"` // the branch is not on the host at all
	Asked    bool           `json:"asked"`  // whether the host was asked just now
	Moved    bool           `json:"moved"`  // the host holds commits that were not brought in yet
	WhyNot   string         `json:"no_answer,omitempty" says:"why the host told nothing"`
	NowAt    string         `json:"now_at,omitempty" says:"where its repository lies now: it was renamed, or given to another owner"`
	Changed  map[string]int `json:"changed"` // files by what happened to them: new, changed, deleted, renamed, clashing
	Branches []string       `json:"branches_only_here,omitempty" says:"other branches whose commits are nowhere but here"`
	Stashes  int            `json:"stashes,omitempty"`
	Rescues  int            `json:"rescue_copies,omitempty"`

	ours, theirs string // the commits here and, as git knows it, there
	status       *git.Status
}

// Clean reports whether every file is as in the last commit.
func (s *Standing) Clean() bool { return len(s.Changed) == 0 }

// Status tells where one project stands. With ask, the host is asked too; one that
// cannot be asked is told of, and is no error.
func (d *Desk) Status(ctx context.Context, given string, ask bool) (*Standing, error) {
	f, p, err := d.projectFor(ctx, given)
	if err != nil {
		return nil, err
	}
	s, err := d.stand(ctx, f, p)
	if err != nil {
		return nil, err
	}
	if l, err := d.glance(p); err == nil { // in another form than files only git reads them: it is told less then
		s.Branches, s.Rescues = d.onlyHere(ctx, f.repo, l, s.status), copiesKept(l.common)
	}
	s.Stashes = s.status.Stashes
	if !ask {
		return s, nil
	}
	h, err := d.hookOf(ctx, f, p)
	if err != nil {
		s.WhyNot = fault.Of(err).Says
		return s, ctx.Err()
	}
	refs, err := d.refs(ctx, h, "")
	if err != nil {
		s.WhyNot = fault.Of(err).Says
		if fault.Is(err, fault.HostSaidNo) {
			if there, found := d.wentTo(ctx, []Project{p})[p.Folder]; found {
				s.NowAt = there.Path()
			}
		}
		return s, ctx.Err()
	}
	s.Asked = true
	if l, err := d.glance(p); err == nil {
		if err := touch(l.common, tagsSeen(l.common)); err != nil {
			return nil, err
		}
	}
	there := refs.Branch(s.Branch)
	s.Moved = there != "" && there != s.theirs && there != s.ours
	s.Unsent = s.Commit != "" && there == ""
	if there != "" && there == s.ours {
		s.Ahead, s.Behind = 0, 0
	}
	return s, nil
}

// stand reads the work tree and what git knows of the host, without asking it.
func (d *Desk) stand(ctx context.Context, f *folder, p Project) (*Standing, error) {
	s, err := standHere(ctx, f, p, false)
	if err != nil {
		return nil, err
	}
	if id, err := f.repo.Do(ctx, "rev-parse", "-q", "--verify", "refs/remotes/"+p.Remote+"/"+f.branch+"^{commit}"); err == nil {
		s.theirs = id
	} else if s.Commit != "" {
		s.Unsent = true
	}
	return s, nil
}

// standHere reads the work tree alone, with the ignored files if they are wanted.
func standHere(ctx context.Context, f *folder, p Project, ignored bool) (*Standing, error) {
	s := &Standing{Folder: f.path, Address: p.Address, Page: p.Page, Account: p.Account, Branch: f.branch, Commit: f.head, ours: f.head}
	st, err := f.repo.Status(ctx, ignored)
	if err != nil {
		return nil, gitFault(err, "git cannot tell what changed")
	}
	s.status, s.Ahead, s.Behind, s.Changed = st, st.Ahead, st.Behind, st.Counts()
	return s, nil
}

// contactFile is where it is noted, by its time, when the host of a project was last asked.
func contactFile(common string) string { return filepath.Join(common, "uncinate", "asked") }

// noteContact notes that the host of a project answered, and what tags it told of.
func (d *Desk) noteContact(f *folder, told web.Refs) error {
	_, common, err := git.Folders(f.path)
	if err != nil {
		return err
	}
	tags := tagsOf(told)
	if len(tagNames(told)) == 0 {
		tags = tagsSeen(common) // a list of branches alone says nothing of tags
	}
	return touch(common, tags)
}

// touch notes that a host answered just now, and the tags that were seen to.
func touch(common, tags string) error {
	if err := os.MkdirAll(filepath.Dir(contactFile(common)), 0o700); err != nil {
		return err
	}
	return os.WriteFile(contactFile(common), []byte(tags), 0o600)
}

// tagNames lists the tags that a host told of.
func tagNames(told web.Refs) []string {
	var out []string
	for ref := range told.IDs {
		if strings.HasPrefix(ref, "refs/tags/") && !strings.HasSuffix(ref, "^{}") {
			out = append(out, ref)
		}
	}
	slices.Sort(out)
	return out
}

// tagsOf is a short form of the tags that a host told of, to know them again: some never
// come, since nothing that is brought in leads to them.
func tagsOf(told web.Refs) string {
	var b strings.Builder
	for _, ref := range tagNames(told) {
		b.WriteString(ref + " " + told.IDs[ref] + "\n")
	}
	return files.Short(b.String())
}

// tagsSeen is that form as it was when the host was last asked.
func tagsSeen(common string) string {
	data, err := files.Read(contactFile(common), 1<<10)
	if err != nil {
		return ""
	}
	return string(data)
}
