package job

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/world/git"
)

// Row is one project on the board.
type Row struct {
	Folder   string         `json:"folder"`
	Name     string         `json:"name"`
	Address  string         `json:"address"`
	Account  string         `json:"account,omitempty"`
	Branch   string         `json:"branch,omitempty"`
	State    string         `json:"state" says:"lost, broken, unfinished, no answer, both, unsent, changed, behind, empty or in step"`
	Says     string         `json:"says,omitempty"`
	Ahead    int            `json:"ahead" says:"commits that are only here"`
	Behind   int            `json:"behind" says:"commits that are only there, as far as they were brought in"`
	Moved    bool           `json:"moved" says:"the host holds commits that were not brought in yet"`
	Changed  map[string]int `json:"changed,omitempty"`
	Branches []string       `json:"branches_only_here,omitempty"`
	Stashes  int            `json:"stashes,omitempty"`
	Rescues  int            `json:"rescue_copies,omitempty"`
	Contact  time.Time      `json:"contact,omitzero" says:"when the host last answered"`
	rank     int
}

// local is what is read of a project without a process.
type local struct {
	own, common string
	remote      string
	branch      string
	refs        map[string]string
	url         string
	simple      bool // its remote is followed in the usual way
	unfinished  string
	pending     bool // a sync of ours was cut off
}

// glance reads a project's refs and its remote.
func (d *Desk) glance(p Project) (*local, error) {
	l := &local{}
	var err error
	if l.own, l.common, err = git.Folders(p.Folder); err != nil {
		return nil, err
	}
	config, err := git.ReadConfig(filepath.Join(l.common, "config"))
	if err != nil {
		return nil, err
	}
	remotes := map[string]string{}
	for key, urls := range config {
		if name, ok := strings.CutPrefix(key, "remote."); ok && strings.HasSuffix(name, ".url") && len(urls) > 0 {
			remotes[strings.TrimSuffix(name, ".url")] = urls[0]
		}
	}
	l.remote = remoteNow(p, remotes)
	l.url = remotes[l.remote]
	l.simple = slices.Equal(config["remote."+l.remote+".fetch"], []string{"+refs/heads/*:refs/remotes/" + l.remote + "/*"})
	if l.branch, err = git.ReadHead(l.own); err != nil {
		return nil, err
	}
	if l.refs, err = git.ReadRefs(l.common); err != nil {
		return nil, err
	}
	for _, x := range [][2]string{{"MERGE_HEAD", "a merge"}, {"rebase-merge", "a rebase"}, {"rebase-apply", "a rebase"}, {"CHERRY_PICK_HEAD", "a cherry-pick"}, {"REVERT_HEAD", "a revert"}} {
		if _, err := os.Lstat(filepath.Join(l.own, x[0])); err == nil {
			l.unfinished = x[1]
		}
	}
	_, err = os.Stat(d.Home.JournalAt("sync", p.Folder).Path())
	l.pending = err == nil
	return l, nil
}

// contact tells when the host of a project last answered: us, or plain git.
func contact(common string) time.Time {
	var last time.Time
	for _, path := range []string{contactFile(common), filepath.Join(common, "FETCH_HEAD")} {
		if s, err := os.Stat(path); err == nil && s.ModTime().After(last) {
			last = s.ModTime()
		}
	}
	return last.UTC()
}

// copiesKept counts the rescue copies of a project without a process.
func copiesKept(common string) int {
	refs, err := git.ReadRefs(filepath.Join(common, "uncinate", "rescue.git"))
	if err != nil {
		return 0 // none was ever made
	}
	n := 0
	for ref := range refs {
		if strings.HasPrefix(ref, copyRefs) {
			n++
		}
	}
	return n
}

// mains are the register's projects, without the places that only receive.
func (d *Desk) mains() ([]Project, error) {
	all, err := d.Register()
	seen := map[string]bool{}
	var out []Project
	for _, p := range slices.Backward(all) { // the newest entry of a folder counts
		if !p.Copy && !seen[p.Folder] {
			seen[p.Folder] = true
			out = append(out, p)
		}
	}
	slices.Reverse(out)
	return out, err
}

// ForgetLost takes the projects out of the register whose folders are not there any more.
func (d *Desk) ForgetLost() ([]Project, error) {
	var lost []Project
	err := d.alter(func(all []Project) []Project {
		return slices.DeleteFunc(all, func(p Project) bool {
			if folderExists(p) {
				return false
			}
			lost = append(lost, p)
			return true
		})
	})
	return lost, err
}

