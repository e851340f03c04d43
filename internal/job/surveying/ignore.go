package surveying

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/ignore"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/tree"
)

// Suggested is what the kinds of a project would leave out.
type Suggested struct {
	Folder string          `json:"folder"`
	Kinds  []string        `json:"kinds"`
	Rules  []SuggestedRule `json:"rules"`
}

// IgnoreSuggest finds the ignore rules that a project's kinds suggest and that do not
// stand yet.
func IgnoreSuggest(ctx context.Context, d *desk.Desk, given string) (*Suggested, error) {
	s, err := sortOnly(ctx, d, given)
	if err != nil {
		return nil, err
	}
	return &Suggested{Folder: s.Folder.Path, Kinds: s.kinds(), Rules: s.suggested(true)}, nil
}

// topOf finds the folder whose ignore rules are meant: the top of the repository that
// holds a folder, or the folder itself.
func topOf(ctx context.Context, d *desk.Desk, given string) (*project.Folder, error) {
	where, top, err := project.FindTop(ctx, d, given)
	if err != nil {
		return nil, err
	}
	if top == "" {
		top = where
	}
	if err := project.NotAProject(d, top); err != nil {
		return nil, err
	}
	return project.LookLoosely(ctx, d, top)
}

// sortOnly sorts a project's files without looking into them.
func sortOnly(ctx context.Context, d *desk.Desk, given string) (*Surveying, error) {
	f, err := topOf(ctx, d, given)
	if err != nil {
		return nil, err
	}
	s := &Surveying{Folder: f}
	return s, s.Sort(ctx, d, survey.Choice{})
}

// Added is what came of adding ignore rules.
type Added struct {
	File      string   `json:"file"`
	Added     []string `json:"added"`
	Stood     []string `json:"stood" says:"rules that was already, with file and line"`
	Tracked   []string `json:"tracked" says:"files that a rule hits and that git has already, so that it goes on carrying them"`
	Untracked []string `json:"untracked" says:"files that git tracks no longer from the next commit on; they stay here"`
	Rescued   int      `json:"rescued,omitempty" says:"the rescue copy that holds what only was staged of them"`
}

// AddOptions are a person's wishes.
type AddOptions struct {
	Folder    string
	Rules     []string // paths from the project's top, or patterns
	Suggested bool     // the rules that the kinds suggest too
	Untrack   bool     // let git carry no longer what the rules hit
	Preview   bool
}

// IgnoreAdd puts rules into the ignore file at the project's top.
func IgnoreAdd(ctx context.Context, d *desk.Desk, o AddOptions) (_ *Added, err error) {
	f, err := topOf(ctx, d, o.Folder)
	if err != nil {
		return nil, err
	}
	held, err := d.Alone(ctx, f.Path)
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, held.Release)
	s := &Surveying{Folder: f}
	if err := s.Sort(ctx, d, survey.Choice{}); err != nil {
		return nil, err
	}
	file := filepath.Join(f.Path, ".gitignore")
	out := &Added{File: file, Added: []string{}, Stood: []string{}, Tracked: []string{}, Untracked: []string{}}
	lists, err := standingRules(ctx, d, f, s.Sorted.Files)
	if err != nil {
		return nil, err
	}
	rules, err := s.given(o.Rules, lists, out)
	if err != nil {
		return nil, err
	}
	if o.Suggested {
		for _, r := range s.suggested(true) {
			rules = append(rules, kinds.Rule{Pattern: r.Pattern, Why: r.Why})
			out.Added = append(out.Added, r.Pattern)
		}
	}
	if o.Untrack {
		out.Untracked, out.Tracked = out.Tracked, out.Untracked
	}
	old, err := files.Read(file, 4<<20)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	merged := kinds.Merge(string(old), rules)
	if err := s.holds(lists, merged, out.Added); err != nil {
		return nil, err
	}
	if o.Preview {
		return out, nil
	}
	if merged != string(old) {
		if k := files.KindOf(file); k != files.None && k != files.Regular {
			return nil, fault.New(fault.Decision, "%s is not a plain file, and git reads no ignore rules through a link", text.Visible(file))
		}
		if err := writeBeside(f, file, []byte(merged)); err != nil {
			return nil, err
		}
	}
	if len(out.Untracked) > 0 {
		if out.Rescued, err = keepStaged(ctx, d, f, out.Untracked); err != nil {
			return nil, err
		}
		in := strings.NewReader(strings.Join(out.Untracked, "\x00") + "\x00")
		if _, err := f.Repo.Run(ctx, project.GitCmd(f, in, "update-index", "--force-remove", "-z", "--stdin")); err != nil {
			return nil, git.Fault(err, "git cannot take the files out of its index")
		}
	}
	return out, nil
}

