package claims

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/claiming"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Attribute is the one that says which files must be claimed before they are saved (gitattributes
// documentation). It is in the project's own file of attributes, so that everybody has it.
const Attribute = "claim"

const (
	attributes     = ".gitattributes"
	mostAttributes = 4 << 20 // bytes
	why            = "to be claimed before they are saved"
	sign           = " " + Attribute + "=required"
)

// Required gives those of some paths that must be claimed before they are saved, and are not by the
// person. It runs git only where the project's attributes say something of claims.
func Required(ctx context.Context, d *desk.Desk, f *project.Folder, paths []string) ([]string, error) {
	if len(paths) == 0 || !Speaks(f) {
		return nil, nil
	}
	b, err := Known(d, f)
	if err != nil {
		return nil, err
	}
	out, err := f.Repo.Run(ctx, git.Cmd{Args: []string{"check-attr", "-z", "--stdin", Attribute}, In: strings.NewReader(strings.Join(paths, "\x00") + "\x00")})
	if err != nil {
		return nil, git.Fault(err, "git cannot tell which files must be claimed")
	}
	var needs []string
	items := git.SplitNUL(out)
	for i := 0; i+2 < len(items); i += 3 { // path, attribute and value
		if items[i+2] == "required" && !b.Mine(items[i]) {
			needs = append(needs, items[i])
		}
	}
	return needs, nil
}

// Refuse refuses to save files that must be claimed before.
func Refuse(ctx context.Context, d *desk.Desk, f *project.Folder, given string, chosen []git.Entry) error {
	needs, err := Required(ctx, d, f, paths(chosen))
	if err != nil || len(needs) == 0 {
		return err
	}
	return NotClaimed(given, needs)
}

func paths(all []git.Entry) []string {
	var out []string
	for _, e := range all {
		if !e.Inner {
			out = append(out, e.Path)
		}
	}
	return out
}

// ByWhom tells of changed files that others have claimed, by path.
func ByWhom(d *desk.Desk, f *project.Folder, all []git.Entry) (map[string]string, error) {
	b, err := Known(d, f)
	if err != nil || len(b.Claims) == 0 {
		return nil, err
	}
	out := map[string]string{}
	for _, h := range b.Others(paths(all)) {
		out[h.Path] = h.ByWhom()
	}
	return out, nil
}

// Stand is what is told of the claims of a project and its changed files. What keeps it from being known
// is told, and is not an error.
func Stand(ctx context.Context, d *desk.Desk, f *project.Folder, s *project.Standing, h *project.Tie, refs web.Refs) {
	var b *Book
	var err error
	if h == nil {
		b, err = Known(d, f)
	} else {
		b, err = Seen(ctx, d, f, h, refs)
	}
	changed := paths(s.Status.Entries)
	if err == nil {
		s.Held = b.Others(changed)
		if s.Taken, err = b.TakenFromMe(); err == nil && b.Dropped() != "" {
			s.Taken = append(s.Taken, b.Dropped())
		}
	}
	if err == nil {
		s.Needs, err = Required(ctx, d, f, changed)
	}
	if err != nil && ctx.Err() == nil {
		d.Tell.Note("Note: who has claimed which file is not known: %s", fault.Of(err).Says)
	}
}

// Speaks reports whether the project's attributes say something of claims.
func Speaks(f *project.Folder) bool {
	s, err := readAttributes(f.Path)
	return err == nil && strings.Contains(s, sign)
}

func readAttributes(folder string) (string, error) {
	data, err := files.Read(filepath.Join(folder, attributes), mostAttributes)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return string(data), err
}

// RequiredBy lists the patterns of a project whose files must be claimed.
func RequiredBy(folder string) ([]string, error) {
	s, err := readAttributes(folder)
	var out []string
	for line := range strings.Lines(s) {
		if p, is := strings.CutSuffix(strings.TrimRight(line, "\r\n"), sign); is && !strings.HasPrefix(p, "#") {
			out = append(out, strings.ReplaceAll(p, "[[:space:]]", " "))
		}
	}
	return out, err
}

// Require adds patterns to those whose files must be claimed, and takes others away.
func Require(ctx context.Context, d *desk.Desk, given string, more, less []string) (err error) {
	f, err := worktree.LooseAt(ctx, d, given)
	if err != nil {
		return err
	}
	held, err := d.Alone(ctx, f.Path)
	if err != nil {
		return err
	}
	defer fault.Also(&err, held.Release)
	old, err := readAttributes(f.Path)
	if err != nil {
		return fault.New(fault.Failed, "%s cannot be read: %s", attributes, files.Plain(err)).Because(err)
	}
	var rules []kinds.Rule
	for _, p := range more {
		p = strings.TrimPrefix(filepath.ToSlash(p), "./")
		if claiming.CheckPath(strings.TrimPrefix(p, "/")) != nil || strings.ContainsAny(p, "\"\n\r") || strings.HasPrefix(p, "#") || strings.HasPrefix(p, "!") {
			return fault.New(fault.Usage, "%s is not a path or pattern of files", text.Quote(p)).Try("", "uncinate settings set claim.required '*.dwg'")
		}
		if files.KindOf(filepath.Join(f.Path, filepath.FromSlash(p))) == files.Folder {
			p = "/" + strings.Trim(p, "/") + "/**"
		}
		rules = append(rules, kinds.Rule{Pattern: strings.ReplaceAll(p, " ", "[[:space:]]") + sign, Why: why})
	}
	now := old
	if len(less) > 0 {
		var b strings.Builder
		for line := range strings.Lines(old) {
			p, is := strings.CutSuffix(strings.TrimRight(line, "\r\n"), sign)
			if !is || !slices.Contains(less, strings.ReplaceAll(p, "[[:space:]]", " ")) {
				b.WriteString(line)
			}
		}
		if now = b.String(); !strings.Contains(now, sign) {
			now = strings.ReplaceAll(now, "# "+why+"\n", "")
			now = strings.ReplaceAll(now, kinds.Opening+"\n"+kinds.Closing+"\n", "")
		}
	}
	if now = kinds.Merge(now, rules); now == old {
		return nil
	}
	_, common, err := git.Folders(f.Path)
	if err == nil {
		err = project.OwnPlace(common)
	}
	if err == nil {
		err = files.MakeFolder(filepath.Join(common, "uncinate"), 0o700)
	}
	if err != nil {
		return err
	}
	return files.WriteBy(filepath.Join(f.Path, attributes), filepath.Join(common, "uncinate", "attributes.new"), []byte(now), 0o644)
}
