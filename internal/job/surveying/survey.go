// Package surveying judges files: what would go up, what stays, what must not go. Survey is the
// command; Travels is the same judgement for whoever is about to commit. The Ignore functions write
// ignore rules and nothing else. Nothing of the folder is run, but by prove, which is asked to.
package surveying

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/handover"
	"uncinate/internal/core/ignore"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/secrets"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/tree"
)

// Options are a person's wishes.
type Options struct {
	Preview bool // write no note
	Folder  string
	Host    string // whose limits count; the project's own, or the only known one, by default
	Full    bool   // list every file
	Choice  survey.Choice
	Prove   string // run this command in a fresh copy of what would go up
	Over    bool   // write the note for those who clone
}

// Surveyed is what a survey of a folder found.
type Surveyed struct {
	Folder   string           `json:"folder"`
	Host     string           `json:"host,omitempty" says:"whose limits were counted with"`
	Wrong    []Wrong          `json:"wrong,omitempty" says:"why this may be the wrong folder"`
	Up       survey.Totals    `json:"up"`
	Stays    survey.Totals    `json:"stays"`
	Kinds    []string         `json:"kinds"`
	Folders  []survey.Weight  `json:"folders"`
	Rules    []SuggestedRule  `json:"rules" says:"ignore rules that the kinds suggest and that do not stand yet"`
	Findings []survey.Finding `json:"findings"`
	Let      []Let            `json:"let,omitempty" says:"what was let through"`
	Files    []SurveyedFile   `json:"files,omitempty"`
	Proved   *Proved          `json:"proved,omitempty"`
	HandOver *handover.Note   `json:"handover,omitempty" says:"what was written for those who clone"`
}

// Wrong is a reason to think that another folder was meant.
type Wrong struct {
	Says string   `json:"says"`
	Fix  []string `json:"fix,omitempty"`
}

// SuggestedRule is an ignore rule that the kinds suggest.
type SuggestedRule struct {
	Pattern string `json:"pattern"`
	Why     string `json:"why"`
	Files   int    `json:"files"`
	Bytes   int64  `json:"bytes"`
	Bring   string `json:"bring,omitempty" says:"what one who clones does to get it back"`
}

// SurveyedFile is one file and what becomes of it.
type SurveyedFile struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
	Class string `json:"class" says:"work, ignored, generated, personal, not carried or not chosen"`
	Why   string `json:"why,omitempty"`
}

// Surveying is a survey under way, and what attach takes from it.
type Surveying struct {
	Folder *project.Folder
	Sorted *survey.Sorted
	known  []kinds.Kind
	looked map[int]survey.Looked
	gone   []string // tracked, and deleted since
	limits survey.Limits
	Let    []Let

	all    []survey.File  // as they were listed
	outer  []*ignore.List // the rules outside of the work tree
	finder *secrets.Finder
	label  string // of all that the finder looks for
}

// Survey looks at a folder and judges its files. Nothing of the folder is run, and
// nothing in it is changed.
func Survey(ctx context.Context, d *desk.Desk, o Options) (*Surveyed, error) {
	where, err := project.FindFolder(d, o.Folder)
	if err != nil {
		return nil, err
	}
	if err := project.NotAProject(d, where); err != nil {
		return nil, err
	}
	out := &Surveyed{Folder: where}
	g, err := d.Git(ctx)
	if err != nil {
		return nil, err
	}
	if top, err := g.In(where).Top(ctx); err != nil {
		return nil, err
	} else if top != "" && top != where {
		out.Wrong = append(out.Wrong, Wrong{Says: text.Visible(where) + " is inside the repository " + text.Visible(top) + ", which is surveyed as a whole"})
		out.Folder, where = top, top
	}
	f, err := project.LookLoosely(ctx, d, where)
	if err != nil {
		return nil, err
	}
	limits, err := LimitsFor(d, where, o.Host)
	if err != nil {
		return nil, err
	}
	s, err := listed(ctx, d, f, limits)
	if err != nil {
		return nil, err
	}
	out.Host, out.Let = limits.Host, s.Let
	out.Wrong = append(out.Wrong, s.wrongFolder()...)
	key := ""
	if !o.Full && !o.Over && o.Prove == "" {
		key = s.key(o.Choice)
	}
	if s.recall(d, key, out) {
		return out, nil
	}
	began := d.Now()
	if err := s.look(ctx, d, o.Choice, nil); err != nil {
		return nil, err
	}
	s.tell(out)
	if err := s.recollect(d, key, began, out); err != nil {
		return nil, err
	}
	if o.Prove != "" {
		if out.Proved, err = prove(ctx, d, s, o.Prove); err != nil {
			return nil, err
		}
	}
	if o.Over {
		n := s.handOver(out.Proved)
		if !o.Preview {
			if err := s.writeHandOver(n); err != nil {
				return nil, err
			}
		}
		out.HandOver = &n
	}
	if o.Full {
		out.Files = []SurveyedFile{}
		for i, x := range s.Sorted.Files {
			out.Files = append(out.Files, SurveyedFile{x.Path, x.Size, s.Sorted.Class[i].String(), s.Sorted.Why(i)})
		}
	}
	return out, nil
}