// hookedHere gives the projects that are worked on together; it is a fault when there is none.
func (d *Desk) hookedHere(ctx context.Context) ([]Project, error) {
	all, err := d.mains()
	if err == nil && len(all) == 0 {
		err = fault.New(fault.Decision, "no project is hooked on this machine so far").
			Try("hook one", "uncinate attach FOLDER").Try("bring one here", "uncinate clone REPOSITORY").Try("take in copies that are there already", "uncinate status --find FOLDER")
	}
	if err == nil {
		_, err = d.Git(ctx)
	}
	return all, err
}

// Overview tells where all projects stand, the worst first. With ask, the hosts are asked
// meanwhile.
func (d *Desk) Overview(ctx context.Context, ask bool) ([]Row, error) {
	all, err := d.hookedHere(ctx)
	if err != nil {
		return nil, err
	}
	rows := make([]Row, len(all))
	facts := make([]board.Facts, len(all))
	seen := make([]*local, len(all))
	var answers map[string]answer
	var beside sync.WaitGroup
	if ask {
		there := slices.DeleteFunc(slices.Clone(all), func(p Project) bool { return !folderExists(p) })
		beside.Go(func() { answers = d.askAll(ctx, there, usualJobs, func(int) {}) })
	}
	looking, within := errgroup.WithContext(ctx)
	looking.SetLimit(runtime.GOMAXPROCS(0))
	for i, p := range all {
		looking.Go(func() error {
			rows[i], facts[i], seen[i] = d.row(within, p)
			return within.Err()
		})
	}
	err = looking.Wait()
	beside.Wait()
	if err != nil {
		return nil, err
	}
	var refused []Project
	for _, p := range all {
		if fault.Is(answers[p.Folder].err, fault.HostSaidNo) {
			refused = append(refused, p)
		}
	}
	went := d.wentTo(ctx, refused)
	for i, p := range all {
		if there, found := went[p.Folder]; found {
			facts[i].NowAt = there.Path()
		}
		if a, asked := answers[p.Folder]; asked && seen[i] != nil && !errors.Is(a.err, errSlow) {
			d.compareTold(p, seen[i], a, &facts[i], &rows[i])
		}
		r := &rows[i]
		r.State, r.Says, r.rank = facts[i].Word()
		r.Moved = facts[i].Moved
	}
	shortest(rows)
	slices.SortStableFunc(rows, func(a, b Row) int { return cmp.Or(a.rank-b.rank, strings.Compare(a.Name, b.Name)) })
	return rows, nil
}

// compareTold puts in what the host said.
func (d *Desk) compareTold(p Project, l *local, a answer, f *board.Facts, r *Row) {
	if a.err != nil {
		f.Refused = fault.Of(a.err).Says
		return
	}
	if err := touch(l.common, tagsSeen(l.common)); err == nil {
		r.Contact = d.Now().UTC()
	}
	there := a.refs.Branch(l.branch)
	known, ours := l.refs["refs/remotes/"+l.remote+"/"+l.branch], l.refs["refs/heads/"+l.branch]
	f.Moved = there != "" && there != known && there != ours
	if there != "" && there == ours {
		f.Ahead, f.Behind, f.Unsent = 0, 0, false
	}
}

