package history

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/surveying"
	"uncinate/internal/world/git"
)

// What a commit takes in of new files without being asked twice: more are mostly made by a
// program, and meant to stay.
const (
	mostNew      = 1000
	mostNewBytes = 100 << 20
)

// FolderTotal is how much of a folder goes into a commit.
type FolderTotal struct {
	Folder string `json:"folder"`
	Files  int    `json:"files"`
	Bytes  int64  `json:"bytes"`
}

// judge surveys what is to be saved: what must not go up stops it, and what can be made
// again stays, unless it was named.
func judge(ctx context.Context, d *desk.Desk, f *project.Folder, chosen []git.Entry, o SaveOptions, out *Saved) ([]git.Entry, error) {
	goes := map[string]bool{}
	for _, e := range chosen {
		goes[e.Path] = e.Kind != "deleted"
	}
	if len(o.Let) > 0 && strings.TrimSpace(o.Reason) == "" {
		return nil, fault.New(fault.Usage, "a file that is let up needs a reason, to be read later").
			Try("", text.Command("uncinate", "save", "--message", o.Text, "--let", o.Let[0], "--reason", "TEXT"))
	}
	limits, err := surveying.LimitsFor(d, f.Path, "")
	if err != nil {
		return nil, err
	}
	unchosen, err := project.Unchosen(d, f.Path)
	if err != nil {
		return nil, err
	}
	s, err := surveying.SurveyFolder(ctx, d, f, survey.Choice{}, limits, func(p string) bool { return goes[p] })
	if err != nil {
		return nil, err
	}
	var let []surveying.Let
	for _, p := range o.Let {
		let = append(let, surveying.Let{Path: p, Reason: o.Reason, Since: d.Now().UTC().Truncate(time.Second)})
	}
	s.Let = append(s.Let, let...)
	named := survey.Named(o.Only)
	stays, sizes, rules := stay(s, goes, unchosen, func(p string) bool { return slices.Contains(o.Paths, p) || len(o.Only) > 0 && named(p) })
	out.Rules = rules
	found := slices.DeleteFunc(s.Findings(), func(x survey.Finding) bool { return x.Path == "" || !goes[x.Path] || stays[x.Path] != "" })
	if err := surveying.CheckFindings(found, o.Folder, func(options ...string) string {
		return text.Command(append([]string{"uncinate", "save", "--message", o.Text}, options...)...)
	}); err != nil {
		return nil, err
	}
	out.Folders, out.Bytes = totals(sizes)
	if err := tooMany(sizes, o, named); err != nil && !o.Preview {
		return nil, err
	}
	if !o.Preview {
		if err := surveying.KeepLet(ctx, d, f.Path, let); err != nil {
			return nil, err
		}
	}
	return slices.DeleteFunc(chosen, func(e git.Entry) bool {
		why, stay := stays[e.Path]
		if stay {
			out.Left = append(out.Left, LeftOut{e.Path, why})
		}
		return stay
	}), nil
}

// stay gives, of the files that are to be saved, those that stay, each with the reason; the
// others; and the rules that keep out for good what can be made again.
func stay(s *surveying.Surveying, goes, unchosen map[string]bool, named func(string) bool) (stays map[string]string, others []survey.File, rules []string) {
	stays = map[string]string{}
	patterns := map[string]bool{}
	for i, x := range s.Sorted.Files {
		switch {
		case !goes[x.Path]:
		case !x.Tracked && !named(x.Path) && s.Sorted.Class[i] != survey.Work:
			stays[x.Path] = s.Sorted.Why(i)
			if n := s.Sorted.ByRule[i]; n >= 0 {
				patterns[s.Sorted.Rules[n].Pattern] = true
			}
		case !x.Tracked && !named(x.Path) && unchosen[x.Path]:
			stays[x.Path] = "it was not chosen when the project was attached"
		default:
			others = append(others, x)
		}
	}
	return stays, others, slices.Sorted(maps.Keys(patterns))
}

// totals adds up files by the folders at the project's top, those with the most first.
func totals(all []survey.File) ([]FolderTotal, int64) {
	by := map[string]*FolderTotal{}
	var bytes int64
	for _, x := range all {
		folder, _, below := strings.Cut(x.Path, "/")
		if !below {
			folder = "."
		}
		if by[folder] == nil {
			by[folder] = &FolderTotal{Folder: folder}
		}
		by[folder].Files++
		by[folder].Bytes += x.Size
		bytes += x.Size
	}
	var out []FolderTotal
	for _, name := range slices.Sorted(maps.Keys(by)) {
		out = append(out, *by[name])
	}
	slices.SortStableFunc(out, func(a, b FolderTotal) int { return b.Files - a.Files })
	return out, bytes
}

// tooMany stops before very many new files go into a commit that nobody named.
func tooMany(all []survey.File, o SaveOptions, named func(string) bool) error {
	fresh := slices.DeleteFunc(slices.Clone(all), func(x survey.File) bool {
		return x.Tracked || slices.Contains(o.Paths, x.Path) || len(o.Only) > 0 && named(x.Path)
	})
	where, bytes := totals(fresh)
	if o.Many || len(fresh) <= mostNew && bytes <= mostNewBytes {
		return nil
	}
	f := fault.New(fault.Decision, "%s (%s) would be saved, and nobody named them; nothing was saved", text.Count(len(fresh), "new file"), text.Size(bytes))
	for i, w := range where {
		if i == desk.MostShown {
			f.Detail("and %d more folders", len(where)-i)
			break
		}
		f.Detail("%s: %s, %s", text.Either(w.Folder == ".", "at the top", text.Visible(w.Folder)), text.Count(w.Files, "file"), text.Size(w.Bytes))
	}
	if where[0].Folder != "." {
		f.Try("keep a folder out, with all that will ever be in it", text.Command("uncinate", "ignore", "add", where[0].Folder+"/"))
	}
	return f.Try("see what would be saved", "uncinate save --preview").Try("or save them all", "--many")
}
