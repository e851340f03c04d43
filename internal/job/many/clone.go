package many

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/attach"
	"uncinate/internal/job/repositories"
	"uncinate/internal/world/files"
)

// Options say which repositories are wanted, and where their copies go.
type Options struct {
	attach.CloneOptions
	Which []string // names, OWNER/NAME, patterns, OWNER/ for all of an owner; none: all that the account sees
	List  string   // a file that names them, one a line
	Into  string   // the folder that their folders are in
}

// Many are several repositories to be brought onto this machine.
type Many struct {
	desk    *desk.Desk
	options Options
	hosts   []*hosts.Host
	Wanted  []repositories.Repository
	Folders []string // where each goes
	Notes   []string
}

// CloneMany finds the repositories that are meant.
func CloneMany(ctx context.Context, d *desk.Desk, o Options) (*Many, error) {
	which, err := o.named()
	if err != nil {
		return nil, err
	}
	all, notes, err := repositories.List(ctx, d, o.Account, "")
	if err != nil {
		return nil, err
	}
	m := &Many{desk: d, options: o, Notes: notes}
	if m.hosts, err = hosts.All(d); err != nil {
		return nil, err
	}
	settings, err := d.Settings()
	if err != nil {
		return nil, err
	}
	into, err := filepath.Abs(cmp.Or(o.Into, "."))
	if err != nil {
		return nil, err
	}
	hit := make([]bool, len(which))
	seen, taken := map[string]bool{}, map[string]string{}
	for _, r := range all {
		wanted := len(which) == 0
		for i, w := range which {
			if isMeant(m.hosts, w, r) {
				wanted, hit[i] = true, true
			}
		}
		if key := r.Host + " " + r.Path(); !wanted || seen[key] {
			continue
		} else {
			seen[key] = true
		}
		at := filepath.Join(into, folderName(r.Name))
		if !settings.Flat {
			at = filepath.Join(into, filepath.Join(eachFolder(r.Owner)...), folderName(r.Name))
		}
		if other, twice := taken[strings.ToLower(at)]; twice {
			return nil, fault.New(fault.Decision, "%s and %s would be in the same folder %s", other, r.Path(), text.Visible(at)).
				Try("give each owner a folder", "uncinate settings set clone.layout owner")
		}
		taken[strings.ToLower(at)] = r.Path()
		m.Wanted = append(m.Wanted, r)
		m.Folders = append(m.Folders, at)
	}
	if i := slices.Index(hit, false); i >= 0 {
		return nil, notSeen(o.Account, which[i], all)
	}
	return m, nil
}

// named gives the names of the options, those in the list's file too.
func (o Options) named() ([]string, error) {
	which := slices.Clone(o.Which)
	if o.List == "" {
		return which, nil
	}
	data, err := files.ReadNamed(o.List, 1<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.Failed, "there is no file %s", text.Visible(o.List))
	}
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			which = append(which, line)
		}
	}
	return which, nil
}

// notSeen says that nobody here sees a repository, and which name is nearest.
func notSeen(account, what string, all []repositories.Repository) error {
	f := fault.New(fault.HostSaidNo, "no account here sees a repository %s", text.Visible(what))
	if account != "" {
		f.Says = fmt.Sprintf("the account %s sees no repository %s", account, text.Visible(what))
	}
	var names []string
	for _, r := range all {
		names = append(names, r.Path())
	}
	if near := text.Nearest(what, names); near != "" {
		f.Detail("Did you mean %s?", text.Visible(near))
	}
	return f.Try("see the repositories", "uncinate repository list")
}

// isMeant reports whether a word names a repository: by its name or path, by a pattern of
// either (path.Match), by its owner with a slash behind, or by an address.
func isMeant(known []*hosts.Host, word string, r repositories.Repository) bool {
	if strings.Contains(word, "://") || strings.Contains(word, "@") {
		return leadsTo(known, word, r)
	}
	for _, s := range []string{r.Name, r.Path()} {
		if ok, err := path.Match(word, s); err == nil && ok || strings.EqualFold(word, s) {
			return true
		}
	}
	owner, is := strings.CutSuffix(word, "/")
	return is && (strings.EqualFold(owner, r.Owner) || strings.HasPrefix(strings.ToLower(r.Owner), strings.ToLower(owner)+"/"))
}

// leadsTo reports whether an address, over whatever transport, is a repository's. A list
// tells none over SSH.
func leadsTo(known []*hosts.Host, address string, r repositories.Repository) bool {
	if project.KeyOf(address) == project.KeyOf(r.HTTPS) {
		return true
	}
	h, owner, name := hosts.RecogniseAmong(known, address)
	return h != nil && h.Name == r.Host && strings.EqualFold(owner+"/"+name, r.Path())
}

// folderName is a repository's name, fit for every system.
func folderName(name string) string {
	if p := naming.Propose(name); p != "" {
		return p
	}
	return "repository"
}

func eachFolder(owner string) []string {
	var out []string
	for part := range strings.SplitSeq(owner, "/") {
		out = append(out, folderName(part))
	}
	return out
}

// ClonedRow is what came of one of several.
type ClonedRow struct {
	Name     string         `json:"name"`
	Folder   string         `json:"folder"`
	State    string         `json:"state" says:"cloned, here already or failed"`
	Says     string         `json:"says,omitempty"`
	Remedies []string       `json:"remedies,omitempty" says:"commands to go on with"`
	Exit     fault.Kind     `json:"exit"`
	Cloned   *attach.Cloned `json:"cloned,omitempty"`
}

// atOnce is how many are received side by side.
const atOnce = 4

// Do brings them in, several at once. One that fails stops no other; those that are here
// already are passed over, and those that were cut off go on.
func (m *Many) Do(ctx context.Context, ended func(ClonedRow)) ([]ClonedRow, error) {
	rows := make([]ClonedRow, len(m.Wanted))
	work, within := errgroup.WithContext(ctx)
	work.SetLimit(atOnce)
	var mu sync.Mutex
	done := 0
	for i := range m.Wanted {
		work.Go(func() error {
			r := m.one(within, m.Wanted[i], m.Folders[i])
			mu.Lock()
			defer mu.Unlock()
			rows[i] = r
			done++
			m.desk.Tell.Progress("Cloning", int64(done), int64(len(m.Wanted)), "")
			ended(r)
			return within.Err()
		})
	}
	err := work.Wait()
	m.desk.Tell.Progress("Cloning", 0, 0, "")
	return rows, err
}

func (m *Many) one(ctx context.Context, r repositories.Repository, folder string) ClonedRow {
	row := ClonedRow{Name: r.Path(), Folder: folder, State: "cloned"}
	fail := func(err error) ClonedRow {
		f := fault.Of(err)
		row.State, row.Says, row.Exit = "failed", f.Says, f.Kind
		row.Remedies = desk.Commands(f)
		return row
	}
	p, found, err := project.ProjectAt(m.desk, folder)
	if err != nil {
		return fail(err)
	}
	if found && files.Reached(filepath.Join(folder, ".git")) != files.None && leadsTo(m.hosts, p.Address, r) {
		if _, unfinished, err := m.desk.Begin("clone", folder); err == nil && !unfinished {
			row.State = "here already"
			return row
		}
	}
	d, err := m.desk.Beside(ctx, desk.Silence{})
	if err != nil {
		return fail(err)
	}
	o := m.options.CloneOptions
	o.What, o.Folder, o.Account = r.Path(), folder, r.Account
	c, err := attach.PlanClone(ctx, d, o)
	if err != nil {
		return fail(err)
	}
	if row.Cloned, err = c.Do(ctx); err != nil {
		return fail(err)
	}
	return row
}
