package job

import (
	"context"
	"strconv"
	"strings"

	"uncinate/internal/core/fault"
)

// Standing is where a project's work stands.
type Standing struct {
	Folder  string         `json:"folder"`
	Address string         `json:"address"`
	Page    string         `json:"page,omitempty"`
	Account string         `json:"account,omitempty"`
	Branch  string         `json:"branch"`
	Commit  string         `json:"commit,omitempty"`
	Ahead   int            `json:"ahead"`  // commits that are only here
	Behind  int            `json:"behind"` // commits that are only there, as far as they were brought in
	Unsent  bool           `json:"unsent"` // the branch is not on the host at all
	Asked   bool           `json:"asked"`  // whether the host was asked just now
	Moved   bool           `json:"moved"`  // the host holds commits that were not brought in yet
	WhyNot  string         `json:"why_not_asked,omitempty"`
	Changed map[string]int `json:"changed"` // files by what happened to them: new, changed, deleted, renamed, clashing

	ours, theirs string // the commits here and, as git knows it, there
	upstream     string // the remote-tracking branch's full name
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
	if err != nil || !ask {
		return s, err
	}
	h, err := d.hookOf(ctx, f, p)
	if err != nil {
		s.WhyNot = fault.Of(err).Says
		return s, ctx.Err()
	}
	refs, err := d.refs(ctx, h, "")
	if err != nil {
		s.WhyNot = fault.Of(err).Says
		return s, ctx.Err()
	}
	s.Asked = true
	there := refs.Branch(s.Branch)
	s.Moved = there != "" && there != s.theirs && there != s.ours
	s.Unsent = s.Commit != "" && there == ""
	if there != "" && there == s.ours {
		s.Ahead, s.Behind = 0, 0
	}
	return s, nil
}

// stand reads the work tree and what git knows of the host, without asking it
// (git-status documentation, "Porcelain Format Version 2").
func (d *Desk) stand(ctx context.Context, f *folder, p Project) (*Standing, error) {
	s := &Standing{Folder: f.path, Address: p.Address, Page: p.Page, Account: p.Account, Branch: f.branch, Commit: f.head, ours: f.head, Changed: map[string]int{}}
	items, err := f.repo.Lines(ctx, "status", "--porcelain=v2", "--branch", "-z", "--untracked-files=all")
	if err != nil {
		return nil, gitFault(err, "git cannot tell what changed")
	}
	for i := 0; i < len(items); i++ {
		fields := strings.SplitN(items[i], " ", 3)
		switch fields[0] {
		case "#":
			if fields[1] == "branch.ab" && len(fields) == 3 {
				ahead, behind, _ := strings.Cut(fields[2], " ")
				s.Ahead, _ = strconv.Atoi(strings.TrimPrefix(ahead, "+"))
				s.Behind, _ = strconv.Atoi(strings.TrimPrefix(behind, "-"))
			}
		case "?":
			s.Changed["new"]++
		case "1":
			switch {
			case strings.Contains(fields[1], "D"):
				s.Changed["deleted"]++
			case strings.Contains(fields[1], "A"):
				s.Changed["new"]++
			default:
				s.Changed["changed"]++
			}
		case "2":
			s.Changed["renamed"]++
			i++ // the path it had before
		case "u":
			s.Changed["clashing"]++
		}
	}
	s.upstream = "refs/remotes/" + p.Remote + "/" + f.branch
	if id, err := f.repo.Do(ctx, "rev-parse", "-q", "--verify", s.upstream+"^{commit}"); err == nil {
		s.theirs = id
	} else if s.Commit != "" {
		s.Unsent = true
	}
	return s, nil
}
