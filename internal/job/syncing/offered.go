package syncing

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/offering"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// Over is an offer of the branch that was accepted or closed.
type Over struct {
	offering.Made
	Branch string `json:"branch"`
	Newer  int    `json:"newer_commits,omitempty" says:"commits of the branch that were not in it"`
}

// Says tells of it in a sentence.
func (o Over) Says() string {
	by := text.Either(o.By == "", "", " by "+text.Visible(o.By))
	if o.State == "closed" {
		return fmt.Sprintf("offer %s of %s was closed%s without being merged", text.Visible(o.Number), text.Visible(o.Branch), by)
	}
	return fmt.Sprintf("offer %s of %s was accepted into %s%s", text.Visible(o.Number), text.Visible(o.Branch), text.Visible(o.Target), by)
}

// offered asks the host what became of an offer that was made of the branch from here. It is a hint: where
// the host cannot be asked, nothing is known, and nothing depends on it.
func (s *Sync) offered(ctx context.Context) error {
	branch := s.folder.Branch
	m, noted := offering.NotesOf(s.desk, s.folder.Path).Made[branch]
	if !noted {
		return nil
	}
	if m.State == "open" {
		now, err := s.asked(ctx, m)
		if err != nil {
			if ctx.Err() == nil {
				s.desk.Log.Debug("offer not asked about", "number", m.Number, "why", err)
			}
			return ctx.Err()
		}
		if now.State == "open" || now.State == "" {
			return nil
		}
		m = now
		if err := offering.NoteMade(ctx, s.desk, s.folder.Path, branch, m); err != nil {
			return err
		}
	}
	s.over = &Over{Made: m, Branch: branch}
	return nil
}

// asked asks for an offer by its number.
func (s *Sync) asked(ctx context.Context, m offering.Made) (offering.Made, error) {
	a, err := accounts.Named(s.desk, m.Account)
	if err != nil {
		return m, err
	}
	l, err := login.Open(ctx, s.desk, a)
	if err != nil || l.Host.Actions["offer-show"] == nil {
		return m, err
	}
	r := description.Repository{Owner: m.Owner, Name: m.Name}
	main, err := project.MainOf(ctx, s.desk, s.folder)
	if err == nil { // it may have been renamed since
		if _, owner, name := hosts.RecogniseAmong([]*hosts.Host{l.Host}, main.Address); name != "" {
			r.Owner, r.Name = owner, name
		}
	}
	o, found, err := offering.Show(ctx, l, r, m.Number)
	if err != nil || !found {
		return m, err
	}
	m.State, m.Head, m.Merged, m.By, m.Owner, m.Name = o.State, o.Head, o.Merged, o.EndedBy, r.Owner, r.Name
	return m, nil
}

// toldOver is what is told of an offer that is over, at the end; nil where nothing is.
func (s *Sync) toldOver(ctx context.Context, head string) *Over {
	if s.over == nil || head == "" {
		return nil
	}
	if s.over.Head != "" && s.over.Head != head {
		_, n, err := project.Apart(ctx, s.folder.Repo, s.over.Head, head)
		if err == nil {
			s.over.Newer = n
		}
	}
	return s.over
}

// goneOver says of a branch that is no longer there that it was accepted; nil where that is not known.
func (s *Sync) goneOver() *fault.Fault {
	if s.over == nil || s.over.State != "accepted" {
		return nil
	}
	f := fault.New(fault.Decision, "%s, and the branch is no longer on the host", s.over.Says())
	f.Detail("All that you have of it is still here.")
	if s.over.Head != "" && s.over.Head != s.stand.Ours {
		return f.Detail("Yours has commits that were not in it.").Try("offer them too", text.Command(s.words("offer", "create")...))
	}
	return f.Try("go on from "+text.Visible(s.over.Target)+", and remove it here", text.Command(s.words("branch", "remove", s.over.Branch)...)+" && "+text.Command(s.words("sync")...))
}

// copyInStep brings the copy of one's own in step with the original: the original's default branch is received
// and sent there.
func (s *Sync) copyInStep(ctx context.Context, out *Synced) error {
	if !s.project.Own {
		return nil
	}
	main, err := project.MainOf(ctx, s.desk, s.folder)
	if err != nil {
		return err
	}
	sent, err := s.fromOriginal(ctx, main)
	if err != nil && fault.Is(err, fault.HostSaidNo) {
		if there, moved := project.WentTo(ctx, s.desk, []project.Project{main})[s.folder.Path]; moved {
			if err = project.Follow(ctx, s.desk, []project.Project{main}, there); err == nil {
				s.desk.Tell.Note("%s is called %s now; this project follows.", text.Visible(main.Address), text.Visible(there.Path()))
				s.folder, err = project.Look(ctx, s.desk, s.folder.Path)
			}
			if err == nil {
				s.folder.ReadRemotes(s.desk)
				if main, err = project.MainOf(ctx, s.desk, s.folder); err == nil {
					sent, err = s.fromOriginal(ctx, main)
				}
			}
		}
	}
	if err != nil {
		f := *fault.Of(err)
		f.Details = append(slices.Clone(f.Details), fmt.Sprintf("The branch is in step; only your copy is not in step with %s.", text.Visible(main.Address)))
		return &f
	}
	out.Copy = sent
	return nil
}

// fromOriginal receives the original's default branch, and sends it to the copy, if that has it not; it
// gives the branch, or "".
func (s *Sync) fromOriginal(ctx context.Context, main project.Project) (string, error) {
	h, err := project.TieOf(ctx, s.desk, s.folder, main)
	if err != nil {
		return "", err
	}
	told, err := project.Refs(ctx, s.desk, h, "")
	if err != nil {
		return "", err
	}
	branch := cmp.Or(told.Head, "main")
	id := told.Branch(branch)
	if id == "" || branch == s.folder.Branch {
		return "", nil
	}
	track := "refs/remotes/" + h.Remote + "/" + branch
	if now, err := s.folder.Repo.Resolve(ctx, track); err != nil || now != id {
		work, err := s.folder.Work()
		if err == nil {
			err = project.Receive(ctx, s.desk, work, h.Shared(), "--", h.Remote, "refs/heads/"+branch+":"+track)
		}
		if err != nil {
			return "", git.Fault(err, "git could not receive %s from %s", text.Visible(branch), h.Address.String())
		}
	}
	there := s.refs.Branch(branch)
	if there == id {
		return "", nil
	}
	if there != "" {
		if _, err := s.folder.Repo.Do(ctx, "merge-base", "--is-ancestor", there, id); err != nil {
			return "", fault.New(fault.Decision, "%s in your copy has commits that %s does not have", text.Visible(branch), h.Address.String()).
				Try("see them", text.Command("uncinate", "history", "--branch", branch, "--folder", s.folder.Path))
		}
	}
	err = project.Push(ctx, s.desk, s.tie, project.Sending{Refs: []project.Sent{{From: track, To: "refs/heads/" + branch}}})
	return branch, err
}

// tries reports whether the branch is that of somebody else's offer, which is tried here and never sent.
func (s *Sync) tries() bool {
	number := offering.NotesOf(s.desk, s.folder.Path).Tried[s.folder.Branch]
	return number != "" && s.refs.Branch(s.folder.Branch) == ""
}
