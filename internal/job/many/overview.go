// Package many does for all projects of a machine what others do for one: the board, asking many
// hosts side by side, sync of all, finding copies that are about, cloning several. It costs what
// changed, not what there is.
package many

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/foreseeing"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Row is one project on the board.
type Row struct {
	Folder   string         `json:"folder"`
	Name     string         `json:"name"`
	Address  string         `json:"address"`
	Account  string         `json:"account,omitempty"`
	Branch   string         `json:"branch,omitempty"`
	State    string         `json:"state" says:"missing, broken, unfinished, no branch, elsewhere, no answer, refused, not asked, clash, overlap, both, unsent, changed, gone, behind, offered, empty or in step"`
	Says     string         `json:"says,omitempty"`
	Ahead    int            `json:"ahead" says:"commits that are only here"`
	Behind   int            `json:"behind" says:"commits that are only on the host, as last seen"`
	Moved    bool           `json:"moved" says:"the host has commits that were not received yet"`
	Changed  map[string]int `json:"changed,omitempty"`
	Branches []string       `json:"branches_only_here,omitempty"`
	Others   []string       `json:"branches_not_received,omitempty" says:"other branches of which the host has commits that are not here"`
	Stashes  int            `json:"stashes,omitempty"`
	Rescues  int            `json:"rescue_copies,omitempty"`
	Offers   int            `json:"offers,omitempty" says:"offers to merge of others that the account may accept, where the host tells of all at once"`
	Remedies []string       `json:"remedies,omitempty" says:"commands to go on with"`
	Contact  time.Time      `json:"contact,omitzero" says:"when the host last answered"`
	rank     int
}

// ToForget gives the entries of the register that are named by their folders, or all whose folders
// are missing.
func ToForget(d *desk.Desk, folders []string, missing bool) ([]project.Project, error) {
	all, err := project.Register(d)
	if err != nil {
		return nil, err
	}
	if missing {
		return slices.DeleteFunc(all, project.FolderExists), nil
	}
	var out []project.Project
	for _, given := range folders {
		at, err := filepath.Abs(given)
		if err != nil {
			return nil, err
		}
		if real, err := filepath.EvalSymlinks(at); err == nil {
			at = real
		}
		found := false
		for _, p := range all {
			if p.Folder == at {
				out, found = append(out, p), true
			}
		}
		if !found {
			return nil, fault.New(fault.Failed, "no project is registered in %s", text.Visible(at)).Try("see the projects", "uncinate project list")
		}
	}
	return out, nil
}

// Forget takes entries out of the register.
func Forget(ctx context.Context, d *desk.Desk, which []project.Project) error {
	return project.Alter(ctx, d, func(all []project.Project) []project.Project {
		return slices.DeleteFunc(all, func(p project.Project) bool {
			return slices.ContainsFunc(which, func(q project.Project) bool { return p.Folder == q.Folder && p.Remote == q.Remote })
		})
	})
}

// Overview tells where all projects stand, the worst first. With ask, the hosts are asked
// meanwhile.
func Overview(ctx context.Context, d *desk.Desk, ask bool) ([]Row, error) {
	all, err := project.AttachedHere(ctx, d)
	if err != nil {
		return nil, err
	}
	rows := make([]Row, len(all))
	facts := make([]board.Facts, len(all))
	seen := make([]*project.Local, len(all))
	var answers map[string]project.Answer
	var waiting map[string]int
	var beside sync.WaitGroup
	if ask {
		there := slices.DeleteFunc(slices.Clone(all), func(p project.Project) bool { return !project.FolderExists(p) })
		beside.Go(func() {
			answers = askAll(ctx, d, there, usualJobs, func(int) {})
		})
		beside.Go(func() { waiting = askOffers(ctx, d, there) })
	}
	looking, within := errgroup.WithContext(ctx)
	looking.SetLimit(runtime.GOMAXPROCS(0))
	for i, p := range all {
		looking.Go(func() error {
			rows[i], facts[i], seen[i] = row(within, d, p)
			return within.Err()
		})
	}
	err = looking.Wait()
	beside.Wait()
	if err != nil {
		return nil, err
	}
	if ask {
		for i, p := range all { // plain git moved its remote since it was registered
			if l := seen[i]; l != nil && l.URL != "" && project.KeyOf(l.URL) != project.KeyOf(p.Address) {
				answers[p.Folder] = project.Answer{Err: errSlow}
			}
		}
		askSlowly(ctx, d, all, answers)
	}
	var refused []project.Project
	for _, p := range all {
		if fault.Is(answers[p.Folder].Err, fault.HostSaidNo) {
			refused = append(refused, p)
		}
	}
	went := project.WentTo(ctx, d, refused)
	for i, p := range all {
		if there, found := went[p.Folder]; found {
			facts[i].NowAt = there.Path()
		}
		if a, asked := answers[p.Folder]; asked && seen[i] != nil {
			compareTold(ctx, d, seen[i], a, &facts[i], &rows[i])
		}
		r := &rows[i]
		if ask && seen[i] != nil {
			meets(ctx, d, p, seen[i], answers[p.Folder], &facts[i])
		}
		r.Offers = waiting[p.Folder]
		facts[i].Offers = r.Offers
		r.State, r.Says, r.rank = facts[i].Word()
		r.Moved = facts[i].Moved
		r.Others = facts[i].Others
		if r.State != facts[i].Reply || len(r.Remedies) == 0 {
			r.Remedies = remediesFor(facts[i], r.Folder)
		}
	}
	shortest(rows)
	slices.SortStableFunc(rows, func(a, b Row) int { return cmp.Or(a.rank-b.rank, strings.Compare(a.Name, b.Name)) })
	return rows, nil
}