// row looks at one project; by one run of git where it is as usual.
func (d *Desk) row(ctx context.Context, p Project) (Row, board.Facts, *local) {
	r := Row{Folder: p.Folder, Address: p.Address, Account: p.Account}
	var f board.Facts
	if !folderExists(p) {
		f.Lost = true
		return r, f, nil
	}
	l, glanced := d.glance(p)
	if glanced != nil && !errors.Is(glanced, git.ErrOtherForm) {
		f.Broken = "it is no git repository any more"
		if _, e := os.Lstat(filepath.Join(p.Folder, ".git")); e == nil {
			f.Broken = "its git folder cannot be read"
		}
		return r, f, nil
	}
	if l != nil && l.url == "" {
		f.Broken = "the remote by which it was hooked is gone"
		return r, f, nil
	}
	g, err := d.Git(ctx)
	if err != nil {
		f.Broken = err.Error()
		return r, f, nil
	}
	repo := g.In(p.Folder)
	if l == nil {
		l = &local{remote: p.Remote}
		if l.own, l.common, err = git.Folders(p.Folder); err == nil {
			l.refs, err = repo.LocalRefs(ctx, l.common)
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
	if l.branch == "" {
		l.branch = st.Branch
	}
	r.Branch, r.Ahead, r.Behind, r.Changed, r.Stashes = st.Branch, st.Ahead, st.Behind, st.Counts(), st.Stashes
	r.Contact, r.Rescues = contact(l.common), copiesKept(l.common)
	r.Branches = d.onlyHere(ctx, repo, l, st)
	known := l.refs["refs/remotes/"+l.remote+"/"+st.Branch]
	f = board.Facts{Unfinished: l.unfinished, Empty: st.Commit == "", Unsent: st.Commit != "" && st.Branch != "" && known == "", Ahead: st.Ahead, Behind: st.Behind,
		Changed: r.Changed, Branches: r.Branches, Stashes: st.Stashes}
	if known != "" && known != st.Commit && st.Upstream == "" { // sent by plain git, which was not told to follow it
		if f.Ahead, f.Behind, err = apart(ctx, repo, st.Commit, known); err != nil {
			f.Broken = fault.Of(err).Says
			return r, f, nil
		}
		r.Ahead, r.Behind = f.Ahead, f.Behind
	}
	return r, f, l
}

// apart counts the commits that only one of two has.
func apart(ctx context.Context, repo *git.Repo, ours, theirs string) (ahead, behind int, err error) {
	out, err := repo.Do(ctx, "rev-list", "--count", "--left-right", ours+"..."+theirs)
	if err == nil {
		_, err = fmt.Sscanf(out, "%d %d", &ahead, &behind)
	}
	return ahead, behind, gitFault(err, "git cannot compare here and there")
}

// onlyHere lists the branches, but for the one that is checked out, whose commits no
// remote is known to hold.
func (d *Desk) onlyHere(ctx context.Context, repo *git.Repo, l *local, st *git.Status) []string {
	held := map[string]bool{}
	for ref, id := range l.refs {
		if strings.HasPrefix(ref, "refs/remotes/") {
			held[id] = true
		}
	}
	var doubtful []string
	for ref, id := range l.refs {
		if b, is := strings.CutPrefix(ref, "refs/heads/"); is && b != st.Branch && !held[id] {
			doubtful = append(doubtful, b)
		}
	}
	slices.Sort(doubtful)
	return slices.DeleteFunc(doubtful, func(b string) bool {
		out, err := repo.Do(ctx, "rev-list", "--count", "-1", "refs/heads/"+b, "--not", "--remotes")
		return err == nil && out == "0"
	})
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

// SyncAllOptions are a person's wishes for all projects.
type SyncAllOptions struct {
	Save   string
	By     string
	InOnly bool
	Yes    bool
	Jobs   int // how many at once; 0 for usualJobs
}

// usualJobs is how many projects are brought into step at once unless said: they wait for
// their hosts most of the time.
const usualJobs = 8

// SyncedRow is what came of one of many projects.
type SyncedRow struct {
	Folder string     `json:"folder"`
	Name   string     `json:"name"`
	State  string     `json:"state" says:"in step, moved, your decision, failed"`
	Says   string     `json:"says,omitempty"`
	Next   string     `json:"next,omitempty" says:"a command to go on with"`
	Exit   fault.Kind `json:"exit" says:"what sync of this project alone would have ended with"`
	Synced *Synced    `json:"synced,omitempty"`
}

// silence is a teller for work of which the end is told elsewhere.
type silence struct{}

func (silence) Step(plan.Item, bool)                  {}
func (silence) Progress(string, int64, int64, string) {}
func (silence) Note(string, ...any)                   {}

// SyncAll brings all projects into step, several at once. One that fails stops no other.
// What does not change on either side costs no process.
func (d *Desk) SyncAll(ctx context.Context, o SyncAllOptions, ended func(SyncedRow)) ([]SyncedRow, error) {
	all, err := d.hookedHere(ctx)
	if err != nil {
		return nil, err
	}
	if o.Jobs <= 0 {
		o.Jobs = usualJobs
	}
	there := slices.DeleteFunc(slices.Clone(all), func(p Project) bool { return !folderExists(p) })
	answers := d.askAll(ctx, there, o.Jobs, func(done int) { d.Tell.Progress("Asking", int64(done), int64(len(there)), "") })
	d.Tell.Progress("Asking", 0, 0, "")
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	rows := make([]SyncedRow, len(all))
	names := make([]Row, len(all))
	for i, p := range all {
		names[i].Folder = p.Folder
	}
	shortest(names)
	work, within := errgroup.WithContext(ctx)
	work.SetLimit(o.Jobs)
	var mu sync.Mutex
	var under []string // the names of those that are worked on just now
	done := 0
	tell := func() {
		now := strings.Join(under[:min(len(under), 3)], ", ")
		if more := len(under) - 3; more > 0 {
			now += fmt.Sprintf(" and %d more", more)
		}
		d.Tell.Progress("Syncing", int64(done), int64(len(all)), now)
	}
	for i, p := range all {
		work.Go(func() error {
			r := d.syncOne(within, p, answers[p.Folder], o, func() {
				mu.Lock()
				defer mu.Unlock()
				under = append(under, names[i].Name)
				tell()
			})
			r.Name = names[i].Name
			mu.Lock()
			defer mu.Unlock()
			rows[i] = r
			done++
			if at := slices.Index(under, r.Name); at >= 0 {
				under = slices.Delete(under, at, at+1)
			}
			tell()
			if r.State != "in step" {
				ended(r)
			}
			return within.Err()
		})
	}
	err = work.Wait()
	d.Tell.Progress("Syncing", 0, 0, "")
	return rows, err
}

// syncOne brings one of many projects into step; begun is called when it needs more than a look.
func (d *Desk) syncOne(ctx context.Context, p Project, a answer, o SyncAllOptions, begun func()) SyncedRow {
	r := SyncedRow{Folder: p.Folder, State: "in step"}
	fail := func(err error) SyncedRow {
		f := fault.Of(err)
		r.State, r.Says, r.Exit = "failed", f.Says, f.Kind
		if f.Kind == fault.Decision {
			r.State = "your decision"
		}
		if len(f.Remedies) > 0 {
			r.Next = f.Remedies[0].Command
		}
		return r
	}
	if !folderExists(p) {
		return fail(fault.New(fault.Decision, "its folder is not there any more").Try("", "uncinate status --find FOLDER"))
	}
	l, seen := d.glance(p)
	if seen == nil && o.Save == "" && untouched(p, l, a) {
		return r
	}
	if fault.Is(a.err, fault.Unreachable) && o.Save == "" {
		return fail(a.err)
	}
	begun()
	desk, err := d.beside(ctx, silence{})
	if err != nil {
		return fail(err)
	}
	how := SyncOptions{Folder: p.Folder, Save: o.Save, By: o.By, InOnly: o.InOnly}
	if seen == nil {
		how.seen = l
	}
	if a.err == nil && a.refs.IDs != nil {
		how.told = &a
	}
	s, err := desk.Sync(ctx, how)
	if err != nil {
		return fail(err)
	}
	if why := s.Asks(); len(why) > 0 && !o.Yes {
		if err := s.Release(); err != nil {
			return fail(err)
		}
		return fail(fault.New(fault.Decision, "%s", strings.TrimSuffix(strings.Join(why, " "), ".")).Try("", "uncinate sync "+p.Folder))
	}
	if r.Synced, err = s.Do(ctx); err != nil {
		return fail(err)
	}
	if r.Synced.BroughtIn+r.Synced.SentOut+len(r.Synced.Tags) > 0 || r.Synced.Saved != "" || r.Synced.Rewritten {
		r.State = "moved"
	}
	return r
}

// untouched reports, without a process, whether nothing moved on either side since the two
// were in step.
func untouched(p Project, l *local, a answer) bool {
	if a.err != nil {
		return false
	}
	if !l.simple || l.pending || l.unfinished != "" || l.branch == "" || l.url == "" || keyOf(l.url) != keyOf(p.Address) {
		return false
	}
	for ref, id := range a.refs.IDs {
		if b, is := strings.CutPrefix(ref, "refs/heads/"); is && l.refs["refs/remotes/"+l.remote+"/"+b] != id {
			return false
		}
	}
	ours := l.refs["refs/heads/"+l.branch]
	if ours != a.refs.Branch(l.branch) && !(p.Follows && ours != "" && a.refs.Branch(l.branch) == l.refs["refs/remotes/"+l.remote+"/"+l.branch]) {
		return false
	}
	if a.tags && tagsOf(a.refs) != tagsSeen(l.common) && slices.ContainsFunc(tagNames(a.refs), func(t string) bool { return l.refs[t] == "" }) {
		return false
	}
	return touch(l.common, tagsSeen(l.common)) == nil
}