// tell fills in what the sorted files and what they hold tell.
func (s *Surveying) tell(out *Surveyed) {
	out.Up, out.Stays = s.Sorted.Totals()
	out.Kinds, out.Rules = s.kinds(), s.suggested(s.Folder.Head == "")
	out.Folders = s.Sorted.Folders(1)
	out.Findings = s.Findings()
	if out.Findings == nil {
		out.Findings = []survey.Finding{}
	}
}

// Groups parts what would go up of a folder, to be chosen from.
func Groups(ctx context.Context, d *desk.Desk, given string, choice survey.Choice) ([]survey.Group, error) {
	where, err := project.FindFolder(d, given)
	if err != nil {
		return nil, err
	}
	if err := project.NotAProject(d, where); err != nil {
		return nil, err
	}
	f, err := project.LookLoosely(ctx, d, where)
	if err != nil {
		return nil, err
	}
	s := &Surveying{Folder: f}
	if err := s.Sort(ctx, d, choice); err != nil {
		return nil, err
	}
	return s.Sorted.Groups(), nil
}

// SurveyFolder walks a folder, sorts its files, and looks into those that would go up; into
// all of them, or only into some.
func SurveyFolder(ctx context.Context, d *desk.Desk, f *project.Folder, choice survey.Choice, limits survey.Limits, only func(file string) bool) (*Surveying, error) {
	s, err := listed(ctx, d, f, limits)
	if err != nil {
		return nil, err
	}
	return s, s.look(ctx, d, choice, only)
}

// listed walks a folder, and beside that reads what is remembered of its files.
func listed(ctx context.Context, d *desk.Desk, f *project.Folder, limits survey.Limits) (*Surveying, error) {
	s := &Surveying{Folder: f, limits: limits}
	var err error
	if s.Let, err = LetThrough(d, f.Path); err != nil {
		return nil, err
	}
	if s.finder, s.label, err = Finder(d, f.Path); err != nil {
		return nil, err
	}
	return s, s.list(ctx, d)
}

// look sorts the files that were listed, and looks into them.
func (s *Surveying) look(ctx context.Context, d *desk.Desk, choice survey.Choice, only func(file string) bool) error {
	var known *tree.Known
	var beside sync.WaitGroup
	beside.Go(func() { known = tree.Remember(s.memory(d), s.label, d.Now().UnixNano()) })
	err := s.sort(ctx, d, choice)
	beside.Wait()
	if err != nil {
		return err
	}
	which := s.Sorted.Read()
	if only != nil {
		which = slices.DeleteFunc(which, func(i int) bool { return !only(s.Sorted.Files[i].Path) })
	}
	s.looked, err = tree.Scan(ctx, s.Folder.Path, s.Sorted.Files, which, s.finder, known, func(done int) {
		d.Tell.Progress("Looking into files", int64(done), int64(len(which)), "")
	})
	d.Tell.Progress("Looking into files", 0, 0, "")
	if err != nil {
		return err
	}
	return known.Keep()
}

// memory is where it is remembered what the folder's files held.
func (s *Surveying) memory(d *desk.Desk) string {
	return filepath.Join(d.Home.State, "looked", files.Short(s.Folder.Path))
}

// Sort walks the folder and sorts its files.
func (s *Surveying) Sort(ctx context.Context, d *desk.Desk, choice survey.Choice) error {
	if err := s.list(ctx, d); err != nil {
		return err
	}
	return s.sort(ctx, d, choice)
}

// list walks the folder.
func (s *Surveying) list(ctx context.Context, d *desk.Desk) error {
	f := s.Folder
	var err error
	if s.known, err = catalogue(d); err != nil {
		return err
	}
	if s.outer, err = outerRules(ctx, d, f); err != nil {
		return err
	}
	var tracked []string
	var listing error
	var beside sync.WaitGroup
	if f.IsRepo {
		beside.Go(func() { tracked, listing = f.Repo.Tracked(ctx) })
	}
	s.all, err = tree.Walk(ctx, f.Path, s.outer)
	beside.Wait()
	if errors.Is(err, tree.ErrTooMany) {
		return fault.New(fault.Refused, "%s holds more than %s files, which is not a project", text.Visible(f.Path), text.Number(tree.MostEntries))
	}
	if err != nil {
		return notRead(f.Path, err)
	}
	if listing != nil {
		return git.Fault(listing, "git cannot list the files of %s", text.Visible(f.Path))
	}
	s.markTracked(s.all, tracked)
	return nil
}

