package many

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/syncing"
	"uncinate/internal/world/git"
)

// SyncAllOptions are a person's wishes for all projects.
type SyncAllOptions struct {
	Save   string
	By     string
	Many   bool // with Save: very many new files are meant
	InOnly bool
	Yes    bool
	Jobs   int // how many at once; 0 for usualJobs
}

// usualJobs is how many projects are brought into step at once by default: they wait for
// their hosts most of the time.
const usualJobs = 8

// SyncedRow is what came of one of many projects.
type SyncedRow struct {
	Folder   string          `json:"folder"`
	Name     string          `json:"name"`
	State    string          `json:"state" says:"in step, moved, your decision, failed"`
	Says     string          `json:"says,omitempty"`
	Remedies []string        `json:"remedies,omitempty" says:"commands to go on with"`
	Exit     fault.Kind      `json:"exit" says:"what sync of this project alone would have ended with"`
	Synced   *syncing.Synced `json:"synced,omitempty"`
}

// SyncAll brings all projects into step, several at once. One that fails stops no other.
// What does not change on either side costs no process.
func SyncAll(ctx context.Context, d *desk.Desk, o SyncAllOptions, ended func(SyncedRow)) ([]SyncedRow, error) {
	all, err := project.AttachedHere(ctx, d)
	if err != nil {
		return nil, err
	}
	if o.Jobs <= 0 {
		o.Jobs = usualJobs
	}
	there := slices.DeleteFunc(slices.Clone(all), func(p project.Project) bool { return !project.FolderExists(p) })
	answers := askAll(ctx, d, there, o.Jobs, func(done int) { d.Tell.Progress("Asking", int64(done), int64(len(there)), "") })
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
	turns := newTurns()
	for i, p := range all {
		work.Go(func() error {
			defer turns.take(p.Folder)()
			r := syncOne(within, d, p, answers[p.Folder], o, func() {
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

// turns let the work trees of one repository take turns: two fetches into the same refs at once
// refuse each other.
type turns struct {
	mu  sync.Mutex
	all map[string]*sync.Mutex
}

func newTurns() *turns { return &turns{all: map[string]*sync.Mutex{}} }

// take waits for the turn of a work tree, and gives what ends it.
func (t *turns) take(folder string) (end func()) {
	common := folder
	if _, c, err := git.Folders(folder); err == nil {
		common = c
	}
	t.mu.Lock()
	if t.all[common] == nil {
		t.all[common] = &sync.Mutex{}
	}
	turn := t.all[common]
	t.mu.Unlock()
	turn.Lock()
	return turn.Unlock
}

// syncOne brings one of many projects into step; begun is called when it needs more than a look.
func syncOne(ctx context.Context, d *desk.Desk, p project.Project, a project.Answer, o SyncAllOptions, begun func()) SyncedRow {
	r := SyncedRow{Folder: p.Folder, State: "in step"}
	fail := func(err error) SyncedRow {
		f := fault.Of(err)
		r.State, r.Says, r.Exit = "failed", f.Says, f.Kind
		if f.Kind == fault.Decision {
			r.State = "your decision"
		}
		r.Remedies = desk.Commands(f)
		return r
	}
	if !project.FolderExists(p) {
		return fail(fault.New(fault.Decision, "its folder is missing").Try("find it", "uncinate project find "+text.Quote(filepath.Dir(p.Folder))).Try("or forget it", "uncinate project forget --missing"))
	}
	l, seen := project.Glance(d, p)
	if seen == nil && o.Save == "" && untouched(p, l, a) {
		if g, err := d.Git(ctx); err == nil {
			r.others(project.NotReceived(ctx, g.In(p.Folder), l, l.Branch, a.Refs))
		}
		if p.ReceivesOnly && l.Refs["refs/heads/"+l.Branch] != a.Refs.Branch(l.Branch) {
			r.Says = "it has commits that are only here, and this copy never sends"
		}
		return r
	}
	if fault.Is(a.Err, fault.Unreachable) && o.Save == "" {
		return fail(a.Err)
	}
	begun()
	own, err := d.Beside(ctx, desk.Silence{})
	if err != nil {
		return fail(err)
	}
	how := syncing.Options{Folder: p.Folder, Save: o.Save, By: o.By, InOnly: o.InOnly, Many: o.Many}
	if seen == nil {
		how.Seen = l
	}
	if a.Err == nil && a.Refs.IDs != nil {
		how.Told = &a
	}
	s, err := syncing.Plan(ctx, own, how)
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
	if r.Synced.Received+r.Synced.Sent+len(r.Synced.Tags) > 0 || r.Synced.Saved != "" || r.Synced.Rewritten {
		r.State = "moved"
	}
	r.others(r.Synced.Others)
	return r
}

// others says that the host has commits of other branches than the current one.
func (r *SyncedRow) others(names []string) {
	if len(names) > 0 {
		r.Says = board.NewFor(names)
		r.Remedies = []string{text.Command("uncinate", "branch", "switch", names[0], "--folder", r.Folder)}
	}
}

// untouched reports, without a process, whether nothing moved on either side since the two
// were in step.
func untouched(p project.Project, l *project.Local, a project.Answer) bool {
	if p.Own { // its original may have changed
		return false
	}
	if a.Err != nil {
		return false
	}
	if !l.Simple || l.Pending || l.Unfinished != "" || l.Branch == "" || l.URL == "" || project.KeyOf(l.URL) != project.KeyOf(p.Address) {
		return false
	}
	for ref, id := range a.Refs.IDs {
		if b, is := strings.CutPrefix(ref, "refs/heads/"); is && l.Refs["refs/remotes/"+l.Remote+"/"+b] != id {
			return false
		}
	}
	ours := l.Refs["refs/heads/"+l.Branch]
	if ours != a.Refs.Branch(l.Branch) && !(p.ReceivesOnly && ours != "" && a.Refs.Branch(l.Branch) == l.Refs["refs/remotes/"+l.Remote+"/"+l.Branch]) {
		return false
	}
	if a.Tags && project.TagsOf(a.Refs) != project.TagsSeen(l.Common) && slices.ContainsFunc(project.TagNames(a.Refs), func(t string) bool { return l.Refs[t] == "" }) {
		return false
	}
	return project.Touch(l.Common, project.TagsSeen(l.Common)) == nil
}