// keepStaged keeps a rescue copy of what is staged of files, where it is neither in the last
// commit nor in the folder.
func keepStaged(ctx context.Context, d *desk.Desk, f *project.Folder, paths []string) (int, error) {
	st, err := f.Repo.Status(ctx, false)
	if err != nil {
		return 0, git.Fault(err, "git cannot tell what changed")
	}
	only := map[string]bool{}
	for _, e := range st.Entries {
		only[e.Path] = slices.Contains(paths, e.Path) && strings.ContainsRune("AMT", rune(e.XY[0])) && e.XY[1] != '.'
	}
	index, err := worktree.IndexOf(ctx, f)
	if err != nil {
		return 0, err
	}
	k := worktree.Kept{Before: "ignore add --untrack"}
	for _, p := range slices.Sorted(maps.Keys(index)) {
		if only[p] {
			k.Staged = append(k.Staged, index[p])
		}
	}
	r, err := worktree.RescuerOf(d, f)
	if err != nil || len(k.Staged) == 0 {
		return 0, err
	}
	return r.KeepAll(ctx, k)
}

// given makes rules of what the person gave, and notes which are there already and which files
// that git tracks they hit.
func (s *Surveying) given(all []string, lists []*ignore.List, out *Added) ([]kinds.Rule, error) {
	var rules []kinds.Rule
	for _, given := range all {
		rule, inside, err := ruleFrom(s.Folder.Path, given)
		if err != nil {
			return nil, err
		}
		parsed, _ := ignore.ParseRule(rule)
		if stands := standsAs(lists, parsed, inside); stands != nil {
			out.Stood = append(out.Stood, stands.Pattern+" in "+stands.Source+", line "+text.Number(stands.Line))
		} else {
			rules = append(rules, kinds.Rule{Pattern: rule, Why: "left out by hand"})
			out.Added = append(out.Added, rule)
		}
		for _, x := range s.Sorted.Files {
			if at, _ := ignore.Explain([]*ignore.List{{Rules: []ignore.Rule{parsed}}}, x.Path, false); x.Tracked && at != nil && !at.Negated {
				out.Tracked = append(out.Tracked, x.Path)
			}
		}
	}
	return rules, nil
}

// writeBeside writes a file of a project by way of a temporary one that no list of the
// project's files meets, where there is a repository.
func writeBeside(f *project.Folder, file string, data []byte) error {
	if files.Reached(filepath.Join(f.Path, ".git")) == files.Folder {
		return files.WriteBy(file, filepath.Join(f.Path, ".git", "uncinate-"+filepath.Base(file)+".new"), data, 0o644)
	}
	return files.Write(file, data, 0o644)
}