// sort sorts the files that were listed.
func (s *Surveying) sort(ctx context.Context, d *desk.Desk, choice survey.Choice) error {
	s.Sorted = survey.Sort(s.all, s.known, caches(s.Folder.Path, s.all), choice, s.beyond(s.all))
	return s.dropStanding(ctx, d)
}

func notRead(folder string, err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	return fault.New(fault.Failed, "%s cannot be looked into", text.Visible(folder)).Because(err).
		Try("let yourself read it", text.Command("chmod", "u+rx", folder))
}

// markTracked marks what git has already, which no ignore rule leaves out.
func (s *Surveying) markTracked(all []survey.File, list []string) {
	slices.Sort(list)
	i := 0
	for _, p := range list {
		for i < len(all) && all[i].Path < p {
			i++
		}
		if i < len(all) && all[i].Path == p {
			all[i].Tracked = true
		} else {
			s.gone = append(s.gone, p)
		}
	}
}

// Finder looks for secrets, for the beginnings of the known hosts' tokens, and for the
// paths of this machine: the home folder and the project's own. label names all that
// it looks for.
func Finder(d *desk.Desk, folder string) (finder *secrets.Finder, label string, err error) {
	here := []string{folder}
	if home := filepath.Clean(d.UserHome); strings.Count(home, string(filepath.Separator)) > 1 {
		here = append(here, home)
	}
	if filepath.Separator == '\\' {
		for _, p := range slices.Clone(here) {
			here = append(here, strings.ReplaceAll(p, `\`, `\\`), filepath.ToSlash(p))
		}
	}
	known, err := hosts.All(d)
	if err != nil {
		return nil, "", err
	}
	var begins []string
	for _, h := range known {
		begins = append(begins, h.SignIn.Begins...)
	}
	return secrets.New(here, begins), files.Short(fmt.Sprint(secrets.Version, here, begins)), nil
}

// Findings judges, with hints of the kinds.
func (s *Surveying) Findings() []survey.Finding {
	out := s.Sorted.Findings(s.looked, s.limits, LetPaths(s.Let))
	for _, k := range s.Sorted.Kinds {
		for _, h := range k.Kind.Hints {
			for _, root := range k.Roots {
				p := path.Join(root, h.File)
				r, err := tree.Open(s.Folder.Path, p)
				if err != nil {
					continue // a hint is about a file that is there
				}
				data, err := io.ReadAll(io.LimitReader(r, 1<<20))
				if err = errors.Join(err, r.Close()); err == nil && !strings.Contains(string(data), h.Lacks) {
					out = append(out, survey.Finding{Weight: survey.Know, About: "hint", Path: p, Says: h.Says})
				}
			}
		}
	}
	return out
}

// kinds names what the project is made of, without what every folder may hold.
func (s *Surveying) kinds() []string {
	names := []string{}
	for _, k := range s.Sorted.Kinds {
		if k.Kind.Named(s.Sorted.Rules) {
			names = append(names, k.Kind.Name)
		}
	}
	return names
}

// suggested counts what each suggested rule takes, with those for what is not there yet if ahead.
func (s *Surveying) suggested(ahead bool) []SuggestedRule {
	out := make([]SuggestedRule, len(s.Sorted.Rules))
	for i, r := range s.Sorted.Rules {
		out[i] = SuggestedRule{Pattern: r.Pattern, Why: r.Why, Bring: r.Bring}
	}
	for i, f := range s.Sorted.Files {
		if n := s.Sorted.ByRule[i]; n >= 0 && !f.Tracked {
			out[n].Files++
			out[n].Bytes += f.Size
		}
	}
	out = slices.DeleteFunc(out, func(r SuggestedRule) bool { return r.Files == 0 })
	if ahead {
		for _, r := range s.Sorted.Ahead {
			out = append(out, SuggestedRule{Pattern: r.Pattern, Why: r.Why, Bring: r.Bring})
		}
	}
	return out
}

// wrongFolder tells when a folder looks like one that holds projects, or like a part
// of one.
func (s *Surveying) wrongFolder() []Wrong {
	if s.Folder.IsRepo {
		return nil
	}
	var projects []string
	own := false // there are files at the top itself
	for _, f := range s.all {
		if f.Type == survey.Nested && !strings.Contains(f.Path, "/") {
			projects = append(projects, f.Path)
		}
		own = own || f.Type == survey.Regular && !strings.Contains(f.Path, "/") && !strings.HasPrefix(f.Path, ".")
	}
	if own || len(projects) < 2 {
		return nil
	}
	return []Wrong{{Says: fmt.Sprintf("%s holds %s and no file of its own: perhaps one of them is meant", text.Visible(filepath.Base(s.Folder.Path)), text.Count(len(projects), "repository")),
		Fix: []string{"survey", filepath.Join(s.Folder.Path, projects[0])}}}
}