// remediesFor gives the commands that a project's state asks for.
func remediesFor(f board.Facts, folder string) []string {
	syncs := []string{text.Command("uncinate", "sync", folder)}
	state, _, _ := f.Word()
	switch {
	case f.CutOff && !f.Lost && f.Broken == "":
		return syncs
	case state == "gone" && f.HeldBy != "":
		return []string{text.Command("uncinate", "branch", "switch", f.HeldBy, "--folder", folder)}
	case state == "behind" && f.Behind == 0 && !f.Moved:
		var out []string
		for _, b := range f.Others[:min(len(f.Others), desk.MostShown)] {
			out = append(out, text.Command("uncinate", "branch", "switch", b, "--folder", folder))
		}
		return append(out, syncs...)
	}
	switch state {
	case "unsent":
		if f.Follows {
			return nil
		}
		return syncs
	case "offered":
		return []string{text.Command("uncinate", "offer", "list", "--folder", folder)}
	case "missing":
		return []string{text.Command("uncinate", "project", "find", filepath.Dir(folder)), "uncinate project forget --missing"}
	case "no branch":
		return desk.Commands(project.OnNoBranch(folder))
	case "broken", "unfinished":
		return []string{text.Command("git", "-C", folder, "status")}
	case "no answer", "refused", "not asked":
		return []string{text.Command("uncinate", "ready", folder)}
	case "elsewhere", "both", "behind", "gone":
		return syncs
	case "clash":
		return []string{text.Command("uncinate", "settle", "--folder", folder)}
	case "overlap":
		return []string{text.Command("uncinate", "changes", "--folder", folder), text.Command("uncinate", "sync", folder)}
	case "changed":
		return []string{text.Command("uncinate", "changes", "--folder", folder), text.Command("uncinate", "sync", "--save", "--message", "What was done", folder)}
	}
	return nil
}

// compareTold puts in what the host said.
func compareTold(ctx context.Context, d *desk.Desk, l *project.Local, a project.Answer, f *board.Facts, r *Row) {
	if a.Err != nil {
		f.Refused, f.Reply = fault.Of(a.Err).Says, replyOf(a.Err)
		r.Remedies = desk.Commands(fault.Of(a.Err))
		return
	}
	if err := project.Touch(l.Common, project.TagsSeen(l.Common)); err == nil {
		r.Contact = d.Now().UTC()
	}
	there := a.Refs.Branch(l.Branch)
	known, ours := l.Refs["refs/remotes/"+l.Remote+"/"+l.Branch], l.Refs["refs/heads/"+l.Branch]
	f.Moved = there != "" && there != known && there != ours
	f.Gone = there == "" && known != "" && ours != ""
	if f.Gone {
		f.HeldBy = project.HeldOnHost(ctx, l.Repo, l, ours, a.Refs)
	}
	f.Others = project.NotReceived(ctx, l.Repo, l, l.Branch, a.Refs)
	if there != "" && there == ours {
		f.Ahead, f.Behind, f.Unsent = 0, 0, false
	}
}

// meets adds what was changed on both sides, as far as it is here already.
func meets(ctx context.Context, d *desk.Desk, p project.Project, l *project.Local, a project.Answer, f *board.Facts) {
	if a.Err != nil || l.Status == nil || l.Repo == nil || len(l.Status.Entries) == 0 && f.Ahead == 0 || f.Behind == 0 && !f.Moved && len(f.Others) == 0 {
		return
	}
	folder := &project.Folder{Path: p.Folder, Repo: l.Repo, IsRepo: true, Branch: l.Branch, Head: l.Status.Commit}
	if err := folder.ReadSettings(ctx, d); err != nil { // it says what must not run
		return
	}
	seen, err := foreseeing.Look(ctx, d, folder, foreseeing.Options{Remote: l.Remote, Heads: heads(a.Refs), Tracked: l.Refs, Status: l.Status})
	if err == nil { // it is a hint; status of that project says what is in the way of it
		f.Clash, f.Meets = seen.Clash, paths(seen.Files)
	}
}