// ruleFrom makes an ignore rule of what a person gave: a path that is there, from the
// project's top, or a pattern. inside is that path; "" for a pattern.
func ruleFrom(top, given string) (rule, inside string, err error) {
	p := path.Clean(filepath.ToSlash(given))
	if p == "." || p == ".." || strings.HasPrefix(p, "../") {
		return "", "", fault.New(fault.Usage, "%s is not inside the project", text.Quote(given))
	}
	if strings.ContainsAny(given, "\n\r\x00") {
		return "", "", fault.New(fault.Usage, "a rule is one line, and this one has several: %s", text.Quote(given))
	}
	inside = strings.TrimPrefix(p, "/")
	if rel, err := filepath.Rel(top, filepath.FromSlash(p)); filepath.IsAbs(filepath.FromSlash(p)) && err == nil && filepath.IsLocal(rel) {
		inside = filepath.ToSlash(rel)
	}
	if k := files.KindOf(filepath.Join(top, filepath.FromSlash(inside))); k != files.None {
		rule = "/" + kinds.Escape(inside)
		if k == files.Folder {
			rule += "/"
		}
		return rule, inside, nil
	}
	if strings.HasPrefix(given, "#") {
		return "", "", fault.New(fault.Usage, "%s would be a comment", text.Quote(given)).Try("for a name that begins so", text.Command("uncinate", "ignore", "add", `\`+given))
	}
	if r, ok := ignore.ParseRule(given); !ok || r.Pattern != given {
		return "", "", fault.New(fault.Usage, "%s is not an ignore rule, and no file of that name is there", text.Quote(given))
	}
	return given, "", nil
}

// standsAs finds a rule that is there already and does what a new one would: the same
// line, or for a path any rule that leaves it out.
func standsAs(lists []*ignore.List, parsed ignore.Rule, inside string) *ignore.Rule {
	for _, l := range lists {
		for i := range l.Rules {
			if l.Base == "" && l.Rules[i].Pattern == parsed.Pattern {
				return &l.Rules[i]
			}
		}
	}
	if inside != "" {
		if r, _ := ignore.Explain(lists, inside, parsed.Folders); r != nil && !r.Negated {
			return r
		}
	}
	return nil
}

// holds makes sure that the new rules do what they say: a rule further down, or in a
// folder's own ignore file, may take back what they leave out.
func (s *Surveying) holds(lists []*ignore.List, merged string, added []string) error {
	after := []*ignore.List{}
	put := false
	for _, l := range lists {
		if len(l.Rules) > 0 && l.Rules[0].Source == ".gitignore" {
			continue
		}
		if l.Base != "" && !put {
			after, put = append(after, ignore.Parse(merged, ".gitignore", "")), true
		}
		after = append(after, l)
	}
	if !put {
		after = append(after, ignore.Parse(merged, ".gitignore", ""))
	}
	for _, a := range added {
		rule, _ := ignore.ParseRule(a)
		if rule.Negated {
			continue
		}
		alone := []*ignore.List{{Rules: []ignore.Rule{rule}}}
		for _, f := range s.Sorted.Files {
			if at, _ := ignore.Explain(alone, f.Path, false); at == nil {
				continue
			}
			if r, _ := ignore.Explain(after, f.Path, false); r != nil && r.Negated {
				return fault.New(fault.Decision, "the rule %s would do nothing for %s: %s in %s, line %d, takes it back", text.Quote(a), text.Visible(f.Path), text.Quote(r.Pattern), text.Visible(r.Source), r.Line).
					Try("see that rule", text.Command("uncinate", "ignore", "explain", f.Path))
			}
		}
	}
	return nil
}

// standingRules gives all rules that hold, the weightiest last.
func standingRules(ctx context.Context, d *desk.Desk, f *project.Folder, all []survey.File) ([]*ignore.List, error) {
	lists, err := outerRules(ctx, d, f)
	if err != nil {
		return nil, err
	}
	var inner []*ignore.List
	for _, x := range all {
		if path.Base(x.Path) == ".gitignore" && x.Type == survey.Regular && (x.Rule == nil || x.Tracked) {
			if l := tree.IgnoreFile(f.Path, strings.TrimPrefix(path.Dir(x.Path), ".")); l != nil {
				inner = append(inner, l)
			}
		}
	}
	slices.SortStableFunc(inner, func(a, b *ignore.List) int { return len(a.Base) - len(b.Base) })
	return append(lists, inner...), nil
}

// Explained is why a path goes up or stays.
type Explained struct {
	Path    string   `json:"path"`
	LeftOut bool     `json:"left_out"`
	Rule    string   `json:"rule,omitempty"`
	File    string   `json:"file,omitempty" says:"where the rule stands"`
	Line    int      `json:"line,omitempty"`
	At      string   `json:"at,omitempty" says:"what the rule hits: the path, or a folder above it"`
	Missing bool     `json:"missing,omitempty" says:"there is no such file; the rest is what would hold for it"`
	Tracked bool     `json:"tracked" says:"git has it already, so no rule leaves it out"`
	Kind    string   `json:"kind,omitempty" says:"why the first commit would leave it out, where no rule stands yet"`
	Also    int      `json:"also" says:"how many other files the rule hits"`
	Such    []string `json:"such,omitempty" says:"some of them"`
}

// IgnoreExplain tells which rule leaves a path out, where it is, and what else it
// hits.
func IgnoreExplain(ctx context.Context, d *desk.Desk, given, what string) (*Explained, error) {
	s, err := sortOnly(ctx, d, given)
	if err != nil {
		return nil, err
	}
	p := path.Clean(filepath.ToSlash(what))
	if rel, err := filepath.Rel(s.Folder.Path, filepath.FromSlash(p)); filepath.IsAbs(filepath.FromSlash(p)) && err == nil {
		p = filepath.ToSlash(rel)
	}
	if p == "." || strings.HasPrefix(p, "../") || strings.HasPrefix(p, "/") {
		return nil, fault.New(fault.Usage, "%s is not inside the project %s", text.Quote(what), text.Visible(s.Folder.Path))
	}
	k := files.KindOf(filepath.Join(s.Folder.Path, filepath.FromSlash(p)))
	isFolder := k == files.Folder || k == files.None && strings.HasSuffix(what, "/")
	lists, err := standingRules(ctx, d, s.Folder, s.Sorted.Files)
	if err != nil {
		return nil, err
	}
	out := &Explained{Path: p, Missing: k == files.None}
	r, at := ignore.Explain(lists, p, isFolder)
	if r != nil {
		out.Rule, out.File, out.Line, out.At = r.Pattern, r.Source, r.Line, at
		out.LeftOut = !r.Negated
	}
	for i, x := range s.Sorted.Files {
		if x.Path == p || strings.HasPrefix(x.Path, p+"/") {
			out.Tracked = out.Tracked || x.Tracked
			if n := s.Sorted.ByRule[i]; n >= 0 && r == nil {
				out.Kind = s.Sorted.Rules[n].Why
			}
			continue
		}
		if r != nil && x.Rule != nil && x.Rule.Source == r.Source && x.Rule.Line == r.Line {
			if out.Also++; len(out.Such) < 5 {
				out.Such = append(out.Such, x.Path)
			}
		}
	}
	if out.Tracked && !isFolder {
		out.LeftOut = false
	}
	return out, nil
}