// makeSafe keeps what a project's own configuration names from running when it is looked at. Where
// that was read and holds nothing of the kind, no run of git is needed.
func makeSafe(ctx context.Context, d *desk.Desk, repo *git.Repo, l *project.Local) error {
	err := git.Ordinary(repo.Dir)
	if err != nil || l != nil && l.Plain {
		return err
	}
	return (&project.Folder{Path: repo.Dir, Repo: repo}).ReadSettings(ctx, d)
}

// row looks at one project; by one run of git where it is as usual.
func row(ctx context.Context, d *desk.Desk, p project.Project) (Row, board.Facts, *project.Local) {
	r := Row{Folder: p.Folder, Address: p.Address, Account: p.Account}
	var f board.Facts
	if !project.FolderExists(p) {
		f.Lost = true
		return r, f, nil
	}
	l, glanced := project.Glance(d, p)
	if glanced != nil && !errors.Is(glanced, git.ErrOtherForm) {
		f.Broken = "it is no longer a git repository"
		if files.KindOf(filepath.Join(p.Folder, ".git")) != files.None {
			f.Broken = "its git folder cannot be read"
		}
		return r, f, nil
	}
	if l != nil && l.URL == "" {
		f.Broken = "the remote by which it was attached is gone"
		return r, f, nil
	}
	g, err := d.Git(ctx)
	if err != nil {
		f.Broken = err.Error()
		return r, f, nil
	}
	repo := g.In(p.Folder)
	if err := makeSafe(ctx, d, repo, l); err != nil {
		f.Broken = fault.Of(err).Says
		return r, f, nil
	}
	if l == nil {
		l = &project.Local{Remote: p.Remote}
		if l.Own, l.Common, err = git.Folders(p.Folder); err == nil {
			l.Refs, err = repo.LocalRefs(ctx, l.Common)
		}
	}
	var st *git.Status
	if err == nil {
		st, err = repo.Status(ctx, false)
	}
	if err != nil {
		f.Broken = "git cannot work with it"
		var said *git.Error
		if errors.As(err, &said) {
			if lines := said.Lines(1); len(lines) > 0 {
				f.Broken = strings.TrimPrefix(strings.TrimPrefix(lines[0], "fatal: "), "error: ")
			}
		}
		return r, f, nil
	}
	if l.Branch == "" {
		l.Branch = st.Branch
	}
	r.Branch, r.Ahead, r.Behind, r.Changed, r.Stashes = st.Branch, st.Ahead, st.Behind, st.Counts(), st.Stashes
	r.Contact, r.Rescues = project.Contact(l.Common), worktree.CopiesKept(l.Common)
	r.Branches = project.OnlyHere(ctx, d, repo, l, st)
	known := l.Refs["refs/remotes/"+l.Remote+"/"+st.Branch]
	f = board.Facts{Follows: p.ReceivesOnly, Detached: st.Branch == "", Unfinished: l.Unfinished, CutOff: l.CutOff, Empty: st.Commit == "", Unsent: st.Commit != "" && st.Branch != "" && known == "", Ahead: st.Ahead, Behind: st.Behind,
		Changed: r.Changed, Branches: r.Branches, Stashes: st.Stashes, Others: project.NotReceived(ctx, repo, l, st.Branch, web.Refs{})}
	l.Repo, l.Status = repo, st
	if known != "" && st.Commit != "" && st.Upstream != l.Remote+"/"+st.Branch { // git compared it with another branch, or with none
		if f.Ahead, f.Behind, err = project.Apart(ctx, repo, st.Commit, known); err != nil {
			f.Broken = fault.Of(err).Says
			return r, f, nil
		}
		r.Ahead, r.Behind = f.Ahead, f.Behind
	}
	return r, f, l
}

// shortest gives each row the shortest name that no other has.
func shortest(rows []Row) {
	for depth := 1; depth < 6; depth++ {
		count := map[string]int{}
		for i := range rows {
			if depth == 1 || rows[i].Name == "" {
				rows[i].Name = tailOf(rows[i].Folder, depth)
			}
			count[rows[i].Name]++
		}
		again := false
		for i := range rows {
			if count[rows[i].Name] > 1 {
				rows[i].Name, again = "", true
			}
		}
		if !again {
			return
		}
	}
	for i := range rows {
		if rows[i].Name == "" {
			rows[i].Name = rows[i].Folder
		}
	}
}

func tailOf(path string, depth int) string {
	parts := strings.Split(filepath.ToSlash(path), "/")
	return strings.Join(parts[max(0, len(parts)-depth):], "/")
}
